// Contents: opening and closing files, and what stays on disk between.
#include "engine/content/contents.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <utility>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "cache/eviction.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::size_t kSyncedTogether = 16;
}  // namespace

Result<std::shared_ptr<Content>> Contents::OpenContent(View& view, Inode* inode) {
  if (inode->content) return inode->content;
  const Node& node = inode->node;
  auto content = std::make_shared<Content>(node.id);
  const Lock lock(content->mu);
  content->place = (node.dirty & kData) ? Place::kPending : Place::kCache;
  bool had = blocks_->Has(node.id, content->place);
  if (!had && content->place == Place::kPending && blocks_->Has(node.id, Place::kCache)) {
    // an acknowledgement moved it back, and could not be written down
    PG_TRY(blocks_->Move(node.id, Place::kCache, Place::kPending));
    had = true;
  }
  if (!had && content->place == Place::kPending && node.size > 0 && node.copy.path.empty()) {
    // an empty file in its place would go up as if it were the content
    PG_ASSIGN(const std::string expected, view.index().Presence(node.id));
    const bool base = node.remote.place != RemotePlace::kNone && node.base_size >= node.size;
    if (!expected.empty() || !base) {
      return Error(
          Code::kIo,
          fmt::format("the waiting content of {} is no longer on this disk", Printable(node.name)),
          "Somebody deleted its bytes in the drive's state. Delete the file to give it up.");
    }
  }
  std::string ranges;
  if (had) {
    PG_ASSIGN(ranges, view.index().Presence(node.id));
    if (content->place == Place::kCache && ranges.empty()) {
      // left of an earlier version: after a power cut its bytes could pass for those of this one
      PG_TRY(blocks_->Drop(node.id, Place::kCache));
      had = false;
    }
  }
  PG_ASSIGN(content->fd, blocks_->Open(node.id, content->place));
  content->size = node.size;
  if (!node.copy.path.empty())
    content->base = {node.copy.version, node.size};
  else if (node.remote.place != RemotePlace::kNone && !node.remote.version.empty())
    content->base = {node.remote.version, node.dirty & kData ? node.base_size : node.remote.size};
  if (had) {
    content->present = RangeSet::Parse(ranges);
    const std::uint64_t counted = node.cached.bytes;
    struct stat info {};
    if (::fstat(content->fd.get(), &info) != 0) info.st_size = 0;
    const auto length = static_cast<std::uint64_t>(info.st_size);
    // bytes past the end came from a write that no close has confirmed
    if (length > node.size) PG_TRY(options_.disk->Truncate(content->fd.get(), node.size));
    content->present.Remove({node.size, ~0ull >> 1});
    if (content->place == Place::kPending && node.copy.path.empty()) {
      // past the version that was changed there is nothing but what was written here, journalled
      // or not: a file that nobody had closed when the process ended
      if (length < node.size) PG_TRY(options_.disk->Truncate(content->fd.get(), node.size));
      const std::uint64_t base = content->base.size;
      if (base < node.size) content->present.Add({base, node.size});
    }
    // a file that is shorter than what it should hold was damaged: trust nothing of it
    const auto ranges_now = content->present.All();
    if (content->place == Place::kCache && !ranges_now.empty() && ranges_now.back().end > length)
      content->present.Clear();
    if (content->place == Place::kPending) FindHoles(content.get());
    const std::uint64_t here = content->Held();
    if (here > counted) budget_->Count(here - counted);
    if (here < counted) budget_->Release(counted - here);
  }
  inode->content = content;
  open_contents_(view).push_back(node.id);
  CloseIdle(view);
  return content;
}

// As the file system tells them; where it does not, there seem to be none.
void Contents::FindHoles(Content* content) {
  const int fd = content->fd.get();
  for (const Range& range : content->present.All()) {
    for (std::uint64_t at = range.begin; at < range.end;) {
      const auto seek = [&](std::uint64_t from, int what) {
        const off_t found = ::lseek(fd, static_cast<off_t>(from), what);
        return found < 0 ? range.end
                         : std::min<std::uint64_t>(range.end, static_cast<std::uint64_t>(found));
      };
      const std::uint64_t hole = seek(at, SEEK_HOLE);
      if (hole >= range.end) break;
      const std::uint64_t end = seek(hole, SEEK_DATA);
      content->hollow.Add({hole, end});
      at = end;
    }
  }
}

// Each content that is known in memory holds a descriptor, and there are only so many: those that
// nobody has open any more are closed, the oldest first.
void Contents::CloseIdle(View& view) {
  const std::size_t most = options_.open_contents;
  std::size_t tries =
      open_contents_(view).size() - std::min(open_contents_(view).size(), most) + 16;
  for (; open_contents_(view).size() > most && tries > 0; --tries) {
    const NodeId id = open_contents_(view).front();
    open_contents_(view).pop_front();
    const auto it = view.inodes().find(id);
    if (it == view.inodes().end() || !it->second->content) continue;
    Inode& inode = *it->second;
    bool idle = inode.opens == 0 && inode.content.use_count() == 1;
    if (idle) {
      const Lock lock(inode.content->mu);
      idle = !inode.content->unsaved && !inode.content->written;
    }
    if (idle)
      inode.content.reset();
    else
      open_contents_(view).push_back(id);
  }
}

void Contents::NoteUse(View& view, Inode* inode) {
  Node& node = inode->node;
  const Use now = Used({node.cached.used_at, node.cached.used_again},
                       facts_.AttrOf(*inode).on_disk > 0, options_.clock->Wall());
  node.cached.used_at = now.last;
  node.cached.used_again = now.again;
  view.used().insert(node.id);
}

// Times of use are journalled together, before they decide anything: an open costs no write.
void Contents::SaveUses(View& view) {
  Change change(&view);
  for (const NodeId id : std::exchange(view.used(), {})) {
    const auto it = view.inodes().find(id);
    if (it != view.inodes().end() && !it->second->doubtful) Ignore(view.Save(it->second.get()));
  }
  Ignore(change.Commit());
}

// Size and presence into the index, in one transaction. The content's bytes must be in the kernel.
// `confirmed`: by a close or fsync.
Status Contents::SaveContent(View& view, Inode* inode, Content* content, bool confirmed) {
  std::string ranges;
  {
    const Lock lock(content->mu);
    ranges = content->present.Serialize();
    inode->node.cached.bytes = content->Held();
    inode->node.base_size = content->base.size;
    content->unsaved = false;
    if (confirmed) content->written = false;
  }
  Change change(&view);
  NotePending(view, inode->node, ranges);
  Status saved = view.index().SavePresence(content->id, ranges);
  if (saved.ok()) saved = view.Save(inode);
  if (saved.ok()) saved = change.Commit();
  if (!saved.ok()) {  // size and presence go together, or the rest would be read from the store
    const Lock lock(content->mu);
    content->unsaved = content->written = true;
  }
  return saved;
}

// Saves the size of files that are still open and were written: a kill then costs little of them.
void Contents::SaveWritten() {
  View view(&tree_);
  std::vector<NodeId> written;
  for (const auto& [id, inode] : view.inodes()) {
    if (!inode->content) continue;
    const Lock lock(inode->content->mu);
    if (inode->content->unsaved && inode->content->place == Place::kPending) written.push_back(id);
  }
  for (const NodeId id : written) {
    const auto inode = view.Get(id);
    if (inode.ok() && (*inode)->content) Ignore(SaveContent(view, *inode, (*inode)->content.get()));
  }
}

Status Contents::FlushContent(const OpenFilePtr& file, bool durable) {
  Content* content = file->content.get();
  int fd = -1;
  std::uint64_t generation = 0;
  if (durable) {
    View view(&tree_);
    PG_ASSIGN(const Inode* inode, view.Get(file->id));
    generation = inode->node.generation;
  }
  {
    const Lock lock(content->mu);
    if (!content->written && !durable) return {};
    fd = content->BeginUse();
  }
  Status synced;
  if (durable) synced = options_.disk->SyncData(fd);
  if (durable && synced.ok()) synced = blocks_->SyncNames(Place::kPending);
  {
    const Lock lock(content->mu);
    content->EndUse();
  }
  PG_TRY(synced);
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(file->id));
    if (inode->content.get() != content) return {};
    inode->node.dirty &= ~(kUnflushed | kTruncatedUnflushed);
    if (durable && (inode->node.dirty & kData)) inode->node.dirty |= kSynced;
    PG_TRY(SaveContent(view, inode, content, true));
    if (inode->node.pending.seq != 0) view.Push(inode->node.id, inode->node.pending.seq);
  }
  if (!durable) return {};
  PG_TRY(tree_.Sync());
  View view(&tree_);
  const auto inode = view.Get(file->id);
  if (inode.ok() && (*inode)->content.get() == content) (*inode)->synced_generation = generation;
  return {};
}

// Forgets the bytes on this disk. Handles that are open keep the descriptor of the former file.
void Contents::DetachContent(View& view, Inode* inode) {
  std::uint64_t bytes = inode->node.cached.bytes;
  if (inode->content) {
    const Lock lock(inode->content->mu);
    bytes = inode->content->Held();
    inode->content->detached = true;
    inode->content->changed.NotifyAll();
  }
  inode->content.reset();
  inode->detached_opens += inode->opens;
  inode->opens = 0;
  inode->node.cached.bytes = 0;
  // the files go when the change is journalled, since it may come to nothing
  Change change(&view);
  view.ReleaseOnCommit(inode->node.id, bytes);
  Ignore(view.index().DropPresence(inode->node.id));
  Ignore(change.Commit());
}

// Presence of fetched bytes is saved only after they are on the disk, else a power cut would leave
// zeros that are taken for content.
void Contents::SavePresenceOfAll() {
  struct Snapshot {
    std::shared_ptr<Content> content;
    int fd = -1;
    std::string ranges;
    std::uint64_t bytes = 0, removals = 0;
  };
  // one at a time: whoever comes second finds written down what the first one has taken
  const Lock saving(saving_mutex_);
  std::set<NodeId> ids;
  {
    const Lock lock(unsaved_mutex_);
    ids.swap(unsaved_presence_);
  }
  std::vector<Snapshot> snapshots;
  for (const NodeId id : ids) {
    Snapshot shot;
    {
      View view(&tree_);
      const auto it = view.inodes().find(id);
      if (it != view.inodes().end()) shot.content = it->second->content;
    }
    if (!shot.content) continue;
    Content& content = *shot.content;
    const Lock lock(content.mu);
    if (!content.unsaved || content.detached) continue;
    if (content.place != Place::kCache) {
      // of what waits for upload, size and presence are saved together (SaveContent): later
      NoteUnsaved(id);
      continue;
    }
    shot.fd = content.BeginUse();
    shot.ranges = content.present.Serialize();
    shot.bytes = content.Held();
    shot.removals = content.removals;
    content.unsaved = false;
    snapshots.push_back(std::move(shot));
  }
  const auto later = [this](Content* content) {
    const Lock lock(content->mu);
    content->unsaved = true;
    NoteUnsaved(content->id);
  };
  // many at once: one sync of the disk for all of them
  const bool together = snapshots.size() > kSyncedTogether;
  const Status synced = together ? options_.disk->SyncAll(options_.cache_folder) : Status();
  for (const Snapshot& shot : snapshots) {
    Content* content = shot.content.get();
    const bool safe = (together ? synced : options_.disk->SyncData(shot.fd)).ok();
    {
      const Lock lock(content->mu);
      content->EndUse();
    }
    if (!safe) {
      later(content);
      continue;
    }
    View view(&tree_);
    const auto it = view.inodes().find(content->id);
    if (it == view.inodes().end() || it->second->content != shot.content) continue;
    bool outdated = false;  // evicted or written meanwhile: what was read above is too much
    {
      const Lock lock(content->mu);
      outdated = content->removals != shot.removals || content->place != Place::kCache;
    }
    if (outdated) {
      later(content);
      continue;
    }
    it->second->node.cached.bytes = shot.bytes;
    cache_changed_(view) = true;
    Change change(&view);
    if (view.index().SavePresence(content->id, shot.ranges).ok() &&
        view.Save(it->second.get()).ok())
      Ignore(change.Commit());
  }
  snapshots.clear();
  View view(&tree_);
  CloseIdle(view);
}

// Everything to the disk, and a note of when. After a power cut, cached files that changed later
// than that are not trusted, so that neither closing nor fetching has to wait for the disk; nor are
// those of which the index has learnt something since: it may be on the disk, and they not.
void Contents::SyncEverything() {
  // (when it ends nobody writes any more)
  const Nanos begun = started_ ? options_.clock->FileTime() : options_.clock->Wall();
  std::int64_t round = 0;
  {
    View view(&tree_);
    round = view.index().round();
    view.index().SetRound(round + 1);
  }
  if (!options_.disk->SyncAll(options_.cache_folder).ok() ||
      !options_.disk->SyncAll(options_.state_folder).ok())
    return;
  {
    View view(&tree_);
    cache_changed_(view) = false;
    synced_at_(view) = begun;  // before the mark says so: first writes look at it
    Change change(&view);
    if (!view.index().SetMeta(Mark::kSyncedAt, std::to_string(begun)).ok() ||
        !view.index().SetMeta(Mark::kSyncedRound, std::to_string(round)).ok() ||
        !change.Commit().ok())
      return;
  }
  if (!tree_.Sync().ok()) return;
  View view(&tree_);
  synced_round_(view) = round;
}

// ---- the tree's sinks

void Contents::ReleaseBytes(std::uint64_t bytes) { budget_->Release(bytes); }

void Contents::DropCached(NodeId id) { Ignore(blocks_->Drop(id, BlockStore::Place::kCache)); }

void Contents::DropPending(NodeId id) { Ignore(blocks_->Drop(id, BlockStore::Place::kPending)); }

bool Contents::HasPending(NodeId id) { return blocks_->Has(id, BlockStore::Place::kPending); }

std::uint64_t Contents::SizeOf(Content* content) {
  const Lock lock(content->mu);
  return content->size;
}

bool Contents::IsUnsaved(Content* content) {
  const Lock lock(content->mu);
  return content->unsaved;
}

}  // namespace pargeter
