// Takes back what a former attempt may have made at a place that is not wanted any more.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Committer;
class Evidence;
class HeldFolders;
class Provenance;
class SendLog;

class Rollback : public Component {
 public:
  Rollback(Context* context, Provenance* provenance, HeldFolders* held, SendLog* send_log,
           Evidence* evidence, Committer* committer)
      : Component(context),
        provenance_(*provenance),
        held_(*held),
        send_log_(*send_log),
        evidence_(*evidence),
        committer_(*committer) {}

  Result<Outcome> TakeBack(Job* job);

 private:
  Result<bool> TakeBackFile(Job* planned);
  Result<Outcome> GoesOnFrom(View& view, Job* job, Live* live);
  Status TakeBackFolder(Job* job);
  Status TakeBackMoved(const Job& job, const std::vector<Entry>& made);
  Status TakeBackKept(const Job& job, const std::vector<Entry>& made);
  static std::string FormerName(const Job& job, const std::string& name);

  Provenance& provenance_;
  HeldFolders& held_;
  SendLog& send_log_;
  Evidence& evidence_;
  Committer& committer_;
};

}  // namespace pargeter
