// Between a part of a key at the store and a file name here, both ways and without loss.
//
// A store may hold parts that no file name can be: "", ".", "..", parts with a NUL, parts of over
// 255 bytes. A file system may hold names that no key can be: bytes that are not UTF-8. Each side's
// impossible ones are spelled with braces on the other:
//
//   key part      file name        file name        key part
//   (empty)       {}               caf\xE9          caf{bE9}
//   .             {x2E}
//   ..            {x2E}{x2E}
//   a{x2E}b       a{x7B}x2E}b      (text that looks like a spelling is spelled itself)
//                                  \xE9\xE8...      {bE9E8...}, where a key of over 1,000 bytes
//                                                  would come of {bE9}{bE8}...
//
// NameToKey(KeyToName(k)) == k for every k of up to 255 bytes once spelled, and
// KeyToName(NameToKey(n)) == n for every file name n. Pure functions.
#pragma once

#include <string>
#include <string_view>

namespace pargeter {

constexpr std::size_t kMaxName = 255;

std::string KeyToName(std::string_view part);
std::string NameToKey(std::string_view name);
// A name of over 255 bytes is shown by its beginning and a digest; the index knows the rest.
std::string ShortenName(const std::string& name);
// A file that shares its name with a folder stands beside it as "NAME{file}".
std::string BesideFolder(const std::string& name);
// Are there stores that take the two for one name? They differ in case or Unicode form only.
bool DifferInSpelling(std::string_view a, std::string_view b);
// "notes.csv" -> "notes (kept from HOST 2026-03-01 09.30.00).csv"
std::string ConflictName(const std::string& name, const std::string& host,
                         const std::string& stamp);

}  // namespace pargeter
