#include "face/stream/operations.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/xattr.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/file.h"
#include "base/log.h"
#include "base/text.h"
#include "engine/naming.h"
#include "face/stream/policy.h"

namespace pargeter {
namespace {

constexpr std::uint32_t kBlock = 512;
// renameat2's flags, from linux/fs.h
constexpr unsigned kNoReplace = 1;

Drive& DriveOf(fuse_req_t req) { return *static_cast<Drive*>(fuse_req_userdata(req)); }
// In the handle of an open file: a pointer to a shared pointer, freed at its release.
OpenFilePtr FileOf(const fuse_file_info* fi) {
  return fi == nullptr || fi->fh == 0 ? nullptr : *reinterpret_cast<OpenFilePtr*>(fi->fh);
}

void Fail(fuse_req_t req, const Error& error) {
  Log(LogLevel::kDebug, "answered {}: {}", NameOf(error.code), error.what);
  fuse_reply_err(req, ErrnoOf(error.code));
}
void Done(fuse_req_t req, const Status& status) {
  if (status.ok()) {
    fuse_reply_err(req, 0);
  } else {
    Fail(req, status.error());
  }
}

timespec TimeOf(Nanos t) {
  timespec out{};
  out.tv_sec = t / 1'000'000'000;
  out.tv_nsec = t % 1'000'000'000;
  if (out.tv_nsec < 0) {
    out.tv_nsec += 1'000'000'000;
    --out.tv_sec;
  }
  return out;
}

struct stat StatOf(const Attr& a) {
  struct stat s {};
  s.st_ino = static_cast<ino_t>(a.id);
  s.st_mode = a.mode | (a.kind == NodeKind::kFolder    ? S_IFDIR
                        : a.kind == NodeKind::kSymlink ? S_IFLNK
                                                       : S_IFREG);
  s.st_nlink = a.deleted ? 0 : a.kind == NodeKind::kFolder ? 2 : 1;
  s.st_uid = a.uid;
  s.st_gid = a.gid;
  s.st_size = static_cast<off_t>(a.size);
  s.st_blocks = static_cast<blkcnt_t>((a.on_disk + kBlock - 1) / kBlock);
  s.st_blksize = 128 * 1024;
  s.st_mtim = s.st_atim = TimeOf(a.mtime);
  s.st_ctim = TimeOf(a.ctime);
  return s;
}

fuse_entry_param EntryOf(const Attr& a) {
  fuse_entry_param e{};
  e.ino = static_cast<fuse_ino_t>(a.id);
  e.attr = StatOf(a);
  e.attr_timeout = kAttributeSeconds;
  e.entry_timeout = kEntrySeconds;
  return e;
}

void ReplyEntry(fuse_req_t req, const Result<Attr>& attr) {
  if (!attr.ok()) return Fail(req, attr.error());
  const fuse_entry_param e = EntryOf(*attr);
  if (fuse_reply_entry(req, &e) != 0) DriveOf(req).Forget(attr->id, 1);
}

void Init(void*, fuse_conn_info* conn) {
  const unsigned wanted = FUSE_CAP_ASYNC_READ | FUSE_CAP_ATOMIC_O_TRUNC | FUSE_CAP_PARALLEL_DIROPS |
                          FUSE_CAP_READDIRPLUS | FUSE_CAP_CACHE_SYMLINKS | FUSE_CAP_SPLICE_WRITE |
                          FUSE_CAP_SPLICE_MOVE;
  conn->want |= conn->capable & wanted;
  // always with attributes: a listing without them makes `find` four times as slow
  conn->want &= ~static_cast<unsigned>(FUSE_CAP_READDIRPLUS_AUTO | FUSE_CAP_AUTO_INVAL_DATA |
                                       FUSE_CAP_HANDLE_KILLPRIV | FUSE_CAP_SPLICE_READ);
  conn->max_write = 1u << 20;
  conn->max_background = 64;
  conn->congestion_threshold = 48;
  conn->time_gran = 1;
}

void Lookup(fuse_req_t req, fuse_ino_t parent, const char* name) {
  const auto attr = DriveOf(req).Lookup(static_cast<NodeId>(parent), name);
  if (!attr.ok() && attr.error().code == Code::kNotFound) {
    fuse_entry_param nothing{};
    nothing.entry_timeout = kNothingThereSeconds;
    fuse_reply_entry(req, &nothing);
    return;
  }
  ReplyEntry(req, attr);
}

void Forget(fuse_req_t req, fuse_ino_t ino, std::uint64_t count) {
  DriveOf(req).Forget(static_cast<NodeId>(ino), count);
  fuse_reply_none(req);
}

void ForgetMulti(fuse_req_t req, std::size_t count, fuse_forget_data* forgets) {
  for (std::size_t i = 0; i < count; ++i) {
    DriveOf(req).Forget(static_cast<NodeId>(forgets[i].ino), forgets[i].nlookup);
  }
  fuse_reply_none(req);
}

void GetAttr(fuse_req_t req, fuse_ino_t ino, fuse_file_info*) {
  const auto attr = DriveOf(req).GetAttr(static_cast<NodeId>(ino));
  if (!attr.ok()) return Fail(req, attr.error());
  const struct stat s = StatOf(*attr);
  fuse_reply_attr(req, &s, kAttributeSeconds);
}

void SetAttr(fuse_req_t req, fuse_ino_t ino, struct stat* to, int set, fuse_file_info* fi) {
  AttrChange change;
  if (set & FUSE_SET_ATTR_MODE) change.mode = to->st_mode & 07777;
  if (set & FUSE_SET_ATTR_UID) change.uid = to->st_uid;
  if (set & FUSE_SET_ATTR_GID) change.gid = to->st_gid;
  if (set & FUSE_SET_ATTR_SIZE) change.size = static_cast<std::uint64_t>(to->st_size);
  if (set & FUSE_SET_ATTR_MTIME)
    change.mtime = to->st_mtim.tv_sec * 1'000'000'000 + to->st_mtim.tv_nsec;
  if (set & FUSE_SET_ATTR_MTIME_NOW) change.mtime = SystemClock().Wall();
  const auto attr = DriveOf(req).SetAttr(static_cast<NodeId>(ino), change, FileOf(fi));
  if (!attr.ok()) return Fail(req, attr.error());
  const struct stat s = StatOf(*attr);
  fuse_reply_attr(req, &s, kAttributeSeconds);
}

void ReadLink(fuse_req_t req, fuse_ino_t ino) {
  const auto target = DriveOf(req).ReadSymlink(static_cast<NodeId>(ino));
  if (!target.ok()) return Fail(req, target.error());
  fuse_reply_readlink(req, target->c_str());
}

void MkNod(fuse_req_t req, fuse_ino_t parent, const char* name, mode_t mode, dev_t) {
  if (!S_ISREG(mode)) {  // no store can hold devices, pipes and sockets
    fuse_reply_err(req, EPERM);
    return;
  }
  Drive& drive = DriveOf(req);
  const fuse_ctx* ctx = fuse_req_ctx(req);
  auto opened = drive.Create(static_cast<NodeId>(parent), name, mode, ctx->uid, ctx->gid, true);
  if (!opened.ok()) return Fail(req, opened.error());
  drive.Release(opened->file);
  ReplyEntry(req, opened->attr);
}

void MkDir(fuse_req_t req, fuse_ino_t parent, const char* name, mode_t mode) {
  const fuse_ctx* ctx = fuse_req_ctx(req);
  ReplyEntry(req,
             DriveOf(req).MakeFolder(static_cast<NodeId>(parent), name, mode, ctx->uid, ctx->gid));
}

void Unlink(fuse_req_t req, fuse_ino_t parent, const char* name) {
  Done(req, DriveOf(req).Unlink(static_cast<NodeId>(parent), name));
}

void RmDir(fuse_req_t req, fuse_ino_t parent, const char* name) {
  const Status removed = DriveOf(req).RemoveFolder(static_cast<NodeId>(parent), name);
  Done(req, removed);
}

void SymLink(fuse_req_t req, const char* target, fuse_ino_t parent, const char* name) {
  const fuse_ctx* ctx = fuse_req_ctx(req);
  ReplyEntry(
      req, DriveOf(req).MakeSymlink(static_cast<NodeId>(parent), name, target, ctx->uid, ctx->gid));
}

void Rename(fuse_req_t req, fuse_ino_t parent, const char* name, fuse_ino_t new_parent,
            const char* new_name, unsigned flags) {
  if (flags & ~kNoReplace) {  // an exchange would be two moves that can fail half-way
    fuse_reply_err(req, EINVAL);
    return;
  }
  Done(req, DriveOf(req).Rename(static_cast<NodeId>(parent), name, static_cast<NodeId>(new_parent),
                                new_name,
                                flags & kNoReplace ? Drive::Replace::kNo : Drive::Replace::kYes));
}

void Link(fuse_req_t req, fuse_ino_t, fuse_ino_t, const char*) { fuse_reply_err(req, EPERM); }

void SetMode(fuse_file_info* fi, const OpenFilePtr& file) {
  const OpenMode mode = ModeFor(*file);
  fi->direct_io = mode.direct;
  fi->keep_cache = mode.keep_pages;
  fi->noflush = mode.no_flush;
  fi->fh = reinterpret_cast<std::uint64_t>(new OpenFilePtr(file));
}

void Abandon(fuse_req_t req, fuse_file_info* fi) {
  DriveOf(req).Release(FileOf(fi));
  delete reinterpret_cast<OpenFilePtr*>(fi->fh);
}

// The name of a program that is to be held back; "" for all others. A thread may bear a name of its
// own, so its process is looked at too.
std::string ShyProgram(Drive& drive, pid_t pid) {
  const auto name_of = [](const std::string& process) {
    const auto name = ReadFile("/proc/" + process + "/comm", 64);
    return name.ok() ? std::string(Trim(*name)) : "";
  };
  const std::string own = name_of(std::to_string(pid));
  if (own.empty() || drive.IsShy(own)) return own;
  const auto status = ReadFile("/proc/" + std::to_string(pid) + "/status", 1 << 16);
  if (!status.ok()) return "";
  for (const std::string& line : Split(*status, '\n')) {
    if (line.compare(0, 5, "Tgid:") != 0) continue;
    const std::string leader(Trim(std::string_view(line).substr(5)));
    if (leader == std::to_string(pid)) return "";
    const std::string name = name_of(leader);
    return drive.IsShy(name) ? name : "";
  }
  return "";
}

void Open(fuse_req_t req, fuse_ino_t ino, fuse_file_info* fi) {
  const bool writes = (fi->flags & O_ACCMODE) != O_RDONLY;
  const Drive::Intent intent = fi->flags & O_TRUNC ? Drive::Intent::kTruncate
                               : writes            ? Drive::Intent::kWrite
                                                   : Drive::Intent::kRead;
  auto opened = DriveOf(req).OpenNode(static_cast<NodeId>(ino), intent);
  if (!opened.ok()) return Fail(req, opened.error());
  // whoever may not fetch is asked for only where something would have to be fetched
  bool shy = false;
  if (!writes && opened->attr.on_disk < opened->attr.size) {
    const std::string program = ShyProgram(DriveOf(req), fuse_req_ctx(req)->pid);
    shy = !program.empty();
    if (shy) DriveOf(req).MakeShy(opened->file, program);
  }
  SetMode(fi, opened->file);
  if (shy) fi->direct_io = 1;  // it may get less than it asks for, which a cached read may not
  // no release comes after a reply that did not arrive
  if (fuse_reply_open(req, fi) != 0) Abandon(req, fi);
}

void Create(fuse_req_t req, fuse_ino_t parent, const char* name, mode_t mode, fuse_file_info* fi) {
  const fuse_ctx* ctx = fuse_req_ctx(req);
  auto opened = DriveOf(req).Create(static_cast<NodeId>(parent), name, mode, ctx->uid, ctx->gid,
                                    (fi->flags & O_EXCL) != 0);
  if (!opened.ok()) return Fail(req, opened.error());
  SetMode(fi, opened->file);
  const fuse_entry_param e = EntryOf(opened->attr);
  if (fuse_reply_create(req, &e, fi) != 0) {
    DriveOf(req).Forget(opened->attr.id, 1);
    Abandon(req, fi);
  }
}

void Read(fuse_req_t req, fuse_ino_t, std::size_t size, off_t offset, fuse_file_info* fi) {
  // one buffer for each thread, kept: a request is at most 1 MiB
  thread_local std::string buffer;
  if (buffer.size() < size) buffer.resize(size);
  const auto n =
      DriveOf(req).Read(FileOf(fi), buffer.data(), size, static_cast<std::uint64_t>(offset));
  if (!n.ok()) return Fail(req, n.error());
  fuse_reply_buf(req, buffer.data(), *n);
}

void Write(fuse_req_t req, fuse_ino_t, const char* data, std::size_t size, off_t offset,
           fuse_file_info* fi) {
  const Status wrote = DriveOf(req).Write(FileOf(fi), std::string_view(data, size),
                                          static_cast<std::uint64_t>(offset), false);
  if (!wrote.ok()) return Fail(req, wrote.error());
  fuse_reply_write(req, size);
}

void Flush(fuse_req_t req, fuse_ino_t, fuse_file_info* fi) {
  Done(req, DriveOf(req).Flush(FileOf(fi)));
}
void Fsync(fuse_req_t req, fuse_ino_t, int, fuse_file_info* fi) {
  Done(req, DriveOf(req).Fsync(FileOf(fi)));
}

void Release(fuse_req_t req, fuse_ino_t, fuse_file_info* fi) {
  DriveOf(req).Release(FileOf(fi));
  delete reinterpret_cast<OpenFilePtr*>(fi->fh);
  fuse_reply_err(req, 0);
}

void OpenDir(fuse_req_t req, fuse_ino_t ino, fuse_file_info* fi) {
  const Status opened = DriveOf(req).OpenFolder(static_cast<NodeId>(ino));
  if (!opened.ok()) return Fail(req, opened.error());
  fi->fh = 0;
  fuse_reply_open(req, fi);
}
void FsyncDir(fuse_req_t req, fuse_ino_t, int, fuse_file_info*) { fuse_reply_err(req, 0); }

// Positions in a folder: 1 and 2 are behind "." and "..", others are a node's id and 2.
void ReadDirAs(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, bool plus) {
  Drive& drive = DriveOf(req);
  std::string buffer(size, '\0');
  std::size_t used = 0;
  const auto add = [&](const std::string& name, const fuse_entry_param& e, off_t next) {
    const std::size_t need = plus ? fuse_add_direntry_plus(req, buffer.data() + used, size - used,
                                                           name.c_str(), &e, next)
                                  : fuse_add_direntry(req, buffer.data() + used, size - used,
                                                      name.c_str(), &e.attr, next);
    if (need > size - used) return false;
    used += need;
    return true;
  };
  for (off_t dots = offset; dots < 2; ++dots) {
    fuse_entry_param e{};
    e.attr.st_mode = S_IFDIR;
    e.attr.st_ino = ino;
    if (!add(dots == 0 ? "." : "..", e, dots + 1)) break;
  }
  const NodeId after = offset < 2 ? 0 : static_cast<NodeId>(offset) - 2;
  const int limit = static_cast<int>(size / (plus ? 168 : 40)) + 1;
  const auto entries = drive.ReadFolder(static_cast<NodeId>(ino), after, limit, plus);
  if (!entries.ok()) return Fail(req, entries.error());
  bool full = false;
  for (const DirEntry& entry : *entries) {
    fuse_entry_param e{};
    if (entry.attributes_complete) {
      e = EntryOf(entry.attr);
    } else {
      e.attr.st_ino = static_cast<ino_t>(entry.attr.id);  // of a kind that a lookup will tell
    }
    full = full || !add(entry.name, e, static_cast<off_t>(entry.attr.id) + 2);
    if (full && plus && entry.attributes_complete) drive.Forget(entry.attr.id, 1);
  }
  fuse_reply_buf(req, buffer.data(), used);
}
void ReadDir(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, fuse_file_info*) {
  ReadDirAs(req, ino, size, offset, false);
}
void ReadDirPlus(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, fuse_file_info*) {
  ReadDirAs(req, ino, size, offset, true);
}

void StatFs(fuse_req_t req, fuse_ino_t) {
  const auto space = DriveOf(req).SpaceOf();
  if (!space.ok()) return Fail(req, space.error());
  struct statvfs s {};
  s.f_bsize = s.f_frsize = 4096;
  s.f_blocks = space->on_disk / 4096;
  s.f_bfree = s.f_bavail = space->size / 4096;
  s.f_files = 1u << 30;
  s.f_ffree = s.f_favail = 1u << 29;
  s.f_namemax = kMaxName;
  fuse_reply_statfs(req, &s);
}

constexpr const char* kStateName = "user.pargeter.state";
constexpr const char* kVersionName = "user.pargeter.version";
constexpr const char* kPlacementName = "user.pargeter.placement";
constexpr const char* kAskName = "user.pargeter.ask";

void ReplyValue(fuse_req_t req, const std::string& value, std::size_t size) {
  if (size == 0) {
    fuse_reply_xattr(req, value.size());
  } else if (value.size() > size) {
    fuse_reply_err(req, ERANGE);
  } else {
    fuse_reply_buf(req, value.data(), value.size());
  }
}

void GetXattr(fuse_req_t req, fuse_ino_t ino, const char* name, std::size_t size) {
  const std::string_view wanted(name);
  if (wanted.substr(0, 17) == "system.posix_acl_") {
    fuse_reply_err(req, EOPNOTSUPP);
    return;
  }
  if (wanted != kStateName && wanted != kVersionName && wanted != kPlacementName) {
    fuse_reply_err(req, ENODATA);
    return;
  }
  const auto state = DriveOf(req).State(static_cast<NodeId>(ino));
  if (!state.ok()) return Fail(req, state.error());
  if (wanted == kVersionName && state->node.version.empty()) {
    fuse_reply_err(req, ENODATA);
    return;
  }
  ReplyValue(req,
             wanted == kStateName     ? state->state
             : wanted == kVersionName ? state->node.version
                                      : NameOf(state->node.effective),
             size);
}

void ListXattr(fuse_req_t req, fuse_ino_t ino, std::size_t size) {
  const auto state = DriveOf(req).State(static_cast<NodeId>(ino));
  if (!state.ok()) return Fail(req, state.error());
  std::string names = std::string(kStateName) + '\0' + kPlacementName + '\0';
  if (!state->node.version.empty()) names += std::string(kVersionName) + '\0';
  ReplyValue(req, names, size);
}

// Only what asks the drive for something: others would not reach the store.
void SetXattr(fuse_req_t req, fuse_ino_t ino, const char* name, const char* value, std::size_t size,
              int) {
  if (std::string_view(name) != kAskName) {
    fuse_reply_err(req, EOPNOTSUPP);
    return;
  }
  const std::string wish(value, size);
  Drive& drive = DriveOf(req);
  const auto id = static_cast<NodeId>(ino);
  Status done;
  if (wish == "evict") {
    const auto evicted = drive.Evict({id}, {});
    if (!evicted.ok()) done = evicted.error();
  } else if (wish == "fetch") {
    drive.BeginFetch({id});
  } else if (wish == "pin") {
    done = drive.Pin(id);
  } else if (wish == "unpin") {
    done = drive.Unpin(id);
  } else {
    done = Error(Code::kInvalid, "it can be asked to: evict fetch pin unpin");
  }
  Done(req, done);
}
void RemoveXattr(fuse_req_t req, fuse_ino_t, const char*) { fuse_reply_err(req, EOPNOTSUPP); }

void Fallocate(fuse_req_t req, fuse_ino_t, int mode, off_t offset, off_t length,
               fuse_file_info* fi) {
  Done(req, DriveOf(req).Allocate(FileOf(fi), mode, static_cast<std::uint64_t>(offset),
                                  static_cast<std::uint64_t>(length)));
}

void Lseek(fuse_req_t req, fuse_ino_t, off_t offset, int whence, fuse_file_info* fi) {
  const auto at =
      DriveOf(req).Seek(FileOf(fi), static_cast<std::uint64_t>(offset), whence == SEEK_HOLE);
  if (!at.ok()) {
    fuse_reply_err(req, ENXIO);
    return;
  }
  fuse_reply_lseek(req, static_cast<off_t>(*at));
}

void CopyFileRange(fuse_req_t req, fuse_ino_t, off_t in, fuse_file_info* fi_in, fuse_ino_t,
                   off_t out, fuse_file_info* fi_out, std::size_t size, int) {
  const auto n = DriveOf(req).CopyWhole(FileOf(fi_in), static_cast<std::uint64_t>(in),
                                        FileOf(fi_out), static_cast<std::uint64_t>(out), size);
  if (!n.ok()) return Fail(req, n.error());
  fuse_reply_write(req, *n);
}

// An exception of a library must not pass through libfuse's C frames.
template <auto Op, typename... Args>
void Guarded(fuse_req_t req, Args... args) noexcept {
  try {
    Op(req, args...);
  } catch (const std::bad_alloc&) {
    fuse_reply_err(req, ENOMEM);
  } catch (const std::exception& e) {
    Log(LogLevel::kError, "a file system call failed: {}", e.what());
    fuse_reply_err(req, EIO);
  }
}

template <auto Op>
struct Wrap;
template <typename... Args, void (*Op)(fuse_req_t, Args...)>
struct Wrap<Op> {
  static constexpr void (*value)(fuse_req_t, Args...) = &Guarded<Op, Args...>;
};

}  // namespace

const fuse_lowlevel_ops& StreamOperations() {
  static const fuse_lowlevel_ops ops = [] {
    fuse_lowlevel_ops o{};
    o.init = Init;
    o.lookup = Wrap<&Lookup>::value;
    o.forget = Wrap<&Forget>::value;
    o.forget_multi = Wrap<&ForgetMulti>::value;
    o.getattr = Wrap<&GetAttr>::value;
    o.setattr = Wrap<&SetAttr>::value;
    o.readlink = Wrap<&ReadLink>::value;
    o.mknod = Wrap<&MkNod>::value;
    o.mkdir = Wrap<&MkDir>::value;
    o.unlink = Wrap<&Unlink>::value;
    o.rmdir = Wrap<&RmDir>::value;
    o.symlink = Wrap<&SymLink>::value;
    o.rename = Wrap<&Rename>::value;
    o.link = Wrap<&Link>::value;
    o.open = Wrap<&Open>::value;
    o.create = Wrap<&Create>::value;
    o.read = Wrap<&Read>::value;
    o.write = Wrap<&Write>::value;
    o.flush = Wrap<&Flush>::value;
    o.release = Wrap<&Release>::value;
    o.fsync = Wrap<&Fsync>::value;
    o.opendir = Wrap<&OpenDir>::value;
    o.readdir = Wrap<&ReadDir>::value;
    o.readdirplus = Wrap<&ReadDirPlus>::value;
    o.fsyncdir = Wrap<&FsyncDir>::value;
    o.statfs = Wrap<&StatFs>::value;
    o.setxattr = Wrap<&SetXattr>::value;
    o.getxattr = Wrap<&GetXattr>::value;
    o.listxattr = Wrap<&ListXattr>::value;
    o.removexattr = Wrap<&RemoveXattr>::value;
    o.fallocate = Wrap<&Fallocate>::value;
    o.lseek = Wrap<&Lseek>::value;
    o.copy_file_range = Wrap<&CopyFileRange>::value;
    return o;
  }();
  return ops;
}

}  // namespace pargeter
