// Names and attributes, as a face asks for them.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class Contents;
class DeletionGuard;
class Facts;
class PlacementRules;
class Provenance;
class Refresher;

class Namespace : public Component {
 public:
  Namespace(Context* context, Facts* facts, Contents* contents, Provenance* provenance,
            PlacementRules* placement, DeletionGuard* guard, Refresher* refresher)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        provenance_(*provenance),
        placement_(*placement),
        guard_(*guard),
        refresher_(*refresher) {}

  void Forget(NodeId id, std::uint64_t uses);
  // May ask the store for what a listing does not tell. `user`: who wants to know; what he may do
  // depends on it. Of a shared drive others are told all, its owner what he asks for now and then.
  Result<Attr> GetAttr(NodeId id, std::optional<std::uint32_t> user = {});
  Result<Attr> MakeFolder(NodeId parent, const std::string& name, std::uint32_t mode,
                          std::uint32_t uid, std::uint32_t gid);
  Result<Attr> MakeSymlink(NodeId parent, const std::string& name, const std::string& target,
                           std::uint32_t uid, std::uint32_t gid);
  Result<std::string> ReadSymlink(NodeId id);
  Status Unlink(NodeId parent, const std::string& name);
  Status RemoveFolder(NodeId parent, const std::string& name);
  Status Rename(NodeId parent, const std::string& name, NodeId new_parent,
                const std::string& new_name, ReplaceTarget replace);
  // A new look at a folder begins: its listing is asked for again if it is old.
  Status OpenFolder(NodeId id);
  // Entries with ids above `after`, in order of id, each counted as used if `use`. Waits for the
  // store while the folder's first listing has not come so far; empty at the end.
  Result<std::vector<DirEntry>> ReadFolder(NodeId id, NodeId after, int limit, bool use);
  Result<Inode*> NewNode(View& view, NodeId parent, const std::string& name, NodeKind kind,
                         std::uint32_t mode, std::uint32_t uid, std::uint32_t gid);
  Result<Attr> Lookup(NodeId parent, const std::string& name);  // may ask the store; counts a use

 private:
  // May a rename put `node` in the place of `target`?
  static Status CheckMayReplace(View& view, const Node& node, const Node& target,
                                ReplaceTarget replace);
  // kRefused: the store cannot hold symbolic links, known once it was probed.
  Status CheckHoldsLinks();
  // kInvalid: `into` is the folder, or is below it.
  static Status CheckNotInside(View& view, NodeId folder, NodeId into);
  // Where the store has, or is about to have, a node that gets another name here.
  Result<RemoteState> RemoteBeforeRename(View& view, Node* node);
  // A deletion that an fsync of the folder has promised stays, whatever a power cut leaves of the
  // file that takes its name.
  Status SealDeletion(View& view, const Node& successor);
  // Deletes the node here; its object is queued for deletion. `mark`: kReplacedByUnsynced or
  // nothing.
  Status Remove(View& view, Inode* inode, std::uint32_t mark = kClean);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  PlacementRules& placement_;
  DeletionGuard& guard_;
  Refresher& refresher_;
};

}  // namespace pargeter
