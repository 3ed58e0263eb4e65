// What has to happen for one node next, and what that has to wait for. All under the tree's lock.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Contents;
class DeletionGuard;
class HeldFolders;
class Provenance;

class Planner : public Component {
 public:
  Planner(Context* context, Contents* contents, Provenance* provenance, DeletionGuard* guard,
          HeldFolders* held)
      : Component(context),
        contents_(*contents),
        provenance_(*provenance),
        guard_(*guard),
        held_(*held) {}

  // Fills in the next step of the node; or returns for how long, or behind which node, it waits.
  Result<std::optional<Outcome>> PlanJob(View& view, Job* job);
  // The node whose step has to come first, if there is one and it can proceed.
  Result<std::optional<Blocker>> BlockerOf(View& view, const Node& node);
  // The path of the node at the store if the move of a folder above it has been done; nothing if no
  // such move is in doubt.
  Result<std::optional<std::string>> PathInDoubt(View& view, const Node& node);
  // An attempt may have left something at a place where the node is not to be.
  bool HasStaleAttempt(const Node& node) const;
  // The path of the moved file that a tombstone belongs to, if only the spelling of its name
  // changed.
  std::string SpelledNow(View& view, const Node& left);

  UnderLock<std::set<NodeId>> needs_temp_name_;  // nodes that move by way of a temporary name

 private:
  // Nothing blocks the step: it is under way from here on. With `goes` the attempt is journalled
  // first.
  Result<std::optional<Outcome>> BeginStep(View& view, Job* job, Inode* inode, bool goes);
  // The target place, the occupant there, and the folders that have to be made.
  Status PlanPlace(View& view, Job* job, Inode* inode);
  Result<std::optional<Blocker>> KnownBlockerOf(View& view, const Node& node);
  // A folder above, where the store has or had the node, may have moved in one request.
  Result<std::optional<Blocker>> MoveInDoubt(View& view, const Node& node);
  // False if the blocker waits for `id` itself, or for a person, or has failed several times.
  Result<bool> CanProceed(View& view, NodeId first, NodeId id);
  // Shows in the queue why the node waits, if a person has to end the wait.
  Status RecordWait(View& view, Inode* inode, NodeId behind);
  // The file is open for writing and not quiet. After a while a short pause is enough, and then
  // none; a large file is waited for longer.
  bool IsBeingWritten(Inode* inode) const;
  // A folder at or above `up` moves: its step runs before the steps of everything below, and alone.
  Result<std::optional<Blocker>> MoveAbove(View& view, NodeId up);
  // The same for the place of a stale attempt.
  Result<std::optional<Blocker>> MoveAboveTried(View& view, const Node& node);
  // Another node has, or may have, the object at the target, and is about to leave.
  Result<std::optional<Blocker>> PlaceTaken(View& view, const Node& node);
  // Nodes that change places wait for each other in a circle: true for the one that breaks it by
  // way of a temporary name.
  Result<bool> WaitsForItself(View& view, NodeId id, const Blocker& first);
  // The stale attempt is rolled back first.
  Result<std::optional<Outcome>> PlanRollback(View& view, Job* job, Inode* inode);

  Contents& contents_;
  Provenance& provenance_;
  DeletionGuard& guard_;
  HeldFolders& held_;
};

}  // namespace pargeter
