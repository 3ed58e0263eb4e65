// What one mount shows: a drive as its root, or several as the folders of a root of its own. The
// kernel knows one space of inode numbers; which drive one is of, and what it is called there, is
// told here:
//
//   inode = slot << 48 | node id        one drive: slot 0; several: 1 and up, and the root is 1
//
// Thread-safe. Drives must outlive it: one that is no longer shown may still have open files.
#pragma once

#include <array>
#include <atomic>
#include <optional>
#include <string>
#include <vector>

#include "base/mutex.h"
#include "engine/drive.h"
#include "face/stream/handles.h"

namespace pargeter {

using InodeNumber = std::uint64_t;
constexpr int kSlotShift = 48;

struct Place {
  Drive* drive = nullptr;  // nullptr: the root over several drives, or nothing that is known
  NodeId id = kNoNode;
  InodeNumber base = 0;

  InodeNumber InodeOf(NodeId node) const { return base | static_cast<InodeNumber>(node); }
};

class Shown {
 public:
  static constexpr int kMostDrives = 1000;
  static constexpr InodeNumber kTop = static_cast<InodeNumber>(kRootId);

  explicit Shown(Drive* alone);
  Shown();  // several, none yet

  Place At(InodeNumber inode) const;
  bool several() const { return several_; }
  OpenHandles& handles() { return handles_; }

  // -- several. `name` must be free; kNoSpace beyond kMostDrives.
  Result<InodeNumber> Add(const std::string& name, Drive* drive) EXCLUDES(mutex_);
  void SetVisible(InodeNumber base, bool visible) EXCLUDES(mutex_);
  struct Folder {
    std::string name;
    Place root;
  };
  // One by its name; all behind a position, which is a slot's number and 0 at first.
  std::optional<Folder> Find(const std::string& name) const EXCLUDES(mutex_);
  std::vector<Folder> After(std::uint64_t slot) const EXCLUDES(mutex_);
  Attr TopAttr() const;

 private:
  struct Entry {
    std::string name;
    bool visible = true;
  };
  Folder FolderAt(std::size_t slot) const REQUIRES(mutex_);
  const bool several_;
  const Nanos since_;
  OpenHandles handles_;
  std::array<std::atomic<Drive*>, kMostDrives + 1> drives_{};  // only ever grows
  mutable Mutex mutex_;
  std::vector<Entry> entries_ GUARDED_BY(mutex_);  // of slot 1 and up
};

}  // namespace pargeter
