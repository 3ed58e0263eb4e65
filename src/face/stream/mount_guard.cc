#include "face/stream/mount_guard.h"

#include <fcntl.h>
#include <signal.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/vfs.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "base/file.h"
#include "base/log.h"

namespace pargeter {
namespace {

constexpr int kParentDied = SIGUSR1;
constexpr const char* kConnections = "/sys/fs/fuse/connections/";
constexpr long kConnectionsMagic = 0x65735543;  // statfs(2)

// What is written there ends all requests. It stays that of this connection, whatever gets its
// number later.
Fd AbortFileOf(const std::string& device) {
  const std::string file = device.substr(device.find(':') + 1) + "/abort";
  Fd fd(::open((kConnections + file).c_str(), O_WRONLY | O_CLOEXEC));
  if (fd || ::geteuid() != 0) return fd;
  // not mounted there, as in many containers: seen by nobody but us
  const Fd context(::fsopen("fusectl", FSOPEN_CLOEXEC));
  if (!context || ::fsconfig(context.get(), FSCONFIG_CMD_CREATE, nullptr, nullptr, 0) != 0)
    return {};
  const Fd folder(::fsmount(context.get(), FSMOUNT_CLOEXEC, 0));
  if (!folder) return {};
  return Fd(::openat(folder.get(), file.c_str(), O_WRONLY | O_CLOEXEC));
}

// After a fork amid threads only the kernel may be called.
[[noreturn]] void Watch(int abort_file, pid_t parent) {
  ::prctl(PR_SET_PDEATHSIG, kParentDied);
  ::prctl(PR_SET_NAME, "pargeter-guard");
  ::dup2(abort_file, 0);
  // above all the mount's own, and the locks
  if (::close_range(1, ~0u, 0) != 0 || ::chdir("/") != 0) ::_exit(1);
  sigset_t death;
  ::sigemptyset(&death);
  ::sigaddset(&death, kParentDied);
  siginfo_t told{};
  while (::getppid() == parent) {
    if (::sigwaitinfo(&death, &told) == kParentDied && told.si_pid == parent) break;
  }
  ::_exit(::write(0, "1", 1) == 1 ? 0 : 1);
}

void LogNoGuard(int number) {
  Log(LogLevel::kInfo, "nobody will end the requests of this mount if it is killed: {}",
      std::strerror(number));
}

}  // namespace

Status MountGuard::Check() {
  struct statfs folder {};  // the place is there without it
  if (::geteuid() == 0 ||
      (::statfs(kConnections, &folder) == 0 && folder.f_type == kConnectionsMagic))
    return {};
  return Error(
      Code::kUnsupported,
      "the kernel's folder of FUSE connections is not there: programs may wait for ever for "
      "a mount whose process is killed",
      "As root, at each boot: mount -t fusectl none /sys/fs/fuse/connections");
}

MountGuard::MountGuard(const std::string& device) {
  const Fd abort_file = AbortFileOf(device);
  if (!abort_file) {
    LogNoGuard(errno);
    return;
  }
  sigset_t all, before;
  ::sigfillset(&all);  // it outlives what ends a terminal's or a service's processes
  ::pthread_sigmask(SIG_SETMASK, &all, &before);
  const pid_t parent = ::getpid();
  pid_ = ::fork();
  if (pid_ == 0) Watch(abort_file.get(), parent);
  const int failed = pid_ < 0 ? errno : 0;
  ::pthread_sigmask(SIG_SETMASK, &before, nullptr);
  if (failed != 0) LogNoGuard(failed);
}

MountGuard::~MountGuard() {
  if (pid_ <= 0) return;
  ::kill(pid_, SIGKILL);
  while (::waitpid(pid_, nullptr, 0) < 0 && errno == EINTR) {
  }
}

}  // namespace pargeter
