// pargeter: mounts object storage, cloud drives and SFTP servers as folders.
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <cstdlib>
#include <string_view>
#include <system_error>

#include "base/log.h"
#include "base/text.h"
#include "command_line/command.h"
#include "command_line/manual.h"
#include "commands.h"
#include "world.h"

namespace pargeter::app {

namespace {

int Report(const Error& error) {
  fmt::print(stderr, "pargeter: {}\n", Printable(error.what));
  if (!error.remedy.empty()) fmt::print(stderr, "{}\n", Printable(error.remedy));
  return ExitCodeOf(error.code);
}

std::string Variable(const char* name) {
  const char* value = std::getenv(name);
  return value == nullptr ? "" : value;
}

// Prints what a shell can complete; words of a shell that does not wait for a long time.
int Complete(const Command& commands, const std::vector<std::string>& words) {
  const auto paths = ResolvePaths(Variable, ::geteuid() == 0, ::geteuid(), "", "");
  const auto names_of = [&](const std::string& value) -> std::vector<std::string> {
    if (!paths.ok()) return {};
    if (value == "ACCOUNT") return AccountNames(*paths);
    if (value == "DRIVE") return DriveNames(*paths);
    return {};
  };
  for (const std::string& line : Completions(commands, words, names_of)) fmt::print("{}\n", line);
  return 0;
}

int Main(int argc, char** argv) {
  World world;
  Work run;
  const std::unique_ptr<Command> commands = DescribeCommands(&world, &run);
  if (argc > 1 && std::string_view(argv[1]) == kCompletionCommand)
    return Complete(*commands, {argv + 2, argv + argc});
  const auto printed = commands->Read(argc, argv, VersionText());
  if (!printed.ok()) return Report(printed.error());
  if (!printed->empty()) {
    fmt::print("{}", *printed);
    return 0;
  }
  if (world.verbose) SetLogLevel(LogLevel::kInfo);
  char self[4096];
  const ssize_t n = ::readlink("/proc/self/exe", self, sizeof(self));
  world.program = n > 0 ? std::string(self, static_cast<std::size_t>(n)) : argv[0];
  char cwd[4096];
  const std::string here = ::getcwd(cwd, sizeof(cwd)) ? cwd : "/";
  for (std::string* dir : {&world.config_dir, &world.state_dir}) {
    if (!dir->empty()) *dir = AbsolutePath(*dir, here);
  }
  auto paths =
      ResolvePaths(Variable, ::geteuid() == 0, ::geteuid(), world.config_dir, world.state_dir);
  if (!paths.ok()) return Report(paths.error());
  world.paths = *paths;
  world.credentials_dir = Variable("CREDENTIALS_DIRECTORY");
  world.sudo_user = ::geteuid() == 0 ? Variable("SUDO_USER") : "";
  world.home = Variable("HOME");
  world.ssh_agent = Variable("SSH_AUTH_SOCK");
  world.has_display = !Variable("DISPLAY").empty() || !Variable("WAYLAND_DISPLAY").empty();
  world.config_home = Variable("XDG_CONFIG_HOME");
  if (world.config_home.empty()) world.config_home = Variable("HOME") + "/.config";
  world.runtime_home = Variable("XDG_RUNTIME_DIR");
  if (world.runtime_home.empty()) world.runtime_home = fmt::format("/run/user/{}", ::geteuid());
  const Status done = run(world);
  std::fflush(stdout);
  return done.ok() ? 0 : Report(done.error());
}

}  // namespace
}  // namespace pargeter::app

int main(int argc, char** argv) {
  ::signal(SIGPIPE, SIG_IGN);
  try {
    return pargeter::app::Main(argc, argv);
  } catch (const std::system_error& e) {
    if (e.code() == std::errc::broken_pipe) return 128 + SIGPIPE;  // whoever read has enough
    fmt::print(stderr, "pargeter: an inner error: {}\n", e.what());
    return 1;
  } catch (const std::exception& e) {
    fmt::print(stderr, "pargeter: an inner error: {}\n", e.what());
    return 1;
  }
}
