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

  // It is, where the node is to go: it goes by way of a name of our own.
  Result<Outcome> GoAside(Job* job);
  Status NameKept(View& view, NodeId folder, const std::string& path, const std::string& kept,
                  const std::string& version);
  Result<Outcome> Conflict(Job* job);
  Status KeepBeside(View& view, Live* live);
  Result<bool> MeetsFile(const Job& job);

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
  Result<Standing> Classify(Job* job, const std::optional<Entry>& there);
  Result<bool> IsOurs(const Job& job, const Entry& there);
  Result<bool> IsOccupants(const Job& job, const Entry& there);
  Result<Outcome> AdoptSameBytes(Job* job, const Entry& there);
  Status AdoptOurs(View& view, Job* job, Live* live, const Entry& there);
  Status Resolve(View& view, Job* job, Live* live, Standing standing,
                 const std::optional<Entry>& there);
  Status StandBeside(View& view, Job* job, Live* live, const Entry& there);
  void NoteConflict(View& view, const std::string& path, const Node& kept);
  Status GivesWay(NodeId folder, const std::string& path, Steady asked);

  Facts& facts_;
  Provenance& provenance_;
  PlacementRules& placement_;
  RemoteMerge& merge_;
  Planner& planner_;
  Evidence& evidence_;
  Committer& committer_;
};

}  // namespace pargeter
