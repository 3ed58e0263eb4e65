#include "service/notify.h"

#include <fmt/format.h>
#include <systemd/sd-daemon.h>

#include <cstdlib>

#include "base/text.h"

namespace pargeter {

Notify::Notify() {
  listened_ = std::getenv("NOTIFY_SOCKET") != nullptr;
  std::uint64_t micros = 0;
  if (sd_watchdog_enabled(0, &micros) > 0)
    watchdog_ = std::chrono::duration_cast<Duration>(std::chrono::microseconds(micros));
}

// Printable: a line feed in a name would begin another message.
void Notify::Ready(const std::string& status) const {
  sd_notify(0, fmt::format("READY=1\nSTATUS={}", Printable(status)).c_str());
}
void Notify::Status(const std::string& status) const {
  sd_notify(0, fmt::format("STATUS={}", Printable(status)).c_str());
}
void Notify::Stopping(const std::string& status) const {
  sd_notify(0, fmt::format("STOPPING=1\nSTATUS={}", Printable(status)).c_str());
}
void Notify::MoreTime(Duration span) const {
  sd_notify(0, fmt::format("EXTEND_TIMEOUT_USEC={}", span.count() * 1000).c_str());
}
void Notify::Alive() const { sd_notify(0, "WATCHDOG=1"); }

}  // namespace pargeter
