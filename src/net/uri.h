// Uniform resource identifiers, RFC 3986.
#pragma once

#include <string>
#include <string_view>

#include "base/error.h"

namespace pargeter {

enum class KeepSlash { kYes, kNo };
// Percent-encodes all but the unreserved characters (section 2.3), hexadecimal in upper case.
std::string PercentEncode(std::string_view bytes, KeepSlash slash = KeepSlash::kNo);
// Decodes %XX; a "%" that starts no such triplet stays. "+" stays "+".
std::string PercentDecode(std::string_view text);

struct Endpoint {
  std::string scheme;     // "http" or "https"
  std::string host;       // without brackets for IPv6
  std::string authority;  // host[:port], as the Host header wants it
  std::string path;       // without a trailing slash, "" for the root
};
// kInvalid if it is no http(s) address, or carries a user name, query or fragment.
Result<Endpoint> ParseEndpoint(std::string_view url);

}  // namespace pargeter
