#include "face/stream/session.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <pthread.h>
#include <signal.h>
#include <sys/mman.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstring>
#include <fstream>

#include "base/file.h"
#include "base/log.h"
#include "base/text.h"
#include "face/stream/mount_guard.h"
#include "face/stream/mount_point.h"
#include "face/stream/operations.h"

namespace pargeter {

struct StreamFace::Session {
  Shown* shown = nullptr;
  fuse_session* se = nullptr;
  std::string at;
  std::unique_ptr<MountGuard> guard;
  bool mounted = false;
  std::atomic<bool> serving{false};
  pthread_t server{};
};

namespace {
// Wakes the thread that serves.
int WakeSignal() { return SIGRTMIN; }

// libfuse and its helper say why they fail to standard error, of which a process in the background
// has none.
class Overheard {
 public:
  Overheard()
      : said_(::memfd_create("said", MFD_CLOEXEC)),
        before_(::fcntl(STDERR_FILENO, F_DUPFD_CLOEXEC, 3)) {
    if (said_.get() >= 0 && before_.get() >= 0) ::dup2(said_.get(), STDERR_FILENO);
  }
  ~Overheard() {
    if (before_.get() >= 0) ::dup2(before_.get(), STDERR_FILENO);
  }
  Overheard(const Overheard&) = delete;
  Overheard& operator=(const Overheard&) = delete;
  // The last line of it, "" if there was none.
  std::string Reason() const {
    std::string text(4096, '\0');
    const ssize_t n = ::pread(said_.get(), text.data(), text.size(), 0);
    text = std::string(Trim(text.substr(0, n > 0 ? static_cast<std::size_t>(n) : 0)));
    return Printable(text.substr(text.rfind('\n') + 1));
  }

 private:
  const Fd said_, before_;
};

Status MountSession(fuse_session* se, const std::string& at) {
  std::string reason;
  bool mounted = false;
  {
    const Overheard overheard;
    mounted = fuse_session_mount(se, at.c_str()) == 0;
    reason = overheard.Reason();
  }
  if (mounted) {
    if (!reason.empty()) Log(LogLevel::kWarning, "{}", reason);
    return {};
  }
  const bool may_not_share = reason.find("user_allow_other") != std::string::npos;
  return Error(
      Code::kPermission,
      fmt::format("the kernel refused the mount at {}{}{}", at, reason.empty() ? "" : ": ", reason),
      may_not_share ? "Add the line user_allow_other to /etc/fuse.conf, or do not share it."
                    : "An ordinary user needs fusermount3 (package fuse3).");
}
}  // namespace

Result<std::unique_ptr<StreamFace>> StreamFace::Mount(Shown* shown, const MountOptions& options) {
  auto face = std::unique_ptr<StreamFace>(new StreamFace());
  face->session_ = std::make_unique<Session>();
  Session& session = *face->session_;
  session.shown = shown;
  session.at = options.at;
  fuse_args args = FUSE_ARGS_INIT(0, nullptr);
  fuse_opt_add_arg(&args, "pargeter");
  std::string list =
      fmt::format("fsname={},subtype=pargeter,default_permissions,nosuid,nodev", options.name);
  if (options.read_only) list += ",ro";
  if (options.share_with_all) list += ",allow_other";
  fuse_opt_add_arg(&args, "-o");
  fuse_opt_add_arg(&args, list.c_str());
  session.se = fuse_session_new(&args, &StreamOperations(), sizeof(fuse_lowlevel_ops), shown);
  fuse_opt_free_args(&args);
  if (session.se == nullptr) return Error(Code::kInternal, "the FUSE session could not be made");
  PG_TRY(MountSession(session.se, options.at));
  session.mounted = true;
  // A larger read-ahead than the kernel's cap at the start makes cold reads twice as fast. Only
  // root may set it; without it everything works.
  for (const MountEntry& mount : ListMounts()) {
    if (mount.path != options.at || mount.type != "fuse.pargeter") continue;
    std::ofstream knob("/sys/class/bdi/" + mount.device + "/read_ahead_kb");
    knob << 4096;
    session.guard = std::make_unique<MountGuard>(mount.device);
  }
  return face;
}

StreamFace::~StreamFace() {
  if (session_->se == nullptr) return;
  if (session_->mounted) fuse_session_unmount(session_->se);
  fuse_session_destroy(session_->se);
}

Status StreamFace::Serve() {
  fuse_loop_config* config = fuse_loop_cfg_create();
  fuse_loop_cfg_set_clone_fd(config, 1);
  // a thread may wait for the store: there must be others
  fuse_loop_cfg_set_max_threads(config, kMostReads + 64);
  fuse_loop_cfg_set_idle_threads(config, 8);
  struct sigaction wake {};
  wake.sa_handler = [](int) {};
  ::sigaction(WakeSignal(), &wake, nullptr);
  session_->server = ::pthread_self();
  session_->serving = true;
  const int rc = fuse_session_loop_mt(session_->se, config);
  session_->guard.reset();
  session_->shown->handles().ReleaseAll();
  session_->serving = false;
  fuse_loop_cfg_destroy(config);
  if (rc < 0 && rc != -ENODEV) return FromErrno(-rc, "the FUSE session ended");
  return {};
}

Status StreamFace::Unmount(bool now) {
  PG_TRY(UnmountAt(session_->at, now ? Detach::kNow : Detach::kIfFree));
  session_->mounted = false;
  fuse_session_exit(session_->se);
  // The kernel ends the requests, and with them the threads that wait for one; not if a container
  // has a copy of the mount.
  for (int i = 0; session_->serving && i < 500; ++i) {
    if (i >= 50) ::pthread_kill(session_->server, WakeSignal());
    ::poll(nullptr, 0, 10);
  }
  return {};
}

void StreamFace::ContentChanged(InodeNumber inode) {
  fuse_lowlevel_notify_inval_inode(session_->se, inode, 0, 0);
}
void StreamFace::AttributesChanged(InodeNumber inode) {
  fuse_lowlevel_notify_inval_inode(session_->se, inode, -1, 0);
}
void StreamFace::NameChanged(InodeNumber parent, const std::string& name) {
  fuse_lowlevel_notify_inval_entry(session_->se, parent, name.c_str(), name.size());
}

}  // namespace pargeter
