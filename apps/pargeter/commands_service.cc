#include <fmt/format.h>
#include <pwd.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <thread>

#include "base/file.h"
#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "config/joining.h"
#include "config/secrets.h"
#include "control/client.h"
#include "face/stream/mount_point.h"
#include "service/journal.h"
#include "service/manager.h"
#include "services.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

constexpr Duration kStartWithin(110000), kStopWithin(660000);

struct Wish {
  std::string name, as;
  bool system = false, now = false, all = false, follow = false;
  int lines = 100;
};

Result<Manager> ManagerOf(const World& world, Scope scope) {
  return Manager::Connect(scope, world.runtime_home);
}

// Whose configuration a service uses: its own user's, by absolute paths.
struct Owner {
  std::string user;
  unsigned uid = 0;
  World world;  // with that user's paths
};

Result<Owner> OwnerOf(const Wish& wish, const World& world) {
  Owner owner{UserName(::geteuid()), ::geteuid(), world};
  if (!wish.system) return owner;
  if (::geteuid() != 0)
    return Error(Code::kPermission, "only root can make a service of the machine",
                 "Run: sudo pargeter service enable NAME --system");
  const bool named = !wish.as.empty();
  if (!named && LoadDrive(world.paths, wish.name).ok()) return owner;
  const std::string user = named ? wish.as : world.sudo_user;
  if (user.empty()) {
    return Error(Code::kNotFound,
                 fmt::format("there is no drive {} in {}", wish.name, world.paths.config_dir),
                 "If it is a user's drive, say whose: --as USER");
  }
  const passwd* entry = ::getpwnam(user.c_str());
  if (entry == nullptr)
    return Error(Code::kNotFound, fmt::format("there is no user {}", Printable(user)));
  owner.user = user;
  owner.uid = entry->pw_uid;
  const std::string home = entry->pw_dir;
  const auto theirs = [&home](const char* name) {
    return std::string(name) == "HOME" ? home : std::string();
  };
  PG_ASSIGN(owner.world.paths,
            ResolvePaths(theirs, owner.uid == 0, owner.uid, world.config_dir, world.state_dir));
  owner.world.config_home = home + "/.config";
  owner.world.runtime_home = fmt::format("/run/user/{}", owner.uid);
  return owner;
}

// None may be well: the service manager may give one.
Status CheckSecret(const World& world, const std::string& account, Scope scope) {
  PG_TRY(LoadAccount(world.paths, account));
  const auto place = SecretPlace(world.paths.SecretsFile(), account);
  if (!place.ok() && place.error().code != Code::kNotFound) return place.error();
  if (place.ok() && *place == SecretIn::kKeyring && scope == Scope::kSystem)
    return Error(Code::kPermission,
                 fmt::format("the secret of the account {} is in a keyring, which a service of "
                             "the machine cannot open",
                             account),
                 fmt::format("pargeter account change {} --secret-in file", account));
  return {};
}

// All that can be known before a first start, as the user that the service runs as.
Status CheckAsOwner(const Owner& owner, const ServiceSpec& spec) {
  const World& world = owner.world;
  return AsUser(owner.user, [&]() -> Status {
    if (::access(spec.program.c_str(), X_OK) != 0)
      return Error(Code::kPermission,
                   fmt::format("{} may not run {}", owner.user, Printable(spec.program)),
                   "Install the program where that user may read it, such as /usr/local/bin.");
    PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, spec.drive));
    for (const std::string& account : AccountsOf(d))
      PG_TRY(CheckSecret(world, account, spec.scope));
    PG_TRY(MakeFolders(world.paths.DriveState(d.name)));
    if (::access(world.paths.DriveState(d.name).c_str(), W_OK) != 0)
      return FromErrno(
          errno, fmt::format("{} may not write in {}", owner.user, world.paths.DriveState(d.name)));
    if (d.mirrors()) return {};  // needs neither
    PG_TRY(CheckFuse());
    return PrepareMountPoint(d.at);
  });
}

Status NotRunningByHand(const World& world, const std::string& name) {
  const auto answer =
      CallDrive(world.paths.SocketOf(name), "status", Json::object(), Duration(10000));
  if (answer.ok() && !answer->has_value()) return {};
  if (!answer.ok()) return answer.error();
  return Error(Code::kBusy,
               fmt::format("the drive {} is mounted already, by process {}", name,
                           (*answer)->value("pid", 0)),
               fmt::format("Unmount it first: pargeter unmount {}", name));
}

Status WriteIfOther(const std::string& path, const std::string& text) {
  const auto there = ReadFile(path);
  if (there.ok() && *there == text) return {};
  std::error_code ec;
  std::filesystem::create_directories(std::filesystem::path(path).parent_path(), ec);
  if (ec) return FromErrno(ec.value(), "cannot make the folder of " + path);
  return WriteFileAtomically(path, text, 0644);
}

// Its files, and the template with the last one.
void RemoveUnits(const UnitPlaces& places, const std::string& drive) {
  std::error_code ec;
  std::filesystem::remove(places.WantsLink(drive), ec);
  std::filesystem::remove(places.DropIn(drive), ec);
  std::filesystem::remove(places.DropInFolder(drive), ec);  // if nobody put anything else there
  if (InstalledServices(places).empty()) std::filesystem::remove(places.Template(), ec);
}

Status Disable(const World& world, const UnitPlaces& places, const std::string& name) {
  PG_ASSIGN(Manager manager, ManagerOf(world, places.scope));
  const std::string unit = UnitName(name);
  PG_TRY(manager.Stop(unit, kStopWithin));
  PG_TRY(manager.Disable(unit));
  RemoveUnits(places, name);
  PG_TRY(manager.Reload());
  Ignore(manager.Forget(unit));
  return {};
}

// The reason of a failed start, as the drive itself said it.
Error WhyNot(Manager* manager, const ServiceSpec& spec, const Error& failed) {
  std::string said;
  // the journal takes a line in a moment after it was written
  for (int i = 0; i < 20 && said.empty(); ++i) {
    if (i > 0) std::this_thread::sleep_for(std::chrono::milliseconds(100));
    Ignore(ReadJournal(spec.drive, spec.scope, 30, false, [&](const JournalLine& line) {
      if (line.text.compare(0, 10, "pargeter: ") == 0) said = line.text.substr(10);
      return true;
    }));
  }
  const auto state = manager->StateOf(UnitName(spec.drive));
  Code code = failed.code;
  if (state.ok() && !state->killed) {
    for (const Code each : {Code::kInvalid, Code::kNotFound, Code::kRefused, Code::kUnavailable,
                            Code::kSignIn, Code::kBusy})
      if (state->exit_status == ExitCodeOf(each)) code = each;
  }
  return Error(code,
               fmt::format("the service of {} does not start: {}", spec.drive,
                           said.empty() ? failed.what : said),
               "See: pargeter service log " + spec.drive);
}

Status Enable(const Wish& wish, World& world) {
  const Scope scope = wish.system ? Scope::kSystem : Scope::kUser;
  PG_TRY(Manager::Running());
  PG_ASSIGN(const Owner owner, OwnerOf(wish, world));
  PG_ASSIGN(const DriveSettings d, LoadDrive(owner.world.paths, wish.name));
  if (!d.part_of.empty())
    return Error(Code::kRefused,
                 fmt::format("{} is a part of the joined drive {}", d.name, d.part_of),
                 fmt::format("pargeter service enable {}", d.part_of));
  PG_ASSIGN(Manager manager, ManagerOf(world, scope));
  PG_ASSIGN(const int version, manager.Version());
  ServiceSpec spec;
  spec.drive = d.name;
  spec.scope = scope;
  spec.program = world.program;
  spec.config_dir = owner.world.paths.config_dir;
  spec.state_dir = owner.world.paths.state_dir;
  spec.at = d.at;
  spec.user = owner.user;
  spec.systemd_version = version;
  const UnitPlaces places = PlacesOf(scope, owner.world.config_home);
  const std::string unit = UnitName(d.name);

  // one state, one service: a user's becomes the machine's with all that waits, the other way is
  // said
  const UnitPlaces other =
      PlacesOf(scope == Scope::kUser ? Scope::kSystem : Scope::kUser, owner.world.config_home);
  for (const ServiceSpec& service : InstalledServices(other)) {
    if (service.drive != d.name || service.state_dir != spec.state_dir) continue;
    if (scope == Scope::kUser)
      return Error(Code::kBusy, fmt::format("{} is a service of the machine already", d.name),
                   fmt::format("First: sudo pargeter service disable {} --system", d.name));
    PG_TRY(AsUser(owner.user, [&] { return Disable(owner.world, other, d.name); }));
    world.Say(fmt::format("{} is no longer a service of {}; the new service uses the same state.",
                          d.name, owner.user));
  }
  PG_ASSIGN(const UnitState before, manager.StateOf(unit));
  const bool installed = std::filesystem::exists(places.DropIn(d.name));
  if (installed && before.active != "inactive" && before.active != "failed")
    PG_TRY(manager.Stop(unit, kStopWithin));
  PG_TRY(NotRunningByHand(owner.world, d.name));
  PG_TRY(CheckAsOwner(owner, spec));
  // a package's template does, if it is the one of this program
  const auto packaged = ReadFile(places.PackagedTemplate());
  if (!packaged.ok() || *packaged != TemplateText(scope))
    PG_TRY(WriteIfOther(places.Template(), TemplateText(scope)));
  PG_TRY(WriteIfOther(places.DropIn(d.name), DropInText(spec)));
  PG_TRY(manager.Reload());
  // proven before it is promised
  if (const Status started = manager.Start(unit, kStartWithin); !started.ok()) {
    const Error why = WhyNot(&manager, spec, started.error());
    Ignore(manager.Stop(unit, kStopWithin));
    RemoveUnits(places, d.name);
    Ignore(manager.Reload());
    Ignore(manager.Forget(unit));
    return why;
  }
  PG_TRY(manager.Enable(unit));
  if (!wish.now && before.active != "active") PG_TRY(manager.Stop(unit, kStopWithin));
  const bool lingers = Lingers(owner.user);
  world.Say(fmt::format(
      "{} is a service now: it starts {}, as {}, and appears at {}.{}", d.name,
      scope == Scope::kSystem || lingers ? "at boot" : "at sign-in", owner.user, Printable(d.at),
      wish.now ? " It runs."
               : fmt::format(" Start it now with: pargeter service start {}", d.name)));
  if (scope == Scope::kUser) {
    world.Say(lingers
                  ? fmt::format("(At boot, since {0} lingers. Only at sign-in: loginctl "
                                "disable-linger {0})",
                                owner.user)
                  : fmt::format("(At boot instead: sudo loginctl enable-linger {})", owner.user));
  }
  return {};
}

Status RunEnable(const Wish& asked, World& world) {
  Wish wish = asked;
  if (::geteuid() == 0 && !wish.system) {
    wish.system = true;  // root's places are the machine's
    if (wish.as.empty()) wish.as = "root";
  }
  std::vector<std::string> names;
  if (wish.all) {
    for (const std::string& name : DriveNames(world.paths)) {
      const auto drive = LoadDrive(world.paths, name);
      if (!drive.ok() || drive->part_of.empty()) names.push_back(name);
    }
    const auto done =
        InstalledServices(PlacesOf(wish.system ? Scope::kSystem : Scope::kUser, world.config_home));
    std::erase_if(names, [&](const std::string& name) {
      return std::any_of(done.begin(), done.end(), [&](const ServiceSpec& service) {
        return service.drive == name && service.state_dir == world.paths.state_dir;
      });
    });
    if (names.empty()) world.Say("Every drive is a service already.");
  } else if (wish.name.empty()) {
    return Error(Code::kInvalid, "no drive is named", "Give its name, or --all.");
  } else {
    names = {wish.name};
  }
  for (const std::string& name : names) {
    wish.name = name;
    PG_TRY(Enable(wish, world));
  }
  if (world.json) world.PrintJson({{"enabled", names}});
  return {};
}

// The service of that name: as said, or wherever it is.
Result<UnitPlaces> Find(const Wish& wish, const World& world) {
  PG_TRY(Manager::Running());
  for (const UnitPlaces& places : {UserPlaces(world), PlacesOf(Scope::kSystem, "")}) {
    if (wish.system && places.scope == Scope::kUser) continue;
    for (const ServiceSpec& service : InstalledServices(places))
      if (service.drive == wish.name) return places;
  }
  return Error(Code::kNotFound, fmt::format("{} is no service", Printable(wish.name)),
               fmt::format("Make it one: pargeter service enable {}", Printable(wish.name)));
}

Status MayChange(const UnitPlaces& places, const std::string& command, const std::string& name) {
  if (places.scope == Scope::kUser || ::geteuid() == 0) return {};
  return Error(Code::kPermission, fmt::format("{} is a service of the machine", name),
               fmt::format("Run: sudo pargeter service {} {}", command, name));
}

Status RunDisable(const Wish& wish, World& world) {
  PG_ASSIGN(const UnitPlaces places, Find(wish, world));
  PG_TRY(MayChange(places, "disable", wish.name));
  PG_TRY(Disable(world, places, wish.name));
  world.Say(
      fmt::format("{} is no service any more; changes that wait stay on this disk.", wish.name));
  if (world.json) world.PrintJson({{"disabled", wish.name}});
  return {};
}

Status RunOrder(const std::string& command, const Wish& wish, World& world) {
  PG_ASSIGN(const UnitPlaces places, Find(wish, world));
  PG_TRY(MayChange(places, command, wish.name));
  PG_ASSIGN(Manager manager, ManagerOf(world, places.scope));
  const std::string unit = UnitName(wish.name);
  Status done;
  if (command == "stop") {
    done = manager.Stop(unit, kStopWithin);
  } else {
    done =
        command == "start" ? manager.Start(unit, kStartWithin) : manager.Restart(unit, kStopWithin);
    if (!done.ok()) {
      ServiceSpec spec;
      spec.drive = wish.name;
      spec.scope = places.scope;
      return WhyNot(&manager, spec, done.error());
    }
  }
  PG_TRY(done);
  PG_ASSIGN(const UnitState state, manager.StateOf(unit));
  world.Say(command == "stop" ? fmt::format("{} is stopped.", wish.name)
                              : fmt::format("{} runs, process {}.", wish.name, state.main_pid));
  if (world.json) world.PrintJson({{"name", wish.name}, {"active", state.active}});
  return {};
}

std::string InWords(const UnitState& s) {
  const std::string age = FormatAge(Duration((SystemClock().Wall() - s.since) / 1'000'000));
  if (s.active == "active") return fmt::format("runs, process {}, for {}", s.main_pid, age);
  const std::string end =
      fmt::format("{} {}", s.killed ? "killed by signal" : "ended with code", s.exit_status);
  if (s.sub == "auto-restart") return end + ", is started again";
  if (s.active == "activating") return fmt::format("is starting, for {}", age);
  if (s.active == "deactivating") return fmt::format("is stopping, for {}", age);
  if (s.active == "failed")
    return fmt::format("FAILED {} ago ({}, {}); it is not tried again by itself", age, s.result,
                       end);
  return "is stopped";
}

Status RunServiceStatus(const Wish& wish, World& world) {
  PG_TRY(Manager::Running());
  Json all = Json::array();
  for (const UnitPlaces& places : {UserPlaces(world), PlacesOf(Scope::kSystem, "")}) {
    const auto services = InstalledServices(places);
    std::optional<Manager> manager;
    for (const ServiceSpec& service : services) {
      if (!wish.name.empty() && service.drive != wish.name) continue;
      if (!manager) {
        PG_ASSIGN(manager, ManagerOf(world, places.scope));
      }
      PG_ASSIGN(const UnitState state, manager->StateOf(UnitName(service.drive)));
      const bool system = places.scope == Scope::kSystem;
      const bool starts = StartsByItself(places, service.drive);
      const bool boot = system || Lingers(service.user);
      world.Say(fmt::format(
          "{}\n  service  of {}, as {}; starts {}\n  state    {}{}", service.drive,
          system ? "the machine" : "its user", service.user,
          !starts ? "only by hand"
          : boot  ? "at boot"
                  : "at sign-in",
          InWords(state),
          state.restarts > 0
              ? fmt::format("; started again {}",
                            state.restarts == 1 ? "once" : fmt::format("{} times", state.restarts))
              : ""));
      if (!state.status.empty() && state.main_pid != 0)
        world.Say("  says     " + Printable(state.status));
      all.push_back({{"name", service.drive},
                     {"scope", system ? "system" : "user"},
                     {"user", service.user},
                     {"active", state.active},
                     {"sub", state.sub},
                     {"result", state.result},
                     {"exit_code", state.exit_status},
                     {"pid", state.main_pid},
                     {"restarts", state.restarts},
                     {"since", Rfc3339(state.since)},
                     {"starts", !starts ? "by hand"
                                : boot  ? "boot"
                                        : "sign-in"},
                     {"says", state.status}});
    }
  }
  if (all.empty() && !wish.name.empty()) return Find(wish, world).error();
  if (all.empty()) world.Say("No drive is a service.");
  if (world.json) world.PrintJson({{"services", all}});
  return {};
}

// Where there is no journal: what a detached mount wrote.
Status SayLogFile(const Wish& wish, World& world) {
  PG_TRY(LoadDrive(world.paths, wish.name));
  const std::string path = world.paths.DriveState(wish.name) + "/mount.log";
  const auto text = ReadFile(path);
  if (!text.ok() && text.error().code == Code::kNotFound)
    return Error(Code::kNotFound,
                 fmt::format("the drive {} has no log: it is no service, and was never mounted in "
                             "the background",
                             wish.name));
  if (!text.ok()) return text.error();
  fmt::print("{}", *text);
  return {};
}

Status RunLog(const Wish& wish, World& world) {
  const auto places = Find(wish, world);
  if (!places.ok()) return SayLogFile(wish, world);
  return ReadJournal(wish.name, places->scope, wish.lines, wish.follow,
                     [&](const JournalLine& line) {
                       if (line.text.empty()) return std::fflush(stdout) == 0;
                       if (world.json)
                         fmt::print("{}\n", Json{{"time", Rfc3339(line.when)},
                                                 {"priority", line.priority},
                                                 {"text", JsonText(line.text)}}
                                                .dump());
                       else
                         fmt::print("{}  {}{}\n", Rfc3339(line.when),
                                    line.priority <= 3   ? "ERROR "
                                    : line.priority <= 4 ? "warning "
                                                         : "",
                                    Printable(line.text));
                       return std::ferror(stdout) == 0;
                     });
}

}  // namespace

void AddServiceCommands(Command* app, Work* run) {
  Command* group = app->Add(
      {.name = "service", .summary = "run drives as services of systemd: at sign-in or at boot"});
  auto wish = std::make_shared<Wish>();
  const auto named = [&](Texts texts, bool required) {
    Command* sub = group->Add(std::move(texts));
    Argument& name = sub->Operand("DRIVE", &wish->name, "the drive");
    if (required) name.Required();
    sub->Flag("--system", &wish->system, "the service of the machine, not of this user");
    return sub;
  };
  Command* cmd =
      named({.name = "enable",
             .summary = "enable a drive's service: mount it at every sign-in or boot",
             .details = "The drive is started once. Only if that succeeds, it is enabled. A "
                        "service of a user runs "
                        "from sign-in on, or from boot on if the user lingers (loginctl "
                        "enable-linger). A service of "
                        "the machine (--system) runs from boot on.",
             .examples = {{"mount at sign-in, and now", "pargeter service enable sheets --now"},
                          {"mount at boot", "sudo pargeter service enable sheets --system --now"},
                          {"enable every drive", "pargeter service enable --all"}}},
            false);
  cmd->Flag("--now", &wish->now, "leave the service running");
  cmd->Flag("--all", &wish->all, "every drive that is no service yet");
  cmd->Option("--as", "USER", &wish->as, "with --system: the user whose drive it is");
  cmd->Does([=] { *run = [wish](World& w) { return RunEnable(*wish, w); }; });
  const std::pair<const char*, const char*> orders[] = {
      {"start", "start a drive's service"},
      {"stop", "stop a drive's service until the next boot or sign-in"},
      {"restart", "restart a drive's service, such as after an upgrade"}};
  for (const auto& [command, summary] : orders) {
    named({.name = command,
           .summary = summary,
           .examples = {{summary, fmt::format("pargeter service {} sheets", command)},
                        {"the same, of the machine's service",
                         fmt::format("sudo pargeter service {} sheets --system", command)}}},
          true)
        ->Does([=, command = command] {
          *run = [=](World& w) { return RunOrder(command, *wish, w); };
        });
  }
  named({.name = "status",
         .summary = "show services: which run, as which user, since when",
         .examples = {{"show all services", "pargeter service status"},
                      {"show one for a script", "pargeter service status sheets --json"}}},
        false)
      ->Does([=] { *run = [wish](World& w) { return RunServiceStatus(*wish, w); }; });
  cmd = named({.name = "log",
               .summary = "show the log of a drive's service",
               .examples = {{"show the last lines", "pargeter service log sheets --lines 20"},
                            {"follow the log", "pargeter service log sheets --follow"}}},
              true);
  cmd->Flag("--follow", &wish->follow, "go on with new lines until Ctrl-C");
  cmd->Option("--lines", "COUNT", &wish->lines, "number of lines").ShowDefault();
  cmd->Does([=] { *run = [wish](World& w) { return RunLog(*wish, w); }; });
  named({.name = "disable",
         .summary = "disable a drive's service: stop it, and do not start it again",
         .examples = {{"unmount a drive for good", "pargeter service disable sheets"},
                      {"the same, of the machine's service",
                       "sudo pargeter service disable all --system"}}},
        true)
      ->Does([=] { *run = [wish](World& w) { return RunDisable(*wish, w); }; });
}

}  // namespace pargeter::app
