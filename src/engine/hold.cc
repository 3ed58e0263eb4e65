// Drive: very many deletions at once are held back from the store, so that a slip of the hand here
// does not empty it.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/log.h"
#include "base/text.h"
#include "engine/drive.h"
#include "engine/naming.h"

namespace pargeter {

namespace {
constexpr Duration kWithin(60000);
}  // namespace

// One more file was deleted here that the store has.
Status Drive::CountDeletion(const Node& node) {
  if (limits_.hold_files == 0 || node.kind == NodeKind::kFolder || node.there == There::kAbsent)
    return {};
  const Steady now = options_.clock->Now();
  while (!deletions_.empty() && now - deletions_.front().first > kWithin) deletions_.pop_front();
  deletions_.emplace_back(now, node.intent);
  const std::uint64_t many = deletions_.size();
  if (hold_from_ != 0 || many <= limits_.hold_files) return {};
  // counting all files takes a while: not at every deletion
  if (many != limits_.hold_files + 1 && many % 128 != 0) return {};
  PG_ASSIGN(const std::uint64_t left, index_->CountFiles());
  if (static_cast<double>(many) <= limits_.hold_share * static_cast<double>(left + many)) return {};
  hold_from_ = deletions_.front().second;
  last_error_ =
      fmt::format("{} files were deleted within a minute: the deletions are held back", many);
  Log(LogLevel::kWarning,
      "{} of {} files were deleted here within a minute: the store keeps them until "
      "\"pargeter queue release\" or \"queue drop\"",
      many, left + many);
  return index_->SetMeta("hold_from", fmt::format("{} {}", hold_from_, options_.clock->Wall()));
}

bool Drive::IsHeld(const Node& node) {
  // what a move leaves at its old place has no name, and is no deletion of anybody's
  return hold_from_ != 0 && node.gone() && node.intent >= hold_from_ && !node.name.empty() &&
         node.there != There::kAbsent;
}

std::vector<Node> Drive::HeldDeletions() {
  if (hold_from_ == 0) return {};
  auto rows = index_->Deletions(hold_from_);
  if (!rows.ok()) return {};
  std::vector<Node> held;
  for (Node& node : *rows) {
    if (IsHeld(node)) held.push_back(std::move(node));
  }
  return held;
}

// How long the next deletion has to wait so that all of one sweep are counted before any is sent.
Duration Drive::UntilCounted() {
  if (limits_.hold_files == 0 || deletions_.empty()) return Duration(0);
  const Steady now = options_.clock->Now();
  const Steady last = deletions_.back().first, first = deletions_.front().first;
  if (now - last >= options_.hold_quiet || now - first >= kWithin) return Duration(0);
  return std::chrono::duration_cast<Duration>(options_.hold_quiet - (now - last));
}

Status Drive::ReleaseDeletions() {
  const Lock tree(tree_mutex_);
  const std::vector<Node> held = HeldDeletions();
  PG_TRY(index_->SetMeta("hold_from", ""));
  hold_from_ = 0;
  deletions_.clear();
  last_error_.clear();
  for (const Node& node : held) Enqueue(node.id, node.intent, Duration(0));
  return {};
}

Result<std::uint64_t> Drive::DropDeletions() {
  const Lock tree(tree_mutex_);
  if (hold_from_ == 0) return std::uint64_t{0};
  Change change(this);
  std::uint64_t back = 0;
  for (Node& node : HeldDeletions()) {
    back += node.kind != NodeKind::kFolder;
    PG_TRY(BringBack(std::move(node)));
  }
  PG_TRY(index_->SetMeta("hold_from", ""));
  PG_TRY(change.Commit());
  hold_from_ = 0;
  deletions_.clear();
  last_error_.clear();
  return back;
}

// It is again where the store has it.
Status Drive::BringBack(Node node) {
  const NodeId id = node.id;
  Live* live = Adopt(std::move(node));
  Node& n = live->node;
  const NodeId parent = n.there_parent;
  const std::string key = n.there_name;
  n.name = ShortenName(KeyToName(key));
  PG_ASSIGN(Live * taken, Find(parent, n.name));
  if (taken != nullptr && taken->node.id != id)
    n.name = ConflictName(n.name, options_.host, Stamp());
  n.parent = parent;
  n.size = n.there_size;
  n.on_disk = 0;
  n.intent = 0;
  n.attempts = 0;
  n.error.clear();
  SetThere(&n, parent, key);
  if (n.there == There::kElsewhere) PG_TRY(AddIntent(live));  // its name is taken here by now
  Tell([parent, name = n.name](ChangeListener* l) { l->NameChanged(parent, name); });
  return Save(live);
}

}  // namespace pargeter
