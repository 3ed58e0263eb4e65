// A folder that takes the place of one whose deletion is held back.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Contents;
class DeletionGuard;
class Facts;
class Provenance;

class HeldFolders : public Component {
 public:
  HeldFolders(Context* context, Facts* facts, Contents* contents, Provenance* provenance,
              DeletionGuard* guard)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        provenance_(*provenance),
        guard_(*guard) {}

  // A folder, gone here, whose deletion is held back, at the place of `node`.
  Result<std::optional<Node>> HeldFolderAt(View& view, const Node& node);
  // Something in such a folder that has to be done before another may take its place.
  Result<NodeId> UnsureInside(View& view, NodeId held);
  Status TakePlace(View& view, Live* live, const Node& held);
  Status TakeOver(View& view, NodeId heir, NodeId former, const std::set<std::string>& came);
  Status HeldBelow(View& view, NodeId held, const std::string& below,
                   std::map<std::string, std::string>* versions);
  void DropThere(View& view, Live* gone, const std::string& path);

 private:
  Status TakeInside(View& view, NodeId heir, NodeId former, const std::string& below,
                    const std::set<std::string>& came);
  Status DropLeft(View& view, NodeId heir, const std::string& key);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  DeletionGuard& guard_;
};

}  // namespace pargeter
