#include "support/process.h"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <utility>

namespace pargeter::test {
namespace {

using Time = std::chrono::steady_clock;

int MillisLeft(Time::time_point until) {
  const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Time::now());
  return left.count() < 0 ? 0 : static_cast<int>(left.count());
}

pid_t Spawn(const std::vector<std::string>& command,
            const std::map<std::string, std::string>& environment, int in, int out, int err) {
  const pid_t pid = ::fork();
  if (pid != 0) return pid;
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  ::setpgid(0, 0);
  ::dup2(in, 0);
  ::dup2(out, 1);
  ::dup2(err, 2);
  for (int fd = 3; fd < 256; ++fd) ::close(fd);
  sigset_t none;
  sigemptyset(&none);
  sigprocmask(SIG_SETMASK, &none, nullptr);
  for (const auto& [name, value] : environment) ::setenv(name.c_str(), value.c_str(), 1);
  std::vector<char*> argv;
  for (const std::string& word : command) argv.push_back(const_cast<char*>(word.c_str()));
  argv.push_back(nullptr);
  ::execvp(argv[0], argv.data());
  ::_exit(127);
}

int CodeOf(int status) {
  return WIFSIGNALED(status) ? 128 + WTERMSIG(status) : WEXITSTATUS(status);
}

// Waits without a signal handler: a poll on the process's descriptor.
bool WaitPid(pid_t pid, int* status, Time::time_point until) {
  for (;;) {
    if (::waitpid(pid, status, WNOHANG) == pid) return true;
    if (Time::now() >= until) return false;
    ::poll(nullptr, 0, 5);
  }
}

}  // namespace

const std::string& QuickFolder() {
  static const std::string found = [] {
    const std::string memory = "/dev/shm";
    std::error_code failed;
    const auto room = std::filesystem::space(memory, failed);
    if (failed || room.available < (1ull << 30)) return std::string("/tmp");
    const TemporaryFolder trial(memory);
    const bool keeps = ::setxattr(trial.path().c_str(), "user.trial", "1", 1, 0) == 0;
    return keeps ? memory : std::string("/tmp");
  }();
  return found;
}

TemporaryFolder::TemporaryFolder(const std::string& below)
    : path_(below + "/pargeter-test-XXXXXX") {
  if (::mkdtemp(path_.data()) == nullptr) std::abort();
}

TemporaryFolder::~TemporaryFolder() {
  std::error_code ec;
  std::filesystem::remove_all(path_, ec);
}

Outcome RunCommand(const std::vector<std::string>& command, const std::string& input, int seconds,
                   const std::map<std::string, std::string>& environment) {
  const auto until = Time::now() + std::chrono::seconds(seconds);
  int in[2], out[2], err[2];
  if (::pipe2(in, O_CLOEXEC) || ::pipe2(out, O_CLOEXEC) || ::pipe2(err, O_CLOEXEC)) std::abort();
  const pid_t pid = Spawn(command, environment, in[0], out[1], err[1]);
  ::close(in[0]);
  ::close(out[1]);
  ::close(err[1]);
  if (!input.empty() && ::write(in[1], input.data(), input.size()) < 0) std::abort();
  ::close(in[1]);
  Outcome outcome;
  pollfd fds[2] = {{out[0], POLLIN, 0}, {err[0], POLLIN, 0}};
  std::string* texts[2] = {&outcome.out, &outcome.err};
  while ((fds[0].fd >= 0 || fds[1].fd >= 0) && ::poll(fds, 2, MillisLeft(until)) > 0) {
    for (int i = 0; i < 2; ++i) {
      if (fds[i].fd < 0 || fds[i].revents == 0) continue;
      char buffer[65536];
      const ssize_t n = ::read(fds[i].fd, buffer, sizeof(buffer));
      if (n > 0) texts[i]->append(buffer, static_cast<std::size_t>(n));
      if (n <= 0) fds[i].fd = -1;
    }
  }
  int status = 0;
  if (WaitPid(pid, &status, until)) {
    outcome.exit_code = CodeOf(status);
  } else {
    ::kill(-pid, SIGKILL);
    ::waitpid(pid, &status, 0);
    outcome.exit_code = 124;
  }
  ::close(out[0]);
  ::close(err[0]);
  return outcome;
}

Background::Background(const std::vector<std::string>& command,
                       const std::map<std::string, std::string>& environment,
                       const std::string& error_file) {
  int out[2];
  if (::pipe2(out, O_CLOEXEC)) std::abort();
  const int null = ::open("/dev/null", O_RDONLY | O_CLOEXEC);
  const int err = error_file.empty()
                      ? ::dup(2)
                      : ::open(error_file.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600);
  pid_ = Spawn(command, environment, null, out[1], err);
  ::close(out[1]);
  ::close(null);
  ::close(err);
  out_ = out[0];
}

Background& Background::operator=(Background&& other) noexcept {
  std::swap(pid_, other.pid_);
  std::swap(out_, other.out_);
  return *this;
}

Background::~Background() {
  if (pid_ > 0) {
    ::kill(pid_, SIGTERM);
    if (Wait(30) == 124) {
      ::kill(pid_, SIGKILL);
      Wait(10);
    }
  }
  if (out_ >= 0) ::close(out_);
}

std::string Background::ReadLine(int seconds) {
  const auto until = Time::now() + std::chrono::seconds(seconds);
  std::string line;
  pollfd fd{out_, POLLIN, 0};
  while (::poll(&fd, 1, MillisLeft(until)) > 0) {
    char c = 0;
    if (::read(out_, &c, 1) != 1 || c == '\n') break;
    line += c;
  }
  return line;
}

void Background::Signal(int number) const {
  if (pid_ > 0) ::kill(pid_, number);
}

int Background::Wait(int seconds) {
  if (pid_ <= 0) return -1;
  int status = 0;
  if (!WaitPid(pid_, &status, Time::now() + std::chrono::seconds(seconds))) return 124;
  pid_ = -1;
  return CodeOf(status);
}

std::string ReadAll(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

void WriteAll(const std::string& path, const std::string& content) {
  std::ofstream file(path, std::ios::binary);
  file << content;
}

std::string ProgramFolder() { return PARGETER_PROGRAM_FOLDER; }

}  // namespace pargeter::test
