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

  // Attributes that no listing carried are read first: the upload must not replace them by
  // defaults. `leaves`: the object is about to leave the store.
  Status ReadAttributesBeforeSending(const Job& job, bool leaves = false);
  // Fetches all bytes and syncs them, before the store is told to delete the file.
  Result<Outcome> MakeLocalOnly(Job* job);
  // Sends the bytes, with attributes.
  Result<Outcome> UploadFile(Job* job);
  // A move, a copy of another file, or new attributes: the store copies, and no bytes are sent.
  Result<Outcome> CopyFile(Job* job);

 private:
  // The file is still to be local, with the version, content and bytes of the plan, all synced.
  static bool IsAsPlanned(const Inode& inode, const Job& job,
                          const std::shared_ptr<Content>& content);
  // All bytes are synced: the file is local from now on, and its object is to be deleted.
  Status RecordLocal(const Job& job, const std::shared_ptr<Content>& content);
  Status SyncBeforeSending(Job* job);
  Result<Outcome> BaseIsGone(Job* job);
  Result<Entry> SendContent(Job* job);
  // The id is journalled: the next start goes on with the parts that are at the store, or aborts
  // the upload.
  Result<Entry> SendParts(Job* job);
  // The original or the target has another version than planned, and the target is not our own
  // copy.
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
