// Refresher: mode, owner and time, and how what a listing does not tell of them is learnt.
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"

namespace pargeter {

bool Refresher::NeedsAsking(const Node& node) {
  return node.kind == NodeKind::kFile && MayBeSymlink(node.size) && !node.attributes_known &&
         node.dirty == kClean;
}

Result<Entry> Refresher::LookAt(bool folder, const std::string& path, const Call& call) {
  if (!folder) return store_->Look(path, call);
  auto own = store_->LookFolder(path, call);
  if (own.ok() || own.error().code != Code::kNotFound) return own;
  Entry plain;
  plain.kind = Kind::kFolder;
  return plain;
}

Status Refresher::LearnAttributes(NodeId id, const Entry& entry, Steady asked, bool answers) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  Node& node = inode->node;
  const bool folder = node.kind == NodeKind::kFolder;
  if (node.attributes_known || folder != (entry.kind == Kind::kFolder)) return {};
  if (folder ? provenance_.AbsenceIsInconclusive(view, node, asked)
             : node.remote.version != entry.version)
    return {};
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
  return view.Save(inode);
}

void Refresher::LearnFolder(NodeId id, const std::string& key) {
  const Steady asked = options_.clock->Now();
  const std::string path = key.substr(0, key.size() - 1);
  const auto entry =
      store_->Ask(Traffic::kForeground, [&](const Call& c) { return LookAt(true, path, c); });
  if (entry.ok()) Ignore(LearnAttributes(id, *entry, asked));
}

Result<Attr> Refresher::AttrAsking(NodeId id, AskFor ask) {
  std::string path;
  bool folder = false;
  const Steady asked = options_.clock->Now();
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(id));
    if (inode->node.remote.place == RemotePlace::kNone) return facts_.AttrOf(*inode);
    const bool needs = NeedsAsking(inode->node) ||
                       (!ModeIsKnown(inode->node) &&
                        (ask == AskFor::kMode || (ask == AskFor::kSome && pace_.MayWait())));
    if (!needs) return facts_.AttrOf(*inode);
    PG_ASSIGN(path, view.RemotePath(inode->node));
    folder = inode->node.kind == NodeKind::kFolder;
  }
  if (store_->Check().ok()) {
    const auto entry =
        store_->Ask(Traffic::kForeground, [&](const Call& c) { return LookAt(folder, path, c); });
    if (entry.ok()) PG_TRY(LearnAttributes(id, *entry, asked, true));
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  return facts_.AttrOf(*inode);
}

}  // namespace pargeter
