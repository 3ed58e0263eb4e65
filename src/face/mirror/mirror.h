// A drive as a plain directory of ordinary files, complete, and kept the same as the store both
// ways while this runs. The engine keeps the two sides in step with each other: this face brings
// the directory's changes into it, and the store's into the directory.
#pragma once

#include <atomic>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <thread>
#include <vector>

#include "engine/drive.h"
#include "face/mirror/directory.h"
#include "face/mirror/records.h"
#include "face/mirror/settler.h"
#include "face/mirror/watch.h"

namespace pargeter {

struct MirrorStatus {
  std::uint64_t items = 0;    // files and folders that are the same on both sides, or were
  std::uint64_t waiting = 0;  // folders to be looked at
  bool complete = false;      // the first look at everything is over
  bool watches_lost = false;  // changes are found by looking, every ten minutes
  std::string stopped;        // why nothing is done any more, or ""
  std::map<std::string, std::string> problems;  // by path
};

// Thread-safe.
class MirrorFace : public ChangeListener {
 public:
  struct Options {
    std::string at;            // the directory
    std::string state_folder;  // of the drive: for records and staged copies
    std::string mark;          // names the drive
    int workers = 8;
    Duration quiet_at_most{2000};  // while changes go on
    Duration quiet{200};           // after a change, for the next one
    Duration retry_after{1000};    // what was not ready; each time twice as long
    Duration retry_at_most{60000};
    Duration catch_up_every{2000};  // the least time between two looks at the whole store
    Duration scan_every{600'000};   // of the directory
  };

  // `drive` must outlive this. kRefused: the directory is not the one that it was.
  static Result<std::unique_ptr<MirrorFace>> Open(Drive* drive, Options options);
  ~MirrorFace() override;

  void Start();
  // Until everything has been looked at once, and nothing is left to do; for tests and `--once`.
  // kTimeout; kRefused: the directory is gone.
  Status WaitUntilSame(Duration patience);
  void Stop();
  MirrorStatus Summary();

  // ChangeListener
  void ContentChanged(NodeId id) override;
  void AttributesChanged(NodeId id) override;
  void NameChanged(NodeId parent, const std::string& name) override;
  void FolderListed(NodeId id) override;
  bool Keeps(NodeId id, std::uint64_t generation) override;

 private:
  MirrorFace(Drive* drive, Options options) : drive_(*drive), options_(std::move(options)) {}
  Status Prepare();
  void SettleLoop();
  void CatchUpLoop();
  void Mark(NodeId folder);
  void MarkFolderOf(NodeId id);
  void MarkPath(const std::string& folder);
  void MarkAll();
  std::set<NodeId> NextFolders();
  void NotePass(const PassResult& result);

  Drive& drive_;
  const Options options_;
  std::optional<Directory> directory_;
  std::unique_ptr<Records> records_;
  std::unique_ptr<DirectoryWatch> watch_;
  std::unique_ptr<Settler> settler_;
  const Cancel stop_ = std::make_shared<CancelToken>();
  Mutex mutex_;
  CondVar changed_;
  std::set<NodeId> marked_ GUARDED_BY(mutex_);
  std::set<NodeId> later_ GUARDED_BY(mutex_);
  Steady marked_since_ GUARDED_BY(mutex_){};  // the first of `marked_`
  Steady marked_at_ GUARDED_BY(mutex_){}, retry_at_ GUARDED_BY(mutex_){},
      scan_at_ GUARDED_BY(mutex_){};
  Duration retry_pause_ GUARDED_BY(mutex_){0};
  bool in_pass_ GUARDED_BY(mutex_) = false;
  bool caught_up_ GUARDED_BY(mutex_) = false;  // once
  bool complete_ GUARDED_BY(mutex_) = false;
  bool watches_lost_ GUARDED_BY(mutex_) = false;
  std::optional<Error> stopped_ GUARDED_BY(mutex_);
  std::thread settling_, catching_up_;
};

}  // namespace pargeter
