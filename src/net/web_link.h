// The Link header: what else belongs to a resource, and where it is. RFC 8288.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "net/uri.h"

namespace pargeter {

struct WebLink {
  std::string target;             // as written: absolute, or relative
  std::vector<std::string> rels;  // in lower case
  std::string type;               // a media type, in lower case; "": not said
  bool Is(std::string_view rel) const;
};
// Whatever of the header can be understood (section 3).
std::vector<WebLink> ParseWebLinks(std::string_view header);
// Path and query of a target that is at this server; "": it is elsewhere, or relative to something.
std::string LocalTarget(const std::string& target, const Endpoint& server);

}  // namespace pargeter
