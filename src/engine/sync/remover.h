// Deletes at the store, one by one or a folder's worth at once.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class DeletionGuard;
class Evidence;
class HeldFolders;
class Planner;
class Provenance;
class RemoteMerge;

class Remover : public Component {
 public:
  Remover(Context* context, Provenance* provenance, DeletionGuard* guard, RemoteMerge* merge,
          HeldFolders* held, Planner* planner, Evidence* evidence)
      : Component(context),
        provenance_(*provenance),
        guard_(*guard),
        merge_(*merge),
        held_(*held),
        planner_(*planner),
        evidence_(*evidence) {}

  // Deletes at the store, a folder of files in one request.
  Result<Outcome> RemoveRemote(Job* job);

 private:
  // One listing tells which of them still have the known version; those go in one request.
  Result<Outcome> RemoveSiblings(Job* job, const std::vector<Node>& group);
  // Others may have put the moved file back, or removed its copy.
  bool TombstoneNeedsCheck(View& view, const Node& node);
  // Its removal has failed, perhaps for a long time: the copy is looked for before the next try.
  void ScheduleCheck(NodeId left);
  // The moved file is not at its new place.
  Result<bool> IsLastCopy(NodeId id, const Call& call);
  // Another version is left alone, unless an attempt of ours made it, and shows here again.
  Status RemoveOne(const Node& node, const Call& call);
  Status CommitGone(NodeId id);
  // Objects of others in a deleted folder: the next listing shows them.
  Status ForgetInside(View& view, NodeId folder);

  Provenance& provenance_;
  DeletionGuard& guard_;
  RemoteMerge& merge_;
  HeldFolders& held_;
  Planner& planner_;
  Evidence& evidence_;
};

}  // namespace pargeter
