// Brings files to the store: bytes, copies made by the store, attributes.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Committer;
class ConflictResolver;
class Contents;
class Evidence;
class Fetcher;
class Provenance;
class Refresher;
class RemoteMerge;
class SendLog;

class Uploader : public Component {
 public:
  Uploader(Context* context, Contents* contents, Fetcher* fetcher, Provenance* provenance,
           RemoteMerge* merge, Refresher* refresher, SendLog* send_log, Evidence* evidence,
           Committer* committer, ConflictResolver* resolver)
      : Component(context),
        contents_(*contents),
        fetcher_(*fetcher),
        provenance_(*provenance),
        merge_(*merge),
        refresher_(*refresher),
        send_log_(*send_log),
        evidence_(*evidence),
        committer_(*committer),
        resolver_(*resolver) {}

  Status LearnBeforeSending(const Job& job, bool leaves = false);
  Result<Outcome> BringDown(Job* job);
  Result<Outcome> UploadFile(Job* job);
  Result<Outcome> CopyFile(Job* job);

 private:
  static bool IsStillComingDown(const Live& live, const Job& job,
                                const std::shared_ptr<Content>& content);
  Status RecordLocal(const Job& job, const std::shared_ptr<Content>& content);
  Status SyncBeforeSending(Job* job);
  Result<Outcome> BaseIsGone(Job* job);
  Result<Entry> SendContent(Job* job);
  Result<Entry> SendParts(Job* job);
  Result<Outcome> ResolveRefusedCopy(Job* job, const std::string& from, const std::string& version);

  Contents& contents_;
  Fetcher& fetcher_;
  Provenance& provenance_;
  RemoteMerge& merge_;
  Refresher& refresher_;
  SendLog& send_log_;
  Evidence& evidence_;
  Committer& committer_;
  ConflictResolver& resolver_;
};

}  // namespace pargeter
