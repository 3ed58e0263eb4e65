// Engine: the queue of intents and the threads that bring them to the store.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "engine/engine.h"
#include "engine/job.h"
#include "net/retry.h"

namespace pargeter {

namespace {
constexpr Duration kSoon(200);
constexpr Duration kAgainAfter(100), kLongestPause(30000);
constexpr int kOftenInARow = 10;
// The store goes on refusing until a person does something about it.
bool IsForPerson(Code code) {
  return code == Code::kPermission || code == Code::kSignIn || code == Code::kUntrusted ||
         code == Code::kReadOnly || code == Code::kInvalid || code == Code::kUnsupported ||
         code == Code::kNameTooLong || code == Code::kTooLarge || code == Code::kRefused;
}

constexpr int kAtOnce = 3;  // steps that follow each other without a pause
}  // namespace

// A later call replaces an earlier one: the quiet time begins anew with each change.
void Engine::Enqueue(NodeId id, std::int64_t order, Duration delay) {
  const Lock lock(queue_mutex_);
  if (const auto old = queued_.find(id); old != queued_.end()) {
    due_.erase({old->second.first, old->second.second, id});
    queued_.erase(old);
  }
  waits_.erase(id);  // it is another change by now
  Schedule(id, order, hurry_ ? options_.clock->Now() : options_.clock->Now() + delay);
  queue_changed_.NotifyOne();
}

// It has one turn at a time: who is at it has another after that.
void Engine::Schedule(NodeId id, std::int64_t order, Steady due) {
  if (running_.count(id) > 0) {
    again_.insert(id);
    return;
  }
  if (queued_.emplace(id, std::pair(due, order)).second) due_.emplace(due, order, id);
}

void Engine::Requeue(NodeId id) {
  std::int64_t order = 0;
  {
    const Lock tree(tree_mutex_);
    auto live = Get(id);
    if (!live.ok() || (*live)->node.intent == 0) return;
    order = (*live)->node.intent;
  }
  Enqueue(id, order, Duration(0));
}

void Engine::UploadLoop() {
  for (;;) {
    NodeId id = kNoNode;
    {
      Lock lock(queue_mutex_);
      for (;;) {
        if (stop_->cancelled()) return;
        const Steady now = options_.clock->Now();
        const bool open = exclusive_ == kNoNode && now >= slow_until_ &&
                          static_cast<double>(running_.size()) < at_once_ &&
                          store_->OfflineSince() == 0;
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

void Engine::RunJob(NodeId id) {
  Job job;
  job.id = id;
  job.call.cancel = std::make_shared<CancelToken>();
  const int hook = stop_->OnCancel([cancel = job.call.cancel] { cancel->Cancel(); });
  Result<Outcome> outcome = Reconcile(&job);
  stop_->Forget(hook);
  if (outcome.ok()) {
    if (*outcome == Outcome::kParked) {
      Park(id, job.behind);
    } else if (*outcome == Outcome::kDone) {
      {
        const Lock tree(tree_mutex_);
        health_.ClearFault(id);
      }
      {
        const Lock lock(queue_mutex_);
        waits_.erase(id);
      }
      Finished(id, *outcome, Duration(0));
    } else {
      Finished(id, *outcome, NoteAgain(job));
    }
    return;
  }
  const Error& error = outcome.error();
  store_->Report(error);
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

// A step that has to be taken again, since it goes on from here or has to wait. Each time in a row
// is later than the one before: what waits for long asks seldom.
Duration Engine::NoteAgain(const Job& job) {
  const Lock lock(queue_mutex_);
  Postponed& wait = waits_[job.id];
  ++wait.rounds;
  wait.why = !job.why.empty() ? job.why : "the change takes several steps";
  wait.refusal.reset();
  if (job.for_person) wait.refusal = Error(Code::kRefused, job.why, "See: pargeter queue");
  wait.refused_at = options_.clock->Now();
  if (wait.rounds <= kAtOnce) return job.delay;
  const int doublings = std::min(wait.rounds - kAtOnce, 10);
  return std::max(job.delay,
                  std::min(job.longest, std::max(job.delay, kAgainAfter) * (1 << doublings)));
}

// How long until it is tried again.
Duration Engine::NoteFailed(const Job& job, const Error& error) {
  LogAbout(LogLevel::kWarning, {job.path, NameOf(error.code)}, "an upload waits: {}", error.what);
  {
    const Lock lock(queue_mutex_);
    Postponed& wait = waits_[job.id];
    ++wait.rounds;
    wait.why = error.what;
    wait.refused_at = options_.clock->Now();
    wait.refusal.reset();
    if (IsForPerson(error.code)) wait.refusal = error;
  }
  const Lock tree(tree_mutex_);
  auto live = Get(job.id);
  if (!live.ok() || (*live)->node.intent == 0) return kSoon;
  Node& node = (*live)->node;
  ++node.attempts;
  node.error = error.what;
  Ignore(Save(*live));
  health_.NoteFault(job.id, error);
  // the wire has retried already: from here on, slowly
  const Duration delay = std::min(
      Duration(300000), options_.retry_pause * (1 << std::min<std::int64_t>(node.attempts, 8)));
  const bool passes = MayRetry(error.code) || error.code == Code::kBusy;  // a lock lapses
  return passes ? std::min(delay, Duration(15000)) : delay;
}

// Something has changed meanwhile: that passes. If it does not, whoever looks at the queue sees
// why, and the store is asked less and less.
Duration Engine::NotePassing(NodeId id, const Error& error) {
  int rounds = 0;
  {
    const Lock lock(queue_mutex_);
    Postponed& wait = waits_[id];
    rounds = ++wait.rounds;
    wait.why = error.what;
    wait.refusal.reset();
    if (rounds < kOftenInARow || stop_->cancelled()) return kSoon;
  }
  const Lock tree(tree_mutex_);
  auto live = Get(id);
  if (live.ok() && (*live)->node.intent != 0 && (*live)->node.error != error.what) {
    (*live)->node.error = error.what;
    Ignore(Save(*live));
  }
  const Duration pause = std::max(kSoon, std::min(options_.retry_pause, Duration(2000)));
  return std::min(kLongestPause, pause * (1 << std::min(rounds - kOftenInARow, 5)));
}

// Waits behind another node's intent; released when that one is finished.
void Engine::Park(NodeId id, NodeId behind) {
  {
    const Lock tree(tree_mutex_);
    const auto it = live_.find(id);
    if (it != live_.end()) it->second->upload.reset();
  }
  std::string other = "another change";
  if (const auto path = PathOf(behind); path.ok() && !path->empty()) other = Printable(*path);
  const Lock lock(queue_mutex_);
  Postponed& wait = waits_[id];
  ++wait.rounds;
  wait.why = "the change waits for " + other;
  wait.refusal.reset();
  const bool blocked = running_.count(behind) > 0 || queued_.count(behind) > 0;
  running_.erase(id);
  if (again_.erase(id) > 0) {  // it may not have to wait any more
    Schedule(id, 0, options_.clock->Now());
  } else if (blocked) {
    parked_[behind].push_back(id);
  } else {
    // the other one is waiting itself, perhaps for what this one has just done: both look again
    const Steady due = options_.clock->Now() + Duration(50) * (1 << std::min(wait.rounds / 4, 9));
    for (auto& [behind_whom, waiting] : parked_) std::erase(waiting, behind);
    for (const NodeId node : {behind, id}) Schedule(node, 0, due);
  }
  queue_changed_.NotifyAll();
}

void Engine::Finished(NodeId id, Outcome outcome, Duration delay, bool progress) {
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
    // a flush is no reason to repeat what was refused for good, or to ask ever more often
    const auto wait = waits_.find(id);
    const bool patient =
        wait != waits_.end() && (wait->second.refusal || wait->second.rounds > kOftenInARow);
    Schedule(id, order, now + (hurry_ && !patient ? std::min(delay, Duration(500)) : delay));
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

Result<std::uint64_t> Engine::WaitingForStore() {
  const Lock tree(tree_mutex_);
  PG_ASSIGN(const PendingSummary all, index_->Pending());
  return all.files - HeldDeletions().size();  // those wait for a person
}

// Whether nothing that waits can go up before a person does something: the reason of one of them.
std::optional<Error> Engine::WhyInVain(Steady since) {
  if (store_->OfflineSince() != 0) return std::nullopt;  // it may be back at any moment
  const Lock lock(queue_mutex_);
  if (!running_.empty() || due_.empty()) return std::nullopt;
  std::optional<Error> why;
  for (const auto& [due, order, id] : due_) {
    const auto wait = waits_.find(id);
    if (wait == waits_.end() || !wait->second.refusal || wait->second.refused_at < since)
      return std::nullopt;
    // (what is held back is told apart, by who asks)
    if (!why || why->code == Code::kRefused) why = wait->second.refusal;
  }
  return why;
}

Status Engine::Flush(Duration patience, const std::function<bool()>& given_up) {
  if (options_.read_only) {  // what waits was made before it was
    PG_ASSIGN(const std::uint64_t stuck, WaitingForStore());
    if (stuck == 0) return {};
    return Error(
        Code::kReadOnly,
        fmt::format("{} wait{} for upload, and the drive {} is read-only", Counted(stuck, "change"),
                    stuck == 1 ? "s" : "", options_.name),
        "The changes are safe on this disk, and are uploaded when the drive may write again.");
  }
  const Steady begun = options_.clock->Now();
  const Steady deadline = begun + patience;
  {
    const Lock lock(queue_mutex_);
    ++hurry_;
    // what waits for a quiet moment goes now, in order; what failed is tried again once
    std::vector<std::tuple<Steady, std::int64_t, NodeId>> waiting(due_.begin(), due_.end());
    due_.clear();
    for (const auto& [due, order, id] : waiting) {
      queued_[id] = {begun, order};
      due_.emplace(begun, order, id);
    }
    queue_changed_.NotifyAll();
  }
  const Status outcome = AwaitUploads(begun, deadline, given_up);
  const Lock lock(queue_mutex_);
  --hurry_;
  return outcome;
}

Status Engine::AwaitUploads(Steady begun, Steady deadline, const std::function<bool()>& given_up) {
  for (;;) {
    const std::optional<Error> why = WhyInVain(begun);
    PG_ASSIGN(const std::uint64_t left,
              WaitingForStore());  // (what ended before that is not in it)
    if (left == 0) return {};
    const auto waits =
        fmt::format("{} still wait{} for upload", Counted(left, "change"), left == 1 ? "s" : "");
    if (why)
      return Error(
          why->code, fmt::format("{}, in vain: {}", waits, why->what),
          why->remedy.empty() ? "Each one's reason: pargeter queue " + options_.name : why->remedy);
    const Steady now = options_.clock->Now();
    if (now >= deadline || stop_->cancelled()) {
      const bool kept = [&] {
        const Lock tree(tree_mutex_);
        return CheckState().ok();
      }();
      return Error(
          Code::kTimeout, waits,
          !kept ? "The state folder was deleted: these changes are lost when this process ends."
          : stop_->cancelled()
              ? "The changes are safe on this disk, and are uploaded when the drive is mounted."
          : store_->OfflineSince() != 0
              ? "The changes are safe on this disk, and are uploaded when the store is back."
              : "The changes are safe on this disk, and are uploaded in the background.");
    }
    if (given_up && given_up()) return Error(Code::kCancelled, "nobody waits for it any more");
    Lock lock(queue_mutex_);
    queue_changed_.WaitUntil(queue_mutex_, std::min(deadline, now + Duration(100)));
  }
}

}  // namespace pargeter
