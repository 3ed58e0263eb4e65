// Takes the turns of the outbox: plans one step for a node, has it done, and says what comes next.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Committer;
class Facts;
class FolderMover;
class Planner;
class Provenance;
class Remover;
class Rollback;
class SendLog;
class Uploader;

class Reconciler : public Component, public Outbox::Worker {
 public:
  Reconciler(Context* context, Facts* facts, Provenance* provenance, Planner* planner,
             SendLog* send_log, Committer* committer, Rollback* rollback, Uploader* uploader,
             FolderMover* mover, Remover* remover)
      : Component(context),
        facts_(*facts),
        provenance_(*provenance),
        planner_(*planner),
        send_log_(*send_log),
        committer_(*committer),
        rollback_(*rollback),
        uploader_(*uploader),
        mover_(*mover),
        remover_(*remover) {}

  TurnResult RunTurn(NodeId id, int tries, const Cancel& cancel) override;
  std::int64_t EndTurn(NodeId id) override;

 private:
  // After an error: when the next try is, and what the queue says.
  TurnResult TurnAfter(const Job& job, const Error& error, int tries);
  // Returns the pause until the next try.
  Duration NoteFailed(const Job& job, const Error& error);
  // Something has changed meanwhile, which passes. If not, the pauses grow and the queue shows the
  // reason.
  Duration NoteTransientFailure(NodeId id, const Error& error, int tries);
  Result<Outcome> Reconcile(Job* job);

  Facts& facts_;
  Provenance& provenance_;
  Planner& planner_;
  SendLog& send_log_;
  Committer& committer_;
  Rollback& rollback_;
  Uploader& uploader_;
  FolderMover& mover_;
  Remover& remover_;
};

}  // namespace pargeter
