// The tree of nodes: the journal (index/index.h), what memory adds to its rows, and the one lock
// over both.
//
// A View is that lock, held. Functions that read or change rows take a View&: whoever has one has
// the proof, and nothing else gives access to rows or to data that hangs on the lock (UnderLock).
// A Change is a transaction within a View: rows, memory and files follow the journal, all or
// nothing, and what the change causes (events, turns in the outbox) happens when it is committed.
//
// Thread-safe. No wait under the lock but for the lock's own condition; the log is flushed under it
// only where `Sync` is called.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <unordered_map>
#include <utility>
#include <variant>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"
#include "engine/observe/events.h"
#include "index/index.h"
#include "net/cancel.h"

namespace pargeter {

struct Content;

// A node in memory: its row, and what only a running process knows of it.
struct Inode {
  Node node;
  std::uint64_t lookups = 0;  // uses by the kernel
  int opens = 0, writers = 0;
  bool unsaved = false;  // size or times changed by writes since the last save
  std::shared_ptr<Content> content;
  int detached_opens = 0;  // handles on former versions
  bool kernel_pages_valid = false;
  Steady last_write{};
  std::uint64_t synced_generation = 0;  // as of the last fsync
  Cancel upload;                        // an upload under way, ended by a write to what it takes
  std::uint64_t sent_prefix = 0;        // what it takes ends here
  std::uint64_t sent_generation = 0;    // the last generation in which that is the same
  Steady held_since{};                  // an upload waits since then, as it is open for writing
  bool doubtful = false;                // an undone change may still be in it
  bool evict_on_close = false;          // asked to be evicted while it was open
};

// The bytes that rows stand for. Called under the tree's lock.
class BlobSink {
 public:
  virtual ~BlobSink() = default;
  virtual void ReleaseBytes(std::uint64_t bytes) = 0;  // counted as used until now
  virtual void DropCached(NodeId id) = 0;
  virtual void DropPending(NodeId id) = 0;
  virtual bool HasPending(NodeId id) = 0;
  // Of a content in memory: its size; and is something of it not written down yet?
  virtual std::uint64_t SizeOf(Content* content) = 0;
  virtual bool IsUnsaved(Content* content) = 0;
};

// What changes cause. Called under the tree's lock: never waits.
class EffectSink {
 public:
  virtual ~EffectSink() = default;
  virtual void Publish(Event event) = 0;
  virtual void Push(NodeId id, std::int64_t order, Duration delay) = 0;
};

class Tree {
 public:
  struct Options {
    const Clock* clock;
    std::size_t remembered;  // nodes in memory that nobody needs just now
    Duration quiet;          // before a change has its turn
  };
  // Both sinks outlive the tree; `SetBlobs` comes before the first View.
  Tree(Options options, EffectSink* effects) : options_(options), effects_(*effects) {}
  void SetBlobs(BlobSink* blobs) { blobs_ = blobs; }
  Tree(const Tree&) = delete;
  Tree& operator=(const Tree&) = delete;

  // All that is committed when it is called survives a power cut. Not under the lock: others go on
  // meanwhile, and those who ask at the same time share one flush.
  Status Sync();
  // Waiting bytes of deleted files go, once their deletion is sure to survive a power cut: else the
  // index would speak of files whose bytes are gone. Not under the lock.
  Status UnlinkDeleted();

  // Wakes those who wait in View::WaitUntil.
  void NotifyAll() { changed_.NotifyAll(); }

  class View;
  class Change;

 private:
  struct Turn {
    NodeId id;
    std::int64_t order;
    Duration delay;
  };
  using Effect = std::variant<Event, Turn>;

  const Options options_;
  BlobSink* blobs_ = nullptr;
  EffectSink& effects_;
  Mutex sync_mutex_;    // before the lock: one flush at a time
  Mutex unlink_mutex_;  // before both
  Mutex mutex_;
  CondVar changed_;
  // -- all that follows: under mutex_
  std::unique_ptr<Index> index_;
  std::unordered_map<NodeId, std::unique_ptr<Inode>> inodes_;
  std::size_t trim_at_ = 0;
  int changes_ = 0;                           // Change objects alive
  std::set<NodeId> touched_;                  // what a Change under way has got hold of
  std::vector<Effect> caused_;                // by it, and not performed yet
  std::map<NodeId, std::uint64_t> released_;  // whose files go when it is done, and their bytes
  std::vector<NodeId> unlink_after_sync_;     // deleted: waiting bytes that go after a sync
  bool unlinking_ = false;                    // some of them, just now
  // Of Index::Changes: the last that is on the disk; those at which it was last recorded that a
  // file is up, and one that was promised. A power cut may take back what came after the first.
  std::int64_t durable_ = 0, acked_ = 0, promise_acked_ = 0;
  std::set<NodeId> used_;  // of late: to be journalled before it matters
};

class Tree::View {
 public:
  // (clang's analysis knows scopes, not proofs)
  explicit View(Tree* tree) NO_TS_ANALYSIS : tree_(*tree) { tree_.mutex_.lock(); }
  ~View() NO_TS_ANALYSIS {
    if (held_) Unlock();
  }
  View(const View&) = delete;
  View& operator=(const View&) = delete;
  // For the few that work without the lock in their midst: every Inode* is void after that.
  void Unlock() NO_TS_ANALYSIS {
    PerformAll();
    held_ = false;
    tree_.mutex_.unlock();
  }
  void Relock() NO_TS_ANALYSIS {
    tree_.mutex_.lock();
    held_ = true;
  }
  // False: the deadline passed.
  bool WaitUntil(Steady deadline) NO_TS_ANALYSIS {
    PerformAll();
    return tree_.changed_.WaitUntil(tree_.mutex_, deadline);
  }

  // -- rows. A Inode* is good until the View ends, or Trim or Erase.
  Result<Inode*> Get(NodeId id);                                // kStale: there is none
  Result<Inode*> Find(NodeId parent, const std::string& name);  // null: not here
  Result<Inode*> GetFolder(NodeId id);
  Inode* Adopt(Node row);      // from the index; memory's own if it has it
  Inode* InMemory(NodeId id);  // null: not in memory, or not to be trusted
  // Of all in memory; some are doubtful.
  std::unordered_map<NodeId, std::unique_ptr<Inode>>& inodes() { return tree_.inodes_; }
  Index& index() { return *tree_.index_; }
  void SetIndex(std::unique_ptr<Index> index) { tree_.index_ = std::move(index); }

  // -- changes; each is a transaction of its own, or part of the Change around it
  Status Save(Inode* inode);
  // Saved, with a place among the changes that wait, and a turn after the quiet time.
  Status QueueChange(Inode* inode);
  // Time of change: saved with the next change or at the end, since it goes to no store.
  void TouchFolder(NodeId id);
  // The row is changed by other means than Save: undone with the Change around it.
  void Touch(NodeId id) { tree_.touched_.insert(id); }
  // Not in memory any more, if nothing needs it there.
  void Erase(NodeId id) { tree_.inodes_.erase(id); }
  // The node's files go once the Change around it is committed; `bytes` were counted of them.
  void ReleaseOnCommit(NodeId id, std::uint64_t bytes) { tree_.released_[id] += bytes; }
  void UnlinkAfterSync(NodeId id) { tree_.unlink_after_sync_.push_back(id); }
  // For when a drive is opened: whoever takes them unlinks them.
  std::vector<NodeId> TakeDeleted() { return std::exchange(tree_.unlink_after_sync_, {}); }
  // Bytes of deleted files wait to be unlinked, or are just being so.
  bool HasDeletedBytes() const { return tree_.unlinking_ || !tree_.unlink_after_sync_.empty(); }
  // Effects: performed once the change that is begun, or begins next, is committed, at the latest
  // when the View ends; never, if that change is undone.
  void Emit(Event event) { tree_.caused_.emplace_back(std::move(event)); }
  void EmitHappened(std::string side, std::string what, std::string path, std::string detail = {}) {
    Emit(Event::Happened(std::move(side), std::move(what), std::move(path), std::move(detail)));
  }
  void Push(NodeId id, std::int64_t order, Duration delay) {
    tree_.caused_.emplace_back(Turn{id, order, delay});
  }
  void Push(NodeId id, std::int64_t order) { Push(id, order, tree_.options_.quiet); }

  // -- durability
  // As Tree::Sync, under the lock: for when a drive is opened or closed, and where nothing may come
  // between the change and its flush.
  Status SyncUnderLock();
  // The change that is being made records that the store has a file; `promised`: one that was
  // synced here.
  void NoteAcked(bool promised) {
    tree_.acked_ = tree_.index_->Changes() + 1;
    if (promised) tree_.promise_acked_ = tree_.acked_;
  }
  // A power cut may take back that a file is up; and that one is up which was promised.
  bool acks_unsynced() const { return tree_.acked_ > tree_.durable_; }
  bool promises_unsynced() const { return tree_.promise_acked_ > tree_.durable_; }
  std::set<NodeId>& used() { return tree_.used_; }

  // -- paths
  // The prefix of what the store has in the folder: "" or ending in "/". A folder that it does not
  // have yet will be where it is here.
  Result<std::string> RemotePrefix(NodeId folder);
  Result<std::string> RemotePath(const Node& node);
  Result<std::string> PathHere(NodeId id);  // relative to the drive

  // -- memory
  // Drops what neither the kernel nor an open file nor an unsaved change needs. Where a call
  // begins, and nobody under this lock has got hold of anything yet.
  void Trim();

 private:
  friend class Change;
  void Restore(Inode* inode, Node row);
  void PerformAll();
  Tree& tree_;
  bool held_ = true;
};

// Undone by its end without Commit, or if that fails. Nests: only the outermost one is real. Begin
// it before getting hold of the nodes that it changes.
class Tree::Change {
 public:
  explicit Change(View* view);
  ~Change();
  Change(const Change&) = delete;
  Change& operator=(const Change&) = delete;
  Status Commit();

 private:
  void Undo();
  void DropReleased();
  View& view_;
  Tree& tree_;
  Transaction transaction_;
  bool open_ = true;
};

// Data of another component under the tree's lock: only a View opens it.
template <typename T>
class UnderLock {
 public:
  UnderLock() = default;
  explicit UnderLock(T value) : value_(std::move(value)) {}
  T& operator()(const Tree::View&) { return value_; }
  const T& operator()(const Tree::View&) const { return value_; }

 private:
  T value_{};
};

}  // namespace pargeter
