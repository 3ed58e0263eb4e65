#include "face/mirror/mirror.h"

#include <fmt/format.h>
#include <signal.h>

#include <algorithm>
#include <filesystem>

#include "base/log.h"
#include "base/text.h"

namespace pargeter {

namespace {

constexpr Duration kStopsWithin(60000);  // whoever waits looks again so often

}  // namespace

Result<std::unique_ptr<MirrorFace>> MirrorFace::Open(Drive* drive, Options options) {
  auto out = std::unique_ptr<MirrorFace>(new MirrorFace(drive, std::move(options)));
  PG_TRY(out->Prepare());
  return out;
}

MirrorFace::~MirrorFace() { Stop(); }

Status MirrorFace::Prepare() {
  ::signal(SIGIO, SIG_IGN);  // a lease that is wanted back is asked about, not signalled
  const std::string staging = options_.state_folder + "/staging";
  std::error_code failed;
  std::filesystem::remove_all(staging, failed);
  PG_TRY(MakeFolders(staging));
  PG_ASSIGN(records_, Records::Open(options_.state_folder + "/mirror.db"));
  PG_ASSIGN(const std::uint64_t known, records_->Count());
  // with nothing recorded nothing can seem deleted: any directory will do
  PG_ASSIGN(Directory directory, Directory::Open(options_.at, options_.mark, known == 0));
  directory_ = std::move(directory);
  auto watch = DirectoryWatch::Begin(
      options_.at, [this](const std::string& folder) { MarkPath(folder); }, [this] { MarkAll(); });
  if (watch.ok()) watch_ = std::move(*watch);
  Settler::Options settling;
  settling.staging_folder = staging;
  settling.workers = options_.workers;
  settling.stop = stop_;
  settler_ = std::make_unique<Settler>(&drive_, &*directory_, records_.get(), watch_.get(),
                                       std::move(settling));
  const Lock lock(mutex_);
  watches_lost_ = watch_ == nullptr;
  return settler_->FindPlaced();
}

void MirrorFace::Start() {
  MarkAll();
  settling_ = std::thread([this] { SettleLoop(); });
  catching_up_ = std::thread([this] { CatchUpLoop(); });
}

void MirrorFace::Stop() {
  stop_->Cancel();
  {
    const Lock lock(mutex_);
    changed_.NotifyAll();
  }
  if (settling_.joinable()) settling_.join();
  if (catching_up_.joinable()) catching_up_.join();
  watch_.reset();
}

// ---- what has to be looked at

void MirrorFace::Mark(NodeId folder) {
  const Lock lock(mutex_);
  const Steady now = SystemClock().Now();
  if (marked_.empty()) marked_since_ = now;
  marked_.insert(folder);
  marked_at_ = now;
  changed_.NotifyAll();
}

void MirrorFace::MarkFolderOf(NodeId id) {
  const auto state = drive_.State(id);
  if (state.ok() && !state->node.gone()) Mark(state->node.parent);
}

void MirrorFace::MarkPath(const std::string& folder) {
  if (folder == Directory::kOwnFolder ||
      folder.rfind(std::string(Directory::kOwnFolder) + "/", 0) == 0)
    return;
  const auto id = records_->FolderAt(folder);
  if (id.ok() && *id != kNoNode) return Mark(*id);
  // new, or under another name by now: the nearest one that is known
  const std::size_t slash = folder.rfind('/');
  if (id.ok()) MarkPath(slash == std::string::npos ? "" : folder.substr(0, slash));
}

// Folders below are looked at as their records come up.
void MirrorFace::MarkAll() {
  std::vector<NodeId> folders = {kRootId};
  for (std::size_t i = 0; i < folders.size(); ++i) {
    const auto children = records_->Children(folders[i]);
    if (!children.ok()) break;
    for (const Record& child : *children)
      if (child.print.kind == DiskKind::kFolder) folders.push_back(child.id);
  }
  const Lock lock(mutex_);
  marked_.insert(folders.begin(), folders.end());
  scan_at_ = SystemClock().Now() + options_.scan_every;
  changed_.NotifyAll();
}

void MirrorFace::ContentChanged(NodeId id) { MarkFolderOf(id); }
void MirrorFace::AttributesChanged(NodeId id) { MarkFolderOf(id); }
void MirrorFace::NameChanged(NodeId parent, const std::string&) { Mark(parent); }
void MirrorFace::FolderListed(NodeId id) { Mark(id); }
bool MirrorFace::Keeps(NodeId id, std::uint64_t generation) {
  const auto record = records_->Get(id);
  return record.ok() && *record && (*record)->generation == generation;
}

// ---- the work

// Waits until there are some, and until nothing more has come for a moment. Empty: time to scan, or
// to stop.
std::set<NodeId> MirrorFace::NextFolders() {
  const Lock lock(mutex_);
  while (!stop_->cancelled()) {
    const Steady now = SystemClock().Now();
    if (!later_.empty() && now >= retry_at_) marked_.merge(later_), later_.clear();
    const Steady due =
        std::min(marked_at_ + options_.quiet, marked_since_ + options_.quiet_at_most);
    if (!marked_.empty() && now >= due) {
      in_pass_ = true;
      return std::exchange(marked_, {});
    }
    if (now >= scan_at_) return {};
    Steady wake = scan_at_;
    if (!later_.empty()) wake = std::min(wake, retry_at_);
    if (!marked_.empty()) wake = std::min(wake, due);
    changed_.WaitUntil(mutex_, wake);
  }
  return {};
}

void MirrorFace::NotePass(const PassResult& result) {
  const Lock lock(mutex_);
  in_pass_ = false;
  marked_.insert(result.again.begin(), result.again.end());
  if (!result.later.empty()) {
    later_.insert(result.later.begin(), result.later.end());
    retry_pause_ = std::clamp(retry_pause_ * 2, options_.retry_after, options_.retry_at_most);
    retry_at_ = SystemClock().Now() + retry_pause_;
  } else if (later_.empty()) {
    retry_pause_ = Duration(0);
  }
  if (marked_.empty() && later_.empty() && caught_up_) complete_ = true;
  changed_.NotifyAll();
}

void MirrorFace::SettleLoop() {
  while (!stop_->cancelled()) {
    const std::set<NodeId> folders = NextFolders();
    if (stop_->cancelled()) return;
    if (folders.empty()) {
      MarkAll();
      continue;
    }
    const auto passed = settler_->Pass(folders);
    if (passed.ok()) {
      NotePass(*passed);
      continue;
    }
    PassResult all;
    all.later = folders;
    NotePass(all);
    if (passed.error().code != Code::kRefused) continue;
    Log(LogLevel::kError, "{}", passed.error().what);
    const Lock lock(mutex_);
    stopped_ = passed.error();
    changed_.NotifyAll();
    return;
  }
}

void MirrorFace::CatchUpLoop() {
  for (Duration pause(0); !stop_->WaitFor(pause);) {
    const Steady begun = SystemClock().Now();
    const Status caught_up = drive_.CatchUp(stop_);
    const auto took = std::chrono::duration_cast<Duration>(SystemClock().Now() - begun);
    // a large drive takes its time, and is not looked at all the time
    pause = std::max(options_.catch_up_every, took * 50);
    if (!caught_up.ok()) continue;
    const Lock lock(mutex_);
    if (!std::exchange(caught_up_, true)) {
      marked_.insert(kRootId);
      changed_.NotifyAll();
    }
  }
}

Status MirrorFace::WaitUntilSame(Duration patience) {
  const Steady until = SystemClock().Now() + patience;
  const Lock lock(mutex_);
  for (;;) {
    if (stopped_) return *stopped_;
    if (complete_ && marked_.empty() && later_.empty() && !in_pass_) return {};
    if (SystemClock().Now() >= until)
      return Error(Code::kTimeout, "the directory is not the same as the store yet");
    changed_.WaitUntil(mutex_, std::min(until, SystemClock().Now() + kStopsWithin));
  }
}

MirrorStatus MirrorFace::Summary() {
  MirrorStatus out;
  out.items = records_->Count().ok() ? *records_->Count() : 0;
  out.problems = settler_->Problems();
  const Lock lock(mutex_);
  out.waiting = marked_.size() + later_.size();
  out.complete = complete_;
  out.watches_lost = watches_lost_;
  if (stopped_) out.stopped = stopped_->what;
  return out;
}

}  // namespace pargeter
