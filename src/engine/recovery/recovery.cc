// Recovery: what the end of a former process, or of the machine, has left.
#include "engine/recovery/recovery.h"

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
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::int64_t kForgottenIds = 1 << 20;  // more than are given between two syncs
}  // namespace

// What a crash can leave: files between the two places, rows of files that were deleted while
// open, and presence that was not saved. Pending data is never dropped here. What is found out is
// journalled all at once, so that a start that is cut off is made anew; and the disk has it before
// any file changes, or the next power cut would have the same files judged by what they became.
Status Recovery::Recover() {
  View view(&tree_);
  PG_TRY(ClaimCache(view));
  PG_ASSIGN(const std::string hold, view.index().Meta(Mark::kHoldFrom));
  guard_.hold_from_(view) = std::strtoll(hold.c_str(), nullptr, 10);
  PG_ASSIGN(const std::string boot, view.index().Meta(Mark::kBootId));
  PG_ASSIGN(const std::string synced_at, view.index().Meta(Mark::kSyncedAt));
  contents_.synced_at_(view) = std::strtoll(synced_at.c_str(), nullptr, 10);
  PG_ASSIGN(const std::string round, view.index().Meta(Mark::kSyncedRound));
  contents_.synced_round_(view) = std::strtoll(round.c_str(), nullptr, 10);
  view.index().SetRound(contents_.synced_round_(view) + 1);
  PG_ASSIGN(const std::string names, view.index().Meta(Mark::kNamesSynced));
  facts_.names_synced_(view) = std::strtoll(names.c_str(), nullptr, 10);
  view.index().SkipIntents(facts_.names_synced_(view));  // the numbers of later ones are higher
  PG_ASSIGN(const std::string cut, view.index().Meta(Mark::kLastOfCut));
  provenance_.last_of_cut_ = std::strtoll(cut.c_str(), nullptr, 10);
  const bool power_cut = !boot.empty() && boot != options_.boot_id;
  Change change(&view);
  if (power_cut) PG_TRY(RecoverFromPowerCut(view));
  PG_TRY(MendOrphans(view));
  PG_TRY(RecoverWaiting(view, power_cut));
  if (power_cut) PG_TRY(ForgetLostLocal(view));
  PG_TRY(RecoverHeld(view));
  PG_TRY(view.index().SetMeta(Mark::kBootId, options_.boot_id));
  PG_TRY(change.Commit());
  PG_TRY(view.SyncUnderLock());
  // at once: after a power cut their numbers may be given again
  for (const NodeId id : view.TakeDeleted()) PG_TRY(blocks_->Drop(id, Place::kPending));
  view.inodes().clear();  // rows were changed beside it
  return {};
}

// A cache folder is one drive's, wherever it was carried: numbers mean files of this index only.
Status Recovery::ClaimCache(View& view) {
  PG_ASSIGN(provenance_.own_id_, view.index().Meta(Mark::kDriveId));
  if (provenance_.own_id_.empty()) {
    provenance_.own_id_ = RandomName(8);
    PG_TRY(view.index().SetMeta(Mark::kDriveId, provenance_.own_id_));
    PG_TRY(view.SyncUnderLock());  // what bears this mark must not outlive it
  }
  const std::string mark = options_.cache_folder + "/.drive";
  const auto owner = ReadFile(mark, 256);
  if (owner.ok() && ::pargeter::Trim(*owner) != provenance_.own_id_) {
    return Error(Code::kRefused,
                 fmt::format("{} is the cache of another drive", Printable(options_.cache_folder)),
                 fmt::format("Give {} a folder of its own: pargeter drive change {} --cache-at "
                             "DIR; or delete that one, if its drive is gone.",
                             options_.name, options_.name));
  }
  return owner.ok() ? Status() : WriteFileAtomically(mark, provenance_.own_id_ + "\n", 0600);
}

// Bytes that the file of what waits takes on its disk, holes apart.
std::uint64_t Recovery::BlocksOf(NodeId id) const {
  struct stat info {};
  if (::stat(blocks_->PathOf(id, Place::kPending).c_str(), &info) != 0) return 0;
  return static_cast<std::uint64_t>(info.st_blocks) * 512;
}

// A row whose place at the store is in a folder without a row can be neither moved nor deleted; an
// earlier program could leave such rows. A file with bytes of its own goes up as new, any other row
// is forgotten; the next listing shows what the store has of it.
Status Recovery::MendOrphans(View& view) {
  PG_ASSIGN(const std::vector<NodeId> orphans, view.index().Orphans());
  for (const NodeId id : orphans) {
    PG_ASSIGN(Live * live, view.Get(id));
    Node& node = live->node;
    Log(LogLevel::kWarning, "the place of {} at the store is not known any more: {}",
        node.gone() ? "a deleted file or folder" : Printable(node.name),
        node.gone() ? "its deletion is given up" : "it goes up as new, or is listed again");
    node.there = There::kAbsent;
    node.there_parent = kNoNode;
    node.there_name.clear();
    node.version.clear();
    PG_ASSIGN(const bool needed, view.index().HasChildren(id));
    const bool kept =
        !node.gone() && (needed || (node.dirty & kData) || node.effective == Placement::kLocal);
    if (kept || HasParts(node.upload) || node.tried_parent != kNoNode) {
      PG_TRY(view.AddIntent(live));
      continue;
    }
    contents_.DropContent(view, live);
    PG_TRY(view.index().Delete(id));
    view.inodes().erase(id);
  }
  return {};
}

Status Recovery::RecoverWaiting(View& view, bool power_cut) {
  PG_ASSIGN(std::vector<Node> waiting, view.index().Intents(0, 1 << 30));
  std::unordered_set<NodeId> dirty;
  if (power_cut) PG_TRY(DoubtSigns(view, &waiting));
  for (Node& node : waiting) {
    if (node.dirty & kEmptied) PG_TRY(TakeBackEmptied(view, &node));
    if (node.dirty & kData) dirty.insert(node.id);
    if (!node.copy_of.empty()) contents_.copy_sources_(view).emplace(node.copy_of, node.id);
    if (IsLeftBehind(node))
      provenance_.left_by_(view).emplace(provenance_.WrittenBy(node.target), node.id);
    // first writes journal "dirty", then move the file: finish the move
    if ((node.dirty & kData) && !blocks_->Has(node.id, Place::kPending) &&
        blocks_->Has(node.id, Place::kCache)) {
      PG_TRY(blocks_->Move(node.id, Place::kCache, Place::kPending));
    }
    // without a power cut only a file that was just being cut off is shorter than it should be
    const bool look = power_cut || blocks_->Has(node.id, Place::kPending);
    if (look && (node.dirty & kData) && !node.gone()) PG_TRY(MendPending(view, &node, power_cut));
    view.Push(node.id, node.intent, Duration(0));
  }
  for (const NodeId id : blocks_->List(Place::kPending)) {
    if (dirty.count(id) > 0) continue;
    PG_ASSIGN(auto node, view.index().Get(id));
    if (node && (node->dirty & kData)) {  // local: waits for nothing
      if (!node->gone()) PG_TRY(MendPending(view, &*node, power_cut));
    } else if (!node || node->gone()) {
      view.UnlinkAfterSync(id);
    } else if (power_cut || !blocks_->Move(id, Place::kPending, Place::kCache).ok()) {
      // acknowledged, but not moved back before the end: it is cache now; after a power cut it may
      // as well be a change of which the index knows nothing any more
      PG_TRY(blocks_->Drop(id, Place::kPending));
    }
  }
  return {};
}

// What waited may have been sent already, and is to go for what it is. What waited for nothing, or
// is given up for what it was, has no memory of what came to the store of it.
Status Recovery::DoubtSigns(View& view, std::vector<Node>* waiting) {
  PG_ASSIGN(const std::string all_known, view.index().Meta(Mark::kAllKnown));
  if (!all_known.empty()) return {};
  PG_ASSIGN(provenance_.last_of_cut_, view.index().LastId());
  PG_TRY(view.index().SetMeta(Mark::kLastOfCut, std::to_string(provenance_.last_of_cut_)));
  for (Node& node : *waiting) {
    if (HasParts(node.upload)) continue;
    node.upload = provenance_.WithAnything(node);
    PG_TRY(view.index().Update(node));
  }
  return {};
}

// What is only here waits for nothing, and may have lost its file all the same.
Status Recovery::ForgetLostLocal(View& view) {
  PG_ASSIGN(const auto held, view.index().AllOnDisk());
  for (const auto& [id, bytes] : held) {
    if (blocks_->Has(id, Place::kPending) || blocks_->Has(id, Place::kCache)) continue;
    PG_ASSIGN(auto node, view.index().Get(id));
    if (node && (node->dirty & kData) && node->intent == 0 && !node->gone())
      PG_TRY(MendPending(view, &*node, true));
  }
  return {};
}

Status Recovery::RecoverHeld(View& view) {
  PG_ASSIGN(const auto held, view.index().AllOnDisk());
  for (const auto& [id, bytes] : held) {
    const bool cached = blocks_->Has(id, Place::kCache);
    PG_ASSIGN(auto node, cached ? Result<std::optional<Node>>(std::nullopt) : view.index().Get(id));
    if (!node || (node->dirty & kData)) {
      budget_->Count(bytes);
      continue;
    }
    node->on_disk = 0;
    PG_TRY(view.index().Update(*node));
    PG_TRY(view.index().DropPresence(id));
  }
  PG_ASSIGN(const std::vector<Node> lost, view.index().GoneAndAbsent());
  for (const Node& node : lost) {
    PG_TRY(blocks_->Drop(node.id, Place::kCache));
    PG_TRY(view.index().Delete(node.id));
    view.UnlinkAfterSync(node.id);
  }
  return {};
}

// The machine has started anew, perhaps without warning. What the cache got since the last time
// that everything was synced may be torn, or newer than the index: it is fetched again.
Status Recovery::RecoverFromPowerCut(View& view) {
  // numbers that the index has forgotten are known at the store, as those of writers
  PG_TRY(view.index().SkipIds(kForgottenIds));
  for (const NodeId id : blocks_->List(Place::kCache)) {
    PG_ASSIGN(auto node, view.index().Get(id));
    if (node && (node->dirty & kData)) continue;
    PG_ASSIGN(const Nanos changed, blocks_->ChangedAt(id, Place::kCache));
    PG_ASSIGN(const std::int64_t round, view.index().RoundOf(id));
    if (node && node->on_disk > 0 && changed < contents_.synced_at_(view) &&
        round <= contents_.synced_round_(view))
      continue;
    PG_TRY(blocks_->Drop(id, Place::kCache));
  }
  return {};
}

Result<Recovery::Remains> Recovery::LookAtPending(View& view, const Node& node, bool power_cut) {
  Remains left;
  left.here = blocks_->Has(node.id, Place::kPending);
  left.doubtful = power_cut && !(node.dirty & kSynced);
  left.size = node.size;
  PG_ASSIGN(const std::string serial, view.index().Presence(node.id));
  left.present = RangeSet::Parse(serial);
  if (!left.here) return left;
  PG_ASSIGN(left.length, blocks_->LengthOf(node.id, Place::kPending));
  PG_ASSIGN(const Nanos changed, blocks_->ChangedAt(node.id, Place::kPending));
  PG_ASSIGN(const std::int64_t round, view.index().RoundOf(node.id));
  left.doubtful = left.doubtful &&
                  (changed >= contents_.synced_at_(view) || round > contents_.synced_round_(view));
  left.untouched = changed < node.intent_since;
  const auto ranges = left.present.All();
  left.whole = ranges.empty() || ranges.back().end <= left.length;
  if (!left.doubtful) return left;
  PG_ASSIGN(const bool gaps, TakeOutGaps(node, left.length, &left.present));
  left.whole = left.whole && !gaps;
  if (left.length > node.size && WrittenAnew(node)) {  // after all that the index knows
    left.present.Add({node.size, left.length});
    left.size = left.length;
    left.whole = false;
  }
  return left;
}

// Nothing of it stands on what the store has.
bool Recovery::WrittenAnew(const Node& node) {
  return node.there == There::kAbsent || node.base_size == 0;
}

// A waiting file of which something never reached the disk: what of that stands on the store's
// version is that again, and beyond it the file ends where its last bytes begin, or has zeros. If
// nothing of it reached the disk, and nothing was promised by an fsync, it is again what the store
// has; a file that was wholly written anew stands beside that then, as far as it got: a torn one
// must not replace a whole one. One that the store has not, and of which nothing is here, is gone.
Status Recovery::MendPending(View& view, Node* node, bool power_cut) {
  if (!node->copy_of.empty()) return {};
  PG_ASSIGN(Remains left, LookAtPending(view, *node, power_cut));
  const bool there = node->there != There::kAbsent;
  const bool empty = left.size == 0 && left.length == 0;
  if (empty && !there) return left.doubtful ? MendMade(view, node) : Status();
  // Of what was begun the disk has what it had before, or a part that was synced by the way: no
  // more than the store may have got.
  const bool begun = power_cut && there && (node->dirty & kBegun) && !(node->dirty & kSynced);
  if (left.whole && !left.doubtful && !begun) return {};
  if (!left.whole && power_cut)
    Log(LogLevel::kWarning, "{}: what was written last before the machine went down may be lost",
        Printable(node->name));
  if (!left.here && !there) {
    PG_TRY(ForgetLost(view, *node));
    return SetBeside(view, *node);
  }
  const bool unchanged = left.size == node->there_size && node->base_size == node->there_size;
  const bool nothing = (node->dirty & kBegun) || (empty && !EmptyWhenSynced(view, *node)) ||
                       (left.present.empty() && (!left.whole || unchanged));
  // bytes from before it began to wait may be those of an earlier version, and are not ours
  const bool given_up = !left.here || (left.doubtful && there && (nothing || left.untouched)) ||
                        (begun && left.untouched);
  const bool lost = left.doubtful && there && (given_up || !left.whole);
  if (given_up) {
    left.present.Clear();
    node->size = node->there_size;
    node->dirty &= ~kAllData;
    node->upload = WithoutAnything(node->upload);
    guard_.AskForTime(node);
    PG_TRY(blocks_->Drop(node->id, Place::kPending));
  } else {
    left.present.Remove({left.length, ~0ull >> 1});
    const std::uint64_t base = there ? std::min(node->base_size, left.size) : 0;
    if (!left.whole) node->size = std::max(std::min(left.size, left.length), base);
    if (left.doubtful || begun) node->dirty |= kUnsure;
    if (left.doubtful && !there) ForgetTried(node);
  }
  node->on_disk = std::min(left.present.Bytes(), BlocksOf(node->id));
  PG_TRY(view.index().SavePresence(node->id, left.present.Serialize()));
  PG_TRY(view.index().Update(*node));
  if (lost) PG_TRY(UndoReplacing(view, node));
  const bool torn = left.doubtful && !left.whole && !given_up;
  return torn && WrittenAnew(*node) ? SetBeside(view, *node) : Status();
}

// Else one was about to write to it, for all that is known.
bool Recovery::EmptyWhenSynced(View& view, const Node& node) const {
  return node.ctime < contents_.synced_at_(view);
}

// It is known as it was made, without a byte: the store may have got it whole, and a file that it
// replaces is whole.
Status Recovery::MendMade(View& view, Node* node) {
  node->dirty |= kUnsure;
  ForgetTried(node);
  PG_TRY(view.index().Update(*node));
  return EmptyWhenSynced(view, *node) ? Status() : SetBeside(view, *node);
}

// Parts may have got lost in the midst of it, too; or it was written with gaps, who knows.
Result<bool> Recovery::TakeOutGaps(const Node& node, std::uint64_t length, RangeSet* present) {
  PG_ASSIGN(const RangeSet written, blocks_->WrittenParts(node.id, Place::kPending));
  bool any = false;
  for (const Range& range : present->All()) {
    for (const Range& gap :
         written.Missing({range.begin, std::max(range.begin, std::min(range.end, length))})) {
      any = true;
      const bool stands_on_base = node.there != There::kAbsent && gap.begin < node.base_size;
      if (stands_on_base) present->Remove({gap.begin, std::min(gap.end, node.base_size)});
    }
  }
  return any;
}

// It was opened to be written anew, and its writer did not come to an end: the store's version is
// whole.
Status Recovery::TakeBackEmptied(View& view, Node* node) {
  if (node->gone() || node->there == There::kAbsent) return {};
  for (const auto place : {Place::kPending, Place::kCache}) PG_TRY(blocks_->Drop(node->id, place));
  node->dirty &= ~kAllData;
  guard_.AskForTime(node);
  node->size = node->there_size;
  node->on_disk = 0;
  node->copy_of.clear();
  PG_TRY(view.index().DropPresence(node->id));
  return view.index().Update(*node);
}

// What the store may have got of it is whole, and not taken back for what is left of it here.
// Parts are ended all the same.
void Recovery::ForgetTried(Node* node) {
  node->tried_parent = kNoNode;
  node->tried_name.clear();
  if (!HasParts(node->upload)) node->upload.clear();
}

// It is here no more; at the store, perhaps.
Status Recovery::ForgetLost(View& view, Node node) {
  view.inodes().erase(node.id);
  ForgetTried(&node);
  if (node.upload.empty()) return view.index().Delete(node.id);
  node.parent = kNoNode;
  node.dirty = kClean;
  return view.index().Update(node);
}

// What the store has at the place of a torn file takes the name again. The torn one stands beside
// it, if anything is left of it.
Status Recovery::SetBeside(View& view, const Node& node) {
  if (node.there == There::kAbsent) return BringBackReplaced(view, node);
  Node theirs;
  theirs.parent = node.parent;
  theirs.name = node.name;
  theirs.there = node.there;
  theirs.there_parent = node.there_parent;
  theirs.there_name = node.there_name;
  theirs.version = node.version;
  theirs.size = theirs.there_size = node.there_size;
  theirs.mode = node.mode;
  theirs.mtime = theirs.ctime = node.mtime;
  theirs.attributes_known = false;
  PG_ASSIGN(Live * ours, view.Get(node.id));
  PG_TRY(resolver_.KeepBeside(view, ours));
  if (node.there == There::kElsewhere) {  // it moves there still
    theirs.tried_parent = node.tried_parent;
    theirs.tried_name = node.tried_name;
    theirs.intent = view.index().NextIntent();
    theirs.intent_since = node.intent_since;
    ForgetTried(&ours->node);
    ours->node.there = There::kAbsent;
    ours->node.there_parent = kNoNode;
    ours->node.there_name.clear();
    ours->node.version.clear();
    PG_TRY(view.Save(ours));
  }
  PG_TRY(placement_.Inherit(view, &theirs));
  PG_TRY(view.index().Insert(&theirs));
  view.Touch(theirs.id);
  if (theirs.intent != 0) view.Push(theirs.id, theirs.intent, Duration(0));
  return {};
}

// What the store may have got of one that held the name between is whole: it is not taken back.
Status Recovery::LeaveThere(View& view, const Node& torn) {
  PG_ASSIGN(const NodeId id, view.index().FindTried(torn.parent, KeyPart(torn)));
  PG_ASSIGN(auto between, view.index().Get(id));
  if (!between || id == torn.id || !between->gone()) return {};
  if (between->there == There::kAbsent) return ForgetLost(view, std::move(*between));
  ForgetTried(&*between);
  return view.index().Update(*between);
}

// The whole file that is to go when that one is at its place.
Result<std::optional<Node>> Recovery::ReplacedBy(View& view, const Node& torn) {
  PG_ASSIGN(auto replaced, view.index().FindThere(torn.parent, KeyPart(torn), false));
  // (what a move left behind has no name)
  if (!replaced || !replaced->gone() || replaced->name.empty() || (replaced->dirty & kForGood))
    return std::optional<Node>();
  return replaced;
}

// A new file is torn: the one that it was to replace has the name again.
Status Recovery::BringBackReplaced(View& view, const Node& torn) {
  PG_ASSIGN(auto replaced, ReplacedBy(view, torn));
  if (!replaced) return {};
  PG_TRY(LeaveThere(view, torn));
  PG_ASSIGN(auto left, view.index().Get(torn.id));
  if (left && !left->gone() && left->size == 0) {
    PG_TRY(blocks_->Drop(torn.id, Place::kPending));
    PG_TRY(ForgetLost(view, std::move(*left)));
  } else if (left && !left->gone()) {
    PG_ASSIGN(Live * ours, view.Get(torn.id));
    PG_TRY(resolver_.KeepBeside(view, ours));
  }
  return guard_.BringBack(view, std::move(*replaced));
}

// A file took the place of a whole one, and what it had been written with before is lost: what it
// was without that, often no more than a name that was taken first, does not replace it. Both are
// again where the store has them; what came of a step that was begun is met there as another's.
Status Recovery::UndoReplacing(View& view, Node* torn) {
  if (torn->there != There::kElsewhere) return {};
  PG_ASSIGN(auto replaced, ReplacedBy(view, *torn));
  if (!replaced || !(replaced->dirty & kByWaiting)) return {};
  const auto folder = view.Get(torn->there_parent);
  if (!folder.ok() || (*folder)->node.gone()) return {};
  PG_TRY(LeaveThere(view, *torn));
  ForgetTried(torn);
  const NodeId parent = torn->there_parent;
  const std::string key = torn->there_name;
  torn->name = ShortenName(KeyToName(key));
  PG_ASSIGN(const Live* taken, view.Find(parent, torn->name));
  if (taken != nullptr) {
    PG_ASSIGN(torn->name, facts_.NameBeside(view, parent, torn->name));
  }
  torn->parent = parent;
  SetThere(torn, parent, key);
  PG_TRY(placement_.Inherit(view, torn));
  PG_TRY(view.index().Update(*torn));
  return guard_.BringBack(view, std::move(*replaced));
}

}  // namespace pargeter
