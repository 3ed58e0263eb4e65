// Index: what is below each folder, in sums that every change keeps up to date; and rules.
//
// A node adds its share to the folder that it is in, and to all above. Within a transaction the
// differences are gathered by folder and carried up once, before it is committed: by then every
// folder is where it will be.
#include <fmt/format.h>

#include <algorithm>

#include "index/index.h"

namespace pargeter {
namespace {

constexpr const char* kSumColumns[] = {
    "files",          "folders",     "bytes",       "on_disk",      "whole",
    "pending",        "conflicts",   "unlisted",    "pinned_files", "pinned_bytes",
    "pinned_on_disk", "local_files", "once_on_disk"};

// In the order of kSumColumns.
template <typename S, typename Each>
void ForEach(S& s, Each each) {
  for (auto* field :
       {&s.files, &s.folders, &s.bytes, &s.on_disk, &s.whole, &s.pending, &s.conflicts, &s.unlisted,
        &s.pinned_files, &s.pinned_bytes, &s.pinned_on_disk, &s.local_files, &s.once_on_disk})
    each(*field);
}

// Without what is below it.
Sums OwnShare(const Node& n) {
  Sums s;
  s.pending = n.pending.seq != 0 ? 1 : 0;
  s.conflicts = n.conflict_copy.unsettled ? 1 : 0;
  if (n.kind == NodeKind::kFolder) {
    s.folders = 1;
    s.unlisted = n.listed_at == 0 && n.remote.place != RemotePlace::kNone ? 1 : 0;
    return s;
  }
  const bool link = n.kind == NodeKind::kSymlink;
  s.files = 1;
  s.bytes = static_cast<std::int64_t>(link ? n.target.size() : n.size);
  s.on_disk = static_cast<std::int64_t>(n.cached.bytes);
  s.whole = link || n.cached.bytes >= n.size ? 1 : 0;
  if (n.effective == Placement::kPin) {
    s.pinned_files = 1;
    s.pinned_bytes = s.bytes;
    s.pinned_on_disk = s.on_disk;
  }
  s.local_files = n.effective == Placement::kLocal ? 1 : 0;
  const bool may_go = n.effective != Placement::kPin && n.effective != Placement::kLocal;
  if (may_go && !n.cached.used_again) s.once_on_disk = s.on_disk;
  return s;
}

}  // namespace

Sums& Sums::operator+=(const Sums& other) {
  std::vector<std::int64_t> values;
  ForEach(other, [&](std::int64_t value) { values.push_back(value); });
  std::size_t at = 0;
  ForEach(*this, [&](std::int64_t& value) { value += values[at++]; });
  return *this;
}
Sums& Sums::operator-=(const Sums& other) {
  Sums negative = other;
  ForEach(negative, [](std::int64_t& value) { value = -value; });
  return *this += negative;
}

Status Index::PrepareSums() {
  std::string columns, marks, sets;
  int at = 1;
  for (const char* column : kSumColumns) {
    columns += fmt::format(", {}", column);
    marks += fmt::format(", ?{}", ++at);
    sets += fmt::format("{}{}={}+excluded.{}", at > 2 ? ", " : "", column, column, column);
  }
  const auto prepare = [&](Statement* out, const std::string& sql) -> Status {
    PG_ASSIGN(*out, db_.Prepare(sql));
    return {};
  };
  PG_TRY(prepare(&sums_, fmt::format("SELECT folder{} FROM sums WHERE folder=?1", columns)));
  PG_TRY(prepare(&drop_sums_, "DELETE FROM sums WHERE folder=?1"));
  PG_TRY(prepare(
      &add_sums_,
      fmt::format(
          "WITH RECURSIVE up(id) AS (SELECT ?1 UNION SELECT nodes.parent FROM up JOIN nodes "
          "ON nodes.id=up.id WHERE up.id<>{} AND nodes.parent IS NOT NULL) "
          "INSERT INTO sums(folder{}) SELECT id{} FROM up WHERE true "
          "ON CONFLICT(folder) DO UPDATE SET {}",
          kRootId, columns, marks, sets)));
  const std::string rule = "key, is_pattern, everywhere, placement, set_at, set_by";
  PG_TRY(prepare(&rules_, "SELECT " + rule + " FROM rules ORDER BY is_pattern, key"));
  PG_TRY(prepare(&save_rule_,
                 "INSERT OR REPLACE INTO rules(" + rule + ") VALUES(?1, ?2, ?3, ?4, ?5, ?6)"));
  PG_TRY(
      prepare(&delete_rule_, "DELETE FROM rules WHERE key=?1 AND is_pattern=?2 AND everywhere=?3"));
  db_.OnEnd([this] { return FlushSums(); }, [this] { deltas_.clear(); });
  return {};
}

Result<Sums> Index::SumsOf(NodeId folder) {
  Sums sums;
  PG_ASSIGN(const bool found, sums_.Bind(1, folder).Step());
  if (!found) return sums;
  int column = 0;
  ForEach(sums, [&](std::int64_t& value) { value = sums_.Int(++column); });
  sums_.Reset();
  return sums;
}

Result<Sums> Index::ShareOf(const Node& node) {
  if (node.parent == kNoNode || node.id == kRootId) return Sums();
  Sums share = OwnShare(node);
  if (node.kind != NodeKind::kFolder) return share;
  PG_ASSIGN(const Sums below, SumsOf(node.id));
  share += below;
  return share;
}

Status Index::Count(NodeId parent, const Sums& before, NodeId new_parent, const Sums& after) {
  if (parent == new_parent && before == after) return {};
  if (parent != kNoNode) deltas_[parent] -= before;
  if (new_parent != kNoNode) deltas_[new_parent] += after;
  return {};
}

Status Index::FlushSums() {
  for (auto& [folder, delta] : std::exchange(deltas_, {})) {
    if (delta == Sums()) continue;
    int at = 0;
    add_sums_.Bind(++at, folder);
    ForEach(delta, [&](std::int64_t value) { add_sums_.Bind(++at, value); });
    PG_TRY(add_sums_.Run());
  }
  return {};
}

// By a walk over everything.
Result<std::unordered_map<NodeId, Sums>> Index::WalkSums() {
  PG_ASSIGN(Statement all, db_.Prepare("SELECT id FROM nodes"));
  std::vector<NodeId> ids;
  for (;;) {
    PG_ASSIGN(const bool more, all.Step());
    if (!more) break;
    ids.push_back(all.Int(0));
  }
  std::unordered_map<NodeId, NodeId> parents;
  std::vector<std::pair<NodeId, Sums>> shares;
  for (const NodeId id : ids) {
    PG_ASSIGN(const std::optional<Node> node, Get(id));
    if (!node || node->parent == kNoNode || id == kRootId) continue;
    if (node->kind == NodeKind::kFolder) parents[id] = node->parent;
    shares.emplace_back(node->parent, OwnShare(*node));
  }
  std::unordered_map<NodeId, Sums> sums;
  for (const auto& [parent, share] : shares) {
    for (NodeId up = parent;;) {
      sums[up] += share;
      const auto above = parents.find(up);
      if (above == parents.end()) break;
      up = above->second;
    }
  }
  return sums;
}

Status Index::CheckPlaces() {
  PG_ASSIGN(Statement lost,
            db_.Prepare("SELECT id, above FROM (SELECT id, parent AS above FROM nodes WHERE id<>1 "
                        "UNION ALL SELECT id, there_parent FROM nodes) WHERE above IS NOT NULL AND "
                        "above NOT IN (SELECT id FROM nodes WHERE kind=1) LIMIT 1"));
  PG_ASSIGN(const bool any, lost.Step());
  if (!any) return {};
  return Error(Code::kDamaged,
               fmt::format("{} is in {}, which is not known", lost.Int(0), lost.Int(1)));
}

Status Index::CheckSums() {
  PG_ASSIGN(const auto walked, WalkSums());
  PG_ASSIGN(Statement all, db_.Prepare("SELECT folder FROM sums"));
  std::vector<NodeId> folders;
  for (;;) {
    PG_ASSIGN(const bool more, all.Step());
    if (!more) break;
    folders.push_back(all.Int(0));
  }
  for (const auto& [folder, sum] : walked) folders.push_back(folder);
  for (const NodeId folder : folders) {
    PG_ASSIGN(const Sums kept, SumsOf(folder));
    const auto it = walked.find(folder);
    const Sums found = it == walked.end() ? Sums() : it->second;
    if (kept == found) continue;
    std::string why;
    std::vector<std::int64_t> right;
    ForEach(found, [&](std::int64_t value) { right.push_back(value); });
    std::size_t at = 0;
    ForEach(kept, [&](std::int64_t value) {
      if (value != right[at])
        why += fmt::format(" {} {} instead of {}", kSumColumns[at], value, right[at]);
      ++at;
    });
    return Error(Code::kDamaged, fmt::format("the sums of folder {} are wrong:{}", folder, why));
  }
  return {};
}

Result<std::vector<Node>> Index::Placed() { return Rows(&placed_); }

Result<std::vector<Rule>> Index::Rules() {
  std::vector<Rule> out;
  for (;;) {
    PG_ASSIGN(const bool more, rules_.Step());
    if (!more) return out;
    Rule rule;
    rule.key = rules_.Blob(0);
    rule.is_pattern = rules_.Int(1) != 0;
    rule.everywhere = rules_.Int(2) != 0;
    rule.placement = static_cast<Placement>(rules_.Int(3));
    rule.set_at = rules_.Int(4);
    rule.set_by = rules_.Blob(5);
    out.push_back(std::move(rule));
  }
}

Status Index::SaveRule(const Rule& rule) {
  return save_rule_.Bind(1, rule.key)
      .Bind(2, std::int64_t{rule.is_pattern})
      .Bind(3, std::int64_t{rule.everywhere})
      .Bind(4, static_cast<std::int64_t>(rule.placement))
      .Bind(5, rule.set_at)
      .Bind(6, rule.set_by)
      .Run();
}

Status Index::DeleteRule(const Rule& rule) {
  return delete_rule_.Bind(1, rule.key)
      .Bind(2, std::int64_t{rule.is_pattern})
      .Bind(3, std::int64_t{rule.everywhere})
      .Run();
}

}  // namespace pargeter
