#include "control/server.h"

#include <fcntl.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <system_error>
#include <utility>

#include "base/log.h"

namespace pargeter {

// Whoever may write to a socket's folder, or put another in its place, could answer instead of the
// drive. A folder of our own that is open to others is closed.
static Status CheckOnlyOurs(const std::string& folder) {
  const auto parent = folder.substr(0, std::max<std::size_t>(1, folder.rfind('/')));
  for (const std::string& part : {folder, parent}) {
    struct stat info {};
    // (a link there may be made to lead elsewhere)
    if ((part == folder ? ::lstat : ::stat)(part.c_str(), &info) != 0)
      return FromErrno(errno, "cannot look at " + part);
    bool sure = S_ISDIR(info.st_mode) && (info.st_uid == ::geteuid() || info.st_uid == 0);
    if (sure && part == folder && info.st_uid == ::geteuid() && (info.st_mode & 0077) != 0)
      sure = ::chmod(part.c_str(), 0700) == 0;
    else if ((info.st_mode & 0022) != 0)
      sure = sure && part == parent && (info.st_mode & S_ISVTX) != 0;
    if (!sure)
      return Error(Code::kPermission,
                   part + ", for the drive's control socket, may be changed by another user",
                   "Set XDG_RUNTIME_DIR to a folder of your own, or have that one removed.");
  }
  return {};
}

constexpr int kLookEveryMs = 3000;  // whether the socket is still there

Status ControlServer::Start(const std::string& path) {
  path_ = path;
  PG_TRY(Listen());
  int pipe_ends[2];
  if (::pipe2(pipe_ends, O_CLOEXEC) != 0) return FromErrno(errno, "cannot make a pipe");
  wake_read_ = Fd(pipe_ends[0]);
  wake_write_ = Fd(pipe_ends[1]);
  thread_ = std::thread([this] { Accept(); });
  return {};
}

Status ControlServer::Listen() {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  if (path_.size() >= sizeof(address.sun_path)) {
    return Error(Code::kInvalid, "the control socket's path is longer than 107 bytes: " + path_,
                 "Use a shorter XDG_RUNTIME_DIR.");
  }
  std::memcpy(address.sun_path, path_.c_str(), path_.size() + 1);
  const std::string folder = path_.substr(0, path_.rfind('/'));
  PG_TRY(MakeFolders(folder));
  PG_TRY(CheckOnlyOurs(folder));
  Fd fresh(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0));
  ::unlink(path_.c_str());
  if (::bind(fresh.get(), reinterpret_cast<sockaddr*>(&address), sizeof(address)) != 0 ||
      ::chmod(path_.c_str(), 0600) != 0 || ::listen(fresh.get(), 16) != 0)
    return FromErrno(errno, "cannot make the control socket " + path_);
  listener_ = std::move(fresh);
  return {};
}

void ControlServer::Stop() {
  if (!thread_.joinable()) return;
  wake_write_.Reset();  // everyone's poll sees the end of the pipe
  thread_.join();
  std::list<Connection> connections;
  {
    const Lock lock(mutex_);
    connections.swap(connections_);
  }
  for (Connection& connection : connections) connection.thread.join();
  ::unlink(path_.c_str());
}

void ControlServer::Accept() {
  bool told = false;
  for (;;) {
    pollfd fds[2] = {{listener_.get(), POLLIN, 0}, {wake_read_.get(), POLLIN, 0}};
    if (::poll(fds, 2, kLookEveryMs) < 0 && errno != EINTR) return;
    if (fds[1].revents != 0) return;
    if ((fds[0].revents & POLLIN) == 0) {
      if (::access(path_.c_str(), F_OK) == 0 || errno != ENOENT) continue;
      const Status again = Listen();
      if (!again.ok() && !std::exchange(told, true))
        LogLine(LogLevel::kWarning, "the control socket is gone: " + again.error().what);
      continue;
    }
    Fd fd(::accept4(listener_.get(), nullptr, nullptr, SOCK_CLOEXEC));
    if (!fd) {  // whoever asks is still there at the next poll: without this that would spin
      if (errno == EMFILE || errno == ENFILE || errno == ENOMEM || errno == ENOBUFS)
        ::poll(&fds[1], 1, 100);
      continue;
    }
    ucred peer{};
    socklen_t size = sizeof(peer);
    const bool known = ::getsockopt(fd.get(), SOL_SOCKET, SO_PEERCRED, &peer, &size) == 0;
    if (known && (peer.uid == ::geteuid() || peer.uid == 0)) Welcome(std::move(fd));
  }
}

void ControlServer::Welcome(Fd fd) {
  const Lock lock(mutex_);
  // A thread that has ended keeps its stack until it is joined.
  for (auto c = connections_.begin(); c != connections_.end();) {
    const bool ended = c->ended;
    if (ended) c->thread.join();
    c = ended ? connections_.erase(c) : std::next(c);
  }
  Connection& connection = connections_.emplace_back();
  try {
    connection.thread = std::thread([this, &connection, raw = fd.get()] {
      Serve(Fd(raw));
      connection.ended = true;
    });
    fd.Release();
  } catch (const std::system_error& e) {  // no thread to be had: whoever asks sees the end
    connections_.pop_back();
    LogLine(LogLevel::kWarning, std::string("a command cannot be answered: ") + e.what());
  }
}

void ControlServer::Serve(Fd fd) {
  std::string pending;
  for (;;) {
    const auto end = pending.find('\n');
    if (end == std::string::npos) {
      pollfd fds[2] = {{fd.get(), POLLIN, 0}, {wake_read_.get(), POLLIN, 0}};
      if (::poll(fds, 2, -1) < 0 && errno != EINTR) return;
      if (fds[1].revents != 0) return;
      char buffer[65536];
      const ssize_t n = ::recv(fd.get(), buffer, sizeof(buffer), MSG_DONTWAIT);
      if (n == 0 || (n < 0 && errno != EAGAIN && errno != EINTR)) return;
      if (n > 0) pending.append(buffer, static_cast<std::size_t>(n));
      if (pending.size() > (1u << 20)) return;  // no request of ours is so long
      continue;
    }
    const std::string line = pending.substr(0, end);
    pending.erase(0, end + 1);
    if (!Send(fd.get(), Answer(line, fd.get()))) return;
  }
}

std::string ControlServer::Answer(const std::string& line, int fd) {
  const auto request = ParseRequest(line);
  if (!request.ok()) return ErrorLine(nullptr, request.error());
  try {
    const auto gone = [fd] {
      pollfd hung_up{fd, POLLRDHUP, 0};
      return ::poll(&hung_up, 1, 0) > 0 && (hung_up.revents & (POLLRDHUP | POLLHUP | POLLERR)) != 0;
    };
    const Result<Json> result = handler_(request->method, request->params, gone);
    return result.ok() ? ResultLine(request->id, *result) : ErrorLine(request->id, result.error());
  } catch (const std::system_error& e) {
    return ErrorLine(request->id, Error(Code::kTooMany, std::string("the drive has no thread for "
                                                                    "that: ") +
                                                            e.what()));
  } catch (const std::exception& e) {  // a parameter of another type, for example
    return ErrorLine(request->id, Error(Code::kInvalid, std::string("the request cannot be "
                                                                    "understood: ") +
                                                            e.what()));
  }
}

bool ControlServer::Send(int fd, const std::string& answer) {
  for (std::size_t at = 0; at < answer.size();) {
    const ssize_t n =
        ::send(fd, answer.data() + at, answer.size() - at, MSG_NOSIGNAL | MSG_DONTWAIT);
    if (n > 0) {
      at += static_cast<std::size_t>(n);
      continue;
    }
    if (n < 0 && errno != EINTR && errno != EAGAIN) return false;
    pollfd taken{fd, POLLOUT, 0};
    if (::poll(&taken, 1, static_cast<int>(patience_.count())) == 0) return false;
  }
  return true;
}

}  // namespace pargeter
