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
constexpr Duration kNextTry(200);  // after a change that came between

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
  PG_TRY(uploader_.ReadAttributesBeforeSending(*job));
  bool comes_down = false;
  std::optional<Outcome> wait;
  {
    View view(&tree_);
    auto inode = view.Get(job->id);
    if (!inode.ok()) return Outcome::Done();
    Node& waiting = (*inode)->node;
    if (waiting.pending.seq == 0) return Outcome::Done();
    if (IsLocalOnly(waiting)) {
      waiting.pending.seq = 0;
      PG_TRY(view.Save(*inode));
      return Outcome::Done();
    }
    comes_down = waiting.effective == Placement::kLocal && !waiting.gone() &&
                 waiting.kind == NodeKind::kFile && waiting.remote.place != RemotePlace::kNone &&
                 waiting.attempt.parent == kNoNode && waiting.upload_log.empty();
    if (!comes_down) {
      PG_ASSIGN(wait, planner_.PlanJob(view, job));
    }
  }
  if (comes_down) return uploader_.MakeLocalOnly(job);
  if (job->sync_first) PG_TRY(tree_.Sync());
  if (wait) return *wait;
  if (!job->tried_path.empty()) return rollback_.RollBackAttempt(job);
  const Node& node = job->node;
  if (node.upload_log.multipart() && (node.gone() || !(node.dirty & kData))) {
    // begun for bytes that nobody wants up any more
    PG_TRY(send_log_.AbortMultipart(node.upload_log, job->call));
    // (of what is deleted they may have been put together before that, and nobody heard of it)
    PG_TRY(send_log_.JournalMultipart(
        node.id, node.gone() ? provenance_.TrustOriginEverywhere(node) : UploadLog()));
    return Outcome::Again();
  }
  if (node.gone()) return remover_.RemoveRemote(job);
  const bool moved = node.remote.place == RemotePlace::kMoved;
  if (node.remote.place != RemotePlace::kNone && !moved && node.dirty == kClean &&
      node.copy.path.empty())
    return committer_.MarkSynced(job->id);
  if (node.kind == NodeKind::kFolder)
    return moved ? mover_.MoveFolder(job) : mover_.SendFolder(job);
  if (!node.copy.path.empty()) return uploader_.CopyFile(job);
  // out of the way of its own new name: as it is, and from there with its new bytes
  if (job->aside && moved && store_->Can().moves_files) return uploader_.CopyFile(job);
  if ((node.dirty & kData) || node.remote.place == RemotePlace::kNone)
    return uploader_.UploadFile(job);
  return uploader_.CopyFile(job);
}

TurnResult Reconciler::RunTurn(NodeId id, int tries, const Cancel& cancel) {
  Job job;
  job.id = id;
  job.call.cancel = cancel;
  Result<Outcome> outcome = Reconcile(&job);
  if (!outcome.ok()) return TurnAfter(job, outcome.error(), tries + 1);
  TurnResult& result = *outcome;
  if (result.next == TurnResult::Next::kDone) {
    health_.ClearFault(id);
  } else if (result.next == TurnResult::Next::kBehind) {
    const auto path = facts_.PathOf(result.behind);
    const bool named = path.ok() && !path->empty();
    result.why = "the change waits for " + (named ? Printable(*path) : "another change");
  } else if (result.why.empty()) {
    result.why = "the change takes several steps";
  }
  return result;
}

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
    result.delay = NoteTransientFailure(job.id, error, tries);
  } else {
    if (IsForPerson(error.code)) result.refusal = error;
    result.delay = NoteFailed(job, error);
  }
  return result;
}

Duration Reconciler::NoteFailed(const Job& job, const Error& error) {
  LogAbout(LogLevel::kWarning, {job.path, NameOf(error.code)}, "an upload waits: {}", error.what);
  View view(&tree_);
  auto inode = view.Get(job.id);
  if (!inode.ok() || (*inode)->node.pending.seq == 0) return kNextTry;
  Node& node = (*inode)->node;
  ++node.pending.tries;
  node.pending.error = error.what;
  Ignore(view.Save(*inode));
  health_.NoteFault(job.id, error);
  // the wire has retried already: from here on, slowly
  const Duration delay =
      std::min(kLongestAfterRefusal,
               options_.retry_pause * (1 << std::min<std::int64_t>(node.pending.tries, 8)));
  const bool passes = MayRetry(error.code) || error.code == Code::kBusy;  // a lock lapses
  return passes ? std::min(delay, kLongestAfterFault) : delay;
}

Duration Reconciler::NoteTransientFailure(NodeId id, const Error& error, int tries) {
  if (tries < kOftenInARow || stop_->cancelled()) return kNextTry;
  View view(&tree_);
  auto inode = view.Get(id);
  if (inode.ok() && (*inode)->node.pending.seq != 0 && (*inode)->node.pending.error != error.what) {
    (*inode)->node.pending.error = error.what;
    Ignore(view.Save(*inode));
  }
  const Duration pause = std::max(kNextTry, std::min(options_.retry_pause, kPassingPause));
  return std::min(kLongestPause, pause * (1 << std::min(tries - kOftenInARow, 5)));
}

std::int64_t Reconciler::EndTurn(NodeId id) {
  View view(&tree_);
  std::int64_t order = 0;
  if (const auto it = view.inodes().find(id); it != view.inodes().end()) {
    it->second->upload.reset();
    order = it->second->node.pending.seq;
  }
  view.Trim();
  return order;
}

}  // namespace pargeter
