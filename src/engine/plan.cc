// Engine: what has to happen for one node next. All under the tree lock. (What it has to wait for:
// blockers.cc.)
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/text.h"
#include "base/units.h"
#include "engine/engine.h"
#include "engine/job.h"
#include "engine/sent.h"
#include "engine/tree/naming.h"

namespace pargeter {

namespace {
// A file held open for writing goes up after such a rest (IsBeingWritten).
constexpr Duration kOpenRest(30000), kShortRest(1000), kMostPatience(3600'000);
constexpr std::uint64_t kPatienceFor = 64 * kMiB;  // as long again for each
constexpr Duration kDoubtLasts(200), kLongestLocalWait(2000);
constexpr int kAnothers = 11;  // times as long as a request may be late: half a minute, and some
constexpr std::uint64_t kAnywhere = ~0ull;
constexpr std::string_view kAside = "aside-";
}  // namespace

Status Engine::PlanJob(View& view, Job* job) {
  PG_ASSIGN(Live * live, view.Get(job->id));
  const auto wait = [job](Duration delay, std::string why) {
    job->postponed = true;
    job->delay = delay;
    job->longest = std::max(delay, kLongestLocalWait);
    job->why = std::move(why);
  };
  job->node = live->node;
  const Node& node = job->node;
  if (node.there != There::kAbsent) {
    PG_ASSIGN(job->there_path, view.TherePath(node));
  }
  if (node.gone() && live->opens + live->old_opens > 0) {  // whoever has it open may still read it
    wait(Duration(1000), "a program has the deleted file open");
    return {};
  }
  if (IsHeld(view, node) && !IsToBeTakenBack(node) && !HasParts(node.upload)) {
    job->for_person = true;
    wait(Duration(3600'000), "the deletion is held back");
    return {};
  }
  if (node.gone() && node.kind != NodeKind::kFolder && UntilCounted(view).count() > 0) {
    wait(UntilCounted(view), "deletions are counted before any of them is sent");
    return {};
  }
  bool goes = Goes(node);
  PG_ASSIGN(const std::optional<Blocker> blocker, BlockerOf(view, node));
  if (blocker && blocker->why == Blocker::Why::kDoubt) {  // only for a while: it looks again
    wait(kDoubtLasts, "the outcome of a folder's move above it is not known yet");
    return {};
  }
  if (IsToBeTakenBack(node)) {
    if (!blocker) return PlanTakingBack(view, job, live);
    job->postponed = true;
    job->behind = blocker->id;
    return {};
  }
  if (blocker) {
    // (a deleted folder waits until what moves out of it is out)
    const bool stays = node.gone() && node.kind == NodeKind::kFolder;
    PG_ASSIGN(job->aside, stays ? Result<bool>(false) : WaitsForItself(view, node.id, *blocker));
    if (!job->aside) {
      job->postponed = true;
      job->behind = blocker->id;
      return NoteWaiting(view, live, blocker->id);
    }
  }
  if (respelled_(view).count(node.id) > 0) {
    const bool in_the_way = Goes(node) && node.there == There::kElsewhere &&
                            node.there_parent == node.parent &&
                            node.there_name != AsideName(node.id);
    if (in_the_way)
      job->aside = true;
    else
      respelled_(view).erase(node.id);
  }
  if (IsBeingWritten(live)) {
    wait(std::min(Duration(1000), options_.open_patience), "a program is writing the file");
    return {};
  }
  if (goes && !job->aside && node.there == There::kAbsent) {
    PG_ASSIGN(const std::optional<Node> held, HeldFolderAt(view, node));
    if (held) {
      PG_TRY(TakePlace(view, live, *held));
      job->node = live->node;
      PG_ASSIGN(job->there_path, view.TherePath(node));
      goes = false;
    }
  }
  live->upload = job->call.cancel;  // under way: whoever wants its place waits
  live->upload_of = node.generation;
  live->upload_end = kAnywhere;
  live->held_since = {};
  if (node.gone()) return {};
  PG_TRY(PlanPlace(view, job, live));
  // (nobody waits for an empty beginning)
  if (job->content && node.copy_of.empty() && job->size > 0) live->upload_end = job->size;
  if (!goes) return {};
  if (node.tried_parent == job->parent && node.tried_name == job->key) return {};
  if (node.tried_parent != kNoNode) return PlanTakingBack(view, job, live);
  job->first_try = true;
  live->node.tried_parent = job->parent;
  live->node.tried_name = job->key;
  PG_TRY(view.Save(live));
  // what stands under a name that nobody sees is not forgotten, not even in a power cut
  return job->aside ? view.Sync() : Status();
}

// What waits for a person says so.
Status Engine::NoteWaiting(View& view, Live* live, NodeId behind) {
  PG_ASSIGN(const Live* other, view.Get(behind));
  if (!IsHeld(view, other->node)) return {};
  std::string why = fmt::format("the store has {} there, whose deletion is held back",
                                other->node.kind == NodeKind::kFolder ? "a folder" : "a file");
  if (live->node.error == why) return {};
  live->node.error = std::move(why);
  return view.Save(live);
}

// Held open for writing, and without the rest in which it would go up. After a while a short one
// will do, and then none: what is written behind that which goes up, as to a log, lets it. It goes
// up as a whole each time: a large one is waited for longer.
bool Engine::IsBeingWritten(Live* live) const {
  const Node& node = live->node;
  // (whoever has a copy made is waiting for it)
  if (node.gone() || !node.copy_of.empty() || live->writers == 0) return false;
  const Steady now = options_.clock->Now();
  if (live->held_since == Steady{}) live->held_since = now;
  const auto times = 1 + static_cast<std::int64_t>(node.size / kPatienceFor);
  const Duration patience = std::min(options_.open_patience * times, kMostPatience);
  const auto held = now - live->held_since;
  const Duration rest = held < patience       ? kOpenRest
                        : held < 2 * patience ? kShortRest
                                              : Duration(0);
  return now - live->last_write < rest;
}

bool Engine::Goes(const Node& node) {
  return !node.gone() && (node.there == There::kAbsent || node.there == There::kElsewhere);
}

// It was tried, or has been, where it is not meant to be any more.
bool Engine::IsToBeTakenBack(const Node& node) const {
  const bool on_its_way =
      Goes(node) && ((node.tried_parent == node.parent && node.tried_name == KeyPart(node)) ||
                     (node.tried_parent == kRootId && node.tried_name == AsideName(node.id)));
  return node.tried_parent != kNoNode && !on_its_way;
}

// Where the node goes, what is there now, and what goes with it.
Status Engine::PlanPlace(View& view, Job* job, Live* live) {
  const Node& node = live->node;
  if (job->aside) {
    job->parent = kRootId;
    job->key = job->path = AsideName(node.id);
    job->only_if = Precondition::Anything();  // nobody else uses that name
  } else {
    job->parent = node.parent;
    job->key = KeyPart(node);
    PG_ASSIGN(const std::string folder, view.FolderKey(node.parent));
    job->path = folder + job->key;
    for (NodeId up = node.parent; up != kRootId;) {
      PG_ASSIGN(const Live* above, view.Get(up));
      const Node& one = above->node;
      const NodeId in = one.remote_parent();
      job->above.push_back({one.id, in, ThereName(one)});
      up = in;
    }
    job->only_if = node.there == There::kSame || node.there == There::kSpelled
                       ? Precondition::Is(node.version)
                       : Precondition::Absent();
    PG_ASSIGN(std::optional<Node> other,
              view.index().FindThere(node.parent, job->key, node.kind == NodeKind::kFolder));
    if (other && other->id != node.id && other->gone()) {
      job->occupant = other->id;
      job->only_if = Precondition::Is(other->version);
    }
  }
  Attributes& a = job->attributes;
  a.mode = node.mode;
  a.mtime = node.mtime;
  if (node.uid >= 0) a.uid = static_cast<std::uint32_t>(node.uid);
  if (node.gid >= 0) a.gid = static_cast<std::uint32_t>(node.gid);
  if (node.kind == NodeKind::kSymlink) a.symlink = node.target;
  a.origin = OriginOf(node.id);
  job->size = node.kind == NodeKind::kSymlink ? 0 : node.size;
  if (node.kind == NodeKind::kFile && (node.dirty & kData)) {
    PG_ASSIGN(job->content, ContentOf(view, live));
    const Lock lock(job->content->mu);
    job->content->same_until = job->content->about_to_change > 0 ? 0 : ~0ull;
  }
  return {};
}

// A former attempt at another place may have come to something: that goes first.
Status Engine::PlanTakingBack(View& view, Job* job, Live* live) {
  Node& node = live->node;
  const auto folder = view.FolderKey(node.tried_parent);
  if (folder.ok()) {
    job->tried_path = *folder + node.tried_name;
    return {};
  }
  node.tried_parent = kNoNode;  // its folder is gone from the store, and what was tried with it
  node.tried_name.clear();
  job->postponed = true;
  return view.Save(live);
}

std::string Engine::AsideName(NodeId id) const {
  return fmt::format("{}{}{}", kScratchPrefix, kAside, OriginOf(id));
}

bool Engine::IsAsideName(std::string_view name) {
  return IsOwnScratchName(name) && name.substr(kScratchPrefix.size(), kAside.size()) == kAside;
}

std::string Engine::OriginOf(NodeId id) const { return fmt::format("{}.{}", own_id_, id); }

// The node of that origin; kNoNode: another machine's, or a program's that says nothing of it.
NodeId Engine::WrittenBy(const std::string& origin) const {
  if (origin.compare(0, own_id_.size() + 1, own_id_ + ".") != 0) return kNoNode;
  return std::strtoll(origin.c_str() + own_id_.size() + 1, nullptr, 10);
}

bool Engine::SignTells(const Node& node, const std::string& place) const {
  return WrittenBy(WriterOf(node)) > last_of_cut_ || HasParts(node.upload) ||
         AnythingSentTo(node.upload, place);
}

// Node::upload that lets our sign tell, wherever this node may have been sent.
std::string Engine::WithAnything(const Node& node) {
  std::vector<std::string> places;
  if (node.there != There::kAbsent) places.push_back(PlaceThere(node));
  if (Goes(node)) places.push_back(PlaceIn(node.parent, KeyPart(node)));
  if (node.tried_parent != kNoNode) places.push_back(PlaceIn(node.tried_parent, node.tried_name));
  std::string upload = HasParts(node.upload) ? "" : node.upload;
  for (const std::string& place : places) upload = WithSent(upload, place, kAnything);
  return upload;
}

// Without the lock: did a former attempt of this node make what stands there? An upload says so; a
// copy by the store looks like its original.
Result<bool> Engine::MadeBy(const Job& job, const Entry& made) {
  if (job.node.dirty & kUnsure) return false;  // the better one, perhaps
  const bool tried = !job.tried_path.empty();
  const std::string place =
      tried ? PlaceIn(job.node.tried_parent, job.node.tried_name) : job.Place();
  bool sent = made.attributes.origin == OriginOf(job.id) && SignTells(job.node, place);
  if (!sent) {
    PG_ASSIGN(sent, WasSent(job.node, place, tried ? job.tried_path : job.path, made, job.call));
  }
  if (sent) return IsWhatIsKnown(job, made);
  if (job.there_path.empty() || !MayBeCopy(job.node.version, job.node.there_size, made))
    return false;
  PG_ASSIGN(const std::optional<Entry> original, store_->LookIfThere(job.there_path, job.call));
  if (!original || original->version != job.node.version) return false;
  return IsCopy(job, "", job.there_path, original->version, original->size, made);
}

// What only moves has the version that is known, wherever it is. Where it was sent and another one
// stands, a power cut has taken the memory of that: neither is to go for the other.
Result<bool> Engine::IsWhatIsKnown(const Job& job, const Entry& made) {
  const Node& node = job.node;
  const bool moves = node.there == There::kElsewhere && !(node.dirty & (kData | kTriedData)) &&
                     node.copy_of.empty();
  if (!moves || made.version == node.version) return true;
  return IsCopy(job, "", job.there_path, node.version, node.there_size, made);
}

static std::pair<std::string, std::string> Parted(const std::string& path) {
  const auto slash = path.rfind('/') + 1;  // 0 where there is none
  return {path.substr(0, slash), path.substr(slash)};
}

// Without the lock. The sign of it: the store answers for a name that it does not list, beside the
// one that it does.
Result<bool> Engine::IsItself(const Job& job, const std::string& path) {
  const auto [folder, name] = Parted(path);
  const auto [old_folder, old_name] = Parted(job.there_path);
  if (job.there_path.empty() || folder != old_folder || name == old_name) return false;
  if (job.node.kind == NodeKind::kFolder && !store_->Can().moves_folders) return false;
  PG_ASSIGN(const std::optional<Entry> answers, store_->LookIfThere(path, job.call));
  if (!answers) return false;
  PG_ASSIGN(const auto listed, ListsNames(folder, name, old_name, job.call));
  return !listed.first && listed.second;
}

Result<std::pair<bool, bool>> Engine::ListsNames(const std::string& folder, const std::string& a,
                                                 const std::string& b, const Call& call) {
  std::pair<bool, bool> found{false, false};
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, store_->List(folder, next, call));
    for (const Entry& entry : page.entries) {
      found.first = found.first || entry.name == a;
      found.second = found.second || entry.name == b;
    }
    next = page.next;
    if (next.empty()) return found;
  }
}

// Two names in one folder: it answers for both, and lists one of them.
Result<bool> Engine::AreOne(const std::string& a, const std::string& b, const Call& call) {
  for (const std::string& path : {a, b}) {
    PG_ASSIGN(const std::optional<Entry> answers, store_->LookIfThere(path, call));
    if (!answers) return false;
  }
  const auto [folder, name] = Parted(a);
  PG_ASSIGN(const auto listed, ListsNames(folder, name, Parted(b).second, call));
  return listed.first != listed.second;
}

// Of what a move has left behind: the path of what moved, if that only got another spelling.
std::string Engine::SpelledNow(View& view, const Node& left) {
  if (!left.name.empty()) return "";
  const auto moved = view.Get(WrittenBy(left.target));
  if (!moved.ok()) return "";
  const Node& node = (*moved)->node;
  if (node.there == There::kAbsent) return "";
  const bool elsewhere = node.there == There::kElsewhere;
  const NodeId folder = elsewhere ? node.there_parent : node.parent;
  if (folder != left.there_parent || !DifferInSpelling(ThereName(node), left.there_name)) return "";
  const auto path = view.TherePath(node);
  return path.ok() ? *path : "";
}

Result<Engine::Outcome> Engine::GoAside(Job* job) {
  const bool folder = job->node.kind == NodeKind::kFolder;
  if (folder ? !store_->Can().moves_folders : !store_->Can().moves_files)
    return Error(Code::kPermission,
                 fmt::format("the store takes {} and {} for one name", Printable(job->there_path),
                             Printable(job->path)),
                 "Give it a name that differs in more than case.");
  View view(&tree_);
  respelled_(view).insert(job->id);
  job->delay = Duration(0);
  return Outcome::kAgain;
}

// Without the lock: was the file itself moved there, and nobody learnt of it? Then it is all that
// the store has of it, and goes back the same way.
Result<bool> Engine::WentThere(const Job& job, const Entry& made) {
  if (!store_->Can().moves_files || job.there_path.empty() || job.there_path == job.tried_path)
    return false;
  if (made.version != job.node.version || made.size != job.node.there_size) return false;
  PG_ASSIGN(const std::optional<Entry> original, store_->LookIfThere(job.there_path, job.call));
  // (others may have put another there since)
  return !original || original->version != job.node.version;
}

// What a former attempt was to make is not there. That request may still be on its way, though it
// was called off, or its process was: looked at once more in a while.
bool Engine::MayBeLate(Job* job) {
  View view(&tree_);
  const Steady now = options_.clock->Now();
  const Steady end = not_there_(view).emplace(job->id, now).first->second + options_.may_be_late;
  if (now >= end) return false;
  job->delay = std::chrono::ceil<Duration>(end - now);
  job->why = "an earlier request without an answer may still arrive at the store";
  return true;
}

// A copy tells nobody who had it made. If that was another machine, which moves the same file to
// the same place, the original will be gone in a moment, and the copy is all that there is then. A
// machine that takes longer looks for its copy before it removes the original (MayBeTheLast).
bool Engine::MayBeAnothers(NodeId id) {
  View view(&tree_);
  const Steady now = options_.clock->Now();
  const Steady seen = copy_seen_(view).emplace(id, now).first->second;
  const bool may = now < seen + kAnothers * options_.may_be_late;
  if (may) not_there_(view).erase(id);  // looked at again as long as that
  return may;
}

// Without the lock: deletes what a former attempt made, if it did.
Result<Engine::Outcome> Engine::TakeBack(Job* job) {
  const Node& node = job->node;
  PG_ASSIGN(const bool itself, IsItself(*job, job->tried_path));
  if (itself) {
    // nothing came of it
  } else if (node.kind == NodeKind::kFolder) {
    PG_TRY(TakeBackFolder(job));
  } else {
    PG_ASSIGN(const bool undone, TakeBackFile(job));
    if (!undone && MayBeLate(job)) return Outcome::kAgain;
    if (!undone) PG_TRY(store_->DropUnfinished(job->tried_path, OriginOf(job->id), job->call));
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(job->id));
  if (job->made && !live->node.copy_of.empty()) return Outcome::kAgain;  // changed meanwhile
  if (job->made || (job->went_on && live->node.version == job->node.version))
    return GoesOnFrom(view, job, live);
  // a listing that began before this may still show it there, and miss it where it is
  removed_(view)[{live->node.tried_parent, live->node.tried_name}] = options_.clock->Now();
  acked_(view)[job->id] = options_.clock->Now();
  left_behind_(view)[{job->id, job->tried_path}] = options_.clock->Now();
  not_there_(view).erase(job->id);
  copy_seen_(view).erase(job->id);
  copied_below_(view).erase(job->id);
  kept_below_(view).erase(job->id);
  const std::string place = PlaceIn(live->node.tried_parent, live->node.tried_name);
  live->node.upload = WithoutSent(live->node.upload, place);
  live->node.tried_parent = kNoNode;
  live->node.tried_name.clear();
  PG_TRY(view.Save(live));
  return Outcome::kAgain;
}

// The store has it where a former attempt brought it.
Result<Engine::Outcome> Engine::GoesOnFrom(View& view, Job* job, Live* live) {
  Change change(&view);
  Node& node = live->node;
  PG_TRY(view.Get(node.tried_parent));  // (gone meanwhile: planned anew)
  if (job->made) {
    PG_ASSIGN(const auto former, view.index().FindThere(node.tried_parent, node.tried_name, false));
    if (former && former->gone() && former->id != node.id) {
      PG_ASSIGN(Live * replaced, view.Get(former->id));
      DropThere(view, replaced, job->tried_path);
    }
    node.version = job->made->version;
    node.there_size = job->made->size;
    node.dirty &= ~kTriedData;
    if (!HasParts(node.upload)) node.upload.clear();
  } else {
    removed_(view)[{node.there_parent, node.there_name}] = options_.clock->Now();
  }
  not_there_(view).erase(job->id);
  copy_seen_(view).erase(job->id);
  node.there = There::kElsewhere;
  node.there_parent = std::exchange(node.tried_parent, kNoNode);
  node.there_name = std::exchange(node.tried_name, {});
  acked_(view)[job->id] = options_.clock->Now();
  if (live->content) {
    const Lock lock(live->content->mu);
    live->content->source.path = job->tried_path;
    if (job->made) live->content->source.version = job->made->version;
  }
  PG_TRY(view.Save(live));
  if (node.kind == NodeKind::kFolder) ReadOnFromNewPlaces(view);
  PG_TRY(change.Commit());
  return Outcome::kAgain;
}

// Without the lock: is the file that a former attempt was to copy not at its old place any more?
// Then others may have moved it to the new one, and what stands there is no copy.
Result<bool> Engine::IsAllThereIs(const Job& job, const Entry& made) {
  const Node& node = job.node;
  const bool needed = !(node.dirty & (kData | kTriedData)) || made.version == node.version;
  if (!needed || job.there_path.empty() || job.there_path == job.tried_path) return false;
  PG_ASSIGN(const std::optional<Entry> original, store_->LookIfThere(job.there_path, job.call));
  return !original || original->version != node.version;
}

// It may have replaced a whole file: it leaves from there as any other, when what comes to its
// place has come, and is not deleted before.
Result<bool> Engine::IsAllTheStoreHas(const Job& job) {
  if (!job.there_path.empty() || !job.node.copy_of.empty()) return false;
  if (job.node.effective == Placement::kLocal) return false;
  View view(&tree_);
  PG_ASSIGN(const auto other,
            view.index().FindThere(job.node.tried_parent, job.node.tried_name, false));
  return !other || other->gone();
}

// False: what stands there is not of that attempt, or nothing does.
Result<bool> Engine::TakeBackFile(Job* planned) {
  const Job& job = *planned;
  for (int round = 0; round < 3; ++round) {  // a store may say another version once, wrongly
    PG_ASSIGN(const std::optional<Entry> made, store_->LookIfThere(job.tried_path, job.call));
    if (!made) return false;
    PG_ASSIGN(const bool moved, WentThere(job, *made));
    if (moved) {
      const auto back = store_->MoveFile(job.tried_path, made->version, job.there_path,
                                         Precondition::Absent(), job.call);
      if (!back.ok() && back.error().code != Code::kChanged) return back.error();
      planned->went_on = !back.ok();  // others have put something where it was
      return true;
    }
    PG_ASSIGN(const bool ours, MadeBy(job, *made));
    if (!ours) return false;
    PG_ASSIGN(const bool all, IsAllTheStoreHas(job));
    if (all) {
      planned->made = *made;
      return true;
    }
    PG_ASSIGN(const bool only, IsAllThereIs(job, *made));
    if (only) {  // another version than is known here, or one that is deleted here, just stays
      planned->went_on = !job.node.gone() && made->version == job.node.version;
      return true;
    }
    // (a copy says who wrote its original, and not who had it made)
    const bool sent = made->attributes.origin == OriginOf(job.id) &&
                      (job.node.dirty & (kData | kTriedData)) && made->version != job.node.version;
    if (!sent && MayBeAnothers(job.id)) return false;
    const Status gone = store_->Remove(job.tried_path, Precondition::Is(made->version), job.call);
    if (gone.ok()) return true;
    if (gone.error().code != Code::kChanged) return gone.error();
  }
  return false;
}

}  // namespace pargeter
