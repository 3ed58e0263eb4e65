#include "services.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <grp.h>
#include <poll.h>
#include <pwd.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>

#include "base/file.h"
#include "base/text.h"
#include "service/manager.h"

namespace pargeter::app {

namespace {
constexpr int kLongest = 700000;  // ms: stopping a service may wait for uploads
}  // namespace

std::string UserName(unsigned uid) {
  const passwd* entry = ::getpwuid(uid);
  return entry == nullptr ? std::to_string(uid) : entry->pw_name;
}

UnitPlaces UserPlaces(const World& world) { return PlacesOf(Scope::kUser, world.config_home); }

std::optional<Starting> StartOf(const World& world, const std::string& drive) {
  for (const UnitPlaces& places : {PlacesOf(Scope::kSystem, ""), UserPlaces(world)}) {
    if (!StartsByItself(places, drive)) continue;
    for (const ServiceSpec& service : InstalledServices(places)) {
      if (service.drive != drive || service.state_dir != world.paths.state_dir) continue;
      const bool boot = places.scope == Scope::kSystem || Lingers(UserName(::geteuid()));
      return Starting{places.scope, boot ? "at boot" : "at sign-in"};
    }
  }
  return std::nullopt;
}

Status AsUser(const std::string& user, const std::function<Status()>& work) {
  const passwd* entry = ::getpwnam(user.c_str());
  if (entry == nullptr)
    return Error(Code::kNotFound, fmt::format("there is no user {}", Printable(user)));
  if (entry->pw_uid == ::geteuid()) return work();
  const uid_t uid = entry->pw_uid;
  const gid_t gid = entry->pw_gid;
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) return FromErrno(errno, "cannot make a pipe");
  Fd reading(ends[0]), writing(ends[1]);
  std::fflush(nullptr);
  const pid_t pid = ::fork();
  if (pid < 0) return FromErrno(errno, "cannot start a process");
  if (pid == 0) {
    Status done;
    if (::initgroups(user.c_str(), gid) != 0 || ::setgid(gid) != 0 || ::setuid(uid) != 0)
      done = FromErrno(errno, "cannot act as " + user);
    else
      done = work();
    const std::string text = done.ok() ? "ok" : PackError(done.error());
    const bool told = ::write(writing.get(), text.data(), text.size()) > 0;
    std::fflush(nullptr);
    ::_exit(told ? 0 : 1);
  }
  writing.Reset();
  std::string answer;
  pollfd fd{reading.get(), POLLIN, 0};
  char buffer[4096];
  while (::poll(&fd, 1, kLongest) > 0) {
    const ssize_t n = ::read(reading.get(), buffer, sizeof(buffer));
    if (n <= 0) break;
    answer.append(buffer, static_cast<std::size_t>(n));
  }
  int status = 0;
  while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  return answer == "ok" ? Status() : Status(UnpackError(answer));
}

}  // namespace pargeter::app
