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

  // Makes a new folder, or its marker.
  Result<Outcome> SendFolder(Job* job);
  Result<Outcome> MoveFolder(Job* job);

 private:
  // The folder is at its new place: `whole`, in one request, or object by object.
  Status RecordMove(Job* job, bool whole);
  // Brings every object below the old place to the new one. An object whose place is taken there
  // becomes a conflict copy.
  Status CopySubtree(Job* job);
  // `mutex` guards the job.
  Status CopyObject(Job* job, const Entry& object, Mutex* mutex);
  // The object at the new place was copied there by an earlier attempt.
  Result<bool> IsSameObject(const Job& job, const Entry& object, const std::string& from,
                            const Entry& there, const std::string& to);
  // `name`: its path below the folder, if the place were free.
  Status CopyObjectAsConflict(Job* job, const Entry& object, const std::string& name, Mutex* mutex);
  // One request: a move where the store has it, else a copy.
  Result<Entry> SendObject(const Job& job, const Entry& object, const std::string& to,
                           const Precondition& only_if);
  // Nodes know the versions of the copies from now on.
  Status AdoptCopies(View& view, NodeId folder, const Copies& copied);
  // Files of a held folder that were overwritten by the moved folder's are not held any more.
  Status NoteArrivals(Job* job);
  // A folder whose name a file of others has becomes a conflict copy.
  Status MakeFoldersBelow(Job* job, const std::vector<Entry>& objects);
  // The path below the new place, with the names of conflict copies.
  static std::string NewName(const Job& job, const std::string& path);
  std::string RemoteConflictName(const std::string& path) const;

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
