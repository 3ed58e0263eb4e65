// pargeter: mounts object storage as folders.
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <cctype>
#include <cstdlib>
#include <system_error>

#include "base/log.h"
#include "base/text.h"
#include "world.h"

namespace pargeter::app {

void World::Say(const std::string& line) const {
  if (!json && !quiet) fmt::print("{}\n", line);
}
void World::Note(const std::string& line) const {
  if (in_background)
    LogLine(LogLevel::kWarning, line);
  else if (!quiet)
    fmt::print(stderr, "{}\n", line);
}
void World::PrintJson(const Json& document) const {
  fmt::print("{}\n", document.dump(2, ' ', false, Json::error_handler_t::replace));
}

std::string PackError(const Error& e) {
  return fmt::format("{}\n{}\n{}", NameOf(e.code), Printable(e.what), Printable(e.remedy));
}
Error UnpackError(const std::string& text) {
  const std::vector<std::string> parts = Split(text, '\n');
  if (parts.size() < 3) return Error(Code::kInternal, "a child process ended without a word");
  return Error(CodeOfName(parts[0]), parts[1], parts[2]);
}

namespace {

int Report(const Error& error) {
  fmt::print(stderr, "pargeter: {}\n", Printable(error.what));
  if (!error.remedy.empty()) fmt::print(stderr, "{}\n", Printable(error.remedy));
  return ExitCodeOf(error.code);
}

// A command that is not there, or missing, is said to be; not only that one is needed.
Error Misunderstood(const CLI::App& app, const CLI::ParseError& e) {
  const CLI::App* at = &app;
  while (!at->get_subcommands().empty()) at = at->get_subcommands().front();
  const auto commands = at->get_subcommands([](const CLI::App*) { return true; });
  std::string what = e.what();
  if (what.size() > 1 && std::islower(static_cast<unsigned char>(what[1])))  // not of NAME
    what[0] = static_cast<char>(std::tolower(what[0]));
  if (dynamic_cast<const CLI::RequiredError*>(&e) == nullptr || commands.empty())
    return Error(Code::kInvalid, what, "See: pargeter --help, or pargeter COMMAND --help");
  const std::vector<std::string> words = app.remaining(true);
  const std::string group = at == &app ? "" : " " + at->get_name();
  std::string names;
  for (const CLI::App* one : commands) names += " " + one->get_name();
  const bool option = !words.empty() && words.front()[0] == '-';
  what = words.empty() ? fmt::format("pargeter{} needs a command", group)
                       : fmt::format("pargeter{} has no {} \"{}\"", group,
                                     option ? "option" : "command", words.front());
  return Error(Code::kInvalid, what, "Commands:" + names);
}

int Main(int argc, char** argv) {
  CLI::App app("Object storage as folders of this machine, with a cache on its disk.", "pargeter");
  app.require_subcommand(1);
  app.fallthrough();
  app.set_version_flag("--version", std::string("pargeter ") + PARGETER_VERSION);
  World world;
  Work run;
  app.add_option("--config-dir", world.config_dir, "where accounts and drives are configured");
  app.add_option("--state-dir", world.state_dir, "where indexes, pending data and caches are kept");
  app.add_flag("--json", world.json, "print one JSON document");
  app.add_flag("-q,--quiet", world.quiet, "print errors only");
  app.add_flag("-v,--verbose", world.verbose, "log more on standard error");
  CLI::App* account = AddAccountCommands(&app, &run);
  AddSignInCommands(account, &run);
  AddDriveCommands(&app, &run);
  AddMountCommands(&app, &run);
  AddServiceCommands(&app, &run);
  AddFileCommands(&app, &run);
  AddResidencyCommands(&app, &run);
  AddRuleCommands(&app, &run);
  AddVersionCommands(&app, &run);
  AddLookCommands(&app, &run);
  AddDoctorCommand(&app, &run);
  AddDemoCommand(&app, &run);
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);
    return Report(Misunderstood(app, e));
  }
  if (world.verbose) SetLogLevel(LogLevel::kInfo);
  char self[4096];
  const ssize_t n = ::readlink("/proc/self/exe", self, sizeof(self));
  world.program = n > 0 ? std::string(self, static_cast<std::size_t>(n)) : argv[0];
  const auto lookup = [](const char* name) {
    const char* value = std::getenv(name);
    return std::string(value ? value : "");
  };
  char cwd[4096];
  const std::string here = ::getcwd(cwd, sizeof(cwd)) ? cwd : "/";
  for (std::string* dir : {&world.config_dir, &world.state_dir}) {
    if (!dir->empty()) *dir = AbsolutePath(*dir, here);
  }
  auto paths =
      ResolvePaths(lookup, ::geteuid() == 0, ::geteuid(), world.config_dir, world.state_dir);
  if (!paths.ok()) return Report(paths.error());
  world.paths = *paths;
  world.credentials_dir = lookup("CREDENTIALS_DIRECTORY");
  world.sudo_user = ::geteuid() == 0 ? lookup("SUDO_USER") : "";
  world.home = lookup("HOME");
  world.ssh_agent = lookup("SSH_AUTH_SOCK");
  world.has_display = !lookup("DISPLAY").empty() || !lookup("WAYLAND_DISPLAY").empty();
  world.config_home = lookup("XDG_CONFIG_HOME");
  if (world.config_home.empty()) world.config_home = lookup("HOME") + "/.config";
  world.runtime_home = lookup("XDG_RUNTIME_DIR");
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
