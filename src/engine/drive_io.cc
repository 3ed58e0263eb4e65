// Drive: reading and writing open files.
#include <fcntl.h>
#include <linux/falloc.h>
#include <unistd.h>

#include <algorithm>

#include "base/log.h"
#include "base/units.h"
#include "engine/drive.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::uint64_t kRoomAtOnce = 16 * kMiB;  // evicted for who writes to a full disk
constexpr std::uint64_t kSmallFile = 1 * kMiB;    // fetched whole by the first read
constexpr std::uint64_t kFirstWindow = 512 * kKiB;
constexpr std::uint64_t kLargestWindow = 64 * kMiB;
constexpr std::uint64_t kSlack = 4 * kMiB;  // the kernel's own read-ahead reorders so far
}  // namespace

// What to fetch for this read: small files whole, a window that doubles for sequential readers,
// only what was asked for by random ones.
Range Drive::PlanAhead(const OpenFilePtr& file, std::uint64_t offset, std::uint64_t size,
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

Result<std::size_t> Drive::Read(const OpenFilePtr& file, char* data, std::size_t size,
                                std::uint64_t offset) {
  const std::shared_ptr<Content>& content = file->content;
  const Steady deadline = options_.clock->Now() + options_.patience;
  std::uint64_t file_size = 0;
  bool here = false;
  int fd = -1;
  bool shy = false;
  {
    const Lock lock(file->mu);
    shy = !file->shy.empty();
  }
  if (shy) {
    PG_ASSIGN(size, ShyPart(file, size, offset));
  }
  for (int round = 0; round < 8; ++round) {
    {
      const Lock lock(content->mu);
      file_size = content->size;
      if (content->wrong) return NotWhatItSaid();
      if (offset >= file_size) return std::size_t{0};
      size = static_cast<std::size_t>(std::min<std::uint64_t>(size, file_size - offset));
      here = content->present.Covers({offset, offset + size});
      content->last_read = offset;
      if (here) fd = content->BeginUse();
    }
    const Range ahead = shy ? Range{0, 0} : PlanAhead(file, offset, size, file_size);
    if (here) {
      auto n = options_.disk->ReadAt(fd, data, size, offset);
      {
        const Lock lock(content->mu);
        content->EndUse();
      }
      // keep the window full, without waiting
      if (ahead.end > offset + size) Ignore(EnsurePresent(content, {0, 0}, ahead, deadline));
      if (n.ok() && *n < size) return Error(Code::kIo, "a cache file is shorter than it should be");
      return n;
    }
    Status fetched = EnsurePresent(content, {offset, offset + size}, ahead, deadline);
    if (fetched.ok()) continue;
    if (fetched.error().code == Code::kNoSpace) {
      const auto through = ReadThrough(content, data, size, offset);
      if (through.ok() || through.error().code != Code::kStale) return through;
      fetched = through.error();
    }
    if (fetched.error().code == Code::kStale) {
      if (MoveHasEnded(content, deadline)) continue;
      Ignore(LookAgain(file->id));
    }
    return fetched.error();
  }
  return Error(Code::kBusy, "what was fetched was evicted again before it was read");
}

Status Drive::Write(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                    bool append) {
  if (!append) PG_TRY(CheckAccount(file->id, offset + data.size()));
  const Status wrote = WriteBytes(file, data, offset, append);
  if (wrote.ok() || wrote.error().code != Code::kNoSpace || !FreeForWriting(data.size()))
    return wrote;
  return WriteBytes(file, data, offset, append);
}

// On the disk of what waits for upload. False: there is nothing to free.
bool Drive::FreeForWriting(std::uint64_t bytes) {
  bool any = false;
  {
    const Lock tree(tree_mutex_);
    any = !doomed_.empty();
    RemoveDoomed();
  }
  if (blocks_->OneDisk()) any = FreeUnused(std::max(bytes, kRoomAtOnce)) > 0 || any;
  budget_->LookAgain();
  return any;
}

Status Drive::WriteBytes(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                         bool append) {
  PG_ASSIGN(const WritingMark mark, BeginWriting(file));
  Content* content = file->content.get();
  std::uint64_t end = 0;
  {
    const Lock lock(content->mu);
    content->WaitForFilling();
    if (append) offset = content->size;
    end = offset + data.size();
    if (end > (1ull << 62)) return Error(Code::kNoSpace, "no file can be so large");
    std::uint64_t fresh = 0;
    for (const Range& gap : content->present.Missing({offset, end})) fresh += gap.size();
    if (fresh > 0) PG_TRY(budget_->ReserveForWriting(fresh));
    const Status wrote = options_.disk->WriteAt(content->fd.get(), data, offset);
    if (!wrote.ok()) {
      budget_->Release(fresh);
      return wrote;
    }
    // a gap between the old end and this write reads as zeros, and is as much here as they are
    if (offset > content->size) content->present.Add({content->size, offset});
    content->present.Add({offset, end});
    content->size = std::max(content->size, end);
    content->unsaved = content->written = true;
  }
  return Grew(file, end);
}

Status Drive::Grew(const OpenFilePtr& file, std::uint64_t end) {
  const Lock tree(tree_mutex_);
  const auto it = live_.find(file->id);
  if (it == live_.end()) return {};
  Live& live = *it->second;
  {
    // journalled meanwhile, by another's close or fsync, it was with its former size
    const Lock lock(file->content->mu);
    file->content->unsaved = file->content->written = true;
  }
  live.node.size = std::max(live.node.size, end);
  live.node.mtime = live.node.ctime = options_.clock->Wall();
  live.node.copy_of.clear();
  ++live.node.generation;
  live.unsaved = true;
  live.last_write = options_.clock->Now();
  if (live.upload) live.upload->Cancel();
  return {};
}

Status Drive::Truncate(Live* live, std::uint64_t size) {
  PG_ASSIGN(const std::shared_ptr<Content> content, ContentOf(live));
  {
    const Lock lock(content->mu);
    content->WaitForFilling();
    const std::uint64_t before = content->present.Bytes();
    PG_TRY(options_.disk->Truncate(content->fd.get(), size));
    if (size < content->size) {
      content->present.Remove({size, ~0ull >> 1});
    } else {
      content->present.Add({content->size, size});
    }
    // what was cut off must not come back from the store when the file grows again
    content->source.size = std::min(content->source.size, size);
    const std::uint64_t after = content->present.Bytes();
    if (after < before) budget_->Release(before - after);
    if (after > before) budget_->Count(after - before);
    content->size = size;
    content->unsaved = content->written = true;
  }
  Node& node = live->node;
  node.size = size;
  node.mtime = node.ctime = options_.clock->Wall();
  node.copy_of.clear();
  ++node.generation;
  live->unsaved = true;
  live->last_write = options_.clock->Now();
  if (live->upload) live->upload->Cancel();
  return {};
}

Status Drive::Allocate(const OpenFilePtr& file, int mode, std::uint64_t offset,
                       std::uint64_t size) {
  const bool keep_size = mode & FALLOC_FL_KEEP_SIZE, punch = mode & FALLOC_FL_PUNCH_HOLE,
             zero = mode & FALLOC_FL_ZERO_RANGE;
  if (mode & ~(FALLOC_FL_KEEP_SIZE | FALLOC_FL_PUNCH_HOLE | FALLOC_FL_ZERO_RANGE)) {
    return Error(Code::kUnsupported, "this kind of allocation is not known");
  }
  PG_ASSIGN(const WritingMark mark, BeginWriting(file));
  std::uint64_t end = offset + size;
  {
    Content* content = file->content.get();
    const Lock lock(content->mu);
    content->WaitForFilling();
    const std::uint64_t limit = keep_size ? std::min(end, content->size) : end;
    std::uint64_t fresh = 0;
    for (const Range& gap :
         content->present.Missing({content->size, std::max(limit, content->size)}))
      fresh += gap.size();
    PG_TRY(budget_->ReserveForWriting(fresh));
    if (punch || zero) {
      const std::uint64_t old_end = std::min(end, content->size);
      if (old_end > offset) {
        const std::string zeros(
            static_cast<std::size_t>(std::min<std::uint64_t>(old_end - offset, kMiB)), '\0');
        if (!options_.disk->Punch(content->fd.get(), offset, old_end - offset).ok()) {
          for (std::uint64_t at = offset; at < old_end; at += zeros.size()) {
            PG_TRY(options_.disk->WriteAt(content->fd.get(),
                                          std::string_view(zeros).substr(0, old_end - at), at));
          }
        }
        content->present.Add({offset, old_end});
      }
    }
    if (!keep_size && end > content->size) {
      PG_TRY(options_.disk->Truncate(content->fd.get(), end));
      content->present.Add({content->size, end});
      content->size = end;
    }
    end = content->size;
    content->unsaved = content->written = true;
  }
  return Grew(file, end);
}

// What is not on this disk is data; holes are told only of what was written here.
Result<std::uint64_t> Drive::Seek(const OpenFilePtr& file, std::uint64_t offset, bool hole) {
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

Result<std::uint64_t> Drive::CopyWhole(const OpenFilePtr& from, std::uint64_t from_offset,
                                       const OpenFilePtr& to, std::uint64_t to_offset,
                                       std::uint64_t size) {
  const Error by_bytes(Code::kUnsupported, "copied by reading and writing");
  if (from_offset != 0 || to_offset != 0 || from->id == to->id || !provider_->Can().server_copy)
    return by_bytes;
  PG_ASSIGN(const WritingMark mark, BeginWriting(to));
  const Lock tree(tree_mutex_);
  PG_ASSIGN(Live * source, Get(from->id));
  PG_ASSIGN(Live * target, Get(to->id));
  const Node& node = source->node;
  const bool clean = !(node.dirty & kData) && node.there != There::kAbsent &&
                     !node.version.empty() && !node.gone();
  if (!clean || source->content != from->content || target->content != to->content) return by_bytes;
  if (target->node.effective == Placement::kLocal) return by_bytes;  // needs bytes of its own
  if (node.size == 0 || size < node.size || target->node.size != 0 || target->node.gone())
    return by_bytes;
  {
    // a small file that is wholly here is as cheap to send as to have copied, and depends on nobody
    const Lock lock(from->content->mu);
    if (node.size < 1 * kMiB && from->content->present.Covers({0, node.size})) return by_bytes;
  }
  PG_ASSIGN(const std::string path, TherePath(node));
  Node& copy = target->node;
  copy.copy_of = path;
  copy.copy_version = node.version;
  copy.size = node.size;
  copy.mtime = copy.ctime = options_.clock->Wall();
  ++copy.generation;
  target->last_write = options_.clock->Now();
  copy_sources_.emplace(path, copy.id);
  {
    const Lock lock(to->content->mu);
    PG_TRY(options_.disk->Truncate(to->content->fd.get(), node.size));
    to->content->size = node.size;
    to->content->present.Clear();
    to->content->source = {path, node.version, node.size};
    to->content->unsaved = to->content->written = true;
  }
  PG_TRY(AddIntent(target));
  return node.size;
}

}  // namespace pargeter
