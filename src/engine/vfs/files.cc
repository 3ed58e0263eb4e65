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

Result<OpenedFile> Files::MakeOpen(View& view, Live* live, bool writing) {
  auto file = std::make_shared<OpenFile>();
  file->id = live->node.id;
  file->for_writing = writing;
  PG_ASSIGN(file->content, contents_.ContentOf(view, live));
  file->mixed_versions = live->old_opens > 0;
  file->fresh_pages = live->fresh_pages && live->old_opens == 0;
  if (live->old_opens == 0) live->fresh_pages = true;
  ++live->opens;
  if (writing) ++live->writers;
  contents_.NoteUse(view, live);
  return OpenedFile{std::move(file), facts_.AttrOf(*live)};
}

Result<OpenedFile> Files::OpenNode(NodeId id, OpenIntent intent) {
  if (intent != OpenIntent::kRead) PG_TRY(facts_.CheckWritable());
  NodeId parent = kNoNode;
  bool check = false, whole = false;
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(id));
    if (live->node.kind == NodeKind::kFolder) return Error(Code::kIsFolder, "it is a folder");
    if (intent != OpenIntent::kRead) PG_TRY(facts_.CheckRole(view, live->node));
    parent = live->node.parent;
    // what one opens is the latest version: an old listing is not trusted
    check = intent != OpenIntent::kTruncate && !live->node.gone() &&
            live->node.there != There::kAbsent && !(live->node.dirty & kData) &&
            !refresher_.IsFresh(view, parent) && !refresher_.IsFresh(view, id);
    whole = live->node.on_disk >= live->node.size;
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
        small ? refresher_.ListFolder(parent, ListWait::kAll, "") : refresher_.LookAgain(id);
    if (!looked.ok() && !whole && looked.error().code != Code::kTimeout) return looked.error();
    View view(&tree_);
    if (looked.ok() && !small) merge_.listed_(view)[id] = options_.clock->Now();
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  // stale, so that the kernel asks once more what the name means: another file may have it now
  if (live->node.gone() && live->opens == 0) return Error(Code::kStale, "the file was deleted");
  if (live->node.kind == NodeKind::kSymlink)
    return Error(Code::kStale, "it is a symbolic link by now");
  PG_ASSIGN(OpenedFile opened, MakeOpen(view, live, intent != OpenIntent::kRead));
  if (intent != OpenIntent::kTruncate) return opened;
  const bool clean = !(live->node.dirty & kData);
  view.Unlock();
  const auto mark = contents_.BeginWriting(opened.file);
  view.Relock();
  if (mark.ok() && clean) live->node.dirty |= kEmptied;
  const Status cut = mark.ok() ? contents_.Truncate(view, live, 0) : Status(mark.error());
  if (!cut.ok()) {
    view.Unlock();
    Release(opened.file);
    return cut.error();
  }
  opened.attr = facts_.AttrOf(*live);
  return opened;
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
    PG_ASSIGN(Live * live, view.Find(parent, name));
    if (live != nullptr) {
      if (exclusive) return Error(Code::kExists, "the name is taken");
      there = live->node.id;
      ++live->lookups;
    } else {
      Change change(&view);
      PG_ASSIGN(Live * made, names_.NewNode(view, parent, name, NodeKind::kFile, mode, uid, gid));
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
    const auto live = view.Get(file->id);
    if (!live.ok()) return {};
    const Node& node = (*live)->node;
    if (node.intent == 0 && node.dirty == kClean && !view.acks_unsynced()) return {};
  }
  return contents_.FlushContent(file, true);
}

Status Files::FsyncFolder() {
  std::int64_t names = 0;
  {
    View view(&tree_);
    PG_TRY(facts_.CheckState(view));
    names = view.index().last_intent();
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
  Live* live = *found;
  if (file->for_writing) --live->writers;
  if (live->content.get() != file->content.get()) {
    --live->old_opens;
    return;
  }
  --live->opens;
  if (live->node.gone() && live->opens == 0) {
    const bool there = live->node.there != There::kAbsent || !live->node.upload.empty() ||
                       live->node.tried_parent != kNoNode;
    contents_.DropContent(view, live);
    if (there) {
      view.Push(live->node.id, live->node.intent, Duration(0));
    } else {
      Ignore(view.index().Delete(live->node.id));
    }
    return;
  }
  if (live->opens == 0 && (live->drop_when_closed || live->node.effective == Placement::kThin)) {
    live->drop_when_closed = false;
    file->content.reset();
    if (contents_.DropIfUnused(view, live, true)) return;
    file->content = live->content;
  }
  bool unsaved = false;
  {
    const Lock lock(file->content->mu);
    unsaved = file->content->unsaved;
  }
  if (live->opens == 0 && unsaved) {
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
      PG_ASSIGN(Live * live, view.Get(id));
      return contents_.Truncate(view, live, *change.size);
    }();
    if (cut.ok() && writer != file) cut = Flush(writer);
    if (writer != file) Release(writer);
    PG_TRY(cut);
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  Node& node = live->node;
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
  const Attr shown = facts_.AttrOf(*live);
  const bool known = node.attributes_known;
  if (!known || change.uid != shown.uid) set(node.uid, change.uid, kOwnOwner);
  if (!known || change.gid != shown.gid) set(node.gid, change.gid, kOwnGroup);
  set(node.mtime, change.mtime, kOwnTime);
  if (change.atime && *change.atime != node.atime) {
    node.atime = *change.atime;
    if (!changed) PG_TRY(view.Save(live));
  }
  if (changed) {
    node.ctime = options_.clock->Wall();
    node.dirty |= kAttributes;
    if (node.id == kRootId || node.gone()) {
      node.dirty &= ~(kAttributes | kOwn);
      PG_TRY(view.Save(live));
    } else {
      PG_TRY(view.AddIntent(live));
    }
  }
  return facts_.AttrOf(*live);
}

}  // namespace pargeter
