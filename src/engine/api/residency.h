// What people ask about, and of, the bytes on this disk: shapes that the drive takes and gives.
#pragma once

#include <atomic>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"
#include "index/index.h"
#include "net/cancel.h"

namespace pargeter {

const char* NameOf(Placement placement);  // "pin", "cache", "thin", "hide", "local"; "" for none
Result<Placement> ParsePlacement(const std::string& word);

// The object that holds the rules for all machines, in the drive's folder at the store.
constexpr const char* kRulesName = ".pargeter-rules.json";
Result<std::vector<Rule>> ParseSharedRules(const std::string& text);
std::string WriteSharedRules(const std::vector<Rule>& rules);

struct EvictWish {
  Nanos unused_since = 0;        // only what nobody used after this; 0: all
  std::uint64_t until_free = 0;  // least recently used first, until the disk has so much; 0: all
  bool dry_run = false;          // only say what would go
};

struct Evicted {
  std::uint64_t files = 0, bytes = 0;             // that went, or would go
  std::uint64_t free_before = 0, free_after = 0;  // on the cache's disk
  std::uint64_t pending = 0, kept = 0,
                open = 0;  // files that stay: waiting; pinned or local; in use
  std::vector<std::string> pending_names, kept_names;  // the first few, relative to the drive
};

// A fetch of files or folders under way. Thread-safe.
struct Fetch {
  std::vector<NodeId> roots;
  Cancel cancel = std::make_shared<CancelToken>();
  std::atomic<std::uint64_t> files{0}, files_done{0}, bytes{0}, bytes_done{0};
  std::atomic<std::uint64_t> thin{0};  // files left where they are, since a rule keeps none of them
  std::atomic<bool> looking{true};     // more may be found yet
  std::atomic<bool> finished{false};
  Mutex mutex;
  std::vector<std::pair<std::string, Error>> failed GUARDED_BY(mutex);  // path, why
};

// Why a file or folder is as it is.
struct Explanation {
  Node node;
  std::string path;  // relative to the drive
  std::string state;
  Sums sums;  // folders: of what is below
  // Where its placement comes from: itself, a folder above, a pattern; neither: the default.
  Placement placement = Placement::kCache;
  std::string placed_on;  // path of the node that has it, or the pattern
  bool by_pattern = false, by_itself = false;
  Nanos placed_at = 0;
  std::string placed_by;  // "": for this machine
  int opens = 0;
  Nanos offline_since = 0;
};

struct Checked {
  std::uint64_t files = 0, bytes = 0;  // compared and right
  std::uint64_t unknown = 0;           // partly here, or of a digest that says nothing
  std::uint64_t pending = 0;           // waiting for upload: never touched
  std::vector<std::string> rotten;  // dropped; fetched again at the next use, or at once if pinned
  std::vector<std::string> unreadable;  // pending ones whose bytes the disk does not give
};

}  // namespace pargeter
