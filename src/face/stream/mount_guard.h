// A process that ends the requests of a mount whose own process is killed.
//
// The kernel ends them when the last of that process is gone. But one of its threads may be telling
// the kernel to forget a name or a page, and be waiting for who holds that, who waits for an answer
// of the dead process: neither would ever end, and no new mount would help.
#pragma once

#include <sys/types.h>

#include <string>

#include "base/error.h"

namespace pargeter {

class MountGuard {
 public:
  // kUnsupported with what is missing, if it would do nothing.
  static Status Check();
  // Watches the thread that calls this, which must live as long as the mount is served. `device`:
  // the mount's, as "0:41". Needs the kernel's folder of FUSE connections, or to be root; without
  // either it does nothing, and says so in the log.
  explicit MountGuard(const std::string& device);
  ~MountGuard();
  MountGuard(const MountGuard&) = delete;
  MountGuard& operator=(const MountGuard&) = delete;

 private:
  pid_t pid_ = -1;
};

}  // namespace pargeter
