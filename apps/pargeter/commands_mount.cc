#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "control/client.h"
#include "face/stream/mount_point.h"
#include "service/journal.h"
#include "serving.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

constexpr rlim_t kLeastFiles = 256;  // for uploads, downloads, connections and a few open files

// Many files may be open at a time, each with a block file behind it.
Status RaiseFileLimit() {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0) return {};
  limit.rlim_cur = limit.rlim_max;
  ::setrlimit(RLIMIT_NOFILE, &limit);
  if (limit.rlim_max >= kLeastFiles) return {};
  return Error(Code::kTooMany,
               fmt::format("the system allows {} open files here, and a mount needs {} or more",
                           limit.rlim_max, kLeastFiles),
               "Raise the limit: ulimit -Hn, or LimitNOFILE of the service.");
}

Status RunForeground(const DriveSettings& d, World& world) {
  if (StderrIsJournal()) {
    SetLogSink(JournalSink(d.name, d.account));
    world.in_background = true;
  }
  Serving serving(world, d);
  return serving.Run([&] {
    world.Say(fmt::format("{} is mounted at {}.{}", d.name, Printable(d.at),
                          world.in_background ? "" : " Ctrl-C unmounts it."));
    std::fflush(stdout);
  });
}

// The parent ends when the child is ready or has failed, so that the shell sees the truth. Forks
// before any thread is started.
Status RunDetached(const DriveSettings& d, World& world) {
  PG_TRY(MakeFolders(world.paths.DriveState(d.name)));
  const std::string log = world.paths.DriveState(d.name) + "/mount.log";
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) return FromErrno(errno, "cannot make a pipe");
  const pid_t pid = ::fork();
  if (pid < 0) return FromErrno(errno, "cannot start a process");
  if (pid == 0) {
    ::setsid();
    const int null = ::open("/dev/null", O_RDWR | O_CLOEXEC);
    for (const int fd : {0, 1, 2}) ::dup2(null, fd);
    SetLogFile(log);
    world.in_background = true;
    if (::chdir("/") != 0) ::_exit(1);
    const auto tell = [&](const std::string& text) {
      if (::write(ends[1], text.data(), text.size()) < 0) ::_exit(1);
    };
    const Status done = [&]() -> Status {
      try {
        Serving serving(world, d);  // its end takes away what it mounted before it failed
        return serving.Run([&] {
          tell("ready");
          ::close(ends[1]);
          ends[1] = -1;
        });
      } catch (const std::exception& e) {  // no thread, no memory
        return Error(Code::kInternal, std::string("an inner error: ") + e.what());
      }
    }();
    if (!done.ok() && ends[1] >= 0) tell(PackError(done.error()));
    std::fflush(nullptr);
    ::_exit(done.ok() ? 0 : ExitCodeOf(done.error().code));
  }
  ::close(ends[1]);
  std::string answer;
  pollfd fd{ends[0], POLLIN, 0};
  char buffer[4096];
  while (::poll(&fd, 1, 120000) > 0) {
    const ssize_t n = ::read(ends[0], buffer, sizeof(buffer));
    if (n <= 0) break;
    answer.append(buffer, static_cast<std::size_t>(n));
    if (answer == "ready") break;
  }
  ::close(ends[0]);
  if (answer == "ready") {
    world.Say(fmt::format("{} is mounted at {} (process {}).", d.name, Printable(d.at), pid));
    return {};
  }
  return UnpackError(answer);
}

Status CheckIsNoPart(const DriveSettings& d, const char* command) {
  if (d.part_of.empty()) return {};
  return Error(Code::kRefused,
               fmt::format("{} is a part of the joined drive {}", d.name, d.part_of),
               fmt::format("pargeter {} {}", command, d.part_of));
}

// The process that has the drive mounted, by its status. One that was killed may still be dying.
Result<std::optional<Json>> WhoHas(const std::string& name, const World& world) {
  for (int i = 0;; ++i) {
    auto running = CallDrive(world.paths.SocketOf(name), "status", Json::object(), Duration(10000));
    if (running.ok() || running.error().code != Code::kUnavailable || i == 50) return running;
    ::poll(nullptr, 0, 100);
  }
}

Status RunMount(const std::string& name, bool detach, World& world) {
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  PG_TRY(CheckIsNoPart(d, "mount"));
  PG_ASSIGN(const std::optional<Json> running, WhoHas(name, world));
  if (running) {
    return Error(Code::kBusy,
                 fmt::format("the drive {} is mounted already, by process {}", name,
                             running->value("pid", 0)),
                 fmt::format("It is at {}", d.at));
  }
  PG_TRY(RaiseFileLimit());
  ::umask(0077);  // what it makes on this disk is its owner's
  return detach ? RunDetached(d, world) : RunForeground(d, world);
}

// A dead mount that a crash left behind is taken away; true if there was one.
Result<bool> ClearDeadMount(const DriveSettings& d) {
  for (const MountEntry& mount : ListMounts()) {
    if (mount.path != d.at || mount.type != "fuse.pargeter") continue;
    PG_TRY(UnmountAt(d.at, Detach::kNow));
    return true;
  }
  return false;
}

// After a service has ended, however it did: no word if all is well.
Status RunClear(const std::string& name, World& world) {
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  const auto lock = LockFile(world.paths.DriveState(name) + "/lock");
  if (!lock.ok()) return {};  // somebody runs it
  PG_TRY(ClearDeadMount(d));
  return {};
}

// Who asks from inside the mount does not hold it by that.
Status LeaveFolder() {
  return ::chdir("/") == 0 ? Status() : Status(FromErrno(errno, "cannot go to /"));
}

// Nothing: no process has it. One that lives and has lost its socket makes it anew.
Result<std::optional<Json>> AskToUnmount(const std::string& name, bool now, Duration patience,
                                         const World& world) {
  for (int i = 0;; ++i) {
    auto answer =
        CallDrive(world.paths.SocketOf(name), "unmount",
                  {{"now", now}, {"timeout_ms", patience.count()}}, patience + Duration(30000));
    if (!answer.ok() || *answer) return answer;
    const auto lock = LockFile(world.paths.DriveState(name) + "/lock");
    if (lock.ok() || lock.error().code != Code::kBusy) return answer;
    if (i == 80)
      return Error(Code::kBusy,
                   fmt::format("the drive {} cannot be told: {}, and has no socket", name,
                               lock.error().what),
                   fmt::format("The process makes {} when it can: try again, or end the process.",
                               world.paths.OwnSocketOf(name)));
    ::poll(nullptr, 0, 100);
  }
}

Status RunUnmount(const std::string& name, bool now, const std::string& timeout, World& world) {
  PG_ASSIGN(const Duration patience, ParseDuration(timeout));
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  PG_TRY(CheckIsNoPart(d, "unmount"));
  PG_TRY(LeaveFolder());
  PG_ASSIGN(const std::optional<Json> answer, AskToUnmount(name, now, patience, world));
  if (!answer) {
    PG_ASSIGN(const bool cleared, ClearDeadMount(d));
    if (cleared) {
      world.Say(
          fmt::format("The dead mount at {}, which a crash left, is removed.", Printable(d.at)));
      return {};
    }
    return Error(Code::kNotFound, fmt::format("the drive {} is not mounted", name));
  }
  // the process ends by itself; wait for its lock, so that the next command finds it gone
  for (int i = 0; i < 600; ++i) {
    const auto lock = LockFile(world.paths.DriveState(name) + "/lock");
    if (lock.ok() || lock.error().code != Code::kBusy) break;
    ::poll(nullptr, 0, 50);
  }
  const std::uint64_t left = answer->value("left", std::uint64_t{0});
  const std::uint64_t lost = answer->value("lost", std::uint64_t{0});
  if (world.json) world.PrintJson({{"name", name}, {"pending", left}, {"lost", lost}});
  const auto changes = [](std::uint64_t n) { return Counted(n, "change"); };
  if (lost > 0) {
    const std::string what =
        fmt::format("{} is unmounted; {} {} lost, as the state folder was deleted", name,
                    changes(lost), lost == 1 ? "is" : "are");
    if (!now) return Error(Code::kIo, what);
    world.Say(what + ".");
    return {};
  }
  const std::string why = answer->value("why", ""), remedy = answer->value("remedy", "");
  if (left > 0 && !now && !why.empty())
    return Error(Code::kTimeout, fmt::format("{} is unmounted; {}", name, Printable(why)),
                 "The changes are safe on this disk. " + Printable(remedy));
  if (left > 0 && !now) {
    return Error(
        Code::kTimeout,
        fmt::format("{} is unmounted, but {} ({}) {} not at the store yet", name, changes(left),
                    FormatSize(answer->value("bytes", std::uint64_t{0})), left == 1 ? "is" : "are"),
        "The changes are safe on this disk, and are uploaded after the next mount.");
  }
  world.Say(left > 0 ? fmt::format("{} is unmounted; {} wait{} on this disk for the next mount.",
                                   name, changes(left), left == 1 ? "s" : "")
                     : fmt::format("{} is unmounted; everything is at the store{}.", name,
                                   ButHeld(*answer)));
  return {};
}

}  // namespace

void AddMountCommands(Command* app, Work* run) {
  auto name = std::make_shared<std::string>();
  auto flag = std::make_shared<bool>(false);
  auto timeout = std::make_shared<std::string>("10m");
  Command* cmd = app->Add(
      {.name = "mount",
       .summary = "mount a drive: make its files appear at its directory",
       .details =
           "The command stays in the foreground; Ctrl-C or SIGTERM uploads what waits and "
           "unmounts. "
           "SIGHUP reads the settings again. To mount a drive at every start of the machine, use "
           "`pargeter service enable`.",
       .examples = {{"mount in the background", "pargeter mount sheets --detach"},
                    {"mount a joined drive", "pargeter mount all --detach"}}});
  cmd->Operand("DRIVE", name.get(), "the drive").Required();
  cmd->Flag("--detach", flag.get(), "return when the mount answers, and go on in the background");
  cmd->Does([=] { *run = [=](World& w) { return RunMount(*name, *flag, w); }; });
  cmd = app->Add(
      {.name = "unmount",
       .summary = "unmount a drive after its changes are uploaded",
       .details = "Changes that are not uploaded in time stay on this disk, and are uploaded after "
                  "the next mount.",
       .examples = {{"upload, then unmount", "pargeter unmount sheets"},
                    {"unmount at once, and upload later", "pargeter unmount sheets --now"}}});
  cmd->Operand("DRIVE", name.get(), "the drive").Required();
  cmd->Flag("--now", flag.get(), "do not wait for uploads, even if the mount is in use");
  cmd->Option("--timeout", "SPAN", timeout.get(), "longest wait for uploads").ShowDefault();
  auto if_dead = std::make_shared<bool>(false);
  cmd->Flag("--if-dead", if_dead.get(), "only remove the mount that a killed process left");
  cmd->Does([=] {
    *run = [=](World& w) {
      return *if_dead ? RunClear(*name, w) : RunUnmount(*name, *flag, *timeout, w);
    };
  });
}

}  // namespace pargeter::app
