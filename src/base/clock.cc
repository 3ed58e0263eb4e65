#include "base/clock.h"

#include <fmt/format.h>

#include <cstdio>
#include <cstring>
#include <ctime>
#include <limits>

namespace pargeter {
namespace {

constexpr Nanos kSecond = 1'000'000'000;

class RealClock : public Clock {
 public:
  Nanos Wall() const override { return Read(CLOCK_REALTIME); }
  Nanos FileTime() const override { return Read(CLOCK_REALTIME_COARSE); }
  Steady Now() const override { return std::chrono::steady_clock::now(); }

 private:
  static Nanos Read(clockid_t which) {
    timespec ts{};
    clock_gettime(which, &ts);
    return ts.tv_sec * kSecond + ts.tv_nsec;
  }
};

}  // namespace

const Clock& SystemClock() {
  static const RealClock clock;
  return clock;
}

std::string Rfc3339(Nanos wall) {
  if (wall == 0) return "";
  const time_t seconds = static_cast<time_t>(wall / kSecond);
  tm parts{};
  gmtime_r(&seconds, &parts);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", parts.tm_year + 1900, parts.tm_mon + 1,
                     parts.tm_mday, parts.tm_hour, parts.tm_min, parts.tm_sec);
}

namespace {

// 0 for a year that 64 bits of nanoseconds do not reach: what a store says is not to be trusted.
Nanos WallOf(tm* parts) {
  Nanos wall = 0;
  return __builtin_mul_overflow(timegm(parts), kSecond, &wall) ||
                 wall > std::numeric_limits<Nanos>::max() - kSecond
             ? 0
             : wall;
}

}  // namespace

Nanos ParseHttpDate(const char* s) {
  static const char* const kMonths = "JanFebMarAprMayJunJulAugSepOctNovDec";
  char month[4] = {};
  tm parts{};
  if (std::sscanf(s, "%*3s, %2d %3s %4d %2d:%2d:%2d", &parts.tm_mday, month, &parts.tm_year,
                  &parts.tm_hour, &parts.tm_min, &parts.tm_sec) != 6) {
    return 0;
  }
  const char* found = std::strlen(month) == 3 ? std::strstr(kMonths, month) : nullptr;
  if (found == nullptr) return 0;
  parts.tm_mon = static_cast<int>(found - kMonths) / 3;
  parts.tm_year -= 1900;
  return WallOf(&parts);
}

Nanos ParseRfc3339(const char* s) {
  tm parts{};
  int consumed = 0;
  if (std::sscanf(s, "%4d-%2d-%2dT%2d:%2d:%2d%n", &parts.tm_year, &parts.tm_mon, &parts.tm_mday,
                  &parts.tm_hour, &parts.tm_min, &parts.tm_sec, &consumed) != 6) {
    return 0;
  }
  parts.tm_year -= 1900;
  parts.tm_mon -= 1;
  Nanos wall = WallOf(&parts);
  if (wall != 0 && s[consumed] == '.') {
    Nanos unit = kSecond / 10;
    for (const char* p = s + consumed + 1; *p >= '0' && *p <= '9' && unit > 0; ++p, unit /= 10) {
      wall += (*p - '0') * unit;
    }
  }
  return wall;
}

}  // namespace pargeter
