// What the parsers of outside input must hold to for any bytes at all. Each entry ends the process
// (an exception, a sanitizer's finding, a failed promise) or returns.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <string_view>

namespace pargeter::test {

// By kind: xml, json, toml, headers, names, packets.
const std::map<std::string, std::function<void(std::string_view)>>& Parsers();

}  // namespace pargeter::test
