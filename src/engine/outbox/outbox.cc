// Outbox: turns, waits, and the threads that take the turns.
#include "engine/outbox/outbox.h"

#include <algorithm>

namespace pargeter {

namespace {
constexpr int kAtOnce = 3;  // turns in a row that follow each other without a growing pause
constexpr int kOftenInARow = 10;
constexpr int kMostDoublings = 10;
constexpr Duration kFirstPause(100);
constexpr Duration kHurriedPause(500);  // the longest between two tries while somebody waits
constexpr Duration kLookAgain(100);     // at what waited for something that is over
constexpr Duration kMeetAgain(50);      // for two of which each waits for the other
}  // namespace

void Outbox::Start(Worker* worker) {
  worker_ = worker;
  for (int i = 0; i < options_.workers; ++i) threads_.emplace_back([this] { Run(); });
}

void Outbox::Stop() {
  Wake();
  for (std::thread& thread : threads_) thread.join();
  threads_.clear();
}

void Outbox::Wake() {
  const Lock lock(mutex_);
  changed_.NotifyAll();
}

void Outbox::Push(NodeId id, std::int64_t order, Duration delay) {
  const Lock lock(mutex_);
  if (const auto old = queued_.find(id); old != queued_.end()) {
    due_.erase({old->second.first, old->second.second, id});
    queued_.erase(old);
  }
  waits_.erase(id);  // it is another change by now
  const Steady now = options_.clock->Now();
  Schedule(id, order, hurry_ > 0 ? now : now + delay);
  changed_.NotifyOne();
}

void Outbox::Schedule(NodeId id, std::int64_t order, Steady due) {
  if (running_.count(id) > 0) {
    rerun_.insert(id);
    return;
  }
  if (queued_.emplace(id, std::pair(due, order)).second) due_.emplace(due, order, id);
}

void Outbox::FreeAllWaiting(Steady due) {
  for (const auto& [behind, waiting] : std::exchange(behind_, {}))
    for (const NodeId id : waiting) Schedule(id, 0, due);
}

// Waits for a turn that is due, and begins it. kNoNode: the outbox stops.
NodeId Outbox::NextTurn() {
  Lock lock(mutex_);
  for (;;) {
    if (options_.stop->cancelled()) return kNoNode;
    const Steady now = options_.clock->Now();
    const bool open = running_alone_ == kNoNode && now >= slow_until_ &&
                      static_cast<double>(running_.size()) < at_once_ && options_.online();
    if (open && !due_.empty() && std::get<0>(*due_.begin()) <= now) break;
    // whatever they waited for is over, or was given up
    if (open && due_.empty() && running_.empty() && !behind_.empty())
      FreeAllWaiting(now + kLookAgain);
    Steady wake = now + std::chrono::hours(1);
    if (now < slow_until_)
      wake = slow_until_;
    else if (open && !due_.empty())
      wake = std::get<0>(*due_.begin());
    changed_.WaitUntil(mutex_, wake);
  }
  const NodeId id = std::get<2>(*due_.begin());
  due_.erase(due_.begin());
  queued_.erase(id);
  running_.insert(id);
  last_turn_ = options_.clock->Now();
  if (!due_.empty()) changed_.NotifyOne();
  return id;
}

void Outbox::Run() {
  for (;;) {
    const NodeId id = NextTurn();
    if (id == kNoNode) return;
    int tries = 0;
    {
      const Lock lock(mutex_);
      if (const auto wait = waits_.find(id); wait != waits_.end()) tries = wait->second.tries;
    }
    const auto cancel = std::make_shared<CancelToken>();
    const int hook = options_.stop->OnCancel([cancel] { cancel->Cancel(); });
    const TurnResult result = worker_->RunTurn(id, tries, cancel);
    options_.stop->Forget(hook);
    Finish(id, result);
  }
}

// What waits for long asks seldom. Somebody who waits for all is no reason to repeat what was
// refused for good, or to ask ever more often.
Duration Outbox::PauseAfter(const TurnResult& result, const Wait& wait) const {
  Duration pause = result.delay;
  if (result.longest.count() > 0 && wait.tries > kAtOnce) {
    const int doublings = std::min(wait.tries - kAtOnce, kMostDoublings);
    pause =
        std::max(pause, std::min(result.longest, std::max(pause, kFirstPause) * (1 << doublings)));
  }
  const bool patient = wait.refusal || wait.tries > kOftenInARow;
  return hurry_ > 0 && !patient ? std::min(pause, kHurriedPause) : pause;
}

void Outbox::Finish(NodeId id, const TurnResult& result) {
  const std::int64_t order = worker_->EndTurn(id);
  const Lock lock(mutex_);
  const Steady now = options_.clock->Now();
  last_turn_ = now;
  const bool goes_on = result.next != TurnResult::Next::kBehind;
  if (goes_on && !result.failed) at_once_ = std::min(at_once_ + 0.1, double(options_.workers));
  running_.erase(id);
  const bool rerun = rerun_.erase(id) > 0;
  if (result.next == TurnResult::Next::kDone || (rerun && goes_on)) {
    // what a turn says that was planned before the node changed again is not true any more
    waits_.erase(id);
    if (rerun) Schedule(id, order, hurry_ > 0 ? now : now + options_.quiet);
  } else {
    Wait& wait = waits_[id];
    ++wait.tries;
    wait.why = result.why;
    wait.refusal = result.refusal;
    wait.refused_at = now;
    if (result.next == TurnResult::Next::kAgain)
      Schedule(id, order, now + PauseAfter(result, wait));
    else if (rerun)  // it may not have to wait any more
      Schedule(id, 0, now);
    else
      WaitBehind(id, result.behind, wait.tries);
  }
  if (goes_on && !result.failed) {
    if (auto waiting = behind_.extract(id); !waiting.empty())
      for (const NodeId one : waiting.mapped()) Schedule(one, 0, now);
  }
  changed_.NotifyAll();
}

void Outbox::WaitBehind(NodeId id, NodeId behind, int tries) {
  if (running_.count(behind) > 0 || queued_.count(behind) > 0) {
    behind_[behind].push_back(id);
    return;
  }
  // the other one is waiting itself, perhaps for what this one has just done: both look again
  const Steady due = options_.clock->Now() + kMeetAgain * (1 << std::min(tries / 4, 9));
  for (auto& [behind_whom, waiting] : behind_) std::erase(waiting, behind);
  for (const NodeId node : {behind, id}) Schedule(node, 0, due);
}

bool Outbox::IsQueued(NodeId id) const {
  const Lock lock(mutex_);
  return queued_.count(id) > 0;
}

bool Outbox::Steal(NodeId id) {
  const Lock lock(mutex_);
  const auto it = queued_.find(id);
  if (it == queued_.end()) return false;
  due_.erase({it->second.first, it->second.second, id});
  queued_.erase(it);
  running_.insert(id);
  return true;
}

void Outbox::EndStolen(NodeId id, const TurnResult& result) { Finish(id, result); }

bool Outbox::BeginAlone(NodeId id, Steady deadline) {
  const Lock lock(mutex_);
  if (running_alone_ != kNoNode) return false;
  running_alone_ = id;
  while (running_.size() > 1 && !options_.stop->cancelled()) {
    if (!changed_.WaitUntil(mutex_, deadline) && options_.clock->Now() >= deadline) break;
  }
  if (running_.size() == 1) return true;
  running_alone_ = kNoNode;
  changed_.NotifyAll();
  return false;
}

void Outbox::EndAlone() {
  const Lock lock(mutex_);
  running_alone_ = kNoNode;
  changed_.NotifyAll();
}

bool Outbox::IsAnyAlone() const {
  const Lock lock(mutex_);
  return running_alone_ != kNoNode;
}

void Outbox::BeginHurry() {
  const Lock lock(mutex_);
  ++hurry_;
  // what waits for a quiet moment goes now, in order; what failed is tried again once
  const Steady now = options_.clock->Now();
  const auto waiting = std::exchange(due_, {});
  for (const auto& [due, order, id] : waiting) {
    queued_[id] = {now, order};
    due_.emplace(now, order, id);
  }
  rerun_.insert(running_.begin(), running_.end());  // a refusal may be older than its cure
  changed_.NotifyAll();
}

void Outbox::EndHurry() {
  const Lock lock(mutex_);
  --hurry_;
}

void Outbox::WaitForProgress(Steady deadline) {
  const Lock lock(mutex_);
  changed_.WaitUntil(mutex_, deadline);
}

std::optional<Error> Outbox::RefusalOfAll(Steady since) const {
  const Lock lock(mutex_);
  if (!running_.empty() || due_.empty()) return std::nullopt;
  std::optional<Error> why;
  for (const auto& [due, order, id] : due_) {
    const auto wait = waits_.find(id);
    if (wait == waits_.end() || !wait->second.refusal || wait->second.refused_at < since)
      return std::nullopt;
    // (a deletion that is held back is told apart, by whoever asks)
    if (!why || why->code == Code::kRefused) why = wait->second.refusal;
  }
  return why;
}

void Outbox::SlowDown(Duration pause) {
  const Lock lock(mutex_);
  slow_until_ = options_.clock->Now() + pause;
  at_once_ = std::max(1.0, at_once_ / 2);
}

Outbox::Delay Outbox::DelayOf(NodeId id) const {
  const Lock lock(mutex_);
  Delay out;
  if (const auto due = queued_.find(id); due != queued_.end()) {
    const auto left = std::chrono::ceil<Duration>(due->second.first - options_.clock->Now());
    out.next_try = std::max(Duration(0), left);
  }
  if (const auto wait = waits_.find(id); wait != waits_.end()) {
    out.tries = wait->second.tries;
    out.why = wait->second.why;
  }
  return out;
}

std::size_t Outbox::Running() const {
  const Lock lock(mutex_);
  return running_.size();
}

bool Outbox::IsStuckSince(Steady since) const {
  const Lock lock(mutex_);
  return !running_.empty() && last_turn_ <= since;
}

}  // namespace pargeter
