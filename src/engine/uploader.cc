// Drive: the queue of intents and the threads that bring them to the store.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "engine/drive.h"
#include "engine/job.h"
#include "net/retry.h"

namespace pargeter {

namespace {
constexpr Duration kSoon(200);
constexpr int kOftenInARow = 10;
}  // namespace

// A later call replaces an earlier one: the quiet time begins anew with each change.
void Drive::Enqueue(NodeId id, std::int64_t order, Duration delay) {
  const Lock lock(queue_mutex_);
  if (const auto old = queued_.find(id); old != queued_.end()) {
    due_.erase({old->second.first, old->second.second, id});
    queued_.erase(old);
  }
  Schedule(id, order, hurry_ ? options_.clock->Now() : options_.clock->Now() + delay);
  queue_changed_.NotifyOne();
}

// It has one turn at a time: who is at it has another after that.
void Drive::Schedule(NodeId id, std::int64_t order, Steady due) {
  if (running_.count(id) > 0) {
    again_.insert(id);
    return;
  }
  if (queued_.emplace(id, std::pair(due, order)).second) due_.emplace(due, order, id);
}

void Drive::Requeue(NodeId id) {
  std::int64_t order = 0;
  {
    const Lock tree(tree_mutex_);
    auto live = Get(id);
    if (!live.ok() || (*live)->node.intent == 0) return;
    order = (*live)->node.intent;
  }
  Enqueue(id, order, Duration(0));
}

void Drive::UploadLoop() {
  for (;;) {
    NodeId id = kNoNode;
    {
      Lock lock(queue_mutex_);
      for (;;) {
        if (stop_->cancelled()) return;
        const Steady now = options_.clock->Now();
        const bool open = exclusive_ == kNoNode && now >= slow_until_ &&
                          static_cast<double>(running_.size()) < at_once_ &&
                          link_->OfflineSince() == 0;
        if (open && !due_.empty() && std::get<0>(*due_.begin()) <= now) break;
        if (open && due_.empty() && running_.empty() && !parked_.empty()) {
          // whatever they waited for is over, or was given up
          for (const auto& [behind, waiting] : std::exchange(parked_, {})) {
            for (const NodeId waiter : waiting) Schedule(waiter, 0, now + Duration(100));
          }
        }
        Steady wake = now + std::chrono::hours(1);
        if (now < slow_until_)
          wake = slow_until_;
        else if (open && !due_.empty())
          wake = std::get<0>(*due_.begin());
        queue_changed_.WaitUntil(queue_mutex_, wake);
      }
      id = std::get<2>(*due_.begin());
      due_.erase(due_.begin());
      queued_.erase(id);
      running_.insert(id);
      last_turn_ = options_.clock->Now();
      if (!due_.empty()) queue_changed_.NotifyOne();
    }
    RunJob(id);
  }
}

void Drive::RunJob(NodeId id) {
  Job job;
  job.id = id;
  job.cancel = std::make_shared<CancelToken>();
  const int hook = stop_->OnCancel([cancel = job.cancel] { cancel->Cancel(); });
  Result<Outcome> outcome = Reconcile(&job);
  stop_->Forget(hook);
  if (outcome.ok()) {
    {
      const Lock lock(queue_mutex_);
      passing_.erase(id);
    }
    if (*outcome == Outcome::kParked) {
      Park(id, job.behind);
    } else {
      if (*outcome == Outcome::kDone) {
        const Lock tree(tree_mutex_);
        WentWell(id);
      }
      Finished(id, *outcome, job.delay);
    }
    return;
  }
  const Error& error = outcome.error();
  link_->Tell(error);
  const bool passes = error.code == Code::kCancelled || error.code == Code::kStale;
  const Duration delay = passes ? NotePassing(id, error) : NoteFailed(job, error);
  if (error.code == Code::kThrottled) {
    const Lock lock(queue_mutex_);
    slow_until_ =
        options_.clock->Now() + std::max(options_.retry_pause, Duration(error.retry_after_ms));
    at_once_ = std::max(1.0, at_once_ / 2);
  }
  Finished(id, Outcome::kAgain, delay, false);
}

// How long until it is tried again.
Duration Drive::NoteFailed(const Job& job, const Error& error) {
  LogAbout(LogLevel::kWarning, {job.path, NameOf(error.code)}, "an upload waits: {}", error.what);
  const Lock tree(tree_mutex_);
  auto live = Get(job.id);
  if (!live.ok() || (*live)->node.intent == 0) return kSoon;
  Node& node = (*live)->node;
  ++node.attempts;
  node.error = error.what;
  Ignore(Save(*live));
  NoteFault(job.id, error);
  // the wire has retried already: from here on, slowly
  const Duration delay = std::min(
      Duration(300000), options_.retry_pause * (1 << std::min<std::int64_t>(node.attempts, 8)));
  return MayRetry(error.code) ? std::min(delay, Duration(15000)) : delay;
}

// Something has changed meanwhile: that passes. If it does not, whoever looks at the queue sees
// why.
Duration Drive::NotePassing(NodeId id, const Error& error) {
  {
    const Lock lock(queue_mutex_);
    if (++passing_[id] < kOftenInARow || stop_->cancelled()) return kSoon;
  }
  const Lock tree(tree_mutex_);
  auto live = Get(id);
  if (live.ok() && (*live)->node.intent != 0 && (*live)->node.error != error.what) {
    (*live)->node.error = error.what;
    Ignore(Save(*live));
  }
  return std::max(kSoon, std::min(options_.retry_pause, Duration(2000)));
}

// Waits behind another node's intent; released when that one is finished.
void Drive::Park(NodeId id, NodeId behind) {
  {
    const Lock tree(tree_mutex_);
    const auto it = live_.find(id);
    if (it != live_.end()) it->second->upload.reset();
  }
  const Lock lock(queue_mutex_);
  const bool blocked = running_.count(behind) > 0 || queued_.count(behind) > 0;
  running_.erase(id);
  if (again_.erase(id) > 0) {  // it may not have to wait any more
    Schedule(id, 0, options_.clock->Now());
  } else if (blocked) {
    parked_[behind].push_back(id);
  } else {
    // the other one is waiting itself, perhaps for what this one has just done: both look again
    const Steady due = options_.clock->Now() + Duration(50);
    for (auto& [other, waiting] : parked_) std::erase(waiting, behind);
    for (const NodeId node : {behind, id}) Schedule(node, 0, due);
  }
  queue_changed_.NotifyAll();
}

void Drive::Finished(NodeId id, Outcome outcome, Duration delay, bool progress) {
  std::int64_t order = 0;
  {
    const Lock tree(tree_mutex_);
    const auto it = live_.find(id);
    if (it != live_.end()) {
      it->second->upload.reset();
      order = it->second->node.intent;
    }
    Trim();
  }
  const Lock lock(queue_mutex_);
  if (progress) at_once_ = std::min(at_once_ + 0.1, static_cast<double>(options_.upload_workers));
  running_.erase(id);
  last_turn_ = options_.clock->Now();
  const bool again = again_.erase(id) > 0;
  const Steady now = options_.clock->Now();
  if (outcome == Outcome::kAgain) {
    Schedule(id, order, hurry_ ? now + std::min(delay, Duration(500)) : now + delay);
  } else if (again) {
    Schedule(id, order, hurry_ ? now : now + options_.quiet);
  }
  if (progress) {
    const auto waiting = parked_.find(id);
    if (waiting != parked_.end()) {
      for (const NodeId node : waiting->second) Schedule(node, 0, now);
      parked_.erase(waiting);
    }
  }
  queue_changed_.NotifyAll();
}

Result<std::uint64_t> Drive::WaitingForStore() {
  const Lock tree(tree_mutex_);
  PG_ASSIGN(const PendingSummary all, index_->Pending());
  return all.files - HeldDeletions().size();  // those wait for a person
}

Status Drive::Flush(Duration patience) {
  if (options_.read_only) {  // what waits was made before it was
    PG_ASSIGN(const std::uint64_t stuck, WaitingForStore());
    if (stuck == 0) return {};
    return Error(Code::kReadOnly,
                 fmt::format("{} wait{} for upload, and the drive {} is read-only",
                             Counted(stuck, "change"), stuck == 1 ? "s" : "", options_.name),
                 "All of that is safe on this disk, and goes up when it may be written to.");
  }
  const Steady deadline = options_.clock->Now() + patience;
  {
    const Lock lock(queue_mutex_);
    hurry_ = true;
    // what waits for a quiet moment goes now, in order; what failed is tried again once
    std::vector<std::tuple<Steady, std::int64_t, NodeId>> waiting(due_.begin(), due_.end());
    due_.clear();
    for (const auto& [due, order, id] : waiting) {
      queued_[id] = {options_.clock->Now(), order};
      due_.emplace(queued_[id].first, order, id);
    }
    queue_changed_.NotifyAll();
  }
  Status outcome;
  for (;;) {
    const auto left = WaitingForStore();
    if (!left.ok()) {
      outcome = left.error();
      break;
    }
    if (*left == 0) break;
    const Steady now = options_.clock->Now();
    if (now >= deadline || stop_->cancelled()) {
      const bool kept = [&] {
        const Lock tree(tree_mutex_);
        return CheckState().ok();
      }();
      outcome =
          Error(Code::kTimeout,
                fmt::format("{} still wait{} for upload", Counted(*left, "change"),
                            *left == 1 ? "s" : ""),
                kept ? "All of that is safe on this disk and goes up when the drive is mounted."
                     : "The state folder was deleted: all of that is lost with this process.");
      break;
    }
    Lock lock(queue_mutex_);
    queue_changed_.WaitUntil(queue_mutex_, std::min(deadline, now + Duration(100)));
  }
  const Lock lock(queue_mutex_);
  hurry_ = false;
  return outcome;
}

}  // namespace pargeter
