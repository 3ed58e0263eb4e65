#include "control/client.h"

#include <poll.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/file.h"

namespace pargeter {

static Error WentAway() {
  return Error(Code::kUnavailable, "the running drive went away before it answered",
               "See whether it still runs: pargeter status");
}

Result<std::optional<Json>> CallDrive(const std::string& socket, const std::string& method,
                                      const Json& params, Duration patience) {
  const Steady deadline = std::chrono::steady_clock::now() + patience;
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  if (socket.size() >= sizeof(address.sun_path))
    return Error(Code::kInvalid, "the control socket's path is too long");
  std::memcpy(address.sun_path, socket.c_str(), socket.size() + 1);
  const Error late(Code::kTimeout, "the running drive gave no answer in time",
                   "It was stopped, or waits for its disk. See: pargeter doctor");
  const Fd fd(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0));
  // A drive that was stopped accepts nobody: connecting would wait for ever, and so would sending.
  const auto ms = std::max<std::int64_t>(1, patience.count());  // 0 would be for ever
  const timeval longest{ms / 1000, ms % 1000 * 1000};
  ::setsockopt(fd.get(), SOL_SOCKET, SO_SNDTIMEO, &longest, sizeof(longest));
  if (::connect(fd.get(), reinterpret_cast<sockaddr*>(&address), sizeof(address)) != 0) {
    if (errno == ENOENT || errno == ECONNREFUSED) return std::optional<Json>();
    if (errno == EAGAIN) return late;
    return FromErrno(errno, "cannot reach the running drive");
  }
  ucred peer{};
  socklen_t size = sizeof(peer);
  if (::getsockopt(fd.get(), SOL_SOCKET, SO_PEERCRED, &peer, &size) != 0 ||
      (peer.uid != ::geteuid() && peer.uid != 0 && ::geteuid() != 0))
    return Error(
        Code::kPermission, "the socket " + socket + " is another user's",
        "Another user's process listens there, not the drive. Find out who made the socket.");
  const std::string line = RequestLine(1, method, params);
  for (std::size_t at = 0; at < line.size();) {
    const ssize_t n = ::send(fd.get(), line.data() + at, line.size() - at, MSG_NOSIGNAL);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0 && (errno == EPIPE || errno == ECONNRESET)) return WentAway();
    if (n < 0 && errno == EAGAIN) return late;
    if (n <= 0) return FromErrno(errno, "cannot ask the running drive");
    at += static_cast<std::size_t>(n);
  }
  std::string answer;
  for (;;) {
    const auto left =
        std::chrono::duration_cast<Duration>(deadline - std::chrono::steady_clock::now());
    pollfd poll_fd{fd.get(), POLLIN, 0};
    const int ready = ::poll(&poll_fd, 1, static_cast<int>(std::max<long>(0, left.count())));
    if (ready == 0) return late;
    char buffer[65536];
    const ssize_t n = ::recv(fd.get(), buffer, sizeof(buffer), MSG_DONTWAIT);
    if (n < 0 && (errno == EINTR || errno == EAGAIN)) continue;
    if (n <= 0) return WentAway();
    answer.append(buffer, static_cast<std::size_t>(n));
    if (answer.back() == '\n') {
      PG_ASSIGN(Json result, ParseAnswer(answer));
      return std::optional<Json>(std::move(result));
    }
    if (answer.size() > kMaxMessage)
      return Error(Code::kDamaged, "the running drive's answer has no end");
  }
}

}  // namespace pargeter
