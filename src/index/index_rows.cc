// Index: between rows and Node. The order of columns is kColumns' in index.cc.
#include "index/index.h"

namespace pargeter {
namespace {

void BindOrNull(Statement* s, int at, std::int64_t value, bool null) {
  if (null) {
    s->BindNull(at);
  } else {
    s->Bind(at, value);
  }
}

void BindText(Statement* s, int at, const std::string& text) {
  if (text.empty()) {
    s->BindNull(at);
  } else {
    s->Bind(at, text);
  }
}

}  // namespace

Node Index::FromRow(const Statement& row) {
  Node n;
  int c = 0;
  n.id = row.Int(c++);
  n.kind = static_cast<NodeKind>(row.Int(c++));
  n.parent = row.Int(c++);
  n.name = row.Blob(c++);
  n.remote.place = static_cast<RemotePlace>(row.Int(c++));
  n.remote.parent = row.Int(c++);
  n.remote.name = row.Blob(c++);
  n.size = static_cast<std::uint64_t>(row.Int(c++));
  n.mtime = row.Int(c++);
  n.ctime = row.Int(c++);
  n.mode = static_cast<std::uint32_t>(row.Int(c++));
  n.uid = row.IsNull(c) ? -1 : row.Int(c);
  ++c;
  n.gid = row.IsNull(c) ? -1 : row.Int(c);
  ++c;
  n.target = row.Blob(c++);
  n.attributes_known = row.Int(c++) != 0;
  n.marker = row.Int(c++) != 0;
  n.remote.version = row.Blob(c++);
  n.remote.size = static_cast<std::uint64_t>(row.Int(c++));
  n.listed_at = row.Int(c++);
  n.dirty = static_cast<std::uint32_t>(row.Int(c++));
  n.generation = static_cast<std::uint64_t>(row.Int(c++));
  n.copy.path = row.Blob(c++);
  n.copy.version = row.Blob(c++);
  if (!row.IsNull(c)) n.upload_log = UploadLog::Parse(row.Blob(c));
  ++c;
  n.pending.seq = row.Int(c++);
  n.pending.since = row.Int(c++);
  n.pending.tries = row.Int(c++);
  n.pending.error = row.Blob(c++);
  n.cached.bytes = static_cast<std::uint64_t>(row.Int(c++));
  n.cached.used_at = row.Int(c++);
  n.conflict_copy.unsettled = row.Int(c++) != 0;
  n.attempt.parent = row.Int(c++);
  n.attempt.name = row.Blob(c++);
  n.conflict_copy.original_name = row.Blob(c++);
  n.own_rule.placement = static_cast<Placement>(row.Int(c++));
  n.own_rule.set_at = row.Int(c++);
  n.own_rule.set_by = row.Blob(c++);
  n.effective = static_cast<Placement>(row.Int(c++));
  n.cached.used_again = row.Int(c++) != 0;
  n.may_write = row.Int(c++) != 0;
  n.base_size = static_cast<std::uint64_t>(row.Int(c++));
  n.atime = row.Int(c++);
  return n;
}

void Index::BindNode(Statement* s, const Node& n) const {
  const bool placed =
      n.remote.place == RemotePlace::kMoved || n.remote.place == RemotePlace::kEncoded;
  int at = 1;
  BindOrNull(s, at++, n.id, n.id == kNoNode);
  s->Bind(at++, static_cast<std::int64_t>(n.kind));
  BindOrNull(s, at++, n.parent, n.parent == kNoNode);
  s->Bind(at++, n.name);
  s->Bind(at++, static_cast<std::int64_t>(n.remote.place));
  BindOrNull(s, at++, n.remote.parent, !placed);
  if (placed) {
    s->Bind(at++, n.remote.name);
  } else {
    s->BindNull(at++);
  }
  s->Bind(at++, static_cast<std::int64_t>(n.size));
  s->Bind(at++, n.mtime);
  s->Bind(at++, n.ctime);
  s->Bind(at++, static_cast<std::int64_t>(n.mode));
  BindOrNull(s, at++, n.uid, n.uid < 0);
  BindOrNull(s, at++, n.gid, n.gid < 0);
  BindText(s, at++, n.target);
  s->Bind(at++, std::int64_t{n.attributes_known});
  s->Bind(at++, std::int64_t{n.marker});
  BindText(s, at++, n.remote.version);
  s->Bind(at++, static_cast<std::int64_t>(n.remote.size));
  s->Bind(at++, n.listed_at);
  s->Bind(at++, static_cast<std::int64_t>(n.dirty));
  s->Bind(at++, static_cast<std::int64_t>(n.generation));
  BindText(s, at++, n.copy.path);
  BindText(s, at++, n.copy.version);
  if (n.upload_log.empty())
    s->BindNull(at++);
  else
    s->Bind(at++, n.upload_log.Pack());
  BindOrNull(s, at++, n.pending.seq, n.pending.seq == 0);
  s->Bind(at++, n.pending.since);
  s->Bind(at++, n.pending.tries);
  BindText(s, at++, n.pending.error);
  s->Bind(at++, static_cast<std::int64_t>(n.cached.bytes));
  s->Bind(at++, n.cached.used_at);
  s->Bind(at++, std::int64_t{n.conflict_copy.unsettled});
  BindOrNull(s, at++, n.attempt.parent, n.attempt.parent == kNoNode);
  BindText(s, at++, n.attempt.name);
  BindText(s, at++, n.conflict_copy.original_name);
  s->Bind(at++, static_cast<std::int64_t>(n.own_rule.placement));
  s->Bind(at++, n.own_rule.set_at);
  BindText(s, at++, n.own_rule.set_by);
  s->Bind(at++, static_cast<std::int64_t>(n.effective));
  s->Bind(at++, std::int64_t{n.cached.used_again});
  s->Bind(at++, std::int64_t{n.may_write});
  s->Bind(at++, static_cast<std::int64_t>(n.base_size));
  s->Bind(at++, n.atime);
}

Result<std::vector<Node>> Index::Rows(Statement* statement) {
  std::vector<Node> rows;
  for (;;) {
    PG_ASSIGN(const bool more, statement->Step());
    if (!more) return rows;
    rows.push_back(FromRow(*statement));
  }
}

Result<std::optional<Node>> Index::Row(Statement* statement) {
  PG_ASSIGN(const bool found, statement->Step());
  if (!found) return std::optional<Node>();
  std::optional<Node> node = FromRow(*statement);
  statement->Reset();
  return node;
}

}  // namespace pargeter
