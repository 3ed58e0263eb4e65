// The last agreement of the plain directory and the engine: one record for each file or folder: the
// third tree beside the two of the index. Kept in a database of its own (mirror.db) in the drive's
// state: it can be lost, and is found again by comparing.
//
// Thread-safe; calls block on the disk. A record survives the death of the process when its call
// returns, not a power cut.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/mutex.h"
#include "face/mirror/fingerprint.h"
#include "index/index.h"
#include "index/sqlite.h"

namespace pargeter {

struct Record {
  NodeId id = kNoNode;  // the engine's
  NodeId parent = kNoNode;
  std::string name;
  Fingerprint print;
  std::uint64_t generation = 0;  // of the node whose content is on the disk
  std::string target;            // of a symbolic link
};

class Records {
 public:
  static Result<std::unique_ptr<Records>> Open(const std::string& path);

  Result<std::optional<Record>> Get(NodeId id);
  Result<std::vector<Record>> Children(NodeId parent);
  Result<std::optional<Record>> Find(NodeId parent, const std::string& name);
  Result<std::vector<Record>> FindInode(std::uint64_t device, std::uint64_t inode);
  Status Save(const Record& record);  // replaces the one of the id
  Status Drop(NodeId id);
  Result<std::uint64_t> Count();
  // Where it is in the directory; kNotFound: a folder above has no record.
  Result<std::string> PathOf(NodeId id);
  // The folder at that path; kNoNode: none has a record.
  Result<NodeId> FolderAt(const std::string& path);

  // Files that are about to be renamed to their places: after a crash those that got there are
  // known, whatever their records say.
  Status NotePlacing(const Record& record);
  Status PlacingDone(NodeId id);
  Result<std::vector<Record>> Placing();

 private:
  Records() = default;
  static Record FromRow(const Statement& row);
  static void BindRow(Statement* to, const Record& record);
  Result<std::vector<Record>> Rows(Statement* statement) REQUIRES(mutex_);

  Mutex mutex_;
  Database db_ GUARDED_BY(mutex_);
  Statement get_ GUARDED_BY(mutex_), children_ GUARDED_BY(mutex_), find_ GUARDED_BY(mutex_),
      find_inode_ GUARDED_BY(mutex_), save_ GUARDED_BY(mutex_), drop_ GUARDED_BY(mutex_),
      count_ GUARDED_BY(mutex_), note_placing_ GUARDED_BY(mutex_),
      placing_done_ GUARDED_BY(mutex_), placing_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
