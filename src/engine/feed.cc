// Engine: what changed at the store, told by the store: one request for each look, seconds apart
// while somebody works here, minutes apart while nobody does. Where a store tells nothing, the
// folders that people look at are listed again (lister.cc), and slowly all others.
#include <algorithm>
#include <map>

#include "base/log.h"
#include "base/text.h"
#include "engine/engine.h"
#include "engine/listing.h"
#include "engine/tree/naming.h"

namespace pargeter {
namespace {

constexpr Duration kBusy(60000);       // so long after a visit somebody works here
constexpr Duration kLookIdle(120000);  // at most between two looks
constexpr int kMostRestarts = 3;       // a store that forgets each moment has no feed

std::string FolderOf(const std::string& path) {
  return path.find('/') == std::string::npos ? "" : path.substr(0, path.rfind('/'));
}

}  // namespace

void Engine::FeedLoop() {
  std::string moment;
  {
    View view(&tree_);
    const auto kept = view.index().Meta(Mark::kFeedMoment);
    if (kept.ok()) moment = *kept;
  }
  const Duration busy = options_.feed_pause;  // between two looks then
  Duration pause = busy / 4;
  for (int restarts = 0; !stop_->WaitFor(pause);) {
    if (!store_->Check().ok()) {  // seldom, so that a machine without a network may rest
      pause = std::min(pause * 2, busy * 5);
      continue;
    }
    const auto looked = LookAtFeed(&moment);
    {
      View view(&tree_);
      feed_asked_(view).reset();
      NoteAccess(view, looked.ok() ? Status() : Status(looked.error()));
    }
    if (!looked.ok() && looked.error().code == Code::kUnsupported) {
      has_feed_ = false;
      return;
    }
    if (!looked.ok() && looked.error().code == Code::kStale) {
      if (++restarts >= kMostRestarts) {
        has_feed_ = false;
        return;
      }
      moment.clear();
      View view(&tree_);
      listed_(view).clear();  // what was known may have changed unseen
    }
    if (looked.ok()) {
      has_feed_ = true;
      if (*looked > 0) restarts = 0;
    }
    pause = IsBusy() || (looked.ok() && *looked > 0)
                ? busy
                : std::min(kLookIdle, pause * 3 / 2 + busy / 2);
  }
}

bool Engine::IsBusy() {
  View view(&tree_);
  const Steady now = options_.clock->Now();
  return std::any_of(visited_(view).begin(), visited_(view).end(),
                     [&](const auto& visit) { return now - visit.second < kBusy; });
}

// How many changes came.
Result<std::size_t> Engine::LookAtFeed(std::string* moment) {
  if (moment->empty()) {
    PG_ASSIGN(*moment, store_->Ask(Traffic::kHousekeeping,
                                   [&](const Call& c) { return store_->FeedStart(c); }));
    View view(&tree_);
    PG_TRY(view.index().SetMeta(Mark::kFeedMoment, *moment));
    return std::size_t{0};
  }
  std::size_t count = 0;
  for (bool more = true; more;) {
    const Steady started = options_.clock->Now();
    {
      View view(&tree_);
      feed_asked_(view) = started;
    }
    PG_ASSIGN(const Changes changes, store_->Ask(Traffic::kHousekeeping, [&](const Call& c) {
      return store_->ChangesSince(*moment, c);
    }));
    count += changes.all.size();
    PG_TRY(TakeChanges(changes, started));
    more = changes.more && changes.next != *moment;
    if (changes.next == *moment) continue;
    *moment = changes.next;
    View view(&tree_);
    PG_TRY(view.index().SetMeta(Mark::kFeedMoment, *moment));
  }
  return count;
}

// The folder that the store has at `path`, as far as it is known here.
Result<NodeId> Engine::FolderThere(View& view, const std::string& path) {
  NodeId at = kRootId;
  if (path.empty()) return at;
  for (const std::string& part : Split(path, '/')) {
    PG_ASSIGN(const std::optional<Node> node, NodeThere(view, at, part, true));
    if (!node) return kNoNode;
    at = node->id;
  }
  return at;
}

Result<std::optional<Node>> Engine::NodeThere(View& view, NodeId folder, const std::string& key,
                                              bool is_folder) {
  PG_ASSIGN(Live * here, view.Find(folder, ShortenName(KeyToName(key))));
  if (here != nullptr && here->node.there == There::kSame &&
      (here->node.kind == NodeKind::kFolder) == is_folder)
    return std::optional(here->node);
  return view.index().FindThere(folder, key, is_folder);
}

// First what is new or changed, so that what moved is known by its version before it is missed at
// its old place; then what is gone.
Status Engine::TakeChanges(const Changes& changes, Steady started) {
  std::vector<NodeId> doubtful;
  std::vector<std::pair<NodeId, std::string>> unseen;
  for (const Changes::One& one : changes.all)
    if (one.path == kRulesName && one.entry) PG_TRY(LookForRules({*one.entry}));
  {
    View view(&tree_);
    view.Trim();
    Change change(&view);
    std::map<std::string, std::vector<NodeId>> left;  // by version: files that are gone somewhere
    for (const Changes::One& one : changes.all) {
      if (one.entry) continue;
      PG_ASSIGN(const NodeId folder, FolderThere(view, FolderOf(one.path)));
      if (folder == kNoNode) continue;
      PG_ASSIGN(const auto node,
                NodeThere(view, folder, one.path.substr(one.path.rfind('/') + 1), false));
      if (node && !node->gone() && node->intent == 0 && node->size > 0 &&
          !MayBeElsewhere(view, *node, started))
        left[node->version].push_back(node->id);
    }
    for (const Changes::One& one : changes.all) {
      if (!one.entry) continue;
      PG_ASSIGN(const NodeId folder, FolderThere(view, FolderOf(one.path)));
      if (folder == kNoNode) continue;
      PG_ASSIGN(const bool half_way, FolderComesOver(view, folder));
      if (half_way) continue;  // perhaps a step of ours; all of it is looked at once that is done
      PG_ASSIGN(const bool missed, WasMissing(view, folder, *one.entry, started));
      if (missed)
        unseen.emplace_back(folder, one.entry->name);
      else
        PG_TRY(TakeChanged(view, folder, *one.entry, started, &left, &doubtful));
    }
    for (auto one = changes.all.rbegin(); one != changes.all.rend(); ++one) {
      if (one->entry) continue;
      PG_ASSIGN(const NodeId folder, FolderThere(view, FolderOf(one->path)));
      if (folder == kNoNode) continue;
      const std::string key = one->path.substr(one->path.rfind('/') + 1);
      for (const bool is_folder : {false, true}) {
        PG_ASSIGN(const auto node, NodeThere(view, folder, key, is_folder));
        if (!node || MayBeElsewhere(view, *node, started)) continue;
        PG_ASSIGN(Live * live, view.Get(node->id));
        PG_TRY(VanishedThere(view, live, started));
        removed_(view)[{folder, key}] = options_.clock->Now();
      }
    }
    PG_TRY(change.Commit());
    tree_.NotifyAll();
    if (std::exchange(pins_changed_(view), false)) WakePins();
  }
  for (const NodeId id : doubtful) Ignore(LookAgain(id));  // changed here just then
  for (const auto& [folder, key] : unseen) {
    const Status looked = LookForKey(folder, key);
    // it is not told of again: the folder's next visitor waits for a listing
    View view(&tree_);
    if (!looked.ok()) listed_(view).erase(folder);
  }
  return {};
}

// A listing that was asked for later has come, and did not have it: it may be gone by now.
Result<bool> Engine::WasMissing(View& view, NodeId folder, const Entry& entry, Steady asked) {
  const auto listed = listed_(view).find(folder);
  if (listed == listed_(view).end() || listed->second < asked) return false;
  PG_ASSIGN(const auto known, NodeThere(view, folder, entry.name, entry.kind == Kind::kFolder));
  return !known;
}

Status Engine::TakeChanged(View& view, NodeId folder, const Entry& entry, Steady started,
                           std::map<std::string, std::vector<NodeId>>* left,
                           std::vector<NodeId>* doubtful) {
  const bool is_folder = entry.kind == Kind::kFolder;
  PG_ASSIGN(const auto known, NodeThere(view, folder, entry.name, is_folder));
  if (known) {
    const auto acked = acked_(view).find(known->id);
    if (acked != acked_(view).end() && acked->second >= started && known->version != entry.version)
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
Result<bool> Engine::MovedThere(View& view, Live* live, NodeId folder, const Entry& entry) {
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
  acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(Inherit(view, &node));
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
