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
  // A new folder takes over the store's folder of the held one: held deletions in it do not show,
  // and come back into it if they are dropped.
  Status ReplaceHeldFolder(View& view, Inode* inode, const Node& held);
  // Everything that the store has in `former` belongs to `successor` from now on. `came`: paths
  // that were moved over it.
  Status MergeHeldFolder(View& view, NodeId successor, NodeId former,
                         const std::set<std::string>& came);
  // Versions of the held files, by path below the folder.
  Status HeldBelow(View& view, NodeId held, const std::string& below,
                   std::map<std::string, std::string>* versions);
  // The store has another object at its place: the deleted node is done.
  void DropRemote(View& view, Inode* gone, const std::string& path);

 private:
  // The same for the folder `below`.
  Status MergeHeldChildren(View& view, NodeId successor, NodeId former, const std::string& below,
                           const std::set<std::string>& came);
  // Deleted in the successor, too: nothing is there any more.
  Status DropTombstones(View& view, NodeId successor, const std::string& key);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  DeletionGuard& guard_;
};

}  // namespace pargeter
