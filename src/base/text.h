// Small text helpers that the standard library lacks.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace pargeter {

std::string_view Trim(std::string_view s);
std::vector<std::string> Split(std::string_view s, char separator);  // keeps empty pieces
std::string Lower(std::string_view s);                               // ASCII only
std::string Hex(std::string_view bytes);                             // lower case
bool IsUtf8(std::string_view s);                                     // RFC 3629, no surrogates
// The length of the valid UTF-8 sequence at the start of `s`, or 0.
std::size_t Utf8Length(std::string_view s);
// For a terminal or a log line: control characters and invalid bytes become \xHH.
std::string Printable(std::string_view s);
std::string Counted(std::uint64_t number, std::string_view one);  // "1 file", "2 files"
std::string Base64(std::string_view bytes);
std::string Base64Decode(std::string_view text);  // "" if it is no Base64

}  // namespace pargeter
