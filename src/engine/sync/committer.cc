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

Result<Outcome> Committer::MarkSynced(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  const Node& node = inode->node;
  if (node.gone() || node.remote.place == RemotePlace::kNone ||
      node.remote.place == RemotePlace::kMoved || node.dirty != kClean ||
      node.attempt.parent != kNoNode)
    return Outcome::Again();  // changed meanwhile
  inode->node.pending.seq = 0;
  PG_TRY(view.Save(inode));
  return Outcome::Done();
}

void Committer::NoteAttributesSent(const Job& job, UploadMethod how, Node* node) {
  if (how == UploadMethod::kBytes || how == UploadMethod::kBytesWithoutAttributes)
    node->attributes_known = true;
  const bool same = SameAttributes(*node, job.node);
  const bool sent = how == UploadMethod::kBytes ||
                    (how == UploadMethod::kCopy && (job.node.dirty & kAttributes) != 0);
  if (how == UploadMethod::kBytesWithoutAttributes)
    node->dirty |= kAttributes;
  else if (same && sent)
    node->dirty &= ~(kAttributes | kOwn);
}

Status Committer::CommitUpload(Job* job, const Entry& entry, UploadMethod how) {
  PG_ASSIGN(const Afterwards then, RecordUpload(job, entry, how));
  if (!then.thin && !then.given_up) return {};
  PG_TRY(tree_.Sync());  // before what is here goes
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  if (then.thin) contents_.DropIfUnused(view, inode);
  if (then.given_up && inode->content) contents_.DiscardBytes(view, inode);
  return {};
}

Result<Committer::Afterwards> Committer::RecordUpload(Job* job, const Entry& entry,
                                                      UploadMethod how) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  Node& node = inode->node;
  node.remote.version = entry.version;
  node.remote.size = entry.size;
  if (job->parts_ended || !node.upload_log.multipart()) node.upload_log.Clear();
  node.attempt = {};
  if (node.generation == job->node.generation) {
    node.copy = {};
  }
  node.pending.error.clear();
  node.pending.tries = 0;
  if (node.gone()) {
    node.remote.place = RemotePlace::kMoved;
    node.remote.parent = job->parent;
    node.remote.name = job->key;
  } else {
    SetRemote(&node, job->parent, job->key);
  }
  provenance_.recent(view).NoteChanged(node.id);
  PG_TRY(MarkParentsExist(view, *job));
  health_.NoteSignedIn();
  if (how == UploadMethod::kMove)  // a listing that began before may still show it
    provenance_.recent(view).NoteGone(job->node);
  else
    PG_TRY(AddTombstone(view, *job, how));
  DropOccupant(view, job);
  Afterwards then;
  bool same_bytes = node.generation == job->node.generation;
  if (inode->content) {
    const Lock lock(inode->content->mu);
    same_bytes = same_bytes && inode->content->about_to_change == 0;
  }
  // what only moved had its former bytes
  if (how == UploadMethod::kMove && (node.dirty & kData) != 0) same_bytes = false;
  if (inode->content && !same_bytes) {
    // changed here since: what is not here of what it stands on is there now, as what was sent
    const Lock lock(inode->content->mu);
    if (node.copy.path.empty()) inode->content->base.version = entry.version;
  }
  NoteAttributesSent(*job, how, &node);
  if (same_bytes && !node.gone()) {
    PG_TRY(SettleBytes(view, inode, entry, &then));
  } else {
    view.Push(node.id, node.pending.seq);
  }
  PG_TRY(view.Save(inode));
  if (then.thin) job->content.reset();
  view.EmitHappened("here", job->node.remote.place == RemotePlace::kMoved ? "moved" : "uploaded",
                    job->path, FormatSize(entry.size));
  PG_TRY(change.Commit());
  // before what is at its old place goes: that has its turn when the lock is free
  if (job->aside) PG_TRY(view.SyncUnderLock());
  Log(LogLevel::kInfo, "uploaded {} ({} bytes)", job->path, entry.size);
  return then;
}

Status Committer::SettleBytes(View& view, Inode* inode, const Entry& entry, Afterwards* then) {
  Node& node = inode->node;
  view.NoteAcked((node.dirty & kSynced) != 0);
  node.dirty &= ~kAllData;
  if (inode->content) {
    // still open for writing: the next write begins anew, so it may go back to the cache
    const Lock lock(inode->content->mu);
    if (inode->content->place == Place::kPending) {
      then->given_up =
          !blocks_->OneDisk() && !inode->content->staged && !inode->content->present.empty();
      if (!then->given_up) PG_TRY(contents_.Relocate(inode->content.get(), Place::kCache));
    }
    inode->content->base = {entry.version, entry.size};
    // as cache it counts whole: nobody looks for its holes any more
    budget_->Count(inode->content->hollow.Bytes());
    inode->content->hollow.Clear();
    node.cached.bytes = then->given_up ? 0 : inode->content->present.Bytes();
    if (then->given_up) PG_TRY(view.index().DropPresence(node.id));
  }
  const bool settled =
      node.remote.place != RemotePlace::kMoved && node.dirty == kClean && node.upload_log.empty();
  if (settled) {
    node.pending.seq = 0;
    if (KeepsNoBytes(node)) then->thin = true;
  } else {
    view.Push(node.id, node.pending.seq);
  }
  return {};
}

Status Committer::MarkParentsExist(View& view, const Job& job) {
  for (const Job::Above& one : job.above) {
    auto found = view.Get(one.id);
    if (!found.ok() && found.error().code == Code::kStale) {
      // removed here before the store had it: it has it now, and what is in it has its place there
      Node again;
      again.id = one.id;
      again.kind = NodeKind::kFolder;
      again.remote.place = RemotePlace::kMoved;
      again.remote.parent = one.parent;
      again.remote.name = one.key;
      again.mtime = again.ctime = options_.clock->Wall();
      PG_TRY(view.index().Insert(&again));
      found = view.Get(one.id);
      PG_TRY(found);
      PG_TRY(view.QueueChange(*found));
      provenance_.recent(view).NoteChanged(one.id);
      continue;
    }
    if (!found.ok() || (*found)->node.remote.place != RemotePlace::kNone) continue;
    Node& folder = (*found)->node;
    if (folder.gone()) {
      folder.remote.place = RemotePlace::kMoved;
      folder.remote.parent = one.parent;
      folder.remote.name = one.key;
      if (folder.pending.seq == 0) PG_TRY(view.QueueChange(*found));
    } else {
      SetRemote(&folder, one.parent, one.key);
      folder.dirty |= kAttributes;  // they did not come with it
      // nobody else can have put anything in before it was there
      if (folder.listed_at == 0) folder.listed_at = options_.clock->Wall();
    }
    if (folder.attempt.parent == one.parent && folder.attempt.name == one.key) {
      folder.attempt = {};
    }
    provenance_.recent(view).NoteChanged(folder.id);
    PG_TRY(view.Save(*found));
  }
  return {};
}

Status Committer::AddTombstone(View& view, const Job& job, UploadMethod how) {
  if (job.node.remote.place != RemotePlace::kMoved || job.there_path == job.path) return {};
  Node old;
  old.kind = job.node.kind;
  old.remote.place = RemotePlace::kMoved;
  old.remote.parent = job.node.remote.parent;
  old.remote.name = job.node.remote.name;
  old.remote.version = job.node.remote.version;
  old.size = old.remote.size = job.node.remote.size;
  old.mtime = old.ctime = job.node.mtime;
  old.target = provenance_.OriginOf(job.id);
  old.dirty = job.node.dirty & kMaybeStale;
  if (job.node.upload_log.WasSentTo(provenance_.RemotePlaceId(job.node)))
    old.upload_log = job.node.upload_log;
  old.pending.seq = view.index().NextSeq();
  old.pending.since = options_.clock->FileTime();
  PG_TRY(view.index().Insert(&old));
  view.Touch(old.id);
  if (how == UploadMethod::kCopy || how == UploadMethod::kEarlierCopy)
    provenance_.recent(view).AddTombstone(job.id, old.id);
  provenance_.recent(view).NoteChanged(old.id);  // a listing that began before may not have it
  // a copy has just checked what stands there
  if (how == UploadMethod::kCopy) provenance_.recent(view).NoteCopied(old.id);
  view.Push(old.id, old.pending.seq, Duration(0));
  return {};
}

void Committer::DropOccupant(View& view, Job* job) {
  if (job->occupant == kNoNode) return;
  if (const auto occupant = view.Get(job->occupant); occupant.ok())
    held_.DropRemote(view, *occupant, job->path);
}

}  // namespace pargeter
