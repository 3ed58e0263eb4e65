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
  // Writes the note beside a waiting file (docs/formats.md), from which a lost index is rebuilt. A
  // failure is only logged.
  void NotePending(View& view, const Node& node, const std::string& ranges);
  // Frees what the cache may not hold any more, until the drive closes.
  void ShrinkLoop();
  // Gives up the copy for the other disk.
  void DropStagedCopy(Content* content);
  // The block file moves to the other place of the same disk, or the staged copy takes its place.
  Status Relocate(Content* content, BlockStore::Place to) REQUIRES(content->mu);
  // No byte of the content is here any more: presence, room and block file go.
  void DiscardBytes(View& view, Inode* inode);
  // The file was read or written now: for eviction, journalled later (SaveUses).
  void NoteUse(View& view, Inode* inode);
  // Journals the uses that were noted.
  void SaveUses(View& view);
  // Before the first write: the node is journalled as changed, its bytes lie in pending/. The mark
  // is held until the write is in the generation. kNoSpace: the disk has no room for the note.
  Result<WritingMark> BeginWriting(const OpenFilePtr& file);
  // To `size` bytes; freed bytes are given back, and bytes beyond the former end are zeros.
  Status Truncate(View& view, Inode* inode, std::uint64_t size);
  // The staged file takes the place of the block file, and all of it counts as written.
  Status TakeFile(View& view, Inode* inode, const StagedFile& staged);
  // The block file is as long as the content.
  Status SetLength(Content* content) REQUIRES(content->mu);
  // Zeros into [offset, end), as a hole where the disk can do that.
  Status WriteZeros(Content* content, std::uint64_t offset, std::uint64_t end)
      REQUIRES(content->mu);
  // The content grows to `end` by a hole.
  Status AddZeros(Content* content, std::uint64_t end) REQUIRES(content->mu);
  Status SaveContent(View& view, Inode* inode, Content* content, bool confirmed = false);
  // SaveContent for every file that was written and is open, now and then.
  void SaveWritten();
  // As for close; with `durable` as for fsync: the bytes and then the index are synced, without
  // locks.
  Status FlushContent(const OpenFilePtr& file, bool durable);
  // The node has another version from now on: open handles read on from the former bytes, which
  // have no name any more.
  void DetachContent(View& view, Inode* inode);
  // The copy that the store was to make is not wanted: the file is empty again, as before. Nobody
  // has been told that there is one.
  Status DiscardCopy(View& view, Inode* inode);
  // Reserves room for `bytes` in the cache, evicting if needed. False: everything here has to stay.
  // Without locks.
  bool MakeRoom(std::uint64_t bytes);
  // Evicts clean contents, least recently used first, until `bytes` are free. Returns the bytes
  // freed.
  std::uint64_t FreeUnused(std::uint64_t bytes);
  // Syncs fetched bytes, and journals that they are here.
  void SavePresenceOfAll() EXCLUDES(saving_mutex_);
  // At the close of a drive: all contents, then the index.
  void SyncEverything();
  // Evicts a thin file, or one whose bytes nobody may keep, unless it is open. `arriving`: its
  // fetch has just ended. True: it went.
  bool DropIfUnused(View& view, Inode* inode, bool arriving = false);
  // Copies the bytes to the disk of the other place, without locks; Relocate then only swaps. Where
  // both places are one disk nothing is done.
  Status StageCopy(const std::shared_ptr<Content>& content, BlockStore::Place to);
  // The node's content, opened if it is not in memory. kIo: waiting bytes are missing on the disk.
  Result<std::shared_ptr<Content>> OpenContent(View& view, Inode* inode);

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
  std::uint64_t FreeOf(View& view, Inode* inode, std::uint64_t bytes, std::vector<Part>* parts);
  void SyncAcknowledged();
  std::uint64_t FreeSome(std::uint64_t bytes, std::vector<Part>* parts);
  bool ForgetPresence(View& view, Inode* inode);
  std::uint64_t FreeTail(const Part& part);
  std::uint64_t FreeBehindReader(NodeId id, std::uint64_t bytes);
  static RangeSet BehindReader(const Content& content) REQUIRES(content.mu);
  std::uint64_t FreeBehindReaders(std::uint64_t bytes);
  void ClassifyForEviction(View& view, const Node& row, const EvictWish& wish, Evicted* answer,
                           std::vector<std::pair<Nanos, NodeId>>* out);

  Facts& facts_;
  Mutex saving_mutex_;  // before the tree's; held while what was fetched is synced and written down
  UnderLock<std::deque<NodeId>> open_contents_;  // oldest first; some are closed
  Mutex unsaved_mutex_;
  std::set<NodeId> unsaved_presence_ GUARDED_BY(unsaved_mutex_);
};

}  // namespace pargeter
