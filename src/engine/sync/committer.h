// Records in the tree that a step was done at the store.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Contents;
class HeldFolders;
class Provenance;

class Committer : public Component {
 public:
  Committer(Context* context, Contents* contents, Provenance* provenance, HeldFolders* held)
      : Component(context), contents_(*contents), provenance_(*provenance), held_(*held) {}

  void ReadOnFromNewPlaces(View& view);
  Result<Outcome> Settle(NodeId id);
  // What it went into is there with it, where it was then, whatever is called otherwise since.
  Status AboveIsThere(View& view, const Job& job);
  Status LeaveOldPlace(View& view, const Job& job, SentAs how);
  Status CommitUpload(Job* job, const Entry& entry, SentAs how);
  void DropOccupant(View& view, Job* job);

 private:
  // What is done with the file's bytes here once the record is on the disk.
  struct Afterwards {
    bool thin = false;      // they go: the file is thin
    bool given_up = false;  // they go: the cache's disk has no room for them
  };
  Status SettleBytes(View& view, const Job& job, Live* live, const Entry& entry, Afterwards* then);
  Result<Afterwards> RecordUpload(Job* job, const Entry& entry, SentAs how);
  static void NoteAttributesSent(const Job& job, SentAs how, Node* node);

  Contents& contents_;
  Provenance& provenance_;
  HeldFolders& held_;
};

}  // namespace pargeter
