#include "face/stream/operations.h"

#include <sys/xattr.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/file.h"
#include "base/text.h"
#include "face/stream/replies.h"

namespace pargeter {
namespace {

// renameat2's flags, from linux/fs.h
constexpr unsigned kNoReplace = 1;

OpenFilePtr FileOf(const fuse_file_info* fi) {
  return fi == nullptr || fi->fh == 0 ? nullptr : OpenHandles::FileOf(fi->fh);
}

void ReplyEntry(fuse_req_t req, const Place& at, const Result<Attr>& attr) {
  if (!attr.ok()) return Fail(req, attr.error());
  const fuse_entry_param e = EntryOf(at, *attr);
  if (fuse_reply_entry(req, &e) != 0) at.drive->Forget(attr->id, 1);
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
  conn->max_background = kMostReads;
  conn->congestion_threshold = kMostReads * 3 / 4;
  conn->time_gran = 1;
}

void Lookup(fuse_req_t req, fuse_ino_t parent, const char* name) {
  const Place at = At(req, parent);
  const auto attr = at.drive->Lookup(at.id, name);
  if (!attr.ok() && attr.error().code == Code::kNotFound) {
    fuse_entry_param nothing{};
    nothing.entry_timeout = kNothingThereSeconds;
    fuse_reply_entry(req, &nothing);
    return;
  }
  ReplyEntry(req, at, attr);
}

void Forget(fuse_req_t req, fuse_ino_t ino, std::uint64_t count) {
  const Place at = At(req, ino);
  at.drive->Forget(at.id, count);
  fuse_reply_none(req);
}

void ForgetMulti(fuse_req_t req, std::size_t count, fuse_forget_data* forgets) {
  for (std::size_t i = 0; i < count; ++i) {
    const Place at = At(req, forgets[i].ino);
    if (at.drive != nullptr) at.drive->Forget(at.id, forgets[i].nlookup);
  }
  fuse_reply_none(req);
}

void GetAttr(fuse_req_t req, fuse_ino_t ino, fuse_file_info*) {
  const Place at = At(req, ino);
  const auto attr = at.drive->GetAttr(at.id, fuse_req_ctx(req)->uid);
  if (!attr.ok()) return Fail(req, attr.error());
  const struct stat s = StatOf(at, *attr);
  fuse_reply_attr(req, &s, kAttributeSeconds);
}

void SetAttr(fuse_req_t req, fuse_ino_t ino, struct stat* to, int set, fuse_file_info* fi) {
  const Place at = At(req, ino);
  AttrChange change;
  if (set & FUSE_SET_ATTR_MODE) change.mode = to->st_mode & 07777;
  if (set & FUSE_SET_ATTR_UID) change.uid = to->st_uid;
  if (set & FUSE_SET_ATTR_GID) change.gid = to->st_gid;
  if (set & FUSE_SET_ATTR_SIZE) change.size = static_cast<std::uint64_t>(to->st_size);
  if (set & FUSE_SET_ATTR_MTIME)
    change.mtime = to->st_mtim.tv_sec * 1'000'000'000 + to->st_mtim.tv_nsec;
  if (set & FUSE_SET_ATTR_MTIME_NOW) change.mtime = SystemClock().Wall();
  if (set & FUSE_SET_ATTR_ATIME)
    change.atime = to->st_atim.tv_sec * 1'000'000'000 + to->st_atim.tv_nsec;
  if (set & FUSE_SET_ATTR_ATIME_NOW) change.atime = SystemClock().Wall();
  const auto attr = at.drive->SetAttr(at.id, change, FileOf(fi));
  if (!attr.ok()) return Fail(req, attr.error());
  const struct stat s = StatOf(at, *attr);
  fuse_reply_attr(req, &s, kAttributeSeconds);
}

void ReadLink(fuse_req_t req, fuse_ino_t ino) {
  const Place at = At(req, ino);
  const auto target = at.drive->ReadSymlink(at.id);
  if (!target.ok()) return Fail(req, target.error());
  fuse_reply_readlink(req, target->c_str());
}

void MkNod(fuse_req_t req, fuse_ino_t parent, const char* name, mode_t mode, dev_t) {
  const Place at = At(req, parent);
  if (!S_ISREG(mode)) {  // no store can hold devices, pipes and sockets
    fuse_reply_err(req, EPERM);
    return;
  }
  Drive& drive = *at.drive;
  const fuse_ctx* ctx = fuse_req_ctx(req);
  auto opened = drive.Create(at.id, name, mode, ctx->uid, ctx->gid, true);
  if (!opened.ok()) return Fail(req, opened.error());
  drive.Release(opened->file);
  ReplyEntry(req, at, opened->attr);
}

void MkDir(fuse_req_t req, fuse_ino_t parent, const char* name, mode_t mode) {
  const Place at = At(req, parent);
  const fuse_ctx* ctx = fuse_req_ctx(req);
  ReplyEntry(req, at, at.drive->MakeFolder(at.id, name, mode, ctx->uid, ctx->gid));
}

void Unlink(fuse_req_t req, fuse_ino_t parent, const char* name) {
  const Place at = At(req, parent);
  Done(req, at.drive->Unlink(at.id, name));
}

void RmDir(fuse_req_t req, fuse_ino_t parent, const char* name) {
  const Place at = At(req, parent);
  const Status removed = at.drive->RemoveFolder(at.id, name);
  Done(req, removed);
}

void SymLink(fuse_req_t req, const char* target, fuse_ino_t parent, const char* name) {
  const Place at = At(req, parent);
  const fuse_ctx* ctx = fuse_req_ctx(req);
  ReplyEntry(req, at, at.drive->MakeSymlink(at.id, name, target, ctx->uid, ctx->gid));
}

void Rename(fuse_req_t req, fuse_ino_t parent, const char* name, fuse_ino_t new_parent,
            const char* new_name, unsigned flags) {
  const Place at = At(req, parent);
  if (flags & ~kNoReplace) {  // an exchange would be two moves that can fail half-way
    fuse_reply_err(req, EINVAL);
    return;
  }
  const Place to = At(req, new_parent);
  if (to.drive != at.drive) {  // as between two file systems: whoever moves copies, then deletes
    fuse_reply_err(req, EXDEV);
    return;
  }
  Done(req, at.drive->Rename(at.id, name, to.id, new_name,
                             flags & kNoReplace ? Drive::Replace::kNo : Drive::Replace::kYes));
}

void Link(fuse_req_t req, fuse_ino_t, fuse_ino_t, const char*) { fuse_reply_err(req, EPERM); }

void Keep(fuse_req_t req, Drive* drive, const OpenFilePtr& file, fuse_file_info* fi) {
  const OpenMode mode = ModeFor(*file);
  fi->direct_io = mode.direct;
  fi->keep_cache = mode.keep_pages;
  fi->noflush = mode.no_flush;
  fi->fh = ShownOf(req).handles().Add(drive, file);
}

// The name of a program that is to be held back; "" for all others. A thread may bear a name of its
// own, so its process is looked at too.
std::string ShyProgram(Drive& drive, pid_t pid) {
  const auto name_of = [](const std::string& process) {
    const auto name = ReadFile("/proc/" + process + "/comm", 64);
    return name.ok() ? std::string(Trim(*name)) : "";
  };
  const std::string own = name_of(std::to_string(pid));
  if (own.empty() || drive.IsCrawler(own)) return own;
  const auto status = ReadFile("/proc/" + std::to_string(pid) + "/status", 1 << 16);
  if (!status.ok()) return "";
  for (const std::string& line : Split(*status, '\n')) {
    if (line.compare(0, 5, "Tgid:") != 0) continue;
    const std::string leader(Trim(std::string_view(line).substr(5)));
    if (leader == std::to_string(pid)) return "";
    const std::string name = name_of(leader);
    return drive.IsCrawler(name) ? name : "";
  }
  return "";
}

void Open(fuse_req_t req, fuse_ino_t ino, fuse_file_info* fi) {
  const Place at = At(req, ino);
  const bool writes = (fi->flags & O_ACCMODE) != O_RDONLY;
  const Drive::Intent intent = fi->flags & O_TRUNC ? Drive::Intent::kTruncate
                               : writes            ? Drive::Intent::kWrite
                                                   : Drive::Intent::kRead;
  auto opened = at.drive->OpenNode(at.id, intent);
  if (!opened.ok()) return Fail(req, opened.error());
  // whoever may not fetch is asked for only where something would have to be fetched
  bool crawler = false;
  if (!writes && opened->attr.on_disk < opened->attr.size) {
    const std::string program = ShyProgram(*at.drive, fuse_req_ctx(req)->pid);
    crawler = !program.empty();
    if (crawler) at.drive->LimitCrawler(opened->file, program);
  }
  OpenHandles& handles = ShownOf(req).handles();  // gone with the request
  Keep(req, at.drive, opened->file, fi);
  if (crawler) fi->direct_io = 1;  // it may get less than it asks for, which a cached read may not
  // no release comes after a reply that did not arrive
  if (fuse_reply_open(req, fi) != 0) handles.Release(fi->fh);
}

void Create(fuse_req_t req, fuse_ino_t parent, const char* name, mode_t mode, fuse_file_info* fi) {
  const Place at = At(req, parent);
  const fuse_ctx* ctx = fuse_req_ctx(req);
  // it may be there: made by another since the kernel has looked
  const auto intent = fi->flags & O_TRUNC ? Drive::Intent::kTruncate : Drive::Intent::kWrite;
  auto opened =
      at.drive->Create(at.id, name, mode, ctx->uid, ctx->gid, (fi->flags & O_EXCL) != 0, intent);
  if (!opened.ok()) return Fail(req, opened.error());
  OpenHandles& handles = ShownOf(req).handles();
  Keep(req, at.drive, opened->file, fi);
  const fuse_entry_param e = EntryOf(at, opened->attr);
  if (fuse_reply_create(req, &e, fi) != 0) {
    at.drive->Forget(opened->attr.id, 1);
    handles.Release(fi->fh);
  }
}

void Read(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, fuse_file_info* fi) {
  const Place at = At(req, ino);
  // one buffer for each thread, kept: a request is at most 1 MiB
  thread_local std::string buffer;
  if (buffer.size() < size) buffer.resize(size);
  const auto n =
      at.drive->Read(FileOf(fi), buffer.data(), size, static_cast<std::uint64_t>(offset));
  if (!n.ok()) return Fail(req, n.error());
  fuse_reply_buf(req, buffer.data(), *n);
}

void Write(fuse_req_t req, fuse_ino_t ino, const char* data, std::size_t size, off_t offset,
           fuse_file_info* fi) {
  const Place at = At(req, ino);
  const Status wrote = at.drive->Write(FileOf(fi), std::string_view(data, size),
                                       static_cast<std::uint64_t>(offset), false);
  if (!wrote.ok()) return Fail(req, wrote.error());
  // after what goes through its pages the kernel asks for it
  if ((fi->flags & O_DSYNC) && FileOf(fi)->mixed_versions) {
    const Status synced = at.drive->Fsync(FileOf(fi));
    if (!synced.ok()) return Fail(req, synced.error());
  }
  fuse_reply_write(req, size);
}

void Flush(fuse_req_t req, fuse_ino_t ino, fuse_file_info* fi) {
  const Place at = At(req, ino);
  Done(req, at.drive->Flush(FileOf(fi)));
}
void Fsync(fuse_req_t req, fuse_ino_t ino, int, fuse_file_info* fi) {
  const Place at = At(req, ino);
  Done(req, at.drive->Fsync(FileOf(fi)));
}

void Release(fuse_req_t req, fuse_ino_t, fuse_file_info* fi) {
  ShownOf(req).handles().Release(fi->fh);
  fuse_reply_err(req, 0);
}

void OpenDir(fuse_req_t req, fuse_ino_t ino, fuse_file_info* fi) {
  const Place at = At(req, ino);
  const Status opened = at.drive->OpenFolder(at.id);
  if (!opened.ok()) return Fail(req, opened.error());
  fi->fh = 0;
  fuse_reply_open(req, fi);
}
void FsyncDir(fuse_req_t req, fuse_ino_t ino, int, fuse_file_info*) {
  Done(req, At(req, ino).drive->FsyncFolder());
}

void ReadDirAs(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, bool plus) {
  const Place at = At(req, ino);
  Drive& drive = *at.drive;
  DirReply reply(req, size, plus);
  reply.AddDots(ino, offset);
  const NodeId after = offset < 2 ? 0 : static_cast<NodeId>(offset) - 2;
  const int limit = static_cast<int>(size / (plus ? 168 : 40)) + 1;
  const auto entries = drive.ReadFolder(at.id, after, limit, plus);
  if (!entries.ok()) return Fail(req, entries.error());
  bool full = false;
  for (const DirEntry& entry : *entries) {
    fuse_entry_param e{};
    if (entry.attributes_complete) {
      e = EntryOf(at, entry.attr);
    } else {
      e.attr.st_ino = at.InodeOf(entry.attr.id);  // of a kind that a lookup will tell
    }
    full = full || !reply.Add(entry.name, e, static_cast<off_t>(entry.attr.id) + 2);
    if (full && plus && entry.attributes_complete) drive.Forget(entry.attr.id, 1);
  }
  reply.Send();
}
void ReadDir(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, fuse_file_info*) {
  ReadDirAs(req, ino, size, offset, false);
}
void ReadDirPlus(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, fuse_file_info*) {
  ReadDirAs(req, ino, size, offset, true);
}

void StatFs(fuse_req_t req, fuse_ino_t ino) {
  const Place at = At(req, ino);
  const auto space = at.drive->SpaceOf();
  if (!space.ok()) return Fail(req, space.error());
  ReplySpace(req, space->on_disk, space->size);
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
  const Place at = At(req, ino);
  const std::string_view wanted(name);
  if (wanted.substr(0, 17) == "system.posix_acl_") {
    fuse_reply_err(req, EOPNOTSUPP);
    return;
  }
  if (wanted != kStateName && wanted != kVersionName && wanted != kPlacementName) {
    fuse_reply_err(req, ENODATA);
    return;
  }
  const auto state = at.drive->State(at.id);
  if (!state.ok()) return Fail(req, state.error());
  if (wanted == kVersionName && state->node.remote.version.empty()) {
    fuse_reply_err(req, ENODATA);
    return;
  }
  ReplyValue(req,
             wanted == kStateName     ? state->state
             : wanted == kVersionName ? state->node.remote.version
                                      : NameOf(state->node.effective),
             size);
}

// None: what copies attributes along would leave ours on the copy, where they say nothing, and
// could not set them here.
void ListXattr(fuse_req_t req, fuse_ino_t, std::size_t size) { ReplyValue(req, "", size); }

// Only what asks the drive for something: others would not reach the store.
void SetXattr(fuse_req_t req, fuse_ino_t ino, const char* name, const char* value, std::size_t size,
              int) {
  const Place at = At(req, ino);
  if (std::string_view(name) != kAskName) {
    fuse_reply_err(req, EOPNOTSUPP);
    return;
  }
  const std::string wish(value, size);
  Drive& drive = *at.drive;
  const auto id = at.id;
  Status done;
  if (wish == "evict") {
    const auto evicted = drive.Evict({id}, {});
    if (!evicted.ok())
      done = evicted.error();
    else if (evicted->files == 0 && evicted->pending > 0)
      done = Error(Code::kBusy, "it waits for upload");
    else if (evicted->files == 0 && evicted->kept > 0)
      done = Error(Code::kRefused, "it is pinned, or a rule keeps it here");
  } else if (wish == "fetch") {
    if (const auto begun = drive.BeginFetch({id}); !begun.ok()) done = begun.error();
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

void Fallocate(fuse_req_t req, fuse_ino_t ino, int mode, off_t offset, off_t length,
               fuse_file_info* fi) {
  const Place at = At(req, ino);
  Done(req, at.drive->Allocate(FileOf(fi), mode, static_cast<std::uint64_t>(offset),
                               static_cast<std::uint64_t>(length)));
}

void Lseek(fuse_req_t req, fuse_ino_t ino, off_t offset, int whence, fuse_file_info* fi) {
  const Place at = At(req, ino);
  const auto found =
      at.drive->Seek(FileOf(fi), static_cast<std::uint64_t>(offset), whence == SEEK_HOLE);
  if (!found.ok()) {
    fuse_reply_err(req, ENXIO);
    return;
  }
  fuse_reply_lseek(req, static_cast<off_t>(*found));
}

void CopyFileRange(fuse_req_t req, fuse_ino_t ino, off_t in, fuse_file_info* fi_in, fuse_ino_t into,
                   off_t out, fuse_file_info* fi_out, std::size_t size, int) {
  const Place at = At(req, ino);
  if (At(req, into).drive != at.drive) {
    fuse_reply_err(req, EXDEV);
    return;
  }
  const auto n = at.drive->CopyWhole(FileOf(fi_in), static_cast<std::uint64_t>(in), FileOf(fi_out),
                                     static_cast<std::uint64_t>(out), size);
  if (!n.ok()) return Fail(req, n.error());
  fuse_reply_write(req, *n);
}

// -- the root over several drives: what is not among these is refused there

void TopLookup(fuse_req_t req, fuse_ino_t, const char* name) {
  const auto folder = ShownOf(req).Find(name);
  if (!folder) {
    fuse_entry_param nothing{};
    nothing.entry_timeout = kNothingThereSeconds;
    fuse_reply_entry(req, &nothing);
    return;
  }
  ReplyEntry(req, folder->root, folder->root.drive->GetAttr(kRootId));
}

void TopGetAttr(fuse_req_t req, fuse_ino_t ino, fuse_file_info*) {
  if (ino != Shown::kTop) {
    fuse_reply_err(req, ESTALE);
    return;
  }
  const struct stat s = StatOf({}, ShownOf(req).TopAttr());
  fuse_reply_attr(req, &s, kAttributeSeconds);
}

void TopOpenDir(fuse_req_t req, fuse_ino_t, fuse_file_info* fi) { fuse_reply_open(req, fi); }
void TopFsyncDir(fuse_req_t req, fuse_ino_t, int, fuse_file_info*) { fuse_reply_err(req, 0); }

void TopReadDirAs(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, bool plus) {
  DirReply reply(req, size, plus);
  reply.AddDots(ino, offset);
  for (const Shown::Folder& folder :
       ShownOf(req).After(offset < 2 ? 0 : static_cast<std::uint64_t>(offset) - 2)) {
    const auto attr = folder.root.drive->GetAttr(kRootId);  // roots are known for ever
    if (!attr.ok()) continue;
    if (!reply.Add(folder.name, EntryOf(folder.root, *attr),
                   static_cast<off_t>(folder.root.base >> kSlotShift) + 2))
      break;
  }
  reply.Send();
}
void TopReadDir(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset, fuse_file_info*) {
  TopReadDirAs(req, ino, size, offset, false);
}
void TopReadDirPlus(fuse_req_t req, fuse_ino_t ino, std::size_t size, off_t offset,
                    fuse_file_info*) {
  TopReadDirAs(req, ino, size, offset, true);
}

// As much as all of them hold, and room for what fits into one of them.
void TopStatFs(fuse_req_t req, fuse_ino_t) {
  std::uint64_t all = 0, free = 0;
  for (const Shown::Folder& folder : ShownOf(req).After(0)) {
    const auto space = folder.root.drive->SpaceOf();
    if (!space.ok()) continue;
    all = std::max(all, space->on_disk);
    free = std::max(free, space->size);
  }
  ReplySpace(req, all, free);
}

void TopGetXattr(fuse_req_t req, fuse_ino_t, const char*, std::size_t) {
  fuse_reply_err(req, ENODATA);
}
void TopForget(fuse_req_t req, fuse_ino_t, std::uint64_t) { fuse_reply_none(req); }

constexpr auto kRefused = [](fuse_req_t req, auto...) { fuse_reply_err(req, EACCES); };

inline fuse_ino_t InodeIn(fuse_ino_t ino, ...) { return ino; }
inline fuse_ino_t InodeIn(const char*, fuse_ino_t parent, const char*) { return parent; }

// To the drive that the inode is of, or the root over all. An exception of a library must not pass
// through libfuse's C frames.
template <auto Op, auto OnTop, typename... Args>
void Guarded(fuse_req_t req, Args... args) noexcept {
  try {
    if (At(req, InodeIn(args...)).drive != nullptr) {
      Op(req, args...);
    } else {
      OnTop(req, args...);
    }
  } catch (const std::bad_alloc&) {
    fuse_reply_err(req, ENOMEM);
  } catch (const std::exception& e) {
    Log(LogLevel::kError, "a file system call failed: {}", e.what());
    fuse_reply_err(req, EIO);
  }
}

template <auto Op, auto OnTop = kRefused>
struct Wrap;
template <typename... Args, void (*Op)(fuse_req_t, Args...), auto OnTop>
struct Wrap<Op, OnTop> {
  static constexpr void (*value)(fuse_req_t, Args...) = &Guarded<Op, OnTop, Args...>;
};

}  // namespace

const fuse_lowlevel_ops& StreamOperations() {
  static const fuse_lowlevel_ops ops = [] {
    fuse_lowlevel_ops o{};
    o.init = Init;
    o.lookup = Wrap<&Lookup, &TopLookup>::value;
    o.forget = Wrap<&Forget, &TopForget>::value;
    o.forget_multi = ForgetMulti;
    o.getattr = Wrap<&GetAttr, &TopGetAttr>::value;
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
    o.opendir = Wrap<&OpenDir, &TopOpenDir>::value;
    o.readdir = Wrap<&ReadDir, &TopReadDir>::value;
    o.readdirplus = Wrap<&ReadDirPlus, &TopReadDirPlus>::value;
    o.fsyncdir = Wrap<&FsyncDir, &TopFsyncDir>::value;
    o.statfs = Wrap<&StatFs, &TopStatFs>::value;
    o.setxattr = Wrap<&SetXattr>::value;
    o.getxattr = Wrap<&GetXattr, &TopGetXattr>::value;
    o.listxattr = Wrap<&ListXattr, &ListXattr>::value;
    o.removexattr = Wrap<&RemoveXattr>::value;
    o.fallocate = Wrap<&Fallocate>::value;
    o.lseek = Wrap<&Lseek>::value;
    o.copy_file_range = Wrap<&CopyFileRange>::value;
    return o;
  }();
  return ops;
}

}  // namespace pargeter
