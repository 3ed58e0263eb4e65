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

  Status PlanJob(View& view, Job* job);
  Result<std::optional<Blocker>> BlockerOf(View& view, const Node& node);
  Result<std::optional<std::string>> PathInDoubt(View& view, const Node& node);
  bool IsToBeTakenBack(const Node& node) const;
  std::string SpelledNow(View& view, const Node& left);

  UnderLock<std::set<NodeId>> respelled_;  // to go aside: the store has one name for two

 private:
  Status BeginStep(View& view, Job* job, Live* live, bool goes);
  Status PlanPlace(View& view, Job* job, Live* live);
  Result<std::optional<Blocker>> KnownBlockerOf(View& view, const Node& node);
  Result<std::optional<Blocker>> MoveInDoubt(View& view, const Node& node);
  Result<bool> GetsOn(View& view, NodeId first, NodeId id);
  Status NoteWaiting(View& view, Live* live, NodeId behind);
  bool IsBeingWritten(Live* live) const;
  Result<std::optional<Blocker>> MoveAbove(View& view, NodeId up);
  Result<std::optional<Blocker>> MoveAboveTried(View& view, const Node& node);
  Result<std::optional<Blocker>> PlaceTaken(View& view, const Node& node);
  Result<bool> WaitsForItself(View& view, NodeId id, const Blocker& first);
  Status PlanTakingBack(View& view, Job* job, Live* live);

  Contents& contents_;
  Provenance& provenance_;
  DeletionGuard& guard_;
  HeldFolders& held_;
};

}  // namespace pargeter
