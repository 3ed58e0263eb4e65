// Engine: very many deletions at once are held back from the store, so that a slip of the hand here
// does not empty it.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/log.h"
#include "base/text.h"
#include "engine/engine.h"
#include "engine/sent.h"
#include "engine/tree/naming.h"

namespace pargeter {

namespace {
constexpr Duration kWithin(60000);
}  // namespace

// One more file was deleted here that the store has.
Status Engine::CountDeletion(View& view, const Node& node) {
  if (limits_(view).hold_files == 0 || node.kind == NodeKind::kFolder ||
      node.there == There::kAbsent)
    return {};
  const Steady now = options_.clock->Now();
  while (!deletions_(view).empty() && now - deletions_(view).front().first > kWithin)
    deletions_(view).pop_front();
  deletions_(view).emplace_back(now, node.intent);
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

bool Engine::IsHeld(View& view, const Node& node) {
  // what a move leaves at its old place has no name, and is no deletion of anybody's
  return hold_from_(view) != 0 && node.gone() && node.intent >= hold_from_(view) &&
         !node.name.empty() && node.there != There::kAbsent;
}

std::vector<Node> Engine::HeldDeletions(View& view) {
  if (hold_from_(view) == 0) return {};
  auto rows = view.index().Deletions(hold_from_(view));
  if (!rows.ok()) return {};
  std::vector<Node> held;
  for (Node& node : *rows) {
    if (IsHeld(view, node)) held.push_back(std::move(node));
  }
  return held;
}

// How long the next deletion has to wait so that all of one sweep are counted before any is sent.
Duration Engine::UntilCounted(View& view) {
  if (limits_(view).hold_files == 0 || deletions_(view).empty()) return Duration(0);
  const Steady now = options_.clock->Now();
  const Steady last = deletions_(view).back().first, first = deletions_(view).front().first;
  if (now - last >= options_.hold_quiet || now - first >= kWithin) return Duration(0);
  return std::chrono::duration_cast<Duration>(options_.hold_quiet - (now - last));
}

Status Engine::ReleaseDeletions() {
  View view(&tree_);
  const std::vector<Node> held = HeldDeletions(view);
  PG_TRY(view.index().SetMeta(Mark::kHoldFrom, ""));
  hold_from_(view) = 0;
  deletions_(view).clear();
  for (const Node& node : held) view.Push(node.id, node.intent, Duration(0));
  return {};
}

Result<std::uint64_t> Engine::DropDeletions() {
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
                               Printable(KeyToName(node.there_name))),
                   "Try again when that folder has arrived.");
    const auto live = view.inodes().find(node.id);
    if (live != view.inodes().end() && live->second->upload)
      return Error(Code::kBusy,
                   fmt::format("the store is just being told to delete {}", Printable(node.name)),
                   "Try again in a moment.");
  }
  // what waited in them goes before they can be written again, not after
  view.RemoveDoomed();
  if (!view.unlink_after_sync().empty())
    return Error(Code::kIo, "the index cannot be brought to the disk", "Check the disk.");
  Change change(&view);
  std::uint64_t back = 0;
  std::vector<NodeId> folders;
  for (Node& node : held) {
    if (node.kind != NodeKind::kFolder) {
      PG_ASSIGN(const Live* heir, view.Find(node.there_parent, KeyToName(node.there_name)));
      if (heir != nullptr && heir->upload) continue;  // it is being replaced at this moment
      ++back;
    } else {
      folders.push_back(node.id);
    }
    PG_TRY(BringBack(view, std::move(node)));
  }
  for (const NodeId folder : folders) {
    // what was in it may have moved; or it was removed there, and nobody heard of that
    PG_ASSIGN(Live * live, view.Get(folder));
    PG_ASSIGN(const bool more, view.index().HasChildren(folder));
    if (more) continue;
    live->node.dirty |= kAttributes;
    PG_TRY(view.AddIntent(live));
  }
  PG_TRY(view.index().SetMeta(Mark::kHoldFrom, ""));
  PG_TRY(change.Commit());
  hold_from_(view) = 0;
  deletions_(view).clear();
  return back;
}

// With the folders that went before the first of them, and wait for what is in them.
Result<std::vector<Node>> Engine::WithFoldersAbove(View& view, std::vector<Node> held) {
  std::set<NodeId> known;
  for (const Node& node : held) known.insert(node.id);
  for (std::size_t i = 0; i < held.size(); ++i) {
    const NodeId up = held[i].there_parent;
    if (up == kRootId || up == kNoNode || !known.insert(up).second) continue;
    PG_ASSIGN(const Live* live, view.Get(up));
    if (live->node.gone() && !live->node.name.empty()) held.push_back(live->node);
  }
  return held;
}

// Is another folder moving to the place of this one, so that some of it may be there already? That
// would come back with what was here.
Result<bool> Engine::FolderComesTo(View& view, const Node& held) {
  if (held.kind != NodeKind::kFolder) return false;
  PG_ASSIGN(const NodeId tried, view.index().FindTried(held.there_parent, held.there_name));
  if (tried == kNoNode) return false;
  PG_ASSIGN(const Live* live, view.Get(tried));
  return live->node.kind == NodeKind::kFolder;
}

// The same for all that it is in.
Result<bool> Engine::FolderComesOver(View& view, NodeId folder) {
  while (folder != kRootId && folder != kNoNode) {
    PG_ASSIGN(const Live* live, view.Get(folder));
    const Node& node = live->node;
    if (node.gone()) {
      PG_ASSIGN(const bool comes, FolderComesTo(view, node));
      if (comes) return true;
    }
    folder = node.remote_parent();
  }
  return false;
}

// It is again where the store has it.
Status Engine::BringBack(View& view, Node node) {
  const NodeId id = node.id;
  Live* live = view.Adopt(std::move(node));
  DropContent(view, live);
  Node& n = live->node;
  const NodeId parent = n.there_parent;
  const std::string key = n.there_name;
  n.name = ShortenName(KeyToName(key));
  PG_ASSIGN(Live * taken, view.Find(parent, n.name));
  if (taken != nullptr && taken->node.id != id) {
    PG_ASSIGN(n.name, NameBeside(view, parent, n.name));
  }
  n.parent = parent;
  AskForTime(&n);
  n.size = n.there_size;
  n.intent = 0;
  n.dirty &= ~(kForGood | kTriedData | kUnsure | kByWaiting);
  // its own object may be gone, and nobody heard of it, whatever others have put into it since
  if (n.kind == NodeKind::kFolder && n.attempts > 0) n.dirty |= kAttributes;
  n.attempts = 0;
  n.error.clear();
  if (!HasParts(n.upload)) n.upload.clear();
  SetThere(&n, parent, key);
  // its name is taken here by now, or a former attempt of it has to be ended
  if (n.there == There::kElsewhere || n.tried_parent != kNoNode || !n.upload.empty() ||
      (n.dirty & kAttributes))
    PG_TRY(view.AddIntent(live));
  view.Emit(Event::NameChanged(parent, n.name));
  return view.Save(live);
}

// ---- another at the place of a folder whose deletion is held back

Result<std::optional<Node>> Engine::HeldFolderAt(View& view, const Node& node) {
  if (hold_from_(view) == 0 || node.kind != NodeKind::kFolder) return std::optional<Node>();
  PG_ASSIGN(std::optional<Node> other, view.index().FindThere(node.parent, KeyPart(node), true));
  if (!other || other->id == node.id || !IsHeld(view, *other)) return std::optional<Node>();
  return other;
}

Result<NodeId> Engine::UnsureInside(View& view, NodeId held) {
  PG_ASSIGN(const NodeId tried, view.index().AnyTriedIn(held));
  if (tried != kNoNode) return tried;
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().ThereChildren(held));
  for (const NodeId id : inside) {
    PG_ASSIGN(Live * live, view.Get(id));
    const Node& node = live->node;
    // (what others have put into it since waits for nobody, and stays)
    const bool appeared = !node.gone() && node.intent == 0;
    if ((!appeared && !IsHeld(view, node)) || node.tried_parent != kNoNode) return id;
    if (node.kind != NodeKind::kFolder) continue;
    PG_ASSIGN(const NodeId deeper, UnsureInside(view, id));
    if (deeper != kNoNode) return deeper;
  }
  return kNoNode;
}

// A new folder is the one that the store has there already. So what is held in it is known in this
// one: it does not show, and comes back into it when the deletions are dropped.
Status Engine::TakePlace(View& view, Live* live, const Node& held) {
  Change change(&view);
  Node& node = live->node;
  PG_TRY(TakeOver(view, node.id, held.id, {}));
  SetThere(&node, node.parent, held.there_name);
  node.marker = held.marker;
  node.listed_at = held.listed_at;
  node.dirty |= kAttributes;
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  acked_(view)[node.id] = options_.clock->Now();  // a listing that began before shows the former
  PG_TRY(view.Save(live));
  return change.Commit();
}

// What the store has in `former`, which it drops, is in `heir` from now on.
Status Engine::TakeOver(View& view, NodeId heir, NodeId former, const std::set<std::string>& came) {
  PG_TRY(TakeInside(view, heir, former, "", came));
  PG_TRY(view.index().Delete(former));
  view.inodes().erase(former);
  return {};
}

// `came`: paths, of which those below `below` have come into `heir` over what stood there.
Status Engine::TakeInside(View& view, NodeId heir, NodeId former, const std::string& below,
                          const std::set<std::string>& came) {
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().ThereChildren(former));
  for (const NodeId id : inside) {
    PG_ASSIGN(Live * live, view.Get(id));
    Node& node = live->node;
    const std::string key = ThereName(node), path = below + key;
    const std::string name = ShortenName(KeyToName(key));
    const bool folder = node.kind == NodeKind::kFolder;
    const bool appeared = node.parent == former;  // since it was deleted here
    PG_ASSIGN(const Live* here, view.Find(heir, name));
    if (!folder && (came.count(path) > 0 || (appeared && here != nullptr))) {
      PG_ASSIGN(const std::string there, view.TherePath(node));
      DropThere(view, live, there);
      continue;
    }
    node.upload = MovedSent(node.upload, former, heir);
    const auto first = came.lower_bound(path + "/");
    const bool mixed =
        folder && first != came.end() && first->compare(0, path.size() + 1, path + "/") == 0;
    NodeId into = kNoNode;
    if ((mixed || (folder && appeared)) && here != nullptr && here->node.kind == NodeKind::kFolder)
      into = here->node.id;
    if (folder && !appeared && here == nullptr) {  // both are deleted here
      PG_ASSIGN(const auto left, view.index().FindThere(heir, key, true));
      if (left && left->id != id && left->gone()) into = left->id;
    }
    if (into != kNoNode) {
      PG_TRY(TakeInside(view, into, id, path + "/", came));
      PG_TRY(view.index().Delete(id));
      view.inodes().erase(id);
      continue;
    }
    if (mixed && here == nullptr) {  // what came into it is not known yet: it is there again
      node.parent = heir;
      node.name = name;
      node.intent = 0;
      node.listed_at = 0;
      SetThere(&node, heir, key);
      view.Emit(Event::NameChanged(heir, name));
      PG_TRY(TakeInside(view, id, id, path + "/", came));
    } else if (appeared) {
      node.parent = heir;
      if (here != nullptr) {
        PG_ASSIGN(node.name, NameBeside(view, heir, name));
      }
      SetThere(&node, heir, key);
      view.Emit(Event::NameChanged(heir, node.name));
    } else {
      if (!folder && heir != former) PG_TRY(DropLeft(view, heir, key));
      node.there_parent = heir;
    }
    PG_TRY(view.Save(live));
  }
  return {};
}

// What was deleted in the heir, too, and of which nothing came: it is not there any more.
Status Engine::DropLeft(View& view, NodeId heir, const std::string& key) {
  PG_ASSIGN(const auto left, view.index().FindThere(heir, key, false));
  if (!left || !left->gone()) return {};
  PG_ASSIGN(Live * live, view.Get(left->id));
  PG_ASSIGN(const std::string there, view.TherePath(live->node));
  DropThere(view, live, there);
  return {};
}

Status Engine::HeldBelow(View& view, NodeId held, const std::string& below,
                         std::map<std::string, std::string>* versions) {
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().ThereChildren(held));
  for (const NodeId id : inside) {
    PG_ASSIGN(Live * live, view.Get(id));
    const std::string path = below + ThereName(live->node);
    if (live->node.kind == NodeKind::kFolder)
      PG_TRY(HeldBelow(view, id, path + "/", versions));
    else if (live->node.gone())  // else it is not for us to replace
      versions->emplace(path, live->node.version);
  }
  return {};
}

}  // namespace pargeter
