// Files: reading and writing open files.
#include <fcntl.h>
#include <linux/falloc.h>
#include <unistd.h>

#include <algorithm>

#include "base/log.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/vfs/account_room.h"
#include "engine/vfs/files.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::uint64_t kRoomAtOnce = 16 * kMiB;  // evicted for who writes to a full disk

constexpr std::uint64_t kSmallFile = 1 * kMiB;  // fetched whole by the first read

constexpr std::uint64_t kFirstWindow = 512 * kKiB;

constexpr std::uint64_t kLargestWindow = 64 * kMiB;

constexpr std::uint64_t kSlack = 4 * kMiB;  // the kernel's own read-ahead reorders so far

constexpr Duration kLookWhetherCopied(100);

}  // namespace

Range Files::PlanAhead(const OpenFilePtr& file, std::uint64_t offset, std::uint64_t size,
                       std::uint64_t file_size) {
  if (file_size <= kSmallFile) return {0, file_size};
  const Lock lock(file->mu);
  const bool follows = offset + kSlack >= file->next && offset <= file->next + kSlack;
  const std::uint64_t largest =
      std::max(kFirstWindow, std::min(kLargestWindow, budget_->limits().bytes / 4));
  if (!follows) {
    file->window = 0;
    file->fetched_to = 0;
  } else if (offset + size > file->next || file->window == 0) {
    if (offset + size + file->window / 2 > file->fetched_to) {
      file->window = file->window == 0 ? kFirstWindow : std::min(file->window * 2, largest);
    }
  }
  file->next = follows ? std::max(file->next, offset + size) : offset + size;
  Range ahead{offset, offset + size};
  if (file->window > 0 && file->next + file->window / 2 > file->fetched_to) {
    ahead.begin = std::max(file->fetched_to, offset);
    ahead.end = std::max(ahead.begin, file->next + file->window);
    file->fetched_to = ahead.end;
  }
  ahead.end = std::min(ahead.end, file_size);
  ahead.begin = std::min(ahead.begin, ahead.end);
  return ahead;
}

Result<std::size_t> Files::Read(const OpenFilePtr& file, char* data, std::size_t size,
                                std::uint64_t offset) {
  const std::shared_ptr<Content>& content = file->content;
  const Steady deadline = options_.clock->Now() + options_.patience;
  std::uint64_t file_size = 0;
  bool here = false;
  int fd = -1;
  bool crawler = false;
  {
    const Lock lock(file->mu);
    crawler = !file->crawler.empty();
  }
  if (crawler) {
    PG_ASSIGN(size, CrawlerAllowance(file, size, offset));
  }
  for (int round = 0; round < 8; ++round) {
    std::string version;  // that the store is asked for
    {
      const Lock lock(content->mu);
      version = content->base.version;
      file_size = content->size;
      if (content->wrong) return NotWhatItSaid();
      if (offset >= file_size) return std::size_t{0};
      size = static_cast<std::size_t>(std::min<std::uint64_t>(size, file_size - offset));
      here = content->present.Covers({offset, offset + size});
      content->last_read = offset;
      if (here) fd = content->BeginUse();
    }
    const Range ahead = crawler ? Range{0, 0} : PlanAhead(file, offset, size, file_size);
    if (here) {
      auto n = options_.disk->ReadAt(fd, data, size, offset);
      {
        const Lock lock(content->mu);
        content->EndUse();
      }
      // keep the window full, without waiting
      if (ahead.end > offset + size)
        Ignore(fetcher_.EnsurePresent(content, {0, 0}, ahead, deadline, Traffic::kForeground));
      if (n.ok() && *n < size) return Error(Code::kIo, "a cache file is shorter than it should be");
      return n;
    }
    Status fetched = fetcher_.EnsurePresent(content, {offset, offset + size}, ahead, deadline,
                                            Traffic::kForeground);
    if (fetched.ok()) continue;
    if (fetched.error().code == Code::kNoSpace) {
      const auto through = fetcher_.ReadThrough(content, data, size, offset);
      if (through.ok() || through.error().code != Code::kStale) return through;
      fetched = through.error();
    }
    if (fetched.error().code == Code::kStale) {
      if (fetcher_.MoveHasEnded(content, deadline)) continue;
      Ignore(refresher_.Revalidate(file->id));
      const Lock lock(content->mu);
      if (content->base.version != version) continue;  // the same bytes, as it turned out
    }
    return fetched.error();
  }
  return Error(Code::kBusy, "what was fetched was evicted again before it was read");
}

Status Files::Write(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                    bool append) {
  if (!append) PG_TRY(room_.CheckAccount(file->id, offset + data.size()));
  const Status wrote = WriteBytes(file, data, offset, append);
  if (wrote.ok() || wrote.error().code != Code::kNoSpace || !FreeForWriting(data.size()))
    return wrote;
  return WriteBytes(file, data, offset, append);
}

bool Files::FreeForWriting(std::uint64_t bytes) {
  bool any = false;
  {
    View view(&tree_);
    any = view.HasDeletedBytes();
  }
  Ignore(tree_.UnlinkDeleted());
  if (blocks_->OneDisk()) any = contents_.FreeUnused(std::max(bytes, kRoomAtOnce)) > 0 || any;
  budget_->LookAgain();
  return any;
}

Status Files::WriteBytes(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                         bool append) {
  PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(file));
  Content* content = file->content.get();
  Status wrote;
  std::uint64_t end = 0;
  {
    const Lock lock(content->mu);
    content->WaitForFilling();
    if (append) offset = content->size;
    end = offset + data.size();
    if (end > kLargestFile) return TooLarge();
    const std::uint64_t fresh = data.size() - content->HeldIn({offset, end});
    if (fresh > 0) PG_TRY(budget_->ReserveForWriting(fresh));
    content->LimitStablePrefix(std::min(offset, content->size));
    if (offset > content->size) wrote = contents_.SetLength(content);
    if (wrote.ok()) wrote = options_.disk->WriteAt(content->fd.get(), data, offset);
    if (wrote.ok()) {
      // a gap between the old end and this write reads as zeros, and is as much here as they are
      if (offset > content->size) content->AddHole({content->size, offset});
      content->present.Add({offset, end});
      content->hollow.Remove({offset, end});
      content->size = std::max(content->size, end);
    } else {
      budget_->Release(fresh);
      end = content->size;  // some of its bytes may have changed all the same
    }
    content->unsaved = content->written = true;
  }
  PG_TRY(NoteWritten(file, offset, end));
  return wrote;
}

Status Files::NoteWritten(const OpenFilePtr& file, std::uint64_t begin, std::uint64_t end) {
  View view(&tree_);
  const auto it = view.inodes().find(file->id);
  if (it == view.inodes().end()) return {};
  Inode& inode = *it->second;
  {
    // journalled meanwhile, by another's close or fsync, it was with its former size
    const Lock lock(file->content->mu);
    file->content->unsaved = file->content->written = true;
  }
  inode.node.size = std::max(inode.node.size, end);
  inode.node.mtime = inode.node.ctime = options_.clock->Wall();
  inode.node.copy.path.clear();
  const bool behind = begin >= inode.sent_prefix && inode.sent_generation == inode.node.generation;
  ++inode.node.generation;
  inode.unsaved = true;
  inode.last_write = options_.clock->Now();
  if (inode.upload && behind)
    inode.sent_generation = inode.node.generation;
  else if (inode.upload)
    inode.upload->Cancel();
  return {};
}

Status Files::Allocate(const OpenFilePtr& file, int mode, std::uint64_t offset,
                       std::uint64_t size) {
  const bool keep_size = mode & FALLOC_FL_KEEP_SIZE, punch = mode & FALLOC_FL_PUNCH_HOLE,
             zero = mode & FALLOC_FL_ZERO_RANGE;
  if (mode & ~(FALLOC_FL_KEEP_SIZE | FALLOC_FL_PUNCH_HOLE | FALLOC_FL_ZERO_RANGE)) {
    return Error(Code::kUnsupported, "this kind of allocation is not known");
  }
  PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(file));
  Content* content = file->content.get();
  const std::uint64_t end = offset + size;
  Status done;
  std::uint64_t size_before = 0, size_now = 0;
  {
    const Lock lock(content->mu);
    content->WaitForFilling();
    size_before = content->size;
    content->LimitStablePrefix(std::min(offset, size_before));
    if (punch || zero) done = contents_.WriteZeros(content, offset, std::min(end, content->size));
    if (done.ok() && !keep_size && end > content->size) done = contents_.AddZeros(content, end);
    size_now = content->size;
    content->unsaved = content->written = true;
  }
  PG_TRY(NoteWritten(file, std::min(offset, size_before), size_now));
  return done;
}

// What is not on this disk is data; holes are told only of what was written here.
Result<std::uint64_t> Files::Seek(const OpenFilePtr& file, std::uint64_t offset, bool hole) {
  Content* content = file->content.get();
  const Lock lock(content->mu);
  const Error past(Code::kNotFound, "there is nothing beyond");
  if (offset >= content->size) return past;
  const bool all_here = content->present.Covers({0, content->size});
  if (!all_here || content->place != Place::kPending) return hole ? content->size : offset;
  const off_t at =
      ::lseek(content->fd.get(), static_cast<off_t>(offset), hole ? SEEK_HOLE : SEEK_DATA);
  if (at < 0) return past;
  return std::min(static_cast<std::uint64_t>(at), content->size);
}

// What is copied is at the store before anybody is told so: until then the original may be replaced
// or go, and what the copy holds would be gone with it.
Result<std::uint64_t> Files::CopyWhole(const OpenFilePtr& from, std::uint64_t from_offset,
                                       const OpenFilePtr& to, std::uint64_t to_offset,
                                       std::uint64_t size) {
  const Error by_bytes(Code::kUnsupported, "copied by reading and writing");
  if (from_offset != 0 || to_offset != 0 || from->id == to->id || !store_->Can().server_copy ||
      !store_->Check().ok())
    return by_bytes;
  PG_ASSIGN(const std::uint64_t begun, BeginCopy(from, to, size));
  const Steady deadline = options_.clock->Now() + options_.copy_patience;
  while (begun != 0) {
    const Steady now = options_.clock->Now();
    {
      View view(&tree_);
      PG_ASSIGN(Inode * inode, view.Get(to->id));
      const Node& node = inode->node;
      if (node.generation != begun) break;
      if (node.copy.path.empty()) return node.size;
      if (node.pending.tries > 0 || now >= deadline || stop_->cancelled() ||
          !store_->Check().ok()) {
        PG_TRY(contents_.DiscardCopy(view, inode));
        break;
      }
    }
    outbox_.WaitForProgress(std::min(deadline, now + kLookWhetherCopied));
  }
  return by_bytes;
}

Result<std::uint64_t> Files::BeginCopy(const OpenFilePtr& from, const OpenFilePtr& to,
                                       std::uint64_t size) {
  PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(to));
  View view(&tree_);
  PG_ASSIGN(Inode * source, view.Get(from->id));
  PG_ASSIGN(Inode * target, view.Get(to->id));
  const Node& node = source->node;
  const bool clean = !(node.dirty & kData) && node.remote.place != RemotePlace::kNone &&
                     !node.remote.version.empty() && !node.gone();
  if (!clean || source->content != from->content || target->content != to->content) return 0;
  if (target->node.effective == Placement::kLocal) return 0;  // needs bytes of its own
  if (node.size == 0 || size < node.size || target->node.size != 0 || target->node.gone()) return 0;
  {
    // a small file that is wholly here is as cheap to send as to have copied
    const Lock lock(from->content->mu);
    if (node.size < 1 * kMiB && from->content->present.Covers({0, node.size})) return 0;
  }
  PG_ASSIGN(const std::string path, view.RemotePath(node));
  Change change(&view);
  Node& copy = target->node;
  copy.copy.path = path;
  copy.copy.version = node.remote.version;
  copy.size = node.size;
  copy.mtime = copy.ctime = options_.clock->Wall();
  ++copy.generation;
  {
    const Lock lock(to->content->mu);
    PG_TRY(options_.disk->Truncate(to->content->fd.get(), node.size));
    to->content->size = node.size;
    to->content->present.Clear();
    to->content->base = {node.remote.version, node.size};
    to->content->unsaved = to->content->written = true;
  }
  PG_TRY(view.QueueChange(target));
  PG_TRY(contents_.SaveContent(view, target, to->content.get(), true));
  PG_TRY(change.Commit());
  view.Push(copy.id, copy.pending.seq, Duration(0));
  return copy.generation;
}

}  // namespace pargeter
