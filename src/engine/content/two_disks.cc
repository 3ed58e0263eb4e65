// Contents: the cache may be on another disk than what waits for upload. Then a file that is
// written, or has gone up, is copied from the one to the other: without a lock, as nobody is to
// wait for it.
#include <algorithm>

#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"

namespace pargeter {

namespace {
constexpr std::uint64_t kWithTheLock = 256 * kKiB;  // the rest of a copy, of what came meanwhile
}  // namespace

// Brings the bytes next to the place where they will be needed; Relocate ends it. Nothing to do
// on one disk. kNoSpace: that disk has no room for them.
Status Contents::StageCopy(const std::shared_ptr<Content>& content, BlockStore::Place to) {
  if (blocks_->OneDisk()) return {};
  Content& c = *content;
  Lock lock(c.mu);
  while (c.staging)
    c.changed.WaitUntil(c.mu, std::chrono::steady_clock::now() + std::chrono::seconds(1));
  if (c.place == to || c.detached || (c.staged && c.staged_to == to)) return {};
  c.staging = true;
  const std::uint64_t bytes = c.present.Bytes();
  const int from = c.BeginUse();
  lock.Unlock();
  RangeSet copied;
  Status staged = MakeRoomOn(to, bytes);
  Fd copy;
  if (staged.ok()) {
    auto begun = blocks_->BeginCopy(c.id, to);
    staged = begun.status();
    if (begun.ok()) copy = std::move(*begun);
  }
  lock.Relock();
  while (staged.ok()) {
    RangeSet left = c.present;
    for (const Range& range : copied.All()) left.Remove(range);
    if (left.Bytes() <= kWithTheLock) break;
    lock.Unlock();
    for (const Range& range : left.All()) {
      if (staged.ok()) staged = blocks_->CopyBytes(from, copy.get(), range);
      copied.Add(range);
    }
    lock.Relock();
  }
  if (staged.ok()) {
    c.staged = std::move(copy);
    c.staged_to = to;
    c.staged_ranges = std::move(copied);
  } else if (copy) {
    blocks_->DropCopy(c.id, to);
  }
  c.EndUse();
  c.staging = false;
  c.changed.NotifyAll();
  return staged;
}

// It was not needed after all.
void Contents::DropStagedCopy(Content* content) {
  const Lock lock(content->mu);
  if (!content->staged) return;
  content->staged.Reset();
  content->staged_ranges.Clear();
  blocks_->DropCopy(content->id, content->staged_to);
}

// The file goes to the other place, and the descriptor with it.
Status Contents::Relocate(Content* content, BlockStore::Place to) {
  if (content->place == to) return {};
  if (blocks_->OneDisk()) {
    PG_TRY(blocks_->Move(content->id, content->place, to));
    content->place = to;
    return {};
  }
  content->WaitForFilling();
  if (!content->staged || content->staged_to != to) {
    PG_ASSIGN(content->staged, blocks_->BeginCopy(content->id, to));
    content->staged_to = to;
    content->staged_ranges.Clear();
  }
  RangeSet left = content->present;
  for (const Range& range : content->staged_ranges.All()) left.Remove(range);
  PG_TRY(options_.disk->Truncate(content->staged.get(), content->size));
  for (const Range& range : left.All())
    PG_TRY(blocks_->CopyBytes(content->fd.get(), content->staged.get(), range));
  const Status ended = blocks_->EndCopy(content->id, content->place, to, content->staged.get());
  if (!ended.ok()) {  // it may have its name already: the next attempt begins anew
    content->staged.Reset();
    content->staged_ranges.Clear();
    blocks_->DropCopy(content->id, to);
    return ended;
  }
  if (content->readers > 0) content->former.push_back(std::move(content->fd));
  content->fd = std::move(content->staged);
  content->staged_ranges.Clear();
  content->place = to;
  return {};
}

// It is at the store, the index on the disk knows that, and the cache's disk has no room for it: it
// comes from there when it is read.
void Contents::DiscardBytes(View& view, Inode* inode) {
  Content& c = *inode->content;
  if (inode->node.dirty & kData) return;  // written again meanwhile
  bool open = false;
  std::uint64_t bytes = 0;
  {
    const Lock lock(c.mu);
    if (c.place != BlockStore::Place::kPending || c.about_to_change > 0) return;
    Ignore(blocks_->Drop(c.id, BlockStore::Place::kCache));
    auto fresh = blocks_->Open(c.id, BlockStore::Place::kCache);
    open = fresh.ok() && options_.disk->Truncate(fresh->get(), c.size).ok();
    if (open) {
      bytes = c.present.Bytes();
      if (c.readers > 0) c.former.push_back(std::move(c.fd));
      c.fd = std::move(*fresh);
      c.place = BlockStore::Place::kCache;
      c.present.Clear();
      ++c.removals;
    }
  }
  if (!open) return DetachContent(view, inode);
  budget_->Release(bytes);
  Ignore(blocks_->Drop(c.id, BlockStore::Place::kPending));
}

// On the disk that `to` is on. What is moved there is counted already.
Status Contents::MakeRoomOn(BlockStore::Place to, std::uint64_t bytes) {
  if (to == BlockStore::Place::kPending) return budget_->TakePendingRoom(bytes);
  for (int round = 0;; ++round) {
    const std::uint64_t over = budget_->TakeCacheRoom(bytes);
    if (over == 0) return {};
    if (round == 3 || FreeUnused(over) == 0)
      return Error(Code::kNoSpace, "the cache is full of what may not be evicted");
  }
}

}  // namespace pargeter
