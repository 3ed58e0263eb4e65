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

  Result<Outcome> RemoveThere(Job* job);

 private:
  Result<Outcome> RemoveSiblings(Job* job, const std::vector<Node>& group);
  bool MayBeTheLast(View& view, const Node& node);
  void AskNextTime(NodeId left);
  Result<bool> IsTheLast(NodeId id, const Call& call);
  Status RemoveOne(const Node& node, const Call& call);
  Status CommitGone(NodeId id);
  Status ForgetInside(View& view, NodeId folder);

  Provenance& provenance_;
  DeletionGuard& guard_;
  RemoteMerge& merge_;
  HeldFolders& held_;
  Planner& planner_;
  Evidence& evidence_;
};

}  // namespace pargeter
