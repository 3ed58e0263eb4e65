#include "face/mirror/records.h"

#include "base/text.h"

namespace pargeter {

namespace {

constexpr const char* kSchema = R"(
  CREATE TABLE IF NOT EXISTS records (
    id INTEGER PRIMARY KEY, parent INTEGER NOT NULL, name BLOB NOT NULL, kind INTEGER NOT NULL,
    device INTEGER NOT NULL, inode INTEGER NOT NULL, born INTEGER NOT NULL, size INTEGER NOT NULL,
    mtime INTEGER NOT NULL, ctime INTEGER NOT NULL, mode INTEGER NOT NULL,
    generation INTEGER NOT NULL, target BLOB NOT NULL);
  CREATE UNIQUE INDEX IF NOT EXISTS places ON records (parent, name);
  CREATE INDEX IF NOT EXISTS inodes ON records (inode);
  CREATE TABLE IF NOT EXISTS placing (
    id INTEGER PRIMARY KEY, parent INTEGER NOT NULL, name BLOB NOT NULL, kind INTEGER NOT NULL,
    device INTEGER NOT NULL, inode INTEGER NOT NULL, born INTEGER NOT NULL, size INTEGER NOT NULL,
    mtime INTEGER NOT NULL, ctime INTEGER NOT NULL, mode INTEGER NOT NULL,
    generation INTEGER NOT NULL, target BLOB NOT NULL);
)";

}  // namespace

Result<std::unique_ptr<Records>> Records::Open(const std::string& path) {
  auto out = std::unique_ptr<Records>(new Records);
  const Lock lock(out->mutex_);
  PG_ASSIGN(out->db_, Database::Open(path));
  Database& db = out->db_;
  PG_TRY(db.Execute(
      "PRAGMA locking_mode=EXCLUSIVE; PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;"));
  PG_TRY(db.Execute(kSchema));
  PG_ASSIGN(out->get_, db.Prepare("SELECT * FROM records WHERE id = ?"));
  PG_ASSIGN(out->children_, db.Prepare("SELECT * FROM records WHERE parent = ?"));
  PG_ASSIGN(out->find_, db.Prepare("SELECT * FROM records WHERE parent = ? AND name = ?"));
  PG_ASSIGN(out->find_inode_, db.Prepare("SELECT * FROM records WHERE inode = ? AND device = ?"));
  PG_ASSIGN(out->save_, db.Prepare("INSERT OR REPLACE INTO records VALUES "
                                   "(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"));
  PG_ASSIGN(out->drop_, db.Prepare("DELETE FROM records WHERE id = ?"));
  PG_ASSIGN(out->count_, db.Prepare("SELECT count(*) FROM records"));
  PG_ASSIGN(out->note_placing_, db.Prepare("INSERT OR REPLACE INTO placing VALUES "
                                           "(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"));
  PG_ASSIGN(out->placing_done_, db.Prepare("DELETE FROM placing WHERE id = ?"));
  PG_ASSIGN(out->placing_, db.Prepare("SELECT * FROM placing"));
  return out;
}

Record Records::FromRow(const Statement& row) {
  Record r;
  r.id = row.Int(0);
  r.parent = row.Int(1);
  r.name = row.Blob(2);
  r.print.kind = static_cast<DiskKind>(row.Int(3));
  r.print.device = static_cast<std::uint64_t>(row.Int(4));
  r.print.inode = static_cast<std::uint64_t>(row.Int(5));
  r.print.born = row.Int(6);
  r.print.size = static_cast<std::uint64_t>(row.Int(7));
  r.print.mtime = row.Int(8);
  r.print.ctime = row.Int(9);
  r.print.mode = static_cast<std::uint32_t>(row.Int(10));
  r.generation = static_cast<std::uint64_t>(row.Int(11));
  r.target = row.Blob(12);
  return r;
}

void Records::BindRow(Statement* to, const Record& r) {
  to->Bind(1, r.id).Bind(2, r.parent).Bind(3, r.name);
  to->Bind(4, static_cast<std::int64_t>(r.print.kind));
  to->Bind(5, static_cast<std::int64_t>(r.print.device));
  to->Bind(6, static_cast<std::int64_t>(r.print.inode));
  to->Bind(7, r.print.born).Bind(8, static_cast<std::int64_t>(r.print.size));
  to->Bind(9, r.print.mtime).Bind(10, r.print.ctime);
  to->Bind(11, static_cast<std::int64_t>(r.print.mode));
  to->Bind(12, static_cast<std::int64_t>(r.generation)).Bind(13, r.target);
}

Result<std::vector<Record>> Records::Rows(Statement* statement) {
  std::vector<Record> out;
  for (;;) {
    PG_ASSIGN(const bool row, statement->Step());
    if (!row) return out;
    out.push_back(FromRow(*statement));
  }
}

Result<std::optional<Record>> Records::Get(NodeId id) {
  const Lock lock(mutex_);
  get_.Bind(1, id);
  PG_ASSIGN(const std::vector<Record> rows, Rows(&get_));
  return rows.empty() ? std::optional<Record>() : std::optional(rows[0]);
}

Result<std::vector<Record>> Records::Children(NodeId parent) {
  const Lock lock(mutex_);
  children_.Bind(1, parent);
  return Rows(&children_);
}

Result<std::optional<Record>> Records::Find(NodeId parent, const std::string& name) {
  const Lock lock(mutex_);
  find_.Bind(1, parent).Bind(2, name);
  PG_ASSIGN(const std::vector<Record> rows, Rows(&find_));
  return rows.empty() ? std::optional<Record>() : std::optional(rows[0]);
}

Result<std::vector<Record>> Records::FindInode(std::uint64_t device, std::uint64_t inode) {
  const Lock lock(mutex_);
  find_inode_.Bind(1, static_cast<std::int64_t>(inode)).Bind(2, static_cast<std::int64_t>(device));
  return Rows(&find_inode_);
}

Status Records::Save(const Record& record) {
  const Lock lock(mutex_);
  BindRow(&save_, record);
  return save_.Run();
}

Status Records::Drop(NodeId id) {
  const Lock lock(mutex_);
  drop_.Bind(1, id);
  return drop_.Run();
}

Result<std::uint64_t> Records::Count() {
  const Lock lock(mutex_);
  PG_ASSIGN(const bool row, count_.Step());
  const std::int64_t count = row ? count_.Int(0) : 0;
  count_.Reset();
  return static_cast<std::uint64_t>(count);
}

Result<std::string> Records::PathOf(NodeId id) {
  std::string path;
  while (id != kRootId) {
    PG_ASSIGN(const std::optional<Record> record, Get(id));
    if (!record) return Error(Code::kNotFound, "the folder is not in the directory");
    path = path.empty() ? record->name : record->name + "/" + path;
    id = record->parent;
  }
  return path;
}

Result<NodeId> Records::FolderAt(const std::string& path) {
  NodeId at = kRootId;
  for (const std::string& part : Split(path, '/')) {
    if (part.empty()) continue;
    PG_ASSIGN(const std::optional<Record> record, Find(at, part));
    if (!record) return kNoNode;
    at = record->id;
  }
  return at;
}

Status Records::NotePlacing(const Record& record) {
  const Lock lock(mutex_);
  BindRow(&note_placing_, record);
  return note_placing_.Run();
}

Status Records::PlacingDone(NodeId id) {
  const Lock lock(mutex_);
  placing_done_.Bind(1, id);
  return placing_done_.Run();
}

Result<std::vector<Record>> Records::Placing() {
  const Lock lock(mutex_);
  return Rows(&placing_);
}

}  // namespace pargeter
