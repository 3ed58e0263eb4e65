#include "cache/relocate.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <set>
#include <vector>

#include "base/text.h"
#include "base/units.h"

namespace pargeter {
namespace {

namespace fs = std::filesystem;

// Block files lie in 256 folders of two hexadecimal digits.
std::vector<std::pair<std::string, std::uint64_t>> BlockFiles(const std::string& folder) {
  std::vector<std::pair<std::string, std::uint64_t>> out;
  std::error_code ec;
  for (int i = 0; i < 256; ++i) {
    const std::string part = fmt::format("{:02x}", i);
    for (fs::directory_iterator it(folder + "/" + part, ec), end; !ec && it != end;
         it.increment(ec)) {
      const std::string name = it->path().filename().string();
      struct stat info {};
      if (name.find('.') != std::string::npos || ::stat(it->path().c_str(), &info) != 0) continue;
      if (S_ISREG(info.st_mode))
        out.emplace_back(part + "/" + name, static_cast<std::uint64_t>(info.st_blocks) * 512);
    }
    ec.clear();
  }
  return out;
}

Status CopyFile(const std::string& from, const std::string& to, Disk* disk) {
  PG_ASSIGN(const Fd in, disk->Open(from, O_RDONLY));
  const std::string part = to + ".part";
  PG_ASSIGN(const Fd out, disk->Open(part, O_RDWR | O_CREAT | O_TRUNC));
  struct stat info {};
  if (::fstat(in.get(), &info) != 0) return FromErrno(errno, "cannot look at " + from);
  PG_TRY(disk->Truncate(out.get(), static_cast<std::uint64_t>(info.st_size)));
  std::string buffer(kMiB, '\0');
  for (off_t at = 0; at < info.st_size;) {
    const off_t data = ::lseek(in.get(), at, SEEK_DATA);
    if (data < 0) break;  // nothing but a hole to the end
    off_t end = ::lseek(in.get(), data, SEEK_HOLE);
    if (end < 0) end = info.st_size;
    for (at = data; at < end;) {
      const auto want =
          static_cast<std::size_t>(std::min<off_t>(end - at, static_cast<off_t>(kMiB)));
      PG_ASSIGN(const std::size_t n,
                disk->ReadAt(in.get(), buffer.data(), want, static_cast<std::uint64_t>(at)));
      if (n == 0) return Error(Code::kIo, from + " became shorter while it was copied");
      PG_TRY(disk->WriteAt(out.get(), std::string_view(buffer).substr(0, n),
                           static_cast<std::uint64_t>(at)));
      at += static_cast<off_t>(n);
    }
  }
  PG_TRY(disk->SyncData(out.get()));
  return disk->Rename(part, to);
}

}  // namespace

Result<Relocation> MoveBlocks(const std::string& from, const std::string& to, Disk* disk,
                              const std::function<void(const Relocation&)>& progress) {
  Relocation done;
  const auto files = BlockFiles(from);
  for (const auto& [name, bytes] : files) done.bytes += bytes;
  PG_TRY(MakeFolders(to));
  std::error_code ec;
  const bool one_disk = fs::equivalent(from, to, ec) || [&] {
    struct stat a {
    }, b{};
    return ::stat(from.c_str(), &a) == 0 && ::stat(to.c_str(), &b) == 0 && a.st_dev == b.st_dev;
  }();
  if (!one_disk) {
    PG_ASSIGN(const std::uint64_t free, disk->FreeBytes(to));
    if (free < done.bytes)
      return Error(Code::kNoSpace,
                   fmt::format("the cache holds {}, and the disk of {} has {} free",
                               FormatSize(done.bytes), Printable(to), FormatSize(free)),
                   "Evict first, or choose another disk.");
  }
  std::set<std::string> parts;
  for (const auto& [name, bytes] : files) {
    const std::string part = to + "/" + name.substr(0, 2), source = from + "/" + name,
                      target = to + "/" + name;
    if (parts.insert(part).second) PG_TRY(MakeFolders(part));
    if (!one_disk || !disk->Rename(source, target).ok()) {
      PG_TRY(CopyFile(source, target, disk));
      PG_TRY(disk->SyncFolder(part));
      PG_TRY(disk->Remove(source));
    }
    ++done.files;
    done.bytes_done += bytes;
    if (progress) progress(done);
  }
  for (const std::string& part : parts) PG_TRY(disk->SyncFolder(part));
  return done;
}

}  // namespace pargeter
