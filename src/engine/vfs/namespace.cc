// Namespace: looking up, making, renaming and deleting.
#include "engine/vfs/namespace.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/refresher.h"

namespace pargeter {

Result<Attr> Namespace::Lookup(NodeId parent, const std::string& name) {
  if (name.size() > kMaxName) return Error(Code::kNameTooLong, "the name is longer than 255 bytes");
  for (int round = 0; round < 2; ++round) {
    NodeId found = kNoNode;
    bool fresh = false;
    {
      View view(&tree_);
      view.Trim();
      PG_ASSIGN(Inode * folder, view.GetFolder(parent));
      PG_ASSIGN(Inode * inode, view.Find(parent, name));
      if (inode != nullptr && inode->node.effective == Placement::kHide)
        return Error(Code::kNotFound, "it is hidden on this machine");
      fresh = refresher_.IsFresh(view, parent);
      if (inode != nullptr) {
        ++inode->lookups;
        if (!refresher_.NeedsAsking(inode->node)) return facts_.AttrOf(*inode);
        found = inode->node.id;
      } else if (fresh || round > 0 || folder->node.remote.place == RemotePlace::kNone) {
        return Error(Code::kNotFound, "there is no such name");
      }
    }
    if (found != kNoNode) return refresher_.AttrAsking(found);
    const Status listed = refresher_.ListFolder(parent, ListWait::kAll, name);
    if (!listed.ok()) {
      View view(&tree_);
      PG_ASSIGN(Inode * folder, view.GetFolder(parent));
      if (folder->node.listed_at == 0) return listed.error();
    }
  }
  return Error(Code::kNotFound, "there is no such name");
}

void Namespace::Forget(NodeId id, std::uint64_t uses) {
  View view(&tree_);
  const auto it = view.inodes().find(id);
  if (it == view.inodes().end()) return;
  it->second->lookups -= std::min(it->second->lookups, uses);
  view.Trim();
}

Result<Inode*> Namespace::NewNode(View& view, NodeId parent, const std::string& name, NodeKind kind,
                                  std::uint32_t mode, std::uint32_t uid, std::uint32_t gid) {
  PG_TRY(facts_.CheckState(view));
  PG_ASSIGN(const Inode* folder, view.GetFolder(parent));
  Node node;
  node.kind = kind;
  node.parent = parent;
  node.name = name;
  node.mode = mode & 07777;
  node.uid = uid == options_.uid ? -1 : static_cast<std::int64_t>(uid);
  node.gid = gid == options_.gid ? -1 : static_cast<std::int64_t>(gid);
  if (folder->node.mode & S_ISGID) {  // it passes its group on, and folders that, too
    node.gid = folder->node.gid;
    if (kind == NodeKind::kFolder) node.mode |= S_ISGID;
  }
  node.mtime = node.ctime = options_.clock->Wall();
  PG_TRY(placement_.Inherit(view, &node));
  if (node.effective != Placement::kLocal) PG_TRY(facts_.CheckRole(view, folder->node));
  if (!IsLocalOnly(node)) {
    node.pending.seq = view.index().NextSeq();
    node.pending.since = options_.clock->FileTime();
  }
  PG_TRY(SealDeletion(view, node));
  const Status inserted = view.index().Insert(&node);
  if (!inserted.ok()) {
    if (inserted.error().code != Code::kExists) return inserted.error();
    PG_ASSIGN(Inode * taken, view.Find(parent, name));
    if (taken != nullptr && taken->node.effective == Placement::kHide) {
      LogAbout(LogLevel::kWarning, {name, "hidden"},
               "{} cannot be made: the store has one of that name, which a rule hides here", name);
      return Error(Code::kExists, "the name is taken by what a rule hides here");
    }
    return Error(Code::kExists, "the name is taken");
  }
  view.Touch(node.id);
  if (node.pending.seq != 0) view.Push(node.id, node.pending.seq);
  view.TouchFolder(parent);
  return view.Adopt(std::move(node));
}

Status Namespace::SealDeletion(View& view, const Node& successor) {
  if (facts_.names_synced_(view) == 0) return {};
  PG_ASSIGN(const auto gone, view.index().FindRemote(successor.parent, KeyPart(successor), false));
  if (!gone || !gone->gone() || gone->pending.seq > facts_.names_synced_(view) ||
      gone->id == successor.id)
    return {};
  PG_ASSIGN(Inode * inode, view.Get(gone->id));
  inode->node.dirty |= kDurableUnlink;
  return view.Save(inode);
}

Result<Attr> Namespace::MakeFolder(NodeId parent, const std::string& name, std::uint32_t mode,
                                   std::uint32_t uid, std::uint32_t gid) {
  PG_TRY(facts_.CheckWritable());
  PG_TRY(facts_.CheckNewName(name));
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, NewNode(view, parent, name, NodeKind::kFolder, mode, uid, gid));
  PG_TRY(change.Commit());
  ++inode->lookups;
  return facts_.AttrOf(*inode);
}

Status Namespace::CheckHoldsLinks() {
  if (store_->Can().create == Guard::kUnknown && store_->Check().ok())
    Ignore(store_->Ask(Traffic::kForeground,
                       [this](const Call& call) { return facts_.EnsureProbed(call); }));
  if (store_->Can().holds_links) return {};
  Log(LogLevel::kWarning, "a symbolic link is refused: this store cannot hold any");
  return Error(Code::kRefused, "this store cannot hold symbolic links");
}

Result<Attr> Namespace::MakeSymlink(NodeId parent, const std::string& name,
                                    const std::string& target, std::uint32_t uid,
                                    std::uint32_t gid) {
  PG_TRY(facts_.CheckWritable());
  PG_TRY(facts_.CheckNewName(name));
  if (target.size() > kLongestTarget)
    return Error(Code::kNameTooLong,
                 fmt::format("the link's target is longer than {} bytes", kLongestTarget));
  PG_TRY(CheckHoldsLinks());
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, NewNode(view, parent, name, NodeKind::kSymlink, 0777, uid, gid));
  inode->node.target = target;
  PG_TRY(view.Save(inode));
  PG_TRY(change.Commit());
  ++inode->lookups;
  return facts_.AttrOf(*inode);
}

Result<std::string> Namespace::ReadSymlink(NodeId id) {
  PG_TRY(refresher_.AttrAsking(id));
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  if (inode->node.kind != NodeKind::kSymlink)
    return Error(Code::kInvalid, "it is not a symbolic link");
  return inode->node.target;
}

Status Namespace::Remove(View& view, Inode* inode, std::uint32_t mark) {
  Node& node = inode->node;
  const NodeId parent = node.parent;
  if (node.effective != Placement::kLocal && node.remote.place != RemotePlace::kNone) {
    PG_ASSIGN(const Inode* folder, view.Get(parent));
    PG_TRY(facts_.CheckRole(view, folder->node));
  }
  if (inode->upload) inode->upload->Cancel();
  UnlinkLocally(&node);
  node.ctime = options_.clock->Wall();
  view.TouchFolder(parent);
  const bool there = node.remote.place != RemotePlace::kNone || !node.upload_log.empty() ||
                     node.attempt.parent != kNoNode;
  if (!there) {
    node.pending.seq = 0;
    PG_TRY(view.Save(inode));
    if (inode->opens == 0) {
      contents_.DetachContent(view, inode);
      PG_TRY(view.index().Delete(node.id));
    }
    return facts_.KeepFolder(view, parent);
  }
  const bool tried = node.attempt.parent != kNoNode && (node.dirty & kData);
  // (what a power cut has left of it is still no measure of what the store has)
  node.dirty = (tried ? kAttemptHadData : kClean) | (node.dirty & kMaybeStale) | mark;
  node.pending.seq = 0;  // a change of its own, after all that waited before: it may be held back
  if (inode->opens == 0) contents_.DetachContent(view, inode);
  PG_TRY(view.QueueChange(inode));
  return facts_.KeepFolder(view, parent);
}

Status Namespace::Unlink(NodeId parent, const std::string& name) {
  PG_TRY(facts_.CheckWritable());
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Find(parent, name));
  if (inode == nullptr) return Error(Code::kNotFound, "there is no such name");
  if (inode->node.kind == NodeKind::kFolder) return Error(Code::kIsFolder, "it is a folder");
  const NodeId id = inode->node.id;
  PG_TRY(Remove(view, inode));
  if (const auto gone = view.inodes().find(id);
      gone != view.inodes().end() && gone->second->node.pending.seq != 0)
    PG_TRY(guard_.Count(view, gone->second->node));
  return change.Commit();
}

Status Namespace::RemoveFolder(NodeId parent, const std::string& name) {
  PG_TRY(facts_.CheckWritable());
  NodeId id = kNoNode;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Find(parent, name));
    if (inode == nullptr) return Error(Code::kNotFound, "there is no such name");
    if (inode->node.kind != NodeKind::kFolder) return Error(Code::kNotFolder, "it is not a folder");
    id = inode->node.id;
  }
  PG_TRY(refresher_.EnsureListed(id));
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Find(parent, name));
  if (inode == nullptr || inode->node.id != id)
    return Error(Code::kNotFound, "there is no such name");
  PG_ASSIGN(const bool full, view.index().HasChildren(id));
  if (full) {
    PG_ASSIGN(const std::vector<Node> rest, view.index().Children(id, 0, 100));
    const bool hidden = std::all_of(rest.begin(), rest.end(), [](const Node& node) {
      return node.effective == Placement::kHide;
    });
    if (hidden)
      LogAbout(LogLevel::kWarning, {name, "hidden"},
               "{} cannot be removed: it still holds what a rule hides here", name);
    return Error(Code::kNotEmpty, "the folder is not empty");
  }
  PG_TRY(Remove(view, inode));
  return change.Commit();
}

Status Namespace::CheckMayReplace(View& view, const Node& node, const Node& target,
                                  ReplaceTarget replace) {
  if (replace == ReplaceTarget::kNo) return Error(Code::kExists, "the name is taken");
  const bool folder = node.kind == NodeKind::kFolder;
  if (target.kind == NodeKind::kFolder) {
    if (!folder) return Error(Code::kIsFolder, "a folder is there");
    PG_ASSIGN(const bool full, view.index().HasChildren(target.id));
    if (full) return Error(Code::kNotEmpty, "the folder there is not empty");
  } else if (folder) {
    return Error(Code::kNotFolder, "a file is there");
  }
  if (target.effective == Placement::kHide)
    return Error(Code::kExists, "the name is taken by what a rule hides here");
  return {};
}

Status Namespace::CheckNotInside(View& view, NodeId folder, NodeId into) {
  for (NodeId up = into; up != kRootId;) {
    if (up == folder) return Error(Code::kInvalid, "a folder cannot be moved into itself");
    PG_ASSIGN(const Inode* above, view.Get(up));
    up = above->node.parent;
  }
  return {};
}

Result<RemoteState> Namespace::RemoteBeforeRename(View& view, Node* node) {
  RemoteState remote = node->remote;
  const bool same = remote.place == RemotePlace::kSame;
  bool being_made = false;
  if (node->kind == NodeKind::kFolder && remote.place == RemotePlace::kNone) {
    // an upload into the folder makes it under its former name, and it is moved from there
    PG_ASSIGN(being_made, provenance_.HasAttemptBelow(view, node->id));
  }
  if (same || being_made) {
    remote.parent = node->parent;
    remote.name = NameToKey(node->name);
  }
  if (being_made) {
    node->remote.place = RemotePlace::kMoved;
    node->dirty |= kAttributes;
    if (node->attempt == Attempt{remote.parent, remote.name}) node->attempt = {};
  }
  return remote;
}

Status Namespace::Rename(NodeId parent, const std::string& name, NodeId new_parent,
                         const std::string& new_name, ReplaceTarget replace) {
  PG_TRY(facts_.CheckWritable());
  PG_TRY(facts_.CheckNewName(new_name));
  NodeId target_folder = kNoNode;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * target, view.Find(new_parent, new_name));
    if (target != nullptr && target->node.kind == NodeKind::kFolder)
      target_folder = target->node.id;
  }
  if (target_folder != kNoNode && replace == ReplaceTarget::kYes)
    PG_TRY(refresher_.EnsureListed(target_folder));

  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(const Inode* into, view.GetFolder(new_parent));
  PG_TRY(facts_.CheckRole(view, into->node));
  PG_ASSIGN(Inode * inode, view.Find(parent, name));
  if (inode == nullptr) return Error(Code::kNotFound, "there is no such name");
  if (inode->node.remote.place != RemotePlace::kNone) {
    PG_ASSIGN(const Inode* from, view.Get(parent));
    PG_TRY(facts_.CheckRole(view, from->node));
  }
  PG_ASSIGN(Inode * target, view.Find(new_parent, new_name));
  if (target == inode) return {};
  PG_TRY(CheckNotInside(view, inode->node.id, new_parent));
  if (target != nullptr) {
    PG_TRY(CheckMayReplace(view, inode->node, target->node, replace));
    PG_TRY(Remove(view, target, inode->node.dirty & kData ? kReplacedByUnsynced : kClean));
  }
  Node& node = inode->node;
  // as an editor saves: what was said of the name holds for what takes it
  if (target != nullptr && node.own_rule.placement == Placement::kNone &&
      target->node.own_rule.placement != Placement::kNone) {
    node.own_rule = target->node.own_rule;
  }
  if (inode->upload && node.kind == NodeKind::kFile) inode->upload->Cancel();
  PG_ASSIGN(const RemoteState remote, RemoteBeforeRename(view, &node));
  node.parent = new_parent;
  node.name = new_name;
  node.conflict_copy = {};  // whoever gives it another name has decided
  node.ctime = options_.clock->Wall();
  if (node.remote.place != RemotePlace::kNone) SetRemote(&node, remote.parent, remote.name);
  if (target == nullptr) PG_TRY(SealDeletion(view, node));
  PG_TRY(placement_.PropagatePlacement(view, node.id, false));
  PG_TRY(view.QueueChange(inode));
  view.TouchFolder(parent);
  view.TouchFolder(new_parent);
  PG_TRY(facts_.KeepFolder(view, parent));
  if (node.dirty & kData) {
    PG_ASSIGN(const std::string ranges, view.index().Presence(node.id));
    contents_.NotePending(view, node, ranges);
  }
  return change.Commit();
}

Status Namespace::OpenFolder(NodeId id) {
  bool known = false;
  {
    View view(&tree_);
    // a program may stand in a folder that was removed: that is empty
    if (const auto gone = view.inodes().find(id); gone != view.inodes().end() &&
                                                  gone->second->node.gone() &&
                                                  gone->second->node.kind == NodeKind::kFolder)
      return {};
    PG_ASSIGN(Inode * folder, view.GetFolder(id));
    refresher_.visited_at_(view)[id] = options_.clock->Now();
    if (folder->node.remote.place == RemotePlace::kNone || refresher_.IsFresh(view, id)) return {};
    known = folder->node.listed_at != 0;
  }
  // A first listing is waited for page by page while reading; a known folder is shown as it is
  // known if the store does not answer soon. A walk over many folders is not slowed down: beyond a
  // few a second they are refreshed behind its back.
  if (!known) return refresher_.ListFolder(id, ListWait::kNo, "");
  Ignore(
      refresher_.ListFolder(id, refresher_.pace_.MayWait() ? ListWait::kAll : ListWait::kNo, ""));
  return {};
}

Result<std::vector<DirEntry>> Namespace::ReadFolder(NodeId id, NodeId after, int limit, bool use) {
  const Steady deadline = options_.clock->Now() + options_.patience;
  View view(&tree_);
  for (;;) {
    PG_ASSIGN(Inode * folder, view.Get(id));
    if (folder->node.gone()) return std::vector<DirEntry>();
    PG_ASSIGN(std::vector<Node> rows, view.index().Children(id, after, limit));
    const bool coming = refresher_.listings_(view).count(id) > 0 && folder->node.listed_at == 0;
    if (!rows.empty() || !coming) {
      if (rows.empty() && folder->node.listed_at == 0 &&
          folder->node.remote.place != RemotePlace::kNone && after == 0) {
        // its first listing failed: an empty folder would be a lie
        const Status online = store_->Check();
        return online.ok() ? Error(Code::kUnavailable, "the folder could not be listed")
                           : online.error();
      }
      std::vector<DirEntry> entries;
      entries.reserve(rows.size());
      if (!rows.empty()) after = rows.back().id;
      for (Node& row : rows) {
        if (row.effective == Placement::kHide) continue;
        DirEntry entry;
        entry.name = row.name;
        const auto known = view.inodes().find(row.id);
        if (known == view.inodes().end() && !use) {
          Inode passing;
          passing.node = std::move(row);
          entry.attributes_complete = !refresher_.NeedsAsking(passing.node);
          entry.attr = facts_.AttrOf(passing);
        } else {
          Inode* inode =
              known != view.inodes().end() ? known->second.get() : view.Adopt(std::move(row));
          entry.attributes_complete = !refresher_.NeedsAsking(inode->node);
          if (use && entry.attributes_complete) ++inode->lookups;
          entry.attr = facts_.AttrOf(*inode);
        }
        entries.push_back(std::move(entry));
      }
      if (entries.empty() && !rows.empty()) continue;  // all of these are hidden
      return entries;
    }
    if (!view.WaitUntil(deadline) && options_.clock->Now() >= deadline) {
      return Error(Code::kTimeout, "the folder's listing did not come in time");
    }
    if (stop_->cancelled()) return Error(Code::kUnavailable, "the drive is being unmounted");
  }
}

Result<Attr> Namespace::GetAttr(NodeId id, std::optional<std::uint32_t> user) {
  const bool other = options_.shared && user && *user != options_.uid;
  return refresher_.AttrAsking(id, other ? AskFor::kMode : user ? AskFor::kSome : AskFor::kLink);
}

}  // namespace pargeter
