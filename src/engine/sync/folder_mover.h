// Brings folders to the store, and moves them, in one request or object by object.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Committer;
class ConflictResolver;
class Evidence;
class Facts;
class HeldFolders;
class Planner;
class Provenance;
class RemoteMerge;
class Rollback;
class SendLog;

class FolderMover : public Component {
 public:
  FolderMover(Context* context, Facts* facts, Provenance* provenance, RemoteMerge* merge,
              HeldFolders* held, Planner* planner, SendLog* send_log, Evidence* evidence,
              Committer* committer, ConflictResolver* resolver, Rollback* rollback)
      : Component(context),
        facts_(*facts),
        provenance_(*provenance),
        merge_(*merge),
        held_(*held),
        planner_(*planner),
        send_log_(*send_log),
        evidence_(*evidence),
        committer_(*committer),
        resolver_(*resolver),
        rollback_(*rollback) {}

  Result<Outcome> SendFolder(Job* job);
  Result<Outcome> MoveFolder(Job* job);

 private:
  Status RecordMove(Job* job, bool whole);
  Status BringBelow(Job* job);
  Status Bring(Job* job, const Entry& object, Mutex* mutex);
  Result<bool> AreSame(const Job& job, const Entry& object, const std::string& from,
                       const Entry& there, const std::string& to);
  Status BringBeside(Job* job, const Entry& object, const std::string& name, Mutex* mutex);
  Result<Entry> SendBelow(const Job& job, const Entry& object, const std::string& to,
                          const Precondition& only_if);
  Status TakeCopies(View& view, NodeId folder, const Copies& copied);
  Status SeeWhatCame(Job* job);
  Status MakeFoldersBelow(Job* job, const std::vector<Entry>& objects);
  static std::string NewName(const Job& job, const std::string& path);
  std::string BesideThere(const std::string& path) const;

  Facts& facts_;
  Provenance& provenance_;
  RemoteMerge& merge_;
  HeldFolders& held_;
  Planner& planner_;
  SendLog& send_log_;
  Evidence& evidence_;
  Committer& committer_;
  ConflictResolver& resolver_;
  Rollback& rollback_;
};

}  // namespace pargeter
