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
    PG_ASSIGN(const bool meets, resolver_.MeetsFile(*job));
    if (!meets) return made.error();
    job->delay = Duration(100);
    return Outcome::kAgain;
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Node& node = live->node;
  const bool is_new = node.there == There::kAbsent;
  node.marker = node.attributes_known = true;
  node.error.clear();
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  if (SameAttributes(node, job->node)) node.dirty &= ~(kAttributes | kOwn);
  if (node.gone()) {
    node.there = There::kElsewhere;
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
    // nobody else can have put anything in before it was there
    if (is_new && node.listed_at == 0) node.listed_at = options_.clock->Wall();
  }
  provenance_.acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(committer_.AboveIsThere(view, *job));
  if (job->occupant != kNoNode) PG_TRY(held_.TakeOver(view, job->id, job->occupant, job->came));
  if (!node.gone() && node.there != There::kElsewhere && node.dirty == kClean) node.intent = 0;
  PG_TRY(view.Save(live));
  PG_TRY(change.Commit());
  return node.intent == 0 ? Outcome::kDone : Outcome::kAgain;
}

// In one request where the store has such a one. Else every object below the old name is brought to
// the new one, then the folder's place is changed, then what was copied goes. Begun again after a
// crash it finds what is left to do: copies are the same copies, and the folder's place changes
// only when all is done.
Result<Outcome> FolderMover::MoveFolder(Job* job) {
  // what is on its way into the folder would be left at its former place
  const Outbox::Alone alone(&outbox_, job->id, options_.clock->Now() + kAloneWithin);
  if (!alone) {
    job->delay = kAloneAgain;
    job->longest = kAloneAgain * 10;
    job->why = "other changes are under way, and the folder moves alone";
    return Outcome::kAgain;
  }
  bool unsure = false;
  {
    // others may have changed what was planned before they were done
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(job->id));
    if (live->node.there != There::kElsewhere || live->node.gone()) return Outcome::kAgain;
    Job fresh;
    fresh.id = job->id;
    fresh.call = job->call;
    *job = std::move(fresh);
    PG_TRY(planner_.PlanJob(view, job));
    if (job->postponed) return job->behind != kNoNode ? Outcome::kParked : Outcome::kAgain;
    PG_ASSIGN(unsure, provenance_.WasTriedBelow(view, job->id));
    if (job->occupant != kNoNode) PG_TRY(held_.HeldBelow(view, job->occupant, "", &job->standing));
    if (const auto it = evidence_.kept_below_(view).find(job->id);
        it != evidence_.kept_below_(view).end())
      job->kept = it->second;
    if (const auto it = evidence_.copied_below_(view).find(job->id);
        it != evidence_.copied_below_(view).end())
      job->left = it->second;
  }
  if (job->sync_first) PG_TRY(tree_.Sync());
  if (!job->tried_path.empty()) return rollback_.TakeBack(job);
  if (unsure && evidence_.MayBeLate(job)) return Outcome::kAgain;
  bool whole = false;  // in one request, with all that is in it
  Status moved = Error(Code::kChanged, "");
  if (store_->Can().moves_folders) {
    moved = store_->MoveFolder(job->there_path, job->path, job->call);
    whole = moved.ok();
  }
  if (!whole && !job->aside && MayBeItself(moved.error().code)) {
    PG_ASSIGN(const bool itself, evidence_.IsItself(*job, job->path));
    if (itself) return resolver_.GoAside(job);
  }
  // something is in the way: ours goes beside it; or others deleted it: nothing is to be moved
  if (!whole && moved.error().code != Code::kChanged && moved.error().code != Code::kNotFound)
    return moved.error();
  if (!whole) {
    PG_ASSIGN(const bool meets, resolver_.MeetsFile(*job));
    job->delay = Duration(100);
    if (meets) return Outcome::kAgain;
    const Status brought = BringBelow(job);
    {
      View view(&tree_);
      evidence_.kept_below_(view)[job->id] = job->kept;
    }
    PG_TRY(brought);
  }
  if (job->occupant != kNoNode) PG_TRY(SeeWhatCame(job));
  PG_TRY(RecordMove(job, whole));
  // before anything comes to its former place: moved once more after a power cut, it would take
  // that along
  PG_TRY(tree_.Sync());
  tree_.NotifyAll();
  job->delay = Duration(0);
  return Outcome::kAgain;
}

// The folder is at its new place: `whole`, in one request with all that is in it, or object by
// object.
Status FolderMover::RecordMove(Job* job, bool whole) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Node& node = live->node;
  if (job->occupant != kNoNode) PG_TRY(held_.TakeOver(view, job->id, job->occupant, job->came));
  provenance_.removed_(view)[{node.there_parent, node.there_name}] = options_.clock->Now();
  provenance_.not_there_(view).erase(job->id);
  // from here on the folder is at its new place, and what is at the old one is taken back
  node.tried_parent = whole ? kNoNode : node.there_parent;
  node.tried_name = whole ? "" : node.there_name;
  if (node.gone()) {
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
  }
  provenance_.acked_(view)[node.id] = options_.clock->Now();
  // what was there, or is said there by what was deleted here and is held back, is not ours
  if (!whole && (store_->Can().real_folders || job->occupant != kNoNode)) node.dirty |= kAttributes;
  PG_TRY(committer_.AboveIsThere(view, *job));
  PG_TRY(view.Save(live));
  PG_TRY(TakeCopies(view, node.id, job->copied));
  if (!whole && !job->copied.empty())
    evidence_.copied_below_(view)[node.id] = std::move(job->copied);
  if (whole) job->kept.clear();  // what a former attempt named so is gone
  for (auto one = job->kept.rbegin(); one != job->kept.rend(); ++one)
    PG_TRY(resolver_.NameKept(view, node.id, one->path, one->name, one->version));
  evidence_.kept_below_(view).erase(node.id);
  committer_.ReadOnFromNewPlaces(view);
  merge_.listed_(view).clear();
  return change.Commit();
}

}  // namespace pargeter
