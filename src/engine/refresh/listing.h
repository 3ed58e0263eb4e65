// A folder's listing under way, or a part of one that came by another way.
#pragma once

#include <optional>
#include <string>
#include <unordered_set>

#include "base/clock.h"
#include "base/error.h"
#include "engine/store/store_client.h"
#include "index/index.h"

namespace pargeter {

// What a caller waits for.
enum class ListWait { kNo, kFirstPage, kAll };
// What is asked for if it is not known: whether a file is a link; the mode too; the mode as well,
// but seldom.
enum class AskFor { kLink, kMode, kSome };

struct Listing {
  NodeId folder = kNoNode;
  std::string key;
  Traffic traffic = Traffic::kForeground;
  Steady started{};  // what was changed here since then is newer than it
  std::unordered_set<NodeId> seen;
  bool first_page = false, done = false;
  bool marker = false;  // the folder has an object of its own
  std::optional<Error> error;
};

// A short-lived object that somebody has left at the store.
struct Leftover {
  std::string version;
  Steady seen;
};

}  // namespace pargeter
