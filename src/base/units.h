// Sizes, rates and spans of time as people type and read them.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "base/clock.h"
#include "base/error.h"

namespace pargeter {

constexpr std::uint64_t kKiB = 1024;
constexpr std::uint64_t kMiB = 1024 * kKiB;
constexpr std::uint64_t kGiB = 1024 * kMiB;

// "2GiB", "500 MiB", "1.5TiB", "4096", "10MB" (decimal). kInvalid says what is accepted.
Result<std::uint64_t> ParseSize(std::string_view text);
// "2.0 GiB", "713 B"
std::string FormatSize(std::uint64_t bytes);
// "20ms", "30s", "10m", "2h", "30d". kInvalid says what is accepted.
Result<Duration> ParseDuration(std::string_view text);
// "4 s", "2 min", "3 h", "5 d": the largest unit that fits
std::string FormatAge(Duration age);

}  // namespace pargeter
