// Reconciler: one turn of a node, and what comes after it.
#include "engine/sync/reconciler.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <ctime>
#include <utility>

#include "base/digest.h"
#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/committer.h"
#include "engine/sync/folder_mover.h"
#include "engine/sync/job.h"
#include "engine/sync/planner.h"
#include "engine/sync/remover.h"
#include "engine/sync/rollback.h"
#include "engine/sync/send_log.h"
#include "engine/sync/uploader.h"
#include "net/retry.h"
#include "provider/attributes.h"

namespace pargeter {

namespace {
constexpr Duration kSoon(200);  // after a change that came between

constexpr Duration kLongestPause(30000);  // between two such turns

constexpr int kOftenInARow = 10;

constexpr Duration kLongestAfterFault(15000), kLongestAfterRefusal(300000);

constexpr Duration kPassingPause(2000);

// The store goes on refusing until a person does something about it.
bool IsForPerson(Code code) {
  return code == Code::kPermission || code == Code::kSignIn || code == Code::kUntrusted ||
         code == Code::kReadOnly || code == Code::kInvalid || code == Code::kUnsupported ||
         code == Code::kNameTooLong || code == Code::kTooLarge || code == Code::kRefused;
}
}  // namespace

Result<Outcome> Reconciler::Reconcile(Job* job) {
  PG_TRY(facts_.EnsureProbed(job->call));
  PG_TRY(uploader_.LearnBeforeSending(*job));
  bool comes_down = false;
  {
    View view(&tree_);
    auto live = view.Get(job->id);
    if (!live.ok()) return Outcome::kDone;
    Node& waiting = (*live)->node;
    if (waiting.intent == 0) return Outcome::kDone;
    if (MayStay(waiting)) {
      waiting.intent = 0;
      PG_TRY(view.Save(*live));
      return Outcome::kDone;
    }
    comes_down = waiting.effective == Placement::kLocal && !waiting.gone() &&
                 waiting.kind == NodeKind::kFile && waiting.there != There::kAbsent &&
                 waiting.tried_parent == kNoNode && waiting.upload.empty();
    if (!comes_down) PG_TRY(planner_.PlanJob(view, job));
  }
  if (comes_down) return uploader_.BringDown(job);
  if (job->sync_first) PG_TRY(tree_.Sync());
  if (job->postponed) return job->behind != kNoNode ? Outcome::kParked : Outcome::kAgain;
  if (!job->tried_path.empty()) return rollback_.TakeBack(job);
  const Node& node = job->node;
  if (HasParts(node.upload) && (node.gone() || !(node.dirty & kData))) {
    // begun for bytes that nobody wants up any more
    PG_TRY(send_log_.EndParts(node.upload, job->call));
    // (of what is deleted they may have been put together before that, and nobody heard of it)
    PG_TRY(send_log_.JournalParts(node.id, node.gone() ? provenance_.WithAnything(node) : ""));
    return Outcome::kAgain;
  }
  if (node.gone()) return remover_.RemoveThere(job);
  const bool moved = node.there == There::kElsewhere;
  if (node.there != There::kAbsent && !moved && node.dirty == kClean && node.copy_of.empty())
    return committer_.Settle(job->id);
  if (node.kind == NodeKind::kFolder)
    return moved ? mover_.MoveFolder(job) : mover_.SendFolder(job);
  if (!node.copy_of.empty()) return uploader_.CopyFile(job);
  // out of the way of its own new name: as it is, and from there with its new bytes
  if (job->aside && moved && store_->Can().moves_files) return uploader_.CopyFile(job);
  if ((node.dirty & kData) || node.there == There::kAbsent) return uploader_.UploadFile(job);
  return uploader_.CopyFile(job);
}

TurnResult Reconciler::RunTurn(NodeId id, int tries, const Cancel& cancel) {
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
      const auto path = facts_.PathOf(job.behind);
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
TurnResult Reconciler::TurnAfter(const Job& job, const Error& error, int tries) {
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
Duration Reconciler::NoteFailed(const Job& job, const Error& error) {
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
Duration Reconciler::NotePassing(NodeId id, const Error& error, int tries) {
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

std::int64_t Reconciler::EndTurn(NodeId id) {
  View view(&tree_);
  std::int64_t order = 0;
  if (const auto it = view.inodes().find(id); it != view.inodes().end()) {
    it->second->upload.reset();
    order = it->second->node.intent;
  }
  view.Trim();
  return order;
}

}  // namespace pargeter
