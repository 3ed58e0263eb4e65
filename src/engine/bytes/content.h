// The bytes of one version of one file, as far as they are on this disk, and what is on its way.
//
// Invariants, by the lock `mu`:
//   1. A byte in `present` is in the block file, and it is a byte of this version: either fetched
//      of exactly the version of `base`, or written here. Where the version is a digest, all
//      of a fetched file are looked at before the last missing one is shown (arrived.cc).
//   2. A byte that was written here is never overwritten by a fetch.
//   3. Bytes are taken out of `present` only while `readers` is 0; who uses the descriptor without
//      the lock counts among them, so that it stays good when another takes its place.
//   4. A content whose node has another version by now (`detached`) keeps its descriptor, whose
//      file has no name any more: those who have it open read on.
#pragma once

#include <algorithm>
#include <list>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/mutex.h"
#include "cache/block_store.h"
#include "cache/range_set.h"
#include "engine/store/store_client.h"
#include "index/index.h"
#include "provider/provider.h"

namespace pargeter {

// The version at the store that missing bytes belong to.
struct Base {
  std::string version;     // "": none; all bytes are here
  std::uint64_t size = 0;  // so many of the first bytes are the version's, unless written here
  bool any() const { return !version.empty(); }
};

struct Flight {
  Range range;
  Traffic traffic = Traffic::kForeground;
  bool done = false;
  std::optional<Error> error;
};

struct Content {
  explicit Content(NodeId node) : id(node) {}
  // Local writes wait for fetched bytes that are on their way into the file (invariant 2): a
  // matter of one write to the disk.
  void WaitForFilling() REQUIRES(mu) {
    while (filling > 0)
      changed.WaitUntil(mu, std::chrono::steady_clock::now() + std::chrono::seconds(1));
  }
  void LimitStablePrefix(std::uint64_t begin) REQUIRES(mu) {
    stable_prefix = std::min(stable_prefix, begin);
  }
  int BeginUse() REQUIRES(mu) {
    ++readers;
    return fd.get();
  }
  void EndUse() REQUIRES(mu) {
    if (--readers == 0) former.clear();
  }
  const NodeId id;
  Mutex mu;
  CondVar changed;
  Fd fd GUARDED_BY(mu);
  std::vector<Fd> former GUARDED_BY(mu);  // of files that another disk has now, still in use
  // A copy for another disk, as far as it has got (two_disks.cc).
  Fd staged GUARDED_BY(mu);
  BlockStore::Place staged_to GUARDED_BY(mu) = BlockStore::Place::kCache;
  RangeSet staged_ranges GUARDED_BY(mu);
  bool staging GUARDED_BY(mu) = false;
  BlockStore::Place place GUARDED_BY(mu) = BlockStore::Place::kCache;
  RangeSet present GUARDED_BY(mu);
  // Holes: the parts of `present` that are zeros without a disk block, while the file waits for
  // upload.
  RangeSet hollow GUARDED_BY(mu);
  // Bytes that really are on the disk, in all or of a range.
  std::uint64_t Held() const REQUIRES(mu) { return present.Bytes() - hollow.Bytes(); }
  std::uint64_t HeldIn(Range range) const REQUIRES(mu) {
    return present.BytesIn(range) - hollow.BytesIn(range);
  }
  void AddHole(Range range) REQUIRES(mu) {
    present.Add(range);
    hollow.Add(range);
  }
  std::uint64_t size GUARDED_BY(mu) = 0;
  Base base GUARDED_BY(mu);
  std::list<std::shared_ptr<Flight>> flights GUARDED_BY(mu);
  int readers GUARDED_BY(mu) = 0;
  int filling GUARDED_BY(mu) = 0;              // fetched bytes are being written, without the lock
  std::uint64_t last_read GUARDED_BY(mu) = 0;  // where somebody read last
  std::uint64_t removals GUARDED_BY(mu) = 0;   // goes up when bytes are taken out of `present`
  bool unsaved GUARDED_BY(mu) = false;         // `present` differs from what the index says
  // The digest of what came from the store, from the first byte on as far as that is here.
  std::shared_ptr<ContentCheck> check GUARDED_BY(mu);
  std::uint64_t checked_to GUARDED_BY(mu) = 0, checked_since GUARDED_BY(mu) = 0;  // `removals` then
  bool checking GUARDED_BY(mu) = false;  // somebody is at it, without the lock
  bool wrong GUARDED_BY(mu) = false;     // so it was found: nobody reads on
  bool written GUARDED_BY(mu) = false;   // written since the last close or fsync
  bool detached GUARDED_BY(mu) = false;
  int about_to_change GUARDED_BY(mu) = 0;  // WritingMarks
  // All before that is as it was when the upload was planned that may be under way.
  std::uint64_t stable_prefix GUARDED_BY(mu) = 0;
};

constexpr std::uint64_t kLargestFile = 1ull << 62;  // bytes; offsets are signed
inline Error TooLarge() { return Error(Code::kTooLarge, "no file can be so large"); }

Error NotWhatItSaid();  // of a content that is `wrong`

// Held by whoever has journalled that a content changes, until it has and its node's generation
// says so. An upload that is acknowledged meanwhile had the former bytes: the node stays dirty.
class WritingMark {
 public:
  WritingMark() = default;
  // The caller holds `content->mu`.
  explicit WritingMark(std::shared_ptr<Content> content) NO_TS_ANALYSIS
      : content_(std::move(content)) {
    ++content_->about_to_change;
  }
  WritingMark(WritingMark&&) noexcept = default;
  WritingMark& operator=(WritingMark&&) = delete;
  ~WritingMark() {
    if (!content_) return;
    const Lock lock(content_->mu);
    --content_->about_to_change;
  }

 private:
  std::shared_ptr<Content> content_;
};

}  // namespace pargeter
