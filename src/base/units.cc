#include "base/units.h"

#include <fmt/format.h>

#include <charconv>
#include <cmath>

#include "base/text.h"

namespace pargeter {
namespace {

// Splits "1.5 GiB" into 1.5 and "GiB"; false if it does not start with a number.
bool SplitNumber(std::string_view text, double* number, std::string_view* unit) {
  text = Trim(text);
  const char* end = text.data() + text.size();
  const auto [rest, ec] = std::from_chars(text.data(), end, *number, std::chars_format::fixed);
  if (ec != std::errc() || !std::isfinite(*number) || *number < 0) return false;
  *unit = Trim(std::string_view(rest, static_cast<std::size_t>(end - rest)));
  return true;
}

struct Unit {
  std::string_view name;
  double factor;
};
constexpr Unit kSizeUnits[] = {
    {"", 1},          {"B", 1},        {"KiB", 1024.0}, {"MiB", 1048576.0},
    {"GiB", 0x1p30},  {"TiB", 0x1p40}, {"PiB", 0x1p50}, {"K", 1024.0},
    {"M", 1048576.0}, {"G", 0x1p30},   {"T", 0x1p40},   {"kB", 1e3},
    {"KB", 1e3},      {"MB", 1e6},     {"GB", 1e9},     {"TB", 1e12},
};
constexpr Unit kTimeUnits[] = {
    {"ms", 1}, {"", 1e3}, {"s", 1e3}, {"m", 60e3}, {"min", 60e3}, {"h", 3600e3}, {"d", 86400e3},
};

}  // namespace

Result<std::uint64_t> ParseSize(std::string_view text) {
  double number = 0;
  std::string_view unit;
  if (SplitNumber(text, &number, &unit)) {
    for (const Unit& known : kSizeUnits) {
      if (known.name == unit && number * known.factor < 0x1p62) {
        return static_cast<std::uint64_t>(std::llround(number * known.factor));
      }
    }
  }
  return Error(Code::kInvalid, fmt::format("\"{}\" is no size", Printable(text)),
               "Write a number and a unit, such as 500MiB or 2GiB.");
}

std::string FormatSize(std::uint64_t bytes) {
  static const char* const kNames[] = {"B", "KiB", "MiB", "GiB", "TiB", "PiB"};
  if (bytes < 1024) return fmt::format("{} B", bytes);
  double value = static_cast<double>(bytes);
  int unit = 0;
  while (value >= 1023.95 && unit < 5) {
    value /= 1024;
    ++unit;
  }
  return fmt::format("{:.1f} {}", value, kNames[unit]);
}

Result<Duration> ParseDuration(std::string_view text) {
  double number = 0;
  std::string_view unit;
  if (SplitNumber(text, &number, &unit)) {
    for (const Unit& known : kTimeUnits) {
      if (known.name == unit && number * known.factor < 1e15) {
        return Duration(std::llround(number * known.factor));
      }
    }
  }
  return Error(Code::kInvalid, fmt::format("\"{}\" is no length of time", Printable(text)),
               "Write a number and a unit, such as 20ms, 30s, 10m, 2h or 30d.");
}

std::string FormatAge(Duration age) {
  const auto seconds = age.count() / 1000;
  if (seconds < 120) return fmt::format("{} s", seconds < 0 ? 0 : seconds);
  if (seconds < 7200) return fmt::format("{} min", seconds / 60);
  if (seconds < 2 * 86400) return fmt::format("{} h", seconds / 3600);
  return fmt::format("{} d", seconds / 86400);
}

}  // namespace pargeter
