// Tree: rows, memory and transactions.
#include "engine/tree/tree.h"

#include <algorithm>

#include "engine/tree/places.h"

namespace pargeter {

namespace {
constexpr int kDeepest = 4096;
}  // namespace

Live* Tree::View::Adopt(Node row) {
  if (tree_.changes_ > 0) tree_.touched_.insert(row.id);
  auto& slot = tree_.live_[row.id];
  if (!slot) {
    slot = std::make_unique<Live>();
    slot->node = std::move(row);
  } else if (slot->doubtful) {
    Restore(slot.get(), std::move(row));
  }
  return slot.get();
}

Live* Tree::View::InMemory(NodeId id) {
  const auto it = tree_.live_.find(id);
  return it == tree_.live_.end() || it->second->doubtful ? nullptr : it->second.get();
}

Result<Live*> Tree::View::Get(NodeId id) {
  if (tree_.changes_ > 0) tree_.touched_.insert(id);
  if (Live* live = InMemory(id)) return live;
  PG_ASSIGN(std::optional<Node> row, tree_.index_->Get(id));
  if (!row) return Error(Code::kStale, "the file is gone");
  return Adopt(std::move(*row));
}

Result<Live*> Tree::View::Find(NodeId parent, const std::string& name) {
  PG_ASSIGN(std::optional<Node> row, tree_.index_->Find(parent, name));
  if (!row) return static_cast<Live*>(nullptr);
  return Adopt(std::move(*row));
}

Result<Live*> Tree::View::GetFolder(NodeId id) {
  PG_ASSIGN(Live * live, Get(id));
  if (live->node.gone()) return Error(Code::kNotFound, "the folder is gone");
  if (live->node.kind != NodeKind::kFolder) return Error(Code::kNotFolder, "it is not a folder");
  return live;
}

Status Tree::View::Save(Live* live) {
  Change change(this);
  tree_.touched_.insert(live->node.id);
  live->unsaved = false;
  PG_TRY(tree_.index_->Update(live->node));
  return change.Commit();
}

Status Tree::View::AddIntent(Live* live) {
  Node& node = live->node;
  if (MayStay(node)) {
    node.intent = 0;
    return Save(live);
  }
  if (node.intent == 0) {
    node.intent = tree_.index_->NextIntent();
    node.intent_since = tree_.options_.clock->FileTime();
  }
  node.attempts = 0;
  node.error.clear();
  Push(node.id, node.intent);
  return Save(live);
}

void Tree::View::TouchFolder(NodeId id) {
  auto live = Get(id);
  if (!live.ok()) return;
  (*live)->node.mtime = (*live)->node.ctime = tree_.options_.clock->Wall();
  (*live)->unsaved = true;
}

void Tree::View::PerformAll() {
  for (Effect& effect : std::exchange(tree_.caused_, {})) {
    if (auto* event = std::get_if<Event>(&effect)) {
      tree_.effects_.Publish(std::move(*event));
    } else {
      const Turn& turn = std::get<Turn>(effect);
      tree_.effects_.Push(turn.id, turn.order, turn.delay);
    }
  }
}

Status Tree::View::SyncUnderLock() {
  const std::int64_t committed = tree_.index_->Changes();
  PG_TRY(tree_.index_->Sync());
  tree_.durable_ = std::max(tree_.durable_, committed);
  return {};
}

Status Tree::Sync() {
  std::int64_t wanted = 0;
  {
    View view(this);
    wanted = index_->Changes();
  }
  const Lock one(sync_mutex_);
  std::int64_t committed = 0;
  {
    View view(this);
    if (durable_ >= wanted) return {};  // the flush of another came after it
    committed = index_->Changes();
  }
  PG_TRY(index_->Sync());
  View view(this);
  durable_ = std::max(durable_, committed);
  return {};
}

Status Tree::UnlinkDeleted() {
  const Lock one(unlink_mutex_);
  std::vector<NodeId> deleted;
  {
    View view(this);
    if (unlink_after_sync_.empty()) return {};
    deleted = unlink_after_sync_;
    unlinking_ = true;
  }
  const bool any = std::any_of(deleted.begin(), deleted.end(),
                               [&](NodeId id) { return blobs_->HasPending(id); });
  const Status synced = any ? Sync() : Status();
  if (synced.ok())
    for (const NodeId id : deleted) blobs_->DropPending(id);
  View view(this);
  unlinking_ = false;
  if (synced.ok())
    unlink_after_sync_.erase(
        unlink_after_sync_.begin(),
        unlink_after_sync_.begin() + static_cast<std::ptrdiff_t>(deleted.size()));
  return synced;
}

Result<std::string> Tree::View::FolderKey(NodeId folder) {
  std::string path;
  for (int depth = 0; folder != kRootId; ++depth) {
    if (depth > kDeepest) return Error(Code::kInternal, "folders nest in a circle");
    PG_ASSIGN(Live * live, Get(folder));
    const Node& node = live->node;
    path.insert(0, ThereName(node) + "/");
    folder = node.remote_parent();
    if (folder == kNoNode) return Error(Code::kStale, "the folder is gone");
  }
  return path;
}

Result<std::string> Tree::View::TherePath(const Node& node) {
  if (node.id == kRootId) return std::string();
  PG_ASSIGN(const std::string folder, FolderKey(node.remote_parent()));
  return folder + ThereName(node);
}

Result<std::string> Tree::View::PathHere(NodeId id) {
  std::string path;
  while (id != kRootId && id != kNoNode) {
    PG_ASSIGN(Live * live, Get(id));
    path = path.empty() ? live->node.name : live->node.name + "/" + path;
    id = live->node.parent;
  }
  return path;
}

void Tree::View::Trim() {
  auto& all = tree_.live_;
  const std::size_t remembered = tree_.options_.remembered;
  if (all.size() <= std::max(tree_.trim_at_, remembered)) return;
  for (auto it = all.begin(); it != all.end();) {
    const Live& live = *it->second;
    bool needed = tree_.used_.count(it->first) > 0 || live.lookups > 0 || live.opens > 0 ||
                  live.old_opens > 0 || live.unsaved || live.upload ||
                  (live.content && live.content.use_count() > 1);
    if (!needed && live.content) needed = tree_.blobs_->IsUnsaved(live.content.get());
    if (needed || it->first == kRootId)
      ++it;
    else
      it = all.erase(it);
  }
  tree_.trim_at_ = all.size() * 2 + remembered;
}

void Tree::View::Restore(Live* live, Node row) {
  // never back to a number that an upload under way was planned with
  row.generation = std::max(row.generation, live->node.generation) + 1;
  live->node = std::move(row);
  live->doubtful = false;
  if (!live->content) return;
  live->node.size = tree_.blobs_->SizeOf(live->content.get());
  live->unsaved = true;
}

Tree::Change::Change(View* view)
    : view_(*view), tree_(view->tree_), transaction_(view->index().Begin()) {
  ++tree_.changes_;
}

Tree::Change::~Change() {
  if (!open_) return;
  --tree_.changes_;
  if (tree_.changes_ == 0) Undo();
}

Status Tree::Change::Commit() {
  open_ = false;
  const bool outermost = --tree_.changes_ == 0;
  Status done = transaction_.Commit();
  if (!outermost) return done;
  if (!done.ok()) {
    Undo();
    return done;
  }
  tree_.touched_.clear();
  DropReleased();
  view_.PerformAll();
  return {};
}

void Tree::Change::DropReleased() {
  // what the index on the disk may still hold for waiting is not destroyed before it knows better
  const bool may_drop =
      tree_.released_.empty() || !view_.acks_unsynced() || view_.SyncUnderLock().ok();
  for (const auto& [id, bytes] : std::exchange(tree_.released_, {})) {
    tree_.blobs_->ReleaseBytes(bytes);
    if (!may_drop) continue;
    tree_.blobs_->DropCached(id);
    const auto it = tree_.live_.find(id);
    const bool lives_on = it != tree_.live_.end() && !it->second->node.gone();
    if (lives_on)
      tree_.blobs_->DropPending(id);
    else
      tree_.unlink_after_sync_.push_back(id);
  }
}

// Memory says again what the index says.
void Tree::Change::Undo() {
  transaction_.Abandon();
  tree_.caused_.clear();
  for (const auto& [id, bytes] : std::exchange(tree_.released_, {})) {
    const auto row = tree_.index_->Get(id);  // what is not written down is not known any more
    if (row.ok()) tree_.blobs_->ReleaseBytes(bytes - std::min(bytes, *row ? (*row)->on_disk : 0));
  }
  for (const NodeId id : std::exchange(tree_.touched_, {})) {
    const auto it = tree_.live_.find(id);
    if (it == tree_.live_.end()) continue;
    auto row = tree_.index_->Get(id);
    if (!row.ok())
      it->second->doubtful = true;  // the index cannot be read now: whoever wants it reads again
    else if (!*row)
      tree_.live_.erase(it);
    else
      view_.Restore(it->second.get(), std::move(**row));
  }
}

}  // namespace pargeter
