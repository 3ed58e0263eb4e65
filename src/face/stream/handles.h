// The files that are open through one mount. A handle is a number that the kernel gives back with
// each request. Its release may never come: the kernel drops those that are still waiting to be
// read when the mount goes, and a mount that is taken away in use never sends them. What is open
// for writing is not uploaded until it has rested, so whoever ends a mount releases the rest.
//
// Thread-safe, except for two calls with the same handle at once.
#pragma once

#include <memory>
#include <unordered_map>

#include "base/mutex.h"
#include "engine/drive.h"

namespace pargeter {

class OpenHandles {
 public:
  std::uint64_t Add(Drive* drive, OpenFilePtr file) EXCLUDES(mutex_);
  // `handle` is of Add, and not released.
  static const OpenFilePtr& FileOf(std::uint64_t handle);
  void Release(std::uint64_t handle) EXCLUDES(mutex_);
  void ReleaseAll() EXCLUDES(mutex_);

 private:
  struct Open {
    Drive* drive;
    OpenFilePtr file;
  };
  Mutex mutex_;
  std::unordered_map<std::uint64_t, std::unique_ptr<Open>> all_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
