// Contents: room for bytes that come, and what goes for it.
#include "cache/eviction.h"

#include <fmt/format.h>

#include <algorithm>
#include <thread>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr Duration kShrinkAgain(500);

constexpr std::uint64_t kHuge = 64 * kMiB;  // evicted piece by piece

constexpr int kBatch = 32;                   // files in one transaction: others wait for it
constexpr int kRounds = 64;                  // of such transactions
constexpr int kWeighed = 256;                // candidates of a segment
constexpr std::uint64_t kMargin = 2 * kMiB;  // a reader may go back so far
constexpr std::uint64_t kMore = 16 * kMiB;   // freed at once, so that not each block frees some

constexpr std::size_t kNamed = 5;  // files that are named in an answer

}  // namespace

bool Contents::MakeRoom(std::uint64_t bytes) {
  for (int round = 0; round < 4; ++round) {
    const std::uint64_t over = budget_->Reserve(bytes);
    if (over == 0) return true;
    // a little more than is needed, so that not every block evicts one
    const std::uint64_t want =
        over + std::min<std::uint64_t>(64 * kMiB, budget_->limits().bytes / 16);
    SavePresenceOfAll();  // what came last is weighed with the rest
    if (FreeUnused(want) == 0 && FreeBehindReaders(over) == 0) return false;
  }
  return false;
}

// Written bytes are accepted whether the limit allows them or not. Once the store has them, or if
// anything else exceeds the limit, the least used files are evicted. Files that wait for upload,
// are pinned or open stay, and are looked at again.
void Contents::ShrinkLoop() {
  while (!stop_->cancelled()) {
    const std::uint64_t over = budget_->AwaitOver();
    if (over == 0 || stop_->cancelled()) continue;
    if (FreeUnused(over) < over) stop_->WaitFor(kShrinkAgain);
  }
}

// Files that nobody has open, in the order of cache/eviction.h; a few in one transaction, so that
// others have their turn.
std::uint64_t Contents::FreeUnused(std::uint64_t bytes) {
  spare_->Tend();
  const Lock saving(saving_mutex_);  // no presence is saved between forgetting it and the holes
  SyncAcknowledged();
  std::uint64_t freed = 0;
  for (int round = 0; round < kRounds && freed < bytes; ++round) {
    std::vector<Part> parts;
    const std::uint64_t went = FreeSome(bytes - freed, &parts);
    freed += went;
    if (!parts.empty() && !tree_.Sync().ok()) return freed;
    std::uint64_t cut = 0;
    for (const Part& part : parts) cut += FreeTail(part);
    freed += cut;
    if (went + cut == 0) break;
  }
  return freed;
}

// No file goes before the index on the disk knows that the store has it.
void Contents::SyncAcknowledged() {
  bool unsynced = false;
  {
    View view(&tree_);
    unsynced = view.acks_unsynced();
  }
  if (unsynced) Ignore(tree_.Sync());
}

std::uint64_t Contents::FreeSome(std::uint64_t bytes, std::vector<Part>* parts) {
  View view(&tree_);
  SaveUses(view);
  const auto sums = view.index().SumsOf(kRootId);
  if (!sums.ok()) return 0;
  auto once = static_cast<std::uint64_t>(std::max<std::int64_t>(0, sums->once_on_disk));
  auto first = view.index().LeastUsed(false, kWeighed);
  auto second = view.index().LeastUsed(true, kWeighed);
  if (!first.ok() || !second.ok()) return 0;
  Change change(&view);
  auto a = first->begin(), b = second->begin();
  std::uint64_t freed = 0, planned = 0;
  int files = 0;
  while (freed + planned < bytes && files < kBatch && (a != first->end() || b != second->end())) {
    const bool from_once =
        b == second->end() ||
        (a != first->end() && FirstToGo(once, budget_->limits().bytes) == Segment::kOnce);
    Inode* inode = view.Adopt(std::move(from_once ? *a++ : *b++));
    const std::uint64_t here = facts_.AttrOf(*inode).on_disk;
    const std::size_t before = parts->size();
    const std::uint64_t gone = FreeOf(view, inode, bytes - freed - planned, parts);
    if (parts->size() > before) planned += parts->back().bytes;
    if (gone > 0) ++files;
    freed += gone;
    if (from_once) once -= std::min(once, std::min(here, gone));
  }
  if (change.Commit().ok()) return freed;
  parts->clear();
  return 0;
}

// One file: the whole of it; of a huge one only as much as is needed, as a part for later.
std::uint64_t Contents::FreeOf(View& view, Inode* inode, std::uint64_t bytes,
                               std::vector<Part>* parts) {
  if (inode->opens > 0 || (inode->node.dirty & kData)) return 0;
  if (inode->content && inode->content.use_count() > 1) return 0;
  const std::uint64_t here = facts_.AttrOf(*inode).on_disk;
  if (here >= kHuge && bytes < here / 2) {
    if (ForgetPresence(view, inode)) parts->push_back({inode->node.id, bytes});
    return 0;
  }
  inode->node.cached.used_again = false;
  DetachContent(view, inode);
  Ignore(view.Save(inode));
  return here;
}

// The index forgets what is here of a content before any of it goes, since a hole must never be
// taken for content after a crash. Memory goes on knowing it.
bool Contents::ForgetPresence(View& view, Inode* inode) {
  const auto content = OpenContent(view, inode);
  if (!content.ok() || !view.index().DropPresence(inode->node.id).ok()) return false;
  const Lock lock((*content)->mu);
  (*content)->unsaved = true;
  NoteUnsaved(inode->node.id);
  return true;
}

// From its end backwards: what opens a file reads its beginning.
std::uint64_t Contents::FreeTail(const Part& part) {
  View view(&tree_);
  Inode* inode = view.InMemory(part.id);
  if (inode == nullptr || !inode->content || (inode->node.dirty & kData)) return 0;
  std::uint64_t freed = 0;
  {
    Content& c = *inode->content;
    const Lock lock(c.mu);
    // (saved meanwhile: the index knows of it again)
    if (c.readers > 0 || c.filling > 0 || c.place == Place::kPending || !c.unsaved) return 0;
    ++c.removals;
    const auto ranges = c.present.All();
    for (auto it = ranges.rbegin(); it != ranges.rend() && freed < part.bytes; ++it) {
      const std::uint64_t want = (part.bytes - freed + kMiB - 1) / kMiB * kMiB;
      const Range cut{it->size() > want ? (it->end - want) / 4096 * 4096 : it->begin, it->end};
      c.present.Remove(cut);
      if (!options_.disk->Punch(c.fd.get(), cut.begin, cut.size()).ok()) break;
      freed += cut.size();
    }
    inode->node.cached.bytes = c.present.Bytes();
  }
  Ignore(view.Save(inode));
  budget_->Release(freed);
  return freed;
}

// The ranges that the last reader of a content has passed.
RangeSet Contents::BehindReader(const Content& content) {
  if (content.readers > 0 || content.filling > 0 || content.written ||
      content.place == Place::kPending)
    return {};
  const std::uint64_t low =
      content.last_read > kMargin ? (content.last_read - kMargin) / 4096 * 4096 : 0;
  RangeSet behind = content.present;
  behind.Remove({low, ~0ull >> 1});
  return behind;
}

// Frees ranges of open files that their readers have passed, for files larger than the cache.
std::uint64_t Contents::FreeBehindReaders(std::uint64_t bytes) {
  const Lock saving(saving_mutex_);
  std::vector<NodeId> ids;
  {
    View view(&tree_);
    Change change(&view);
    for (const auto& [id, inode] : view.inodes()) {
      if (!inode->content || (inode->node.dirty & kData)) continue;
      {
        const Lock lock(inode->content->mu);
        if (BehindReader(*inode->content).empty()) continue;
      }
      if (ForgetPresence(view, inode.get())) ids.push_back(id);
    }
    if (!change.Commit().ok()) return 0;
  }
  if (ids.empty() || !tree_.Sync().ok()) return 0;
  std::uint64_t freed = 0;
  for (const NodeId id : ids) freed += FreeBehindReader(id, bytes - std::min(bytes, freed));
  return freed;
}

std::uint64_t Contents::FreeBehindReader(NodeId id, std::uint64_t bytes) {
  View view(&tree_);
  const Inode* inode = view.InMemory(id);
  if (bytes == 0 || inode == nullptr || !inode->content || (inode->node.dirty & kData)) return 0;
  std::uint64_t freed = 0;
  Content& content = *inode->content;
  const Lock lock(content.mu);
  if (!content.unsaved) return 0;  // saved meanwhile: the index knows of it again
  ++content.removals;
  for (const Range& range : BehindReader(content).All()) {
    if (freed >= bytes) break;
    const Range cut{range.begin, std::min(range.end, range.begin + (bytes - freed) + kMore)};
    content.present.Remove(cut);
    if (!options_.disk->Punch(content.fd.get(), cut.begin, cut.size()).ok()) break;
    freed += cut.size();
  }
  budget_->Release(freed);
  return freed;
}

// ---- evict

// Sorts one file: what may go into `out`, the rest into the answer.
void Contents::ClassifyForEviction(View& view, const Node& row, const EvictWish& wish,
                                   Evicted* answer, std::vector<std::pair<Nanos, NodeId>>* out) {
  const auto it = view.inodes().find(row.id);
  Inode* inode = it == view.inodes().end() ? nullptr : it->second.get();
  const Node& node = inode != nullptr ? inode->node : row;
  const std::uint64_t here = inode != nullptr ? facts_.AttrOf(*inode).on_disk : node.cached.bytes;
  if (node.kind != NodeKind::kFile || here == 0 || node.gone()) return;
  const auto name = [&](std::vector<std::string>* names) {
    if (names->size() >= kNamed) return;
    const auto path = view.PathHere(node.id);
    names->push_back(path.ok() ? *path : node.name);
  };
  if (node.effective == Placement::kPin || node.effective == Placement::kLocal) {
    ++answer->kept;
    name(&answer->kept_names);
  } else if ((node.dirty & kData) || node.pending.seq != 0) {
    ++answer->pending;
    name(&answer->pending_names);
  } else if (wish.unused_since != 0 && node.cached.used_at > wish.unused_since) {
    return;
  } else if (inode != nullptr && inode->opens > 0) {
    ++answer->open;
    if (!wish.dry_run) inode->evict_on_close = true;
  } else {
    out->emplace_back(node.cached.used_at, node.id);
  }
}

Result<Evicted> Contents::Evict(const std::vector<NodeId>& ids, const EvictWish& wish) {
  spare_->Tend();
  SavePresenceOfAll();
  SyncAcknowledged();
  Evicted answer;
  std::vector<std::pair<Nanos, NodeId>> candidates;
  for (const NodeId id : ids) {
    PG_TRY(facts_.Walk(
        id,
        [&](View& view, const Node& folder) -> Result<bool> {
          PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
          return sums.on_disk > 0;
        },
        [&](View& view, const Node& node) {
          ClassifyForEviction(view, node, wish, &answer, &candidates);
        }));
  }
  std::sort(candidates.begin(), candidates.end());
  candidates.erase(std::unique(candidates.begin(), candidates.end()), candidates.end());
  const auto free_now = options_.disk->FreeBytes(options_.cache_folder);
  answer.free_before = free_now.ok() ? *free_now : 0;
  std::uint64_t goal = ~0ull;  // bytes to free
  if (wish.until_free != 0)
    goal = wish.until_free > answer.free_before ? wish.until_free - answer.free_before : 0;
  for (std::size_t at = 0; at < candidates.size() && answer.bytes < goal;
       at += static_cast<std::size_t>(kBatch)) {
    View view(&tree_);
    Change change(&view);
    const std::size_t end = std::min(candidates.size(), at + static_cast<std::size_t>(kBatch));
    for (std::size_t i = at; i < end && answer.bytes < goal; ++i) {
      auto inode = view.Get(candidates[i].second);
      if (!inode.ok()) continue;
      const std::uint64_t bytes = facts_.AttrOf(**inode).on_disk;
      if (!wish.dry_run && !DropIfUnused(view, *inode, true)) continue;
      answer.bytes += bytes;
      ++answer.files;
    }
    PG_TRY(change.Commit());
  }
  const auto free_after = options_.disk->FreeBytes(options_.cache_folder);
  answer.free_after = wish.dry_run ? answer.free_before + answer.bytes
                                   : (free_after.ok() ? *free_after : answer.free_before);
  return answer;
}

// Clean, open nowhere, and not to be kept: its bytes go, its name stays. `arriving`: also if some
// of them are just being fetched.
bool Contents::DropIfUnused(View& view, Inode* inode, bool arriving) {
  const Node& node = inode->node;
  if (node.gone() || inode->opens > 0 || (node.dirty & kData) || node.pending.seq != 0)
    return false;
  if (node.effective == Placement::kPin || node.effective == Placement::kLocal) return false;
  if (!arriving && inode->content && inode->content.use_count() > 1) return false;
  inode->node.cached.used_again = false;
  DetachContent(view, inode);
  Ignore(view.Save(inode));
  return true;
}

}  // namespace pargeter
