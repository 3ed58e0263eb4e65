// Contents: what is written into a file, in the journal before in the file.
#include <fcntl.h>
#include <fmt/format.h>
#include <linux/falloc.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "cache/eviction.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"

namespace pargeter {

using Place = BlockStore::Place;

// The first write makes the node dirty, in the journal before in the file.
Result<WritingMark> Contents::BeginWriting(const OpenFilePtr& file) {
  {
    const Lock lock(file->content->mu);
    if (file->content->detached) return Error(Code::kStale, "the file has another content by now");
    if (file->content->place == Place::kPending) return WritingMark(file->content);
  }
  PG_TRY(StageCopy(file->content, Place::kPending));
  auto mark = MakeDirty(file);
  DropStagedCopy(file->content.get());
  return mark;
}

Result<WritingMark> Contents::MakeDirty(const OpenFilePtr& file) {
  bool wants_sync = false;
  auto mark = JournalWriting(file, false, &wants_sync);
  if (!mark.ok() || !wants_sync) return mark;
  PG_TRY(tree_.Sync());
  return JournalWriting(file, true, &wants_sync);
}

// With `wants_sync`: the journal has to be on the disk before any byte of the file is written, and
// the mark is none. `synced`: it is.
Result<WritingMark> Contents::JournalWriting(const OpenFilePtr& file, bool synced,
                                             bool* wants_sync) {
  View view(&tree_);
  PG_TRY(facts_.CheckState(view));
  PG_ASSIGN(Inode * inode, view.Get(file->id));
  Content* content = file->content.get();
  if (inode->content.get() != content) {
    return Error(Code::kStale, "the file was replaced at the store since it was opened");
  }
  Node& node = inode->node;
  if (!(node.dirty & kData)) node.dirty |= kData | kUnflushed;
  ++node.generation;
  {
    const Lock lock(content->mu);
    node.base_size = content->base.size;
  }
  if (node.gone()) {
    PG_TRY(view.Save(inode));  // deleted but open: nothing goes up
  } else {
    PG_TRY(view.QueueChange(inode));
  }
  const Lock lock(content->mu);
  if (content->place == Place::kPending) return WritingMark(file->content);
  if (!content->present.empty() && !synced) {
    // bytes that a power cut would leave trusted are not overwritten before the disk knows; nor
    // those that it would have for promised, while the store has got them
    PG_ASSIGN(const Nanos changed, blocks_->ChangedAt(node.id, Place::kCache));
    *wants_sync = changed < synced_at_(view) || view.promises_unsynced();
    if (*wants_sync) return WritingMark();
  }
  PG_TRY(Relocate(content, Place::kPending));
  content->unsaved = true;
  cache_changed_(view) = true;
  return WritingMark(file->content);
}

// Of the block file: it may be shorter, as nothing of its end is here; or longer, where a write
// that failed has left something that must not come up when the file grows by zeros.
Status Contents::SetLength(Content* content) {
  return options_.disk->Truncate(content->fd.get(), content->size);
}

// Journalled at once: else a process that is killed before the close would leave zeros of the
// former length. What is cut off goes after that: until then there is nothing else. And what was
// promised is given up on the disk before it goes, or what a power cut leaves of the next content
// would be taken for it.
Status Contents::Truncate(View& view, Inode* inode, std::uint64_t size) {
  if (size > kLargestFile) return TooLarge();
  PG_ASSIGN(const std::shared_ptr<Content> content, OpenContent(view, inode));
  RangeSet former, former_hollow, now;
  std::uint64_t former_size = 0, former_base = 0, former_held = 0, held = 0;
  {
    const Lock lock(content->mu);
    content->WaitForFilling();
    former = content->present;
    former_hollow = content->hollow;
    former_held = content->Held();
    former_size = content->size;
    former_base = content->base.size;
    content->LimitStablePrefix(std::min(size, former_size));
    if (size > former_size) {
      PG_TRY(SetLength(content.get()));
      PG_TRY(options_.disk->Truncate(content->fd.get(), size));
      content->AddHole({former_size, size});
    } else {
      content->present.Remove({size, ~0ull >> 1});
      content->hollow.Remove({size, ~0ull >> 1});
    }
    // what was cut off must not come back from the store when the file grows again
    content->base.size = std::min(former_base, size);
    content->size = size;
    content->unsaved = content->written = true;
    now = content->present;
    held = content->Held();
  }
  Node& node = inode->node;
  node.size = size;
  node.mtime = node.ctime = options_.clock->Wall();
  node.copy.path.clear();
  ++node.generation;
  inode->last_write = options_.clock->Now();
  if (inode->upload) inode->upload->Cancel();
  const bool promised = size == 0 && (node.dirty & kSynced);
  if (promised) node.dirty &= ~kSynced;
  Status saved = SaveContent(view, inode, content.get());
  if (promised && saved.ok()) saved = view.SyncUnderLock();
  const Lock lock(content->mu);
  content->unsaved = content->written = true;  // it is confirmed by a close
  const bool untouched = content->size == size && content->present.All() == now.All();
  if (!saved.ok() && size < former_size && untouched) {  // nothing has been cut off
    content->present = std::move(former);
    content->hollow = std::move(former_hollow);
    content->base.size = former_base;
    content->size = inode->node.size = former_size;
    if (promised) node.dirty |= kSynced;
    return saved;
  }
  // (longer again by now: what lies behind is overwritten, or cut off before zeros are there)
  if (size < former_size && content->size == size) Ignore(SetLength(content.get()));
  if (held < former_held) budget_->Release(former_held - held);
  return saved;
}

Status Contents::TakeFile(View& view, Inode* inode, const StagedFile& staged) {
  PG_ASSIGN(const std::shared_ptr<Content> content, OpenContent(view, inode));
  std::uint64_t former = 0;
  {
    const Lock lock(content->mu);
    content->WaitForFilling();
    former = content->Held();
    PG_TRY(budget_->ReserveForWriting(staged.size));
    content->LimitStablePrefix(0);
    const std::string place = blocks_->PathOf(content->id, Place::kPending);
    auto fd = options_.disk->Open(staged.path, O_RDWR | O_CLOEXEC);
    const Status taken = fd.ok() ? options_.disk->Rename(staged.path, place) : fd.status();
    if (!taken.ok()) {
      budget_->Release(staged.size);
      return taken;
    }
    if (content->readers > 0) content->former.push_back(std::move(content->fd));
    content->fd = std::move(*fd);
    content->present.Clear();
    content->present.Add({0, staged.size});
    content->hollow.Clear();
    content->base = {};
    content->check.reset();
    content->checked_to = 0;
    ++content->removals;
    content->size = staged.size;
    content->unsaved = content->written = true;
  }
  budget_->Release(former);
  Node& node = inode->node;
  node.size = staged.size;
  node.mtime = staged.mtime;
  node.ctime = options_.clock->Wall();
  node.copy.path.clear();
  ++node.generation;
  inode->last_write = options_.clock->Now();
  if (inode->upload) inode->upload->Cancel();
  return {};
}

Status Contents::WriteZeros(Content* content, std::uint64_t offset, std::uint64_t end) {
  if (end <= offset) return {};
  const std::uint64_t held = content->HeldIn({offset, end});
  PG_TRY(SetLength(content));
  Status done = options_.disk->Punch(content->fd.get(), offset, end - offset);
  if (done.ok()) {
    content->AddHole({offset, end});
    budget_->Release(held);
    return {};
  }
  // not every file system can
  const std::string zeros(static_cast<std::size_t>(std::min<std::uint64_t>(end - offset, kMiB)),
                          '\0');
  done = {};
  for (std::uint64_t at = offset; at < end && done.ok(); at += zeros.size())
    done =
        options_.disk->WriteAt(content->fd.get(), std::string_view(zeros).substr(0, end - at), at);
  PG_TRY(done);
  content->present.Add({offset, end});
  content->hollow.Remove({offset, end});
  budget_->Count(end - offset - held);
  return {};
}

// Room for them is looked for, though none is taken: a program that asks for it wants to know.
Status Contents::AddZeros(Content* content, std::uint64_t end) {
  if (end > kLargestFile) return TooLarge();
  const std::uint64_t fresh = end - content->size;
  PG_TRY(budget_->ReserveForWriting(fresh));
  budget_->Release(fresh);
  PG_TRY(SetLength(content));
  PG_TRY(options_.disk->Truncate(content->fd.get(), end));
  content->AddHole({content->size, end});
  content->size = end;
  return {};
}

// It is empty again, as it was: whoever wants the copy has not been told that there is one.
Status Contents::DiscardCopy(View& view, Inode* inode) {
  PG_ASSIGN(const std::shared_ptr<Content> content, OpenContent(view, inode));
  if (inode->upload) inode->upload->Cancel();
  Node& node = inode->node;
  node.copy = {};
  {
    const Lock lock(content->mu);
    content->base = {};
  }
  PG_TRY(Truncate(view, inode, 0));
  return view.QueueChange(inode);
}

// A note is: path; version at the store ("": never there); size there, size here, mode, how much of
// that version it stands on, and "local" for what never goes up; and which bytes are here.
void Contents::NotePending(View& view, const Node& node, const std::string& ranges) {
  if (!(node.dirty & kData) || (node.dirty & kTruncatedUnflushed) || node.gone()) return;
  std::string path = node.name;
  for (NodeId up = node.parent; up != kRootId;) {
    auto above = view.Get(up);
    if (!above.ok()) return;
    path.insert(0, (*above)->node.name + "/");
    up = (*above)->node.parent;
  }
  const auto note = [&](bool there) {
    std::string text = path;
    text += '\0';
    text += there ? node.remote.version : "";
    text += '\0';
    text += fmt::format("{} {} {:o} {}", there ? node.remote.size : 0, node.size, node.mode,
                        there ? node.base_size : 0);
    if (node.effective == Placement::kLocal) text += " local";
    text += '\0';
    return there ? text + ranges : text;
  };
  const bool there =
      node.remote.place == RemotePlace::kSame || node.remote.place == RemotePlace::kEncoded;
  // file systems keep few bytes of such notes: without the ranges it will stand beside the store's
  if (!blocks_->SetNote(node.id, Place::kPending, note(there)) && there)
    blocks_->SetNote(node.id, Place::kPending, note(false));
}

}  // namespace pargeter
