// Remover: deletions at the store, one by one or a folder's worth at once.
#include "engine/sync/remover.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/policy/deletion_guard.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/evidence.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "engine/sync/planner.h"

namespace pargeter {

namespace {
constexpr Duration kStillTrue(2000);  // what a copy found at its source

constexpr Duration kSurelyThere(30000);  // what was copied, without a look

constexpr std::size_t kWorthListing = 4;  // from so many on, one listing checks them all

constexpr Duration kSiblingAgain(2000);

// The turn of a node whose deletion was sent together with another's.
TurnResult TurnOfSibling(const Status& deleted) {
  if (deleted.ok()) return TurnResult::Done();
  TurnResult result;
  result.next = TurnResult::Next::kAgain;
  result.delay = kSiblingAgain;
  result.why = deleted.error().what;
  return result;
}
}  // namespace

Result<Outcome> Remover::RemoveRemote(Job* job) {
  const Node& node = job->node;
  if (node.remote.place == RemotePlace::kNone) {
    PG_TRY(CommitGone(node.id));
    return Outcome::Done();
  }
  if (node.kind == NodeKind::kFolder) {
    PG_TRY(store_->RemoveFolder(job->there_path, job->call));
    PG_TRY(CommitGone(node.id));
    return Outcome::Done();
  }
  // others of the same folder that wait too
  std::vector<Node> group = {node};
  bool alone = false;
  {
    View view(&tree_);
    alone = !planner_.SpelledNow(view, node).empty() || TombstoneNeedsCheck(view, node);
  }
  if (!alone) {
    View view(&tree_);
    PG_ASSIGN(const std::vector<NodeId> siblings, view.index().RemoteChildren(node.remote.parent));
    for (const NodeId id : siblings) {
      if (group.size() >= 1000) break;
      if (id == node.id || !outbox_.IsQueued(id)) continue;
      auto found = view.Get(id);
      if (!found.ok()) continue;
      Inode* inode = *found;
      const Node& other = inode->node;
      if (!other.gone() || guard_.IsHeld(view, other) || other.kind == NodeKind::kFolder ||
          other.remote.place != RemotePlace::kMoved)
        continue;
      if (inode->opens + inode->detached_opens > 0 || other.upload_log.multipart() ||
          planner_.HasStaleAttempt(other) || !planner_.SpelledNow(view, other).empty() ||
          TombstoneNeedsCheck(view, other))
        continue;
      const auto blocker = planner_.BlockerOf(view, other);
      if (!blocker.ok() || *blocker) continue;
      if (!outbox_.Steal(id)) continue;
      inode->upload = job->call.cancel;
      group.push_back(other);
    }
  }
  if (group.size() >= kWorthListing) return RemoveSiblings(job, group);
  std::optional<Error> failed;
  for (const Node& one : group) {
    Status gone = RemoveOne(one, job->call);
    if (gone.ok()) gone = CommitGone(one.id);
    if (!gone.ok()) failed = gone.error();
    if (!gone.ok()) ScheduleCheck(one.id);
    if (one.id != job->id) outbox_.EndStolen(one.id, TurnOfSibling(gone));
  }
  if (failed) return *failed;
  return Outcome::Done();
}

bool Remover::TombstoneNeedsCheck(View& view, const Node& node) {
  if (!IsTombstone(node)) return false;
  if (node.target == kDisowned) return true;
  const RecentChanges& recent = provenance_.recent(view);
  if (!recent.IsTombstoneOf(provenance_.WrittenBy(node.target), node.id))
    return false;  // the upload to the new place had other bytes
  return node.pending.tries > 0 || !recent.WasCopiedWithin(node.id, kSurelyThere);
}

void Remover::ScheduleCheck(NodeId left) {
  View view(&tree_);
  provenance_.recent(view).ForgetCopied(left);
}

Result<bool> Remover::IsLastCopy(NodeId id, const Call& call) {
  std::string path, version;
  NodeId moved = kNoNode;
  bool tried = false;
  {
    View view(&tree_);
    PG_ASSIGN(const Inode* left, view.Get(id));
    if (left->node.target == kDisowned) return true;
    moved = provenance_.WrittenBy(left->node.target);
    const auto inode = view.Get(moved);
    if (!inode.ok() || (*inode)->node.gone() || (*inode)->node.remote.place == RemotePlace::kNone)
      return false;
    const Node& node = (*inode)->node;
    if ((node.dirty & kData) && node.cached.bytes >= node.size)
      return false;  // nobody needs the former
    PG_ASSIGN(path, view.RemotePath(node));
    version = node.remote.version;
    tried = HasMoveAttempt(node);
  }
  const auto there = store_->Look(path, call);
  if (there.ok())
    return there->version != version && there->attributes.origin != provenance_.OriginOf(moved);
  if (there.error().code != Code::kNotFound) return there.error();
  if (tried) return Error(Code::kStale, "what was here is just moving on");
  return true;
}

Status Remover::RemoveOne(const Node& node, const Call& call) {
  std::string path, spelled;
  bool checked = false, doubtful = false;
  {
    View view(&tree_);
    PG_ASSIGN(const Inode* now,
              view.Get(node.id));  // others may have been heard of since it was planned
    doubtful = TombstoneNeedsCheck(view, now->node);
    PG_ASSIGN(path, view.RemotePath(node));
    spelled = planner_.SpelledNow(view, node);
    checked = provenance_.recent(view).WasCopiedWithin(node.id, kStillTrue);
  }
  if (doubtful) {
    PG_ASSIGN(const bool last, IsLastCopy(node.id, call));
    if (last) {
      View view(&tree_);
      merge_.listing_ages_(view).Distrust(node.remote.parent,
                                          options_.clock->Now());  // it shows again
      return {};
    }
  }
  if (!spelled.empty()) {
    PG_ASSIGN(const bool one, evidence_.AreAliases(path, spelled, call));
    if (one) return {};
  }
  std::string version = node.remote.version;
  for (int round = 0; round < 3; ++round) {
    const bool still = checked && round == 0;
    const Status gone = store_->Remove(
        path, still ? Precondition::StillIs(version) : Precondition::Is(version), call);
    if (gone.ok() || gone.error().code != Code::kChanged) return gone;
    const auto there = store_->Look(path, call);
    if (!there.ok()) return there.error().code == Code::kNotFound ? Status() : there.error();
    if (there->version == version) continue;  // it is what it was after all
    // (what a power cut has left may be older than what the store had got by then)
    const bool unsure = node.name.empty() && (node.dirty & kMaybeStale);
    bool sent = !unsure && there->attributes.origin == provenance_.WriterOf(node) &&
                provenance_.OriginIsConclusive(node, provenance_.RemotePlaceId(node));
    if (!sent) {
      PG_ASSIGN(sent,
                provenance_.WasSent(node, provenance_.RemotePlaceId(node), path, *there, call));
    }
    if (!sent) {
      View view(&tree_);
      merge_.listing_ages_(view).Distrust(node.remote.parent,
                                          options_.clock->Now());  // who looks there sees it
      return {};
    }
    View view(&tree_);
    PG_ASSIGN(Inode * here, view.Find(node.remote.parent, KeyToName(node.remote.name)));
    if (here != nullptr && here->node.kind != NodeKind::kFolder) {
      const RemotePlace at = here->node.remote.place;
      if (at == RemotePlace::kSame || at == RemotePlace::kEncoded) return {};
      if (here->node.pending.seq != 0)  // made meanwhile: it takes the place, if it gets there
        return Error(Code::kStale, "another file is about to take its place");
    }
    // what its writer has just tried to make there, that one takes back by itself
    if (const auto writer = view.Get(provenance_.WrittenBy(there->attributes.origin));
        writer.ok()) {
      const Node& one = (*writer)->node;
      if (one.attempt.parent == node.remote.parent && one.attempt.name == node.remote.name)
        return {};
    }
    version = there->version;
  }
  return Error(
      Code::kStoreFault,
      fmt::format("the store says of {} now one version and now another", Printable(path)));
}

Result<Outcome> Remover::RemoveSiblings(Job* job, const std::vector<Node>& group) {
  Status outcome;
  std::map<std::string, const Node*> wanted;
  std::string folder;
  {
    View view(&tree_);
    auto key = view.RemotePrefix(group[0].remote.parent);
    if (key.ok())
      folder = *key;
    else
      outcome = key.error();
  }
  for (const Node& node : group) wanted[node.remote.name] = &node;
  std::vector<Provider::Removal> removals;
  for (std::string next; outcome.ok();) {
    const auto page = store_->List(folder, next, job->call);
    if (!page.ok()) {
      outcome = page.error();
      break;
    }
    for (const Entry& entry : page->entries) {
      const auto it = wanted.find(entry.name);
      if (entry.kind == Kind::kFolder || it == wanted.end()) continue;
      if (it->second->remote.version == entry.version) {
        View view(&tree_);
        const auto now = view.Get(it->second->id);
        if (now.ok() && (*now)->node.target == kDisowned) continue;
        removals.push_back({folder + entry.name, entry.version});
      } else if (outcome.ok()) {
        outcome = RemoveOne(*it->second, job->call);
      }
    }
    next = page->next;
    if (next.empty()) break;
  }
  if (outcome.ok() && !removals.empty()) {
    const auto failed = store_->RemoveMany(removals, job->call);
    if (!failed.ok())
      outcome = failed.error();
    else
      outcome = OutcomeOf(*failed);
  }
  for (const Node& node : group) {
    if (outcome.ok())
      Ignore(CommitGone(node.id));
    else
      ScheduleCheck(node.id);
    if (node.id != job->id) outbox_.EndStolen(node.id, TurnOfSibling(outcome));
  }
  if (!outcome.ok()) return outcome.error();
  return Outcome::Done();
}

Status Remover::ForgetInside(View& view, NodeId folder) {
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().RemoteChildren(folder));
  for (const NodeId id : inside) {
    PG_ASSIGN(Inode * inode, view.Get(id));
    if (inode->node.parent != folder) continue;
    if (inode->node.kind == NodeKind::kFolder) PG_TRY(ForgetInside(view, id));
    PG_ASSIGN(const std::string path, view.RemotePath(inode->node));
    held_.DropRemote(view, inode, path);
  }
  const auto above = view.Get(folder);
  if (above.ok() && !inside.empty())
    merge_.listing_ages_(view).Distrust((*above)->node.remote.parent, options_.clock->Now());
  return {};
}

Status Remover::CommitGone(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  provenance_.recent(view).NoteGone(inode->node);
  const auto path = view.RemotePath(inode->node);
  const bool named = !inode->node.name.empty();  // else it is what a move left behind
  if (inode->node.kind == NodeKind::kFolder) {
    PG_TRY(ForgetInside(view, id));
    // what has come to be in it meanwhile is found there by this row
    PG_ASSIGN(const NodeId inside, view.index().AnyRemoteChild(id));
    if (inside != kNoNode) return Error(Code::kStale, "something came into the removed folder");
  }
  if (inode->node.kind == NodeKind::kFolder && named)
    PG_TRY(merge_.ReleaseName(view, inode->node.remote.parent, KeyToName(inode->node.remote.name)));
  if (IsTombstone(inode->node)) provenance_.ForgetTombstone(view, inode->node);
  PG_TRY(view.index().Delete(id));
  if (path.ok() && named) view.EmitHappened("here", "deleted", *path);
  if (path.ok()) provenance_.recent(view).NoteAbandonedWrite(id, *path);
  if (inode->opens + inode->detached_opens == 0 && inode->lookups == 0) view.inodes().erase(id);
  return {};
}

}  // namespace pargeter
