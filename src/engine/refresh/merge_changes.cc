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

// A listing that was asked for later has come, and did not have it: it may be gone by now.
Result<bool> RemoteMerge::WasMissing(View& view, NodeId folder, const Entry& entry, Steady asked) {
  const auto listed = listed_(view).find(folder);
  if (listed == listed_(view).end() || listed->second < asked) return false;
  PG_ASSIGN(const auto known,
            facts_.NodeThere(view, folder, entry.name, entry.kind == Kind::kFolder));
  return !known;
}

Status RemoteMerge::TakeChanged(View& view, NodeId folder, const Entry& entry, Steady started,
                                std::map<std::string, std::vector<NodeId>>* left,
                                std::vector<NodeId>* doubtful) {
  const bool is_folder = entry.kind == Kind::kFolder;
  PG_ASSIGN(const auto known, facts_.NodeThere(view, folder, entry.name, is_folder));
  if (known) {
    const auto acked = provenance_.acked_(view).find(known->id);
    if (acked != provenance_.acked_(view).end() && acked->second >= started &&
        known->version != entry.version)
      doubtful->push_back(known->id);
  }
  PG_ASSIGN(Live * at, view.Get(folder));
  const auto moved = left->find(entry.version);
  if (!known && !is_folder && moved != left->end() && !moved->second.empty()) {
    PG_ASSIGN(Live * live, view.Get(moved->second.back()));
    PG_ASSIGN(const bool taken, MovedThere(view, live, folder, entry));
    if (taken) {
      moved->second.pop_back();
      return {};
    }
  }
  // of a folder that nobody has looked into nothing is known, and need not be
  if (at->node.listed_at == 0) return {};
  return TakeOne(view, folder, entry, started);
}

// A file that the store has at another place now, of the same version: its row moves, and with it
// all that is here of it. False: it is not that one.
Result<bool> RemoteMerge::MovedThere(View& view, Live* live, NodeId folder, const Entry& entry) {
  Node& node = live->node;
  const std::string name = ShortenName(KeyToName(entry.name));
  PG_ASSIGN(const Live* taken, view.Find(folder, name));
  PG_ASSIGN(const Live* into, view.Get(folder));
  if (taken != nullptr || into->node.gone() || node.there_size != entry.size || node.intent != 0 ||
      node.gone() || live->writers > 0 || IsOwnScratchName(entry.name) ||
      node.there == There::kAbsent)
    return false;
  const NodeId old_folder = node.parent;
  const std::string old_name = node.name;
  node.parent = folder;
  node.name = name;
  SetThere(&node, folder, entry.name);
  provenance_.acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(placement_.Inherit(view, &node));
  PG_TRY(view.Save(live));
  if (live->content) {
    PG_ASSIGN(const std::string path, view.TherePath(node));
    const Lock lock(live->content->mu);
    live->content->source.path = path;
  }
  if (const auto path = view.PathHere(node.id); path.ok())
    view.EmitHappened("store", "moved", *path);
  view.Emit(Event::NameChanged(old_folder, old_name));
  view.Emit(Event::NameChanged(folder, name));
  return true;
}

}  // namespace pargeter
