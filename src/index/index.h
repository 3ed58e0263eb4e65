// The local database of one drive: every name with its state here, its state at the store and the
// version that was last agreed on; the queue of local changes; what is cached. SQLite, write-ahead
// log, one writer.
//
// Durability: a committed transaction survives the death of this process; after Sync also a power
// cut. Not thread-safe: the drive calls it under its tree lock, and only one process owns it.
//
// Every node stands in two trees. The local tree is what this machine shows: (parent, name). The
// remote tree is what the store holds, as far as it has acknowledged or shown it: the same place, a
// place of its own while a move waits, or none. A folder's move is one row in either tree. The
// differences between the trees are the outbox's work; `pending.seq` orders them.
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/file.h"
#include "index/sqlite.h"
#include "index/upload_log.h"

namespace pargeter {

using NodeId = std::int64_t;
constexpr NodeId kRootId = 1;
constexpr NodeId kNoNode = 0;

enum class NodeKind : std::uint8_t { kFile = 0, kFolder = 1, kSymlink = 2 };

enum class RemotePlace : std::uint8_t {
  kNone = 0,     // not at the store
  kSame = 1,     // where it is here
  kMoved = 2,    // at (remote.parent, remote.name): a move or a deletion waits
  kEncoded = 3,  // where it is here; its key does not follow from its name: remote.name has it
};

// What a file, or all that is below a folder, does on this machine.
enum class Placement : std::uint8_t {
  kNone = 0,   // as what it is in
  kCache = 1,  // here after use, while there is room
  kPin = 2,    // always here
  kThin = 3,   // its bytes are not kept after use or upload
  kHide = 4,   // not shown here
  kLocal = 5,  // only here: never goes to the store
};

// Local changes of content and attributes that the store has not got yet (docs/recovery.md has the
// table of what each flag means after a crash). All but kAttributes and kOwn... come and go with
// kData.
enum Dirty : std::uint32_t {
  kClean = 0,
  kData = 1,
  kAttributes = 2,
  // A state of the waiting bytes was synced: they are not given up for the store's version, and
  // later states are sent only when they are synced, too.
  kSynced = 4,
  kTruncatedUnflushed = 8,  // as kUnflushed, and opened with O_TRUNC
  // A power cut may have taken some of the bytes; the store may have got more of them before.
  kMaybeStale = 16,
  // The file was as at the store; what was written since was neither closed nor synced.
  kUnflushed = 32,
  // With kAttributes: the ones that were set here since the store has got them.
  kOwnMode = 64,
  kOwnOwner = 128,
  kOwnTime = 256,
  kOwnGroup = 512,
  // A deleted node: the deletion was synced with its folder before another node took the name.
  kDurableUnlink = 1024,
  kAttemptHadData = 2048,      // a deleted node: the attempt elsewhere had new bytes
  kReplacedByUnsynced = 4096,  // a deleted node: the file that was moved over it had waiting bytes
  kOwn = kOwnMode | kOwnOwner | kOwnGroup | kOwnTime,
  kAllData = kData | kSynced | kTruncatedUnflushed | kMaybeStale | kUnflushed
};

// Where the store has a node, and the version that was last agreed on.
struct RemoteState {
  RemotePlace place = RemotePlace::kNone;
  NodeId parent = kNoNode;  // with kMoved
  std::string name;         // with kMoved and kEncoded: as the store spells it
  std::string version;
  std::uint64_t size = 0;
  bool operator==(const RemoteState&) const = default;
};

// Where a request was to make or move the node, if its outcome is not known.
struct Attempt {
  NodeId parent = kNoNode;
  std::string name;
  bool any() const { return parent != kNoNode; }
  bool operator==(const Attempt&) const = default;
};

// The node's place in the queue of local changes.
struct PendingState {
  std::int64_t seq = 0;  // order among the waiting changes; 0: nothing waits
  Nanos since = 0;       // all that was written of the change is at least as new
  std::int64_t tries = 0;
  std::string error;  // why the last try failed, or ""
  bool operator==(const PendingState&) const = default;
};

// The object at the store that the node is to be a copy of; no path: none.
struct CopySource {
  std::string path, version;
  bool operator==(const CopySource&) const = default;
};

// The node's bytes on this disk (cache/eviction.h).
struct CacheState {
  std::uint64_t bytes = 0;
  Nanos used_at = 0;
  bool used_again = false;
  bool operator==(const CacheState&) const = default;
};

// A copy that was kept because the store had another version under its name.
struct ConflictCopy {
  bool unsettled = false;
  std::string original_name;
  bool operator==(const ConflictCopy&) const = default;
};

// The placement that was set on this very node.
struct OwnRule {
  Placement placement = Placement::kNone;
  Nanos set_at = 0;
  std::string set_by;  // "": for this machine; else the host that set it for all
  bool operator==(const OwnRule&) const = default;
};

struct Node {
  NodeId id = kNoNode;
  NodeKind kind = NodeKind::kFile;
  NodeId parent = kNoNode;  // kNoNode: deleted here; the row lives until the store knows
  std::string name;

  std::uint64_t size = 0;
  Nanos mtime = 0, ctime = 0;
  Nanos atime = 0;  // as a program has set it; 0: none has
  std::uint32_t mode = 0644;
  std::int64_t uid = -1, gid = -1;  // -1: the drive's owner
  std::string target;  // of a symbolic link; of a tombstone: the origin of the file that moved
  bool attributes_known = true;  // false: from a listing, which does not carry them
  bool marker = false;           // folders: the store keeps them while they are empty
  bool may_write = true;         // false: the account has no right to change it at the store
  Nanos listed_at = 0;           // folders: wall time of the last complete listing; 0: never

  RemoteState remote;
  std::uint32_t dirty = kClean;
  std::uint64_t generation = 0;  // grows with every change of content, here or at the store
  // Changed files: so many of the first bytes are the remote version's, except those present here.
  std::uint64_t base_size = 0;
  CopySource copy;
  UploadLog upload_log;
  Attempt attempt;
  PendingState pending;

  CacheState cached;
  ConflictCopy conflict_copy;
  OwnRule own_rule;
  Placement effective = Placement::kCache;  // the placement that follows from all folders above

  bool gone() const { return parent == kNoNode; }
  // The folder that has the node at the store, or, if the store does not have it, is to have it.
  NodeId remote_parent() const {
    return remote.place == RemotePlace::kMoved ? remote.parent : parent;
  }
  bool operator==(const Node&) const = default;
};

struct PendingSummary {
  std::uint64_t files = 0, bytes = 0;
  Nanos oldest = 0;
};

// All that is below a folder, shown or hidden; kept up to date with every change, never walked.
struct Sums {
  std::int64_t files = 0, folders = 0;      // symbolic links are files
  std::int64_t bytes = 0, on_disk = 0;      // sizes, and bytes of content on this disk
  std::int64_t whole = 0;                   // files that are wholly on this disk
  std::int64_t pending = 0, conflicts = 0;  // files and folders
  std::int64_t unlisted = 0;                // folders that were never looked into
  std::int64_t pinned_files = 0, pinned_bytes = 0, pinned_on_disk = 0;
  std::int64_t local_files = 0;
  std::int64_t once_on_disk = 0;  // of what may be evicted and was used once
  Sums& operator+=(const Sums& other);
  Sums& operator-=(const Sums& other);
  bool operator==(const Sums&) const = default;
};

// A rule that is bound to no node here: for names by pattern, or, set for all machines, for a path.
struct Rule {
  std::string key;  // a pattern, or a path relative to the drive
  bool is_pattern = false;
  Placement placement = Placement::kNone;  // kNone: it was taken away (remembered for merging)
  Nanos set_at = 0;
  std::string set_by;       // a host's name
  bool everywhere = false;  // for all machines on the account
  bool operator==(const Rule&) const = default;
};

// What a drive remembers besides its nodes; a missing one reads as "".
enum class Mark {
  kDriveId,          // random, in the origin of everything that this drive writes
  kBootId,           // of the machine, when the drive was last opened
  kCleanShutdown,    // "1": the drive was closed, and nothing was sent since
  kLastIdBeforeCut,  // the highest node that existed at the last power cut
  kNamesSynced,      // the highest pending.seq that an fsync of a folder has promised
  kSyncedAt,         // wall time up to which all fetched bytes are on the disk
  kSyncedRound,      // the round (Index::SetRound) up to which presence is on the disk
  kHoldFrom,         // deletions from this pending.seq on are held back; and since when
  kProbeResult,      // Provider::ProbeResult
  kFeedCursor,       // Changes::next of the last answer of the store's feed
  kSharedRules,      // the version of the object with the rules for all machines
};

class Index {
 public:
  // Makes the schema where there is none. kRefused: the index has another format. kDamaged: it is
  // not as it was written; a large database is examined in full only with `thorough`.
  static Result<std::unique_ptr<Index>> Open(const std::string& path, Disk* disk = &RealDisk(),
                                             bool thorough = true);

  Transaction Begin() { return Transaction(&db_); }
  // What is committed survives a power cut. May be called by another thread than all else.
  Status Sync();
  std::int64_t Changes() const { return db_.Changes(); }  // grows with everything that is written

  Result<std::optional<Node>> Get(NodeId id);
  Result<std::optional<Node>> Find(NodeId parent, std::string_view name);
  // A node whose place at the store is its own (kMoved or kEncoded).
  Result<std::optional<Node>> FindRemote(NodeId there_parent, std::string_view there_name,
                                         bool folder);
  // The node of which something may have been begun there; kNoNode: none.
  Result<NodeId> FindAttempt(NodeId tried_parent, std::string_view tried_name);
  Result<std::vector<NodeId>> FoldersWithAttempts();  // the folders of all such places
  // Children here with ids above `after`, in order of id, at most `limit`.
  Result<std::vector<Node>> Children(NodeId parent, NodeId after, int limit);
  // Ids of all nodes that the store has in that folder, whichever place they have here.
  Result<std::vector<NodeId>> RemoteChildren(NodeId there_parent);
  // Names that the store has in that folder for what is of this version.
  Result<std::vector<std::string>> RemoteNames(NodeId there_parent, std::string_view version);
  Result<bool> HasChildren(NodeId parent);
  Result<NodeId> AnyRemoteChild(NodeId there_parent);  // one whose place there is its own or unsure
  Result<bool> HasCopies();                            // that the store is to make
  // A node other than `but` that is to be a copy of the object at that path; kNoNode: none.
  Result<NodeId> AnyCopyOf(std::string_view path, NodeId but);
  Result<NodeId> AnyAttemptIn(NodeId tried_parent);  // as FindAttempt, of any name
  Result<std::uint64_t> CountChildren(NodeId parent);

  // Gives the node its id. kExists if the name is taken.
  Status Insert(Node* node);
  Status Update(const Node& node);
  Status Delete(NodeId id);

  Status StartIdsAbove(NodeId id);  // of nodes
  Status SkipIds(std::int64_t count);
  Result<NodeId> LastId();  // given, or skipped
  std::int64_t NextSeq() { return ++last_seq_; }
  std::int64_t last_seq() const { return last_seq_; }
  void SkipSeqs(std::int64_t to) { last_seq_ = std::max(last_seq_, to); }
  Result<std::vector<Node>> PendingNodes(std::int64_t after, int limit);
  Result<std::uint64_t> OnDiskWaiting();  // bytes on this disk that no store has yet
  // Rows whose place at the store is in a folder whose own row is gone: there must be none.
  Result<std::vector<NodeId>> Orphans();
  Result<PendingSummary> Pending();
  // Bytes that wait for upload beyond those that they replace at the store, but for one node's.
  Result<std::uint64_t> PendingGrowth(NodeId but);
  // The folder whose listing is the oldest, if older than that; kNoNode if none is.
  Result<NodeId> LongestUnlisted(Nanos before);
  // Deletions that wait, from that pending.seq on, in order.
  Result<std::vector<Node>> Deletions(std::int64_t from);
  Result<std::uint64_t> CountFiles();  // that are shown here
  Result<std::vector<Node>> Conflicts();
  Result<std::vector<Node>> GoneEverywhere();  // rows that nothing needs any more

  // Which bytes of a node's content are on this disk (cache/range_set.h's serial form).
  Result<std::string> Presence(NodeId id);
  Status SavePresence(NodeId id, std::string_view ranges);
  // Rounds are what lies between two syncs of all that a drive keeps. Presence is saved with the
  // round that is set (0 at first): what the disk has of it is not sure before that one is over.
  void SetRound(std::int64_t round) { round_ = round; }
  std::int64_t round() const { return round_; }
  Result<std::int64_t> RoundOf(NodeId id);  // 0: none
  Status DropPresence(NodeId id);
  // Clean contents on this disk that may go, of one segment, least recently used first.
  Result<std::vector<Node>> LeastUsed(bool again, int limit);
  Result<std::uint64_t> BytesOnDisk();
  Result<std::vector<std::pair<NodeId, std::uint64_t>>> AllOnDisk();

  Result<Sums> SumsOf(NodeId folder);
  Status CheckPlaces();  // kDamaged: something is in a folder that is not known (for tests)
  Status CheckSums();    // kDamaged: they are not what a walk finds (for tests; walks everything)
  // Nodes that have a placement of their own.
  Result<std::vector<Node>> Placed();
  Result<std::vector<Rule>> Rules();
  Status SaveRule(const Rule& rule);  // replaces the one of the same key, kind and scope
  Status DeleteRule(const Rule& rule);

  Result<std::string> Meta(Mark mark);
  Status SetMeta(Mark mark, std::string_view value);

 private:
  Index() = default;
  Status Prepare();
  Status PrepareSums();
  Result<std::unordered_map<NodeId, Sums>> WalkSums();
  Result<Sums> ShareOf(const Node& node);  // what it adds to the folder that it is in
  Status Count(NodeId parent, const Sums& before, NodeId new_parent, const Sums& after);
  Status FlushSums();
  Status Examine();
  static Node FromRow(const Statement& row);
  void BindNode(Statement* statement, const Node& node) const;
  Result<std::vector<Node>> Rows(Statement* statement);
  Result<std::optional<Node>> Row(Statement* statement);

  std::string path_;
  Disk* disk_ = nullptr;
  Database db_;
  std::int64_t last_seq_ = 0;
  std::unordered_map<NodeId, Sums> deltas_;  // by folder, of the transaction under way
  std::int64_t round_ = 0;
  Statement was_, sums_, add_sums_, drop_sums_, placed_, rules_, save_rule_, delete_rule_;
  Statement get_, find_, find_remote_, find_attempt_, deletions_, children_, remote_children_,
      remote_names_, folders_with_attempts_, any_attempt_in_, any_copy_of_, has_copies_,
      has_children_, any_remote_child_, count_, insert_, update_, delete_, pending_nodes_, pending_,
      conflicts_, gone_, presence_, save_presence_, drop_presence_, round_of_, least_used_,
      on_disk_waiting_, orphans_, on_disk_, all_on_disk_, meta_, set_meta_;
};

}  // namespace pargeter
