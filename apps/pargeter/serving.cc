#include "serving.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <thread>

#include "base/file.h"
#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "config/secrets.h"
#include "control/server.h"
#include "drive_methods.h"
#include "face/stream/mount_point.h"
#include "provider/s3/s3_provider.h"
#include "stores.h"

namespace pargeter::app {
namespace {

constexpr Duration kReportEvery(10000);
constexpr Duration kGrace(30000);  // for the end itself, after the uploads

std::string Changes(const PendingSummary& pending) {
  return fmt::format("{} change{} ({})", pending.files, pending.files == 1 ? "" : "s",
                     FormatSize(pending.bytes));
}

std::string InWords(const DriveStatus& s) {
  std::string words =
      s.offline_since == 0 ? "online" : fmt::format("OFFLINE since {}", Rfc3339(s.offline_since));
  words += s.pending.files == 0 ? "; nothing waits"
                                : fmt::format("; {} wait{} for upload", Changes(s.pending),
                                              s.pending.files == 1 ? "s" : "");
  if (s.held > 0) words += fmt::format("; {} deletions held back", s.held);
  if (s.conflicts > 0) words += fmt::format("; {} in conflict", s.conflicts);
  return words;
}

// Through the kernel and back: the whole way that users' requests take.
bool MountAnswers(const std::string& at) {
  struct statx info {};
  return ::statx(AT_FDCWD, at.c_str(), AT_STATX_FORCE_SYNC, STATX_BASIC_STATS, &info) == 0;
}

// A link in the state says where the socket is: whoever knows the state finds the process.
Status LinkSocket(const Paths& paths, const std::string& name) {
  const std::string link = paths.SocketLinkOf(name), fresh = link + ".new";
  ::unlink(fresh.c_str());
  if (::symlink(paths.OwnSocketOf(name).c_str(), fresh.c_str()) != 0)
    return FromErrno(errno, "cannot say where the control socket is");
  return RealDisk().Rename(fresh, link);
}

}  // namespace

Serving::Serving(const World& world, DriveSettings settings)
    : world_(world), settings_(settings), name_(settings.name), at_(settings.at) {}
Serving::~Serving() = default;

Status Serving::Run(const std::function<void()>& ready) {
  sigset_t signals;
  sigemptyset(&signals);
  for (const int number : {SIGINT, SIGTERM, SIGHUP}) sigaddset(&signals, number);
  pthread_sigmask(SIG_BLOCK, &signals, nullptr);  // inherited by every thread
  if (world_.in_background && !world_.verbose) SetLogLevel(LogLevel::kWarning);
  PG_TRY(CheckFuse());
  PG_TRY(PrepareMountPoint(at_));
  {
    const Lock lock(mutex_);
    PG_ASSIGN(drive_, OpenDrive(world_, settings_, true));
  }
  // listener calls reach the face only after it is there
  PG_TRY(Begin());
  started_ = SystemClock().Wall();
  ControlServer control([this](const std::string& m, const Json& p) { return Answer(m, p); });
  PG_TRY(control.Start(world_.paths.OwnSocketOf(name_)));
  PG_TRY(LinkSocket(world_.paths, name_));
  std::thread watcher([this, signals] { WatchSignals(signals); });
  std::thread reporter([this] { ReportLoop(); });
  notify_.Ready(InWords(drive_->Summary()));
  ready();
  if (!world_.verbose) SetLogLevel(LogLevel::kWarning);
  const Status served = face_->Serve();
  // Whoever unmounted by a command is waiting for the uploads; for all others, we do.
  if (!by_command_) FlushAtEnd();
  ended_ = true;
  {
    const Lock lock(mutex_);
    ending_ = true;
    changed_.NotifyAll();
  }
  pthread_kill(watcher.native_handle(), SIGHUP);
  watcher.join();
  reporter.join();
  ::unlink(world_.paths.SocketLinkOf(name_).c_str());
  control.Stop();
  drive_->Stop();
  return served;
}

Status Serving::Begin() {
  drive_->Start(&forward_);
  notify_.Status("looking at the store");
  const Status contact = drive_->FirstContact();
  if (!contact.ok())
    return contact.error().Within(fmt::format("the drive {} cannot be mounted", name_));
  MountOptions options;
  options.at = at_;
  options.name = name_;
  options.read_only = drive_->options().read_only;
  {
    const Lock lock(mutex_);
    options.share_with_all = settings_.share_with_all;
  }
  PG_ASSIGN(face_, StreamFace::Mount(drive_.get(), options));
  forward_.face = face_.get();
  return {};
}

void Serving::WatchSignals(sigset_t signals) {
  for (;;) {
    int number = 0;
    sigwait(&signals, &number);
    if (ended_) return;
    if (number == SIGHUP) {
      if (const auto done = Refresh(); !done.ok()) world_.Note(done.error().what);
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

void Serving::ReportLoop() {
  if (!notify_.listened()) return;
  Duration every = kReportEvery;
  if (notify_.watchdog()) every = std::min(every, *notify_.watchdog() / 3);
  std::string said;
  for (;;) {
    {
      const Lock lock(mutex_);
      if (!ending_) changed_.WaitUntil(mutex_, SystemClock().Now() + every);
      if (ending_) return;
    }
    // asked to end, the mount is gone, and what counts is that the uploads get on
    const bool alive = drive_->IsAlive() && (asked_ || by_command_ || MountAnswers(at_));
    if (alive) notify_.Alive();
    const std::string words = InWords(drive_->Summary());
    if (words != said && !asked_) notify_.Status(said = words);
  }
}

void Serving::FlushAtEnd() {
  const Duration within = [this] {
    const Lock lock(mutex_);
    return settings_.stop_within;
  }();
  const Steady until = SystemClock().Now() + within;
  const DriveStatus left = drive_->Summary();
  notify_.MoreTime(within + kGrace);
  notify_.Stopping(fmt::format("uploading {} before the end", Changes(left.pending)));
  if (left.pending.files > 0 && left.offline_since == 0) {
    world_.Note(fmt::format("Uploading {}; press Ctrl-C again to leave them for the next mount.",
                            Changes(left.pending)));
  }
  Status flushed = Error(Code::kTimeout, "");
  while (!flushed.ok() && !hurry_ && SystemClock().Now() < until) {
    if (drive_->Summary().offline_since != 0) break;
    flushed = drive_->Flush(Duration(500));
    if (!flushed.ok() && flushed.error().code != Code::kTimeout) break;
  }
  const DriveStatus rest = drive_->Summary();
  if (rest.pending.files > 0) {
    world_.Note(fmt::format(
        "{}: {} not at the store yet; safe on this disk, and uploaded after the next mount.", name_,
        Changes(rest.pending)));
  }
}

Result<Json> Serving::Refresh() {
  PG_ASSIGN(const DriveSettings now, LoadDrive(world_.paths, name_));
  Json applied = Json::array(), remount = Json::array();
  {
    const Lock lock(mutex_);
    DriveSettings& was = settings_;
    const auto note = [](Json* list, bool differs, const char* what) {
      if (differs) list->push_back(what);
    };
    note(&applied, now.cache_limit != was.cache_limit, "cache limit");
    note(&applied, now.keep_free != was.keep_free, "share to keep free");
    note(&applied, now.fresh_for != was.fresh_for, "age of listings");
    note(&applied, now.hold_files != was.hold_files || now.hold_share != was.hold_share,
         "holding back deletions");
    note(&applied, now.shy_readers != was.shy_readers || now.shy_allowance != was.shy_allowance,
         "shy readers");
    was.shy_readers = now.shy_readers;
    was.shy_allowance = now.shy_allowance;
    note(&applied, now.stop_within != was.stop_within, "wait at the end");
    note(&applied, now.label != was.label, "label");
    note(&remount, now.at != was.at, "at");
    note(&remount, now.account != was.account, "account");
    note(&remount, now.folder != was.folder, "folder");
    note(&remount, now.mode != was.mode, "mode");
    note(&remount, now.read_only != was.read_only, "read-only");
    note(&remount, now.share_with_all != was.share_with_all, "shared with");
    note(&remount, now.cache_at != was.cache_at, "cache place");
    was.cache_limit = now.cache_limit;
    was.keep_free = now.keep_free;
    was.fresh_for = now.fresh_for;
    was.hold_files = now.hold_files;
    was.hold_share = now.hold_share;
    was.stop_within = now.stop_within;
    was.label = now.label;
    drive_->SetLimits(LimitsOf(now));
    // a key may have been renewed; a wrong one is met at the next request, and said there
    PG_ASSIGN(const bool renewed, RenewSecret(world_, was.account, &drive_->provider()));
    if (renewed) applied.push_back("key");
  }
  PG_TRY(drive_->Refresh());
  return Json{{"applied", applied}, {"needs_remount", remount}};
}

Result<Json> Serving::Unmount(bool now, Duration patience) {
  by_command_ = true;
  const Status gone = face_->Unmount(now);
  if (!gone.ok()) {
    by_command_ = false;
    return gone.error();
  }
  if (!now) {
    notify_.MoreTime(patience + kGrace);
    Ignore(drive_->Flush(patience));
  }
  const DriveStatus rest = drive_->Summary();
  return Json{{"left", rest.pending.files},
              {"bytes", rest.pending.bytes},
              {"offline", rest.offline_since != 0}};
}

Result<Json> Serving::Answer(const std::string& method, const Json& params) {
  const Duration patience(params.value("timeout_ms", 600000L));
  if (method == "flush") {
    PG_TRY(drive_->Flush(patience));
    return Json::object();
  }
  if (method == "refresh") return Refresh();
  if (method == "unmount") return Unmount(params.value("now", false), patience);
  PG_ASSIGN(Json answer, AnswerMethod(drive_.get(), method, params));
  if (method == "status") {
    answer["pid"] = ::getpid();
    answer["since"] = Rfc3339(started_);
    answer["service"] = notify_.listened();
  }
  return answer;
}

}  // namespace pargeter::app
