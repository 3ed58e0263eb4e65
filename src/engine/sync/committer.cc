// Committer: the tree is told what the store has acknowledged.
#include "engine/sync/committer.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <ctime>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "provider/attributes.h"

namespace pargeter {

using Place = BlockStore::Place;

// Nothing differs any more.
Result<Outcome> Committer::Settle(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  const Node& node = live->node;
  if (node.gone() || node.there == There::kAbsent || node.there == There::kElsewhere ||
      node.dirty != kClean || node.tried_parent != kNoNode)
    return Outcome::kAgain;  // changed meanwhile
  live->node.intent = 0;
  PG_TRY(view.Save(live));
  return Outcome::kDone;
}

// A move takes those along that are there, and an upload that was cut off after its bytes had none:
// the others go up afterwards.
void Committer::NoteAttributesSent(const Job& job, SentAs how, Node* node) {
  if (how == SentAs::kBytes || how == SentAs::kBytesAlone) node->attributes_known = true;
  const bool same = SameAttributes(*node, job.node);
  const bool sent =
      how == SentAs::kBytes || (how == SentAs::kCopy && (job.node.dirty & kAttributes) != 0);
  if (how == SentAs::kBytesAlone)
    node->dirty |= kAttributes;
  else if (same && sent)
    node->dirty &= ~(kAttributes | kOwn);
}

// The store has acknowledged exactly what `job` sent.
Status Committer::CommitUpload(Job* job, const Entry& entry, SentAs how) {
  PG_ASSIGN(const Afterwards then, RecordUpload(job, entry, how));
  if (!then.thin && !then.given_up) return {};
  PG_TRY(tree_.Sync());  // before what is here goes
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(job->id));
  if (then.thin) contents_.DropIfUnused(view, live);
  if (then.given_up && live->content) contents_.GiveUpBytes(view, live);
  return {};
}

Result<Committer::Afterwards> Committer::RecordUpload(Job* job, const Entry& entry, SentAs how) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Node& node = live->node;
  node.version = entry.version;
  node.there_size = entry.size;
  if (job->parts_ended || !HasParts(node.upload)) node.upload.clear();
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  if (node.generation == job->node.generation) {
    node.copy_of.clear();
    node.copy_version.clear();
    std::erase_if(contents_.copy_sources_(view),
                  [&](const auto& copy) { return copy.second == job->id; });
  }
  node.error.clear();
  node.attempts = 0;
  if (node.gone()) {
    node.there = There::kElsewhere;
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
  }
  provenance_.acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(AboveIsThere(view, *job));
  health_.NoteSignedIn();
  if (how == SentAs::kMove)  // a listing that began before may still show it
    provenance_.removed_(view)[{job->node.there_parent, job->node.there_name}] =
        options_.clock->Now();
  else
    PG_TRY(LeaveOldPlace(view, *job, how));
  DropOccupant(view, job);
  Afterwards then;
  bool same_bytes = node.generation == job->node.generation;
  if (live->content) {
    const Lock lock(live->content->mu);
    same_bytes = same_bytes && live->content->about_to_change == 0;
  }
  // what only moved had its former bytes
  if (how == SentAs::kMove && (node.dirty & kData) != 0) same_bytes = false;
  if (live->content && !same_bytes) {
    // changed here since: what is not here of what it stands on is there now, as what was sent
    const Lock lock(live->content->mu);
    live->content->source.path = job->path;
    live->content->source.version = entry.version;
  }
  NoteAttributesSent(*job, how, &node);
  if (same_bytes && !node.gone()) {
    PG_TRY(SettleBytes(view, *job, live, entry, &then));
  } else {
    view.Push(node.id, node.intent);
  }
  PG_TRY(view.Save(live));
  if (then.thin) job->content.reset();
  view.EmitHappened("here", job->node.there == There::kElsewhere ? "moved" : "uploaded", job->path,
                    FormatSize(entry.size));
  PG_TRY(change.Commit());
  // before what is at its old place goes: that has its turn when the lock is free
  if (job->aside) PG_TRY(view.SyncUnderLock());
  Log(LogLevel::kInfo, "uploaded {} ({} bytes)", job->path, entry.size);
  return then;
}

// What is here is what the store has acknowledged: it is cache from now on.
Status Committer::SettleBytes(View& view, const Job& job, Live* live, const Entry& entry,
                              Afterwards* then) {
  Node& node = live->node;
  view.NoteAcked((node.dirty & kSynced) != 0);
  node.dirty &= ~kAllData;
  if (live->content) {
    // still open for writing: the next write begins anew, so it may go back to the cache
    const Lock lock(live->content->mu);
    if (live->content->place == Place::kPending) {
      then->given_up =
          !blocks_->OneDisk() && !live->content->carried && !live->content->present.empty();
      if (!then->given_up) PG_TRY(contents_.MoveContent(live->content.get(), Place::kCache));
    }
    live->content->source = {job.path, entry.version, entry.size};
    // as cache it counts whole: nobody looks for its holes any more
    budget_->Count(live->content->hollow.Bytes());
    live->content->hollow.Clear();
    node.on_disk = then->given_up ? 0 : live->content->present.Bytes();
    if (then->given_up) PG_TRY(view.index().DropPresence(node.id));
  }
  const bool settled =
      node.there != There::kElsewhere && node.dirty == kClean && node.upload.empty();
  if (settled) {
    node.intent = 0;
    if (node.effective == Placement::kThin) then->thin = true;
  } else {
    view.Push(node.id, node.intent);
  }
  return {};
}

Status Committer::AboveIsThere(View& view, const Job& job) {
  for (const Job::Above& one : job.above) {
    auto found = view.Get(one.id);
    if (!found.ok() && found.error().code == Code::kStale) {
      // removed here before the store had it: it has it now, and what is in it has its place there
      Node again;
      again.id = one.id;
      again.kind = NodeKind::kFolder;
      again.there = There::kElsewhere;
      again.there_parent = one.parent;
      again.there_name = one.key;
      again.mtime = again.ctime = options_.clock->Wall();
      PG_TRY(view.index().Insert(&again));
      found = view.Get(one.id);
      PG_TRY(found);
      PG_TRY(view.AddIntent(*found));
      provenance_.acked_(view)[one.id] = options_.clock->Now();
      continue;
    }
    if (!found.ok() || (*found)->node.there != There::kAbsent) continue;
    Node& folder = (*found)->node;
    if (folder.gone()) {
      folder.there = There::kElsewhere;
      folder.there_parent = one.parent;
      folder.there_name = one.key;
      if (folder.intent == 0) PG_TRY(view.AddIntent(*found));
    } else {
      SetThere(&folder, one.parent, one.key);
      folder.dirty |= kAttributes;  // they did not come with it
      // nobody else can have put anything in before it was there
      if (folder.listed_at == 0) folder.listed_at = options_.clock->Wall();
    }
    if (folder.tried_parent == one.parent && folder.tried_name == one.key) {
      folder.tried_parent = kNoNode;
      folder.tried_name.clear();
    }
    provenance_.acked_(view)[folder.id] = options_.clock->Now();
    PG_TRY(view.Save(*found));
  }
  return {};
}

// It is at its new place. What is left at the old one is a deletion of its own, journalled with the
// move: so it is done once, whatever happens between.
Status Committer::LeaveOldPlace(View& view, const Job& job, SentAs how) {
  if (job.node.there != There::kElsewhere || job.there_path == job.path) return {};
  Node old;
  old.kind = job.node.kind;
  old.there = There::kElsewhere;
  old.there_parent = job.node.there_parent;
  old.there_name = job.node.there_name;
  old.version = job.node.version;
  old.size = old.there_size = job.node.there_size;
  old.mtime = old.ctime = job.node.mtime;
  old.target = provenance_.OriginOf(job.id);
  old.dirty = job.node.dirty & kUnsure;
  if (SentTo(job.node.upload, provenance_.PlaceThere(job.node))) old.upload = job.node.upload;
  old.intent = view.index().NextIntent();
  old.intent_since = options_.clock->FileTime();
  PG_TRY(view.index().Insert(&old));
  view.Touch(old.id);
  if (how == SentAs::kCopy || how == SentAs::kCopyBefore)
    provenance_.left_by_(view).emplace(job.id, old.id);
  provenance_.acked_(view)[old.id] =
      options_.clock->Now();  // a listing that began before may not have it
  // a copy has just checked what stands there
  if (how == SentAs::kCopy) provenance_.just_copied_(view)[old.id] = options_.clock->Now();
  view.Push(old.id, old.intent, Duration(0));
  return {};
}

void Committer::DropOccupant(View& view, Job* job) {
  if (job->occupant == kNoNode) return;
  if (const auto occupant = view.Get(job->occupant); occupant.ok())
    held_.DropThere(view, *occupant, job->path);
}

// What is open, after a folder has moved.
void Committer::ReadOnFromNewPlaces(View& view) {
  for (auto& [id, other] : view.inodes()) {
    if (!other->content || other->node.there == There::kAbsent || other->node.gone()) continue;
    auto path = view.TherePath(other->node);
    const Lock lock(other->content->mu);
    if (path.ok() && other->node.copy_of.empty()) other->content->source.path = *path;
  }
}

}  // namespace pargeter
