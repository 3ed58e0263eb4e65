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

  // Nothing differs from the store any more.
  Result<Outcome> MarkSynced(NodeId id);
  // The folders on the path of the job exist at the store now, whatever their names are here.
  Status MarkParentsExist(View& view, const Job& job);
  // The old place of a moved node gets a row of its own, in the move's transaction: its deletion is
  // done once, whatever happens between.
  Status AddTombstone(View& view, const Job& job, UploadMethod how);
  // The store has acknowledged exactly what the job sent.
  Status CommitUpload(Job* job, const Entry& entry, UploadMethod how);
  // The deleted node that had the object at the target loses it.
  void DropOccupant(View& view, Job* job);

 private:
  // What is done with the file's bytes here once the record is on the disk.
  struct Afterwards {
    bool thin = false;      // they go: the file is thin
    bool given_up = false;  // they go: the cache's disk has no room for them
  };
  // The bytes here are the acknowledged ones: they are cache from now on.
  Status SettleBytes(View& view, Inode* inode, const Entry& entry, Afterwards* then);
  Result<Afterwards> RecordUpload(Job* job, const Entry& entry, UploadMethod how);
  // Attributes that went along need not be sent again: a move takes along those that are at the
  // store.
  static void NoteAttributesSent(const Job& job, UploadMethod how, Node* node);

  Contents& contents_;
  Provenance& provenance_;
  HeldFolders& held_;
};

}  // namespace pargeter
