// One step of reconciling a node: what was found under the tree lock, to be acted on without it.
#pragma once

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <string>

#include "engine/bytes/sources.h"
#include "engine/context/context.h"
#include "engine/provenance/sent.h"

namespace pargeter {

// Below a folder that goes object by object: path, versions of the original and of its copy, where
// those differ.
using Copies = std::map<std::string, std::pair<std::string, std::string>>;

// Where it was below a moved folder, and what it is called beside what others have there. Folders
// have no version, and come before what is in them.
struct Kept {
  std::string path, name, version;
};

// How a step ended.
using Outcome = TurnResult;

constexpr Duration kSoon(100);              // until the next look at a place that changes
constexpr Duration kWhileOpen(1000);        // between looks at a file that a program has open
constexpr Duration kFetchWithin(3600'000);  // the rest of a file, before it is sent

// How it came to its place; kEarlierCopy: by a former attempt, with the attributes of that time.
enum class UploadMethod { kBytes, kBytesWithoutAttributes, kCopy, kEarlierCopy, kMove };

// Another node whose step comes first, and why.
struct Blocker {
  NodeId id = kNoNode;
  enum class Why { kSuccessor, kCopy, kAbove, kInside, kPlace, kAttempt, kDoubt } why = Why::kAbove;
};

struct Job {
  NodeId id = kNoNode;
  Node node;               // as it was when the job was planned
  std::string path;        // where it is to be at the store
  std::string there_path;  // where it is, "" if it is not
  NodeId parent = kNoNode;
  std::string key;  // last part of `path`
  std::string Place() const { return PlaceIdIn(parent, key); }
  struct Above {
    NodeId id, parent;
    std::string key;
  };
  std::vector<Above> above;   // folders on `path`: it makes those that are not there by then
  Precondition only_if;       // of what is at `path` now
  bool sync_first = false;    // the plan survives a power cut before anything is done
  bool aside = false;         // to a name of our own, out of another's way
  std::string tried_path;     // of a former attempt elsewhere, to be taken back first
  bool first_try = false;     // no former attempt may have come to something at `path`
  bool went_on = false;       // what stands there is the file, and cannot go back
  std::optional<Entry> made;  // what stands there is all that the store has of it
  std::vector<Kept> kept;     // by an attempt before this one, too
  Kept* KeptFile(const std::string& was) {
    const auto it = std::find_if(kept.begin(), kept.end(), [&](const Kept& one) {
      return one.path == was && !one.version.empty();
    });
    return it == kept.end() ? nullptr : &*it;
  }
  void ForgetKeptFile(const std::string& was) {
    std::erase_if(kept, [&](const Kept& one) { return one.path == was && !one.version.empty(); });
  }
  Copies copied;              // below it
  Copies left;                // what a former move has left where it goes, as far as that is known
  NodeId occupant = kNoNode;  // a node, gone here, that the store still has at `path`
  // Of a folder that moves to the place of one whose deletion is held back, by path below it: the
  // versions of what still stands there, and what has come there.
  std::map<std::string, std::string> standing;
  std::set<std::string> came;
  bool parts_ended = false;        // nothing is left at the store of what `node.upload_log` says
  bool begun_with_others = false;  // attributes than these was its upload in parts
  Attributes attributes;
  std::shared_ptr<Content> content;
  std::uint64_t size = 0;
  Call call{nullptr, Traffic::kUpload};
};

// Of an object in a deep listing.
inline bool IsFolder(const Entry& entry) { return entry.name.empty() || entry.name.back() == '/'; }

// That file is not there, or not in that version.
inline bool IsGone(Code code) { return code == Code::kNotFound || code == Code::kChanged; }

// Refused so, the place may be taken by what is to go there (Evidence::IsAliasOfSelf).
inline bool MayBeAliasOfSelf(Code code) {
  return code == Code::kChanged || code == Code::kPermission || code == Code::kExists;
}

// As they were planned to be sent: nobody has set one since.
inline bool SameAttributes(const Node& a, const Node& b) {
  return a.mode == b.mode && a.mtime == b.mtime && a.uid == b.uid && a.gid == b.gid;
}

// Of a removal of many: what was changed since the look is looked at again soon.
inline Status OutcomeOf(const std::vector<std::pair<std::string, Error>>& left) {
  if (left.empty()) return {};
  const Error& first = left.front().second;
  return first.code == Code::kChanged ? Error(Code::kStale, first.what) : first;
}

}  // namespace pargeter
