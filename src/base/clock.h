// Time as the engine sees it. Wall time is nanoseconds since the Unix epoch (what files carry);
// steady time never goes back and is what every deadline is measured with.
#pragma once

#include <chrono>
#include <cstdint>
#include <string>

namespace pargeter {

using Nanos = std::int64_t;  // wall time, nanoseconds since 1970-01-01T00:00:00Z
using Steady = std::chrono::steady_clock::time_point;
using Duration = std::chrono::milliseconds;

// Thread-safe. Tests replace it to jump and to stand still.
class Clock {
 public:
  virtual ~Clock() = default;
  virtual Nanos Wall() const = 0;
  // What a file that is written now is stamped with, or a little less: the kernel stamps with the
  // time of the last tick, so a file's time may be earlier than Wall() was when it was opened.
  virtual Nanos FileTime() const { return Wall(); }
  virtual Steady Now() const = 0;
};

// The machine's own clock; lives as long as the process.
const Clock& SystemClock();

std::string Rfc3339(Nanos wall);     // "2026-03-01T09:30:00Z"; 0 gives ""
Nanos ParseHttpDate(const char* s);  // RFC 9110 section 5.6.7; 0 if it is no date
Nanos ParseRfc3339(const char* s);   // with or without fraction; 0 if it is no date

}  // namespace pargeter
