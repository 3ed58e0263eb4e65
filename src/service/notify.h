// What a drive tells its service manager, by the readiness protocol of sd_notify(3) and the
// watchdog of sd_watchdog_enabled(3). Without a manager that listens, every call does nothing.
//
// Thread-safe. Reads the environment that the manager has set.
#pragma once

#include <optional>
#include <string>

#include "base/clock.h"

namespace pargeter {

class Notify {
 public:
  Notify();
  bool listened() const { return listened_; }
  void Ready(const std::string& status) const;
  void Status(const std::string& status) const;
  void Stopping(const std::string& status) const;
  void MoreTime(Duration span) const;  // for what it is doing just now
  // How often Alive must be said, at least; nothing if nobody waits for it.
  std::optional<Duration> watchdog() const { return watchdog_; }
  void Alive() const;

 private:
  bool listened_ = false;
  std::optional<Duration> watchdog_;
};

}  // namespace pargeter
