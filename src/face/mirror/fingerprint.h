// A fingerprint tells one state of a file in a plain directory from another (statx(2)). Plain
// values.
#pragma once

#include <cstdint>
#include <string>

#include "base/clock.h"

namespace pargeter {

enum class DiskKind : std::uint8_t { kFile = 0, kFolder = 1, kSymlink = 2, kOther = 3 };

struct Fingerprint {
  DiskKind kind = DiskKind::kFile;
  std::uint64_t device = 0, inode = 0;
  Nanos born = 0;  // tells an inode number that was given away again; 0: the file system has none
  std::uint64_t size = 0;
  Nanos mtime = 0, ctime = 0;  // ctime cannot be set by programs
  std::uint32_t mode = 0;      // the permissions
  std::uint64_t links = 1;

  bool IsSameFile(const Fingerprint& other) const {
    return kind == other.kind && device == other.device && inode == other.inode &&
           born == other.born;
  }
  // The same bytes, as far as the file system tells. A change of ctime alone is a new mode, name
  // or link, or bytes whose time was set back: whoever gave the file its mode or name knows.
  bool HasSameTimes(const Fingerprint& other) const {
    return IsSameFile(other) && size == other.size && mtime == other.mtime;
  }
  bool IsUnchanged(const Fingerprint& other) const {
    return kind == DiskKind::kFolder ? IsSameFile(other)
                                     : HasSameTimes(other) && ctime == other.ctime;
  }
};

struct DiskEntry {
  std::string name;
  Fingerprint print;
  std::string target;  // of a symbolic link
};

}  // namespace pargeter
