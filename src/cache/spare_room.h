// Room on the index's disk that is given up when others have filled that disk: what frees more of
// it, such as an eviction or an upload that has come to its end, has to be written down first.
// Thread-safe.
#pragma once

#include <cstdint>
#include <string>

#include "base/file.h"
#include "base/mutex.h"

namespace pargeter {

class SpareRoom {
 public:
  // A file of `bytes` at `path`; 0: none. Nothing is kept or looked at before Tend.
  SpareRoom(std::string path, std::uint64_t bytes, Disk* disk);
  // Gives it up if next to nothing is left, and takes it again once there is plenty. What fails is
  // tried again the next time.
  void Tend() EXCLUDES(mutex_);

 private:
  Status Take() REQUIRES(mutex_);
  const std::string path_;
  const std::uint64_t bytes_;
  Disk* const disk_;
  Mutex mutex_;
};

}  // namespace pargeter
