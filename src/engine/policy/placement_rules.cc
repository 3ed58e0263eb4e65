// PlacementRules: what each file does on this machine. A placement is set on a node, or by a
// pattern, or comes down from the folder that the node is in; what it amounts to is kept with every
// node, so that nobody has to walk up to know it.
#include "engine/policy/placement_rules.h"

#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"

namespace pargeter {

// Its own, else by its name, else as the folder that it is in.
Placement PlacementRules::PlacementOf(View& view, const Node& node, Placement above) const {
  if (node.own_rule.placement != Placement::kNone) return node.own_rule.placement;
  if (node.kind != NodeKind::kFolder) {
    if (const Rule* rule = PatternFor(view, node.name)) return rule->placement;
  }
  return above;
}

// This machine's patterns before everybody's; among those, the longest.
const Rule* PlacementRules::PatternFor(View& view, const std::string& name) const {
  const Rule* best = nullptr;
  for (const Rule& rule : rules_(view)) {
    if (!rule.is_pattern || rule.placement == Placement::kNone) continue;
    if (::fnmatch(rule.key.c_str(), name.c_str(), FNM_PERIOD) != 0) continue;
    const bool better = best == nullptr || (best->everywhere && !rule.everywhere) ||
                        (best->everywhere == rule.everywhere && rule.key.size() > best->key.size());
    if (better) best = &rule;
  }
  return best;
}

// Of a node that is new in its folder, or has moved there.
Status PlacementRules::Inherit(View& view, Node* node) {
  PG_ASSIGN(Inode * parent, view.Get(node->parent));
  // a rule for all machines may have been waiting for this name
  if (node->own_rule.placement == Placement::kNone && awaited_rules_(view)) {
    PG_ASSIGN(std::string path, view.PathHere(node->parent));
    path += (path.empty() ? "" : "/") + node->name;
    for (const Rule& rule : rules_(view)) {
      if (rule.is_pattern || !rule.everywhere || rule.key != path) continue;
      node->own_rule.placement = rule.placement;
      node->own_rule.set_at = rule.set_at;
      node->own_rule.set_by = rule.set_by;
    }
  }
  node->effective = PlacementOf(view, *node, parent->node.effective);
  return {};
}

// A node's placement, or what it depends on, has changed: so may those of all below it.
Status PlacementRules::PropagatePlacement(View& view, NodeId id, bool everything) {
  Change change(&view);
  std::vector<std::pair<NodeId, Placement>> folders;  // to look into, with what they amount to
  {
    PG_ASSIGN(Inode * inode, view.Get(id));
    Placement above = Placement::kCache;
    if (id != kRootId && inode->node.parent != kNoNode) {
      PG_ASSIGN(Inode * parent, view.Get(inode->node.parent));
      above = parent->node.effective;
    }
    const Placement now = PlacementOf(view, inode->node, above);
    if (now == inode->node.effective && !everything) return change.Commit();
    PG_TRY(ApplyEffective(view, &inode->node, now));
    PG_TRY(view.Save(inode));
    if (inode->node.kind == NodeKind::kFolder) folders.emplace_back(id, now);
  }
  while (!folders.empty()) {
    const auto [folder, above] = folders.back();
    folders.pop_back();
    for (NodeId after = 0;;) {
      PG_ASSIGN(std::vector<Node> rows, view.index().Children(folder, after, 1000));
      if (rows.empty()) break;
      after = rows.back().id;
      for (Node& row : rows) {
        const auto it = view.inodes().find(row.id);
        Node& node = it != view.inodes().end() && !it->second->doubtful ? it->second->node : row;
        const Placement now = PlacementOf(view, node, above);
        if (now == node.effective && !everything) continue;
        if (node.kind == NodeKind::kFolder) folders.emplace_back(node.id, now);
        if (now == node.effective) continue;
        view.Touch(node.id);
        PG_TRY(ApplyEffective(view, &node, now));
        PG_TRY(view.index().Update(node));
      }
    }
  }
  return change.Commit();
}

// One node becomes what it amounts to now.
Status PlacementRules::ApplyEffective(View& view, Node* node, Placement now) {
  const Placement before = std::exchange(node->effective, now);
  if (before == now) return {};
  if ((before == Placement::kHide) != (now == Placement::kHide))
    view.Emit(Event::NameChanged(node->parent, node->name));
  if (now == Placement::kPin) pins_changed_(view) = true;
  if ((before == Placement::kLocal || now == Placement::kLocal) && (node->dirty & kData)) {
    PG_ASSIGN(const std::string ranges, view.index().Presence(node->id));
    contents_.NotePending(view, *node, ranges);
  }
  // kept back until now: it goes up like anything new
  if (before == Placement::kLocal && node->pending.seq == 0 &&
      (node->remote.place == RemotePlace::kNone || (node->dirty & (kData | kAttributes)))) {
    node->pending.seq = view.index().NextSeq();
    node->pending.since = options_.clock->FileTime();
    view.Push(node->id, node->pending.seq);
  }
  if (now == Placement::kLocal) {
    if (IsLocalOnly(*node)) {
      node->pending.seq = 0;  // not begun yet: it stays here
    } else if (node->pending.seq == 0 && node->kind == NodeKind::kFile) {
      node->pending.seq = view.index().NextSeq();  // it comes down
      node->pending.since = options_.clock->FileTime();
      view.Push(node->id, node->pending.seq, Duration(0));
    }
  }
  return {};
}

// Would all that is pinned then still fit? Else with the numbers.
Status PlacementRules::CheckPinsFit(View& view, const Node& node) {
  PG_ASSIGN(const Sums all, view.index().SumsOf(kRootId));
  Sums more;
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(more, view.index().SumsOf(node.id));
  } else if (node.effective != Placement::kPin) {
    more.bytes = static_cast<std::int64_t>(node.size);
    more.on_disk = static_cast<std::int64_t>(node.cached.bytes);
  }
  const auto fresh = static_cast<std::uint64_t>(more.bytes - more.pinned_bytes);
  const auto pinned = static_cast<std::uint64_t>(all.pinned_bytes);
  const std::uint64_t limit = budget_->limits().bytes;
  if (pinned + fresh > limit) {
    return Error(
        Code::kNoSpace,
        fmt::format("pinning {} needs {}, {} is pinned already, and the cache is limited "
                    "to {}",
                    node.id == kRootId ? options_.name : Printable(node.name), FormatSize(fresh),
                    FormatSize(pinned), FormatSize(limit)),
        fmt::format("Raise the limit: pargeter drive change {} --cache-limit SIZE; or pin less.",
                    options_.name));
  }
  // what is cached and may go makes room, too
  const auto evictable =
      budget_->Used() -
      std::min<std::uint64_t>(budget_->Used(), static_cast<std::uint64_t>(all.pinned_on_disk));
  const std::uint64_t to_fetch =
      fresh - std::min<std::uint64_t>(fresh, static_cast<std::uint64_t>(more.on_disk));
  const std::uint64_t room = budget_->Room();
  if (to_fetch > room + evictable) {
    return Error(Code::kNoSpace,
                 fmt::format("pinning {} needs {} more on the cache's disk, which has {} to give",
                             node.id == kRootId ? options_.name : Printable(node.name),
                             FormatSize(to_fetch), FormatSize(room + evictable)),
                 "Free space on that disk, or pin less.");
  }
  return {};
}

// All of it has to fit on this disk, and is never evicted.
Status PlacementRules::CheckMayBeLocal(View& view, const Node& node) {
  Sums sums;
  if (node.kind == NodeKind::kFolder) {
    PG_ASSIGN(sums, view.index().SumsOf(node.id));
  } else {
    sums.bytes = static_cast<std::int64_t>(node.size);
    sums.on_disk = static_cast<std::int64_t>(node.cached.bytes);
  }
  const auto missing =
      static_cast<std::uint64_t>(std::max<std::int64_t>(0, sums.bytes - sums.on_disk));
  const std::uint64_t room = budget_->Room();
  if (missing <= room) return {};
  return Error(Code::kNoSpace,
               fmt::format("keeping {} local needs {} more on this disk, which has {} to give",
                           Printable(node.name), FormatSize(missing), FormatSize(room)),
               "Free space on that disk first.");
}

// ---- rules by name

Result<std::vector<PlacedRule>> PlacementRules::Rules() {
  View view(&tree_);
  std::vector<PlacedRule> out;
  PG_ASSIGN(const std::vector<Node> placed, view.index().Placed());
  for (const Node& node : placed) {
    if (node.gone()) continue;
    PG_ASSIGN(std::string path, view.PathHere(node.id));
    out.push_back({{path, false, node.own_rule.placement, node.own_rule.set_at,
                    node.own_rule.set_by, !node.own_rule.set_by.empty()},
                   true});
  }
  for (const Rule& rule : rules_(view)) {
    if (rule.placement == Placement::kNone) continue;
    const bool shown =
        !rule.is_pattern && std::any_of(out.begin(), out.end(), [&](const PlacedRule& other) {
          return !other.rule.is_pattern && other.rule.key == rule.key;
        });
    if (!shown) out.push_back({rule, rule.is_pattern});
  }
  std::sort(out.begin(), out.end(), [](const PlacedRule& a, const PlacedRule& b) {
    return std::tie(a.rule.is_pattern, a.rule.key) < std::tie(b.rule.is_pattern, b.rule.key);
  });
  return out;
}

Status PlacementRules::SetPattern(const std::string& pattern, Placement placement) {
  if (pattern.empty() || pattern.find('/') != std::string::npos)
    return Error(Code::kInvalid, "a pattern is for names, and has no \"/\"",
                 "For a folder: pargeter rule add FOLDER PLACEMENT");
  {
    View view(&tree_);
    Change change(&view);
    const Rule rule{pattern, true, placement, options_.clock->Wall(), options_.host, false};
    PG_TRY(placement == Placement::kNone ? view.index().DeleteRule(rule)
                                         : view.index().SaveRule(rule));
    PG_TRY(LoadRules(view));
    PG_TRY(PropagatePlacement(view, kRootId, true));
    const Status done = change.Commit();
    if (!done.ok()) {
      Ignore(LoadRules(view));
      return done;
    }
  }
  pins_.Wake();
  return {};
}

Status PlacementRules::LoadRules(View& view) {
  PG_ASSIGN(rules_(view), view.index().Rules());
  awaited_rules_(view) = std::any_of(
      rules_(view).begin(), rules_(view).end(),
      [](const Rule& rule) { return !rule.is_pattern && rule.placement != Placement::kNone; });
  return {};
}

}  // namespace pargeter
