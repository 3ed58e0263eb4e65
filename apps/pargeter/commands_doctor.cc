#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <set>

#include "base/file.h"
#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "config/joining.h"
#include "config/secrets.h"
#include "control/client.h"
#include "face/stream/mount_guard.h"
#include "face/stream/mount_point.h"
#include "service/manager.h"
#include "services.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

enum class Grade { kWell, kNote, kBad };

// What was looked at, one line each.
class Findings {
 public:
  explicit Findings(const World& world) : world_(world) {}
  void Well(const std::string& what) { Add(Grade::kWell, what, ""); }
  void Note(const std::string& what, const std::string& remedy) { Add(Grade::kNote, what, remedy); }
  void Bad(const std::string& what, const std::string& remedy) {
    Add(Grade::kBad, what, remedy);
    ++bad_;
  }
  // Bad with the error's own words, or well.
  bool Take(const Status& status, const std::string& well) {
    if (status.ok())
      Well(well);
    else
      Bad(status.error().what, status.error().remedy);
    return status.ok();
  }
  int bad() const { return bad_; }
  const Json& json() const { return json_; }

 private:
  void Add(Grade grade, const std::string& what, const std::string& remedy) {
    const char* mark = grade == Grade::kWell   ? "  ok    "
                       : grade == Grade::kNote ? "  note  "
                                               : "  BAD   ";
    world_.Say(mark + Printable(what) + (remedy.empty() ? "" : "\n        " + Printable(remedy)));
    json_.push_back({{"grade", grade == Grade::kWell   ? "ok"
                               : grade == Grade::kNote ? "note"
                                                       : "bad"},
                     {"what", JsonText(what)},
                     {"remedy", JsonText(remedy)}});
  }
  const World& world_;
  Json json_ = Json::array();
  int bad_ = 0;
};

void LookAtFuse(const World&, Findings* out) {
  if (!out->Take(CheckFuse(), "/dev/fuse may be used")) return;
  if (const Status guarded = MountGuard::Check(); guarded.ok())
    out->Well("a mount whose process is killed leaves nobody waiting");
  else
    out->Note(guarded.error().what, guarded.error().remedy);
  if (::geteuid() == 0) return;
  for (const char* folder : {"/usr/bin", "/bin", "/usr/local/bin"}) {
    struct stat info {};
    if (::stat(fmt::format("{}/fusermount3", folder).c_str(), &info) != 0) continue;
    if ((info.st_mode & S_ISUID) != 0 && info.st_uid == 0)
      return out->Well("fusermount3 is there, and set-uid");
    return out->Bad(fmt::format("{}/fusermount3 is not set-uid root: only root can mount", folder),
                    "Install the package fuse3 again.");
  }
  out->Bad("fusermount3 is not installed: only root can mount", "Install the package fuse3.");
}

void LookAtServices(const World& world, Findings* out) {
  if (const Status running = Manager::Running(); !running.ok())
    return out->Note(running.error().what, running.error().remedy);
  const bool root = ::geteuid() == 0;
  const auto manager = Manager::Connect(root ? Scope::kSystem : Scope::kUser, world.runtime_home);
  if (!manager.ok())
    out->Note(manager.error().what, manager.error().remedy);
  else
    out->Well("the service manager answers");
  const UnitPlaces places = root ? PlacesOf(Scope::kSystem, "") : UserPlaces(world);
  const auto services = InstalledServices(places);
  for (const ServiceSpec& service : services) {
    const bool theirs = service.state_dir != world.paths.state_dir;
    if (!theirs && !LoadDrive(world.paths, service.drive).ok())
      out->Bad(fmt::format("the service of {} has no drive any more", service.drive),
               fmt::format("pargeter service disable {}", service.drive));
    if (::access(service.program.c_str(), X_OK) != 0)
      out->Bad(fmt::format("the service of {} starts {}, which cannot be run", service.drive,
                           service.program),
               fmt::format("Enable the service again: pargeter service enable {}", service.drive));
  }
  if (!root && !services.empty()) {
    const std::string user = UserName(::geteuid());
    if (Lingers(user))
      out->Well(fmt::format("{} lingers: services start at boot", user));
    else
      out->Note(fmt::format("{} does not linger: services run only while you are signed in", user),
                fmt::format("To run them from boot on: sudo loginctl enable-linger {}", user));
  }
}

// Does a unit, or a drop-in beside ours, hand this account's secret to a drive?
bool GivenToService(const World& world, const std::string& account) {
  const UnitPlaces places = ::geteuid() == 0 ? PlacesOf(Scope::kSystem, "") : UserPlaces(world);
  for (const ServiceSpec& service : InstalledServices(places)) {
    std::error_code ec;
    for (std::filesystem::directory_iterator it(places.DropInFolder(service.drive), ec), end;
         !ec && it != end; it.increment(ec)) {
      const auto text = ReadFile(it->path().string(), 1 << 16);
      if (!text.ok()) continue;
      for (const std::string& line : Split(*text, '\n')) {
        const bool one =
            line.compare(0, 14, "LoadCredential") == 0 || line.compare(0, 13, "SetCredential") == 0;
        if (one && line.find("=pargeter." + account + ":") != std::string::npos) return true;
      }
    }
  }
  return false;
}

void LookAtAccounts(const World& world, Findings* out) {
  for (const std::string& name : AccountNames(world.paths)) {
    if (const auto account = LoadAccount(world.paths, name); !account.ok()) {
      out->Bad(account.error().what, account.error().remedy);
      continue;
    }
    const auto store = OpenStore(world, name, "");
    if (!store.ok() && GivenToService(world, name)) {
      out->Note(fmt::format("account {}: its secret is a credential of a service", name),
                "The service itself tests the credential: pargeter service status");
      continue;
    }
    if (!store.ok()) {
      out->Bad(fmt::format("account {}: {}", name, store.error().what), store.error().remedy);
      continue;
    }
    const TestReport report = store->provider->Test(false, nullptr);
    if (report.failure)
      out->Bad(fmt::format("account {}: {}", name, report.failure->what), report.failure->remedy);
    else if (report.clock.empty())
      out->Well(
          fmt::format("account {}: its store answers, takes the key, and its clock agrees", name));
    else
      out->Bad(fmt::format("account {}: {}", name, report.clock),
               "Set the clock, or synchronise it: timedatectl set-ntp true");
  }
}

void LookAtDisk(const DriveSettings& d, const std::string& folder, Findings* out) {
  struct statvfs info {};
  std::string at = folder;
  while (::statvfs(at.c_str(), &info) != 0 && at.size() > 1)
    at = std::filesystem::path(at).parent_path().string();
  const double free = static_cast<double>(info.f_bavail) * static_cast<double>(info.f_frsize);
  const double all = static_cast<double>(info.f_blocks) * static_cast<double>(info.f_frsize);
  if (all <= 0) return;
  if (free < d.keep_free * all || free < 256e6) {
    out->Bad(fmt::format(
                 "drive {}: {} free on the disk of {}, and {:.0f} % are to stay free: little "
                 "can be cached or written",
                 d.name, FormatSize(static_cast<std::uint64_t>(free)), folder, d.keep_free * 100),
             fmt::format("Free space, or: pargeter evict {}", d.at));
  }
}

// Mounted, or able to be.
void LookAtMount(const World& world, const DriveSettings& d, Findings* out) {
  const auto running =
      CallDrive(world.paths.SocketOf(d.name), "status", Json::object(), Duration(10000));
  if (!running.ok())
    return out->Bad(
        fmt::format("drive {}: its process does not answer: {}", d.name, running.error().what),
        fmt::format("pargeter service restart {}, or end the process", d.name));
  if (*running) return out->Well(fmt::format("drive {}: mounted at {}", d.name, d.at));
  std::error_code ec;
  if (std::filesystem::is_symlink(world.paths.SocketLinkOf(d.name), ec))
    out->Note(fmt::format("drive {}: its last process ended without tidying up", d.name),
              "The next mount cleans up.");
  if (!d.part_of.empty()) return;  // the mount is that of the joined drive
  bool dead = false;
  for (const MountEntry& mount : ListMounts())
    dead = dead || (mount.path == d.at && mount.type == "fuse.pargeter");
  if (dead)
    return out->Bad(fmt::format("drive {}: a crash left a dead mount at {}", d.name, d.at),
                    fmt::format("pargeter unmount {}", d.name));
  if (!std::filesystem::is_directory(d.at, ec))
    return out->Bad(fmt::format("drive {}: its folder {} is not there", d.name, d.at),
                    "mkdir " + d.at);
  if (!d.mirrors() && !std::filesystem::is_empty(d.at, ec))
    return out->Bad(
        fmt::format("drive {}: {} has files in it, which the mount would hide", d.name, d.at),
        "Move them away.");
  out->Well(fmt::format("drive {}: not mounted, and could be", d.name));
}

void LookAtDrive(const World& world, const std::string& name, Findings* out) {
  const auto loaded = LoadDrive(world.paths, name);
  if (!loaded.ok()) return out->Bad(loaded.error().what, loaded.error().remedy);
  const DriveSettings& d = *loaded;
  const std::string state = world.paths.DriveState(name);
  for (const std::string& account : AccountsOf(d))
    if (!LoadAccount(world.paths, account).ok())
      out->Bad(fmt::format("drive {}: there is no usable account {}", name, account),
               "Add the account: pargeter account add");
  LookAtMount(world, d, out);
  if (d.share_with_all && ::geteuid() != 0) {
    const auto conf = ReadFile("/etc/fuse.conf", 1 << 16);
    const bool allowed =
        conf.ok() && ("\n" + *conf).find("\nuser_allow_other") != std::string::npos;
    if (!allowed)
      out->Bad(fmt::format("drive {}: is to be shared, and /etc/fuse.conf does not allow it", name),
               "Add the line user_allow_other to it.");
  }
  LookAtDisk(d, d.cache_at.empty() ? state : d.cache_at, out);
  std::error_code ec;
  for (std::filesystem::directory_iterator it(state, ec), end; !ec && it != end; it.increment(ec)) {
    const std::string file = it->path().filename().string();
    if (file.find(".damaged-") != std::string::npos)
      out->Note(fmt::format("drive {}: a damaged index was kept as {}", name, it->path().string()),
                "Delete it if no file is missing.");
  }
}

void LookAtLeftovers(const World& world, Findings* out) {
  const auto names = DriveNames(world.paths);
  const std::set<std::string> known(names.begin(), names.end());
  std::error_code ec;
  for (std::filesystem::directory_iterator it(world.paths.state_dir + "/drives", ec), end;
       !ec && it != end; it.increment(ec)) {
    const std::string name = it->path().filename().string();
    if (known.count(name) == 0)
      out->Note(fmt::format("{} is the state of a drive that is not configured any more",
                            it->path().string()),
                "It may hold changes that are not at the store: check that before you delete it.");
  }
}

Status RunDoctor(World& world) {
  Findings out(world);
  LookAtFuse(world, &out);
  LookAtServices(world, &out);
  LookAtAccounts(world, &out);
  for (const std::string& name : DriveNames(world.paths)) LookAtDrive(world, name, &out);
  LookAtLeftovers(world, &out);
  if (world.json) world.PrintJson({{"findings", out.json()}, {"bad", out.bad()}});
  if (out.bad() == 0) return {};
  return Error(Code::kInternal, fmt::format("{} thing{} need{} mending", out.bad(),
                                            out.bad() == 1 ? "" : "s", out.bad() == 1 ? "s" : ""));
}

}  // namespace

void AddDoctorCommand(Command* app, Work* run) {
  app->Add({.name = "doctor",
            .summary = "check all that drives need, and say what to mend",
            .details =
                "Checked are FUSE, services, accounts, the clock, disks, mount points and states. "
                "Nothing is changed.",
            .examples = {{"check this machine", "pargeter doctor"},
                         {"check it in a script", "pargeter doctor --json"}}})
      ->Does([=] { *run = RunDoctor; });
}

}  // namespace pargeter::app
