#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <atomic>
#include <cerrno>
#include <thread>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "control/client.h"
#include "control/server.h"
#include "drive_methods.h"
#include "face/stream/mount_point.h"
#include "face/stream/session.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

constexpr Duration kFlushAtSignal(30000);

// One mounted drive from start to end.
class Serving {
 public:
  Serving(const World& world, const DriveSettings& settings) : world_(world), settings_(settings) {}

  // `ready` is called once the mount answers.
  Status Run(const std::function<void()>& ready) {
    sigset_t signals;
    sigemptyset(&signals);
    for (const int number : {SIGINT, SIGTERM, SIGHUP}) sigaddset(&signals, number);
    pthread_sigmask(SIG_BLOCK, &signals, nullptr);  // inherited by every thread
    PG_TRY(CheckFuse());
    PG_TRY(PrepareMountPoint(settings_.at));
    PG_ASSIGN(drive_, OpenDrive(world_, settings_, true));
    // listener calls reach the face only after it is there
    PG_TRY(Begin());
    started_ = SystemClock().Wall();
    ControlServer control([this](const std::string& m, const Json& p) { return Answer(m, p); });
    PG_TRY(control.Start(world_.paths.SocketOf(settings_.name)));
    std::thread watcher([this, signals] { WatchSignals(signals); });
    ready();
    if (!world_.verbose) SetLogLevel(LogLevel::kWarning);
    const Status served = face_->Serve();
    // Whoever unmounted by a command is waiting for the uploads; for all others, we do.
    if (!by_command_) FlushAtEnd();
    ended_ = true;
    pthread_kill(watcher.native_handle(), SIGHUP);
    watcher.join();
    control.Stop();
    drive_->Stop();
    return served;
  }

 private:
  // The drive's threads may tell the face of changes before it is mounted: they go nowhere.
  struct Forward : ChangeListener {
    std::atomic<StreamFace*> face{nullptr};
    void ContentChanged(NodeId id) override {
      if (StreamFace* f = face) f->ContentChanged(id);
    }
    void AttributesChanged(NodeId id) override {
      if (StreamFace* f = face) f->AttributesChanged(id);
    }
    void NameChanged(NodeId parent, const std::string& name) override {
      if (StreamFace* f = face) f->NameChanged(parent, name);
    }
  };

  Status Begin() {
    drive_->Start(&forward_);
    const Status contact = drive_->FirstContact();
    if (!contact.ok())
      return contact.error().Within(fmt::format("the drive {} cannot be mounted", settings_.name));
    MountOptions options;
    options.at = settings_.at;
    options.name = settings_.name;
    options.read_only = drive_->options().read_only;
    options.share_with_all = settings_.share_with_all;
    PG_ASSIGN(face_, StreamFace::Mount(drive_.get(), options));
    forward_.face = face_.get();
    return {};
  }

  void WatchSignals(sigset_t signals) {
    for (;;) {
      int number = 0;
      sigwait(&signals, &number);
      if (ended_) return;
      if (number == SIGHUP) {
        Ignore(drive_->Refresh());
        continue;
      }
      if (asked_.exchange(true)) {  // a second Ctrl-C: do not wait for uploads
        hurry_ = true;
        continue;
      }
      const Status gone = face_->Unmount(false);
      if (gone.ok()) continue;
      world_.Note(gone.error().what + "; taking the mount away all the same");
      Ignore(face_->Unmount(true));
    }
  }

  void FlushAtEnd() {
    const Steady until = SystemClock().Now() + kFlushAtSignal;
    const DriveStatus left = drive_->Summary();
    if (left.pending.files > 0 && left.offline_since == 0) {
      world_.Note(fmt::format(
          "Uploading {} changes ({}); press Ctrl-C again to leave them for the next mount.",
          left.pending.files, FormatSize(left.pending.bytes)));
    }
    Status flushed = Error(Code::kTimeout, "");
    while (!flushed.ok() && !hurry_ && SystemClock().Now() < until) {
      if (drive_->Summary().offline_since != 0) break;
      flushed = drive_->Flush(Duration(500));
      if (!flushed.ok() && flushed.error().code != Code::kTimeout) break;
    }
    const DriveStatus rest = drive_->Summary();
    if (rest.pending.files > 0) {
      world_.Note(
          fmt::format("{} changes ({}) are not at the store yet. They are safe on this disk and go "
                      "up at the next mount.",
                      rest.pending.files, FormatSize(rest.pending.bytes)));
    }
  }

  Result<Json> Answer(const std::string& method, const Json& params) {
    const Duration patience(params.value("timeout_ms", 600000L));
    if (method == "flush") {
      PG_TRY(drive_->Flush(patience));
      return Json::object();
    }
    if (method == "refresh") {
      PG_TRY(drive_->Refresh());
      return Json::object();
    }
    if (method == "unmount") {
      by_command_ = true;
      const Status gone = face_->Unmount(params.value("now", false));
      if (!gone.ok()) {
        by_command_ = false;
        return gone.error();
      }
      const Status flushed = params.value("now", false) ? Status() : drive_->Flush(patience);
      const DriveStatus rest = drive_->Summary();
      return Json{{"left", rest.pending.files},
                  {"bytes", rest.pending.bytes},
                  {"offline", rest.offline_since != 0}};
    }
    PG_ASSIGN(Json answer, AnswerMethod(drive_.get(), method, params));
    if (method == "status") {
      answer["pid"] = ::getpid();
      answer["since"] = Rfc3339(started_);
    }
    return answer;
  }

  const World& world_;
  const DriveSettings settings_;
  Forward forward_;
  std::unique_ptr<Drive> drive_;
  std::unique_ptr<StreamFace> face_;
  Nanos started_ = 0;
  std::atomic<bool> by_command_{false}, asked_{false}, hurry_{false}, ended_{false};
};

// Many files may be open at a time, each with a block file behind it.
void RaiseFileLimit() {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) == 0) {
    limit.rlim_cur = limit.rlim_max;
    ::setrlimit(RLIMIT_NOFILE, &limit);
  }
}

Status RunForeground(const DriveSettings& d, World& world) {
  Serving serving(world, d);
  return serving.Run([&] {
    world.Say(fmt::format("{} is mounted at {}. Ctrl-C unmounts it.", d.name, Printable(d.at)));
    std::fflush(stdout);
  });
}

std::string PackError(const Error& e) {
  return fmt::format("{}\n{}\n{}", NameOf(e.code), Printable(e.what), Printable(e.remedy));
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
    const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
    ::dup2(null, 0);
    ::dup2(null, 1);
    ::dup2(out, 2);
    if (::chdir("/") != 0) ::_exit(1);
    const auto tell = [&](const std::string& text) {
      if (::write(ends[1], text.data(), text.size()) < 0) ::_exit(1);
    };
    Serving serving(world, d);
    const Status done = serving.Run([&] {
      tell("ready");
      ::close(ends[1]);
      ends[1] = -1;
    });
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
  const std::vector<std::string> parts = Split(answer, '\n');
  if (parts.size() < 3)
    return Error(Code::kInternal, "the mount's process ended without a word", "See " + log);
  return Error(CodeOfName(parts[0]), parts[1], parts[2]);
}

Status RunMount(const std::string& name, bool detach, World& world) {
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  PG_ASSIGN(const std::optional<Json> running,
            CallDrive(world.paths.SocketOf(name), "status", Json::object(), Duration(10000)));
  if (running) {
    return Error(Code::kBusy,
                 fmt::format("the drive {} is mounted already, by process {}", name,
                             running->value("pid", 0)),
                 fmt::format("It is at {}", d.at));
  }
  RaiseFileLimit();
  return detach ? RunDetached(d, world) : RunForeground(d, world);
}

Status RunUnmount(const std::string& name, bool now, const std::string& timeout, World& world) {
  PG_ASSIGN(const Duration patience, ParseDuration(timeout));
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  PG_ASSIGN(
      const std::optional<Json> answer,
      CallDrive(world.paths.SocketOf(name), "unmount",
                {{"now", now}, {"timeout_ms", patience.count()}}, patience + Duration(30000)));
  if (!answer) {
    for (const MountEntry& mount : ListMounts()) {
      if (mount.path != d.at || mount.type != "fuse.pargeter") continue;
      PG_TRY(UnmountAt(d.at, Detach::kNow));
      world.Say(
          fmt::format("A dead mount that a crash left at {} is taken away.", Printable(d.at)));
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
  if (world.json) world.PrintJson({{"name", name}, {"pending", answer->value("left", 0)}});
  const std::uint64_t left = answer->value("left", std::uint64_t{0});
  if (left > 0 && !now) {
    return Error(Code::kTimeout,
                 fmt::format("{} is unmounted, but {} changes ({}) are not at the store yet", name,
                             left, FormatSize(answer->value("bytes", std::uint64_t{0}))),
                 "They are safe on this disk and go up at the next mount.");
  }
  world.Say(left > 0
                ? fmt::format("{} is unmounted; {} changes wait on this disk for the next mount.",
                              name, left)
                : fmt::format("{} is unmounted; everything is at the store.", name));
  return {};
}

}  // namespace

void AddMountCommands(CLI::App* app, Work* run) {
  auto name = std::make_shared<std::string>();
  auto flag = std::make_shared<bool>(false);
  auto timeout = std::make_shared<std::string>("10m");
  CLI::App* cmd = app->add_subcommand("mount", "show a drive at its folder, until Ctrl-C");
  cmd->add_option("NAME", *name, "a drive")->required();
  cmd->add_flag("--detach", *flag, "return when it is ready, and go on in the background");
  cmd->callback([=] { *run = [=](World& w) { return RunMount(*name, *flag, w); }; });
  cmd = app->add_subcommand("unmount", "take it away, after waiting for uploads");
  cmd->add_option("NAME", *name, "a drive")->required();
  cmd->add_flag("--now", *flag,
                "do not wait, even if it is in use; what waits stays safe on this disk");
  cmd->add_option("--timeout", *timeout, "wait at most so long for uploads")->capture_default_str();
  cmd->callback([=] { *run = [=](World& w) { return RunUnmount(*name, *flag, *timeout, w); }; });
}

}  // namespace pargeter::app
