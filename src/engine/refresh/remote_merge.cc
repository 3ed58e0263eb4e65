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

Status RemoteMerge::TakePage(Listing* listing, const std::vector<Entry>& entries, bool may_write) {
  View view(&tree_);
  view.Trim();
  Change change(&view);
  PG_ASSIGN(Live * folder, view.GetFolder(listing->folder));
  if (provenance_.MayBeElsewhere(view, folder->node, listing->started)) return MovedMeanwhile();
  PG_TRY(TakeRole(view, folder, may_write));
  for (const Entry& entry : entries) PG_TRY(TakeEntry(view, listing, entry));
  PG_TRY(change.Commit());
  tree_.NotifyAll();
  return {};
}

// What the store said of one name, asked for at `asked`. A listing of its folder that is under way
// may know less of it. (Of a folder that was known that may say what is in it.)
Status RemoteMerge::TakeOne(View& view, NodeId folder, const Entry& entry, Steady asked) {
  const bool is_folder = entry.kind == Kind::kFolder;
  PG_ASSIGN(const auto known, facts_.NodeThere(view, folder, entry.name, is_folder));
  Listing one;
  one.folder = folder;
  one.started = asked;
  PG_TRY(TakeEntry(view, &one, entry));
  if (!known || !is_folder)
    for (const NodeId id : one.seen) provenance_.acked_(view)[id] = options_.clock->Now();
  return {};
}

Status RemoteMerge::TakeEntry(View& view, Listing* listing, const Entry& entry) {
  const bool folder = entry.kind == Kind::kFolder;
  if (listing->folder == kRootId && entry.name == kRulesName) return {};
  if (folder && entry.marker && entry.name.empty()) {
    PG_ASSIGN(Live * live, view.Get(listing->folder));
    listing->marker = true;
    if (!live->node.marker) {
      live->node.marker = true;
      // others made it, and it may say more than that the folder is there
      if (!(live->node.dirty & kAttributes)) live->node.attributes_known = false;
      PG_TRY(view.Save(live));
    }
    return {};
  }
  // the node that the store has under this name, wherever it is here
  const std::string name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(Live * here, view.Find(listing->folder, name));
  if (here != nullptr && here->node.there == There::kSame &&
      (here->node.kind == NodeKind::kFolder) == folder) {
    return TakeKnown(view, listing, here, entry);
  }
  PG_ASSIGN(std::optional<Node> placed,
            view.index().FindThere(listing->folder, entry.name, folder));
  if (placed) return TakeKnown(view, listing, view.Adopt(std::move(*placed)), entry);
  // only now: a file on its way to another's place may stand under such a name for a while
  if (IsOwnScratchName(entry.name)) return NoteLeftover(view, listing->folder, entry);
  PG_ASSIGN(const NodeId tried, view.index().FindTried(listing->folder, entry.name));
  if (tried != kNoNode) return {};  // perhaps a half-done step of ours: it is cleared up first
  const auto gone = provenance_.removed_(view).find({listing->folder, entry.name});
  if (gone != provenance_.removed_(view).end() && gone->second >= listing->started)
    return {};  // seen just before we deleted it
  return TakeNew(view, listing, entry);
}

// A process that was killed may have left a short-lived object. The store's clock may be wrong:
// what looks old goes only if it has not changed a while later, either.
Status RemoteMerge::NoteLeftover(View& view, NodeId folder, const Entry& entry) {
  const bool old = entry.modified > 0 && entry.modified + kOldScratch < options_.clock->Wall();
  if (!old || entry.kind == Kind::kFolder || options_.read_only ||
      provenance_.IsAsideName(entry.name) ||  // a file on its way, of any machine
      leftovers_(view).size() >= kManyLeftovers)
    return {};
  PG_ASSIGN(const std::string path, view.FolderKey(folder));
  leftovers_(view).try_emplace(path + entry.name, Leftover{entry.version, options_.clock->Now()});
  return {};
}

Status RemoteMerge::TakeNew(View& view, Listing* listing, const Entry& entry) {
  Node node;
  const bool folder = entry.kind == Kind::kFolder;
  node.kind = folder ? NodeKind::kFolder : NodeKind::kFile;
  node.parent = listing->folder;
  node.name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(Live * taken, view.Find(listing->folder, node.name));
  if (taken != nullptr) {
    const bool taken_folder = taken->node.kind == NodeKind::kFolder;
    if (folder == taken_folder)
      return {};  // ours waits under that name: its upload will meet this one
    if (folder) {
      // the folder keeps the name, the file stands beside it
      const std::string old = taken->node.name;
      taken->node.name = BesideFolder(old);
      PG_ASSIGN(const Live* beside, view.Find(listing->folder, taken->node.name));
      if (beside != nullptr) {  // another stands there already
        PG_ASSIGN(taken->node.name, facts_.NameBeside(view, listing->folder, old));
      }
      if (taken->node.there == There::kSame) SetThere(&taken->node, listing->folder, entry.name);
      PG_TRY(view.Save(taken));
      view.Emit(Event::NameChanged(listing->folder, old));
    } else {
      node.name = ShortenName(BesideFolder(node.name));
      PG_ASSIGN(Live * beside, view.Find(listing->folder, node.name));
      if (beside != nullptr) return {};
    }
  }
  SetThere(&node, listing->folder, entry.name);
  node.version = entry.version;
  node.size = node.there_size = entry.size;
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
  PG_ASSIGN(Live * parent, view.Get(listing->folder));
  if (parent->node.listed_at != 0) {
    if (const auto path = view.PathHere(node.id); path.ok())
      view.EmitHappened("store", "appeared", *path);
    view.Emit(Event::NameChanged(listing->folder, node.name));
  }
  return {};
}

// What the account may do there has changed.
Status RemoteMerge::TakeRole(View& view, Live* live, bool may_write) {
  if (live->node.may_write == may_write) return {};
  live->node.may_write = may_write;
  if (const auto path = view.PathHere(live->node.id); path.ok())
    view.EmitHappened("store", may_write ? "may be changed" : "may only be read", *path);
  view.Emit(Event::AttributesChanged(live->node.id));
  shut_out_(view) =
      shut_out_(view) || may_write;  // until now; what waits is tried once this look is over
  return view.Save(live);
}

Status RemoteMerge::TakeKnown(View& view, Listing* listing, Live* live, const Entry& entry) {
  Node& node = live->node;
  listing->seen.insert(node.id);
  if (!node.gone()) PG_TRY(TakeRole(view, live, entry.may_write));
  const auto acked = provenance_.acked_(view).find(node.id);
  if (acked != provenance_.acked_(view).end() && acked->second >= listing->started)
    return {};  // older than our own change
  if (node.kind == NodeKind::kFolder || node.gone() || node.version == entry.version) return {};
  // it may have gone from there already, and this be another: the step finds out
  if (MoveWasTried(node)) return {};
  // changed on both sides, or about to be: the upload will find it out, if there is any
  const bool attributes = (node.dirty & kAttributes) && node.attempts < kManyAttempts;
  if ((node.dirty & kData) || attributes || live->writers > 0) return {};
  // an answer to an earlier question, that comes later, has the former one
  Steady& told = provenance_.acked_(view)[node.id];
  told = std::max(told, listing->started - std::chrono::nanoseconds(1));
  NewVersion(view, live, entry);
  return view.Save(live);
}

// Another version is at the store, and no content of ours waits: take it. A mode or owner set here
// is set for it too; a time was that of the other.
void RemoteMerge::NewVersion(View& view, Live* live, const Entry& entry) {
  Node& node = live->node;
  contents_.DropContent(view, live);
  node.version = entry.version;
  node.size = node.there_size = entry.size;
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
  live->fresh_pages = false;
  if (const auto path = view.PathHere(node.id); path.ok())
    view.EmitHappened("store", "changed", *path);
  view.Emit(Event::ContentChanged(node.id));
}

Status RemoteMerge::EndListing(Listing* listing) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * folder, view.Get(listing->folder));
  if (provenance_.MayBeElsewhere(view, folder->node, listing->started)) return MovedMeanwhile();
  PG_ASSIGN(const std::vector<NodeId> known, view.index().ThereChildren(listing->folder));
  for (const NodeId id : known) {
    if (listing->seen.count(id) > 0) continue;
    PG_ASSIGN(Live * live, view.Get(id));
    if (provenance_.MayBeElsewhere(view, live->node, listing->started)) continue;
    PG_TRY(VanishedThere(view, live, listing->started));
  }
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

// The store did not have it at `asked`. Work that waits comes back as new; the rest goes here too.
Status RemoteMerge::VanishedThere(View& view, Live* live, Steady asked) {
  Node& node = live->node;
  const auto forget_place = [&node] {
    node.there = There::kAbsent;
    node.there_parent = kNoNode;
    node.there_name.clear();
    node.version.clear();
    node.marker = false;
  };
  if (StepFindsOut(node)) return {};
  // nothing keeps it there but an object of its own, and that is on its way, or may be there
  if (node.kind == NodeKind::kFolder && !node.gone() && (node.dirty & kAttributes) &&
      (live->upload || node.attempts > 0) && !store_->Can().real_folders)
    return {};
  const NodeId folder = node.remote_parent();
  Steady& gone_at =
      provenance_.removed_(view)[{folder, ThereName(node)}];  // for listings that began before
  gone_at = std::max(gone_at, asked);
  if (node.kind == NodeKind::kFolder) {
    // what the store had in it, wherever that is here; not what was moved into it here
    PG_ASSIGN(const std::vector<NodeId> inside, view.index().ThereChildren(node.id));
    for (const NodeId id : inside) {
      PG_ASSIGN(Live * child, view.Get(id));
      if (provenance_.MayBeElsewhere(view, child->node, asked) || StepFindsOut(child->node))
        return {};  // it is there after all
      PG_TRY(VanishedThere(view, child, asked));
    }
  }
  health_.ClearFault(node.id);  // or never will
  // what is on its way into it, or deeper, makes it anew, and has to be found there
  bool into = false;
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(const NodeId tried, view.index().AnyTriedIn(node.id));
    PG_ASSIGN(const std::vector<NodeId> deeper, view.index().ThereChildren(node.id));
    into = tried != kNoNode || !deeper.empty();
  }
  if (node.gone()) {  // deleted on both sides
    // by its own step, after that; one that is under way would remove what is made here meanwhile
    if (into || live->upload) return {};
    const bool named = node.kind == NodeKind::kFolder && !node.name.empty();
    const std::string name = KeyToName(ThereName(node));
    PG_TRY(view.index().Delete(node.id));
    if (live->opens == 0) view.inodes().erase(node.id);
    return named ? GiveNameBack(view, folder, name) : Status();
  }
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(const bool kept, view.index().HasChildren(node.id));
    if (node.there == There::kElsewhere) {  // its move brings what is on its way to the old place
      PG_ASSIGN(const bool on_its_way, provenance_.WasTriedBelow(view, node.id));
      if (on_its_way) return {};
    }
    if (kept || (node.dirty & kAttributes) || node.there == There::kElsewhere) {
      forget_place();
      return view.AddIntent(live);
    }
  } else if (node.dirty & kData) {
    forget_place();
    return view.AddIntent(live);
  }
  const NodeId parent = node.parent;
  const std::string name = node.name;
  if (const auto path = view.PathHere(node.id); path.ok())
    view.EmitHappened("store", "vanished", *path);
  view.Emit(Event::NameChanged(parent, name));
  if (into) {  // its place is known until nothing is left in it; that is no deletion of anybody's
    TakeOut(&node);
    node.name.clear();
    return view.AddIntent(live);
  }
  PG_TRY(provenance_.LeaveThem(view, node.id));
  contents_.DropContent(view, live);
  const bool folder_went = node.kind == NodeKind::kFolder;
  node.parent = kNoNode;
  forget_place();
  PG_TRY(view.index().Delete(node.id));
  if (live->opens == 0 && live->lookups == 0) view.inodes().erase(node.id);
  return folder_went ? GiveNameBack(view, parent, name) : Status();
}

// A file stood beside a folder of its name, which is no more.
Status RemoteMerge::GiveNameBack(View& view, NodeId parent, const std::string& name) {
  PG_ASSIGN(Live * file, view.Find(parent, BesideFolder(name)));
  PG_ASSIGN(const Live* taken, view.Find(parent, name));
  if (file == nullptr || taken != nullptr) return {};
  Node& node = file->node;
  if (node.there != There::kSpelled || node.there_name != NameToKey(name)) return {};
  const std::string marked = std::exchange(node.name, name);
  SetThere(&node, parent, NameToKey(name));
  PG_TRY(view.Save(file));
  view.Emit(Event::NameChanged(parent, marked));
  view.Emit(Event::NameChanged(parent, name));
  return {};
}

}  // namespace pargeter
