// Engine: mode, owner and time, and how what a listing does not tell of them is learnt.
#include "engine/engine.h"
#include "engine/job.h"
#include "engine/listing.h"

namespace pargeter {
namespace {

bool ModeIsKnown(const Node& node) {
  return node.kind == NodeKind::kSymlink || node.attributes_known || node.there == There::kAbsent ||
         (node.dirty & kOwnMode) != 0;
}

}  // namespace

bool Engine::NeedsAsking(const Node& node) {
  return node.kind == NodeKind::kFile && MayBeSymlink(node.size) && !node.attributes_known &&
         node.dirty == kClean;
}

// What the store says of it. A folder of which nobody has said anything is as any.
Result<Entry> Engine::LookAt(bool folder, const std::string& path, const Call& call) {
  if (!folder) return store_->Look(path, call);
  auto own = store_->LookFolder(path, call);
  if (own.ok() || own.error().code != Code::kNotFound) return own;
  Entry plain;
  plain.kind = Kind::kFolder;
  return plain;
}

Status Engine::LearnAttributes(NodeId id, const Entry& entry, Steady asked, bool answers) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  Node& node = live->node;
  const bool folder = node.kind == NodeKind::kFolder;
  if (node.attributes_known || folder != (entry.kind == Kind::kFolder)) return {};
  if (folder ? MayBeElsewhere(view, node, asked) : node.version != entry.version) return {};
  const Attributes& a = entry.attributes;
  if (a.mode && !(node.dirty & kOwnMode)) node.mode = *a.mode;
  if (a.mtime && !(node.dirty & (kData | kOwnTime))) node.mtime = *a.mtime;
  if (a.uid && !(node.dirty & kOwnOwner)) node.uid = *a.uid;
  if (a.gid && !(node.dirty & kOwnGroup)) node.gid = *a.gid;
  if (a.symlink && node.kind == NodeKind::kFile && node.dirty == kClean) {
    node.kind = NodeKind::kSymlink;
    node.target = *a.symlink;
    node.mode = 0777;
    view.Emit(Event::NameChanged(node.parent, node.name));
  }
  node.attributes_known = true;
  const bool shows = a.mode || a.mtime || options_.shared;
  if (shows && !answers) view.Emit(Event::AttributesChanged(id));
  return view.Save(live);
}

// Of a folder whose names are in `key`, once they have been listed. If it fails, with the next
// listing.
void Engine::LearnFolder(NodeId id, const std::string& key) {
  const Steady asked = options_.clock->Now();
  const std::string path = key.substr(0, key.size() - 1);
  const auto entry =
      store_->Ask(Traffic::kForeground, [&](const Call& c) { return LookAt(true, path, c); });
  if (entry.ok()) Ignore(LearnAttributes(id, *entry, asked));
}

// What a listing did not tell must not be overwritten by what was shown meanwhile, nor go with what
// `leaves` the store.
Status Engine::LearnBeforeSending(const Job& job, bool leaves) {
  std::string path;
  bool folder = false;
  {
    View view(&tree_);
    const auto live = view.Get(job.id);
    if (!live.ok()) return {};
    const Node& node = (*live)->node;
    const bool sends = (leaves || (node.dirty & (kData | kAttributes)) != 0) && !node.gone();
    if (!sends || node.attributes_known || node.there == There::kAbsent) return {};
    PG_ASSIGN(path, view.TherePath(node));
    folder = node.kind == NodeKind::kFolder;
  }
  const Steady asked = options_.clock->Now();
  const auto entry = LookAt(folder, path, job.call);
  if (entry.ok()) return LearnAttributes(job.id, *entry, asked);
  return entry.error().code == Code::kNotFound ? Status() : Status(entry.error());
}

Result<Attr> Engine::AttrAsking(NodeId id, Ask ask) {
  std::string path;
  bool folder = false;
  const Steady asked = options_.clock->Now();
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(id));
    if (live->node.there == There::kAbsent) return AttrOf(*live);
    const bool needs =
        NeedsAsking(live->node) ||
        (!ModeIsKnown(live->node) && (ask == Ask::kMode || (ask == Ask::kSome && pace_.MayWait())));
    if (!needs) return AttrOf(*live);
    PG_ASSIGN(path, view.TherePath(live->node));
    folder = live->node.kind == NodeKind::kFolder;
  }
  if (store_->Check().ok()) {
    const auto entry =
        store_->Ask(Traffic::kForeground, [&](const Call& c) { return LookAt(folder, path, c); });
    if (entry.ok()) PG_TRY(LearnAttributes(id, *entry, asked, true));
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  return AttrOf(*live);
}

Result<Attr> Engine::GetAttr(NodeId id, std::optional<std::uint32_t> user) {
  const bool other = options_.shared && user && *user != options_.uid;
  return AttrAsking(id, other ? Ask::kMode : user ? Ask::kSome : Ask::kLink);
}

// It may be private at the store, and nobody here knows it yet. The kernel asks again before it
// refuses somebody, and in his name.
std::uint32_t Engine::ModeFor(const Node& node) const {
  return options_.shared && !ModeIsKnown(node) ? node.mode & ~077u : node.mode;
}

Result<Attr> Engine::SetAttr(NodeId id, const AttrChange& change, const OpenFilePtr& file) {
  PG_TRY(CheckWritable());
  if (change.size) {
    OpenFilePtr writer = file;
    if (!writer || !writer->for_writing) {
      PG_ASSIGN(Opened opened,
                OpenNode(id, *change.size == 0 ? Intent::kTruncate : Intent::kWrite));
      writer = opened.file;
    }
    Status cut = [&]() -> Status {
      PG_ASSIGN(const WritingMark mark, BeginWriting(writer));
      View view(&tree_);
      PG_ASSIGN(Live * live, view.Get(id));
      return Truncate(view, live, *change.size);
    }();
    if (cut.ok() && writer != file) cut = Flush(writer);
    if (writer != file) Release(writer);
    PG_TRY(cut);
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  Node& node = live->node;
  PG_TRY(CheckRole(view, node));
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
  const Attr shown = AttrOf(*live);
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
  return AttrOf(*live);
}

}  // namespace pargeter
