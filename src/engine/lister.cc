// Drive: bringing the store's listings into the index.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "engine/drive.h"
#include "engine/listing.h"
#include "engine/naming.h"

namespace pargeter {

namespace {
constexpr std::size_t kManyVisited = 64, kManyLeftovers = 256;
constexpr Duration kWatchFor(300000);  // after the last visit
constexpr int kSlowly = 6;             // rounds between two folders that nobody visits
constexpr int kManyAttempts = 3;
constexpr Duration kMoveMayTake(5000);  // of a folder that was never listed: who asks waits so long
constexpr Nanos kOldListing = 600ll * 1'000'000'000;
constexpr Nanos kOldScratch = 86400ll * 1'000'000'000;
}  // namespace

bool Drive::IsFresh(NodeId id) {
  const auto it = listed_.find(id);
  return it != listed_.end() && options_.clock->Now() - it->second < limits_.fresh_for;
}

// People look at a few folders and want the truth; programs walk thousands and want speed.
bool Drive::AllowAsking() {
  const Lock lock(pace_mutex_);
  const Steady now = options_.clock->Now();
  if (tokens_at_ == Steady{}) tokens_at_ = now;
  const double seconds = std::chrono::duration<double>(now - tokens_at_).count();
  tokens_ = std::min(8.0, tokens_ + seconds * 2);
  tokens_at_ = now;
  if (tokens_ < 1) return false;
  tokens_ -= 1;
  return true;
}

// That the store did not have it where it was asked for, since `asked`, means nothing: it, or a
// folder that it is in there, may have been moved by a step of ours, or was just then.
bool Drive::MayBeElsewhere(const Node& node, Steady asked) {
  const Capabilities can = provider_->Can();
  for (Node at = node;;) {
    const auto acked = acked_.find(at.id);
    if (acked != acked_.end() && acked->second >= asked) return true;
    if (MayHaveMoved(can, at)) return true;
    const NodeId up = at.there == There::kElsewhere ? at.there_parent : at.parent;
    const auto above = up == kNoNode || up == kRootId ? Result<Live*>(nullptr) : Get(up);
    if (!above.ok() || *above == nullptr) return false;
    at = (*above)->node;
  }
}

// Joins the listing that is under way, or begins one on a thread of its own.
Status Drive::ListFolder(NodeId id, Wait wait, const std::string& until_name) {
  PG_TRY(link_->Check());
  const Steady deadline = options_.clock->Now() + options_.patience;
  bool probe_name = false;
  std::string probe_path;
  {
    Lock tree(tree_mutex_);
    PG_ASSIGN(Live * folder, GetFolder(id));
    // while a folder's move is under way its names stand in two places: not now
    const bool known = folder->node.listed_at != 0;
    const Steady moved_by = std::min(deadline, options_.clock->Now() + kMoveMayTake);
    while (!known && MayBeElsewhere(folder->node, Steady::max())) {
      if (!tree_changed_.WaitUntil(tree_mutex_, moved_by) && options_.clock->Now() >= moved_by)
        return Error(Code::kBusy, "the folder's move is not done at the store yet");
      PG_ASSIGN(folder, GetFolder(id));
    }
    for (NodeId up = id; up != kRootId;) {
      PG_ASSIGN(Live * above, Get(up));
      if (above->node.there == There::kAbsent) return {};
      if (above->node.there == There::kElsewhere && known) return {};
      up = above->node.parent;
      if (up == kNoNode) return Error(Code::kNotFound, "the folder is gone");
    }
    std::shared_ptr<Listing>& slot = listings_[id];
    if (!slot) {
      slot = std::make_shared<Listing>();
      slot->folder = id;
      slot->started = options_.clock->Now();
      PG_ASSIGN(slot->key, FolderKey(id));
      std::thread([this, listing = slot] { RunListing(listing); }).detach();
    }
    const std::shared_ptr<Listing> listing = slot;
    if (wait == Wait::kNo) return {};
    // a known folder is shown as it is known when the store is slow
    const Steady patience =
        known ? std::min(deadline, options_.clock->Now() + Duration(3000)) : deadline;
    while (!listing->done && !(wait == Wait::kFirstPage && listing->first_page)) {
      if (!until_name.empty()) {
        PG_ASSIGN(Live * live, Find(id, until_name));
        if (live != nullptr) return {};
        if (listing->first_page) {  // a large folder: ask for the one name instead of waiting
          probe_name = true;
          PG_ASSIGN(const std::string key, FolderKey(id));
          probe_path = key + NameToKey(until_name);
          break;
        }
      }
      if (!tree_changed_.WaitUntil(tree_mutex_, patience) && options_.clock->Now() >= patience) {
        return Error(Code::kTimeout, "the folder's listing did not come in time");
      }
    }
    if (!probe_name) return listing->error ? Status(*listing->error) : Status();
  }
  const Steady asked = options_.clock->Now();  // what was moved here since is newer than the answer
  const auto entry = AskStore([&](const Cancel& c) { return provider_->Look(probe_path, c); });
  if (!entry.ok()) return entry.error().code == Code::kNotFound ? Status() : Status(entry.error());
  PG_ASSIGN(const bool spelled, IsOtherSpelling(id, until_name, *entry));
  if (spelled) return ListFolder(id, Wait::kAll, "");  // that one tells what it is called
  const Lock tree(tree_mutex_);
  Change change(this);
  PG_ASSIGN(Live * folder, GetFolder(id));
  if (MayBeElsewhere(folder->node, asked)) return MovedMeanwhile();
  PG_TRY(TakeOne(id, *entry, asked));
  return change.Commit();
}

// Of something that is known under a name which the store may take for the same.
Result<bool> Drive::IsOtherSpelling(NodeId folder, const std::string& name, const Entry& entry) {
  const Lock tree(tree_mutex_);
  PG_ASSIGN(const std::vector<std::string> names, index_->NamesThere(folder, entry.version));
  return std::any_of(names.begin(), names.end(), [&](const std::string& other) {
    return DifferInSpelling(KeyToName(other), name);
  });
}

void Drive::RunListing(const std::shared_ptr<Listing>& listing) {
  Status outcome;
  for (std::string next; outcome.ok();) {
    auto page = AskStore([&](const Cancel& c) { return provider_->List(listing->key, next, c); });
    if (page.ok()) {
      outcome = listing->folder == kRootId ? LookForRules(page->entries) : Status();
      if (!outcome.ok()) break;
      outcome = TakePage(listing.get(), page->entries, page->may_write);
      if (!outcome.ok()) break;
      if (page->next.empty()) {
        outcome = EndListing(listing.get());
        break;
      }
      if (page->next == next) {
        outcome = Error(Code::kDamaged, "the store's listing goes round in a circle");
        break;
      }
      next = page->next;
      const Lock tree(tree_mutex_);
      listing->first_page = true;  // and more to come
      tree_changed_.NotifyAll();
    } else {
      outcome = page.error();
    }
  }
  if (!CloseListing(listing.get(), outcome)) return;
  LearnFolder(listing->folder, listing->key);  // nobody waits for that, but the end
  const Lock tree(tree_mutex_);
  --learning_;
  tree_changed_.NotifyAll();
}

// Tells those who wait for it. True: mode and owner of the folder itself are to be learnt yet.
bool Drive::CloseListing(Listing* listing, const Status& outcome) {
  const Lock tree(tree_mutex_);
  if (listing->folder == kRootId || outcome.ok()) NoteAccess(outcome);
  const auto folder = Get(listing->folder);
  if (!outcome.ok() && outcome.error().code == Code::kBusy) {
    // known: shown as it is known
    if (!folder.ok() || (*folder)->node.listed_at == 0) listing->error = outcome.error();
  } else if (!outcome.ok()) {
    listing->error = outcome.error();
    if (outcome.error().code != Code::kCancelled) {
      NoteFault(listing->folder, outcome.error());
      LogAbout(LogLevel::kWarning, {listing->key, NameOf(outcome.error().code)}, "{}",
               outcome.error().what);
    }
  } else {
    listed_[listing->folder] = listing->started;
    WentWell(listing->folder);
  }
  if (std::exchange(pins_changed_, false)) WakePins();
  const bool learn = outcome.ok() && folder.ok() && !(*folder)->node.attributes_known;
  if (learn) ++learning_;
  listing->done = true;
  listings_.erase(listing->folder);
  tree_changed_.NotifyAll();
  return learn;
}

// The rules for all machines stand in the drive's folder: they hold before its names are shown.
Status Drive::LookForRules(const std::vector<Entry>& entries) {
  for (const Entry& entry : entries) {
    if (entry.name != kRulesName) continue;
    const Status taken = TakeSharedRules(entry.version);
    if (taken.ok() ||
        (taken.error().code != Code::kDamaged && taken.error().code != Code::kRefused))
      return taken;
    // as they were: a mount must not depend on what anybody may write there
    const Lock tree(tree_mutex_);
    last_error_ = taken.error().what;
    LogAbout(LogLevel::kError, {kRulesName, NameOf(taken.error().code)}, "{}", taken.error().what);
  }
  return {};
}

Status Drive::TakePage(Listing* listing, const std::vector<Entry>& entries, bool may_write) {
  const Lock tree(tree_mutex_);
  Trim();
  Change change(this);
  PG_ASSIGN(Live * folder, GetFolder(listing->folder));
  if (MayBeElsewhere(folder->node, listing->started)) return MovedMeanwhile();
  PG_TRY(TakeRole(folder, may_write));
  for (const Entry& entry : entries) PG_TRY(TakeEntry(listing, entry));
  PG_TRY(change.Commit());
  tree_changed_.NotifyAll();
  return {};
}

// What the store said of one name, asked for at `asked`. A listing of its folder that is under way
// may know less of it. (Of a folder that was known that may say what is in it.)
Status Drive::TakeOne(NodeId folder, const Entry& entry, Steady asked) {
  const bool is_folder = entry.kind == Kind::kFolder;
  PG_ASSIGN(const auto known, NodeThere(folder, entry.name, is_folder));
  Listing one;
  one.folder = folder;
  one.started = asked;
  PG_TRY(TakeEntry(&one, entry));
  if (!known || !is_folder)
    for (const NodeId id : one.seen) acked_[id] = options_.clock->Now();
  return {};
}

Status Drive::TakeEntry(Listing* listing, const Entry& entry) {
  const bool folder = entry.kind == Kind::kFolder;
  if (listing->folder == kRootId && entry.name == kRulesName) return {};
  if (folder && entry.marker && entry.name.empty()) {
    PG_ASSIGN(Live * live, Get(listing->folder));
    listing->marker = true;
    if (!live->node.marker) {
      live->node.marker = true;
      // others made it, and it may say more than that the folder is there
      if (!(live->node.dirty & kAttributes)) live->node.attributes_known = false;
      PG_TRY(Save(live));
    }
    return {};
  }
  // the node that the store has under this name, wherever it is here
  const std::string name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(Live * here, Find(listing->folder, name));
  if (here != nullptr && here->node.there == There::kSame &&
      (here->node.kind == NodeKind::kFolder) == folder) {
    return TakeKnown(listing, here, entry);
  }
  PG_ASSIGN(std::optional<Node> placed, index_->FindThere(listing->folder, entry.name, folder));
  if (placed) return TakeKnown(listing, Adopt(std::move(*placed)), entry);
  // only now: a file on its way to another's place may stand under such a name for a while
  if (IsOwnScratchName(entry.name)) return NoteLeftover(listing->folder, entry);
  PG_ASSIGN(const NodeId tried, index_->FindTried(listing->folder, entry.name));
  if (tried != kNoNode) return {};  // perhaps a half-done step of ours: it is cleared up first
  const auto gone = removed_.find({listing->folder, entry.name});
  if (gone != removed_.end() && gone->second >= listing->started)
    return {};  // seen just before we deleted it
  return TakeNew(listing, entry);
}

// A process that was killed may have left a short-lived object. The store's clock may be wrong:
// what looks old goes only if it has not changed a while later, either.
Status Drive::NoteLeftover(NodeId folder, const Entry& entry) {
  const bool old = entry.modified > 0 && entry.modified + kOldScratch < options_.clock->Wall();
  if (!old || entry.kind == Kind::kFolder || options_.read_only ||
      IsAsideName(entry.name) ||  // a file on its way, of any machine
      leftovers_.size() >= kManyLeftovers)
    return {};
  PG_ASSIGN(const std::string path, FolderKey(folder));
  leftovers_.try_emplace(path + entry.name, Leftover{entry.version, options_.clock->Now()});
  return {};
}

void Drive::RemoveLeftovers() {
  std::map<std::string, Leftover> due;
  {
    const Lock tree(tree_mutex_);
    const Steady now = options_.clock->Now();
    for (auto it = leftovers_.begin(); it != leftovers_.end();)
      if (auto one = it++; now - one->second.seen >= options_.leftover_for)
        due.insert(leftovers_.extract(one));
  }
  for (const auto& [path, left] : due) {
    const Status removed = provider_->Remove(path, Precondition::Is(left.version), stop_);
    // if not, it is seen again
    if (removed.ok()) Log(LogLevel::kInfo, "removed {}, which was left behind", Printable(path));
  }
}

Status Drive::TakeNew(Listing* listing, const Entry& entry) {
  Node node;
  const bool folder = entry.kind == Kind::kFolder;
  node.kind = folder ? NodeKind::kFolder : NodeKind::kFile;
  node.parent = listing->folder;
  node.name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(Live * taken, Find(listing->folder, node.name));
  if (taken != nullptr) {
    const bool taken_folder = taken->node.kind == NodeKind::kFolder;
    if (folder == taken_folder)
      return {};  // ours waits under that name: its upload will meet this one
    if (folder) {
      // the folder keeps the name, the file stands beside it
      const std::string old = taken->node.name;
      taken->node.name = BesideFolder(old);
      PG_ASSIGN(const Live* beside, Find(listing->folder, taken->node.name));
      if (beside != nullptr) {  // another stands there already
        PG_ASSIGN(taken->node.name, NameBeside(listing->folder, old));
      }
      if (taken->node.there == There::kSame) SetThere(&taken->node, listing->folder, entry.name);
      PG_TRY(Save(taken));
      Tell([id = listing->folder, old](ChangeListener* l) { l->NameChanged(id, old); });
    } else {
      node.name = ShortenName(BesideFolder(node.name));
      PG_ASSIGN(Live * beside, Find(listing->folder, node.name));
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
  PG_TRY(Inherit(&node));
  if (node.effective == Placement::kPin) pins_changed_ = true;
  PG_TRY(index_->Insert(&node));
  listing->seen.insert(node.id);
  // the kernel may remember that there was nothing, but not in a folder that was never known
  PG_ASSIGN(Live * parent, Get(listing->folder));
  if (parent->node.listed_at != 0) {
    if (const auto path = PathHere(node.id); path.ok()) activity_.Add("store", "appeared", *path);
    Tell([id = listing->folder, name = node.name](ChangeListener* l) { l->NameChanged(id, name); });
  }
  return {};
}

// What the account may do there has changed.
Status Drive::TakeRole(Live* live, bool may_write) {
  if (live->node.may_write == may_write) return {};
  live->node.may_write = may_write;
  if (const auto path = PathHere(live->node.id); path.ok())
    activity_.Add("store", may_write ? "may be changed" : "may only be read", *path);
  Tell([id = live->node.id](ChangeListener* l) { l->AttributesChanged(id); });
  shut_out_ = shut_out_ || may_write;  // until now; what waits is tried once this look is over
  return Save(live);
}

Status Drive::TakeKnown(Listing* listing, Live* live, const Entry& entry) {
  Node& node = live->node;
  listing->seen.insert(node.id);
  if (!node.gone()) PG_TRY(TakeRole(live, entry.may_write));
  const auto acked = acked_.find(node.id);
  if (acked != acked_.end() && acked->second >= listing->started)
    return {};  // older than our own change
  if (node.kind == NodeKind::kFolder || node.gone() || node.version == entry.version) return {};
  // it may have gone from there already, and this be another: the step finds out
  if (MoveWasTried(node)) return {};
  // changed on both sides, or about to be: the upload will find it out, if there is any
  const bool attributes = (node.dirty & kAttributes) && node.attempts < kManyAttempts;
  if ((node.dirty & kData) || attributes || live->writers > 0) return {};
  NewVersion(live, entry);
  return Save(live);
}

// Another version is at the store, and no content of ours waits: take it. A mode or owner set here
// is set for it too; a time was that of the other.
void Drive::NewVersion(Live* live, const Entry& entry) {
  Node& node = live->node;
  DropContent(live);
  node.version = entry.version;
  node.size = node.there_size = entry.size;
  node.mtime = entry.attributes.mtime.value_or(entry.modified);
  node.ctime = options_.clock->Wall();
  node.attributes_known = entry.attributes_known;
  const std::uint32_t own = node.dirty & kAttributes ? node.dirty & kOwn & ~kOwnTime : 0;
  node.dirty = own != 0 ? own | kAttributes : kClean;
  if (node.effective == Placement::kPin) pins_changed_ = true;
  if (node.kind == NodeKind::kSymlink) node.kind = NodeKind::kFile;
  if (entry.attributes.symlink) {
    node.kind = NodeKind::kSymlink;
    node.target = *entry.attributes.symlink;
  }
  if (entry.attributes.mode && !(own & kOwnMode)) node.mode = *entry.attributes.mode;
  if (entry.attributes.uid && !(own & kOwnOwner)) node.uid = *entry.attributes.uid;
  if (entry.attributes.gid && !(own & kOwnGroup)) node.gid = *entry.attributes.gid;
  live->fresh_pages = false;
  if (const auto path = PathHere(node.id); path.ok()) activity_.Add("store", "changed", *path);
  Tell([id = node.id](ChangeListener* l) { l->ContentChanged(id); });
}

Status Drive::EndListing(Listing* listing) {
  const Lock tree(tree_mutex_);
  Change change(this);
  PG_ASSIGN(Live * folder, Get(listing->folder));
  if (MayBeElsewhere(folder->node, listing->started)) return MovedMeanwhile();
  PG_ASSIGN(const std::vector<NodeId> known, index_->ThereChildren(listing->folder));
  for (const NodeId id : known) {
    if (listing->seen.count(id) > 0) continue;
    PG_ASSIGN(Live * live, Get(id));
    if (MayBeElsewhere(live->node, listing->started)) continue;
    PG_TRY(VanishedThere(live, listing->started));
  }
  folder->node.listed_at = options_.clock->Wall();
  // where only markers carry them
  if (!listing->marker && !provider_->Can().real_folders) folder->node.attributes_known = true;
  sign_in_error_.clear();
  PG_TRY(Save(folder));
  return change.Commit();
}

Error Drive::MovedMeanwhile() {
  return Error(Code::kBusy, "the folder was moved at the store while it was listed");
}

// The store did not have it at `asked`. Work that waits comes back as new; the rest goes here too.
Status Drive::VanishedThere(Live* live, Steady asked) {
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
      (live->upload || node.attempts > 0) && !provider_->Can().real_folders)
    return {};
  const NodeId folder = node.there == There::kElsewhere ? node.there_parent : node.parent;
  Steady& gone_at = removed_[{folder, ThereName(node)}];  // for listings that began before
  gone_at = std::max(gone_at, asked);
  if (node.kind == NodeKind::kFolder) {
    // what the store had in it, wherever that is here; not what was moved into it here
    PG_ASSIGN(const std::vector<NodeId> inside, index_->ThereChildren(node.id));
    for (const NodeId id : inside) {
      PG_ASSIGN(Live * child, Get(id));
      if (MayBeElsewhere(child->node, asked) || StepFindsOut(child->node))
        return {};  // it is there after all
      PG_TRY(VanishedThere(child, asked));
    }
  }
  WentWell(node.id);  // or never will
  // what is on its way into it, or deeper, makes it anew, and has to be found there
  bool into = false;
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(const NodeId tried, index_->AnyTriedIn(node.id));
    PG_ASSIGN(const std::vector<NodeId> deeper, index_->ThereChildren(node.id));
    into = tried != kNoNode || !deeper.empty();
  }
  if (node.gone()) {  // deleted on both sides
    // by its own step, after that; one that is under way would remove what is made here meanwhile
    if (into || live->upload) return {};
    const bool named = node.kind == NodeKind::kFolder && !node.name.empty();
    const std::string name = KeyToName(ThereName(node));
    PG_TRY(index_->Delete(node.id));
    if (live->opens == 0) live_.erase(node.id);
    return named ? GiveNameBack(folder, name) : Status();
  }
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(const bool kept, index_->HasChildren(node.id));
    if (node.there == There::kElsewhere) {  // its move brings what is on its way to the old place
      PG_ASSIGN(const bool on_its_way, WasTriedBelow(node.id));
      if (on_its_way) return {};
    }
    if (kept || (node.dirty & kAttributes) || node.there == There::kElsewhere) {
      forget_place();
      return AddIntent(live);
    }
  } else if (node.dirty & kData) {
    forget_place();
    return AddIntent(live);
  }
  const NodeId parent = node.parent;
  const std::string name = node.name;
  if (const auto path = PathHere(node.id); path.ok()) activity_.Add("store", "vanished", *path);
  Tell([parent, name](ChangeListener* l) { l->NameChanged(parent, name); });
  if (into) {  // its place is known until nothing is left in it; that is no deletion of anybody's
    TakeOut(&node);
    node.name.clear();
    return AddIntent(live);
  }
  DropContent(live);
  const bool folder_went = node.kind == NodeKind::kFolder;
  node.parent = kNoNode;
  forget_place();
  PG_TRY(index_->Delete(node.id));
  if (live->opens == 0 && live->lookups == 0) live_.erase(node.id);
  return folder_went ? GiveNameBack(parent, name) : Status();
}

// A file stood beside a folder of its name, which is no more.
Status Drive::GiveNameBack(NodeId parent, const std::string& name) {
  PG_ASSIGN(Live * file, Find(parent, BesideFolder(name)));
  PG_ASSIGN(const Live* taken, Find(parent, name));
  if (file == nullptr || taken != nullptr) return {};
  Node& node = file->node;
  if (node.there != There::kSpelled || node.there_name != NameToKey(name)) return {};
  const std::string marked = std::exchange(node.name, name);
  SetThere(&node, parent, NameToKey(name));
  PG_TRY(Save(file));
  Tell([=](ChangeListener* l) {
    l->NameChanged(parent, marked);
    l->NameChanged(parent, name);
  });
  return {};
}

// One node's version seems to have changed: look, and take what is there.
Status Drive::LookAgain(NodeId id) {
  std::string path;
  Steady started;
  Node known;
  {
    const Lock tree(tree_mutex_);
    PG_ASSIGN(Live * live, Get(id));
    known = live->node;
    if (live->node.gone() || live->node.there == There::kAbsent) return {};
    PG_ASSIGN(path, TherePath(live->node));
    started = options_.clock->Now();
  }
  const auto entry = AskStore([&](const Cancel& c) { return provider_->Look(path, c); });
  if (!entry.ok() && entry.error().code != Code::kNotFound) return entry.error();
  bool ours = false;
  if (entry.ok()) {
    PG_ASSIGN(ours, OnlyAttributesDiffer(known, path, *entry, stop_));
  }
  const Lock tree(tree_mutex_);
  PG_ASSIGN(Live * live, Get(id));
  if (MayBeElsewhere(live->node, started)) return {};
  if (ours && live->node.version == known.version && !live->node.gone())
    return AdoptVersion(live, *entry);  // whatever is done with it here meanwhile
  if (live->node.gone() || (live->node.dirty & kData) || live->writers > 0) return {};
  if (!entry.ok() || entry->kind == Kind::kFolder) {
    if (live->node.kind == NodeKind::kFolder) return {};
    Change change(this);
    PG_TRY(VanishedThere(live, started));
    PG_TRY(change.Commit());
    return Error(Code::kStale, "the file was deleted at the store");
  }
  acked_[id] = options_.clock->Now();  // for a listing that is under way
  if (live->node.version == entry->version) return {};
  Change change(this);  // with its former bytes, or not at all
  NewVersion(live, *entry);
  PG_TRY(Save(live));
  return change.Commit();
}

// Folders that people looked at lately are looked at again, so that changes elsewhere show here.
void Drive::WatchLoop() {
  for (int round = 1; !stop_->WaitFor(options_.watch_every); ++round) {
    SavePresenceOfAll();
    SaveWritten();
    bool changed = false;
    {
      const Lock tree(tree_mutex_);
      changed = cache_changed_;
      if (!used_.empty()) SaveUses();
      Trim();
      RemoveDoomed();
    }
    if (const std::uint64_t missing = budget_->Short(); missing > 0) FreeUnused(missing);
    if (changed && round % 6 == 0) SyncEverything();
    std::vector<NodeId> due;
    {
      const Lock tree(tree_mutex_);
      const Steady now = options_.clock->Now();
      for (auto it = visited_.begin(); it != visited_.end();) {
        if (now - it->second > kWatchFor) {
          it = visited_.erase(it);
        } else {
          if (!IsFresh(it->first) && due.size() < kManyVisited) due.push_back(it->first);
          ++it;
        }
      }
      const auto forget_old = [&](auto& map) {
        for (auto it = map.begin(); it != map.end();)
          it = now - it->second > kWatchFor * 2 ? map.erase(it) : std::next(it);
      };
      forget_old(acked_);
      forget_old(just_copied_);
      forget_old(removed_);
      forget_old(left_behind_);
      forget_old(listed_);
    }
    if (link_->Check().ok()) {
      Ignore(FollowMoves());
      RemoveLeftovers();
    }
    if (has_feed_) continue;  // the store says what changed
    if (round % kSlowly == 0 && due.empty()) {
      const Lock tree(tree_mutex_);
      const auto oldest = index_->LongestUnlisted(options_.clock->Wall() - kOldListing);
      if (oldest.ok() && *oldest != kNoNode) due.push_back(*oldest);
    }
    for (const NodeId id : due) {
      if (stop_->cancelled()) return;
      Ignore(ListFolder(id, Wait::kAll, ""));
    }
  }
}

Status Drive::Refresh() {
  std::vector<NodeId> folders = {kRootId};
  {
    const Lock tree(tree_mutex_);
    listed_.clear();
    for (const auto& [id, when] : visited_) folders.push_back(id);
  }
  for (const NodeId id : folders) {
    const Status listed = ListFolder(id, Wait::kAll, "");
    const bool gone = !listed.ok() && (listed.error().code == Code::kNotFound ||
                                       listed.error().code == Code::kStale);
    if (!listed.ok() && !gone) return listed;
  }
  RemoveLeftovers();
  const Lock tree(tree_mutex_);
  RetryWaiting();
  return {};
}

void Drive::NoteAccess(const Status& look) {
  const Code code = look.ok() ? Code::kInternal : look.error().code;
  if (code == Code::kNotFound || code == Code::kPermission || code == Code::kSignIn)
    shut_out_ = true;
  else if (look.ok() && std::exchange(shut_out_, false))
    RetryWaiting();
}

// What kept it may have been mended.
void Drive::RetryWaiting() {
  const auto waiting = index_->Intents(0, 1 << 30);
  if (!waiting.ok()) return;  // each has its own next try
  for (const Node& node : *waiting) Enqueue(node.id, node.intent, Duration(0));
}

}  // namespace pargeter
