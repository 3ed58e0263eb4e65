// Recent changes of the remote tree, abandoned requests, and the tombstones of moved files. An
// answer of the store that was asked for before such a change is older than the change, and is not
// merged. In memory: after a restart every question is asked anew, and each rule takes the careful
// side.
//
// Plain data, owned by Provenance and kept under the tree's lock.
#pragma once

#include <map>
#include <string>
#include <unordered_map>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "index/index.h"

namespace pargeter {

class RecentChanges {
 public:
  explicit RecentChanges(const Clock* clock) : clock_(*clock) {}

  // -- the remote tree was changed by us, or told by an answer that was asked for at `asked`
  void NoteChanged(NodeId id) { changed_at_[id] = clock_.Now(); }
  void NoteChanged(NodeId id, Steady asked);  // unless it was changed later
  bool WasChangedSince(NodeId id, Steady asked) const;
  // The store has no object of that name in the folder.
  void NoteGone(NodeId folder, const std::string& name) { NoteGone(folder, name, clock_.Now()); }
  void NoteGone(const Node& node) { NoteGone(node.remote.parent, node.remote.name); }
  void NoteGone(NodeId folder, const std::string& name, Steady asked);
  bool WasGoneSince(NodeId folder, const std::string& name, Steady asked) const;

  // -- attempts: requests without an answer
  // Since when the store lacks what the node's attempt was to make: from the first call on.
  Steady MissingSince(NodeId id) {
    return missing_since_.try_emplace(id, clock_.Now()).first->second;
  }
  void ForgetMissing(NodeId id) { missing_since_.erase(id); }
  // Since when it has what the attempt, or another machine, has made: from the first call on.
  Steady CopySeenSince(NodeId id) { return copy_seen_.try_emplace(id, clock_.Now()).first->second; }
  void ForgetAttempt(NodeId id);
  // A request to write the node there was called off, and may still arrive.
  void NoteAbandonedWrite(NodeId id, const std::string& path) {
    abandoned_writes_[{id, path}] = clock_.Now();
  }
  bool IsAbandonedWrite(NodeId id, const std::string& path, Duration within) const;

  // -- tombstones of moved files, until they are removed at the store
  void AddTombstone(NodeId moved, NodeId tombstone) { tombstones_.emplace(moved, tombstone); }
  void ForgetTombstone(NodeId moved, NodeId tombstone);
  bool IsTombstoneOf(NodeId moved, NodeId tombstone) const;
  std::vector<NodeId> TombstonesOf(NodeId moved) const;
  // The copy for which the tombstone was made has just been seen at its new place.
  void NoteCopied(NodeId tombstone) { copied_at_[tombstone] = clock_.Now(); }
  void ForgetCopied(NodeId tombstone) { copied_at_.erase(tombstone); }
  bool WasCopiedWithin(NodeId tombstone, Duration time) const;

  // Answers that were asked for before `oldest` can come no more.
  void ForgetBefore(Steady oldest, Steady oldest_copy);

 private:
  const Clock& clock_;
  std::unordered_map<NodeId, Steady> changed_at_, missing_since_, copy_seen_, copied_at_;
  std::map<std::pair<NodeId, std::string>, Steady> gone_at_, abandoned_writes_;
  std::unordered_multimap<NodeId, NodeId> tombstones_;  // by the file that moved
};

}  // namespace pargeter
