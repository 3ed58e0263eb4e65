// FolderMover: new folders, and moves of whole ones.
#include "engine/sync/folder_mover.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/committer.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/sync/evidence.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "engine/sync/planner.h"
#include "engine/sync/rollback.h"
#include "engine/sync/send_log.h"

namespace pargeter {

namespace {
constexpr Duration kAloneWithin(600'000), kAloneAgain(200);  // for a folder's move
}  // namespace

Result<Outcome> FolderMover::SendFolder(Job* job) {
  const Status made = store_->MakeFolder(job->path, job->attributes, job->call);
  if (!made.ok()) {
    if (made.error().code != Code::kChanged) return made.error();
    PG_ASSIGN(const bool meets, resolver_.FindForeignFileOnPath(*job));
    if (!meets) return made.error();
    return Outcome::Again(kSoon);
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  Node& node = inode->node;
  const bool is_new = node.remote.place == RemotePlace::kNone;
  node.marker = node.attributes_known = true;
  node.pending.error.clear();
  node.attempt = {};
  if (SameAttributes(node, job->node)) node.dirty &= ~(kAttributes | kOwn);
  if (node.gone()) {
    node.remote.place = RemotePlace::kMoved;
    node.remote.parent = job->parent;
    node.remote.name = job->key;
  } else {
    SetRemote(&node, job->parent, job->key);
    // nobody else can have put anything in before it was there
    if (is_new && node.listed_at == 0) node.listed_at = options_.clock->Wall();
  }
  provenance_.recent(view).NoteChanged(node.id);
  PG_TRY(committer_.MarkParentsExist(view, *job));
  if (job->occupant != kNoNode)
    PG_TRY(held_.MergeHeldFolder(view, job->id, job->occupant, job->came));
  if (!node.gone() && node.remote.place != RemotePlace::kMoved && node.dirty == kClean)
    node.pending.seq = 0;
  PG_TRY(view.Save(inode));
  PG_TRY(change.Commit());
  return node.pending.seq == 0 ? Outcome::Done() : Outcome::Again();
}

// In one request where the store has such a one. Else every object below the old name is brought to
// the new one, then the folder's place is changed, then what was copied goes. Begun again after a
// crash it finds what is left to do: copies are the same copies, and the folder's place changes
// only when all is done.
Result<Outcome> FolderMover::MoveFolder(Job* job) {
  // what is on its way into the folder would be left at its former place
  const Outbox::Alone alone(&outbox_, job->id, options_.clock->Now() + kAloneWithin);
  if (!alone) {
    return Outcome::Again(kAloneAgain, "other changes are under way, and the folder moves alone",
                          kAloneAgain * 10);
  }
  bool unsure = false;
  {
    // others may have changed what was planned before they were done
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(job->id));
    if (inode->node.remote.place != RemotePlace::kMoved || inode->node.gone())
      return Outcome::Again();
    Job fresh;
    fresh.id = job->id;
    fresh.call = job->call;
    *job = std::move(fresh);
    PG_ASSIGN(const std::optional<Outcome> wait, planner_.PlanJob(view, job));
    if (wait) return *wait;
    PG_ASSIGN(unsure, provenance_.HasAttemptBelow(view, job->id));
    if (job->occupant != kNoNode) PG_TRY(held_.HeldBelow(view, job->occupant, "", &job->standing));
    if (const auto it = evidence_.conflict_copies_(view).find(job->id);
        it != evidence_.conflict_copies_(view).end())
      job->kept = it->second;
    if (const auto it = evidence_.copied_objects_(view).find(job->id);
        it != evidence_.copied_objects_(view).end())
      job->left = it->second;
  }
  if (job->sync_first) PG_TRY(tree_.Sync());
  if (!job->tried_path.empty()) return rollback_.RollBackAttempt(job);
  if (unsure) {
    if (const auto wait = evidence_.WaitForAttempt(job->id)) return *wait;
  }
  bool whole = false;  // in one request, with all that is in it
  Status moved = Error(Code::kChanged, "");
  if (store_->Can().moves_folders) {
    moved = store_->MoveFolder(job->there_path, job->path, job->call);
    whole = moved.ok();
  }
  if (!whole && !job->aside && MayBeAliasOfSelf(moved.error().code)) {
    PG_ASSIGN(const bool itself, evidence_.IsAliasOfSelf(*job, job->path));
    if (itself) return resolver_.MoveViaTempName(job);
  }
  // something is in the way: ours goes beside it; or others deleted it: nothing is to be moved
  if (!whole && moved.error().code != Code::kChanged && moved.error().code != Code::kNotFound)
    return moved.error();
  if (!whole) {
    PG_ASSIGN(const bool meets, resolver_.FindForeignFileOnPath(*job));
    if (meets) return Outcome::Again(kSoon);
    const Status brought = CopySubtree(job);
    {
      View view(&tree_);
      evidence_.conflict_copies_(view)[job->id] = job->kept;
    }
    PG_TRY(brought);
  }
  if (job->occupant != kNoNode) PG_TRY(NoteArrivals(job));
  PG_TRY(RecordMove(job, whole));
  // before anything comes to its former place: moved once more after a power cut, it would take
  // that along
  PG_TRY(tree_.Sync());
  tree_.NotifyAll();
  return Outcome::Again();
}

Status FolderMover::RecordMove(Job* job, bool whole) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  Node& node = inode->node;
  if (job->occupant != kNoNode)
    PG_TRY(held_.MergeHeldFolder(view, job->id, job->occupant, job->came));
  provenance_.recent(view).NoteGone(node);
  provenance_.recent(view).ForgetMissing(job->id);
  // from here on the folder is at its new place, and what is at the old one is taken back
  node.attempt.parent = whole ? kNoNode : node.remote.parent;
  node.attempt.name = whole ? "" : node.remote.name;
  if (node.gone()) {
    node.remote.parent = job->parent;
    node.remote.name = job->key;
  } else {
    SetRemote(&node, job->parent, job->key);
  }
  provenance_.recent(view).NoteChanged(node.id);
  // what was there, or is said there by what was deleted here and is held back, is not ours
  if (!whole && (store_->Can().real_folders || job->occupant != kNoNode)) node.dirty |= kAttributes;
  PG_TRY(committer_.MarkParentsExist(view, *job));
  PG_TRY(view.Save(inode));
  PG_TRY(AdoptCopies(view, node.id, job->copied));
  if (!whole && !job->copied.empty())
    evidence_.copied_objects_(view)[node.id] = std::move(job->copied);
  if (whole) job->kept.clear();  // what a former attempt named so is gone
  for (auto one = job->kept.rbegin(); one != job->kept.rend(); ++one)
    PG_TRY(resolver_.NameKept(view, node.id, one->path, one->name, one->version));
  evidence_.conflict_copies_(view).erase(node.id);
  merge_.listing_ages_(view).DistrustAll(options_.clock->Now());
  return change.Commit();
}

}  // namespace pargeter
