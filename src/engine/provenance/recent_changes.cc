#include "engine/provenance/recent_changes.h"

#include <algorithm>

namespace pargeter {
namespace {

template <typename Map>
void ForgetIn(Map* map, Steady before) {
  std::erase_if(*map, [&](const auto& one) { return one.second < before; });
}

}  // namespace

void RecentChanges::NoteChanged(NodeId id, Steady asked) {
  Steady& at = changed_at_[id];
  at = std::max(at, asked);
}

bool RecentChanges::WasChangedSince(NodeId id, Steady asked) const {
  const auto it = changed_at_.find(id);
  return it != changed_at_.end() && it->second >= asked;
}

void RecentChanges::NoteGone(NodeId folder, const std::string& name, Steady asked) {
  Steady& at = gone_at_[{folder, name}];
  at = std::max(at, asked);
}

bool RecentChanges::WasGoneSince(NodeId folder, const std::string& name, Steady asked) const {
  const auto it = gone_at_.find({folder, name});
  return it != gone_at_.end() && it->second >= asked;
}

void RecentChanges::ForgetAttempt(NodeId id) {
  missing_since_.erase(id);
  copy_seen_.erase(id);
}

bool RecentChanges::IsAbandonedWrite(NodeId id, const std::string& path, Duration within) const {
  const auto it = abandoned_writes_.find({id, path});
  return it != abandoned_writes_.end() && clock_.Now() - it->second <= within;
}

void RecentChanges::ForgetTombstone(NodeId moved, NodeId tombstone) {
  const auto [first, end] = tombstones_.equal_range(moved);
  const auto it =
      std::find_if(first, end, [&](const auto& one) { return one.second == tombstone; });
  if (it != end) tombstones_.erase(it);
}

bool RecentChanges::IsTombstoneOf(NodeId moved, NodeId tombstone) const {
  const auto [first, end] = tombstones_.equal_range(moved);
  return std::any_of(first, end, [&](const auto& one) { return one.second == tombstone; });
}

std::vector<NodeId> RecentChanges::TombstonesOf(NodeId moved) const {
  std::vector<NodeId> out;
  const auto [first, end] = tombstones_.equal_range(moved);
  std::transform(first, end, std::back_inserter(out), [](const auto& one) { return one.second; });
  return out;
}

bool RecentChanges::WasCopiedWithin(NodeId tombstone, Duration time) const {
  const auto it = copied_at_.find(tombstone);
  return it != copied_at_.end() && clock_.Now() - it->second <= time;
}

void RecentChanges::ForgetBefore(Steady oldest, Steady oldest_copy) {
  ForgetIn(&changed_at_, oldest);
  ForgetIn(&gone_at_, oldest);
  ForgetIn(&copied_at_, oldest);
  ForgetIn(&abandoned_writes_, oldest);
  ForgetIn(&copy_seen_, oldest_copy);
}

}  // namespace pargeter
