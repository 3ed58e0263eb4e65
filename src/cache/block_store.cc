#include "cache/block_store.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

namespace pargeter {
namespace {
constexpr const char* kNote = "user.pargeter.note";
constexpr std::size_t kLongestNote = 16384;
}  // namespace

BlockStore::BlockStore(std::string cache_folder, std::string pending_folder, Disk* disk)
    : cache_(std::move(cache_folder)), pending_(std::move(pending_folder)), disk_(disk) {}

Status BlockStore::Prepare() {
  for (int i = 0; i < 256; ++i) PG_TRY(MakeFolders(fmt::format("{}/{:02x}", cache_, i)));
  return MakeFolders(pending_);
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

Result<Nanos> BlockStore::ChangedAt(std::int64_t id, Place place) const {
  struct stat info {};
  if (::stat(PathOf(id, place).c_str(), &info) < 0)
    return FromErrno(errno, "cannot look at a cache file");
  return static_cast<Nanos>(info.st_mtim.tv_sec) * 1'000'000'000 + info.st_mtim.tv_nsec;
}

Status BlockStore::Move(std::int64_t id, Place from, Place to, Fd* fd) {
  const std::string source = PathOf(id, from), target = PathOf(id, to);
  struct stat a {
  }, b{};
  const std::string source_folder = from == Place::kPending ? pending_ : cache_;
  const std::string target_folder = to == Place::kPending ? pending_ : cache_;
  const bool one_disk = ::stat(source_folder.c_str(), &a) == 0 &&
                        ::stat(target_folder.c_str(), &b) == 0 && a.st_dev == b.st_dev;
  if (one_disk) return disk_->Rename(source, target);
  PG_ASSIGN(const Fd in, disk_->Open(source, O_RDONLY));
  PG_ASSIGN(Fd out, disk_->Open(target + ".new", O_RDWR | O_CREAT | O_TRUNC));
  struct stat info {};
  if (::fstat(in.get(), &info) < 0) return FromErrno(errno, "cannot look at " + source);
  PG_TRY(disk_->Truncate(out.get(), static_cast<std::uint64_t>(info.st_size)));
  std::string buffer(1u << 20, '\0');
  for (off_t at = 0; at < info.st_size;) {
    // holes stay holes
    const off_t data = ::lseek(in.get(), at, SEEK_DATA);
    if (data < 0) break;
    PG_ASSIGN(const std::size_t n, disk_->ReadAt(in.get(), buffer.data(), buffer.size(),
                                                 static_cast<std::uint64_t>(data)));
    if (n == 0) break;
    PG_TRY(disk_->WriteAt(out.get(), std::string_view(buffer.data(), n),
                          static_cast<std::uint64_t>(data)));
    at = data + static_cast<off_t>(n);
  }
  PG_TRY(disk_->SyncData(out.get()));
  PG_TRY(disk_->Rename(target + ".new", target));
  if (fd != nullptr) *fd = std::move(out);
  return disk_->Remove(source);
}

Status BlockStore::Rename(std::int64_t from, std::int64_t to, Place place) {
  return disk_->Rename(PathOf(from, place), PathOf(to, place));
}
Status BlockStore::Drop(std::int64_t id, Place place) { return disk_->Remove(PathOf(id, place)); }

void BlockStore::SetNote(std::int64_t id, Place place, const std::string& note) {
  ::setxattr(PathOf(id, place).c_str(), kNote, note.data(), note.size(), 0);
}
std::string BlockStore::Note(std::int64_t id, Place place) const {
  std::string note(kLongestNote, '\0');
  const ssize_t n = ::getxattr(PathOf(id, place).c_str(), kNote, note.data(), note.size());
  note.resize(n > 0 ? static_cast<std::size_t>(n) : 0);
  return note;
}

Status BlockStore::SyncNames(Place place) {
  return disk_->SyncFolder(place == Place::kPending ? pending_ : cache_);
}

std::vector<std::int64_t> BlockStore::List(Place place) const {
  std::vector<std::int64_t> ids;
  std::error_code ec;
  const std::string& top = place == Place::kPending ? pending_ : cache_;
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
