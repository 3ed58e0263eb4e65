// The steps that one folder of a mirror needs so that the directory, the engine's tree and the
// records of their last agreement say the same. Pure: no disk, no store, no threads. Each step is a
// small, repeatable one: what it leaves to do, the next plan finds.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "face/mirror/fingerprint.h"
#include "face/mirror/records.h"
#include "index/index.h"

namespace pargeter {

// A node of the engine, as far as a mirror cares.
struct HereNode {
  NodeId id = kNoNode, parent = kNoNode;
  std::string name;
  NodeKind kind = NodeKind::kFile;
  std::uint64_t generation = 0, size = 0;
  bool ours = false;  // its content is from this directory, and not at the store yet
  bool hidden = false;
  std::optional<std::uint32_t> mode;  // nothing: the store has not told it
  Nanos mtime = 0;
  std::string target;
};

// All three views of a folder.
struct FolderViews {
  NodeId id = kRootId;
  std::vector<DiskEntry> disk;
  std::vector<Record> records;
  std::vector<HereNode> here;
};

// Questions of a plan about other folders.
class OtherFolders {
 public:
  virtual ~OtherFolders() = default;
  virtual std::optional<HereNode> NodeOf(NodeId id) = 0;  // nothing: it is gone
  virtual bool HasRecord(NodeId id) = 0;
  // The record of the same file or folder, which is not at the record's place any more: it moved.
  virtual std::optional<Record> MovedFrom(const Fingerprint& print) = 0;
};

enum class StepKind {  // in the order in which they are done
  kMoveHere,           // the file moved in the directory: the node `id` to this folder, as `name`
  kMoveOnDisk,         // the node moved: its file after it
  kKeepBeside,         // the file `name` gets the name of a conflict copy
  kForget,             // the record goes: what is left is new on the side that has it
  kMakeFolderHere,
  kMakeFolderOnDisk,
  kCompare,      // both have it, and nobody knows whether they are the same
  kCreateHere,   // a new node for the file `name`
  kReplaceHere,  // the file's bytes into the node
  kFetch,        // the node's bytes into the directory; over the record's file, if there is one
  kSetHere,      // the mode
  kSetOnDisk,
  kRemoveHere,  // it is gone from the directory
  kTakeOut,     // it is gone from the engine: to recovered/
  kLeaveOut     // no store can hold it
};

struct Step {
  StepKind kind;
  NodeId id = kNoNode;
  std::string name;
  DiskEntry disk;
  std::optional<Record> record;
  HereNode here;
};

// In the order of StepKind.
std::vector<Step> PlanFolder(const FolderViews& views, OtherFolders* others);

}  // namespace pargeter
