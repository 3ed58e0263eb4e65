#include "face/mirror/staging.h"

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/units.h"

namespace pargeter {

namespace {

constexpr std::uint64_t kPiece = 8 * kMiB;

Error BeingWritten() { return {Code::kBusy, "the file is being written"}; }

// Nobody has the file open for writing, nor mapped, while the lease is held.
class ReadLease {
 public:
  explicit ReadLease(int fd) : fd_(fd) {
    if (::fcntl(fd_, F_SETLEASE, F_RDLCK) == 0)
      held_ = true;
    else
      busy_ = errno == EAGAIN;
  }
  ~ReadLease() {
    if (held_) ::fcntl(fd_, F_SETLEASE, F_UNLCK);
  }
  ReadLease(const ReadLease&) = delete;
  ReadLease& operator=(const ReadLease&) = delete;
  bool busy() const { return busy_; }
  bool held() const { return held_; }
  // A program waits to write.
  bool IsWanted() const { return held_ && ::fcntl(fd_, F_GETLEASE) != F_RDLCK; }

 private:
  const int fd_;
  bool held_ = false, busy_ = false;
};

Status CopyPiece(int from, int to, off_t begin, off_t end) {
  while (begin < end) {
    off_t in = begin, out = begin;
    const ssize_t n = ::copy_file_range(from, &in, to, &out, static_cast<size_t>(end - begin), 0);
    if (n <= 0) return n == 0 ? Status(BeingWritten()) : FromErrno(errno, "cannot copy a file");
    begin += n;
  }
  return {};
}

// Holes stay holes. Where the file system can, both files share their blocks.
Status CopyBytes(int from, int to, off_t size, const ReadLease& lease) {
  if (::ioctl(to, FICLONE, from) == 0) return {};
  if (::ftruncate(to, size) != 0) return FromErrno(errno, "cannot copy a file");
  for (off_t at = 0; at < size;) {
    const off_t data = ::lseek(from, at, SEEK_DATA);
    if (data < 0 && errno == ENXIO) break;  // a hole up to the end
    if (data < 0) return FromErrno(errno, "cannot copy a file");
    off_t hole = ::lseek(from, data, SEEK_HOLE);
    if (hole < 0) hole = size;
    const off_t end = std::min({hole, size, data + static_cast<off_t>(kPiece)});
    if (data >= end) break;
    PG_TRY(CopyPiece(from, to, data, end));
    if (lease.IsWanted()) return BeingWritten();
    at = end;
  }
  return {};
}

}  // namespace

Result<StagedCopy> StageCopyOf(const Directory& directory, const std::string& path,
                               const std::string& to, Duration quiet) {
  PG_ASSIGN(const Fd from, directory.OpenFile(path));
  const ReadLease lease(from.get());
  if (lease.busy()) return BeingWritten();
  PG_ASSIGN(const auto before, directory.Look(path));
  struct stat opened {};
  if (!before || ::fstat(from.get(), &opened) != 0 || opened.st_ino != before->print.inode ||
      before->print.kind != DiskKind::kFile)
    return BeingWritten();
  const Nanos age = SystemClock().Wall() - std::max(before->print.mtime, before->print.ctime);
  // without a lease a writer shows by what it writes only
  if (!lease.held() && age >= 0 && age < quiet.count() * 1'000'000) return BeingWritten();
  const Fd copy(::open(to.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
  if (!copy) return FromErrno(errno, "cannot make a copy of a file");
  Status copied = CopyBytes(from.get(), copy.get(), static_cast<off_t>(before->print.size), lease);
  if (copied.ok()) {
    const auto after = directory.Look(path);
    if (!after.ok() || !*after || !(*after)->print.IsUnchanged(before->print) || lease.IsWanted())
      copied = BeingWritten();
  }
  if (!copied.ok()) {
    ::unlink(to.c_str());
    return copied.error();
  }
  return StagedCopy{{to, before->print.size, before->print.mode, before->print.mtime},
                    before->print};
}

Result<bool> HasBytes(
    int fd, std::uint64_t size,
    const std::function<Result<std::size_t>(char*, std::size_t, std::uint64_t)>& read) {
  std::string mine(kMiB, '\0'), theirs(kMiB, '\0');
  for (std::uint64_t at = 0; at < size;) {
    const std::size_t want =
        static_cast<std::size_t>(std::min<std::uint64_t>(mine.size(), size - at));
    PG_ASSIGN(const std::size_t m, RealDisk().ReadAt(fd, mine.data(), want, at));
    if (m != want) return false;
    for (std::size_t got = 0; got < want;) {
      PG_ASSIGN(const std::size_t n, read(theirs.data() + got, want - got, at + got));
      if (n == 0) return false;
      got += n;
    }
    if (mine.compare(0, want, theirs, 0, want) != 0) return false;
    at += want;
  }
  return true;
}

}  // namespace pargeter
