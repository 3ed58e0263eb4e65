// HeldFolders: what the store still has of a folder whose deletion is held back.
#include "engine/sync/held_folders.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <ctime>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/job.h"
#include "provider/attributes.h"

namespace pargeter {

// ---- another at the place of a folder whose deletion is held back

Result<std::optional<Node>> HeldFolders::HeldFolderAt(View& view, const Node& node) {
  if (guard_.hold_from_(view) == 0 || node.kind != NodeKind::kFolder) return std::optional<Node>();
  PG_ASSIGN(std::optional<Node> other, view.index().FindThere(node.parent, KeyPart(node), true));
  if (!other || other->id == node.id || !guard_.IsHeld(view, *other)) return std::optional<Node>();
  return other;
}

Result<NodeId> HeldFolders::UnsureInside(View& view, NodeId held) {
  PG_ASSIGN(const NodeId tried, view.index().AnyTriedIn(held));
  if (tried != kNoNode) return tried;
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().ThereChildren(held));
  for (const NodeId id : inside) {
    PG_ASSIGN(Live * live, view.Get(id));
    const Node& node = live->node;
    // (what others have put into it since waits for nobody, and stays)
    const bool appeared = !node.gone() && node.intent == 0;
    if ((!appeared && !guard_.IsHeld(view, node)) || node.tried_parent != kNoNode) return id;
    if (node.kind != NodeKind::kFolder) continue;
    PG_ASSIGN(const NodeId deeper, UnsureInside(view, id));
    if (deeper != kNoNode) return deeper;
  }
  return kNoNode;
}

// A new folder is the one that the store has there already. So what is held in it is known in this
// one: it does not show, and comes back into it when the deletions are dropped.
Status HeldFolders::TakePlace(View& view, Live* live, const Node& held) {
  Change change(&view);
  Node& node = live->node;
  PG_TRY(TakeOver(view, node.id, held.id, {}));
  SetThere(&node, node.parent, held.there_name);
  node.marker = held.marker;
  node.listed_at = held.listed_at;
  node.dirty |= kAttributes;
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  provenance_.acked_(view)[node.id] =
      options_.clock->Now();  // a listing that began before shows the former
  PG_TRY(view.Save(live));
  return change.Commit();
}

// What the store has in `former`, which it drops, is in `heir` from now on.
Status HeldFolders::TakeOver(View& view, NodeId heir, NodeId former,
                             const std::set<std::string>& came) {
  PG_TRY(TakeInside(view, heir, former, "", came));
  PG_TRY(view.index().Delete(former));
  view.inodes().erase(former);
  return {};
}

// `came`: paths, of which those below `below` have come into `heir` over what stood there.
Status HeldFolders::TakeInside(View& view, NodeId heir, NodeId former, const std::string& below,
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
        PG_ASSIGN(node.name, facts_.NameBeside(view, heir, name));
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
Status HeldFolders::DropLeft(View& view, NodeId heir, const std::string& key) {
  PG_ASSIGN(const auto left, view.index().FindThere(heir, key, false));
  if (!left || !left->gone()) return {};
  PG_ASSIGN(Live * live, view.Get(left->id));
  PG_ASSIGN(const std::string there, view.TherePath(live->node));
  DropThere(view, live, there);
  return {};
}

Status HeldFolders::HeldBelow(View& view, NodeId held, const std::string& below,
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

// The store has it no more, something else is there.
void HeldFolders::DropThere(View& view, Live* gone, const std::string& path) {
  const NodeId id = gone->node.id;
  if (gone->opens + gone->old_opens == 0) {
    contents_.DropContent(view, gone);
    Ignore(view.index().Delete(id));
    provenance_.left_behind_(view)[{id, path}] = options_.clock->Now();
    view.inodes().erase(id);
    return;
  }
  gone->node.there = There::kAbsent;
  gone->node.intent = 0;
  Ignore(view.Save(gone));
}

}  // namespace pargeter
