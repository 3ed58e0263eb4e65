#include "face/mirror/directory.h"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <climits>
#include <ctime>
#include <memory>

#include "base/text.h"

namespace pargeter {

namespace {

constexpr const char *kIncoming = "incoming", *kRecovered = "recovered", *kMark = "drive";

Nanos NanosOf(const struct statx_timestamp& t) { return t.tv_sec * 1'000'000'000 + t.tv_nsec; }

Fingerprint PrintOf(const struct statx& s) {
  Fingerprint print;
  print.kind = S_ISREG(s.stx_mode)   ? DiskKind::kFile
               : S_ISDIR(s.stx_mode) ? DiskKind::kFolder
               : S_ISLNK(s.stx_mode) ? DiskKind::kSymlink
                                     : DiskKind::kOther;
  print.device = (static_cast<std::uint64_t>(s.stx_dev_major) << 32) | s.stx_dev_minor;
  print.inode = s.stx_ino;
  print.born = s.stx_mask & STATX_BTIME ? NanosOf(s.stx_btime) : 0;
  print.size = s.stx_size;
  print.mtime = NanosOf(s.stx_mtime);
  print.ctime = NanosOf(s.stx_ctime);
  print.mode = s.stx_mode & 0777;  // no store gives a file another user's rights
  print.links = s.stx_nlink;
  return print;
}

// Nothing: there is no such name.
Result<std::optional<Fingerprint>> PrintAt(int folder, const std::string& name, int flags = 0) {
  struct statx s {};
  if (::statx(folder, name.c_str(), AT_SYMLINK_NOFOLLOW | AT_NO_AUTOMOUNT | flags,
              STATX_BASIC_STATS | STATX_BTIME, &s) == 0)
    return std::optional(PrintOf(s));
  if (errno == ENOENT) return std::optional<Fingerprint>();
  return FromErrno(errno, fmt::format("cannot look at {}", Printable(name)));
}

Result<Fd> OpenBelow(int root, const std::string& path, std::uint64_t flags) {
  struct open_how how {};
  how.flags = flags | O_CLOEXEC;
  how.resolve = RESOLVE_BENEATH | RESOLVE_NO_SYMLINKS | RESOLVE_NO_XDEV;
  const std::string name = path.empty() ? "." : path;
  const int fd = static_cast<int>(::syscall(SYS_openat2, root, name.c_str(), &how, sizeof(how)));
  if (fd < 0) return FromErrno(errno, fmt::format("cannot open {}", Printable(path)));
  return Fd(fd);
}

Result<Fd> MakeAndOpen(int folder, const char* name) {
  if (::mkdirat(folder, name, 0700) != 0 && errno != EEXIST)
    return FromErrno(errno, fmt::format("cannot make the folder {}", name));
  return OpenBelow(folder, name, O_RDONLY | O_DIRECTORY);
}

Error NotAsKnown(const std::string& path) {
  return {Code::kChanged, fmt::format("{} was changed meanwhile", Printable(path))};
}

std::string ReadMark(int own) {
  auto fd = OpenBelow(own, kMark, O_RDONLY | O_NOFOLLOW);
  char text[256];
  const ssize_t n = fd.ok() ? ::read(fd->get(), text, sizeof(text)) : -1;
  return n > 0 ? std::string(Trim(std::string_view(text, static_cast<std::size_t>(n)))) : "";
}

Status WriteMark(int own, const std::string& mark) {
  const Fd fd(::openat(own, kMark, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0600));
  const std::string line = mark + "\n";
  if (!fd || ::write(fd.get(), line.data(), line.size()) != static_cast<ssize_t>(line.size()) ||
      ::fsync(fd.get()) != 0 || ::fsync(own) != 0)
    return FromErrno(errno, "cannot write the drive's mark into the directory");
  return {};
}

}  // namespace

Result<Directory> Directory::Open(const std::string& at, const std::string& mark, bool may_make) {
  Directory out;
  out.at_ = at;
  out.mark_ = mark;
  if (may_make && ::mkdir(at.c_str(), 0755) != 0 && errno != EEXIST)
    return FromErrno(errno, fmt::format("cannot make the directory {}", Printable(at)));
  out.root_ = Fd(::open(at.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!out.root_)
    return Error(Code::kRefused, fmt::format("the directory {} is not there", Printable(at)),
                 "If it is on a disk that is not mounted, mount the disk first.");
  const bool own = ::faccessat(out.root_.get(), kOwnFolder, F_OK, AT_SYMLINK_NOFOLLOW) == 0;
  if (!own && !may_make)
    return Error(Code::kRefused,
                 fmt::format("the directory {} is not the one that was kept the same as the store: "
                             "the folder {} is not in it",
                             Printable(at), kOwnFolder),
                 "If it is on a disk that is not mounted, mount the disk first.");
  PG_ASSIGN(out.own_, MakeAndOpen(out.root_.get(), kOwnFolder));
  PG_ASSIGN(out.incoming_, MakeAndOpen(out.own_.get(), kIncoming));
  PG_ASSIGN(out.recovered_, MakeAndOpen(out.own_.get(), kRecovered));
  const std::string found = ReadMark(out.own_.get());
  if (found.empty() && may_make) {
    PG_TRY(WriteMark(out.own_.get(), mark));
  } else if (found != mark) {
    return Error(Code::kRefused,
                 fmt::format("the directory {} belongs to another drive", Printable(at)),
                 "Give this drive a directory of its own.");
  }
  PG_ASSIGN(const auto print, PrintAt(out.root_.get(), "", AT_EMPTY_PATH));
  out.device_ = print->device;
  out.inode_ = print->inode;
  PG_ASSIGN(const std::vector<DiskEntry> left, out.List(std::string(kOwnFolder) + "/" + kIncoming));
  for (const DiskEntry& one : left) ::unlinkat(out.incoming_.get(), one.name.c_str(), 0);
  return out;
}

Status Directory::Check() const {
  PG_ASSIGN(const auto now, PrintAt(AT_FDCWD, at_));
  if (!now || now->kind != DiskKind::kFolder || now->device != device_ || now->inode != inode_)
    return Error(Code::kRefused,
                 fmt::format("the directory {} was removed or replaced", Printable(at_)),
                 "Bring it back, and mount the drive again: nothing is deleted at the store.");
  if (ReadMark(own_.get()) != mark_ ||
      ::faccessat(root_.get(), kOwnFolder, F_OK, AT_SYMLINK_NOFOLLOW) != 0)
    return Error(Code::kRefused,
                 fmt::format("the directory {} has lost the mark of its drive", Printable(at_)),
                 "Bring the directory back as it was, and mount the drive again: nothing is "
                 "deleted at the store.");
  return {};
}

Result<Fd> Directory::OpenFolder(const std::string& path) const {
  return OpenBelow(root_.get(), path, O_RDONLY | O_DIRECTORY);
}

Result<Directory::Place> Directory::PlaceOf(const std::string& path) const {
  const std::size_t slash = path.rfind('/');
  Place place;
  place.name = slash == std::string::npos ? path : path.substr(slash + 1);
  PG_ASSIGN(place.folder, OpenFolder(slash == std::string::npos ? "" : path.substr(0, slash)));
  return place;
}

Result<std::vector<DiskEntry>> Directory::List(const std::string& folder) const {
  PG_ASSIGN(Fd fd, OpenFolder(folder));
  const int dir_fd = ::fcntl(fd.get(), F_DUPFD_CLOEXEC, 0);
  const std::unique_ptr<DIR, int (*)(DIR*)> dir(::fdopendir(dir_fd), ::closedir);
  if (!dir) return FromErrno(errno, fmt::format("cannot list {}", Printable(folder)));
  std::vector<DiskEntry> out;
  for (errno = 0;; errno = 0) {
    const dirent* e = ::readdir(dir.get());
    if (e == nullptr) break;
    const std::string name = e->d_name;
    if (name == "." || name == ".." || (folder.empty() && name == kOwnFolder)) continue;
    PG_ASSIGN(const auto print, PrintAt(fd.get(), name));
    if (!print) continue;  // gone since
    DiskEntry entry{name, *print, {}};
    if (print->device != device_ && device_ != 0) entry.print.kind = DiskKind::kOther;
    if (print->kind == DiskKind::kSymlink) {
      char target[PATH_MAX];
      const ssize_t n = ::readlinkat(fd.get(), name.c_str(), target, sizeof(target));
      if (n < 0) continue;
      entry.target.assign(target, static_cast<std::size_t>(n));
    }
    out.push_back(std::move(entry));
  }
  if (errno != 0) return FromErrno(errno, fmt::format("cannot list {}", Printable(folder)));
  return out;
}

Result<std::optional<DiskEntry>> Directory::Look(const std::string& path) const {
  auto place = PlaceOf(path);
  if (!place.ok() &&
      (place.error().code == Code::kNotFound || place.error().code == Code::kNotFolder))
    return std::optional<DiskEntry>();
  if (!place.ok()) return place.error();
  PG_ASSIGN(const auto print, PrintAt(place->folder.get(), place->name));
  if (!print) return std::optional<DiskEntry>();
  return std::optional(DiskEntry{place->name, *print, {}});
}

Result<Fd> Directory::OpenFile(const std::string& path) const {
  return OpenBelow(root_.get(), path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK);
}

Result<std::uint64_t> Directory::FreeBytes() const {
  struct statvfs s {};
  if (::fstatvfs(root_.get(), &s) != 0) return FromErrno(errno, "cannot ask for free disk space");
  return static_cast<std::uint64_t>(s.f_bavail) * s.f_frsize;
}

Result<Directory::Incoming> Directory::BeginFile() {
  static std::atomic<std::uint64_t> number{0};
  Incoming file;
  file.name = fmt::format("{}-{}", ::getpid(), ++number);
  file.fd = Fd(::openat(incoming_.get(), file.name.c_str(),
                        O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600));
  if (!file.fd) return FromErrno(errno, "cannot make a file in the directory");
  return file;
}

Result<Fingerprint> Directory::EndFile(const Incoming& file, std::uint32_t mode, Nanos mtime) {
  const timespec times[2] = {{0, UTIME_OMIT}, {mtime / 1'000'000'000, mtime % 1'000'000'000}};
  if (::fchmod(file.fd.get(), mode & 0777) != 0 || ::futimens(file.fd.get(), times) != 0)
    return FromErrno(errno, "cannot finish a file in the directory");
  PG_ASSIGN(const auto print, PrintAt(file.fd.get(), "", AT_EMPTY_PATH));
  return *print;
}

void Directory::DropFile(const Incoming& file) {
  ::unlinkat(incoming_.get(), file.name.c_str(), 0);
}

Status Directory::RenameChecked(const Place& from, const Place& to, unsigned flags) const {
  if (::renameat2(from.folder.get(), from.name.c_str(), to.folder.get(), to.name.c_str(), flags) ==
      0)
    return {};
  if (errno == EEXIST || errno == ENOENT) return NotAsKnown(to.name);
  return FromErrno(errno, fmt::format("cannot rename to {}", Printable(to.name)));
}

Status Directory::PlaceNew(const Incoming& file, const std::string& path) {
  PG_ASSIGN(const Place to, PlaceOf(path));
  return RenameChecked({Fd(::fcntl(incoming_.get(), F_DUPFD_CLOEXEC, 0)), file.name}, to,
                       RENAME_NOREPLACE);
}

// `out`, in the folder of incoming files, is what was exchanged for our file at its place.
Status Directory::PutBack(const Place& here, const std::string& out) const {
  if (::renameat2(incoming_.get(), out.c_str(), here.folder.get(), here.name.c_str(),
                  RENAME_EXCHANGE) == 0)
    return {};
  return FromErrno(errno, fmt::format("cannot put {} back", Printable(here.name)));
}

Status Directory::PlaceOver(const Incoming& file, const std::string& path,
                            const Fingerprint& known) {
  PG_ASSIGN(const Place to, PlaceOf(path));
  PG_ASSIGN(const auto before, PrintAt(to.folder.get(), to.name));
  if (!before || !before->IsUnchanged(known)) return NotAsKnown(path);
  PG_ASSIGN(const auto ours, PrintAt(incoming_.get(), file.name));
  const Place from{Fd(::fcntl(incoming_.get(), F_DUPFD_CLOEXEC, 0)), file.name};
  PG_TRY(RenameChecked(from, to, RENAME_EXCHANGE));
  // (the exchange itself has set its ctime)
  PG_ASSIGN(const auto out, PrintAt(incoming_.get(), file.name));
  if (!out || !out->HasSameTimes(known)) {
    PG_TRY(PutBack(to, file.name));
    // a program may have written to ours while it was at the place: then it is kept
    PG_ASSIGN(const auto again, PrintAt(incoming_.get(), file.name));
    if (again && ours && !again->HasSameTimes(*ours)) PG_TRY(Recover(file.name, path));
    return NotAsKnown(path);
  }
  // A writer who has the former file open goes on writing into it: it is kept, and not unlinked.
  return Recover(file.name, path);
}

Status Directory::Recover(const std::string& incoming, const std::string& path) {
  PG_ASSIGN(const std::string kept, NewRecoveryName(path));
  if (::renameat(incoming_.get(), incoming.c_str(), recovered_.get(), kept.c_str()) != 0)
    return FromErrno(errno, fmt::format("cannot keep the former {}", Printable(path)));
  return {};
}

Status Directory::Move(const std::string& from, const std::string& to) {
  PG_ASSIGN(const Place a, PlaceOf(from));
  PG_ASSIGN(const Place b, PlaceOf(to));
  return RenameChecked(a, b, RENAME_NOREPLACE);
}

Status Directory::Exchange(const std::string& one, const std::string& other) {
  PG_ASSIGN(const Place a, PlaceOf(one));
  PG_ASSIGN(const Place b, PlaceOf(other));
  return RenameChecked(a, b, RENAME_EXCHANGE);
}

Status Directory::MakeFolder(const std::string& path, std::uint32_t mode) {
  PG_ASSIGN(const Place to, PlaceOf(path));
  if (::mkdirat(to.folder.get(), to.name.c_str(), 0700) != 0)
    return errno == EEXIST ? Status(NotAsKnown(path))
                           : FromErrno(errno, fmt::format("cannot make {}", Printable(path)));
  return SetMode(path, mode);
}

Status Directory::MakeSymlink(const std::string& target, const std::string& path, Nanos mtime) {
  PG_ASSIGN(const Place to, PlaceOf(path));
  if (::symlinkat(target.c_str(), to.folder.get(), to.name.c_str()) != 0)
    return errno == EEXIST ? Status(NotAsKnown(path))
                           : FromErrno(errno, fmt::format("cannot make {}", Printable(path)));
  return SetTime(path, mtime);
}

Status Directory::RemoveEmptyFolder(const std::string& path) {
  PG_ASSIGN(const Place place, PlaceOf(path));
  if (::unlinkat(place.folder.get(), place.name.c_str(), AT_REMOVEDIR) == 0 || errno == ENOENT)
    return {};
  return FromErrno(errno, fmt::format("cannot remove {}", Printable(path)));
}

Status Directory::TakeOut(const std::string& path, const Fingerprint& known) {
  PG_ASSIGN(const Place from, PlaceOf(path));
  PG_ASSIGN(const auto before, PrintAt(from.folder.get(), from.name));
  if (!before || !before->IsUnchanged(known)) return NotAsKnown(path);
  PG_ASSIGN(const std::string kept, NewRecoveryName(path));
  PG_ASSIGN(const Place to, PlaceOf(fmt::format("{}/{}/{}", kOwnFolder, kRecovered, kept)));
  PG_TRY(RenameChecked(from, to, RENAME_NOREPLACE));
  PG_ASSIGN(const auto out, PrintAt(to.folder.get(), to.name));
  if (out && out->HasSameTimes(known)) return {};
  // changed in the last moment: back, unless its name was taken by then; then it stays where it is
  if (RenameChecked(to, from, RENAME_NOREPLACE).ok()) return NotAsKnown(path);
  return {};
}

// "2026-12-02/PATH", the folders of which are made; a number behind it if that is taken.
Result<std::string> Directory::NewRecoveryName(const std::string& path) {
  const std::time_t now = ::time(nullptr);
  struct tm local {};
  ::localtime_r(&now, &local);
  char day[32];
  ::strftime(day, sizeof(day), "%Y-%m-%d", &local);
  const std::string whole = std::string(day) + "/" + path;
  for (std::size_t slash = whole.find('/'); slash != std::string::npos;
       slash = whole.find('/', slash + 1)) {
    if (::mkdirat(recovered_.get(), whole.substr(0, slash).c_str(), 0700) != 0 && errno != EEXIST)
      return FromErrno(errno, "cannot make a folder for what is taken out");
  }
  for (int copy = 1;; ++copy) {
    const std::string name = copy == 1 ? whole : fmt::format("{} ({})", whole, copy);
    PG_ASSIGN(const auto taken, PrintAt(recovered_.get(), name));
    if (!taken) return name;
  }
}

Status Directory::SetMode(const std::string& path, std::uint32_t mode) {
  PG_ASSIGN(const Place place, PlaceOf(path));
  if (::fchmodat(place.folder.get(), place.name.c_str(), mode & 0777, 0) != 0)
    return FromErrno(errno, fmt::format("cannot set the mode of {}", Printable(path)));
  return {};
}

Status Directory::SetTime(const std::string& path, Nanos mtime) {
  PG_ASSIGN(const Place place, PlaceOf(path));
  const timespec times[2] = {{0, UTIME_OMIT}, {mtime / 1'000'000'000, mtime % 1'000'000'000}};
  if (::utimensat(place.folder.get(), place.name.c_str(), times, AT_SYMLINK_NOFOLLOW) != 0)
    return FromErrno(errno, fmt::format("cannot set the time of {}", Printable(path)));
  return {};
}

Status Directory::Sync() {
  if (::syncfs(root_.get()) != 0) return FromErrno(errno, "cannot sync the directory");
  return {};
}

}  // namespace pargeter
