#include "index/index.h"

#include <fcntl.h>
#include <fmt/format.h>

namespace pargeter {
namespace {

// The format of an index, in PRAGMA user_version. A change of the schema gets the next number and,
// from the first released format on, a migration from each released one.
constexpr int kSchemaVersion = 8;

constexpr const char* kSchema = R"sql(
CREATE TABLE nodes(
  id INTEGER PRIMARY KEY AUTOINCREMENT, kind INT NOT NULL, parent INT, name BLOB NOT NULL,
  there INT NOT NULL, there_parent INT, there_name BLOB,
  size INT NOT NULL, mtime INT NOT NULL, ctime INT NOT NULL, mode INT NOT NULL, uid INT, gid INT,
  target BLOB, attributes_known INT NOT NULL, marker INT NOT NULL,
  version BLOB, there_size INT, listed_at INT, dirty INT NOT NULL, generation INT,
  copy_of BLOB, copy_version BLOB, upload BLOB,
  intent INT, intent_since INT, attempts INT, error BLOB, on_disk INT NOT NULL, used_at INT, conflict INT,
  tried_parent INT, tried_name BLOB, beside BLOB,
  placement INT NOT NULL DEFAULT 0, placed_at INT, placed_by BLOB,
  effective INT NOT NULL DEFAULT 1, used_again INT NOT NULL DEFAULT 0,
  may_write INT NOT NULL DEFAULT 1, base_size INT NOT NULL DEFAULT 0,
  atime INT NOT NULL DEFAULT 0);
-- a name is taken once in a folder
CREATE UNIQUE INDEX here ON nodes(parent, name) WHERE parent IS NOT NULL;
-- reading a folder goes by id, so that a position in it stays true while it changes
CREATE INDEX reading ON nodes(parent) WHERE parent IS NOT NULL;
CREATE INDEX elsewhere ON nodes(there_parent, there_name) WHERE there_parent IS NOT NULL;
CREATE INDEX tried ON nodes(tried_parent, tried_name) WHERE tried_parent IS NOT NULL;
CREATE INDEX copies ON nodes(copy_of) WHERE copy_of IS NOT NULL;
CREATE UNIQUE INDEX waiting ON nodes(intent) WHERE intent IS NOT NULL;
CREATE INDEX apart ON nodes(conflict) WHERE conflict > 0;
CREATE TABLE presence(node INTEGER PRIMARY KEY, ranges BLOB NOT NULL,
  round INT NOT NULL DEFAULT 0);
CREATE TABLE meta(key BLOB PRIMARY KEY, value BLOB NOT NULL) WITHOUT ROWID;
CREATE INDEX evictable ON nodes(used_again, used_at) WHERE on_disk > 0 AND effective <> 2 AND effective <> 5;
CREATE INDEX placed ON nodes(placement) WHERE placement > 0;
CREATE TABLE sums(folder INTEGER PRIMARY KEY, files INT NOT NULL, folders INT NOT NULL,
  bytes INT NOT NULL, on_disk INT NOT NULL, whole INT NOT NULL, pending INT NOT NULL,
  conflicts INT NOT NULL, unlisted INT NOT NULL, pinned_files INT NOT NULL,
  pinned_bytes INT NOT NULL, pinned_on_disk INT NOT NULL, local_files INT NOT NULL,
  once_on_disk INT NOT NULL);
CREATE TABLE rules(key BLOB NOT NULL, is_pattern INT NOT NULL, everywhere INT NOT NULL,
  placement INT NOT NULL, set_at INT NOT NULL, set_by BLOB NOT NULL,
  PRIMARY KEY(key, is_pattern, everywhere)) WITHOUT ROWID;
CREATE INDEX listed ON nodes(listed_at) WHERE kind=1 AND listed_at > 0;
)sql";

constexpr const char* kColumns =
    "id, kind, parent, name, there, there_parent, there_name, size, mtime, ctime, mode, uid, gid, "
    "target, attributes_known, marker, version, there_size, listed_at, dirty, generation, copy_of, "
    "copy_version, upload, intent, intent_since, attempts, error, on_disk, used_at, conflict, "
    "tried_parent, tried_name, beside, placement, placed_at, placed_by, effective, used_again, "
    "may_write, base_size, atime";

}  // namespace

Result<std::unique_ptr<Index>> Index::Open(const std::string& path, Disk* disk, bool thorough) {
  auto index = std::unique_ptr<Index>(new Index());
  index->path_ = path;
  index->disk_ = disk;
  PG_ASSIGN(index->db_, Database::Open(path));
  // One process has it, by the drive's own lock: SQLite need not lock its file for each access.
  PG_TRY(index->db_.Execute("PRAGMA locking_mode=EXCLUSIVE"));
  if (thorough) PG_TRY(index->Examine());
  PG_TRY(index->db_.Execute("PRAGMA journal_mode=WAL"));
  // Commits need not reach the disk's platter, only the kernel; Sync does the rest. Checkpoints
  // are rare, since each one waits for the disk.
  PG_TRY(
      index->db_.Execute("PRAGMA synchronous=NORMAL; PRAGMA wal_autocheckpoint=8192;"
                         "PRAGMA cache_size=-32768; PRAGMA temp_store=MEMORY"));
  PG_ASSIGN(Statement version, index->db_.Prepare("PRAGMA user_version"));
  PG_TRY(version.Step());
  const std::int64_t schema = version.Int(0);
  version.Reset();
  if (schema != 0 && schema != kSchemaVersion) {
    return Error(
        Code::kRefused,
        fmt::format("the drive's index has the format {}, and this program knows only {}", schema,
                    kSchemaVersion),
        schema > kSchemaVersion
            ? "Use the newer program again."
            : "Use the former program until all is uploaded, then remove the drive and add "
              "it again.");
  }
  if (schema == 0) {
    Transaction transaction = index->Begin();
    PG_TRY(index->db_.Execute(kSchema));
    PG_TRY(index->db_.Execute(fmt::format("PRAGMA user_version={}", kSchemaVersion)));
    PG_TRY(transaction.Commit());
  }
  // (an index that an earlier build has made lacks it)
  PG_TRY(index->db_.Execute(
      "CREATE INDEX IF NOT EXISTS copies ON nodes(copy_of) WHERE copy_of IS NOT NULL"));
  // the log's own name must survive a power cut, else Sync syncs a file that is nowhere
  PG_TRY(disk->SyncFolder(path.substr(0, path.rfind('/'))));
  PG_TRY(index->Prepare());
  PG_ASSIGN(const auto root, index->Get(kRootId));
  if (!root) {
    Node node;
    node.id = kRootId;
    node.kind = NodeKind::kFolder;
    node.parent = kRootId;
    node.mode = 0755;
    node.remote.place = RemotePlace::kSame;
    node.mtime = node.ctime = SystemClock().Wall();
    PG_TRY(index->Insert(&node));
  }
  return index;
}

Status Index::Examine() {
  PG_ASSIGN(Statement check, db_.Prepare("PRAGMA quick_check(1)"));
  PG_ASSIGN(const bool answered, check.Step());
  const std::string verdict = answered ? check.Blob(0) : "no answer";
  check.Reset();
  if (verdict == "ok") return {};
  return Error(Code::kDamaged, "the drive's index is damaged: " + verdict);
}

Status Index::Sync() {
  // the log file is synced by a descriptor of our own: SQLite's locks are on other files
  PG_ASSIGN(const Fd wal, disk_->Open(path_ + "-wal", O_RDONLY));
  return disk_->SyncData(wal.get());
}

Result<std::optional<Node>> Index::Get(NodeId id) { return Row(&get_.Bind(1, id)); }
Result<std::optional<Node>> Index::Find(NodeId parent, std::string_view name) {
  return Row(&find_.Bind(1, parent).Bind(2, name));
}
Result<std::optional<Node>> Index::FindRemote(NodeId parent, std::string_view name, bool folder) {
  return Row(&find_remote_.Bind(1, parent).Bind(2, name).Bind(3, folder ? 1 : 0));
}
Result<std::vector<Node>> Index::Children(NodeId parent, NodeId after, int limit) {
  return Rows(&children_.Bind(1, parent).Bind(2, after).Bind(3, limit));
}

Result<std::vector<NodeId>> Index::RemoteChildren(NodeId there_parent) {
  std::vector<NodeId> ids;
  remote_children_.Bind(1, there_parent);
  for (;;) {
    PG_ASSIGN(const bool more, remote_children_.Step());
    if (!more) return ids;
    ids.push_back(remote_children_.Int(0));
  }
}

Result<std::vector<NodeId>> Index::FoldersWithAttempts() {
  std::vector<NodeId> ids;
  for (;;) {
    PG_ASSIGN(const bool more, folders_with_attempts_.Step());
    if (!more) return ids;
    ids.push_back(folders_with_attempts_.Int(0));
  }
}

Result<std::vector<std::string>> Index::RemoteNames(NodeId there_parent, std::string_view version) {
  std::vector<std::string> names;
  remote_names_.Bind(1, there_parent).Bind(2, version);
  for (;;) {
    PG_ASSIGN(const bool more, remote_names_.Step());
    if (!more) return names;
    names.push_back(remote_names_.Blob(0));
  }
}

static Result<std::int64_t> OneInt(Statement* statement) {
  PG_ASSIGN(const bool found, statement->Step());
  const std::int64_t value = found ? statement->Int(0) : 0;
  statement->Reset();
  return value;
}

Result<bool> Index::HasChildren(NodeId parent) {
  PG_ASSIGN(const std::int64_t n, OneInt(&has_children_.Bind(1, parent)));
  return n > 0;
}
Result<NodeId> Index::AnyRemoteChild(NodeId parent) {
  return OneInt(&any_remote_child_.Bind(1, parent));
}
Result<NodeId> Index::AnyAttemptIn(NodeId parent) {
  return OneInt(&any_attempt_in_.Bind(1, parent));
}
Result<bool> Index::HasCopies() {
  PG_ASSIGN(const std::int64_t one, OneInt(&has_copies_));
  return one != 0;
}
Result<NodeId> Index::AnyCopyOf(std::string_view path, NodeId but) {
  return OneInt(&any_copy_of_.Bind(1, path).Bind(2, but));
}
Result<std::uint64_t> Index::CountChildren(NodeId parent) {
  PG_ASSIGN(const std::int64_t n, OneInt(&count_.Bind(1, parent)));
  return static_cast<std::uint64_t>(n);
}

Status Index::Insert(Node* node) {
  Transaction transaction = Begin();
  BindNode(&insert_, *node);
  PG_TRY(insert_.Run());
  node->id = db_.LastRowId();
  PG_ASSIGN(const Sums share, ShareOf(*node));
  PG_TRY(Count(kNoNode, {}, node->parent, share));
  return transaction.Commit();
}
Status Index::Update(const Node& node) {
  Transaction transaction = Begin();
  PG_ASSIGN(const std::optional<Node> was, Row(&was_.Bind(1, node.id)));
  BindNode(&update_, node);
  PG_TRY(update_.Run());
  if (was) {
    PG_ASSIGN(const Sums before, ShareOf(*was));
    PG_ASSIGN(const Sums after, ShareOf(node));
    PG_TRY(Count(was->parent, before, node.parent, after));
  }
  return transaction.Commit();
}
Status Index::Delete(NodeId id) {
  Transaction transaction = Begin();
  PG_ASSIGN(const std::optional<Node> was, Row(&was_.Bind(1, id)));
  PG_TRY(delete_.Bind(1, id).Run());
  if (was) {
    PG_ASSIGN(const Sums before, ShareOf(*was));
    PG_TRY(Count(was->parent, before, kNoNode, {}));
    deltas_.erase(id);
    PG_TRY(drop_sums_.Bind(1, id).Run());
  }
  PG_TRY(DropPresence(id));
  return transaction.Commit();
}

Status Index::StartIdsAbove(NodeId id) {
  return db_.Execute(fmt::format("UPDATE sqlite_sequence SET seq={} WHERE name='nodes'", id));
}

Status Index::SkipIds(std::int64_t count) {
  return db_.Execute(
      fmt::format("UPDATE sqlite_sequence SET seq=seq+{} WHERE name='nodes'", count));
}

Result<NodeId> Index::LastId() {
  PG_ASSIGN(Statement last, db_.Prepare("SELECT seq FROM sqlite_sequence WHERE name='nodes'"));
  return OneInt(&last);
}

Result<std::vector<Node>> Index::PendingNodes(std::int64_t after, int limit) {
  return Rows(&pending_nodes_.Bind(1, after).Bind(2, limit));
}

Result<PendingSummary> Index::Pending() {
  PG_ASSIGN(const bool found, pending_.Step());
  PendingSummary out;
  if (found) {
    out.files = static_cast<std::uint64_t>(pending_.Int(0));
    out.bytes = static_cast<std::uint64_t>(pending_.Int(1));
    out.oldest = pending_.Int(2);
  }
  pending_.Reset();
  return out;
}

Result<NodeId> Index::LongestUnlisted(Nanos before) {
  PG_ASSIGN(Statement oldest, db_.Prepare("SELECT id FROM nodes WHERE kind=1 AND listed_at > 0 AND "
                                          "listed_at < ?1 AND parent IS NOT NULL AND there > 0 "
                                          "ORDER BY listed_at LIMIT 1"));
  return OneInt(&oldest.Bind(1, before));
}

Result<std::uint64_t> Index::PendingGrowth(NodeId but) {
  PG_ASSIGN(
      Statement sum,
      db_.Prepare(
          "SELECT COALESCE(SUM(MAX(size-there_size,0)),0) FROM nodes "
          "WHERE intent IS NOT NULL AND kind=0 AND (dirty&1) AND parent IS NOT NULL AND id<>?1"));
  sum.Bind(1, but);
  PG_ASSIGN(const std::int64_t n, OneInt(&sum));
  return static_cast<std::uint64_t>(n);
}

Result<NodeId> Index::FindAttempt(NodeId parent, std::string_view name) {
  return OneInt(&find_attempt_.Bind(1, parent).Bind(2, name));
}
Result<std::vector<Node>> Index::Deletions(std::int64_t from) {
  return Rows(&deletions_.Bind(1, from));
}
Result<std::uint64_t> Index::CountFiles() {
  PG_ASSIGN(Statement count, db_.Prepare("SELECT COUNT(*) FROM nodes WHERE kind<>1 AND parent>0"));
  PG_ASSIGN(const std::int64_t n, OneInt(&count));
  return static_cast<std::uint64_t>(n);
}
Result<std::vector<Node>> Index::Conflicts() { return Rows(&conflicts_); }
Result<std::vector<Node>> Index::GoneEverywhere() { return Rows(&gone_); }

Result<std::string> Index::Presence(NodeId id) {
  PG_ASSIGN(const bool found, presence_.Bind(1, id).Step());
  std::string ranges = found ? presence_.Blob(0) : "";
  presence_.Reset();
  return ranges;
}
Status Index::SavePresence(NodeId id, std::string_view ranges) {
  return save_presence_.Bind(1, id).Bind(2, ranges).Bind(3, round_).Run();
}
Result<std::int64_t> Index::RoundOf(NodeId id) {
  PG_ASSIGN(const bool found, round_of_.Bind(1, id).Step());
  const std::int64_t round = found ? round_of_.Int(0) : 0;
  round_of_.Reset();
  return round;
}
Status Index::DropPresence(NodeId id) { return drop_presence_.Bind(1, id).Run(); }
Result<std::vector<Node>> Index::LeastUsed(bool again, int limit) {
  return Rows(&least_used_.Bind(1, std::int64_t{again}).Bind(2, limit));
}
Result<std::uint64_t> Index::OnDiskWaiting() {
  PG_ASSIGN(const std::int64_t n, OneInt(&on_disk_waiting_));
  return static_cast<std::uint64_t>(n);
}
Result<std::vector<NodeId>> Index::Orphans() {
  std::vector<NodeId> out;
  for (;;) {
    PG_ASSIGN(const bool more, orphans_.Step());
    if (!more) return out;
    out.push_back(orphans_.Int(0));
  }
}
Result<std::uint64_t> Index::BytesOnDisk() {
  PG_ASSIGN(const std::int64_t n, OneInt(&on_disk_));
  return static_cast<std::uint64_t>(n);
}
Result<std::vector<std::pair<NodeId, std::uint64_t>>> Index::AllOnDisk() {
  std::vector<std::pair<NodeId, std::uint64_t>> out;
  for (;;) {
    PG_ASSIGN(const bool more, all_on_disk_.Step());
    if (!more) return out;
    out.emplace_back(all_on_disk_.Int(0), static_cast<std::uint64_t>(all_on_disk_.Int(1)));
  }
}

static std::string_view KeyOf(Mark mark) {
  switch (mark) {
    case Mark::kDriveId:
      return "id";
    case Mark::kBootId:
      return "boot";
    case Mark::kCleanShutdown:
      return "all_known";
    case Mark::kLastIdBeforeCut:
      return "last_of_cut";
    case Mark::kNamesSynced:
      return "names_synced";
    case Mark::kSyncedAt:
      return "synced_at";
    case Mark::kSyncedRound:
      return "synced_round";
    case Mark::kHoldFrom:
      return "hold_from";
    case Mark::kProbeResult:
      return "probe";
    case Mark::kFeedCursor:
      return "feed";
    case Mark::kSharedRules:
      return "shared_rules";
  }
  return "";
}

Result<std::string> Index::Meta(Mark mark) {
  PG_ASSIGN(const bool found, meta_.Bind(1, KeyOf(mark)).Step());
  std::string value = found ? meta_.Blob(0) : "";
  meta_.Reset();
  return value;
}
Status Index::SetMeta(Mark mark, std::string_view value) {
  return set_meta_.Bind(1, KeyOf(mark)).Bind(2, value).Run();
}

Status Index::Prepare() {
  const std::string select = fmt::format("SELECT {} FROM nodes ", kColumns);
  std::string marks, sets;
  int at = 0;
  for (std::size_t from = 0; from != std::string::npos;) {
    const std::string columns = kColumns;
    const auto comma = columns.find(", ", from);
    const std::string name =
        columns.substr(from, comma == std::string::npos ? comma : comma - from);
    marks += fmt::format("{}?{}", at > 0 ? "," : "", at + 1);
    if (++at > 1) sets += fmt::format("{}{}=?{}", at > 2 ? "," : "", name, at);
    from = comma == std::string::npos ? comma : comma + 2;
  }
  const auto prepare = [&](Statement* out, const std::string& sql) -> Status {
    PG_ASSIGN(*out, db_.Prepare(sql));
    return {};
  };
  PG_TRY(prepare(&get_, select + "WHERE id=?1"));
  PG_TRY(prepare(&was_, select + "WHERE id=?1"));
  PG_TRY(prepare(&placed_, select + "WHERE placement>0"));
  PG_TRY(prepare(&find_, select + "WHERE parent=?1 AND name=?2 AND parent IS NOT NULL AND id<>1"));
  PG_TRY(prepare(&find_remote_,
                 select + "WHERE there_parent=?1 AND there_name=?2 AND there_parent IS NOT NULL "
                          "AND (kind=1)=?3"));
  PG_TRY(prepare(
      &deletions_,
      select + "WHERE intent>=?1 AND intent IS NOT NULL AND parent IS NULL ORDER BY intent"));
  PG_TRY(prepare(&find_attempt_,
                 "SELECT id FROM nodes WHERE tried_parent=?1 AND tried_name=?2 AND tried_parent IS "
                 "NOT NULL LIMIT 1"));
  PG_TRY(prepare(&children_, select + "INDEXED BY reading WHERE parent=?1 AND id>?2 AND id<>1 "
                                      "AND parent IS NOT NULL ORDER BY id LIMIT ?3"));
  PG_TRY(
      prepare(&remote_children_,
              "SELECT id FROM nodes WHERE parent=?1 AND there=1 AND id<>1 AND parent IS NOT NULL "
              "UNION ALL SELECT id FROM nodes WHERE there_parent=?1 AND there_parent IS NOT NULL"));
  PG_TRY(prepare(&folders_with_attempts_,
                 "SELECT DISTINCT tried_parent FROM nodes WHERE tried_parent IS NOT NULL"));
  PG_TRY(
      prepare(&any_attempt_in_,
              "SELECT id FROM nodes WHERE tried_parent=?1 AND tried_parent IS NOT NULL LIMIT 1"));
  PG_TRY(prepare(&has_copies_, "SELECT 1 FROM nodes WHERE copy_of IS NOT NULL LIMIT 1"));
  PG_TRY(prepare(&any_copy_of_,
                 "SELECT id FROM nodes WHERE copy_of=?1 AND copy_of IS NOT NULL AND id<>?2 LIMIT "
                 "1"));
  PG_TRY(prepare(&remote_names_,
                 "SELECT name FROM nodes WHERE parent=?1 AND there=1 AND version=?2 AND id<>1 AND "
                 "parent IS NOT NULL UNION ALL SELECT there_name FROM nodes WHERE there_parent=?1 "
                 "AND version=?2 AND there_parent IS NOT NULL"));
  PG_TRY(prepare(&has_children_,
                 "SELECT 1 FROM nodes WHERE parent=?1 AND id<>1 AND parent IS NOT NULL LIMIT 1"));
  PG_TRY(
      prepare(&any_remote_child_,
              "SELECT id FROM nodes WHERE there_parent=?1 AND there_parent IS NOT NULL "
              "UNION ALL SELECT id FROM nodes WHERE tried_parent=?1 AND tried_parent IS NOT NULL "
              "LIMIT 1"));
  PG_TRY(prepare(&count_,
                 "SELECT count(*) FROM nodes WHERE parent=?1 AND id<>1 AND parent IS NOT NULL"));
  PG_TRY(prepare(&insert_, fmt::format("INSERT INTO nodes({}) VALUES({})", kColumns, marks)));
  PG_TRY(prepare(&update_, fmt::format("UPDATE nodes SET {} WHERE id=?1", sets)));
  PG_TRY(prepare(&delete_, "DELETE FROM nodes WHERE id=?1"));
  PG_TRY(prepare(&pending_nodes_,
                 select + "WHERE intent>?1 AND intent IS NOT NULL ORDER BY intent LIMIT ?2"));
  PG_TRY(prepare(&pending_,
                 "SELECT count(*), coalesce(sum(CASE WHEN parent IS NOT NULL AND dirty&1 THEN size "
                 "ELSE 0 END),0),"
                 " coalesce(min(intent_since),0) FROM nodes WHERE intent IS NOT NULL"));
  PG_TRY(prepare(&conflicts_, select + "WHERE conflict>0 AND parent IS NOT NULL"));
  PG_TRY(prepare(
      &gone_,
      select + "WHERE parent IS NULL AND there=0 AND upload IS NULL AND tried_parent IS NULL"));
  PG_TRY(prepare(&presence_, "SELECT ranges FROM presence WHERE node=?1"));
  PG_TRY(prepare(&save_presence_,
                 "INSERT OR REPLACE INTO presence(node, ranges, round) VALUES(?1, ?2, ?3)"));
  PG_TRY(prepare(&round_of_, "SELECT round FROM presence WHERE node=?1"));
  PG_TRY(prepare(&drop_presence_, "DELETE FROM presence WHERE node=?1"));
  PG_TRY(prepare(
      &least_used_,
      select + "WHERE on_disk>0 AND effective<>2 AND effective<>5 AND used_again=?1 AND dirty&1=0 "
               "AND parent IS NOT NULL ORDER BY used_at LIMIT ?2"));
  PG_TRY(prepare(&on_disk_waiting_,
                 "SELECT coalesce(sum(on_disk),0) FROM nodes WHERE intent>0 AND dirty&1<>0"));
  PG_TRY(prepare(&orphans_,
                 "SELECT id FROM nodes n WHERE there_parent>0 AND NOT EXISTS "
                 "(SELECT 1 FROM nodes f WHERE f.id=n.there_parent)"));
  PG_TRY(prepare(&on_disk_, "SELECT coalesce(sum(on_disk),0) FROM nodes WHERE on_disk>0"));
  PG_TRY(prepare(&all_on_disk_, "SELECT id, on_disk FROM nodes WHERE on_disk>0"));
  PG_TRY(prepare(&meta_, "SELECT value FROM meta WHERE key=?1"));
  PG_TRY(prepare(&set_meta_, "INSERT OR REPLACE INTO meta(key, value) VALUES(?1, ?2)"));
  PG_ASSIGN(Statement last,
            db_.Prepare("SELECT coalesce(max(intent),0) FROM nodes WHERE intent IS NOT NULL"));
  PG_ASSIGN(last_seq_, OneInt(&last));
  return PrepareSums();
}

}  // namespace pargeter
