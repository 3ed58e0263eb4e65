// The bytes on this disk: contents of open files, what is written into them, what is known to be
// here (presence), and what has to go when room is needed.
#pragma once

#include "engine/bytes/content.h"
#include "engine/context/context.h"

namespace pargeter {

class Facts;

class Contents : public Component, public BlobSink {
 public:
  Contents(Context* context, Facts* facts) : Component(context), facts_(*facts) {}

  // Waits for nothing; what is open goes when it is closed.
  Result<Evicted> Evict(const std::vector<NodeId>& ids, const EvictWish& wish);
  // the tree's sinks
  void ReleaseBytes(std::uint64_t bytes) override;
  void DropCached(NodeId id) override;
  void DropPending(NodeId id) override;
  bool HasPending(NodeId id) override;
  std::uint64_t SizeOf(Content* content) override;
  bool IsUnsaved(Content* content) override;
  void NotePending(View& view, const Node& node, const std::string& ranges);
  void ShrinkLoop();
  void DropCarried(Content* content);
  Status MoveContent(Content* content, BlockStore::Place to) REQUIRES(content->mu);
  void GiveUpBytes(View& view, Live* live);
  void NoteUse(View& view, Live* live);
  void SaveUses(View& view);
  Result<WritingMark> BeginWriting(const OpenFilePtr& file);
  Status Truncate(View& view, Live* live, std::uint64_t size);
  Status SetLength(Content* content) REQUIRES(content->mu);
  Status WriteZeros(Content* content, std::uint64_t offset, std::uint64_t end)
      REQUIRES(content->mu);
  Status AddZeros(Content* content, std::uint64_t end) REQUIRES(content->mu);
  Status SaveContent(View& view, Live* live, Content* content, bool confirmed = false);
  void SaveWritten();
  Status FlushContent(const OpenFilePtr& file, bool durable);
  void DropContent(View& view, Live* live);
  Status GiveUpCopy(View& view, Live* live);
  bool MakeRoom(std::uint64_t bytes);
  std::uint64_t FreeUnused(std::uint64_t bytes);
  void SavePresenceOfAll() EXCLUDES(saving_mutex_);
  void SyncEverything();
  bool DropIfUnused(View& view, Live* live, bool arriving = false);
  Status Carry(const std::shared_ptr<Content>& content, BlockStore::Place to);
  Result<std::shared_ptr<Content>> ContentOf(View& view, Live* live);

  UnderLock<std::unordered_multimap<std::string, NodeId>> copy_sources_;
  // all that is older, and what was known to be here up to that round, is on the disk
  UnderLock<Nanos> synced_at_{0};
  UnderLock<std::int64_t> synced_round_{0};
  UnderLock<bool> cache_changed_{false};  // since then

  // The presence of that content is not saved yet.
  void NoteUnsaved(NodeId id) {
    const Lock lock(unsaved_mutex_);
    unsaved_presence_.insert(id);
  }
  std::size_t CountUnsaved() {
    const Lock lock(unsaved_mutex_);
    return unsaved_presence_.size();
  }

 private:
  static void FindHoles(Content* content) REQUIRES(content->mu);
  Status MakeRoomOn(BlockStore::Place to, std::uint64_t bytes);
  void CloseIdle(View& view);
  Result<WritingMark> MakeDirty(const OpenFilePtr& file);
  Result<WritingMark> JournalWriting(const OpenFilePtr& file, bool synced, bool* wants_sync);
  // A part of a content that is to go once the index has forgotten all of it, on the disk too.
  struct Part {
    NodeId id;
    std::uint64_t bytes;
  };
  std::uint64_t FreeOf(View& view, Live* live, std::uint64_t bytes, std::vector<Part>* parts);
  void SyncAcknowledged();
  std::uint64_t FreeSome(std::uint64_t bytes, std::vector<Part>* parts);
  bool ForgetPresence(View& view, Live* live);
  std::uint64_t FreeTail(const Part& part);
  std::uint64_t FreeBehindReader(NodeId id, std::uint64_t bytes);
  static RangeSet BehindReader(const Content& content) REQUIRES(content.mu);
  std::uint64_t FreeBehindReaders(std::uint64_t bytes);
  void Weigh(View& view, const Node& row, const EvictWish& wish, Evicted* answer,
             std::vector<std::pair<Nanos, NodeId>>* out);

  Facts& facts_;
  Mutex saving_mutex_;  // before the tree's; held while what was fetched is synced and written down
  UnderLock<std::deque<NodeId>> open_contents_;  // oldest first; some are closed
  Mutex unsaved_mutex_;
  std::set<NodeId> unsaved_presence_ GUARDED_BY(unsaved_mutex_);
};

}  // namespace pargeter
