#include "base/file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/falloc.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>

#include "base/random.h"
#include "base/text.h"

namespace pargeter {
namespace {

template <typename Call>
auto RetryInterrupted(Call call) {
  decltype(call()) result;
  do {
    result = call();
  } while (result < 0 && errno == EINTR);
  return result;
}

Error PathError(std::string_view verb, const std::string& path) {
  const int saved = errno;
  return FromErrno(saved, fmt::format("cannot {} {}", verb, Printable(path)));
}

std::string ParentOf(const std::string& path) {
  const auto slash = path.rfind('/');
  if (slash == std::string::npos) return ".";
  return slash == 0 ? "/" : path.substr(0, slash);
}

}  // namespace

Fd& Fd::operator=(Fd&& other) noexcept {
  if (this != &other) {
    Reset();
    fd_ = other.Release();
  }
  return *this;
}

int Fd::Release() {
  const int fd = fd_;
  fd_ = -1;
  return fd;
}

void Fd::Reset() {
  if (fd_ >= 0) ::close(fd_);
  fd_ = -1;
}

Result<Fd> Disk::Open(const std::string& path, int flags, unsigned mode) {
  const int fd = RetryInterrupted([&] { return ::open(path.c_str(), flags | O_CLOEXEC, mode); });
  if (fd < 0) return PathError("open", path);
  return Fd(fd);
}

Result<std::size_t> Disk::ReadAt(int fd, char* data, std::size_t size, std::uint64_t offset) {
  std::size_t done = 0;
  while (done < size) {
    const ssize_t n = RetryInterrupted(
        [&] { return ::pread(fd, data + done, size - done, static_cast<off_t>(offset + done)); });
    if (n < 0) return FromErrno(errno, "cannot read a cache file");
    if (n == 0) break;
    done += static_cast<std::size_t>(n);
  }
  return done;
}

Status Disk::WriteAt(int fd, std::string_view data, std::uint64_t offset) {
  while (!data.empty()) {
    const ssize_t n = RetryInterrupted(
        [&] { return ::pwrite(fd, data.data(), data.size(), static_cast<off_t>(offset)); });
    if (n < 0) return FromErrno(errno, "cannot write a cache file");
    data.remove_prefix(static_cast<std::size_t>(n));
    offset += static_cast<std::uint64_t>(n);
  }
  return {};
}

Status Disk::Truncate(int fd, std::uint64_t size) {
  if (RetryInterrupted([&] { return ::ftruncate(fd, static_cast<off_t>(size)); }) < 0) {
    return FromErrno(errno, "cannot set the size of a cache file");
  }
  return {};
}

Status Disk::SyncData(int fd) {
  if (RetryInterrupted([&] { return ::fdatasync(fd); }) < 0) {
    return FromErrno(errno, "cannot sync a file to disk");
  }
  return {};
}

Status Disk::SyncFolder(const std::string& path) {
  const Fd fd(::open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!fd || ::fsync(fd.get()) < 0) return PathError("sync the folder", path);
  return {};
}

Status Disk::SyncAll(const std::string& path) {
  const Fd fd(::open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!fd || ::syncfs(fd.get()) < 0) return PathError("sync the disk of", path);
  return {};
}

Status Disk::Rename(const std::string& from, const std::string& to) {
  if (::rename(from.c_str(), to.c_str()) < 0) return PathError("move to", to);
  return {};
}

Status Disk::Remove(const std::string& path) {
  if (::unlink(path.c_str()) < 0 && errno != ENOENT) return PathError("delete", path);
  return {};
}

Status Disk::Punch(int fd, std::uint64_t offset, std::uint64_t size) {
  if (::fallocate(fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, static_cast<off_t>(offset),
                  static_cast<off_t>(size)) < 0) {
    return FromErrno(errno, "cannot free a part of a cache file");
  }
  return {};
}

Status Disk::Allocate(int fd, std::uint64_t size) {
  const int failed = ::posix_fallocate(fd, 0, static_cast<off_t>(size));
  return failed == 0 ? Status() : FromErrno(failed, "cannot take room on the disk");
}

Result<std::uint64_t> Disk::FreeBytes(const std::string& path) {
  struct statvfs info {};
  if (::statvfs(path.c_str(), &info) < 0) return PathError("look at the disk of", path);
  return static_cast<std::uint64_t>(info.f_bavail) * info.f_frsize;
}

Disk& RealDisk() {
  static Disk disk;
  return disk;
}

Result<std::string> ReadFile(const std::string& path, std::uint64_t limit) {
  PG_ASSIGN(const Fd fd, RealDisk().Open(path, O_RDONLY));
  std::string content;
  char buffer[65536];
  for (;;) {
    const ssize_t n = RetryInterrupted([&] { return ::read(fd.get(), buffer, sizeof(buffer)); });
    if (n < 0) return PathError("read", path);
    if (n == 0) return content;
    content.append(buffer, static_cast<std::size_t>(n));
    if (content.size() > limit) {
      return Error(Code::kInvalid, fmt::format("{} is too large", Printable(path)));
    }
  }
}

Status WriteFileAtomically(const std::string& path, std::string_view content, unsigned mode) {
  const std::string temporary = path + ".new-" + RandomName(4);
  {
    PG_ASSIGN(const Fd fd, RealDisk().Open(temporary, O_WRONLY | O_CREAT | O_EXCL, mode));
    Status wrote = RealDisk().WriteAt(fd.get(), content, 0);
    if (wrote.ok() && ::fchmod(fd.get(), mode) < 0) wrote = PathError("set the mode of", path);
    if (wrote.ok()) wrote = RealDisk().SyncData(fd.get());
    if (!wrote.ok()) {
      Ignore(RealDisk().Remove(temporary));
      return wrote.error().Within("cannot write " + Printable(path));
    }
  }
  PG_TRY(RealDisk().Rename(temporary, path));
  return RealDisk().SyncFolder(ParentOf(path));
}

Status MakeFolders(const std::string& path) {
  for (std::size_t at = 1; at != std::string::npos;) {
    at = path.find('/', at);
    const std::string part = path.substr(0, at);
    if (at != std::string::npos) ++at;
    if (::mkdir(part.c_str(), 0700) < 0 && errno != EEXIST)
      return PathError("make the folder", part);
  }
  struct stat info {};
  if (::stat(path.c_str(), &info) < 0) return PathError("look at", path);
  if (!S_ISDIR(info.st_mode)) {
    return Error(Code::kNotFolder, fmt::format("{} is not a folder", Printable(path)));
  }
  return {};
}

Result<Fd> LockFile(const std::string& path) {
  PG_ASSIGN(Fd fd, RealDisk().Open(path, O_RDWR | O_CREAT, 0600));
  if (::flock(fd.get(), LOCK_EX | LOCK_NB) < 0) {
    if (errno != EWOULDBLOCK) return PathError("lock", path);
    const Result<std::string> holder = ReadFile(path, 64);
    const std::string pid = holder.ok() ? std::string(Trim(*holder)) : "";
    return Error(Code::kBusy, pid.empty() ? "another process holds it"
                                          : fmt::format("process {} holds it", Printable(pid)));
  }
  PG_TRY(RealDisk().Truncate(fd.get(), 0));
  PG_TRY(RealDisk().WriteAt(fd.get(), fmt::format("{}\n", ::getpid()), 0));
  return fd;
}

}  // namespace pargeter
