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
  n.there = static_cast<There>(row.Int(c++));
  n.there_parent = row.Int(c++);
  n.there_name = row.Blob(c++);
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
  n.version = row.Blob(c++);
  n.there_size = static_cast<std::uint64_t>(row.Int(c++));
  n.listed_at = row.Int(c++);
  n.dirty = static_cast<std::uint32_t>(row.Int(c++));
  n.generation = static_cast<std::uint64_t>(row.Int(c++));
  n.copy_of = row.Blob(c++);
  n.copy_version = row.Blob(c++);
  n.upload = row.Blob(c++);
  n.intent = row.Int(c++);
  n.intent_since = row.Int(c++);
  n.attempts = row.Int(c++);
  n.error = row.Blob(c++);
  n.on_disk = static_cast<std::uint64_t>(row.Int(c++));
  n.used_at = row.Int(c++);
  n.conflict = row.Int(c++) != 0;
  n.tried_parent = row.Int(c++);
  n.tried_name = row.Blob(c++);
  n.beside = row.Blob(c++);
  n.placement = static_cast<Placement>(row.Int(c++));
  n.placed_at = row.Int(c++);
  n.placed_by = row.Blob(c++);
  n.effective = static_cast<Placement>(row.Int(c++));
  n.used_again = row.Int(c++) != 0;
  n.may_write = row.Int(c++) != 0;
  n.base_size = static_cast<std::uint64_t>(row.Int(c++));
  n.atime = row.Int(c++);
  return n;
}

void Index::BindNode(Statement* s, const Node& n) const {
  const bool placed = n.there == There::kElsewhere || n.there == There::kSpelled;
  int at = 1;
  BindOrNull(s, at++, n.id, n.id == kNoNode);
  s->Bind(at++, static_cast<std::int64_t>(n.kind));
  BindOrNull(s, at++, n.parent, n.parent == kNoNode);
  s->Bind(at++, n.name);
  s->Bind(at++, static_cast<std::int64_t>(n.there));
  BindOrNull(s, at++, n.there_parent, !placed);
  if (placed) {
    s->Bind(at++, n.there_name);
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
  BindText(s, at++, n.version);
  s->Bind(at++, static_cast<std::int64_t>(n.there_size));
  s->Bind(at++, n.listed_at);
  s->Bind(at++, static_cast<std::int64_t>(n.dirty));
  s->Bind(at++, static_cast<std::int64_t>(n.generation));
  BindText(s, at++, n.copy_of);
  BindText(s, at++, n.copy_version);
  BindText(s, at++, n.upload);
  BindOrNull(s, at++, n.intent, n.intent == 0);
  s->Bind(at++, n.intent_since);
  s->Bind(at++, n.attempts);
  BindText(s, at++, n.error);
  s->Bind(at++, static_cast<std::int64_t>(n.on_disk));
  s->Bind(at++, n.used_at);
  s->Bind(at++, std::int64_t{n.conflict});
  BindOrNull(s, at++, n.tried_parent, n.tried_parent == kNoNode);
  BindText(s, at++, n.tried_name);
  BindText(s, at++, n.beside);
  s->Bind(at++, static_cast<std::int64_t>(n.placement));
  s->Bind(at++, n.placed_at);
  BindText(s, at++, n.placed_by);
  s->Bind(at++, static_cast<std::int64_t>(n.effective));
  s->Bind(at++, std::int64_t{n.used_again});
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
