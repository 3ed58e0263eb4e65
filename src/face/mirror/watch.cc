#include "face/mirror/watch.h"

#include <poll.h>
#include <sys/eventfd.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <set>

namespace pargeter {

namespace {

constexpr std::uint32_t kEvents = IN_CREATE | IN_DELETE | IN_MOVED_FROM | IN_MOVED_TO |
                                  IN_CLOSE_WRITE | IN_MODIFY | IN_ATTRIB | IN_ONLYDIR |
                                  IN_DONT_FOLLOW | IN_EXCL_UNLINK;

}  // namespace

Result<std::unique_ptr<DirectoryWatch>> DirectoryWatch::Begin(std::string at, Changed changed,
                                                              Lost lost) {
  auto out = std::unique_ptr<DirectoryWatch>(
      new DirectoryWatch(std::move(at), std::move(changed), std::move(lost)));
  out->inotify_ = Fd(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC));
  out->stop_ = Fd(::eventfd(0, EFD_CLOEXEC));
  if (!out->inotify_ || !out->stop_) return FromErrno(errno, "cannot watch the directory");
  out->thread_ = std::thread([self = out.get()] { self->Run(); });
  return out;
}

DirectoryWatch::~DirectoryWatch() {
  if (!thread_.joinable()) return;
  const std::uint64_t one = 1;
  if (::write(stop_.get(), &one, sizeof(one)) == sizeof(one)) thread_.join();
}

Status DirectoryWatch::Watch(const std::string& folder) {
  const std::string path = folder.empty() ? at_ : at_ + "/" + folder;
  const Lock lock(mutex_);
  const int watch = ::inotify_add_watch(inotify_.get(), path.c_str(), kEvents);
  if (watch < 0)
    return errno == ENOSPC ? Error(Code::kTooMany, "the system allows no more watches of folders",
                                   "Raise fs.inotify.max_user_watches.")
                           : FromErrno(errno, "cannot watch a folder");
  folders_[watch] = folder;
  return {};
}

void DirectoryWatch::Run() {
  alignas(inotify_event) char buffer[65536];
  for (;;) {
    pollfd waits[] = {{inotify_.get(), POLLIN, 0}, {stop_.get(), POLLIN, 0}};
    if (::poll(waits, 2, -1) < 0 && errno != EINTR) return;
    if (waits[1].revents != 0) return;
    const ssize_t n = ::read(inotify_.get(), buffer, sizeof(buffer));
    if (n > 0) Handle(buffer, static_cast<std::size_t>(n));
  }
}

void DirectoryWatch::Handle(const char* events, std::size_t size) {
  std::set<std::string> changed;
  bool lost = false;
  {
    const Lock lock(mutex_);
    for (std::size_t at = 0; at < size;) {
      inotify_event event;
      std::memcpy(&event, events + at, sizeof(event));
      at += sizeof(event) + event.len;
      if (event.mask & IN_Q_OVERFLOW) lost = true;
      const auto folder = folders_.find(event.wd);
      if (folder == folders_.end()) continue;
      changed.insert(folder->second);
      if (event.mask & IN_IGNORED) folders_.erase(folder);
    }
  }
  for (const std::string& folder : changed) changed_(folder);
  if (lost) lost_();
}

}  // namespace pargeter
