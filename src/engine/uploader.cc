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
constexpr Duration kSoon(200);            // after a change that came between
constexpr Duration kLongestPause(30000);  // between two such turns
constexpr int kOftenInARow = 10;
constexpr Duration kLongestAfterFault(15000), kLongestAfterRefusal(300000);
constexpr Duration kPassingPause(2000);
constexpr Duration kLookWhetherDone(100);
// The store goes on refusing until a person does something about it.
bool IsForPerson(Code code) {
  return code == Code::kPermission || code == Code::kSignIn || code == Code::kUntrusted ||
         code == Code::kReadOnly || code == Code::kInvalid || code == Code::kUnsupported ||
         code == Code::kNameTooLong || code == Code::kTooLarge || code == Code::kRefused;
}
}  // namespace

TurnResult Engine::RunTurn(NodeId id, int tries, const Cancel& cancel) {
  Job job;
  job.id = id;
  job.call.cancel = cancel;
  const Result<Outcome> outcome = Reconcile(&job);
  if (!outcome.ok()) return TurnAfter(job, outcome.error(), tries + 1);
  TurnResult result;
  result.why = job.why;
  switch (*outcome) {
    case Outcome::kDone:
      health_.ClearFault(id);
      break;
    case Outcome::kParked: {
      const auto path = PathOf(job.behind);
      const bool named = path.ok() && !path->empty();
      result.next = TurnResult::Next::kBehind;
      result.behind = job.behind;
      result.why = "the change waits for " + (named ? Printable(*path) : "another change");
      break;
    }
    case Outcome::kAgain:
      result.next = TurnResult::Next::kAgain;
      result.delay = job.delay;
      result.longest = job.longest;
      if (result.why.empty()) result.why = "the change takes several steps";
      if (job.for_person) result.refusal = Error(Code::kRefused, job.why, "See: pargeter queue");
      break;
  }
  return result;
}

// After an error: when it is tried again, and what is remembered of it.
TurnResult Engine::TurnAfter(const Job& job, const Error& error, int tries) {
  store_->Report(error);
  if (error.code == Code::kThrottled)
    outbox_.SlowDown(std::max(options_.retry_pause, Duration(error.retry_after_ms)));
  TurnResult result;
  result.next = TurnResult::Next::kAgain;
  result.failed = true;
  result.why = error.what;
  const bool passes = error.code == Code::kCancelled || error.code == Code::kStale;
  if (passes) {
    result.delay = NotePassing(job.id, error, tries);
  } else {
    if (IsForPerson(error.code)) result.refusal = error;
    result.delay = NoteFailed(job, error);
  }
  return result;
}

// How long until it is tried again.
Duration Engine::NoteFailed(const Job& job, const Error& error) {
  LogAbout(LogLevel::kWarning, {job.path, NameOf(error.code)}, "an upload waits: {}", error.what);
  View view(&tree_);
  auto live = view.Get(job.id);
  if (!live.ok() || (*live)->node.intent == 0) return kSoon;
  Node& node = (*live)->node;
  ++node.attempts;
  node.error = error.what;
  Ignore(view.Save(*live));
  health_.NoteFault(job.id, error);
  // the wire has retried already: from here on, slowly
  const Duration delay = std::min(
      kLongestAfterRefusal, options_.retry_pause * (1 << std::min<std::int64_t>(node.attempts, 8)));
  const bool passes = MayRetry(error.code) || error.code == Code::kBusy;  // a lock lapses
  return passes ? std::min(delay, kLongestAfterFault) : delay;
}

// Something has changed meanwhile: that passes. If it does not, whoever looks at the queue sees
// why, and the store is asked less and less.
Duration Engine::NotePassing(NodeId id, const Error& error, int tries) {
  if (tries < kOftenInARow || stop_->cancelled()) return kSoon;
  View view(&tree_);
  auto live = view.Get(id);
  if (live.ok() && (*live)->node.intent != 0 && (*live)->node.error != error.what) {
    (*live)->node.error = error.what;
    Ignore(view.Save(*live));
  }
  const Duration pause = std::max(kSoon, std::min(options_.retry_pause, kPassingPause));
  return std::min(kLongestPause, pause * (1 << std::min(tries - kOftenInARow, 5)));
}

std::int64_t Engine::EndTurn(NodeId id) {
  View view(&tree_);
  std::int64_t order = 0;
  if (const auto it = view.inodes().find(id); it != view.inodes().end()) {
    it->second->upload.reset();
    order = it->second->node.intent;
  }
  view.Trim();
  return order;
}

Result<std::uint64_t> Engine::WaitingForStore() {
  View view(&tree_);
  PG_ASSIGN(const PendingSummary all, view.index().Pending());
  return all.files - HeldDeletions(view).size();  // those wait for a person
}

// Whether nothing that waits can go up before a person does something: the reason of one of them.
std::optional<Error> Engine::WhyInVain(Steady since) {
  if (store_->OfflineSince() != 0) return std::nullopt;  // it may be back at any moment
  return outbox_.RefusalOfAll(since);
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
  const Outbox::Hurry hurry(&outbox_);
  return AwaitUploads(begun, begun + patience, given_up);
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
        View view(&tree_);
        return CheckState(view).ok();
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
    outbox_.WaitForProgress(std::min(deadline, now + kLookWhetherDone));
  }
}

}  // namespace pargeter
