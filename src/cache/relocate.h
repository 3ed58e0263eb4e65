// A cache goes to another folder, perhaps on another disk, while its drive does not run.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "base/error.h"
#include "base/file.h"

namespace pargeter {

struct Relocation {
  std::uint64_t files = 0, bytes = 0, bytes_done = 0;  // bytes on the disk
};

// Every block file below `from`, one by one: wholly there, and on the disk for good, before it goes
// here. Ended at any moment, the next call goes on with what is left. Holes stay holes.
// `progress` is called now and then.
Result<Relocation> MoveBlocks(const std::string& from, const std::string& to, Disk* disk,
                              const std::function<void(const Relocation&)>& progress);

}  // namespace pargeter
