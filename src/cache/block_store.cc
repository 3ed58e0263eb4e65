#include "cache/block_store.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/limits.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <filesystem>

namespace pargeter {
namespace {
constexpr const char* kNote = "user.pargeter.note";
constexpr const char* kCopy = ".new";
constexpr std::size_t kLongestNote = XATTR_SIZE_MAX;  // some file systems keep less
}  // namespace

BlockStore::BlockStore(std::string cache_folder, std::string pending_folder, Disk* disk)
    : cache_(std::move(cache_folder)), pending_(std::move(pending_folder)), disk_(disk) {}

Status BlockStore::Prepare() {
  for (int i = 0; i < 256; ++i) PG_TRY(MakeFolders(fmt::format("{}/{:02x}", cache_, i)));
  PG_TRY(MakeFolders(pending_));
  struct stat cache {
  }, pending{};
  one_disk_ = ::stat(cache_.c_str(), &cache) != 0 || ::stat(pending_.c_str(), &pending) != 0 ||
              cache.st_dev == pending.st_dev;
  return {};
}

std::string BlockStore::PathOf(std::int64_t id, Place place) const {
  return place == Place::kPending ? fmt::format("{}/{}", pending_, id)
                                  : fmt::format("{}/{:02x}/{}", cache_, id & 0xFF, id);
}

Result<Fd> BlockStore::Open(std::int64_t id, Place place) {
  auto fd = disk_->Open(PathOf(id, place), O_RDWR | O_CREAT);
  if (!fd.ok() && fd.error().code == Code::kNotFound) {
    // the folder was deleted under us
    PG_TRY(Prepare());
    return disk_->Open(PathOf(id, place), O_RDWR | O_CREAT);
  }
  return fd;
}

bool BlockStore::Has(std::int64_t id, Place place) const {
  return ::access(PathOf(id, place).c_str(), F_OK) == 0;
}

Result<std::uint64_t> BlockStore::LengthOf(std::int64_t id, Place place) const {
  struct stat info {};
  if (::stat(PathOf(id, place).c_str(), &info) < 0)
    return FromErrno(errno, "cannot look at a cache file");
  return static_cast<std::uint64_t>(info.st_size);
}

Result<RangeSet> BlockStore::WrittenParts(std::int64_t id, Place place) const {
  PG_ASSIGN(const Fd fd, disk_->Open(PathOf(id, place), O_RDONLY));
  RangeSet parts;
  for (off_t at = 0;;) {
    const off_t begin = ::lseek(fd.get(), at, SEEK_DATA);
    if (begin < 0 && errno == ENXIO) return parts;  // nothing any more
    at = begin < 0 ? begin : ::lseek(fd.get(), begin, SEEK_HOLE);
    if (at < 0) return FromErrno(errno, "cannot look at a cache file");
    parts.Add({static_cast<std::uint64_t>(begin), static_cast<std::uint64_t>(at)});
  }
}

Result<Nanos> BlockStore::ChangedAt(std::int64_t id, Place place) const {
  struct stat info {};
  if (::stat(PathOf(id, place).c_str(), &info) < 0)
    return FromErrno(errno, "cannot look at a cache file");
  return static_cast<Nanos>(info.st_mtim.tv_sec) * 1'000'000'000 + info.st_mtim.tv_nsec;
}

Status BlockStore::Move(std::int64_t id, Place from, Place to) {
  if (one_disk_) return disk_->Rename(PathOf(id, from), PathOf(id, to));
  PG_ASSIGN(const Fd in, disk_->Open(PathOf(id, from), O_RDONLY));
  PG_ASSIGN(const Fd out, BeginCopy(id, to));
  struct stat info {};
  if (::fstat(in.get(), &info) < 0) return FromErrno(errno, "cannot look at a cache file");
  const auto length = static_cast<std::uint64_t>(info.st_size);
  Status moved = disk_->Truncate(out.get(), length);
  if (moved.ok()) moved = CopyBytes(in.get(), out.get(), {0, length});
  if (moved.ok()) moved = EndCopy(id, from, to, out.get());
  if (!moved.ok()) DropCopy(id, to);
  return moved;
}

Result<Fd> BlockStore::BeginCopy(std::int64_t id, Place to) {
  return disk_->Open(PathOf(id, to) + kCopy, O_RDWR | O_CREAT | O_TRUNC);
}

Status BlockStore::CopyBytes(int from, int to, Range range) {
  std::string buffer(1u << 20, '\0');
  for (std::uint64_t at = range.begin; at < range.end;) {
    const off_t data = ::lseek(from, static_cast<off_t>(at), SEEK_DATA);
    if (data < 0 && errno != ENXIO) return FromErrno(errno, "cannot look into a cache file");
    if (data < 0 || static_cast<std::uint64_t>(data) >= range.end) break;  // the rest is a hole
    at = static_cast<std::uint64_t>(data);
    const std::size_t want = std::min<std::uint64_t>(buffer.size(), range.end - at);
    PG_ASSIGN(const std::size_t n, disk_->ReadAt(from, buffer.data(), want, at));
    if (n == 0) break;
    PG_TRY(disk_->WriteAt(to, std::string_view(buffer.data(), n), at));
    at += n;
  }
  return {};
}

Status BlockStore::EndCopy(std::int64_t id, Place from, Place to, int copy) {
  const std::string target = PathOf(id, to);
  PG_TRY(disk_->SyncData(copy));
  PG_TRY(disk_->Rename(target + kCopy, target));
  // the copy must be there after a power cut before the original may be gone
  PG_TRY(disk_->SyncFolder(target.substr(0, target.rfind('/'))));
  return disk_->Remove(PathOf(id, from));
}

void BlockStore::DropCopy(std::int64_t id, Place to) {
  Ignore(disk_->Remove(PathOf(id, to) + kCopy));
}

Status BlockStore::DropUnfinishedCopies() {
  if (one_disk_) return {};
  std::error_code ec;
  for (const std::string& top : {cache_, pending_}) {
    for (std::filesystem::recursive_directory_iterator it(top, ec), end; !ec && it != end;
         it.increment(ec)) {
      if (it->path().extension() == kCopy) PG_TRY(disk_->Remove(it->path().string()));
    }
  }
  return {};
}

Status BlockStore::Rename(std::int64_t from, std::int64_t to, Place place) {
  return disk_->Rename(PathOf(from, place), PathOf(to, place));
}
Status BlockStore::Drop(std::int64_t id, Place place) { return disk_->Remove(PathOf(id, place)); }

bool BlockStore::SetNote(std::int64_t id, Place place, const std::string& note) {
  return ::setxattr(PathOf(id, place).c_str(), kNote, note.data(), note.size(), 0) == 0;
}
std::string BlockStore::Note(std::int64_t id, Place place) const {
  std::string note(kLongestNote, '\0');
  const ssize_t n = ::getxattr(PathOf(id, place).c_str(), kNote, note.data(), note.size());
  note.resize(n > 0 ? static_cast<std::size_t>(n) : 0);
  return note;
}

Status BlockStore::SyncNames(Place place) { return disk_->SyncFolder(FolderOf(place)); }

std::vector<std::int64_t> BlockStore::List(Place place) const {
  std::vector<std::int64_t> ids;
  std::error_code ec;
  const std::string top = FolderOf(place);
  for (std::filesystem::recursive_directory_iterator it(top, ec), end; !ec && it != end;
       it.increment(ec)) {
    if (!it->is_regular_file(ec)) continue;
    const std::string name = it->path().filename().string();
    char* rest = nullptr;
    const long long id = std::strtoll(name.c_str(), &rest, 10);
    if (id > 0 && *rest == 0) ids.push_back(id);
  }
  return ids;
}

}  // namespace pargeter
