// What is said back to the kernel, and for whom a request is.
#pragma once

#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <string>

#include "base/log.h"
#include "engine/api/naming.h"
#include "face/stream/operations.h"
#include "face/stream/policy.h"
#include "face/stream/shown.h"

namespace pargeter {

inline Shown& ShownOf(fuse_req_t req) { return *static_cast<Shown*>(fuse_req_userdata(req)); }
inline Place At(fuse_req_t req, fuse_ino_t ino) { return ShownOf(req).At(ino); }

inline void Fail(fuse_req_t req, const Error& error) {
  Log(LogLevel::kDebug, "answered {}: {}", NameOf(error.code), error.what);
  fuse_reply_err(req, ErrnoOf(error.code));
}
inline void Done(fuse_req_t req, const Status& status) {
  if (status.ok()) {
    fuse_reply_err(req, 0);
  } else {
    Fail(req, status.error());
  }
}

inline timespec TimeOf(Nanos t) {
  timespec out{};
  out.tv_sec = t / 1'000'000'000;
  out.tv_nsec = t % 1'000'000'000;
  if (out.tv_nsec < 0) {
    out.tv_nsec += 1'000'000'000;
    --out.tv_sec;
  }
  return out;
}

inline struct stat StatOf(const Place& at, const Attr& a) {
  constexpr std::uint32_t kBlock = 512;
  struct stat s {};
  s.st_ino = at.InodeOf(a.id);
  s.st_mode = a.mode | (a.kind == NodeKind::kFolder    ? S_IFDIR
                        : a.kind == NodeKind::kSymlink ? S_IFLNK
                                                       : S_IFREG);
  // (two of a folder would say that no folder is in it, and walks believe that; one says nothing)
  s.st_nlink = a.deleted ? 0 : 1;
  s.st_uid = a.uid;
  s.st_gid = a.gid;
  s.st_size = static_cast<off_t>(a.size);
  // one of none, if it is as large as that, is taken for zeros and not read by who looks for holes
  const std::uint64_t least = a.kind == NodeKind::kFile && a.size >= kBlock ? 1 : 0;
  s.st_blocks = static_cast<blkcnt_t>(std::max(least, (a.on_disk + kBlock - 1) / kBlock));
  s.st_blksize = 128 * 1024;
  s.st_mtim = TimeOf(a.mtime);
  s.st_atim = TimeOf(a.atime != 0 ? a.atime : a.mtime);
  s.st_ctim = TimeOf(a.ctime);
  return s;
}

inline fuse_entry_param EntryOf(const Place& at, const Attr& a) {
  fuse_entry_param e{};
  e.ino = at.InodeOf(a.id);
  e.attr = StatOf(at, a);
  e.attr_timeout = kAttributeSeconds;
  e.entry_timeout = kEntrySeconds;
  return e;
}

inline void ReplySpace(fuse_req_t req, std::uint64_t bytes, std::uint64_t free) {
  struct statvfs s {};
  s.f_bsize = s.f_frsize = 4096;
  s.f_blocks = bytes / 4096;
  s.f_bfree = s.f_bavail = free / 4096;
  s.f_files = 1u << 30;
  s.f_ffree = s.f_favail = 1u << 29;
  s.f_namemax = kMaxName;
  fuse_reply_statfs(req, &s);
}

// The names of a folder, as many as fit. Positions: 1 and 2 are behind "." and "..".
class DirReply {
 public:
  DirReply(fuse_req_t req, std::size_t size, bool plus)
      : req_(req), buffer_(size, '\0'), plus_(plus) {}
  // False: it did not fit, and nothing more does.
  bool Add(const std::string& name, const fuse_entry_param& e, off_t next) {
    char* at = buffer_.data() + used_;
    const std::size_t room = buffer_.size() - used_;
    const std::size_t need = plus_ ? fuse_add_direntry_plus(req_, at, room, name.c_str(), &e, next)
                                   : fuse_add_direntry(req_, at, room, name.c_str(), &e.attr, next);
    if (need > room) return false;
    used_ += need;
    return true;
  }
  void AddDots(fuse_ino_t ino, off_t offset) {
    for (off_t dots = offset; dots < 2; ++dots) {
      fuse_entry_param e{};
      e.attr.st_mode = S_IFDIR;
      e.attr.st_ino = ino;
      if (!Add(dots == 0 ? "." : "..", e, dots + 1)) return;
    }
  }
  void Send() { fuse_reply_buf(req_, buffer_.data(), used_); }

 private:
  fuse_req_t req_;
  std::string buffer_;
  std::size_t used_ = 0;
  const bool plus_;
};

}  // namespace pargeter
