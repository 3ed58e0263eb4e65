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

// A move of a folder at or above `up` runs first, and wholly, for all that is, was or goes below.
// What goes into a new folder waits until nothing of another is left under its name.
Result<std::optional<Blocker>> Planner::MoveAbove(View& view, NodeId up) {
  while (up != kRootId && up != kNoNode) {
    PG_ASSIGN(Live * above, view.Get(up));
    const Node& folder = above->node;
    bool first = !folder.gone() && folder.there == There::kElsewhere;
    first = first || (folder.there != There::kAbsent && folder.tried_parent != kNoNode);
    if (!first && folder.there == There::kAbsent && !folder.gone()) {
      PG_ASSIGN(const std::optional<Node> held, held_.HeldFolderAt(view, folder));
      first = held.has_value();
    }
    if (!first && folder.there == There::kAbsent && !folder.gone()) {
      PG_ASSIGN(const std::optional<Blocker> place, PlaceTaken(view, folder));
      first = place.has_value();
    }
    if (first) return std::optional(Blocker{up, Blocker::Why::kAbove});
    up = folder.gone() ? folder.there_parent : folder.parent;
  }
  return std::optional<Blocker>();
}

// A former place within a folder that moves moves along, once that has begun: until then it may
// wait for what is to be taken back. Unless that folder comes to be in this one.
Result<std::optional<Blocker>> Planner::MoveAboveTried(View& view, const Node& node) {
  std::optional<Blocker> above;
  for (NodeId from = node.tried_parent;;) {
    auto found = MoveAbove(view, from);
    if (!found.ok() && found.error().code == Code::kStale) return std::optional<Blocker>();  // gone
    PG_ASSIGN(above, std::move(found));
    if (!above) return above;
    PG_ASSIGN(const Live* folder, view.Get(above->id));
    const Node& moving = folder->node;
    if (moving.there != There::kElsewhere || moving.tried_parent != kNoNode) break;
    from = moving.there_parent;
  }
  for (NodeId up = above->id; up != kRootId && up != kNoNode;) {
    if (up == node.id) return std::optional<Blocker>();
    PG_ASSIGN(Live * live, view.Get(up));
    up = live->node.parent;
  }
  return above;
}

// What has to be done at the store before this node's turn.
Result<std::optional<Blocker>> Planner::BlockerOf(View& view, const Node& node) {
  PG_ASSIGN(std::optional<Blocker> blocker, KnownBlockerOf(view, node));
  if (blocker) return blocker;
  PG_ASSIGN(blocker, MoveInDoubt(view, node));
  if (!blocker) return blocker;
  PG_ASSIGN(const bool gets_on, GetsOn(view, blocker->id, node.id));
  return gets_on ? blocker : std::nullopt;
}

// A folder in which the store has it, or had, was to move in one request, and what came of that is
// not known: it is not to be found then, and would seem to be deleted there, or another's.
Result<std::optional<Blocker>> Planner::MoveInDoubt(View& view, const Node& node) {
  const bool leaves = !node.gone() || IsToBeTakenBack(node);  // else it is deleted where it is
  if (!leaves || node.there == There::kAbsent || !store_->Can().moves_folders)
    return std::optional<Blocker>();
  NodeId up = node.remote_parent();
  while (up != kRootId && up != kNoNode) {
    const auto above = view.Get(up);
    if (!above.ok()) break;
    const Node& folder = (*above)->node;
    if (MoveWasTried(folder)) return std::optional(Blocker{up, Blocker::Why::kDoubt});
    up = folder.remote_parent();
  }
  return std::optional<Blocker>();
}

// Where the store would have the file, had that folder moved.
Result<std::optional<std::string>> Planner::PathInDoubt(View& view, const Node& node) {
  PG_ASSIGN(const auto doubt, MoveInDoubt(view, node));
  if (!doubt) return std::optional<std::string>();
  PG_ASSIGN(const Live* live, view.Get(doubt->id));
  const auto above = view.FolderKey(live->node.tried_parent);
  if (!above.ok()) return std::optional<std::string>();  // it is no more
  PG_ASSIGN(const std::string known, view.TherePath(live->node));
  PG_ASSIGN(const std::string path, view.TherePath(node));  // below that
  return std::optional(*above + live->node.tried_name + path.substr(known.size()));
}

// Will its turn come soon? Not if it waits for `id` itself, or for a person, or fails and fails.
Result<bool> Planner::GetsOn(View& view, NodeId first, NodeId id) {
  for (int i = 0; i < kLongestChain; ++i) {
    if (first == id) return false;
    PG_ASSIGN(const Live* live, view.Get(first));
    const Node& node = live->node;
    if (node.attempts >= kFailsForGood || (guard_.IsHeld(view, node) && !IsToBeTakenBack(node)))
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
  if (IsToBeTakenBack(node)) return MoveAboveTried(view, node);
  if (node.gone() && node.there != There::kAbsent && !HasParts(node.upload)) {
    // the node that takes this one's place at the store overwrites it there; and a copy may need it
    PG_ASSIGN(Live * heir, view.Find(node.there_parent, KeyToName(node.there_name)));
    const bool replaced = heir != nullptr && heir->node.intent != 0 &&
                          heir->node.there != There::kSame &&
                          heir->node.kind != NodeKind::kFolder && node.kind != NodeKind::kFolder;
    if (replaced) return std::optional(Blocker{heir->node.id, Why::kHeir});
  }
  if (node.there != There::kAbsent && !contents_.copy_sources_(view).empty()) {
    PG_ASSIGN(const std::string there_path, view.TherePath(node));
    const auto copies = contents_.copy_sources_(view).equal_range(there_path);
    for (auto it = copies.first; it != copies.second; ++it) {
      if (it->second != node.id) return std::optional(Blocker{it->second, Why::kCopy});
    }
  }
  PG_ASSIGN(const std::optional<Blocker> above,
            MoveAbove(view, node.gone() ? node.there_parent : node.parent));
  if (above) return above;
  if (node.gone()) {
    if (node.kind != NodeKind::kFolder) return std::optional<Blocker>();
    PG_ASSIGN(const NodeId inside,
              view.index().AnyThereChild(node.id));  // what was in it goes first
    if (inside == kNoNode) return std::optional<Blocker>();
    return std::optional(Blocker{inside, Why::kInside});
  }
  if (node.there == There::kSame || node.there == There::kSpelled) return std::optional<Blocker>();
  return PlaceTaken(view, node);
}

// Another node's content is, or may be, where this one goes, and is about to leave.
Result<std::optional<Blocker>> Planner::PlaceTaken(View& view, const Node& node) {
  using Why = Blocker::Why;
  if (store_->Can().real_folders) {
    // one thing at a path: a folder of ours leaves before a file comes, and a file before a folder
    PG_ASSIGN(const auto other,
              view.index().FindThere(node.parent, KeyPart(node), node.kind != NodeKind::kFolder));
    if (other && other->intent != 0) return std::optional(Blocker{other->id, Why::kPlace});
  }
  PG_ASSIGN(std::optional<Node> other,
            view.index().FindThere(node.parent, KeyPart(node), node.kind == NodeKind::kFolder));
  if (other && other->id != node.id && other->gone()) {
    // The other node was deleted here. An upload of it may still be under way. If it is a folder,
    // it is emptied at the store first: what is left in it would appear in this folder.
    PG_ASSIGN(const Live* leaving, view.Get(other->id));
    const bool held = guard_.IsHeld(view, *other);
    const bool emptied_first = other->kind == NodeKind::kFolder && !held;
    // An object that a former attempt of it left at another place is removed first, too: only the
    // other node's row tells that the object is ours.
    if (leaving->upload || HasParts(other->upload) || other->tried_parent != kNoNode ||
        emptied_first)
      return std::optional(Blocker{other->id, Why::kTried});
    if (held && other->kind == NodeKind::kFolder) {
      PG_ASSIGN(const NodeId inside, held_.UnsureInside(view, other->id));
      if (inside != kNoNode) return std::optional(Blocker{inside, Why::kInside});
    }
  } else if (other && other->id != node.id && other->intent != 0) {
    return std::optional(Blocker{other->id, Why::kPlace});
  }
  PG_ASSIGN(const NodeId tried, view.index().FindTried(node.parent, KeyPart(node)));
  if (tried != kNoNode && tried != node.id) return std::optional(Blocker{tried, Why::kTried});
  return std::optional<Blocker>();
}

// Files and folders that change places wait for each other in a circle. It is broken by the one
// whose place, or whose leaving, another waits for: it leaves over a name of its own.
Result<bool> Planner::WaitsForItself(View& view, NodeId id, const Blocker& first) {
  Blocker at = first;
  for (int i = 0; i < kLongestChain; ++i) {
    PG_ASSIGN(Live * live, view.Get(at.id));
    PG_ASSIGN(const std::optional<Blocker> next, BlockerOf(view, live->node));
    if (!next) return false;
    if (next->id == id) {
      if (next->why != Blocker::Why::kInside)
        return next->why == Blocker::Why::kPlace || next->why == Blocker::Why::kCopy;
      PG_ASSIGN(Live * inside,
                view.Get(id));  // moves out of a deleted folder whose place is wanted
      return provenance_.Goes(inside->node);
    }
    at = *next;
  }
  return false;
}

}  // namespace pargeter
