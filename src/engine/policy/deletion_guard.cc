// DeletionGuard: very many deletions at once are held back from the store, so that a slip of the
// hand here does not empty it.
#include "engine/policy/deletion_guard.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <utility>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/provenance/sent.h"

namespace pargeter {

namespace {
constexpr Duration kWithin(60000);
}  // namespace

// One more file was deleted here that the store has.
Status DeletionGuard::Count(View& view, const Node& node) {
  if (limits_(view).hold_files == 0 || node.kind == NodeKind::kFolder ||
      node.remote.place == RemotePlace::kNone)
    return {};
  const Steady now = options_.clock->Now();
  while (!deletions_(view).empty() && now - deletions_(view).front().first > kWithin)
    deletions_(view).pop_front();
  deletions_(view).emplace_back(now, node.pending.seq);
  const std::uint64_t many = deletions_(view).size();
  if (hold_from_(view) != 0 || many <= limits_(view).hold_files) return {};
  // counting all files takes a while: not at every deletion
  if (many != limits_(view).hold_files + 1 && many % 128 != 0) return {};
  PG_ASSIGN(const std::uint64_t left, view.index().CountFiles());
  if (static_cast<double>(many) <= limits_(view).hold_share * static_cast<double>(left + many))
    return {};
  hold_from_(view) = deletions_(view).front().second;
  Log(LogLevel::kWarning,
      "{} of {} files were deleted here within a minute: the store keeps them until "
      "\"pargeter queue release\" or \"queue drop\"",
      many, left + many);
  return view.index().SetMeta(Mark::kHoldFrom,
                              fmt::format("{} {}", hold_from_(view), options_.clock->Wall()));
}

bool DeletionGuard::IsHeld(View& view, const Node& node) {
  // what a move leaves at its old place has no name, and is no deletion of anybody's
  return hold_from_(view) != 0 && node.gone() && node.pending.seq >= hold_from_(view) &&
         !node.name.empty() && node.remote.place != RemotePlace::kNone;
}

std::vector<Node> DeletionGuard::HeldDeletions(View& view) {
  if (hold_from_(view) == 0) return {};
  auto rows = view.index().Deletions(hold_from_(view));
  if (!rows.ok()) return {};
  std::vector<Node> held;
  for (Node& node : *rows) {
    if (IsHeld(view, node)) held.push_back(std::move(node));
  }
  return held;
}

Duration DeletionGuard::WaitBeforeSending(View& view) {
  if (limits_(view).hold_files == 0 || deletions_(view).empty()) return Duration(0);
  const Steady now = options_.clock->Now();
  const Steady last = deletions_(view).back().first, first = deletions_(view).front().first;
  if (now - last >= options_.hold_quiet || now - first >= kWithin) return Duration(0);
  return std::chrono::duration_cast<Duration>(options_.hold_quiet - (now - last));
}

Status DeletionGuard::ReleaseDeletions() {
  View view(&tree_);
  const std::vector<Node> held = HeldDeletions(view);
  PG_TRY(view.index().SetMeta(Mark::kHoldFrom, ""));
  hold_from_(view) = 0;
  deletions_(view).clear();
  for (const Node& node : held) view.Push(node.id, node.pending.seq, Duration(0));
  return {};
}

Result<std::uint64_t> DeletionGuard::DropDeletions() {
  // what waited in them goes before they can be written again, not after
  if (!tree_.UnlinkDeleted().ok())
    return Error(Code::kIo, "the index cannot be brought to the disk", "Check the disk.");
  View view(&tree_);
  if (hold_from_(view) == 0) return std::uint64_t{0};
  if (outbox_.IsAnyAlone())  // perhaps to the place of one of them
    return Error(Code::kBusy, "a folder is being moved at the store just now",
                 "Try again in a moment.");
  PG_ASSIGN(std::vector<Node> held, WithFoldersAbove(view, HeldDeletions(view)));
  for (const Node& node : held) {
    PG_ASSIGN(const bool awaited, FolderComesTo(view, node));
    if (awaited)
      return Error(Code::kBusy,
                   fmt::format("another folder is on its way to the place of {} at the store",
                               Printable(KeyToName(node.remote.name))),
                   "Try again when that folder has arrived.");
    const auto inode = view.inodes().find(node.id);
    if (inode != view.inodes().end() && inode->second->upload)
      return Error(Code::kBusy,
                   fmt::format("the store is just being told to delete {}", Printable(node.name)),
                   "Try again in a moment.");
  }
  if (view.HasDeletedBytes())  // deleted since
    return Error(Code::kBusy, "files are just being deleted on this disk",
                 "Try again in a moment.");
  Change change(&view);
  std::uint64_t back = 0;
  std::vector<NodeId> folders;
  for (Node& node : held) {
    if (node.kind != NodeKind::kFolder) {
      PG_ASSIGN(const Inode* successor, view.Find(node.remote.parent, KeyToName(node.remote.name)));
      if (successor != nullptr && successor->upload)
        continue;  // it is being replaced at this moment
      ++back;
    } else {
      folders.push_back(node.id);
    }
    PG_TRY(BringBack(view, std::move(node)));
  }
  for (const NodeId folder : folders) {
    // what was in it may have moved; or it was removed there, and nobody heard of that
    PG_ASSIGN(Inode * inode, view.Get(folder));
    PG_ASSIGN(const bool more, view.index().HasChildren(folder));
    if (more) continue;
    inode->node.dirty |= kAttributes;
    PG_TRY(view.QueueChange(inode));
  }
  PG_TRY(view.index().SetMeta(Mark::kHoldFrom, ""));
  PG_TRY(change.Commit());
  hold_from_(view) = 0;
  deletions_(view).clear();
  return back;
}

// With the folders that went before the first of them, and wait for what is in them.
Result<std::vector<Node>> DeletionGuard::WithFoldersAbove(View& view, std::vector<Node> held) {
  std::set<NodeId> known;
  for (const Node& node : held) known.insert(node.id);
  for (std::size_t i = 0; i < held.size(); ++i) {
    const NodeId up = held[i].remote.parent;
    if (up == kRootId || up == kNoNode || !known.insert(up).second) continue;
    PG_ASSIGN(const Inode* inode, view.Get(up));
    if (inode->node.gone() && !inode->node.name.empty()) held.push_back(inode->node);
  }
  return held;
}

// Is another folder moving to the place of this one, so that some of it may be there already? That
// would come back with what was here.
Result<bool> DeletionGuard::FolderComesTo(View& view, const Node& held) {
  if (held.kind != NodeKind::kFolder) return false;
  PG_ASSIGN(const NodeId tried, view.index().FindAttempt(held.remote.parent, held.remote.name));
  if (tried == kNoNode) return false;
  PG_ASSIGN(const Inode* inode, view.Get(tried));
  return inode->node.kind == NodeKind::kFolder;
}

Result<bool> DeletionGuard::FolderComesOver(View& view, NodeId folder) {
  while (folder != kRootId && folder != kNoNode) {
    PG_ASSIGN(const Inode* inode, view.Get(folder));
    const Node& node = inode->node;
    if (node.gone()) {
      PG_ASSIGN(const bool comes, FolderComesTo(view, node));
      if (comes) return true;
    }
    folder = node.remote_parent();
  }
  return false;
}

Status DeletionGuard::BringBack(View& view, Node node) {
  const NodeId id = node.id;
  Inode* inode = view.Adopt(std::move(node));
  contents_.DetachContent(view, inode);
  Node& n = inode->node;
  const NodeId parent = n.remote.parent;
  const std::string key = n.remote.name;
  n.name = ShortenName(KeyToName(key));
  PG_ASSIGN(Inode * taken, view.Find(parent, n.name));
  if (taken != nullptr && taken->node.id != id) {
    PG_ASSIGN(n.name, facts_.ConflictCopyName(view, parent, n.name));
  }
  n.parent = parent;
  AskForTime(&n);
  n.size = n.remote.size;
  n.pending.seq = 0;
  n.dirty &= ~(kDurableUnlink | kAttemptHadData | kMaybeStale | kReplacedByUnsynced);
  // its own object may be gone, and nobody heard of it, whatever others have put into it since
  if (n.kind == NodeKind::kFolder && n.pending.tries > 0) n.dirty |= kAttributes;
  n.pending.tries = 0;
  n.pending.error.clear();
  n.upload_log.ForgetSent();
  SetRemote(&n, parent, key);
  // its name is taken here by now, or a former attempt of it has to be ended
  if (n.remote.place == RemotePlace::kMoved || n.attempt.parent != kNoNode ||
      !n.upload_log.empty() || (n.dirty & kAttributes))
    PG_TRY(view.QueueChange(inode));
  view.Emit(Event::NameChanged(parent, n.name));
  return view.Save(inode);
}

void DeletionGuard::AskForTime(Node* node) {
  if (node->kind != NodeKind::kFile || node->remote.place == RemotePlace::kNone) return;
  if (node->dirty & kAttributes) node->dirty |= kOwn;
  node->dirty &= ~kOwnTime;
  node->attributes_known = false;
}

}  // namespace pargeter
