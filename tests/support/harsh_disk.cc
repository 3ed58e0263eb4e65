#include "support/harsh_disk.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <filesystem>

namespace pargeter::test {
namespace {

namespace fs = std::filesystem;

std::string Slurp(int fd) {
  struct stat info {};
  if (::fstat(fd, &info) != 0) return "";
  std::string out(static_cast<std::size_t>(info.st_size), '\0');
  const ssize_t n = ::pread(fd, out.data(), out.size(), 0);
  out.resize(n > 0 ? static_cast<std::size_t>(n) : 0);
  return out;
}
std::string SlurpPath(const std::string& path) {
  const Fd fd(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  return fd ? Slurp(fd.get()) : "";
}
constexpr std::uint64_t kPage = 4096;

// What of it is no hole.
RangeSet Written(int fd) {
  RangeSet parts;
  const off_t place = ::lseek(fd, 0, SEEK_CUR);
  for (off_t at = 0; (at = ::lseek(fd, at, SEEK_DATA)) >= 0;) {
    const off_t end = ::lseek(fd, at, SEEK_HOLE);
    parts.Add({static_cast<std::uint64_t>(at), static_cast<std::uint64_t>(end)});
    at = end;
  }
  ::lseek(fd, place, SEEK_SET);
  return parts;
}
using FileId = HarshDisk::FileId;
FileId IdOf(int fd) {
  struct stat info {};
  return ::fstat(fd, &info) == 0 ? FileId{info.st_dev, info.st_ino} : FileId{};
}
FileId IdOf(const char* path) {
  struct stat info {};
  return path != nullptr && ::stat(path, &info) == 0 ? FileId{info.st_dev, info.st_ino} : FileId{};
}
std::string Parent(const std::string& path) { return path.substr(0, path.rfind('/')); }

// ---- SQLite's file system, in front of its own one

HarshDisk* g_disk = nullptr;

struct ShimFile {
  sqlite3_file base;
  sqlite3_file* real;
  const char* path;  // SQLite keeps it as long as the file is open
  FileId id;
  bool fresh;  // made by this open: its first sync syncs its name too, as SQLite does
};
ShimFile* Of(sqlite3_file* file) { return reinterpret_cast<ShimFile*>(file); }
sqlite3_vfs* RealVfs(sqlite3_vfs* vfs) { return static_cast<sqlite3_vfs*>(vfs->pAppData); }

int Close(sqlite3_file* f) {
  const int rc = Of(f)->real->pMethods ? Of(f)->real->pMethods->xClose(Of(f)->real) : SQLITE_OK;
  return rc;
}
int Read(sqlite3_file* f, void* data, int size, sqlite3_int64 at) {
  return Of(f)->real->pMethods->xRead(Of(f)->real, data, size, at);
}
int Write(sqlite3_file* f, const void* data, int size, sqlite3_int64 at) {
  ShimFile* s = Of(f);
  if (!g_disk->Gate()) return SQLITE_IOERR_WRITE;
  if (g_disk->watching() && s->id.inode != 0) {
    g_disk->Wrote(
        s->id, static_cast<std::uint64_t>(at),
        {static_cast<const char*>(data), static_cast<std::size_t>(size)},
        [s] { return SlurpPath(s->path); }, true);
  }
  return s->real->pMethods->xWrite(s->real, data, size, at);
}
int Truncate(sqlite3_file* f, sqlite3_int64 size) {
  ShimFile* s = Of(f);
  if (!g_disk->Gate()) return SQLITE_IOERR_TRUNCATE;
  if (g_disk->watching() && s->id.inode != 0)
    g_disk->Cut(s->id, static_cast<std::uint64_t>(size), [s] { return SlurpPath(s->path); });
  return s->real->pMethods->xTruncate(s->real, size);
}
int Sync(sqlite3_file* f, int flags) {
  ShimFile* s = Of(f);
  if (!g_disk->Gate()) return SQLITE_IOERR_FSYNC;
  const int rc = s->real->pMethods->xSync(s->real, flags);
  if (rc == SQLITE_OK && g_disk->watching() && s->id.inode != 0) {
    g_disk->Synced(s->id);
    if (s->fresh) g_disk->FolderSynced(Parent(s->path));
    s->fresh = false;
  }
  return rc;
}
int FileSize(sqlite3_file* f, sqlite3_int64* size) {
  return Of(f)->real->pMethods->xFileSize(Of(f)->real, size);
}
int TakeLock(sqlite3_file* f, int l) { return Of(f)->real->pMethods->xLock(Of(f)->real, l); }
int GiveLock(sqlite3_file* f, int l) { return Of(f)->real->pMethods->xUnlock(Of(f)->real, l); }
int LookAtLock(sqlite3_file* f, int* out) {
  return Of(f)->real->pMethods->xCheckReservedLock(Of(f)->real, out);
}
int Control(sqlite3_file* f, int op, void* arg) {
  return Of(f)->real->pMethods->xFileControl(Of(f)->real, op, arg);
}
int SectorSize(sqlite3_file* f) { return Of(f)->real->pMethods->xSectorSize(Of(f)->real); }
int Traits(sqlite3_file* f) { return Of(f)->real->pMethods->xDeviceCharacteristics(Of(f)->real); }
int ShmMap(sqlite3_file* f, int page, int size, int extend, void volatile** out) {
  return Of(f)->real->pMethods->xShmMap(Of(f)->real, page, size, extend, out);
}
int ShmLock(sqlite3_file* f, int offset, int n, int flags) {
  return Of(f)->real->pMethods->xShmLock(Of(f)->real, offset, n, flags);
}
void ShmBarrier(sqlite3_file* f) { Of(f)->real->pMethods->xShmBarrier(Of(f)->real); }
int ShmUnmap(sqlite3_file* f, int drop) {
  return Of(f)->real->pMethods->xShmUnmap(Of(f)->real, drop);
}

const sqlite3_io_methods kMethods = {2,          Close,      Read,     Write,    Truncate,
                                     Sync,       FileSize,   TakeLock, GiveLock, LookAtLock,
                                     Control,    SectorSize, Traits,   ShmMap,   ShmLock,
                                     ShmBarrier, ShmUnmap,   nullptr,  nullptr};

int OpenFile(sqlite3_vfs* vfs, const char* path, sqlite3_file* f, int flags, int* out) {
  ShimFile* s = Of(f);
  s->base.pMethods = nullptr;
  s->real = reinterpret_cast<sqlite3_file*>(s + 1);
  s->path = path;
  const bool there = IdOf(path).inode != 0;
  if (path != nullptr && !there && (flags & SQLITE_OPEN_CREATE) && !g_disk->Gate())
    return SQLITE_CANTOPEN;
  const int rc = RealVfs(vfs)->xOpen(RealVfs(vfs), path, s->real, flags, out);
  if (rc != SQLITE_OK) return rc;
  s->id = IdOf(path);
  s->fresh = !there && path != nullptr;
  if (s->fresh && g_disk->watching()) g_disk->Made(path);
  s->base.pMethods = &kMethods;
  return SQLITE_OK;
}
int DeleteFile(sqlite3_vfs* vfs, const char* path, int sync) {
  if (!g_disk->Gate()) return SQLITE_IOERR_DELETE;
  g_disk->Removing(path);
  return RealVfs(vfs)->xDelete(RealVfs(vfs), path, sync);
}

sqlite3_vfs* TheVfs() {
  static sqlite3_vfs vfs = [] {
    sqlite3_vfs* real = sqlite3_vfs_find(nullptr);
    sqlite3_vfs made = *real;
    made.zName = "harsh";
    made.pAppData = real;
    made.szOsFile = static_cast<int>(sizeof(ShimFile)) + real->szOsFile;
    made.xOpen = OpenFile;
    made.xDelete = DeleteFile;
    return made;
  }();
  return &vfs;
}

}  // namespace

HarshDisk::HarshDisk() {
  g_disk = this;
  sqlite3_vfs_register(TheVfs(), 1);
}
HarshDisk::~HarshDisk() {
  sqlite3_vfs_unregister(TheVfs());
  g_disk = nullptr;
  for (const Volume& volume : volumes_) fs::remove_all(volume.trash);
}

void HarshDisk::FailShare(double share, std::uint64_t seed) {
  const Lock lock(mutex_);
  fail_share_ = share;
  dice_.seed(seed);
}
void HarshDisk::Heal() {
  FailShare(0, 0);
  count_ = die_at_ = fail_at_ = 0;
  dead_ = full = broken = false;
}

bool HarshDisk::Gate() {
  const std::uint64_t n = ++count_;
  if (die_at_ != 0 && n >= die_at_) dead_ = true;
  if (dead_ || broken) return false;
  if (fail_at_ != 0 && n == fail_at_) return false;
  const Lock lock(mutex_);
  return fail_share_ == 0 || std::uniform_real_distribution<>()(dice_) >= fail_share_;
}
Status HarshDisk::Fault() const { return Error(Code::kIo, "the disk failed (on purpose)"); }

Result<Fd> HarshDisk::Open(const std::string& path, int flags, unsigned mode) {
  const bool makes = (flags & O_CREAT) != 0 && ::access(path.c_str(), F_OK) != 0;
  if (makes && !Gate()) return Fault().error();
  auto fd = Disk::Open(path, flags, mode);
  if (fd.ok() && makes && watching()) Made(path);
  return fd;
}
Result<std::size_t> HarshDisk::ReadAt(int fd, char* data, std::size_t size, std::uint64_t at) {
  if (broken) return Fault().error();
  auto n = Disk::ReadAt(fd, data, size, at);
  if (n.ok()) bytes_read += *n;
  if (on_read) on_read();
  return n;
}
Status HarshDisk::WriteAt(int fd, std::string_view data, std::uint64_t offset) {
  if (on_write) on_write();
  const bool alive = !dead_ && !broken, done = Gate();
  if (!done && !alive) return Fault();
  if (!done) data = data.substr(0, data.size() / 2);
  if (watching()) {
    NoteState(fd);
    Wrote(IdOf(fd), offset, data, [fd] { return Slurp(fd); });
  }
  const Status wrote = Disk::WriteAt(fd, data, offset);
  return done ? wrote : Fault();
}
Status HarshDisk::Truncate(int fd, std::uint64_t size) {
  if (!Gate()) return Fault();
  if (watching()) {
    NoteState(fd);
    Cut(IdOf(fd), size, [fd] { return Slurp(fd); });
  }
  return Disk::Truncate(fd, size);
}
Status HarshDisk::SyncData(int fd) {
  if (on_sync) on_sync();
  if (!Gate()) return Fault();
  if (watching()) Synced(IdOf(fd));
  return {};  // no power is cut but ours
}
Status HarshDisk::SyncFolder(const std::string& path) {
  if (!Gate()) return Fault();
  if (watching()) FolderSynced(path);
  return {};
}
Status HarshDisk::SyncAll(const std::string& path) {
  if (!Gate()) return Fault();
  if (!watching()) return {};
  const Lock lock(mutex_);
  const FileId one = IdOf(path.c_str());
  std::erase_if(files_, [&](const auto& file) { return file.first.device == one.device; });
  Volume& volume = VolumeOf(path);
  volume.synced = volume.names.size();
  return {};
}
Status HarshDisk::Rename(const std::string& from, const std::string& to) {
  if (!Gate()) return Fault();
  if (watching()) {
    const Lock lock(mutex_);
    Volume& volume = VolumeOf(to);
    volume.names.push_back({from, to, Save(volume, to)});
  }
  return Disk::Rename(from, to);
}
Status HarshDisk::Remove(const std::string& path) {
  if (::access(path.c_str(), F_OK) != 0) return {};
  if (!Gate()) return Fault();
  Removing(path);
  return Disk::Remove(path);
}
Status HarshDisk::Punch(int fd, std::uint64_t offset, std::uint64_t size) {
  if (!Gate()) return Fault();
  if (watching()) {
    NoteState(fd);
    struct stat info {};
    if (::fstat(fd, &info) != 0) return Fault();
    const std::uint64_t end = std::min<std::uint64_t>(offset + size, info.st_size);
    if (end > offset)
      Wrote(
          IdOf(fd), offset, std::string(static_cast<std::size_t>(end - offset), '\0'),
          [fd] { return Slurp(fd); }, false, true);
  }
  return Disk::Punch(fd, offset, size);
}
Result<std::uint64_t> HarshDisk::FreeBytes(const std::string&) {
  return full ? std::uint64_t{0} : on_free ? on_free() : free.load();
}

// ---- power

void HarshDisk::WatchPower(const std::string& folder) {
  volumes_.push_back({folder, folder + ".trash", {}, 0});
  fs::remove_all(volumes_.back().trash);
  fs::create_directories(volumes_.back().trash);
}
HarshDisk::Volume& HarshDisk::VolumeOf(const std::string& path) {
  for (Volume& volume : volumes_)
    if (path.compare(0, volume.folder.size(), volume.folder) == 0) return volume;
  fmt::print(stderr, "nobody watches the disk of {}\n", path);
  std::abort();
}
HarshDisk::Image HarshDisk::AllWritten(std::string content) {
  Image image{std::move(content), {}};
  image.written.Add({0, image.content.size()});
  return image;
}
void HarshDisk::Wrote(FileId file, std::uint64_t offset, std::string_view data,
                      const Before& before, bool by_sectors, bool hole) {
  const Lock lock(mutex_);
  const auto [it, is_new] = files_.try_emplace(file);
  if (is_new) it->second.synced = AllWritten(before());
  it->second.by_sectors = by_sectors;
  it->second.since.push_back({offset, std::string(data), false, hole, it->second.time});
}
// Before a change: nothing of it is on the disk until all is synced, and so the file looks no
// younger.
void HarshDisk::NoteState(int fd) {
  struct stat info {};
  if (::fstat(fd, &info) != 0) return;
  const Lock lock(mutex_);
  const auto [it, is_new] = files_.try_emplace(FileId{info.st_dev, info.st_ino});
  if (is_new) it->second.synced = {Slurp(fd), Written(fd)};
  it->second.time = info.st_mtim;
  if (it->second.since.empty()) it->second.synced_time = info.st_mtim;
}
void HarshDisk::Cut(FileId file, std::uint64_t size, const Before& before) {
  const Lock lock(mutex_);
  const auto [it, is_new] = files_.try_emplace(file);
  if (is_new) it->second.synced = AllWritten(before());
  it->second.since.push_back({size, "", true, false, it->second.time});
}
void HarshDisk::Synced(FileId file) {
  const Lock lock(mutex_);
  files_.erase(file);  // what it is now is taken down before the next change
}
void HarshDisk::Made(const std::string& path) {
  const Lock lock(mutex_);
  VolumeOf(path).names.push_back({"", path, ""});
}
void HarshDisk::Removing(const std::string& path) {
  if (!watching()) return;
  const Lock lock(mutex_);
  Volume& volume = VolumeOf(path);
  volume.names.push_back({path, "", Save(volume, path)});
}
void HarshDisk::FolderSynced(const std::string& folder) {
  const Lock lock(mutex_);
  Volume& volume = VolumeOf(folder + "/");
  for (std::size_t i = volume.names.size(); i > volume.synced; --i) {
    const NameChange& change = volume.names[i - 1];
    if (Parent(change.to) == folder || Parent(change.from) == folder) {
      volume.synced = i;  // file systems journal names in order
      return;
    }
  }
}
std::string HarshDisk::Save(const Volume& volume, const std::string& path) {
  if (::access(path.c_str(), F_OK) != 0) return "";
  const std::string saved = fmt::format("{}/{}", volume.trash, volume.names.size());
  return ::link(path.c_str(), saved.c_str()) == 0 ? saved : "";
}

void HarshDisk::Volume::Undo(std::mt19937_64* dice) {
  const std::size_t keep =
      synced + (names.size() > synced ? (*dice)() % (names.size() - synced + 1) : 0);
  for (std::size_t i = names.size(); i > keep; --i) {
    const NameChange& change = names[i - 1];
    if (change.from.empty()) {
      ::unlink(change.to.c_str());
    } else if (change.to.empty()) {
      if (!change.saved.empty()) ::rename(change.saved.c_str(), change.from.c_str());
    } else {
      ::rename(change.to.c_str(), change.from.c_str());
      if (!change.saved.empty()) ::rename(change.saved.c_str(), change.to.c_str());
    }
  }
  names.clear();
  synced = 0;
  fs::remove_all(trash);
  fs::create_directories(trash);
}
void HarshDisk::PowerCut(std::uint64_t seed) {
  const Lock lock(mutex_);
  std::mt19937_64 dice(seed);
  for (Volume& volume : volumes_) {
    volume.Undo(&dice);
    for (const auto& entry : fs::recursive_directory_iterator(volume.folder)) {
      if (!entry.is_regular_file()) continue;
      const std::string name = entry.path().filename();
      if (name.size() > 4 && name.compare(name.size() - 4, 4, "-shm") == 0) {
        ::unlink(entry.path().c_str());  // memory
        continue;
      }
      const auto it = files_.find(IdOf(entry.path().c_str()));
      if (it != files_.end() && !it->second.since.empty()) Tear(entry.path(), it->second, &dice);
    }
  }
  files_.clear();
}

// What of the changes since the last sync reached the disk: nothing, all, or some. Then each page
// is as it was after one of them, whichever; a length that was not cut is the end of the last page
// that came; and where nothing ever came there is a hole. The time of the last change may be
// there before its pages, but not before a cut that precedes it: time and length are written at
// once. The index, checked by its own sums, is torn by sectors.
void HarshDisk::Tear(const std::string& path, const File& file, std::mt19937_64* dice) {
  const std::size_t page = file.by_sectors ? 512 : kPage;
  const std::uint64_t mood = (*dice)() % 3;
  std::vector<std::size_t> cuts;
  for (std::size_t i = 0; i < file.since.size(); ++i)
    if (file.since[i].cut) cuts.push_back(i);
  // a cut that did not reach it holds back what was written after that
  const std::size_t cuts_done = mood == 0   ? 0
                                : mood == 1 ? cuts.size()
                                            : (*dice)() % (cuts.size() + 1);
  const std::size_t last = cuts_done < cuts.size() ? cuts[cuts_done] : file.since.size();
  const std::size_t first = cuts_done == 0 ? 0 : cuts[cuts_done - 1] + 1;
  Image image = file.synced;
  for (std::size_t i = 0; i < first; ++i) image.Apply(file.since[i]);
  std::map<std::uint64_t, std::size_t> until;  // by page
  for (std::size_t i = first; i < last && mood != 0; ++i) {
    const Change& change = file.since[i];
    const std::uint64_t end = change.offset + change.data.size();
    for (std::uint64_t at = change.offset; at < end;) {
      const std::uint64_t next = std::min(end, (at / page + 1) * page);
      const auto [it, fresh] = until.try_emplace(at / page, last);
      if (fresh && mood == 2) it->second = first + (*dice)() % (last - first + 1);
      if (i < it->second)
        image.Apply({at,
                     change.data.substr(static_cast<std::size_t>(at - change.offset),
                                        static_cast<std::size_t>(next - at)),
                     false, change.hole});
      at = next;
    }
  }
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) std::abort();
  const Fd fd(::open(path.c_str(), O_WRONLY | O_TRUNC | O_CLOEXEC));
  if (::ftruncate(fd.get(), static_cast<off_t>(image.content.size())) != 0) std::abort();
  for (const Range& range : image.written.All()) {
    const auto wrote =
        ::pwrite(fd.get(), image.content.data() + range.begin,
                 static_cast<std::size_t>(range.size()), static_cast<off_t>(range.begin));
    if (wrote != static_cast<ssize_t>(range.size())) std::abort();
  }
  const timespec time = mood == 0                  ? file.synced_time
                        : last < file.since.size() ? file.since[last].time
                                                   : info.st_mtim;
  const timespec times[] = {time, time};
  ::futimens(fd.get(), times);
}

void HarshDisk::Image::Apply(const Change& change) {
  const auto end = static_cast<std::size_t>(change.offset + change.data.size());
  if (change.cut || content.size() < end) content.resize(end, '\0');
  if (change.cut) {
    written.Remove({end, ~0ull >> 1});
  } else if (!change.data.empty()) {
    content.replace(static_cast<std::size_t>(change.offset), change.data.size(), change.data);
    if (!change.hole) {
      written.Add({change.offset, end});
    } else if (const auto first = (change.offset + kPage - 1) / kPage * kPage,
               last = end / kPage * kPage;
               first < last) {
      written.Remove({first, last});
    }
  }
}

}  // namespace pargeter::test
