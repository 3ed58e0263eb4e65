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
  view.index().SkipSeqs(facts_.names_synced_(view));  // the numbers of later ones are higher
  PG_ASSIGN(const std::string cut, view.index().Meta(Mark::kLastIdBeforeCut));
  provenance_.SetLastIdBeforeCut(std::strtoll(cut.c_str(), nullptr, 10));
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
  PG_ASSIGN(std::string id, view.index().Meta(Mark::kDriveId));
  provenance_.SetOwnId(id.empty() ? RandomName(8) : id);
  if (id.empty()) {
    PG_TRY(view.index().SetMeta(Mark::kDriveId, provenance_.own_id()));
    PG_TRY(view.SyncUnderLock());  // what bears this mark must not outlive it
  }
  const std::string mark = options_.cache_folder + "/.drive";
  const auto owner = ReadFile(mark, 256);
  if (owner.ok() && ::pargeter::Trim(*owner) != provenance_.own_id()) {
    return Error(Code::kRefused,
                 fmt::format("{} is the cache of another drive", Printable(options_.cache_folder)),
                 fmt::format("Give {} a folder of its own: pargeter drive change {} --cache-at "
                             "DIR; or delete that one, if its drive is gone.",
                             options_.name, options_.name));
  }
  return owner.ok() ? Status() : WriteFileAtomically(mark, provenance_.own_id() + "\n", 0600);
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
    PG_ASSIGN(Inode * inode, view.Get(id));
    Node& node = inode->node;
    Log(LogLevel::kWarning, "the place of {} at the store is not known any more: {}",
        node.gone() ? "a deleted file or folder" : Printable(node.name),
        node.gone() ? "its deletion is given up" : "it goes up as new, or is listed again");
    ForgetRemote(&node);
    PG_ASSIGN(const bool needed, view.index().HasChildren(id));
    const bool kept =
        !node.gone() && (needed || (node.dirty & kData) || node.effective == Placement::kLocal);
    if (kept || node.upload_log.multipart() || node.attempt.parent != kNoNode) {
      PG_TRY(view.QueueChange(inode));
      continue;
    }
    contents_.DetachContent(view, inode);
    PG_TRY(view.index().Delete(id));
    view.inodes().erase(id);
  }
  return {};
}

Status Recovery::RecoverWaiting(View& view, bool power_cut) {
  PG_ASSIGN(std::vector<Node> waiting, view.index().PendingNodes(0, 1 << 30));
  std::unordered_set<NodeId> dirty;
  if (power_cut) PG_TRY(DoubtOrigins(view, &waiting));
  for (Node& node : waiting) {
    if (node.dirty & kTruncatedUnflushed) PG_TRY(RollBackTruncated(view, &node));
    if (node.dirty & kData) dirty.insert(node.id);
    if (IsTombstone(node))
      provenance_.recent(view).AddTombstone(provenance_.WrittenBy(node.target), node.id);
    // first writes journal "dirty", then move the file: finish the move
    if ((node.dirty & kData) && !blocks_->Has(node.id, Place::kPending) &&
        blocks_->Has(node.id, Place::kCache)) {
      PG_TRY(blocks_->Move(node.id, Place::kCache, Place::kPending));
    }
    // without a power cut only a file that was just being cut off is shorter than it should be
    const bool look = power_cut || blocks_->Has(node.id, Place::kPending);
    if (look && (node.dirty & kData) && !node.gone()) PG_TRY(MendPending(view, &node, power_cut));
    view.Push(node.id, node.pending.seq, Duration(0));
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
Status Recovery::DoubtOrigins(View& view, std::vector<Node>* waiting) {
  PG_ASSIGN(const std::string all_known, view.index().Meta(Mark::kCleanShutdown));
  if (!all_known.empty()) return {};
  PG_ASSIGN(const NodeId last, view.index().LastId());
  provenance_.SetLastIdBeforeCut(last);
  PG_TRY(view.index().SetMeta(Mark::kLastIdBeforeCut, std::to_string(last)));
  for (Node& node : *waiting) {
    if (node.upload_log.multipart()) continue;
    node.upload_log = provenance_.TrustOriginEverywhere(node);
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
    if (node && (node->dirty & kData) && node->pending.seq == 0 && !node->gone())
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
    node->cached.bytes = 0;
    PG_TRY(view.index().Update(*node));
    PG_TRY(view.index().DropPresence(id));
  }
  PG_ASSIGN(const std::vector<Node> lost, view.index().GoneEverywhere());
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
    if (node && node->cached.bytes > 0 && changed < contents_.synced_at_(view) &&
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
  left.untouched = changed < node.pending.since;
  const auto ranges = left.present.All();
  left.whole = ranges.empty() || ranges.back().end <= left.length;
  if (!left.doubtful) return left;
  PG_ASSIGN(const bool gaps, SubtractGaps(node, left.length, &left.present));
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
  return node.remote.place == RemotePlace::kNone || node.base_size == 0;
}

// A waiting file of which something never reached the disk: what of that stands on the store's
// version is that again, and beyond it the file ends where its last bytes begin, or has zeros. If
// nothing of it reached the disk, and nothing was promised by an fsync, it is again what the store
// has; a file that was wholly written anew stands beside that then, as far as it got: a torn one
// must not replace a whole one. One that the store has not, and of which nothing is here, is gone.
Status Recovery::MendPending(View& view, Node* node, bool power_cut) {
  if (!node->copy.path.empty()) return {};
  PG_ASSIGN(Remains left, LookAtPending(view, *node, power_cut));
  const bool there = node->remote.place != RemotePlace::kNone;
  const bool empty = left.size == 0 && left.length == 0;
  if (empty && !there) return left.doubtful ? MendAttempts(view, node) : Status();
  // Of what was begun the disk has what it had before, or a part that was synced by the way: no
  // more than the store may have got.
  const bool begun = power_cut && there && (node->dirty & kUnflushed) && !(node->dirty & kSynced);
  if (left.whole && !left.doubtful && !begun) return {};
  if (!left.whole && power_cut)
    Log(LogLevel::kWarning, "{}: what was written last before the machine went down may be lost",
        Printable(node->name));
  if (!left.here && !there) {
    PG_TRY(ForgetLost(view, *node));
    return SplitTornFile(view, *node);
  }
  const bool unchanged = left.size == node->remote.size && node->base_size == node->remote.size;
  const bool nothing = (node->dirty & kUnflushed) || (empty && !EmptyWhenSynced(view, *node)) ||
                       (left.present.empty() && (!left.whole || unchanged));
  // bytes from before it began to wait may be those of an earlier version, and are not ours
  const bool given_up = !left.here || (left.doubtful && there && (nothing || left.untouched)) ||
                        (begun && left.untouched);
  const bool lost = left.doubtful && there && (given_up || !left.whole);
  if (given_up) {
    left.present.Clear();
    node->size = node->remote.size;
    node->dirty &= ~kAllData;
    node->upload_log.ForgetMark(kTrustOrigin);
    guard_.AskForTime(node);
    PG_TRY(blocks_->Drop(node->id, Place::kPending));
  } else {
    left.present.Remove({left.length, ~0ull >> 1});
    const std::uint64_t base = there ? std::min(node->base_size, left.size) : 0;
    if (!left.whole) node->size = std::max(std::min(left.size, left.length), base);
    if (left.doubtful || begun) node->dirty |= kMaybeStale;
    if (left.doubtful && !there) ForgetTried(node);
  }
  node->cached.bytes = std::min(left.present.Bytes(), BlocksOf(node->id));
  PG_TRY(view.index().SavePresence(node->id, left.present.Serialize()));
  PG_TRY(view.index().Update(*node));
  if (lost) PG_TRY(UndoReplacing(view, node));
  const bool torn = left.doubtful && !left.whole && !given_up;
  return torn && WrittenAnew(*node) ? SplitTornFile(view, *node) : Status();
}

// Else one was about to write to it, for all that is known.
bool Recovery::EmptyWhenSynced(View& view, const Node& node) const {
  return node.ctime < contents_.synced_at_(view);
}

// It is known as it was made, without a byte: the store may have got it whole, and a file that it
// replaces is whole.
Status Recovery::MendAttempts(View& view, Node* node) {
  node->dirty |= kMaybeStale;
  ForgetTried(node);
  PG_TRY(view.index().Update(*node));
  return EmptyWhenSynced(view, *node) ? Status() : SplitTornFile(view, *node);
}

// Parts may have got lost in the midst of it, too; or it was written with gaps, who knows.
Result<bool> Recovery::SubtractGaps(const Node& node, std::uint64_t length, RangeSet* present) {
  PG_ASSIGN(const RangeSet written, blocks_->WrittenParts(node.id, Place::kPending));
  bool any = false;
  for (const Range& range : present->All()) {
    for (const Range& gap :
         written.Missing({range.begin, std::max(range.begin, std::min(range.end, length))})) {
      any = true;
      const bool stands_on_base =
          node.remote.place != RemotePlace::kNone && gap.begin < node.base_size;
      if (stands_on_base) present->Remove({gap.begin, std::min(gap.end, node.base_size)});
    }
  }
  return any;
}

// It was opened to be written anew, and its writer did not come to an end: the store's version is
// whole.
Status Recovery::RollBackTruncated(View& view, Node* node) {
  if (node->gone() || node->remote.place == RemotePlace::kNone) return {};
  for (const auto place : {Place::kPending, Place::kCache}) PG_TRY(blocks_->Drop(node->id, place));
  node->dirty &= ~kAllData;
  guard_.AskForTime(node);
  node->size = node->remote.size;
  node->cached.bytes = 0;
  node->copy.path.clear();
  PG_TRY(view.index().DropPresence(node->id));
  return view.index().Update(*node);
}

// What the store may have got of it is whole, and not taken back for what is left of it here.
// Parts are ended all the same.
void Recovery::ForgetTried(Node* node) {
  node->attempt = {};
  node->upload_log.ForgetSent();
}

// It is here no more; at the store, perhaps.
Status Recovery::ForgetLost(View& view, Node node) {
  view.inodes().erase(node.id);
  ForgetTried(&node);
  if (node.upload_log.empty()) return view.index().Delete(node.id);
  node.parent = kNoNode;
  node.dirty = kClean;
  return view.index().Update(node);
}

// What the store has at the place of a torn file takes the name again. The torn one stands beside
// it, if anything is left of it.
Status Recovery::SplitTornFile(View& view, const Node& node) {
  if (node.remote.place == RemotePlace::kNone) return RestoreReplaced(view, node);
  Node theirs;
  theirs.parent = node.parent;
  theirs.name = node.name;
  theirs.remote.place = node.remote.place;
  theirs.remote.parent = node.remote.parent;
  theirs.remote.name = node.remote.name;
  theirs.remote.version = node.remote.version;
  theirs.size = theirs.remote.size = node.remote.size;
  theirs.mode = node.mode;
  theirs.mtime = theirs.ctime = node.mtime;
  theirs.attributes_known = false;
  PG_ASSIGN(Inode * ours, view.Get(node.id));
  PG_TRY(resolver_.RenameToConflictCopy(view, ours));
  if (node.remote.place == RemotePlace::kMoved) {  // it moves there still
    theirs.attempt.parent = node.attempt.parent;
    theirs.attempt.name = node.attempt.name;
    theirs.pending.seq = view.index().NextSeq();
    theirs.pending.since = node.pending.since;
    ForgetTried(&ours->node);
    ForgetRemote(&ours->node);
    PG_TRY(view.Save(ours));
  }
  PG_TRY(placement_.Inherit(view, &theirs));
  PG_TRY(view.index().Insert(&theirs));
  view.Touch(theirs.id);
  if (theirs.pending.seq != 0) view.Push(theirs.id, theirs.pending.seq, Duration(0));
  return {};
}

// What the store may have got of one that held the name between is whole: it is not taken back.
Status Recovery::KeepRemoteVersion(View& view, const Node& torn) {
  PG_ASSIGN(const NodeId id, view.index().FindAttempt(torn.parent, KeyPart(torn)));
  PG_ASSIGN(auto between, view.index().Get(id));
  if (!between || id == torn.id || !between->gone()) return {};
  if (between->remote.place == RemotePlace::kNone) return ForgetLost(view, std::move(*between));
  ForgetTried(&*between);
  return view.index().Update(*between);
}

// The whole file that is to go when that one is at its place.
Result<std::optional<Node>> Recovery::ReplacedBy(View& view, const Node& torn) {
  PG_ASSIGN(auto replaced, view.index().FindRemote(torn.parent, KeyPart(torn), false));
  // (what a move left behind has no name)
  if (!replaced || !replaced->gone() || replaced->name.empty() ||
      (replaced->dirty & kDurableUnlink))
    return std::optional<Node>();
  return replaced;
}

// A new file is torn: the one that it was to replace has the name again.
Status Recovery::RestoreReplaced(View& view, const Node& torn) {
  PG_ASSIGN(auto replaced, ReplacedBy(view, torn));
  if (!replaced) return {};
  PG_TRY(KeepRemoteVersion(view, torn));
  PG_ASSIGN(auto left, view.index().Get(torn.id));
  if (left && !left->gone() && left->size == 0) {
    PG_TRY(blocks_->Drop(torn.id, Place::kPending));
    PG_TRY(ForgetLost(view, std::move(*left)));
  } else if (left && !left->gone()) {
    PG_ASSIGN(Inode * ours, view.Get(torn.id));
    PG_TRY(resolver_.RenameToConflictCopy(view, ours));
  }
  return guard_.BringBack(view, std::move(*replaced));
}

// A file took the place of a whole one, and what it had been written with before is lost: what it
// was without that, often no more than a name that was taken first, does not replace it. Both are
// again where the store has them; what came of a step that was begun is met there as another's.
Status Recovery::UndoReplacing(View& view, Node* torn) {
  if (torn->remote.place != RemotePlace::kMoved) return {};
  PG_ASSIGN(auto replaced, ReplacedBy(view, *torn));
  if (!replaced || !(replaced->dirty & kReplacedByUnsynced)) return {};
  const auto folder = view.Get(torn->remote.parent);
  if (!folder.ok() || (*folder)->node.gone()) return {};
  PG_TRY(KeepRemoteVersion(view, *torn));
  ForgetTried(torn);
  const NodeId parent = torn->remote.parent;
  const std::string key = torn->remote.name;
  torn->name = ShortenName(KeyToName(key));
  PG_ASSIGN(const Inode* taken, view.Find(parent, torn->name));
  if (taken != nullptr) {
    PG_ASSIGN(torn->name, facts_.ConflictCopyName(view, parent, torn->name));
  }
  torn->parent = parent;
  SetRemote(torn, parent, key);
  PG_TRY(placement_.Inherit(view, torn));
  PG_TRY(view.index().Update(*torn));
  return guard_.BringBack(view, std::move(*replaced));
}

}  // namespace pargeter
