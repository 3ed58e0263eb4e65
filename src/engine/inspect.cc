// Engine: what people ask about it. Nothing here asks the store, except Refresh.
#include <fmt/format.h>
#include <fnmatch.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <utility>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/engine.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/prefetch/prefetcher.h"
#include "engine/refresh/refresher.h"
#include "engine/vfs/account_room.h"
#include "net/retry.h"

namespace pargeter {

namespace {
constexpr Duration kLookWhetherDone(100);

constexpr Duration kSpaceFor(60000);  // so long an answer about the account's room holds

constexpr Duration kStuck(600000);  // no upload gets on, and the store has said nothing
}  // namespace

Result<Explanation> Engine::Explain(NodeId id) {
  Explanation out;
  PG_ASSIGN(const NodeState state, State(id));
  out.node = state.node;
  out.state = state.state;
  out.sums = state.sums;
  out.offline_since = store_->OfflineSince();
  PG_ASSIGN(out.path, facts_.PathOf(id));
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  out.opens = inode->opens + inode->detached_opens;
  out.placement = inode->node.effective;
  NodeId at = id;
  for (bool first = true;; first = false) {
    PG_ASSIGN(Inode * here, view.Get(at));
    const Node& node = here->node;
    if (node.own_rule.placement != Placement::kNone) {
      PG_ASSIGN(out.placed_on, view.PathHere(at));
      out.by_itself = first;
      out.placed_at = node.own_rule.set_at;
      out.placed_by = node.own_rule.set_by;
      return out;
    }
    const Rule* rule =
        first && node.kind != NodeKind::kFolder ? placement_.PatternFor(view, node.name) : nullptr;
    if (rule != nullptr) {
      out.placed_on = rule->key;
      out.by_pattern = true;
      out.placed_at = rule->set_at;
      out.placed_by = rule->everywhere ? rule->set_by : "";
      return out;
    }
    if (at == kRootId || node.parent == kNoNode) return out;
    at = node.parent;
  }
}

Result<std::uint64_t> Engine::WaitingForStore() {
  View view(&tree_);
  PG_ASSIGN(const PendingSummary all, view.index().Pending());
  return all.files - guard_.HeldDeletions(view).size();  // those wait for a person
}

// Whether nothing that waits can go up before a person does something: the reason of one of them.
std::optional<Error> Engine::WhyInVain(Steady since) {
  if (store_->OfflineSince() != 0) return std::nullopt;  // it may be back at any moment
  return outbox_.RefusalOfAll(since);
}

Status Engine::Flush(Duration patience, const std::function<bool()>& given_up) {
  if (options_.read_only) {  // what waits was made before it was
    PG_ASSIGN(const std::uint64_t stuck, WaitingForStore());
    if (stuck == 0) return {};
    return Error(
        Code::kReadOnly,
        fmt::format("{} wait{} for upload, and the drive {} is read-only", Counted(stuck, "change"),
                    stuck == 1 ? "s" : "", options_.name),
        "The changes are safe on this disk, and are uploaded when the drive may write again.");
  }
  const Steady begun = options_.clock->Now();
  const Outbox::Hurry hurry(&outbox_);
  return AwaitUploads(begun, begun + patience, given_up);
}

Status Engine::AwaitUploads(Steady begun, Steady deadline, const std::function<bool()>& given_up) {
  for (;;) {
    const std::optional<Error> why = WhyInVain(begun);
    PG_ASSIGN(const std::uint64_t left,
              WaitingForStore());  // (what ended before that is not in it)
    if (left == 0) return {};
    const auto waits =
        fmt::format("{} still wait{} for upload", Counted(left, "change"), left == 1 ? "s" : "");
    if (why)
      return Error(
          why->code, fmt::format("{}, in vain: {}", waits, why->what),
          why->remedy.empty() ? "Each one's reason: pargeter queue " + options_.name : why->remedy);
    const Steady now = options_.clock->Now();
    if (now >= deadline || stop_->cancelled()) {
      const bool kept = [&] {
        View view(&tree_);
        return facts_.CheckState(view).ok();
      }();
      return Error(
          Code::kTimeout, waits,
          !kept ? "The state folder was deleted: these changes are lost when this process ends."
          : stop_->cancelled()
              ? "The changes are safe on this disk, and are uploaded when the drive is mounted."
          : store_->OfflineSince() != 0
              ? "The changes are safe on this disk, and are uploaded when the store is back."
              : "The changes are safe on this disk, and are uploaded in the background.");
    }
    if (given_up && given_up()) return Error(Code::kCancelled, "nobody waits for it any more");
    outbox_.WaitForProgress(std::min(deadline, now + kLookWhetherDone));
  }
}

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
    if (guard_.hold_from_(view) != 0) oldest = 0;
    const auto waiting = view.index().PendingNodes(0, guard_.hold_from_(view) != 0 ? 1 << 30 : 0);
    for (const Node& node : waiting.ok() ? *waiting : std::vector<Node>()) {
      if (!guard_.IsHeld(view, node)) {
        oldest = oldest == 0 ? node.pending.since : std::min(oldest, node.pending.since);
        continue;
      }
      if (node.kind != NodeKind::kFolder) ++out.held;
      if (out.held_since == 0) out.held_since = node.pending.since;
      --out.pending.files;  // it waits for a person, not for the store
    }
    out.state_gone = !facts_.CheckState(view).ok();
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
  if (used > limits.cache_limit) contents_.FreeUnused(used - limits.cache_limit);
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

// If no face is there, as it left them.
bool Engine::IsKeptByFace(const Node& node) const {
  ChangeListener* const face = face_;
  return face == nullptr || face->Keeps(node.id, node.generation);
}

NodeState Engine::StateOfLive(const Inode& inode) {
  NodeState out{inode.node, "remote", {}};
  Node& n = out.node;
  n.cached.bytes = facts_.AttrOf(inode).on_disk;
  const bool at_face = options_.passes_through && n.kind == NodeKind::kFile && IsKeptByFace(n);
  if (at_face) n.cached.bytes = n.size;
  if (n.kind == NodeKind::kSymlink) n.size = n.target.size();
  const bool whole = n.kind == NodeKind::kSymlink || n.cached.bytes >= n.size;
  if (n.conflict_copy.unsettled)
    out.state = "conflict";
  else if (n.pending.seq != 0)
    out.state = "pending";
  else if (n.effective == Placement::kLocal)
    out.state = "local";
  else if (n.kind == NodeKind::kFolder)
    out.state = "remote";  // until what is below it says more
  else if (whole)
    out.state = n.effective == Placement::kPin || options_.passes_through ? "pinned" : "cached";
  else if (n.cached.bytes > 0)
    out.state = "partial";
  return out;
}

// A folder's state is that of what is below it.
Status Engine::AddSums(View& view, NodeState* state) {
  Node& n = state->node;
  if (n.kind != NodeKind::kFolder) return {};
  PG_ASSIGN(state->sums, view.index().SumsOf(n.id));
  const Sums& sums = state->sums;
  n.size = static_cast<std::uint64_t>(sums.bytes);
  n.cached.bytes = static_cast<std::uint64_t>(sums.on_disk);
  // (which of them are still to come, the face says)
  const bool at_face = options_.passes_through && sums.unlisted == 0;
  if (at_face) n.cached.bytes = n.size;
  if (state->state == "conflict" || state->state == "pending") return {};
  if (sums.conflicts > 0)
    state->state = "conflict";
  else if (sums.pending > 0)
    state->state = "pending";
  else if (n.effective == Placement::kLocal)
    state->state = "local";
  else if (at_face)
    state->state = "pinned";
  else if (sums.files > 0 && sums.whole == sums.files && sums.unlisted == 0)
    state->state = sums.pinned_files == sums.files ? "pinned" : "cached";
  else if (sums.on_disk > 0)
    state->state = "partial";
  else if (sums.files == 0 && n.effective == Placement::kPin && sums.unlisted == 0)
    state->state = "pinned";
  return {};
}

Result<NodeState> Engine::State(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  NodeState out = StateOfLive(*inode);
  PG_TRY(AddSums(view, &out));
  return out;
}

// The content of a folder, each folder in it with the sums of what is below it.
Result<std::vector<NodeState>> Engine::ListStates(NodeId folder) {
  contents_.SavePresenceOfAll();
  std::vector<NodeState> out;
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
        Inode passing;
        passing.node = std::move(row);
        out.push_back(StateOfLive(passing));
      }
      PG_TRY(AddSums(view, &out.back()));
    }
  }
  std::sort(out.begin(), out.end(),
            [](const NodeState& a, const NodeState& b) { return a.node.name < b.node.name; });
  return out;
}

Result<std::vector<std::pair<std::string, Node>>> Engine::Queue(int limit) {
  std::vector<Node> rows;
  {
    View view(&tree_);
    PG_ASSIGN(rows, view.index().PendingNodes(0, limit));
  }
  std::vector<std::pair<std::string, Node>> out;
  for (Node& row : rows) {
    auto path = facts_.PathOf(row.id);
    out.emplace_back(path.ok() ? *path : row.name, std::move(row));
  }
  return out;
}

UploadDelay Engine::DelayOf(const Node& node) {
  const Outbox::Delay waits = outbox_.DelayOf(node.id);
  return {std::max(static_cast<int>(node.pending.tries), waits.tries),
          node.pending.error.empty() ? waits.why : node.pending.error, waits.next_try};
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
  if (const auto account = room_.AccountSpace(kSpaceFor); account.ok() && *account) {
    attr.size = std::min(attr.size, (*account)->available);
    attr.on_disk = (*account)->used + (*account)->available;
  }
  return attr;
}

Result<Sums> Engine::SumsOf(NodeId folder) {
  contents_.SavePresenceOfAll();
  View view(&tree_);
  return view.index().SumsOf(folder);
}

Status Engine::CheckIndex() {
  View view(&tree_);
  PG_TRY(view.index().CheckPlaces());
  return view.index().CheckSums();
}

std::vector<Happening> Engine::Happened(std::int64_t after, std::size_t limit) {
  return events_.activity().After(after, limit);
}

}  // namespace pargeter
