// The service manager itself, over its D-Bus interface (org.freedesktop.systemd1(5)): the system's,
// or the one of this user.
//
// Not thread-safe. Every call ends within its deadline.
#pragma once

#include <memory>
#include <string>

#include "base/clock.h"
#include "base/error.h"
#include "service/units.h"

namespace pargeter {

struct UnitState {
  std::string active;  // "active", "activating", "failed", "inactive", ...
  std::string sub;     // "running", "auto-restart", ...
  std::string result;  // "success", "exit-code", "watchdog", ...
  std::string status;  // what it said of itself last
  std::uint32_t main_pid = 0;
  std::int32_t exit_status = 0;  // a code, or a signal if `killed`
  bool killed = false;
  std::uint32_t restarts = 0;
  Nanos since = 0;  // in this state
};

class Manager {
 public:
  // Does systemd run this machine? Else kUnsupported, with what does.
  static Status Running();
  // `runtime_dir`: of the user, where the bus is. kUnsupported if no such manager runs,
  // kPermission.
  static Result<Manager> Connect(Scope scope, const std::string& runtime_dir);
  Manager(Manager&&) noexcept;
  Manager& operator=(Manager&&) noexcept;
  ~Manager();

  Result<int> Version();  // 252
  Status Reload();        // reads the units again
  Status Enable(const std::string& unit);
  Status Disable(const std::string& unit);
  // Wait for the job; kTimeout if it takes longer, an Error with its outcome if it fails.
  Status Start(const std::string& unit, Duration patience) {
    return Run("StartUnit", unit, patience);
  }
  Status Stop(const std::string& unit, Duration patience) {
    return Run("StopUnit", unit, patience);
  }
  Status Restart(const std::string& unit, Duration patience) {
    return Run("RestartUnit", unit, patience);
  }
  Status Forget(const std::string& unit);  // that it failed
  Result<UnitState> StateOf(const std::string& unit);

 private:
  struct Impl;
  explicit Manager(std::unique_ptr<Impl> impl);
  Status Run(const char* method, const std::string& unit, Duration patience);
  std::unique_ptr<Impl> impl_;
};

// Does this user's manager run without anybody being signed in?
bool Lingers(const std::string& user);

}  // namespace pargeter
