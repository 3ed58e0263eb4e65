// Engine: bytes on this disk as people ask for them: evicted, fetched, pinned.
#include "engine/residency.h"

#include <fmt/format.h>

#include <algorithm>
#include <thread>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/engine.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::size_t kBatch = 500;  // files in one transaction
constexpr std::size_t kNamed = 5;    // files that are named in an answer
constexpr int kFetchers = 8;         // files at once
constexpr std::uint64_t kPiece = 8 * kMiB;
constexpr std::uint64_t kStep = kMiB;     // of what progress tells
constexpr Duration kPinnedLook(60000);    // how often a pinned folder is listed again
constexpr std::size_t kPinnedLooks = 60;  // ... and how many of them in that time

// A full cache, or a store that is away, is not met again for each file.
bool MeetsAll(const Error& error) {
  return error.code == Code::kNoSpace || error.code == Code::kUnavailable ||
         error.code == Code::kCancelled;
}
}  // namespace

Result<Sums> Engine::SumsOf(NodeId folder) {
  SavePresenceOfAll();
  View view(&tree_);
  return view.index().SumsOf(folder);
}

Status Engine::CheckIndex() {
  View view(&tree_);
  PG_TRY(view.index().CheckPlaces());
  return view.index().CheckSums();
}

// Nodes below, in no order. `enter` says for each folder whether to look into it.
Status Engine::Walk(NodeId id, const std::function<Result<bool>(View&, const Node&)>& enter,
                    const std::function<void(View&, const Node&)>& each) {
  std::vector<NodeId> folders;
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(id));
    if (live->node.kind != NodeKind::kFolder) {
      each(view, live->node);
      return {};
    }
    PG_ASSIGN(const bool in, enter(view, live->node));
    if (in) folders.push_back(id);
  }
  while (!folders.empty()) {
    const NodeId folder = folders.back();
    folders.pop_back();
    for (NodeId after = 0;;) {
      View view(&tree_);  // let go between pages: others have their turn
      PG_ASSIGN(const std::vector<Node> rows, view.index().Children(folder, after, 1000));
      if (rows.empty()) break;
      after = rows.back().id;
      for (const Node& row : rows) {
        if (row.kind == NodeKind::kFolder) {
          PG_ASSIGN(const bool in, enter(view, row));
          if (in) folders.push_back(row.id);
        }
        each(view, row);
      }
    }
  }
  return {};
}

// ---- evict

// Sorts one file: what may go into `out`, the rest into the answer.
void Engine::Weigh(View& view, const Node& row, const EvictWish& wish, Evicted* answer,
                   std::vector<std::pair<Nanos, NodeId>>* out) {
  const auto it = view.inodes().find(row.id);
  Live* live = it == view.inodes().end() ? nullptr : it->second.get();
  const Node& node = live != nullptr ? live->node : row;
  const std::uint64_t here = live != nullptr ? AttrOf(*live).on_disk : node.on_disk;
  if (node.kind != NodeKind::kFile || here == 0 || node.gone()) return;
  const auto name = [&](std::vector<std::string>* names) {
    if (names->size() >= kNamed) return;
    const auto path = view.PathHere(node.id);
    names->push_back(path.ok() ? *path : node.name);
  };
  if (node.effective == Placement::kPin || node.effective == Placement::kLocal) {
    ++answer->kept;
    name(&answer->kept_names);
  } else if ((node.dirty & kData) || node.intent != 0) {
    ++answer->pending;
    name(&answer->pending_names);
  } else if (wish.unused_since != 0 && node.used_at > wish.unused_since) {
    return;
  } else if (live != nullptr && live->opens > 0) {
    ++answer->open;
    if (!wish.dry_run) live->drop_when_closed = true;
  } else {
    out->emplace_back(node.used_at, node.id);
  }
}

Result<Evicted> Engine::Evict(const std::vector<NodeId>& ids, const EvictWish& wish) {
  spare_->Tend();
  SavePresenceOfAll();
  Evicted answer;
  std::vector<std::pair<Nanos, NodeId>> candidates;
  for (const NodeId id : ids) {
    PG_TRY(Walk(
        id,
        [&](View& view, const Node& folder) -> Result<bool> {
          PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
          return sums.on_disk > 0;
        },
        [&](View& view, const Node& node) { Weigh(view, node, wish, &answer, &candidates); }));
  }
  std::sort(candidates.begin(), candidates.end());
  candidates.erase(std::unique(candidates.begin(), candidates.end()), candidates.end());
  const auto free_now = options_.disk->FreeBytes(options_.cache_folder);
  answer.free_before = free_now.ok() ? *free_now : 0;
  std::uint64_t goal = ~0ull;  // bytes to free
  if (wish.until_free != 0)
    goal = wish.until_free > answer.free_before ? wish.until_free - answer.free_before : 0;
  for (std::size_t at = 0; at < candidates.size() && answer.bytes < goal; at += kBatch) {
    View view(&tree_);
    Change change(&view);
    const std::size_t end = std::min(candidates.size(), at + kBatch);
    for (std::size_t i = at; i < end && answer.bytes < goal; ++i) {
      auto live = view.Get(candidates[i].second);
      if (!live.ok()) continue;
      const std::uint64_t bytes = AttrOf(**live).on_disk;
      if (!wish.dry_run && !DropIfUnused(view, *live, true)) continue;
      answer.bytes += bytes;
      ++answer.files;
    }
    PG_TRY(change.Commit());
  }
  const auto free_after = options_.disk->FreeBytes(options_.cache_folder);
  answer.free_after = wish.dry_run ? answer.free_before + answer.bytes
                                   : (free_after.ok() ? *free_after : answer.free_before);
  return answer;
}

// Clean, open nowhere, and not to be kept: its bytes go, its name stays. `arriving`: also if some
// of them are just being fetched.
bool Engine::DropIfUnused(View& view, Live* live, bool arriving) {
  const Node& node = live->node;
  if (node.gone() || live->opens > 0 || (node.dirty & kData) || node.intent != 0) return false;
  if (node.effective == Placement::kPin || node.effective == Placement::kLocal) return false;
  if (!arriving && live->content && live->content.use_count() > 1) return false;
  live->node.used_again = false;
  DropContent(view, live);
  Ignore(view.Save(live));
  return true;
}

// ---- fetch

// Every folder below that nobody has looked into yet is listed. One that cannot be keeps no other
// from it, and is the error in the end.
Status Engine::ListBelow(NodeId id, const Cancel& cancel) {
  std::set<NodeId> tried;
  Mutex mutex;
  std::optional<Error> failed;
  for (;;) {
    std::vector<NodeId> unknown;
    PG_TRY(Walk(
        id,
        [&](View& view, const Node& folder) -> Result<bool> {
          if (folder.effective == Placement::kHide) return false;
          if (folder.listed_at == 0 && folder.there != There::kAbsent) {
            if (tried.insert(folder.id).second) unknown.push_back(folder.id);
            return true;
          }
          PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
          return sums.unlisted > 0;
        },
        [](View&, const Node&) {}));
    if (unknown.empty()) return failed ? Status(*failed) : Status();
    PG_TRY(ForMany(unknown, [&](NodeId folder) -> Status {
      if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "it was called off");
      const Status listed = ListFolder(folder, Wait::kAll, "", Traffic::kPrefetch);
      if (listed.ok() || listed.error().code == Code::kNotFound ||
          listed.error().code == Code::kStale)
        return {};
      if (MeetsAll(listed.error())) return listed;
      const Lock lock(mutex);
      if (!failed) failed = listed.error();
      return {};
    }));
  }
}

// A few at a time; the first error ends it.
Status Engine::ForMany(const std::vector<NodeId>& ids, const std::function<Status(NodeId)>& each) {
  std::atomic<std::size_t> next{0};
  std::atomic<bool> over{false};
  Mutex mutex;
  std::optional<Error> failed;
  const auto work = [&] {
    for (std::size_t i = next++; i < ids.size() && !over; i = next++) {
      const Status done = each(ids[i]);
      if (done.ok()) continue;
      over = true;
      const Lock lock(mutex);
      if (!failed) failed = done.error();
    }
  };
  WorkTogether(std::min<std::size_t>(kFetchers, ids.size()), work);
  return failed ? Status(*failed) : Status();
}

// All bytes of one file. `cancel` may be null, and `bytes_done` too.
Status Engine::FetchFile(NodeId id, const Cancel& cancel, std::atomic<std::uint64_t>* bytes_done) {
  for (int attempt = 0;; ++attempt) {
    std::shared_ptr<Content> content;
    std::uint64_t size = 0;
    {
      View view(&tree_);
      auto live = view.Get(id);
      if (!live.ok()) return {};
      const Node& node = (*live)->node;
      if (node.gone() || node.kind != NodeKind::kFile || (node.dirty & kData)) return {};
      PG_ASSIGN(content, ContentOf(view, *live));
      size = node.size;
      NoteUse(view, *live);
      (*live)->unsaved = true;
    }
    Status got;
    for (std::uint64_t at = 0; at < size && got.ok(); at += kStep) {
      if (stop_->cancelled() || (cancel && cancel->cancelled()))
        return Error(Code::kCancelled, "it was called off");
      const std::uint64_t end = std::min(size, at + kStep);
      const std::uint64_t ahead = (end + kPiece - 1) / kPiece * kPiece + 4 * kPiece;
      got = EnsurePresent(content, {at, end}, {end, std::min(size, ahead)},
                          options_.clock->Now() + options_.patience, Traffic::kPrefetch);
      if (got.ok() && bytes_done != nullptr) *bytes_done += end - at;
    }
    if (got.ok()) return got;
    const Code why = got.error().code;
    if ((why != Code::kStale && why != Code::kDamaged) || attempt > 2) return got;
    // replaced at the store meanwhile: the new version, then
    if (why == Code::kStale) Ignore(LookAgain(id));
  }
}

Result<std::int64_t> Engine::BeginFetch(std::vector<NodeId> roots) {
  auto fetch = std::make_shared<Fetch>();
  fetch->roots = std::move(roots);
  return fetches_.Begin(std::move(fetch), stop_, [this](Fetch* begun) { RunFetch(begun); });
}

std::shared_ptr<Fetch> Engine::FetchOf(std::int64_t number) { return fetches_.Find(number); }

void Engine::RunFetch(Fetch* fetch) {
  const auto note = [fetch](const std::string& path, const Error& error) {
    if (error.code == Code::kCancelled) return;
    const Lock lock(fetch->mutex);
    if (fetch->failed.size() < 1000) fetch->failed.emplace_back(path, error);
  };
  std::vector<NodeId> files;
  for (const NodeId root : fetch->roots) {
    if (const Status listed = ListBelow(root, fetch->cancel); !listed.ok())
      note("", listed.error());
    Ignore(Walk(
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
              it == view.inodes().end() ? node.on_disk : AttrOf(*it->second).on_disk;
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
  Ignore(ForMany(files, [&](NodeId id) -> Status {
    if (fetch->cancel->cancelled()) return Error(Code::kCancelled, "it was called off");
    const Status got = FetchFile(id, fetch->cancel, &fetch->bytes_done);
    if (got.ok()) {
      ++fetch->files_done;
      return {};
    }
    const auto path = PathOf(id);
    note(path.ok() ? *path : "", got.error());
    return MeetsAll(got.error()) ? got : Status();
  }));
  SavePresenceOfAll();
}

// ---- pins

Status Engine::Pin(NodeId id) { return Place(id, Placement::kPin); }

Status Engine::Unpin(NodeId id) {
  std::string above;
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(id));
    const Node& node = live->node;
    if (node.placement != Placement::kPin) {
      if (node.effective != Placement::kPin)
        return Error(Code::kNotFound, Printable(node.name) + " is not pinned");
      NodeId up = node.parent;
      for (Live* folder = nullptr; up != kRootId; up = folder->node.parent) {
        PG_ASSIGN(folder, view.Get(up));
        if (folder->node.placement == Placement::kPin) break;
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

void Engine::WakePins() {
  const Lock lock(pins_mutex_);
  pins_woken_ = true;
  pins_cond_.NotifyAll();
}

// What is pinned and not here is fetched; what appears in pinned folders at the store is noticed.
void Engine::PinLoop() {
  for (;;) {
    const bool any = FetchPinned();
    const Duration pause = any ? kPinnedLook : std::chrono::hours(1);
    Lock lock(pins_mutex_);
    const Steady wake = options_.clock->Now() + pause;
    while (!pins_woken_ && !stop_->cancelled() && options_.clock->Now() < wake)
      pins_cond_.WaitUntil(pins_mutex_, wake);
    pins_woken_ = false;
    if (stop_->cancelled()) return;
  }
}

// True: something is pinned at all.
bool Engine::FetchPinned() {
  std::vector<NodeId> roots;
  {
    View view(&tree_);
    pins_changed_(view) = false;
    const auto placed = view.index().Placed();
    if (!placed.ok()) return true;
    for (const Node& node : *placed)
      if (node.placement == Placement::kPin && !node.gone()) roots.push_back(node.id);
    const auto all = view.index().SumsOf(kRootId);
    const bool by_name = all.ok() && all->pinned_files > 0;
    if (roots.empty() && !by_name) return false;
  }
  if (!store_->Check().ok()) return true;
  for (const NodeId root : roots) LookForNew(root);
  SavePresenceOfAll();
  std::vector<NodeId> missing;
  Ignore(Walk(
      kRootId,
      [&](View& view, const Node& folder) -> Result<bool> {
        PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
        return sums.pinned_on_disk < sums.pinned_bytes;
      },
      [&](View&, const Node& row) {
        if (row.kind == NodeKind::kFile && row.effective == Placement::kPin &&
            !(row.dirty & kData) && row.on_disk < row.size)
          missing.push_back(row.id);
      }));
  Mutex mutex;
  std::string why;  // the first of them
  Ignore(ForMany(missing, [&](NodeId id) -> Status {
    const Status got = FetchFile(id, stop_, nullptr);
    if (got.ok() || got.error().code == Code::kCancelled) return got;
    const Lock lock(mutex);
    if (why.empty()) why = "not all that is pinned is here: " + got.error().what;
    return MeetsAll(got.error()) ? got : Status();
  }));
  SavePresenceOfAll();
  View view(&tree_);
  health_.SetPinFault(why);
  return true;
}

// Folders below a pinned one that were not listed for a while, the longest ago first; not too many
// at once.
void Engine::LookForNew(NodeId root) {
  Ignore(ListBelow(root, stop_));
  std::vector<std::pair<Steady, NodeId>> due;
  Ignore(Walk(
      root,
      [&](View& view, const Node& folder) -> Result<bool> {
        if (folder.effective == Placement::kHide) return false;
        const auto it = listed_(view).find(folder.id);
        const Steady last = it == listed_(view).end() ? Steady::min() : it->second;
        const bool old = it == listed_(view).end() || options_.clock->Now() - last >= kPinnedLook;
        if (old && folder.there != There::kAbsent) due.emplace_back(last, folder.id);
        return true;
      },
      [](View&, const Node&) {}));
  std::sort(due.begin(), due.end());
  std::vector<NodeId> old;
  for (std::size_t i = 0; i < std::min(due.size(), kPinnedLooks); ++i) old.push_back(due[i].second);
  Ignore(ForMany(old, [&](NodeId id) {
    Ignore(ListFolder(id, Wait::kAll, "", Traffic::kPrefetch));
    return stop_->cancelled() ? Status(Error(Code::kCancelled, "")) : Status();
  }));
}

}  // namespace pargeter
