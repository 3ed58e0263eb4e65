// Prefetcher: bytes on this disk as people ask for them: fetched, pinned.
#include "engine/prefetch/prefetcher.h"

#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>
#include <thread>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/policy/placement_rules.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::uint64_t kPiece = 8 * kMiB;

constexpr std::uint64_t kStep = kMiB;  // of what progress tells

constexpr Duration kPinnedLook(60000);  // how often a pinned folder is listed again

constexpr std::size_t kPinnedLooks = 60;  // ... and how many of them in that time

}  // namespace

Status Prefetcher::Place(NodeId id, Placement placement) {
  if (placement == Placement::kPin || placement == Placement::kLocal) {
    const Status known = refresher_.ListBelow(id, nullptr);
    const bool closed = !known.ok() && known.error().code == Code::kPermission;
    // what may not even be listed cannot be pinned, and takes no other's pin away
    if (!known.ok() && !(closed && placement == Placement::kPin)) return known;
  }
  std::vector<NodeId> thinned;
  {
    View view(&tree_);
    Change change(&view);
    PG_ASSIGN(Inode * inode, view.Get(id));
    Node& node = inode->node;
    if (node.gone()) return Error(Code::kNotFound, "it was deleted");
    if (id == kRootId && (placement == Placement::kHide || placement == Placement::kLocal))
      return Error(Code::kInvalid, "the whole drive cannot be hidden or kept local",
                   "Choose a folder in the drive.");
    if (placement == Placement::kPin) PG_TRY(placement_.CheckPinsFit(view, node));
    if (placement == Placement::kLocal) PG_TRY(placement_.CheckMayBeLocal(view, node));
    node.own_rule.placement = placement;
    node.own_rule.set_at = placement == Placement::kNone ? 0 : options_.clock->Wall();
    node.own_rule.set_by.clear();
    view.Touch(id);
    PG_TRY(view.Save(inode));
    PG_TRY(placement_.PropagatePlacement(view, id, false));
    PG_TRY(change.Commit());
  }
  PG_TRY(tree_.Sync());  // somebody decided it: not even a power cut undoes that
  pins_.Wake();
  if (placement == Placement::kThin) Ignore(contents_.Evict({id}, {}));
  return {};
}

// All bytes of one file. `cancel` may be null, and `bytes_done` too.
Status Prefetcher::FetchFile(NodeId id, const Cancel& cancel,
                             std::atomic<std::uint64_t>* bytes_done) {
  for (int attempt = 0;; ++attempt) {
    std::shared_ptr<Content> content;
    std::uint64_t size = 0;
    {
      View view(&tree_);
      auto inode = view.Get(id);
      if (!inode.ok()) return {};
      const Node& node = (*inode)->node;
      if (node.gone() || node.kind != NodeKind::kFile || (node.dirty & kData)) return {};
      PG_ASSIGN(content, contents_.OpenContent(view, *inode));
      size = node.size;
      contents_.NoteUse(view, *inode);
      (*inode)->unsaved = true;
    }
    Status got;
    for (std::uint64_t at = 0; at < size && got.ok(); at += kStep) {
      if (stop_->cancelled() || (cancel && cancel->cancelled()))
        return Error(Code::kCancelled, "it was called off");
      const std::uint64_t end = std::min(size, at + kStep);
      const std::uint64_t ahead = (end + kPiece - 1) / kPiece * kPiece + 4 * kPiece;
      got = fetcher_.EnsurePresent(content, {at, end}, {end, std::min(size, ahead)},
                                   options_.clock->Now() + options_.patience, Traffic::kPrefetch);
      if (got.ok() && bytes_done != nullptr) *bytes_done += end - at;
    }
    if (got.ok()) return got;
    const Code why = got.error().code;
    if ((why != Code::kStale && why != Code::kDamaged) || attempt > 2) return got;
    // replaced at the store meanwhile: the new version, then
    if (why == Code::kStale) Ignore(refresher_.Revalidate(id));
  }
}

Result<std::int64_t> Prefetcher::BeginFetch(std::vector<NodeId> roots) {
  auto fetch = std::make_shared<Fetch>();
  fetch->roots = std::move(roots);
  return fetches_.Begin(std::move(fetch), stop_, [this](Fetch* begun) { RunFetch(begun); });
}

std::shared_ptr<Fetch> Prefetcher::FetchOf(std::int64_t number) { return fetches_.Find(number); }

void Prefetcher::RunFetch(Fetch* fetch) {
  const auto note = [fetch](const std::string& path, const Error& error) {
    if (error.code == Code::kCancelled) return;
    const Lock lock(fetch->mutex);
    if (fetch->failed.size() < 1000) fetch->failed.emplace_back(path, error);
  };
  std::vector<NodeId> files;
  for (const NodeId root : fetch->roots) {
    if (const Status listed = refresher_.ListBelow(root, fetch->cancel); !listed.ok())
      note("", listed.error());
    Ignore(facts_.Walk(
        root,
        [](View&, const Node& folder) -> Result<bool> {
          return folder.effective != Placement::kHide;
        },
        [&](View& view, const Node& row) {
          const auto it = view.inodes().find(row.id);
          const Node& node = it == view.inodes().end() ? row : it->second->node;
          if (node.kind != NodeKind::kFile || (node.dirty & kData)) return;
          if (node.effective == Placement::kThin || node.effective == Placement::kHide) {
            ++fetch->thin;
            return;
          }
          const std::uint64_t here =
              it == view.inodes().end() ? node.cached.bytes : facts_.AttrOf(*it->second).on_disk;
          fetch->bytes += node.size;
          ++fetch->files;
          if (here >= node.size) {
            fetch->bytes_done += node.size;
            ++fetch->files_done;
          } else {
            files.push_back(node.id);
          }
        }));
  }
  fetch->looking = false;
  Ignore(facts_.ParallelForEach(files, [&](NodeId id) -> Status {
    if (fetch->cancel->cancelled()) return Error(Code::kCancelled, "it was called off");
    const Status got = FetchFile(id, fetch->cancel, &fetch->bytes_done);
    if (got.ok()) {
      ++fetch->files_done;
      return {};
    }
    const auto path = facts_.PathOf(id);
    note(path.ok() ? *path : "", got.error());
    return MeetsAll(got.error()) ? got : Status();
  }));
  contents_.SavePresenceOfAll();
}

// ---- pins

Status Prefetcher::Pin(NodeId id) { return Place(id, Placement::kPin); }

Status Prefetcher::Unpin(NodeId id) {
  std::string above;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(id));
    const Node& node = inode->node;
    if (node.own_rule.placement != Placement::kPin) {
      if (node.effective != Placement::kPin)
        return Error(Code::kNotFound, Printable(node.name) + " is not pinned");
      NodeId up = node.parent;
      for (Inode* folder = nullptr; up != kRootId; up = folder->node.parent) {
        PG_ASSIGN(folder, view.Get(up));
        if (folder->node.own_rule.placement == Placement::kPin) break;
      }
      PG_ASSIGN(above, view.PathHere(up));
      return Error(Code::kRefused,
                   fmt::format("it is pinned with {}, which it is in",
                               above.empty() ? "the whole drive" : Printable(above)),
                   "Unpin that, or make an exception: pargeter rule add PATH cache");
    }
  }
  return Place(id, Placement::kNone);
}

// What is pinned and not here is fetched; what appears in pinned folders at the store is noticed.
void Prefetcher::PinLoop() {
  for (;;) {
    const bool any = FetchPinned();
    const Duration pause = any ? kPinnedLook : std::chrono::hours(1);
    pins_.AwaitWake(*options_.clock, options_.clock->Now() + pause, *stop_);
    if (stop_->cancelled()) return;
  }
}

// True: something is pinned at all.
bool Prefetcher::FetchPinned() {
  std::vector<NodeId> roots;
  {
    View view(&tree_);
    pins_changed_(view) = false;
    const auto placed = view.index().Placed();
    if (!placed.ok()) return true;
    for (const Node& node : *placed)
      if (node.own_rule.placement == Placement::kPin && !node.gone()) roots.push_back(node.id);
    const auto all = view.index().SumsOf(kRootId);
    const bool by_name = all.ok() && all->pinned_files > 0;
    if (roots.empty() && !by_name) return false;
  }
  if (!store_->Check().ok()) return true;
  for (const NodeId root : roots) LookForNew(root);
  contents_.SavePresenceOfAll();
  std::vector<NodeId> missing;
  Ignore(facts_.Walk(
      kRootId,
      [&](View& view, const Node& folder) -> Result<bool> {
        PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
        return sums.pinned_on_disk < sums.pinned_bytes;
      },
      [&](View&, const Node& row) {
        if (row.kind == NodeKind::kFile && row.effective == Placement::kPin &&
            !(row.dirty & kData) && row.cached.bytes < row.size)
          missing.push_back(row.id);
      }));
  Mutex mutex;
  std::string why;  // the first of them
  Ignore(facts_.ParallelForEach(missing, [&](NodeId id) -> Status {
    const Status got = FetchFile(id, stop_, nullptr);
    if (got.ok() || got.error().code == Code::kCancelled) return got;
    const Lock lock(mutex);
    if (why.empty()) why = "not all that is pinned is here: " + got.error().what;
    return MeetsAll(got.error()) ? got : Status();
  }));
  contents_.SavePresenceOfAll();
  View view(&tree_);
  health_.SetPinFault(why);
  return true;
}

// Folders below a pinned one that were not listed for a while, the longest ago first; not too many
// at once.
void Prefetcher::LookForNew(NodeId root) {
  Ignore(refresher_.ListBelow(root, stop_));
  std::vector<std::pair<Steady, NodeId>> due;
  Ignore(facts_.Walk(
      root,
      [&](View& view, const Node& folder) -> Result<bool> {
        if (folder.effective == Placement::kHide) return false;
        const std::optional<Steady> listed = merge_.listing_ages_(view).When(folder.id);
        const bool old = !listed || options_.clock->Now() - *listed >= kPinnedLook;
        if (old && folder.remote.place != RemotePlace::kNone)
          due.emplace_back(listed.value_or(Steady::min()), folder.id);
        return true;
      },
      [](View&, const Node&) {}));
  std::sort(due.begin(), due.end());
  std::vector<NodeId> old;
  for (std::size_t i = 0; i < std::min(due.size(), kPinnedLooks); ++i) old.push_back(due[i].second);
  Ignore(facts_.ParallelForEach(old, [&](NodeId id) {
    Ignore(refresher_.ListFolder(id, ListWait::kAll, "", Traffic::kPrefetch));
    return stop_->cancelled() ? Status(Error(Code::kCancelled, "")) : Status();
  }));
}

}  // namespace pargeter
