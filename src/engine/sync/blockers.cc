// Planner: what a step has to wait for. All under the tree lock.
#include <algorithm>

#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/policy/deletion_guard.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "engine/sync/planner.h"

namespace pargeter {

namespace {
constexpr int kLongestChain = 1000;

constexpr std::int64_t kFailsForGood = 4;  // attempts in a row
}  // namespace

Result<std::optional<Blocker>> Planner::MoveAbove(View& view, NodeId up) {
  while (up != kRootId && up != kNoNode) {
    PG_ASSIGN(Inode * above, view.Get(up));
    const Node& folder = above->node;
    bool first = !folder.gone() && folder.remote.place == RemotePlace::kMoved;
    first =
        first || (folder.remote.place != RemotePlace::kNone && folder.attempt.parent != kNoNode);
    if (!first && folder.remote.place == RemotePlace::kNone && !folder.gone()) {
      PG_ASSIGN(const std::optional<Node> held, held_.HeldFolderAt(view, folder));
      first = held.has_value();
    }
    if (!first && folder.remote.place == RemotePlace::kNone && !folder.gone()) {
      PG_ASSIGN(const std::optional<Blocker> place, PlaceTaken(view, folder));
      first = place.has_value();
    }
    if (first) return std::optional(Blocker{up, Blocker::Why::kAbove});
    up = folder.gone() ? folder.remote.parent : folder.parent;
  }
  return std::optional<Blocker>();
}

Result<std::optional<Blocker>> Planner::MoveAboveTried(View& view, const Node& node) {
  std::optional<Blocker> above;
  for (NodeId from = node.attempt.parent;;) {
    auto found = MoveAbove(view, from);
    if (!found.ok() && found.error().code == Code::kStale) return std::optional<Blocker>();  // gone
    PG_ASSIGN(above, std::move(found));
    if (!above) return above;
    PG_ASSIGN(const Inode* folder, view.Get(above->id));
    const Node& moving = folder->node;
    if (moving.remote.place != RemotePlace::kMoved || moving.attempt.parent != kNoNode) break;
    from = moving.remote.parent;
  }
  for (NodeId up = above->id; up != kRootId && up != kNoNode;) {
    if (up == node.id) return std::optional<Blocker>();
    PG_ASSIGN(Inode * inode, view.Get(up));
    up = inode->node.parent;
  }
  return above;
}

Result<std::optional<Blocker>> Planner::BlockerOf(View& view, const Node& node) {
  PG_ASSIGN(std::optional<Blocker> blocker, KnownBlockerOf(view, node));
  if (blocker) return blocker;
  PG_ASSIGN(blocker, MoveInDoubt(view, node));
  if (!blocker) return blocker;
  PG_ASSIGN(const bool gets_on, CanProceed(view, blocker->id, node.id));
  return gets_on ? blocker : std::nullopt;
}

Result<std::optional<Blocker>> Planner::MoveInDoubt(View& view, const Node& node) {
  const bool leaves = !node.gone() || HasStaleAttempt(node);  // else it is deleted where it is
  if (!leaves || node.remote.place == RemotePlace::kNone || !store_->Can().moves_folders)
    return std::optional<Blocker>();
  NodeId up = node.remote_parent();
  while (up != kRootId && up != kNoNode) {
    const auto above = view.Get(up);
    if (!above.ok()) break;
    const Node& folder = (*above)->node;
    if (HasMoveAttempt(folder)) return std::optional(Blocker{up, Blocker::Why::kDoubt});
    up = folder.remote_parent();
  }
  return std::optional<Blocker>();
}

Result<std::optional<std::string>> Planner::PathInDoubt(View& view, const Node& node) {
  PG_ASSIGN(const auto doubt, MoveInDoubt(view, node));
  if (!doubt) return std::optional<std::string>();
  PG_ASSIGN(const Inode* inode, view.Get(doubt->id));
  const auto above = view.RemotePrefix(inode->node.attempt.parent);
  if (!above.ok()) return std::optional<std::string>();  // it is no more
  PG_ASSIGN(const std::string known, view.RemotePath(inode->node));
  PG_ASSIGN(const std::string path, view.RemotePath(node));  // below that
  return std::optional(*above + inode->node.attempt.name + path.substr(known.size()));
}

Result<bool> Planner::CanProceed(View& view, NodeId first, NodeId id) {
  for (int i = 0; i < kLongestChain; ++i) {
    if (first == id) return false;
    PG_ASSIGN(const Inode* inode, view.Get(first));
    const Node& node = inode->node;
    if (node.pending.tries >= kFailsForGood ||
        (guard_.IsHeld(view, node) && !HasStaleAttempt(node)))
      return false;
    PG_ASSIGN(std::optional<Blocker> next, KnownBlockerOf(view, node));
    if (!next) {
      PG_ASSIGN(next, MoveInDoubt(view, node));
    }
    if (!next) return true;
    first = next->id;
  }
  return false;
}

Result<std::optional<Blocker>> Planner::KnownBlockerOf(View& view, const Node& node) {
  using Why = Blocker::Why;
  if (HasStaleAttempt(node)) return MoveAboveTried(view, node);
  if (node.gone() && node.remote.place != RemotePlace::kNone && !node.upload_log.multipart()) {
    // the node that takes this one's place at the store overwrites it there; and a copy may need it
    PG_ASSIGN(Inode * successor, view.Find(node.remote.parent, KeyToName(node.remote.name)));
    const bool replaced = successor != nullptr && successor->node.pending.seq != 0 &&
                          successor->node.remote.place != RemotePlace::kSame &&
                          successor->node.kind != NodeKind::kFolder &&
                          node.kind != NodeKind::kFolder;
    if (replaced) return std::optional(Blocker{successor->node.id, Why::kSuccessor});
  }
  PG_ASSIGN(const bool copies, view.index().HasCopies());
  if (copies && node.remote.place != RemotePlace::kNone) {
    PG_ASSIGN(const std::string there_path, view.RemotePath(node));
    PG_ASSIGN(const NodeId copy, view.index().AnyCopyOf(there_path, node.id));
    if (copy != kNoNode) return std::optional(Blocker{copy, Why::kCopy});
  }
  PG_ASSIGN(const std::optional<Blocker> above,
            MoveAbove(view, node.gone() ? node.remote.parent : node.parent));
  if (above) return above;
  if (node.gone()) {
    if (node.kind != NodeKind::kFolder) return std::optional<Blocker>();
    PG_ASSIGN(const NodeId inside,
              view.index().AnyRemoteChild(node.id));  // what was in it goes first
    if (inside == kNoNode) return std::optional<Blocker>();
    return std::optional(Blocker{inside, Why::kInside});
  }
  if (node.remote.place == RemotePlace::kSame || node.remote.place == RemotePlace::kEncoded)
    return std::optional<Blocker>();
  return PlaceTaken(view, node);
}

Result<std::optional<Blocker>> Planner::PlaceTaken(View& view, const Node& node) {
  using Why = Blocker::Why;
  if (store_->Can().real_folders) {
    // one thing at a path: a folder of ours leaves before a file comes, and a file before a folder
    PG_ASSIGN(const auto other,
              view.index().FindRemote(node.parent, KeyPart(node), node.kind != NodeKind::kFolder));
    if (other && other->pending.seq != 0) return std::optional(Blocker{other->id, Why::kPlace});
  }
  PG_ASSIGN(std::optional<Node> other,
            view.index().FindRemote(node.parent, KeyPart(node), node.kind == NodeKind::kFolder));
  if (other && other->id != node.id && other->gone()) {
    // The other node was deleted here. An upload of it may still be under way. If it is a folder,
    // it is emptied at the store first: what is left in it would appear in this folder.
    PG_ASSIGN(const Inode* leaving, view.Get(other->id));
    const bool held = guard_.IsHeld(view, *other);
    const bool emptied_first = other->kind == NodeKind::kFolder && !held;
    // An object that a former attempt of it left at another place is removed first, too: only the
    // other node's row tells that the object is ours.
    if (leaving->upload || other->upload_log.multipart() || other->attempt.parent != kNoNode ||
        emptied_first)
      return std::optional(Blocker{other->id, Why::kAttempt});
    if (held && other->kind == NodeKind::kFolder) {
      PG_ASSIGN(const NodeId inside, held_.UnsureInside(view, other->id));
      if (inside != kNoNode) return std::optional(Blocker{inside, Why::kInside});
    }
  } else if (other && other->id != node.id && other->pending.seq != 0) {
    return std::optional(Blocker{other->id, Why::kPlace});
  }
  PG_ASSIGN(const NodeId tried, view.index().FindAttempt(node.parent, KeyPart(node)));
  if (tried != kNoNode && tried != node.id) return std::optional(Blocker{tried, Why::kAttempt});
  return std::optional<Blocker>();
}

Result<bool> Planner::WaitsForItself(View& view, NodeId id, const Blocker& first) {
  Blocker at = first;
  for (int i = 0; i < kLongestChain; ++i) {
    PG_ASSIGN(Inode * inode, view.Get(at.id));
    PG_ASSIGN(const std::optional<Blocker> next, BlockerOf(view, inode->node));
    if (!next) return false;
    if (next->id == id) {
      if (next->why != Blocker::Why::kInside)
        return next->why == Blocker::Why::kPlace || next->why == Blocker::Why::kCopy;
      PG_ASSIGN(Inode * inside,
                view.Get(id));  // moves out of a deleted folder whose place is wanted
      return provenance_.NeedsRemotePlace(inside->node);
    }
    at = *next;
  }
  return false;
}

}  // namespace pargeter
