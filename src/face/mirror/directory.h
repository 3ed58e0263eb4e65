// The plain directory of a mirror: looks at it, and changes it so that nothing of others is ever
// overwritten. Paths are relative to it; "" is the directory. No path leads through a symbolic link
// or into another file system.
//
// A folder of our own inside, on the same file system, holds what is on its way in, what was taken
// out (recovered/DATE/...), and the mark by which the directory is known again.
//
// Thread-safe. Calls block on the disk.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "base/file.h"
#include "face/mirror/fingerprint.h"

namespace pargeter {

class Directory {
 public:
  static constexpr const char* kOwnFolder = ".pargeter";

  // `mark`: names the drive. Makes the directory and the mark if `may_make`. kRefused: the
  // directory is not there, is not the one that has the mark, or has the mark of another drive.
  static Result<Directory> Open(const std::string& at, const std::string& mark, bool may_make);
  // kRefused: another directory stands in its place by now, or its mark is gone: nothing that is
  // missing in it was deleted by anybody.
  Status Check() const;

  Result<std::vector<DiskEntry>> List(const std::string& folder) const;
  // Nothing: there is no such name.
  Result<std::optional<DiskEntry>> Look(const std::string& path) const;
  Result<Fd> OpenFile(const std::string& path) const;  // for reading; never waits for a FIFO
  Result<std::uint64_t> FreeBytes() const;

  // A file on its way in: it has a name of our own until it is placed.
  struct Incoming {
    Fd fd;
    std::string name;  // in the folder of our own
  };
  Result<Incoming> BeginFile();
  // Sets mode and time. What is placed has to be on the disk before: Sync.
  Result<Fingerprint> EndFile(const Incoming& file, std::uint32_t mode, Nanos mtime);
  void DropFile(const Incoming& file);

  // Each of the following is refused with kChanged, and nothing is changed, if the place is not as
  // it is said to be: free, or with the known file.
  Status PlaceNew(const Incoming& file, const std::string& path);
  // The file that was there goes to recovered/.
  Status PlaceOver(const Incoming& file, const std::string& path, const Fingerprint& known);
  Status Move(const std::string& from, const std::string& to);
  Status Exchange(const std::string& one, const std::string& other);
  Status MakeFolder(const std::string& path, std::uint32_t mode);
  Status MakeSymlink(const std::string& target, const std::string& path, Nanos mtime);
  Status RemoveEmptyFolder(const std::string& path);  // kNotEmpty
  // To recovered/, if it is as known.
  Status TakeOut(const std::string& path, const Fingerprint& known);
  Status SetMode(const std::string& path, std::uint32_t mode);
  Status SetTime(const std::string& path, Nanos mtime);
  Status Sync();  // all names and bytes so far survive a power cut

  const std::string& at() const { return at_; }

 private:
  struct Place {  // of a name
    Fd folder;
    std::string name;
  };
  Result<Place> PlaceOf(const std::string& path) const;
  Result<Fd> OpenFolder(const std::string& path) const;
  Result<std::string> NewRecoveryName(const std::string& path);
  Status RenameChecked(const Place& from, const Place& to, unsigned flags) const;
  // A file among the incoming ones goes to recovered/, as one of that path.
  Status Recover(const std::string& incoming, const std::string& path);
  Status PutBack(const Place& here, const std::string& out) const;

  std::string at_, mark_;
  Fd root_, own_, incoming_, recovered_;
  std::uint64_t device_ = 0, inode_ = 0;
};

}  // namespace pargeter
