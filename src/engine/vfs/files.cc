// Files: opening, creating, flushing and closing.
#include "engine/vfs/files.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "cache/eviction.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/provenance/marks.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/vfs/account_room.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

Result<OpenedFile> Files::MakeOpen(View& view, Inode* inode, bool writing) {
  auto file = std::make_shared<OpenFile>();
  file->id = inode->node.id;
  file->for_writing = writing;
  PG_ASSIGN(file->content, contents_.OpenContent(view, inode));
  file->mixed_versions = inode->detached_opens > 0;
  file->kernel_pages_valid = inode->kernel_pages_valid && inode->detached_opens == 0;
  if (inode->detached_opens == 0) inode->kernel_pages_valid = true;
  ++inode->opens;
  if (writing) ++inode->writers;
  contents_.NoteUse(view, inode);
  return OpenedFile{std::move(file), facts_.AttrOf(*inode)};
}

Result<OpenedFile> Files::OpenNode(NodeId id, OpenIntent intent) {
  if (intent != OpenIntent::kRead) PG_TRY(facts_.CheckWritable());
  NodeId parent = kNoNode;
  bool check = false, whole = false;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(id));
    if (inode->node.kind == NodeKind::kFolder) return Error(Code::kIsFolder, "it is a folder");
    if (intent != OpenIntent::kRead) PG_TRY(facts_.CheckRole(view, inode->node));
    parent = inode->node.parent;
    // what one opens is the latest version: an old listing is not trusted
    check = intent != OpenIntent::kTruncate && !inode->node.gone() &&
            inode->node.remote.place != RemotePlace::kNone && !(inode->node.dirty & kData) &&
            !refresher_.IsFresh(view, parent) && !refresher_.IsFresh(view, id);
    whole = inode->node.cached.bytes >= inode->node.size;
  }
  if (check && store_->Check().ok()) {
    bool small = false;
    {
      View view(&tree_);
      PG_ASSIGN(const std::uint64_t siblings, view.index().CountChildren(parent));
      small = siblings <= 1000;
    }
    // one request answers for all files of a folder that fits on a page
    const Status looked =
        small ? refresher_.ListFolder(parent, ListWait::kAll, "") : refresher_.Revalidate(id);
    if (!looked.ok() && !whole && looked.error().code != Code::kTimeout) return looked.error();
    View view(&tree_);
    if (looked.ok() && !small) merge_.listing_ages_(view).Note(id, options_.clock->Now());
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  // stale, so that the kernel asks once more what the name means: another file may have it now
  if (inode->node.gone() && inode->opens == 0) return Error(Code::kStale, "the file was deleted");
  if (inode->node.kind == NodeKind::kSymlink)
    return Error(Code::kStale, "it is a symbolic link by now");
  PG_ASSIGN(OpenedFile opened, MakeOpen(view, inode, intent != OpenIntent::kRead));
  if (intent != OpenIntent::kTruncate) return opened;
  const bool clean = !(inode->node.dirty & kData);
  view.Unlock();
  const auto mark = contents_.BeginWriting(opened.file);
  view.Relock();
  if (mark.ok() && clean) inode->node.dirty |= kTruncatedUnflushed;
  const Status cut = mark.ok() ? contents_.Truncate(view, inode, 0) : Status(mark.error());
  if (!cut.ok()) {
    view.Unlock();
    Release(opened.file);
    return cut.error();
  }
  opened.attr = facts_.AttrOf(*inode);
  return opened;
}

Result<OpenedFile> Files::OpenKnown(NodeId id, bool writing) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  if (inode->node.gone()) return Error(Code::kStale, "the file was deleted");
  if (inode->node.kind != NodeKind::kFile) return Error(Code::kStale, "it is no file by now");
  if (writing) PG_TRY(facts_.CheckRole(view, inode->node));
  return MakeOpen(view, inode, writing);
}

Result<OpenedFile> Files::Create(NodeId parent, const std::string& name, std::uint32_t mode,
                                 std::uint32_t uid, std::uint32_t gid, bool exclusive,
                                 OpenIntent intent) {
  PG_TRY(facts_.CheckWritable());
  PG_TRY(facts_.CheckNewName(name));
  NodeId there = kNoNode;
  {
    View view(&tree_);
    view.Trim();
    PG_ASSIGN(Inode * inode, view.Find(parent, name));
    if (inode != nullptr) {
      if (exclusive) return Error(Code::kExists, "the name is taken");
      there = inode->node.id;
      ++inode->lookups;
    } else {
      Change change(&view);
      PG_ASSIGN(Inode * made, names_.NewNode(view, parent, name, NodeKind::kFile, mode, uid, gid));
      made->node.dirty = kData;
      PG_TRY(view.Save(made));
      PG_ASSIGN(OpenedFile opened, MakeOpen(view, made, true));  // a name without a file would stay
      PG_TRY(change.Commit());
      ++made->lookups;
      made->last_write = options_.clock->Now();
      return opened;
    }
  }
  auto opened = OpenNode(there, intent);
  if (!opened.ok()) names_.Forget(there, 1);
  return opened;
}

Status Files::Flush(const OpenFilePtr& file) {
  return file->for_writing ? contents_.FlushContent(file, false) : Status();
}

// Whoever only reads may ask for it too: it is of the file, whoever wrote to it.
Status Files::Fsync(const OpenFilePtr& file) {
  if (!file->for_writing) {
    View view(&tree_);
    const auto inode = view.Get(file->id);
    if (!inode.ok()) return {};
    const Node& node = (*inode)->node;
    if (node.pending.seq == 0 && node.dirty == kClean && !view.acks_unsynced()) return {};
  }
  return contents_.FlushContent(file, true);
}

Status Files::FsyncFolder() {
  std::int64_t names = 0;
  {
    View view(&tree_);
    PG_TRY(facts_.CheckState(view));
    names = view.index().last_seq();
    if (names != facts_.names_synced_(view))
      PG_TRY(view.index().SetMeta(Mark::kNamesSynced, std::to_string(names)));
  }
  PG_TRY(tree_.Sync());
  View view(&tree_);
  facts_.names_synced_(view) = std::max(facts_.names_synced_(view), names);
  return {};
}

void Files::Release(const OpenFilePtr& file) {
  if (file->for_writing) {
    const Status flushed = contents_.FlushContent(file, false);
    if (!flushed.ok())
      LogAbout(LogLevel::kError, {"", NameOf(flushed.error().code)},
               "cannot journal a closed file: {}", flushed.error().what);
  }
  View view(&tree_);
  auto found = view.Get(file->id);
  if (!found.ok()) return;
  Inode* inode = *found;
  if (file->for_writing) --inode->writers;
  if (inode->content.get() != file->content.get()) {
    --inode->detached_opens;
    return;
  }
  --inode->opens;
  if (inode->node.gone() && inode->opens == 0) {
    const bool there = inode->node.remote.place != RemotePlace::kNone ||
                       !inode->node.upload_log.empty() || inode->node.attempt.parent != kNoNode;
    contents_.DetachContent(view, inode);
    if (there) {
      view.Push(inode->node.id, inode->node.pending.seq, Duration(0));
    } else {
      Ignore(view.index().Delete(inode->node.id));
    }
    return;
  }
  if (inode->opens == 0 && (inode->evict_on_close || KeepsNoBytes(inode->node))) {
    inode->evict_on_close = false;
    file->content.reset();
    if (contents_.DropIfUnused(view, inode, true)) return;
    file->content = inode->content;
  }
  bool unsaved = false;
  {
    const Lock lock(file->content->mu);
    unsaved = file->content->unsaved;
  }
  if (inode->opens == 0 && unsaved) {
    contents_.NoteUnsaved(file->id);
  }
}

Result<Attr> Files::SetAttr(NodeId id, const AttrChange& change, const OpenFilePtr& file) {
  PG_TRY(facts_.CheckWritable());
  if (change.size) {
    OpenFilePtr writer = file;
    if (!writer || !writer->for_writing) {
      PG_ASSIGN(OpenedFile opened,
                OpenNode(id, *change.size == 0 ? OpenIntent::kTruncate : OpenIntent::kWrite));
      writer = opened.file;
    }
    Status cut = [&]() -> Status {
      PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(writer));
      View view(&tree_);
      PG_ASSIGN(Inode * inode, view.Get(id));
      return contents_.Truncate(view, inode, *change.size);
    }();
    if (cut.ok() && writer != file) cut = Flush(writer);
    if (writer != file) Release(writer);
    PG_TRY(cut);
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  Node& node = inode->node;
  PG_TRY(facts_.CheckRole(view, node));
  bool changed = false;
  const auto set = [&](auto& field, const auto& value, std::uint32_t own) {
    if (!value) return;
    const bool same = static_cast<std::int64_t>(field) == static_cast<std::int64_t>(*value);
    if (node.attributes_known && same) return;
    node.dirty |= own;
    field = *value;
    changed = true;
  };
  if (change.mode) set(node.mode, std::optional<std::uint32_t>(*change.mode & 07777), kOwnMode);
  const Attr shown = facts_.AttrOf(*inode);
  const bool known = node.attributes_known;
  if (!known || change.uid != shown.uid) set(node.uid, change.uid, kOwnOwner);
  if (!known || change.gid != shown.gid) set(node.gid, change.gid, kOwnGroup);
  set(node.mtime, change.mtime, kOwnTime);
  if (change.atime && *change.atime != node.atime) {
    node.atime = *change.atime;
    if (!changed) PG_TRY(view.Save(inode));
  }
  if (changed) {
    node.ctime = options_.clock->Wall();
    node.dirty |= kAttributes;
    if (node.id == kRootId || node.gone()) {
      node.dirty &= ~(kAttributes | kOwn);
      PG_TRY(view.Save(inode));
    } else {
      PG_TRY(view.QueueChange(inode));
    }
  }
  return facts_.AttrOf(*inode);
}

}  // namespace pargeter
