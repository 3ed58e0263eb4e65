// What a crash or a power cut has left, when a drive is opened. Alone: before any thread is begun.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class ConflictResolver;
class Contents;
class DeletionGuard;
class Facts;
class Namespace;
class PlacementRules;
class Provenance;

class Recovery : public Component {
 public:
  Recovery(Context* context, Facts* facts, Contents* contents, Provenance* provenance,
           PlacementRules* placement, DeletionGuard* guard, ConflictResolver* resolver,
           Namespace* names)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        provenance_(*provenance),
        placement_(*placement),
        guard_(*guard),
        resolver_(*resolver),
        names_(*names) {}

  // Opens the index, or makes it anew from what the disk has (rebuild.cc).
  Status OpenIndex(View& view);
  Status Recover();

 private:
  // What the disk has of a waiting file.
  struct Remains {
    bool here = false;
    bool whole = false;      // as far as can be seen
    bool doubtful = false;   // the power went, and nothing of it is known to have been synced
    bool untouched = false;  // not a byte has come since it began to wait
    std::uint64_t length = 0, size = 0;  // bytes on the disk; that the file has, as far as is known
    RangeSet present;
  };
  Status Rebuild(View& view);
  Status AdoptPending(View& view, NodeId block);
  Result<NodeId> FolderFor(View& view, const std::string& path);
  Status ClaimCache(View& view);
  Status RecoverFromPowerCut(View& view);
  Status RecoverWaiting(View& view, bool power_cut);
  Status MendOrphans(View& view);
  std::uint64_t BlocksOf(NodeId id) const;
  Status ForgetLostLocal(View& view);
  Status RecoverHeld(View& view);
  Result<Remains> LookAtPending(View& view, const Node& node, bool power_cut);
  static bool WrittenAnew(const Node& node);
  bool EmptyWhenSynced(View& view, const Node& node) const;
  Status DoubtOrigins(View& view, std::vector<Node>* waiting);
  Status MendPending(View& view, Node* node, bool power_cut);
  Status MendAttempts(View& view, Node* node);
  Status RollBackTruncated(View& view, Node* node);
  Result<bool> SubtractGaps(const Node& node, std::uint64_t length, RangeSet* present);
  static void ForgetTried(Node* node);
  Status ForgetLost(View& view, Node node);
  Status SplitTornFile(View& view, const Node& node);
  Status KeepRemoteVersion(View& view, const Node& torn);
  Result<std::optional<Node>> ReplacedBy(View& view, const Node& torn);
  Status UndoReplacing(View& view, Node* torn);
  Status RestoreReplaced(View& view, const Node& torn);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  PlacementRules& placement_;
  DeletionGuard& guard_;
  ConflictResolver& resolver_;
  Namespace& names_;
};

}  // namespace pargeter
