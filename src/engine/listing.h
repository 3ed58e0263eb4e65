// A folder's listing under way, or a part of one that came by another way.
#pragma once

#include <optional>
#include <string>
#include <unordered_set>

#include "engine/drive.h"

namespace pargeter {

struct Drive::Listing {
  NodeId folder = kNoNode;
  std::string key;
  Steady started{};  // what was changed here since then is newer than it
  std::unordered_set<NodeId> seen;
  bool first_page = false, done = false;
  std::optional<Error> error;
};

}  // namespace pargeter
