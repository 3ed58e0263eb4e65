// RemoteMerge: what the feed says of one name.
#include <algorithm>
#include <map>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/remote_merge.h"

namespace pargeter {

Result<bool> RemoteMerge::WasMissing(View& view, NodeId folder, const Entry& entry, Steady asked) {
  const std::optional<Steady> listed = listing_ages_(view).When(folder);
  if (!listed || *listed < asked) return false;
  PG_ASSIGN(const auto known,
            facts_.NodeThere(view, folder, entry.name, entry.kind == Kind::kFolder));
  return !known;
}

Status RemoteMerge::MergeChanged(View& view, NodeId folder, const Entry& entry, Steady started,
                                 std::map<std::string, std::vector<NodeId>>* left,
                                 std::vector<NodeId>* doubtful) {
  const bool is_folder = entry.kind == Kind::kFolder;
  PG_ASSIGN(const auto known, facts_.NodeThere(view, folder, entry.name, is_folder));
  if (known) {
    if (provenance_.recent(view).WasChangedSince(known->id, started) &&
        known->remote.version != entry.version)
      doubtful->push_back(known->id);
  }
  PG_ASSIGN(Inode * at, view.Get(folder));
  const auto moved = left->find(entry.version);
  if (!known && !is_folder && moved != left->end() && !moved->second.empty()) {
    PG_ASSIGN(Inode * inode, view.Get(moved->second.back()));
    PG_ASSIGN(const bool taken, WasMovedRemotely(view, inode, folder, entry));
    if (taken) {
      moved->second.pop_back();
      return {};
    }
  }
  // of a folder that nobody has looked into nothing is known, and need not be
  if (at->node.listed_at == 0) return {};
  return MergeOne(view, folder, entry, started);
}

Result<bool> RemoteMerge::WasMovedRemotely(View& view, Inode* inode, NodeId folder,
                                           const Entry& entry) {
  Node& node = inode->node;
  const std::string name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(const Inode* taken, view.Find(folder, name));
  PG_ASSIGN(const Inode* into, view.Get(folder));
  if (taken != nullptr || into->node.gone() || node.remote.size != entry.size ||
      node.pending.seq != 0 || node.gone() || inode->writers > 0 || IsOwnScratchName(entry.name) ||
      node.remote.place == RemotePlace::kNone)
    return false;
  const NodeId old_folder = node.parent;
  const std::string old_name = node.name;
  node.parent = folder;
  node.name = name;
  SetRemote(&node, folder, entry.name);
  provenance_.recent(view).NoteChanged(node.id);
  PG_TRY(placement_.Inherit(view, &node));
  PG_TRY(view.Save(inode));
  if (const auto path = view.PathHere(node.id); path.ok())
    view.EmitHappened("store", "moved", *path);
  view.Emit(Event::NameChanged(old_folder, old_name));
  view.Emit(Event::NameChanged(folder, name));
  return true;
}

}  // namespace pargeter
