#include "provider/attributes.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.h"

namespace pargeter {

std::string PackAttributes(const Attributes& a) {
  std::string packed;
  const auto add = [&](const std::string& field) { packed += (packed.empty() ? "" : ";") + field; };
  if (a.mode) add(fmt::format("m={:o}", *a.mode));
  if (a.mtime) {
    const Nanos second = 1'000'000'000;
    Nanos seconds = *a.mtime / second, rest = *a.mtime % second;
    if (rest < 0) {
      rest += second;
      --seconds;
    }
    add(fmt::format("t={}.{:09}", seconds, rest));
  }
  if (a.uid) add(fmt::format("u={}", *a.uid));
  if (a.gid) add(fmt::format("g={}", *a.gid));
  if (!a.origin.empty()) add("o=" + a.origin);
  return packed;
}

Attributes UnpackAttributes(const std::string& packed) {
  Attributes a;
  for (const std::string& field : Split(packed, ';')) {
    if (field.size() < 3 || field[1] != '=') continue;
    if (field[0] == 'o') {
      if (field.size() <= 66) a.origin = field.substr(2);
      continue;
    }
    const char* begin = field.data() + 2;
    const char* end = field.data() + field.size();
    long long number = 0;
    const auto [rest, ec] = std::from_chars(begin, end, number, field[0] == 'm' ? 8 : 10);
    if (ec != std::errc()) continue;
    switch (field[0]) {
      case 'm':
        a.mode = static_cast<std::uint32_t>(number) & 07777;
        break;
      case 'u':
        a.uid = static_cast<std::uint32_t>(number);
        break;
      case 'g':
        a.gid = static_cast<std::uint32_t>(number);
        break;
      case 't': {
        if (number > 9'000'000'000 || number < -9'000'000'000) break;
        Nanos nanos = 0;
        if (rest != end && *rest == '.') std::from_chars(rest + 1, end, nanos);
        a.mtime = number * 1'000'000'000 + std::clamp<Nanos>(nanos, 0, 999'999'999);
        break;
      }
      default:
        break;
    }
  }
  return a;
}

std::string PackLink(const std::string& target) { return Base64(target); }

std::string UnpackLink(const std::string& packed) {
  if (packed.empty()) return "";
  std::string target = Base64Decode(packed);
  const bool good = target.size() < 4096 && target.find('\0') == std::string::npos;
  return good ? target : "";
}

}  // namespace pargeter
