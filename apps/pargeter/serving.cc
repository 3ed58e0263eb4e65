#include "serving.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <thread>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "face/stream/mount_point.h"

namespace pargeter::app {
namespace {

constexpr Duration kReportEvery(10000);
constexpr Duration kLastLook(3000);  // of a mirror at its directory, before it ends
constexpr Duration kGrace(30000);    // for the end itself, after the uploads

std::string Changes(const PendingSummary& pending) {
  return fmt::format("{} ({})", Counted(pending.files, "change"), FormatSize(pending.bytes));
}

// All drives as one; offline only if all are, since the first of them is.
DriveStatus Total(const std::vector<Drive*>& drives) {
  DriveStatus sum;
  std::size_t offline = 0;
  for (Drive* drive : drives) {
    const DriveStatus one = drive->Summary();
    sum.pending.files += one.pending.files;
    sum.pending.bytes += one.pending.bytes;
    sum.held += one.held;
    sum.conflicts += one.conflicts;
    if (one.offline_since == 0) continue;
    ++offline;
    if (sum.offline_since == 0 || one.offline_since < sum.offline_since)
      sum.offline_since = one.offline_since;
  }
  if (offline < drives.size()) sum.offline_since = 0;
  return sum;
}

// What waits in drives whose state was deleted under them: only this process has it.
PendingSummary AtRisk(const std::vector<Drive*>& drives) {
  PendingSummary sum;
  for (Drive* drive : drives) {
    const DriveStatus one = drive->Summary();
    if (!one.state_gone) continue;
    sum.files += one.pending.files;
    sum.bytes += one.pending.bytes;
  }
  return sum;
}

std::string InWords(const std::vector<Drive*>& drives) {
  const DriveStatus s = Total(drives);
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

}  // namespace

Serving::Serving(const World& world, const DriveSettings& settings)
    : world_(world),
      begun_(settings),
      started_(SystemClock().Wall()),
      name_(settings.name),
      at_(settings.at) {}
Serving::~Serving() {
  if (alone_ || joined_) Stop();  // before the face goes, which they tell of changes
}

Status Serving::Run(const std::function<void()>& ready) {
  sigset_t signals;
  sigemptyset(&signals);
  for (const int number : {SIGINT, SIGTERM, SIGHUP}) sigaddset(&signals, number);
  pthread_sigmask(SIG_BLOCK, &signals, nullptr);  // inherited by every thread
  if (world_.in_background && !world_.verbose) SetLogLevel(LogLevel::kWarning);
  if (!begun_.mirrors()) {
    PG_TRY(CheckFuse());
    PG_TRY(PrepareMountPoint(at_));
  }
  PG_TRY(Open());
  PG_TRY(Begin());
  std::thread watcher([this, signals] { WatchSignals(signals); });
  std::thread reporter([this] { ReportLoop(); });
  notify_.Ready(InWords(drives()));
  ready();
  if (!world_.verbose) SetLogLevel(LogLevel::kWarning);
  const Status served = Serve();
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
  Stop();
  return served;
}

Status Serving::Open() {
  if (!begun_.join.empty()) {
    PG_ASSIGN(joined_, JoinedDrive::Open(world_, begun_, this));
    return {};
  }
  PG_ASSIGN(alone_, ServedDrive::Open(world_, begun_, this));
  if (!begun_.mirrors()) shown_ = std::make_unique<Shown>(&alone_->drive());
  return {};
}

Status Serving::Begin() {
  notify_.Status("looking at the store");
  const Status shown = begun_.mirrors() ? ShowAsDirectory() : ShowAsMount();
  if (!shown.ok())
    return shown.error().Within(fmt::format("the drive {} cannot be mounted", name_));
  return alone_ ? alone_->Listen() : joined_->Listen();
}

Status Serving::ShowAsDirectory() {
  MirrorFace::Options options;
  options.at = at_;
  options.state_folder = alone_->drive().options().state_folder;
  options.mark = begun_.account + ":" + begun_.folder;
  PG_ASSIGN(mirror_, MirrorFace::Open(&alone_->drive(), options));
  PG_TRY(alone_->Contact(mirror_.get()));
  mirror_->Start();
  return {};
}

Status Serving::Serve() {
  if (!mirror_) return face_->Serve();
  {
    const Lock lock(mutex_);
    while (!mirror_ended_)
      changed_.WaitUntil(mutex_, SystemClock().Now() + std::chrono::minutes(1));
  }
  // what was saved just now goes along
  Ignore(mirror_->WaitUntilSame(kLastLook));
  mirror_->Stop();
  return {};
}

Status Serving::EndFace(bool now) {
  if (!mirror_) return face_->Unmount(now);
  const Lock lock(mutex_);
  mirror_ended_ = true;
  changed_.NotifyAll();
  return {};
}

Status Serving::ShowAsMount() {
  PG_TRY(alone_ ? alone_->Contact() : joined_->Begin());
  MountOptions options;
  options.at = at_;
  options.name = name_;
  options.read_only = alone_ ? alone_->drive().options().read_only : begun_.read_only;
  options.share_with_all = begun_.share_with_all;
  PG_ASSIGN(face_, StreamFace::Mount(alone_ ? shown_.get() : joined_->shown(), options));
  // what the drives tell of changes reaches the face only now that it is there
  if (alone_)
    alone_->ShownBy(face_.get(), 0);
  else
    joined_->ShownBy(face_.get());
  return {};
}

void Serving::Stop() {
  if (alone_)
    alone_->Stop();
  else
    joined_->Stop();
}

std::vector<Drive*> Serving::drives() const {
  return alone_ ? std::vector<Drive*>{&alone_->drive()} : joined_->drives();
}

Json Serving::About() const {
  Json about = {{"pid", ::getpid()}, {"since", Rfc3339(started_)}, {"service", notify_.listened()}};
  if (mirror_) {
    const MirrorStatus mirror = mirror_->Summary();
    about["mirror"] = {{"items", mirror.items},
                       {"complete", mirror.complete},
                       {"folders_waiting", mirror.waiting},
                       {"watches_lost", mirror.watches_lost},
                       {"stopped", mirror.stopped},
                       {"problems", mirror.problems}};
  }
  return about;
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
    const Status gone = EndFace(false);
    if (gone.ok()) continue;
    world_.Note(gone.error().what + "; unmounting all the same");
    Ignore(EndFace(true));
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
    const std::vector<Drive*> all = drives();
    const bool at_work =
        std::all_of(all.begin(), all.end(), [](Drive* drive) { return drive->IsAlive(); });
    if (at_work && (asked_ || by_command_ || MountAnswers(at_))) notify_.Alive();
    const std::string words = InWords(all);
    if (words != said && !asked_) notify_.Status(said = words);
  }
}

// What cannot go up now is not waited for.
Status Serving::FlushFor(Duration patience) {
  const Steady until = SystemClock().Now() + patience;
  Status first;  // of the drives that are not done; the others go up all the same
  for (Drive* drive : drives()) {
    if (drive->Summary().offline_since != 0) continue;
    const auto left = until - SystemClock().Now();
    const Status flushed =
        drive->Flush(std::max(Duration(1), std::chrono::duration_cast<Duration>(left)),
                     [this] { return hurry_.load(); });
    if (first.ok()) first = flushed;
  }
  return first;
}

void Serving::FlushAtEnd() {
  const Duration within = settings().stop_within;
  const DriveStatus left = Total(drives());
  notify_.MoreTime(within + kGrace);
  notify_.Stopping(fmt::format("uploading {} before the end", Changes(left.pending)));
  if (left.pending.files > 0 && left.offline_since == 0) {
    world_.Note(fmt::format("Uploading {}; press Ctrl-C again to leave them for the next mount.",
                            Changes(left.pending)));
  }
  if (const Status flushed = FlushFor(within); !flushed.ok()) world_.Note(flushed.error().what);
  PendingSummary rest = Total(drives()).pending;
  if (const PendingSummary lost = AtRisk(drives()); lost.files > 0) {
    world_.Note(fmt::format("{}: {} not at the store, and lost: the state folder was deleted.",
                            name_, Changes(lost)));
    rest.files -= std::min(rest.files, lost.files);
    rest.bytes -= std::min(rest.bytes, lost.bytes);
  }
  if (rest.files > 0) {
    world_.Note(fmt::format(
        "{}: {} not at the store yet; safe on this disk, and uploaded after the next mount.", name_,
        Changes(rest)));
  }
}

Result<Json> Serving::Unmount(bool now, Duration patience) {
  if (!now && AtRisk(drives()).files > 0) {
    Ignore(FlushFor(patience));
    if (const PendingSummary rest = AtRisk(drives()); rest.files > 0) {
      return Error(Code::kRefused,
                   fmt::format("{} would be lost: not at the store yet, and the state folder of {} "
                               "was deleted",
                               Changes(rest), name_),
                   "Copy the files out of the mount, or discard the changes with --now.");
    }
  }
  by_command_ = true;
  const Status gone = EndFace(now);
  if (!gone.ok()) {
    by_command_ = false;
    return gone.error();
  }
  Status flushed;
  if (!now) {
    notify_.MoreTime(patience + kGrace);
    flushed = FlushFor(patience);
  }
  const bool in_vain = !flushed.ok() && flushed.error().code != Code::kTimeout;
  const DriveStatus rest = Total(drives());
  return Json{{"why", in_vain ? flushed.error().what : ""},
              {"remedy", in_vain ? flushed.error().remedy : ""},
              {"left", rest.pending.files},
              {"bytes", rest.pending.bytes},
              {"held", rest.held},
              {"lost", AtRisk(drives()).files},
              {"offline", rest.offline_since != 0}};
}

}  // namespace pargeter::app
