// RemoteMerge: bringing what the store shows, and what it shows no more, into the index.
#include "engine/refresh/remote_merge.h"

#include <algorithm>
#include <utility>

#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"

namespace pargeter {

namespace {
constexpr std::size_t kManyLeftovers = 256;

constexpr int kManyAttempts = 3;

constexpr Nanos kOldScratch = 86400ll * 1'000'000'000;
}  // namespace

Status RemoteMerge::MergePage(Listing* listing, const std::vector<Entry>& entries, bool may_write) {
  View view(&tree_);
  view.Trim();
  Change change(&view);
  PG_ASSIGN(Inode * folder, view.GetFolder(listing->folder));
  if (provenance_.AbsenceIsInconclusive(view, folder->node, listing->started))
    return MovedMeanwhile();
  PG_TRY(MergeRights(view, folder, may_write));
  for (const Entry& entry : entries) PG_TRY(MergeEntry(view, listing, entry));
  PG_TRY(change.Commit());
  tree_.NotifyAll();
  return {};
}

Status RemoteMerge::MergeOne(View& view, NodeId folder, const Entry& entry, Steady asked) {
  const bool is_folder = entry.kind == Kind::kFolder;
  PG_ASSIGN(const auto known, facts_.NodeThere(view, folder, entry.name, is_folder));
  Listing one;
  one.folder = folder;
  one.started = asked;
  PG_TRY(MergeEntry(view, &one, entry));
  if (!known || !is_folder)
    for (const NodeId id : one.seen) provenance_.recent(view).NoteChanged(id);
  return {};
}

Status RemoteMerge::MergeEntry(View& view, Listing* listing, const Entry& entry) {
  const bool folder = entry.kind == Kind::kFolder;
  if (listing->folder == kRootId && entry.name == kRulesName) return {};
  if (folder && entry.marker && entry.name.empty()) {
    PG_ASSIGN(Inode * inode, view.Get(listing->folder));
    listing->marker = true;
    if (!inode->node.marker) {
      inode->node.marker = true;
      // others made it, and it may say more than that the folder is there
      if (!(inode->node.dirty & kAttributes)) inode->node.attributes_known = false;
      PG_TRY(view.Save(inode));
    }
    return {};
  }
  // the node that the store has under this name, wherever it is here
  const std::string name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(Inode * here, view.Find(listing->folder, name));
  if (here != nullptr && here->node.remote.place == RemotePlace::kSame &&
      (here->node.kind == NodeKind::kFolder) == folder) {
    return UpdateKnown(view, listing, here, entry);
  }
  PG_ASSIGN(std::optional<Node> placed,
            view.index().FindRemote(listing->folder, entry.name, folder));
  if (placed) return UpdateKnown(view, listing, view.Adopt(std::move(*placed)), entry);
  // only now: a file on its way to another's place may stand under such a name for a while
  if (IsOwnScratchName(entry.name)) return NoteLeftover(view, listing->folder, entry);
  PG_ASSIGN(const NodeId tried, view.index().FindAttempt(listing->folder, entry.name));
  if (tried != kNoNode) return {};  // perhaps a half-done step of ours: it is cleared up first
  if (provenance_.recent(view).WasGoneSince(listing->folder, entry.name, listing->started))
    return {};  // seen just before we deleted it
  return InsertNew(view, listing, entry);
}

Status RemoteMerge::NoteLeftover(View& view, NodeId folder, const Entry& entry) {
  const bool old = entry.modified > 0 && entry.modified + kOldScratch < options_.clock->Wall();
  if (!old || entry.kind == Kind::kFolder || options_.read_only ||
      provenance_.IsTempName(entry.name) ||  // a file on its way, of any machine
      leftovers_(view).size() >= kManyLeftovers)
    return {};
  PG_ASSIGN(const std::string path, view.RemotePrefix(folder));
  leftovers_(view).try_emplace(path + entry.name, Leftover{entry.version, options_.clock->Now()});
  return {};
}

Status RemoteMerge::InsertNew(View& view, Listing* listing, const Entry& entry) {
  Node node;
  const bool folder = entry.kind == Kind::kFolder;
  node.kind = folder ? NodeKind::kFolder : NodeKind::kFile;
  node.parent = listing->folder;
  node.name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(Inode * taken, view.Find(listing->folder, node.name));
  if (taken != nullptr) {
    const bool taken_folder = taken->node.kind == NodeKind::kFolder;
    if (folder == taken_folder)
      return {};  // ours waits under that name: its upload will meet this one
    if (folder) {
      // the folder keeps the name, the file stands beside it
      const std::string old = taken->node.name;
      taken->node.name = BesideFolder(old);
      PG_ASSIGN(const Inode* beside, view.Find(listing->folder, taken->node.name));
      if (beside != nullptr) {  // another stands there already
        PG_ASSIGN(taken->node.name, facts_.ConflictCopyName(view, listing->folder, old));
      }
      if (taken->node.remote.place == RemotePlace::kSame)
        SetRemote(&taken->node, listing->folder, entry.name);
      PG_TRY(view.Save(taken));
      view.Emit(Event::NameChanged(listing->folder, old));
    } else {
      node.name = ShortenName(BesideFolder(node.name));
      PG_ASSIGN(Inode * beside, view.Find(listing->folder, node.name));
      if (beside != nullptr) return {};
    }
  }
  SetRemote(&node, listing->folder, entry.name);
  node.remote.version = entry.version;
  node.size = node.remote.size = entry.size;
  node.mtime = node.ctime = entry.modified != 0 ? entry.modified : options_.clock->Wall();
  node.mode = folder ? 0755 : 0644;
  node.attributes_known = entry.attributes_known;
  node.marker = entry.marker;
  node.may_write = entry.may_write;
  if (entry.attributes_known) {
    const Attributes& a = entry.attributes;
    node.mode = a.mode.value_or(node.mode);
    node.mtime = a.mtime.value_or(node.mtime);
    if (a.uid) node.uid = *a.uid;
    if (a.gid) node.gid = *a.gid;
    if (a.symlink && !folder) {
      node.kind = NodeKind::kSymlink;
      node.target = *a.symlink;
      node.mode = 0777;
    }
  }
  PG_TRY(placement_.Inherit(view, &node));
  if (node.effective == Placement::kPin) pins_changed_(view) = true;
  PG_TRY(view.index().Insert(&node));
  listing->seen.insert(node.id);
  // the kernel may remember that there was nothing, but not in a folder that was never known
  PG_ASSIGN(Inode * parent, view.Get(listing->folder));
  if (parent->node.listed_at != 0) {
    if (const auto path = view.PathHere(node.id); path.ok())
      view.EmitHappened("store", "appeared", *path);
    view.Emit(Event::NameChanged(listing->folder, node.name));
  }
  return {};
}

Status RemoteMerge::MergeRights(View& view, Inode* inode, bool may_write) {
  if (inode->node.may_write == may_write) return {};
  inode->node.may_write = may_write;
  if (const auto path = view.PathHere(inode->node.id); path.ok())
    view.EmitHappened("store", may_write ? "may be changed" : "may only be read", *path);
  view.Emit(Event::AttributesChanged(inode->node.id));
  shut_out_(view) =
      shut_out_(view) || may_write;  // until now; what waits is tried once this look is over
  return view.Save(inode);
}

Status RemoteMerge::UpdateKnown(View& view, Listing* listing, Inode* inode, const Entry& entry) {
  Node& node = inode->node;
  listing->seen.insert(node.id);
  if (!node.gone()) PG_TRY(MergeRights(view, inode, entry.may_write));
  if (provenance_.recent(view).WasChangedSince(node.id, listing->started))
    return {};  // older than our own change
  if (node.kind == NodeKind::kFolder || node.gone() || node.remote.version == entry.version)
    return {};
  // it may have gone from there already, and this be another: the step finds out
  if (HasMoveAttempt(node)) return {};
  // changed on both sides, or about to be: the upload will find it out, if there is any
  const bool attributes = (node.dirty & kAttributes) && node.pending.tries < kManyAttempts;
  if ((node.dirty & kData) || attributes || inode->writers > 0) return {};
  // an answer to an earlier question, that comes later, has the former one
  provenance_.recent(view).NoteChanged(node.id, listing->started - std::chrono::nanoseconds(1));
  NewVersion(view, inode, entry);
  return view.Save(inode);
}

void RemoteMerge::NewVersion(View& view, Inode* inode, const Entry& entry) {
  Node& node = inode->node;
  contents_.DetachContent(view, inode);
  ++node.generation;
  node.remote.version = entry.version;
  node.size = node.remote.size = entry.size;
  node.mtime = entry.attributes.mtime.value_or(entry.modified);
  node.ctime = options_.clock->Wall();
  node.attributes_known = entry.attributes_known;
  const std::uint32_t own = node.dirty & kAttributes ? node.dirty & kOwn & ~kOwnTime : 0;
  node.dirty = own != 0 ? own | kAttributes : kClean;
  if (node.effective == Placement::kPin) pins_changed_(view) = true;
  if (node.kind == NodeKind::kSymlink) node.kind = NodeKind::kFile;
  if (entry.attributes.symlink) {
    node.kind = NodeKind::kSymlink;
    node.target = *entry.attributes.symlink;
  }
  if (entry.attributes.mode && !(own & kOwnMode)) node.mode = *entry.attributes.mode;
  if (entry.attributes.uid && !(own & kOwnOwner)) node.uid = *entry.attributes.uid;
  if (entry.attributes.gid && !(own & kOwnGroup)) node.gid = *entry.attributes.gid;
  inode->kernel_pages_valid = false;
  if (const auto path = view.PathHere(node.id); path.ok())
    view.EmitHappened("store", "changed", *path);
  view.Emit(Event::ContentChanged(node.id));
}

Status RemoteMerge::EndListing(Listing* listing) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * folder, view.Get(listing->folder));
  if (provenance_.AbsenceIsInconclusive(view, folder->node, listing->started))
    return MovedMeanwhile();
  PG_ASSIGN(const std::vector<NodeId> known, view.index().RemoteChildren(listing->folder));
  for (const NodeId id : known) {
    if (listing->seen.count(id) > 0) continue;
    PG_ASSIGN(Inode * inode, view.Get(id));
    if (provenance_.AbsenceIsInconclusive(view, inode->node, listing->started)) continue;
    PG_TRY(RemoteDeleted(view, inode, listing->started));
  }
  if (folder->node.listed_at == 0) view.Emit(Event::FolderListed(folder->node.id));
  folder->node.listed_at = options_.clock->Wall();
  // where only markers carry them
  if (!listing->marker && !store_->Can().real_folders) folder->node.attributes_known = true;
  health_.NoteSignedIn();
  PG_TRY(view.Save(folder));
  return change.Commit();
}

Error RemoteMerge::MovedMeanwhile() {
  return Error(Code::kBusy, "the folder was moved at the store while it was listed");
}

Status RemoteMerge::RemoteDeleted(View& view, Inode* inode, Steady asked) {
  Node& node = inode->node;
  const auto forget_place = [&node] {
    ForgetRemote(&node);
    node.marker = false;
  };
  if (StepWillResolve(node)) return {};
  // nothing keeps it there but an object of its own, and that is on its way, or may be there
  if (node.kind == NodeKind::kFolder && !node.gone() && (node.dirty & kAttributes) &&
      (inode->upload || node.pending.tries > 0) && !store_->Can().real_folders)
    return {};
  const NodeId folder = node.remote_parent();
  // for listings that began before
  provenance_.recent(view).NoteGone(folder, RemoteName(node), asked);
  if (node.kind == NodeKind::kFolder) {
    // what the store had in it, wherever that is here; not what was moved into it here
    PG_ASSIGN(const std::vector<NodeId> inside, view.index().RemoteChildren(node.id));
    for (const NodeId id : inside) {
      PG_ASSIGN(Inode * child, view.Get(id));
      if (provenance_.AbsenceIsInconclusive(view, child->node, asked) ||
          StepWillResolve(child->node))
        return {};  // it is there after all
      PG_TRY(RemoteDeleted(view, child, asked));
    }
  }
  health_.ClearFault(node.id);  // or never will
  // what is on its way into it, or deeper, makes it anew, and has to be found there
  bool into = false;
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(const NodeId tried, view.index().AnyAttemptIn(node.id));
    PG_ASSIGN(const std::vector<NodeId> deeper, view.index().RemoteChildren(node.id));
    into = tried != kNoNode || !deeper.empty();
  }
  if (node.gone()) {  // deleted on both sides
    // by its own step, after that; one that is under way would remove what is made here meanwhile
    if (into || inode->upload) return {};
    const bool named = node.kind == NodeKind::kFolder && !node.name.empty();
    const std::string name = KeyToName(RemoteName(node));
    PG_TRY(view.index().Delete(node.id));
    if (inode->opens == 0) view.inodes().erase(node.id);
    return named ? ReleaseName(view, folder, name) : Status();
  }
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(const bool kept, view.index().HasChildren(node.id));
    if (node.remote.place ==
        RemotePlace::kMoved) {  // its move brings what is on its way to the old place
      PG_ASSIGN(const bool on_its_way, provenance_.HasAttemptBelow(view, node.id));
      if (on_its_way) return {};
    }
    if (kept || (node.dirty & kAttributes) || node.remote.place == RemotePlace::kMoved) {
      forget_place();
      return view.QueueChange(inode);
    }
  } else if (node.dirty & kData) {
    forget_place();
    return view.QueueChange(inode);
  }
  const NodeId parent = node.parent;
  const std::string name = node.name;
  if (const auto path = view.PathHere(node.id); path.ok())
    view.EmitHappened("store", "vanished", *path);
  view.Emit(Event::NameChanged(parent, name));
  if (into) {  // its place is known until nothing is left in it; that is no deletion of anybody's
    UnlinkLocally(&node);
    node.name.clear();
    return view.QueueChange(inode);
  }
  PG_TRY(provenance_.DisownTombstones(view, node.id));
  contents_.DetachContent(view, inode);
  const bool folder_went = node.kind == NodeKind::kFolder;
  node.parent = kNoNode;
  forget_place();
  PG_TRY(view.index().Delete(node.id));
  if (inode->opens == 0 && inode->lookups == 0) view.inodes().erase(node.id);
  return folder_went ? ReleaseName(view, parent, name) : Status();
}

Status RemoteMerge::ReleaseName(View& view, NodeId parent, const std::string& name) {
  PG_ASSIGN(Inode * file, view.Find(parent, BesideFolder(name)));
  PG_ASSIGN(const Inode* taken, view.Find(parent, name));
  if (file == nullptr || taken != nullptr) return {};
  Node& node = file->node;
  if (node.remote.place != RemotePlace::kEncoded || node.remote.name != NameToKey(name)) return {};
  const std::string marked = std::exchange(node.name, name);
  SetRemote(&node, parent, NameToKey(name));
  PG_TRY(view.Save(file));
  view.Emit(Event::NameChanged(parent, marked));
  view.Emit(Event::NameChanged(parent, name));
  return {};
}

}  // namespace pargeter
