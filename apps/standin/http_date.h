// RFC 9110 section 5.6.7, as answers have it.
#pragma once

#include <ctime>
#include <string>

#include "base/clock.h"

namespace pargeter::standin {

inline std::string HttpDate(Nanos t) {
  const time_t seconds = static_cast<time_t>(t / 1'000'000'000);
  tm parts{};
  gmtime_r(&seconds, &parts);
  char buffer[64];
  std::strftime(buffer, sizeof(buffer), "%a, %d %b %Y %H:%M:%S GMT", &parts);
  return buffer;
}

}  // namespace pargeter::standin
