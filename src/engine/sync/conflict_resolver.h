// What becomes of a change whose place at the store has something else by now
// (docs/conflicts.md).
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Committer;
class Evidence;
class Facts;
class PlacementRules;
class Planner;
class Provenance;
class RemoteMerge;

class ConflictResolver : public Component {
 public:
  ConflictResolver(Context* context, Facts* facts, Provenance* provenance,
                   PlacementRules* placement, RemoteMerge* merge, Planner* planner,
                   Evidence* evidence, Committer* committer)
      : Component(context),
        facts_(*facts),
        provenance_(*provenance),
        placement_(*placement),
        merge_(*merge),
        planner_(*planner),
        evidence_(*evidence),
        committer_(*committer) {}

  // The object at the target is the node itself, under another spelling: the node goes by way of a
  // temporary name.
  Result<Outcome> MoveViaTempName(Job* job);
  // A moved folder met another of its name: the file that was at `path` below it is called `kept`
  // now.
  Status NameKept(View& view, NodeId folder, const std::string& path, const std::string& kept,
                  const std::string& version);
  // The store has another object than planned at the target: finds out whose, and acts on that.
  Result<Outcome> Conflict(Job* job);
  // The node gets the name of a conflict copy.
  Status RenameToConflictCopy(View& view, Inode* inode);
  // On a store with one object for each path: a file of others has the name of a folder on the
  // path. True: that folder yields its name, and the step is planned again.
  Result<bool> FindForeignFileOnPath(const Job& job);

 private:
  // What stands at the place where a node goes.
  enum class Standing {
    kNothing,
    kItself,     // the node, under another spelling of its name
    kSameBytes,  // a file with the bytes that are here
    kLate,       // a request of ours that was called off, and arrived all the same
    kOurs,       // what a former attempt of ours made
    kOccupants,  // what the node whose place this was sent there before
    kFolder,     // a folder of others
    kTheirs      // a file of others
  };
  // Whose object is at the target? Facts are gathered lazily: a request is made only if no earlier
  // fact decides.
  Result<Standing> Classify(Job* job, const std::optional<Entry>& there);
  // An earlier attempt sent, copied or moved it there, and the answer was lost.
  Result<bool> IsOurs(const Job& job, const Entry& there);
  // The node whose place this was, deleted or moved here, sent it there.
  Result<bool> IsOccupants(const Job& job, const Entry& there);
  // Only attributes may have to be sent.
  Result<Outcome> AdoptSameBytes(Job* job, const Entry& there);
  // The content was changed here once more: the next step starts from the object there.
  Status AdoptOurs(View& view, Job* job, Inode* inode, const Entry& there);
  // Acts on a verdict that leaves the node still to be sent.
  Status Resolve(View& view, Job* job, Inode* inode, Standing standing,
                 const std::optional<Entry>& there);
  // Changed on both sides: their version keeps the name, ours becomes a conflict copy.
  Status KeepBothFiles(View& view, Job* job, Inode* inode, const Entry& there);
  void NoteConflict(View& view, const std::string& path, const Node& kept);
  // The folder whose name a file of others has taken gets the name of a conflict copy, or is gone
  // from the store.
  Status YieldName(NodeId folder, const std::string& path, Steady asked);

  Facts& facts_;
  Provenance& provenance_;
  PlacementRules& placement_;
  RemoteMerge& merge_;
  Planner& planner_;
  Evidence& evidence_;
  Committer& committer_;
};

}  // namespace pargeter
