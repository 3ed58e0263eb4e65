// Takes back what a former attempt may have made at a place that is not wanted any more.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Evidence;
class HeldFolders;
class Provenance;
class SendLog;

class Rollback : public Component {
 public:
  Rollback(Context* context, Provenance* provenance, HeldFolders* held, SendLog* send_log,
           Evidence* evidence)
      : Component(context),
        provenance_(*provenance),
        held_(*held),
        send_log_(*send_log),
        evidence_(*evidence) {}

  // Deletes the object that the attempt made, if it did and the object is not the only copy.
  Result<Outcome> RollBackAttempt(Job* job);

 private:
  // False: the object there is not of that attempt, or there is none.
  Result<bool> RollBackFile(Job* planned);
  // The node is at the attempted place at the store.
  Result<Outcome> AdoptAttempt(View& view, Job* job, Inode* inode);
  // A new folder is an object of its own; a moved one has copies of objects that are still at the
  // old place.
  Status RollBackFolder(Job* job);
  // Files that arrived already, known by their versions, go back.
  Status RollBackMoved(const Job& job, const std::vector<Entry>& made);
  // Files that became conflict copies on the way: their originals were deleted at once.
  Status RollBackConflictCopies(const Job& job, const std::vector<Entry>& made);
  // The path before a part of it got the name of a conflict copy.
  static std::string FormerName(const Job& job, const std::string& name);

  Provenance& provenance_;
  HeldFolders& held_;
  SendLog& send_log_;
  Evidence& evidence_;
};

}  // namespace pargeter
