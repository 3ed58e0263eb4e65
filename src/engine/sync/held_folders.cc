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
  PG_ASSIGN(std::optional<Node> other, view.index().FindRemote(node.parent, KeyPart(node), true));
  if (!other || other->id == node.id || !guard_.IsHeld(view, *other)) return std::optional<Node>();
  return other;
}

Result<NodeId> HeldFolders::UnsureInside(View& view, NodeId held) {
  PG_ASSIGN(const NodeId tried, view.index().AnyAttemptIn(held));
  if (tried != kNoNode) return tried;
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().RemoteChildren(held));
  for (const NodeId id : inside) {
    PG_ASSIGN(Inode * inode, view.Get(id));
    const Node& node = inode->node;
    // (what others have put into it since waits for nobody, and stays)
    const bool appeared = !node.gone() && node.pending.seq == 0;
    if ((!appeared && !guard_.IsHeld(view, node)) || node.attempt.parent != kNoNode) return id;
    if (node.kind != NodeKind::kFolder) continue;
    PG_ASSIGN(const NodeId deeper, UnsureInside(view, id));
    if (deeper != kNoNode) return deeper;
  }
  return kNoNode;
}

Status HeldFolders::ReplaceHeldFolder(View& view, Inode* inode, const Node& held) {
  Change change(&view);
  Node& node = inode->node;
  PG_TRY(MergeHeldFolder(view, node.id, held.id, {}));
  SetRemote(&node, node.parent, held.remote.name);
  node.marker = held.marker;
  node.listed_at = held.listed_at;
  node.dirty |= kAttributes;
  node.attempt = {};
  provenance_.recent(view).NoteChanged(node.id);  // a listing that began before shows the former
  PG_TRY(view.Save(inode));
  return change.Commit();
}

Status HeldFolders::MergeHeldFolder(View& view, NodeId successor, NodeId former,
                                    const std::set<std::string>& came) {
  PG_TRY(MergeHeldChildren(view, successor, former, "", came));
  PG_TRY(view.index().Delete(former));
  view.inodes().erase(former);
  return {};
}

Status HeldFolders::MergeHeldChildren(View& view, NodeId successor, NodeId former,
                                      const std::string& below, const std::set<std::string>& came) {
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().RemoteChildren(former));
  for (const NodeId id : inside) {
    PG_ASSIGN(Inode * inode, view.Get(id));
    Node& node = inode->node;
    const std::string key = RemoteName(node), path = below + key;
    const std::string name = ShortenName(KeyToName(key));
    const bool folder = node.kind == NodeKind::kFolder;
    const bool appeared = node.parent == former;  // since it was deleted here
    PG_ASSIGN(const Inode* here, view.Find(successor, name));
    if (!folder && (came.count(path) > 0 || (appeared && here != nullptr))) {
      PG_ASSIGN(const std::string there, view.RemotePath(node));
      DropRemote(view, inode, there);
      continue;
    }
    node.upload_log.MovePlaces(PlaceIdIn(former, ""), PlaceIdIn(successor, ""));
    const auto first = came.lower_bound(path + "/");
    const bool mixed =
        folder && first != came.end() && first->compare(0, path.size() + 1, path + "/") == 0;
    NodeId into = kNoNode;
    if ((mixed || (folder && appeared)) && here != nullptr && here->node.kind == NodeKind::kFolder)
      into = here->node.id;
    if (folder && !appeared && here == nullptr) {  // both are deleted here
      PG_ASSIGN(const auto left, view.index().FindRemote(successor, key, true));
      if (left && left->id != id && left->gone()) into = left->id;
    }
    if (into != kNoNode) {
      PG_TRY(MergeHeldChildren(view, into, id, path + "/", came));
      PG_TRY(view.index().Delete(id));
      view.inodes().erase(id);
      continue;
    }
    if (mixed && here == nullptr) {  // what came into it is not known yet: it is there again
      node.parent = successor;
      node.name = name;
      node.pending.seq = 0;
      node.listed_at = 0;
      SetRemote(&node, successor, key);
      view.Emit(Event::NameChanged(successor, name));
      PG_TRY(MergeHeldChildren(view, id, id, path + "/", came));
    } else if (appeared) {
      node.parent = successor;
      if (here != nullptr) {
        PG_ASSIGN(node.name, facts_.ConflictCopyName(view, successor, name));
      }
      SetRemote(&node, successor, key);
      view.Emit(Event::NameChanged(successor, node.name));
    } else {
      if (!folder && successor != former) PG_TRY(DropTombstones(view, successor, key));
      node.remote.parent = successor;
    }
    PG_TRY(view.Save(inode));
  }
  return {};
}

Status HeldFolders::DropTombstones(View& view, NodeId successor, const std::string& key) {
  PG_ASSIGN(const auto left, view.index().FindRemote(successor, key, false));
  if (!left || !left->gone()) return {};
  PG_ASSIGN(Inode * inode, view.Get(left->id));
  PG_ASSIGN(const std::string there, view.RemotePath(inode->node));
  DropRemote(view, inode, there);
  return {};
}

Status HeldFolders::HeldBelow(View& view, NodeId held, const std::string& below,
                              std::map<std::string, std::string>* versions) {
  PG_ASSIGN(const std::vector<NodeId> inside, view.index().RemoteChildren(held));
  for (const NodeId id : inside) {
    PG_ASSIGN(Inode * inode, view.Get(id));
    const std::string path = below + RemoteName(inode->node);
    if (inode->node.kind == NodeKind::kFolder)
      PG_TRY(HeldBelow(view, id, path + "/", versions));
    else if (inode->node.gone())  // else it is not for us to replace
      versions->emplace(path, inode->node.remote.version);
  }
  return {};
}

void HeldFolders::DropRemote(View& view, Inode* gone, const std::string& path) {
  const NodeId id = gone->node.id;
  if (gone->opens + gone->detached_opens == 0) {
    contents_.DetachContent(view, gone);
    Ignore(view.index().Delete(id));
    provenance_.recent(view).NoteAbandonedWrite(id, path);
    view.inodes().erase(id);
    return;
  }
  gone->node.remote.place = RemotePlace::kNone;
  gone->node.pending.seq = 0;
  Ignore(view.Save(gone));
}

}  // namespace pargeter
