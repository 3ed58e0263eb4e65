#include "engine/api/naming.h"

#include <fmt/format.h>
#include <utf8proc.h>

#include <cstdlib>

#include "base/digest.h"
#include "base/text.h"

namespace pargeter {
namespace {
constexpr std::size_t kLongKey = 1000;  // bytes; some stores take no longer parts of keys

int HexDigit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

// The byte that a spelling "{xHH}" or "{bHH}" at the start of `s` stands for, or -1.
int Spelled(std::string_view s, char kind) {
  if (s.size() < 5 || s[0] != '{' || s[1] != kind || s[4] != '}') return -1;
  const int high = HexDigit(s[2]), low = HexDigit(s[3]);
  return high < 0 || low < 0 ? -1 : high * 16 + low;
}

// The bytes of a spelling "{bHHHH...}" of several at the start of `s`, "" if there is none.
std::string SpelledRun(std::string_view s) {
  const auto end = s.find('}');
  if (s.substr(0, 2) != "{b" || end == std::string_view::npos || end < 6 || end % 2 != 0) return "";
  std::string run;
  for (std::size_t at = 2; at < end; at += 2) {
    const int high = HexDigit(s[at]), low = HexDigit(s[at + 1]);
    if (high < 0 || low < 0) return "";
    run += static_cast<char>(high * 16 + low);
  }
  return run;
}

std::string Decode(std::string_view s, char kind) {
  std::string out;
  while (!s.empty()) {
    const int byte = Spelled(s, kind);
    const std::string run = kind == 'b' && byte < 0 ? SpelledRun(s) : "";
    out += !run.empty() ? run : std::string(1, byte >= 0 ? static_cast<char>(byte) : s[0]);
    s.remove_prefix(!run.empty() ? 3 + 2 * run.size() : byte >= 0 ? 5 : 1);
  }
  return out;
}

std::string Spell(char kind, char c) {
  return fmt::format("{{{}{:02X}}}", kind, static_cast<unsigned char>(c));
}

bool LooksSpelled(std::string_view s) { return Spelled(s, 'x') >= 0 || Spelled(s, 'b') >= 0; }

// Spells what no file name can hold, and what looks like a spelling.
std::string PlainName(std::string_view key) {
  if (key.empty()) return "{}";
  if (key == "{}") return Spell('x', '{') + "}";
  const bool dots = key == "." || key == "..";
  std::string out;
  while (!key.empty()) {
    const std::size_t length = Utf8Length(key);
    const bool spell = length == 0 || key[0] == '\0' || key[0] == '/' || dots || LooksSpelled(key);
    const std::size_t n = spell || length == 0 ? 1 : length;
    out += spell ? Spell('x', key[0]) : std::string(key.substr(0, n));
    key.remove_prefix(n);
  }
  return out;
}

// `runs`: bytes that follow each other are spelled as one, which is shorter.
std::string SpellBytes(std::string_view name, bool runs) {
  std::string key, run;
  const auto end_run = [&] {
    if (run.size() == 1) key += Spell('b', run[0]);
    if (run.size() > 1) {
      key += "{b";
      for (const char c : run) key += fmt::format("{:02X}", static_cast<unsigned char>(c));
      key += "}";
    }
    run.clear();
  };
  while (!name.empty()) {
    const std::size_t length = Utf8Length(name);
    const bool spell = length == 0 || LooksSpelled(name) || name == "{}";
    const std::size_t n = spell ? 1 : length;
    if (spell) run += name[0];
    if (!spell || !runs) end_run();
    if (!spell) key += name.substr(0, n);
    name.remove_prefix(n);
  }
  end_run();
  return key;
}

std::string Folded(std::string_view name) {
  utf8proc_uint8_t* out = nullptr;
  const auto size = utf8proc_map(
      reinterpret_cast<const utf8proc_uint8_t*>(name.data()),
      static_cast<utf8proc_ssize_t>(name.size()), &out,
      static_cast<utf8proc_option_t>(UTF8PROC_STABLE | UTF8PROC_COMPOSE | UTF8PROC_CASEFOLD));
  if (size < 0) return std::string(name);  // no UTF-8
  std::string folded(reinterpret_cast<char*>(out), static_cast<std::size_t>(size));
  std::free(out);
  return folded;
}

bool LegalName(std::string_view name) {
  return !name.empty() && name != "." && name != ".." && name.find('/') == std::string_view::npos &&
         name.find('\0') == std::string_view::npos;
}

}  // namespace

std::string KeyToName(std::string_view part) {
  if (part.find("{b") != std::string_view::npos) {
    // bytes that a file name here had and a key cannot hold
    std::string raw = Decode(part, 'b');
    // shorter each time, so that the two functions' calls of each other end
    if (raw.size() < part.size() && LegalName(raw) && NameToKey(raw) == part) return raw;
  }
  return PlainName(part);
}

std::string NameToKey(std::string_view name) {
  if (IsUtf8(name)) {
    if (name.find('{') == std::string_view::npos) return std::string(name);
    const std::string key = name == "{}" ? "" : Decode(name, 'x');
    if (KeyToName(key) == name) return key;
  }
  std::string key = SpellBytes(name, false);
  return key.size() <= kLongKey ? key : SpellBytes(name, true);
}

std::string ShortenName(const std::string& name) {
  if (name.size() <= kMaxName) return name;
  std::size_t cut = kMaxName - 20;
  while (cut > 0 && (static_cast<unsigned char>(name[cut]) & 0xC0) == 0x80) --cut;
  return fmt::format("{}{{~{}}}", name.substr(0, cut), Hex(Sha256(name)).substr(0, 16));
}

std::string BesideFolder(const std::string& name) { return name + "{file}"; }

bool DifferInSpelling(std::string_view a, std::string_view b) {
  return a != b && Folded(a) == Folded(b);
}

std::string ConflictName(const std::string& name, const std::string& host,
                         const std::string& stamp) {
  const auto dot = name.rfind('.');
  std::string ending = dot == std::string::npos || dot == 0 ? "" : name.substr(dot);
  // (what follows the last dot of a mark is none)
  if (ending.size() > 32 || ending.find_first_of(" )") != std::string::npos) ending.clear();
  const std::string mark = fmt::format(" (kept from {} {})", host, stamp);
  std::string base = name.substr(0, name.size() - ending.size());
  while (base.size() + mark.size() + ending.size() > kMaxName) base.pop_back();
  while (!base.empty() && !IsUtf8(base) && IsUtf8(name)) base.pop_back();
  return base + mark + ending;
}

}  // namespace pargeter
