// The local database of one drive: every name with what is here, what is there and what was last
// agreed; intents; what is cached. SQLite, write-ahead log, one writer.
//
// Durability: a committed transaction survives the death of this process; after Sync also a power
// cut. Not thread-safe: the drive calls it under its tree lock, and only one process owns it.
//
// Every node stands in two trees. "Here" is what this machine shows: (parent, name). "There" is
// what the store holds, as far as it has acknowledged or shown it: the same place, or a place of
// its own while a move waits, or none. A folder's move is one row in either tree. What differs
// between the trees is what the uploader has to do; `intent` orders it.
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

namespace pargeter {

using NodeId = std::int64_t;
constexpr NodeId kRootId = 1;
constexpr NodeId kNoNode = 0;

enum class NodeKind : std::uint8_t { kFile = 0, kFolder = 1, kSymlink = 2 };

enum class There : std::uint8_t {
  kAbsent = 0,     // not at the store
  kSame = 1,       // where it is here
  kElsewhere = 2,  // at (there_parent, there_name): a move or a deletion waits
  kSpelled = 3,    // where it is here, but its key cannot be told from its name: there_name has it
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

// The others come and go with kData. kSynced: a state of what waits was synced, and may not be
// given up for the store's version; later ones are sent only as they are synced, too. kBegun: it
// was as the store has it, and what was written since has been neither closed nor synced; kEmptied:
// opened to be written anew, moreover. kUnsure: a power cut may have taken something of it; the
// store may have got more of it before. kOwn...: which of the attributes were set here since the
// store has got them (with kAttributes). kForGood: of what is gone; that was synced with its folder
// before another took its name. kTriedData: of what is gone; what it had tried to make elsewhere
// had new bytes. kByWaiting: of what is gone; what took its name by a move had bytes that waited.
enum Dirty : std::uint32_t {
  kClean = 0,
  kData = 1,
  kAttributes = 2,
  kSynced = 4,
  kEmptied = 8,
  kUnsure = 16,
  kBegun = 32,
  kOwnMode = 64,
  kOwnOwner = 128,
  kOwnTime = 256,
  kOwnGroup = 512,
  kForGood = 1024,
  kTriedData = 2048,
  kByWaiting = 4096,
  kOwn = kOwnMode | kOwnOwner | kOwnGroup | kOwnTime,
  kAllData = kData | kSynced | kEmptied | kUnsure | kBegun
};

struct Node {
  NodeId id = kNoNode;
  NodeKind kind = NodeKind::kFile;
  NodeId parent = kNoNode;  // kNoNode: gone here; the row lives until the store knows
  std::string name;
  There there = There::kAbsent;
  NodeId there_parent = kNoNode;
  std::string there_name;  // as the store spells it

  std::uint64_t size = 0;
  Nanos mtime = 0, ctime = 0;
  Nanos atime = 0;  // as a program has set it; 0: none has
  std::uint32_t mode = 0644;
  std::int64_t uid = -1, gid = -1;  // -1: the drive's owner
  std::string target;  // of a symbolic link; of what a move left at its old place: who wrote it
  bool attributes_known = true;  // false: from a listing, which does not carry them
  bool marker = false;           // folders: the store keeps them while they are empty
  bool may_write = true;         // false: the account has no right to change it there

  std::string version;  // at the store, as last agreed
  std::uint64_t there_size = 0;
  // Changed files: so many of the first bytes are the version's, but for what is present.
  std::uint64_t base_size = 0;
  Nanos listed_at = 0;  // folders: wall time of the last complete listing; 0: never

  std::uint32_t dirty = kClean;
  std::uint64_t generation = 0;  // goes up with every local change of content
  std::string copy_of;           // path at the store that this is to be a copy of, or ""
  std::string copy_version;
  std::string upload;  // what was begun to be sent, and where; or "". See engine/sent.cc
  // Where something was last begun to be made at the store, of which it is not known whether it
  // came to be; kNoNode: nowhere.
  NodeId tried_parent = kNoNode;
  std::string tried_name;

  std::int64_t intent = 0;  // order among the waiting changes; 0: nothing waits
  Nanos intent_since = 0;   // since when; what was written of it here is no older
  std::int64_t attempts = 0;
  std::string error;          // why the last attempt failed, or ""
  std::uint64_t on_disk = 0;  // bytes of content on this disk
  Nanos used_at = 0;
  bool used_again = false;  // cache/eviction.h
  bool conflict = false;    // a copy kept beside another side's version, not settled yet
  std::string beside;       // the name that it had

  Placement placement = Placement::kNone;   // set on this very node
  Nanos placed_at = 0;                      // when
  std::string placed_by;                    // "": for this machine; else who set it for all
  Placement effective = Placement::kCache;  // what it amounts to, with all that it is in

  bool gone() const { return parent == kNoNode; }
  // The folder that has the node at the store, or, of a node that the store does not have, is to
  // have it.
  NodeId remote_parent() const { return there == There::kElsewhere ? there_parent : parent; }
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
  kDriveId,      // random, in the origin of everything that this drive writes
  kBootId,       // of the machine, when the drive was last opened
  kAllKnown,     // "1": the drive was closed, and nothing was sent since
  kLastOfCut,    // the highest node that existed at the last power cut
  kNamesSynced,  // the highest intent that an fsync of a folder has promised
  kSyncedAt,     // wall time up to which all fetched bytes are on the disk
  kSyncedRound,  // the round (Index::SetRound) up to which presence is on the disk
  kHoldFrom,     // deletions from this intent on are held back; and since when
  kProbeResult,  // Provider::ProbeResult
  kFeedMoment,   // Changes::next of the last answer of the store's feed
  kSharedRules,  // the version of the object with the rules for all machines
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
  // A node whose place at the store is its own (kElsewhere or kSpelled).
  Result<std::optional<Node>> FindThere(NodeId there_parent, std::string_view there_name,
                                        bool folder);
  // The node of which something may have been begun there; kNoNode: none.
  Result<NodeId> FindTried(NodeId tried_parent, std::string_view tried_name);
  Result<std::vector<NodeId>> TriedIn();  // the folders of all such places
  // Children here with ids above `after`, in order of id, at most `limit`.
  Result<std::vector<Node>> Children(NodeId parent, NodeId after, int limit);
  // Ids of all nodes that the store has in that folder, whichever place they have here.
  Result<std::vector<NodeId>> ThereChildren(NodeId there_parent);
  // Names that the store has in that folder for what is of this version.
  Result<std::vector<std::string>> NamesThere(NodeId there_parent, std::string_view version);
  Result<bool> HasChildren(NodeId parent);
  Result<NodeId> AnyThereChild(NodeId there_parent);  // one whose place there is its own or unsure
  Result<NodeId> AnyTriedIn(NodeId tried_parent);     // as FindTried, of any name
  Result<std::uint64_t> CountChildren(NodeId parent);

  // Gives the node its id. kExists if the name is taken.
  Status Insert(Node* node);
  Status Update(const Node& node);
  Status Delete(NodeId id);

  Status StartIdsAbove(NodeId id);  // of nodes
  Status SkipIds(std::int64_t count);
  Result<NodeId> LastId();  // given, or skipped
  std::int64_t NextIntent() { return ++last_intent_; }
  std::int64_t last_intent() const { return last_intent_; }
  void SkipIntents(std::int64_t to) { last_intent_ = std::max(last_intent_, to); }
  Result<std::vector<Node>> Intents(std::int64_t after, int limit);
  Result<std::uint64_t> OnDiskWaiting();  // bytes on this disk that no store has yet
  // Rows whose place at the store is in a folder whose own row is gone: there must be none.
  Result<std::vector<NodeId>> Orphans();
  Result<PendingSummary> Pending();
  // Bytes that wait for upload beyond those that they replace at the store, but for one node's.
  Result<std::uint64_t> PendingGrowth(NodeId but);
  // The folder whose listing is the oldest, if older than that; kNoNode if none is.
  Result<NodeId> LongestUnlisted(Nanos before);
  // Deletions that wait, from that intent on, in order.
  Result<std::vector<Node>> Deletions(std::int64_t from);
  Result<std::uint64_t> CountFiles();  // that are shown here
  Result<std::vector<Node>> Conflicts();
  Result<std::vector<Node>> GoneAndAbsent();  // rows that nothing needs any more

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
  std::int64_t last_intent_ = 0;
  std::unordered_map<NodeId, Sums> deltas_;  // by folder, of the transaction under way
  std::int64_t round_ = 0;
  Statement was_, sums_, add_sums_, drop_sums_, placed_, rules_, save_rule_, delete_rule_;
  Statement get_, find_, find_there_, find_tried_, deletions_, children_, there_children_,
      names_there_, tried_in_, any_tried_, has_children_, has_there_, count_, insert_, update_,
      delete_, intents_, pending_, conflicts_, gone_, presence_, save_presence_, drop_presence_,
      round_of_, least_used_, on_disk_waiting_, orphans_, on_disk_, all_on_disk_, meta_, set_meta_;
};

}  // namespace pargeter
