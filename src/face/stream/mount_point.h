// The folder that a drive appears at: is it fit to be mounted on, and how it is freed again.
#pragma once

#include <string>
#include <vector>

#include "base/error.h"

namespace pargeter {

// Exists, is an empty folder, is writable for us, is no mount. A dead mount of ours that a crash
// left there is taken away first. kNotFound, kNotFolder, kNotEmpty, kBusy, kPermission.
Status PrepareMountPoint(const std::string& path);
// /dev/fuse is there and may be used; else kUnsupported or kPermission with what to do.
Status CheckFuse();

struct MountEntry {
  std::string path, type, source, device;  // device: "MAJ:MIN"
};
// Every mount of this process's namespace; asks no file system anything.
std::vector<MountEntry> ListMounts();

// "pid (program)" of every process that has something on the mount open, is in it or maps it, as
// far as this user may see.
std::vector<std::string> HoldersOf(const std::string& path);

enum class Detach { kIfFree, kNow };
// kBusy, with the holders, if somebody uses it; kNow takes it away all the same.
Status UnmountAt(const std::string& path, Detach how);

}  // namespace pargeter
