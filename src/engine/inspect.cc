// Engine: what people ask about it. Nothing here asks the store, except Refresh.
#include <sys/statvfs.h>

#include <algorithm>

#include "base/text.h"
#include "engine/engine.h"
#include "engine/tree/naming.h"

namespace pargeter {

namespace {
constexpr Duration kSpaceFor(60000);  // so long an answer about the account's room holds
constexpr Duration kStuck(600000);    // no upload gets on, and the store has said nothing
}  // namespace

DriveStatus Engine::Summary() {
  DriveStatus out;
  out.offline_since = store_->OfflineSince();
  out.cache_limit = budget_->limits().bytes;
  {
    View view(&tree_);
    out.cache_bytes = budget_->Used();  // in the same look as the files that wait for upload
    if (auto pending = view.index().Pending(); pending.ok()) out.pending = *pending;
    if (auto kept = view.index().Conflicts(); kept.ok()) out.conflicts = kept->size();
    Nanos& oldest = out.pending.oldest;
    if (hold_from_(view) != 0) oldest = 0;
    const auto waiting = view.index().Intents(0, hold_from_(view) != 0 ? 1 << 30 : 0);
    for (const Node& node : waiting.ok() ? *waiting : std::vector<Node>()) {
      if (!IsHeld(view, node)) {
        oldest = oldest == 0 ? node.intent_since : std::min(oldest, node.intent_since);
        continue;
      }
      if (node.kind != NodeKind::kFolder) ++out.held;
      if (out.held_since == 0) out.held_since = node.intent_since;
      --out.pending.files;  // it waits for a person, not for the store
    }
    out.state_gone = !CheckState(view).ok();
    out.last_error = out.offline_since != 0 ? store_->LastFault() : health_.Worst();
    if (auto sums = view.index().SumsOf(kRootId); sums.ok()) out.sums = *sums;
    if (auto bytes = view.index().OnDiskWaiting(); bytes.ok()) out.waiting_bytes = *bytes;
  }
  out.uploading = outbox_.Running();
  return out;
}

void Engine::SetLimits(const DriveLimits& limits) {
  budget_->SetLimits({limits.cache_limit, limits.keep_free});
  {
    View view(&tree_);
    limits_(view) = limits;
  }
  const std::uint64_t used = budget_->Used();
  if (used > limits.cache_limit) FreeUnused(used - limits.cache_limit);
}

bool Engine::IsAlive() {
  {
    View view(&tree_);
    if (!view.index().Meta(Mark::kDriveId).ok()) return false;
  }
  if (store_->OfflineSince() != 0) return true;
  const Steady long_ago = options_.clock->Now() - kStuck;
  return !outbox_.IsStuckSince(long_ago) || store_->LastSign() > long_ago;
}

Engine::StateOf Engine::StateOfLive(const Live& live) {
  StateOf out{live.node, "remote", {}};
  Node& n = out.node;
  n.on_disk = AttrOf(live).on_disk;
  if (n.kind == NodeKind::kSymlink) n.size = n.target.size();
  const bool whole = n.kind == NodeKind::kSymlink || n.on_disk >= n.size;
  if (n.conflict)
    out.state = "conflict";
  else if (n.intent != 0)
    out.state = "pending";
  else if (n.effective == Placement::kLocal)
    out.state = "local";
  else if (n.kind == NodeKind::kFolder)
    out.state = "remote";  // until what is below it says more
  else if (whole)
    out.state = n.effective == Placement::kPin ? "pinned" : "cached";
  else if (n.on_disk > 0)
    out.state = "partial";
  return out;
}

// A folder's state is that of what is below it.
Status Engine::AddSums(View& view, StateOf* state) {
  Node& n = state->node;
  if (n.kind != NodeKind::kFolder) return {};
  PG_ASSIGN(state->sums, view.index().SumsOf(n.id));
  const Sums& sums = state->sums;
  n.size = static_cast<std::uint64_t>(sums.bytes);
  n.on_disk = static_cast<std::uint64_t>(sums.on_disk);
  if (state->state == "conflict" || state->state == "pending") return {};
  if (sums.conflicts > 0)
    state->state = "conflict";
  else if (sums.pending > 0)
    state->state = "pending";
  else if (n.effective == Placement::kLocal)
    state->state = "local";
  else if (sums.files > 0 && sums.whole == sums.files && sums.unlisted == 0)
    state->state = sums.pinned_files == sums.files ? "pinned" : "cached";
  else if (sums.on_disk > 0)
    state->state = "partial";
  else if (sums.files == 0 && n.effective == Placement::kPin && sums.unlisted == 0)
    state->state = "pinned";
  return {};
}

Result<Engine::StateOf> Engine::State(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  StateOf out = StateOfLive(*live);
  PG_TRY(AddSums(view, &out));
  return out;
}

Result<Node> Engine::NodeAt(const std::string& path) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(kRootId));
  for (const std::string& part : Split(path, '/')) {
    if (part.empty()) continue;
    PG_ASSIGN(live, view.Find(live->node.id, part));
    if (live == nullptr) return Error(Code::kNotFound, "there is no " + Printable(path));
  }
  return live->node;
}

// The content of a folder, each folder in it with the sums of what is below it.
Result<std::vector<Engine::StateOf>> Engine::ListStates(NodeId folder) {
  SavePresenceOfAll();
  std::vector<StateOf> out;
  View view(&tree_);
  for (NodeId after = 0;;) {
    PG_ASSIGN(std::vector<Node> rows, view.index().Children(folder, after, 1000));
    if (rows.empty()) break;
    after = rows.back().id;
    for (Node& row : rows) {
      const auto it = view.inodes().find(row.id);
      if (it != view.inodes().end()) {
        out.push_back(StateOfLive(*it->second));
      } else {
        Live passing;
        passing.node = std::move(row);
        out.push_back(StateOfLive(passing));
      }
      PG_TRY(AddSums(view, &out.back()));
    }
  }
  std::sort(out.begin(), out.end(),
            [](const StateOf& a, const StateOf& b) { return a.node.name < b.node.name; });
  return out;
}

Result<std::string> Engine::PathOf(NodeId id) {
  View view(&tree_);
  std::string path;
  while (id != kRootId && id != kNoNode) {
    PG_ASSIGN(Live * live, view.Get(id));
    const Node& n = live->node;
    const std::string name = n.name.empty() ? KeyToName(n.there_name) : n.name;
    path = path.empty() ? name : name + "/" + path;
    id = n.gone() ? n.there_parent : n.parent;
  }
  return path;
}

Result<std::vector<std::pair<std::string, Node>>> Engine::Conflicts() {
  std::vector<Node> rows;
  {
    View view(&tree_);
    PG_ASSIGN(rows, view.index().Conflicts());
  }
  std::vector<std::pair<std::string, Node>> out;
  for (Node& row : rows) {
    PG_ASSIGN(std::string path, PathOf(row.id));
    out.emplace_back(std::move(path), std::move(row));
  }
  return out;
}

Result<std::vector<std::pair<std::string, Node>>> Engine::Queue(int limit) {
  std::vector<Node> rows;
  {
    View view(&tree_);
    PG_ASSIGN(rows, view.index().Intents(0, limit));
  }
  std::vector<std::pair<std::string, Node>> out;
  for (Node& row : rows) {
    auto path = PathOf(row.id);
    out.emplace_back(path.ok() ? *path : row.name, std::move(row));
  }
  return out;
}

Engine::Delay Engine::DelayOf(const Node& node) {
  const Outbox::Delay waits = outbox_.DelayOf(node.id);
  return {std::max(static_cast<int>(node.attempts), waits.tries),
          node.error.empty() ? waits.why : node.error, waits.next_try};
}

// What can be written is what this disk can take until it is uploaded, and what the account can
// take, where the store says so; an object store has no end.
Result<Attr> Engine::SpaceOf() {
  PG_ASSIGN(const std::uint64_t free, options_.disk->FreeBytes(options_.cache_folder));
  struct statvfs info {};
  if (::statvfs(options_.cache_folder.c_str(), &info) != 0)
    return FromErrno(errno, "cannot look at the cache disk");
  const std::uint64_t total = static_cast<std::uint64_t>(info.f_blocks) * info.f_frsize;
  const auto keep =
      static_cast<std::uint64_t>(budget_->limits().keep_free * static_cast<double>(total));
  Attr attr;
  attr.size = free > keep ? free - keep : 0;
  attr.on_disk = total;
  if (const auto account = AccountSpace(kSpaceFor); account.ok() && *account) {
    attr.size = std::min(attr.size, (*account)->available);
    attr.on_disk = (*account)->used + (*account)->available;
  }
  return attr;
}

}  // namespace pargeter
