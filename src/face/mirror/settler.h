// Makes directory and engine the same, folder by folder: gathers the three views of some folders,
// plans, and takes the steps. What fails or is not ready is left to a later pass.
#pragma once

#include <atomic>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "engine/drive.h"
#include "face/mirror/directory.h"
#include "face/mirror/plan.h"
#include "face/mirror/records.h"
#include "face/mirror/staging.h"
#include "face/mirror/watch.h"

namespace pargeter {

// What one pass has left.
struct PassResult {
  std::set<NodeId> again;  // folders that have more to do at once
  std::set<NodeId> later;  // folders in which something was not ready
  std::uint64_t steps = 0;
};

class Settler : private OtherFolders {
 public:
  struct Options {
    std::string staging_folder;  // on the disk of the waiting bytes
    int workers = 8;
    Duration quiet{1000};  // for files whose file system has no leases
    Cancel stop;
  };
  // `watch` may be null.
  Settler(Drive* drive, Directory* directory, Records* records, DirectoryWatch* watch,
          Options options)
      : drive_(*drive),
        directory_(*directory),
        records_(*records),
        watch_(watch),
        options_(std::move(options)) {}

  // Files that were on their way to their places when the process died.
  Status FindPlaced();
  // Not to be called by two threads at once. Errors: of the directory as a whole
  // (Directory::Check), of the records, and kCancelled.
  Result<PassResult> Pass(const std::set<NodeId>& folders);
  // Files that no store can hold, and why something waits: by path.
  std::map<std::string, std::string> Problems() const;

 private:
  std::optional<HereNode> NodeOf(NodeId id) override;
  bool HasRecord(NodeId id) override;
  std::optional<Record> MovedFrom(const Fingerprint& print) override;

  struct Work {
    NodeId folder;
    std::string path;  // of the folder
    Step step;
    std::string PathOfName() const { return path.empty() ? step.name : path + "/" + step.name; }
  };
  // Nothing: the folder is not there, and the one above it has to be looked at.
  Result<std::optional<FolderViews>> Gather(NodeId folder, const std::string& path);
  Result<std::vector<Work>> PlanAll(const std::set<NodeId>& folders, PassResult* result);
  void ForEach(std::size_t count, const std::function<void(std::size_t)>& each) const;
  void Take(const Work& work, PassResult* result);
  void NoteOutcome(const Work& work, const Status& taken, PassResult* result);
  Status TakeStep(const Work& work, PassResult* result);
  Status MoveHere(const Work& work, PassResult* result);
  // The store has not changed the file since the directory got it.
  bool IsAsRecorded(const Record& record);
  Status MoveOnDisk(const Work& work, PassResult* result);
  Status KeepBeside(const Work& work);
  Status Forget(NodeId id);  // with all that is below
  Status MakeFolderHere(const Work& work, PassResult* result);
  Status MakeFolderOnDisk(const Work& work, PassResult* result);
  Status Compare(const Work& work, PassResult* result);
  Result<bool> IsEqual(const Work& work);
  Status CreateHere(const Work& work, const std::string& conflicts_with);
  Status ReplaceHere(const Work& work);
  // Several at a time: the bytes of all are synced at once, before any gets its name.
  void FetchAll(const std::vector<Work>& works, PassResult* result);
  struct Fetched {
    Directory::Incoming file;
    Record record;
  };
  Result<Fetched> FetchBytes(const Work& work);
  Status PlaceFetched(const Work& work, const Fetched& fetched);
  Status FetchSymlink(const Work& work);
  Status SetHere(const Work& work);
  Status SetOnDisk(const Work& work);
  Status RemoveHere(const Work& work, PassResult* result);
  Status RemoveTreeHere(NodeId parent, const Node& node, bool* all);
  Status TakeOut(const Work& work, PassResult* result);
  Status TakeOutTree(NodeId folder, const std::string& path);
  // As `found` at its place now, if it is the file that the record speaks of.
  Status SaveRecord(Record record, const Fingerprint& found);
  Status AddBelow(NodeId folder, std::set<NodeId>* to);
  std::string NewStagingName();
  void NoteProblem(const std::string& path, const Status& status);

  Drive& drive_;
  Directory& directory_;
  Records& records_;
  DirectoryWatch* const watch_;
  const Options options_;
  std::atomic<std::uint64_t> staged_{0};
  mutable Mutex mutex_;
  std::map<std::string, std::string> problems_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
