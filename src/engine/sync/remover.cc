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

Result<Outcome> Remover::RemoveThere(Job* job) {
  const Node& node = job->node;
  if (node.there == There::kAbsent) {
    PG_TRY(CommitGone(node.id));
    return Outcome::kDone;
  }
  if (node.kind == NodeKind::kFolder) {
    PG_TRY(store_->RemoveFolder(job->there_path, job->call));
    PG_TRY(CommitGone(node.id));
    return Outcome::kDone;
  }
  // others of the same folder that wait too
  std::vector<Node> group = {node};
  bool alone = false;
  {
    View view(&tree_);
    alone = !planner_.SpelledNow(view, node).empty() || MayBeTheLast(view, node);
  }
  if (!alone) {
    View view(&tree_);
    PG_ASSIGN(const std::vector<NodeId> siblings, view.index().ThereChildren(node.there_parent));
    for (const NodeId id : siblings) {
      if (group.size() >= 1000) break;
      if (id == node.id || !outbox_.IsQueued(id)) continue;
      auto found = view.Get(id);
      if (!found.ok()) continue;
      Live* live = *found;
      const Node& other = live->node;
      if (!other.gone() || guard_.IsHeld(view, other) || other.kind == NodeKind::kFolder ||
          other.there != There::kElsewhere)
        continue;
      if (live->opens + live->old_opens > 0 || HasParts(other.upload) ||
          planner_.IsToBeTakenBack(other) || !planner_.SpelledNow(view, other).empty() ||
          MayBeTheLast(view, other))
        continue;
      const auto blocker = planner_.BlockerOf(view, other);
      if (!blocker.ok() || *blocker) continue;
      if (!outbox_.Steal(id)) continue;
      live->upload = job->call.cancel;
      group.push_back(other);
    }
  }
  if (group.size() >= kWorthListing) return RemoveSiblings(job, group);
  Outcome outcome = Outcome::kDone;
  std::optional<Error> failed;
  for (const Node& one : group) {
    Status gone = RemoveOne(one, job->call);
    if (gone.ok()) gone = CommitGone(one.id);
    if (!gone.ok()) failed = gone.error();
    if (!gone.ok()) AskNextTime(one.id);
    if (one.id != job->id) outbox_.EndStolen(one.id, TurnOfSibling(gone));
  }
  if (failed) return *failed;
  return outcome;
}

// Of what is left at the old place of something that was copied to another: that may have been put
// back meanwhile, or removed by somebody who saw them both.
bool Remover::MayBeTheLast(View& view, const Node& node) {
  if (!IsLeftBehind(node)) return false;
  if (node.target == kStays) return true;
  const auto [first, end] =
      provenance_.left_by_(view).equal_range(provenance_.WrittenBy(node.target));
  if (std::none_of(first, end, [&](const auto& one) { return one.second == node.id; }))
    return false;  // what went to the new place were other bytes
  const auto copied = provenance_.just_copied_(view).find(node.id);
  return node.attempts > 0 || copied == provenance_.just_copied_(view).end() ||
         options_.clock->Now() - copied->second > kSurelyThere;
}

// Its removal has failed, perhaps for a long time.
void Remover::AskNextTime(NodeId left) {
  View view(&tree_);
  provenance_.just_copied_(view).erase(left);
}

// What moved, if it is to be there yet, is looked for.
Result<bool> Remover::IsTheLast(NodeId id, const Call& call) {
  std::string path, version;
  NodeId moved = kNoNode;
  bool tried = false;
  {
    View view(&tree_);
    PG_ASSIGN(const Live* left, view.Get(id));
    if (left->node.target == kStays) return true;
    moved = provenance_.WrittenBy(left->node.target);
    const auto live = view.Get(moved);
    if (!live.ok() || (*live)->node.gone() || (*live)->node.there == There::kAbsent) return false;
    const Node& node = (*live)->node;
    if ((node.dirty & kData) && node.on_disk >= node.size) return false;  // nobody needs the former
    PG_ASSIGN(path, view.TherePath(node));
    version = node.version;
    tried = MoveWasTried(node);
  }
  const auto there = store_->Look(path, call);
  if (there.ok())
    return there->version != version && there->attributes.origin != provenance_.OriginOf(moved);
  if (there.error().code != Code::kNotFound) return there.error();
  if (tried) return Error(Code::kStale, "what was here is just moving on");
  return true;
}

// What stands there in another version was changed by others, stays, and shows here again; unless
// it is ours, written by an upload whose answer was lost.
Status Remover::RemoveOne(const Node& node, const Call& call) {
  std::string path, spelled;
  bool checked = false, doubtful = false;
  {
    View view(&tree_);
    PG_ASSIGN(const Live* now,
              view.Get(node.id));  // others may have been heard of since it was planned
    doubtful = MayBeTheLast(view, now->node);
    PG_ASSIGN(path, view.TherePath(node));
    spelled = planner_.SpelledNow(view, node);
    const auto copied = provenance_.just_copied_(view).find(node.id);
    checked = copied != provenance_.just_copied_(view).end() &&
              options_.clock->Now() - copied->second < kStillTrue;
  }
  if (doubtful) {
    PG_ASSIGN(const bool last, IsTheLast(node.id, call));
    if (last) {
      View view(&tree_);
      merge_.listed_(view).erase(node.there_parent);  // it shows again
      return {};
    }
  }
  if (!spelled.empty()) {
    PG_ASSIGN(const bool one, evidence_.AreOne(path, spelled, call));
    if (one) return {};
  }
  std::string version = node.version;
  for (int round = 0; round < 3; ++round) {
    const bool still = checked && round == 0;
    const Status gone = store_->Remove(
        path, still ? Precondition::StillIs(version) : Precondition::Is(version), call);
    if (gone.ok() || gone.error().code != Code::kChanged) return gone;
    const auto there = store_->Look(path, call);
    if (!there.ok()) return there.error().code == Code::kNotFound ? Status() : there.error();
    if (there->version == version) continue;  // it is what it was after all
    // (what a power cut has left may be older than what the store had got by then)
    const bool unsure = node.name.empty() && (node.dirty & kUnsure);
    bool sent = !unsure && there->attributes.origin == provenance_.WriterOf(node) &&
                provenance_.SignTells(node, provenance_.PlaceThere(node));
    if (!sent) {
      PG_ASSIGN(sent, provenance_.WasSent(node, provenance_.PlaceThere(node), path, *there, call));
    }
    if (!sent) {
      View view(&tree_);
      merge_.listed_(view).erase(node.there_parent);  // who looks there sees it
      return {};
    }
    View view(&tree_);
    PG_ASSIGN(Live * here, view.Find(node.there_parent, KeyToName(node.there_name)));
    if (here != nullptr && here->node.kind != NodeKind::kFolder) {
      const There at = here->node.there;
      if (at == There::kSame || at == There::kSpelled) return {};
      if (here->node.intent != 0)  // made meanwhile: it takes the place, if it gets there
        return Error(Code::kStale, "another file is about to take its place");
    }
    // what its writer has just tried to make there, that one takes back by itself
    if (const auto writer = view.Get(provenance_.WrittenBy(there->attributes.origin));
        writer.ok()) {
      const Node& one = (*writer)->node;
      if (one.tried_parent == node.there_parent && one.tried_name == node.there_name) return {};
    }
    version = there->version;
  }
  return Error(
      Code::kStoreFault,
      fmt::format("the store says of {} now one version and now another", Printable(path)));
}

// One look at the folder tells which of them are still what we knew; those go in one request.
Result<Outcome> Remover::RemoveSiblings(Job* job, const std::vector<Node>& group) {
  Status outcome;
  std::map<std::string, const Node*> wanted;
  std::string folder;
  {
    View view(&tree_);
    auto key = view.FolderKey(group[0].there_parent);
    if (key.ok())
      folder = *key;
    else
      outcome = key.error();
  }
  for (const Node& node : group) wanted[node.there_name] = &node;
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
      if (it->second->version == entry.version) {
        View view(&tree_);
        const auto now = view.Get(it->second->id);
        if (now.ok() && (*now)->node.target == kStays) continue;
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
      AskNextTime(node.id);
    if (node.id != job->id) outbox_.EndStolen(node.id, TurnOfSibling(outcome));
  }
  if (!outcome.ok()) return outcome.error();
  return Outcome::kDone;
}

// What others have put into a folder since it was deleted here; if it is there still, the next look
// shows it again.
Status Remover::ForgetInside(View& view, NodeId folder) {
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().ThereChildren(folder));
  for (const NodeId id : inside) {
    PG_ASSIGN(Live * live, view.Get(id));
    if (live->node.parent != folder) continue;
    if (live->node.kind == NodeKind::kFolder) PG_TRY(ForgetInside(view, id));
    PG_ASSIGN(const std::string path, view.TherePath(live->node));
    held_.DropThere(view, live, path);
  }
  const auto above = view.Get(folder);
  if (above.ok() && !inside.empty()) merge_.listed_(view).erase((*above)->node.there_parent);
  return {};
}

Status Remover::CommitGone(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  provenance_.removed_(view)[{live->node.there_parent, live->node.there_name}] =
      options_.clock->Now();
  const auto path = view.TherePath(live->node);
  const bool named = !live->node.name.empty();  // else it is what a move left behind
  if (live->node.kind == NodeKind::kFolder) {
    PG_TRY(ForgetInside(view, id));
    // what has come to be in it meanwhile is found there by this row
    PG_ASSIGN(const NodeId inside, view.index().AnyThereChild(id));
    if (inside != kNoNode) return Error(Code::kStale, "something came into the removed folder");
  }
  if (live->node.kind == NodeKind::kFolder && named)
    PG_TRY(merge_.GiveNameBack(view, live->node.there_parent, KeyToName(live->node.there_name)));
  if (IsLeftBehind(live->node)) provenance_.ForgetLeft(view, live->node);
  PG_TRY(view.index().Delete(id));
  if (path.ok() && named) view.EmitHappened("here", "deleted", *path);
  if (path.ok()) provenance_.left_behind_(view)[{id, *path}] = options_.clock->Now();
  if (live->opens + live->old_opens == 0 && live->lookups == 0) view.inodes().erase(id);
  return {};
}

}  // namespace pargeter
