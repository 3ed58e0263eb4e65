// Tree: rows, memory and transactions.
#include "engine/tree/tree.h"

#include <algorithm>

#include "engine/tree/places.h"

namespace pargeter {

namespace {
constexpr int kDeepest = 4096;
}  // namespace

Inode* Tree::View::Adopt(Node row) {
  if (tree_.changes_ > 0) tree_.touched_.insert(row.id);
  auto& slot = tree_.inodes_[row.id];
  if (!slot) {
    slot = std::make_unique<Inode>();
    slot->node = std::move(row);
  } else if (slot->doubtful) {
    Restore(slot.get(), std::move(row));
  }
  return slot.get();
}

Inode* Tree::View::InMemory(NodeId id) {
  const auto it = tree_.inodes_.find(id);
  return it == tree_.inodes_.end() || it->second->doubtful ? nullptr : it->second.get();
}

Result<Inode*> Tree::View::Get(NodeId id) {
  if (tree_.changes_ > 0) tree_.touched_.insert(id);
  if (Inode* inode = InMemory(id)) return inode;
  PG_ASSIGN(std::optional<Node> row, tree_.index_->Get(id));
  if (!row) return Error(Code::kStale, "the file is gone");
  return Adopt(std::move(*row));
}

Result<Inode*> Tree::View::Find(NodeId parent, const std::string& name) {
  PG_ASSIGN(std::optional<Node> row, tree_.index_->Find(parent, name));
  if (!row) return static_cast<Inode*>(nullptr);
  return Adopt(std::move(*row));
}

Result<Inode*> Tree::View::GetFolder(NodeId id) {
  PG_ASSIGN(Inode * inode, Get(id));
  if (inode->node.gone()) return Error(Code::kNotFound, "the folder is gone");
  if (inode->node.kind != NodeKind::kFolder) return Error(Code::kNotFolder, "it is not a folder");
  return inode;
}

Status Tree::View::Save(Inode* inode) {
  Change change(this);
  tree_.touched_.insert(inode->node.id);
  inode->unsaved = false;
  PG_TRY(tree_.index_->Update(inode->node));
  return change.Commit();
}

Status Tree::View::QueueChange(Inode* inode) {
  Node& node = inode->node;
  if (IsLocalOnly(node)) {
    node.pending.seq = 0;
    return Save(inode);
  }
  if (node.pending.seq == 0) {
    node.pending.seq = tree_.index_->NextSeq();
    node.pending.since = tree_.options_.clock->FileTime();
  }
  node.pending.tries = 0;
  node.pending.error.clear();
  Push(node.id, node.pending.seq);
  return Save(inode);
}

void Tree::View::TouchFolder(NodeId id) {
  auto inode = Get(id);
  if (!inode.ok()) return;
  (*inode)->node.mtime = (*inode)->node.ctime = tree_.options_.clock->Wall();
  (*inode)->unsaved = true;
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

Result<std::string> Tree::View::RemotePrefix(NodeId folder) {
  std::string path;
  for (int depth = 0; folder != kRootId; ++depth) {
    if (depth > kDeepest) return Error(Code::kInternal, "folders nest in a circle");
    PG_ASSIGN(Inode * inode, Get(folder));
    const Node& node = inode->node;
    path.insert(0, RemoteName(node) + "/");
    folder = node.remote_parent();
    if (folder == kNoNode) return Error(Code::kStale, "the folder is gone");
  }
  return path;
}

Result<std::string> Tree::View::RemotePath(const Node& node) {
  if (node.id == kRootId) return std::string();
  PG_ASSIGN(const std::string folder, RemotePrefix(node.remote_parent()));
  return folder + RemoteName(node);
}

Result<std::string> Tree::View::PathHere(NodeId id) {
  std::string path;
  while (id != kRootId && id != kNoNode) {
    PG_ASSIGN(Inode * inode, Get(id));
    path = path.empty() ? inode->node.name : inode->node.name + "/" + path;
    id = inode->node.parent;
  }
  return path;
}

void Tree::View::Trim() {
  auto& all = tree_.inodes_;
  const std::size_t remembered = tree_.options_.remembered;
  if (all.size() <= std::max(tree_.trim_at_, remembered)) return;
  for (auto it = all.begin(); it != all.end();) {
    const Inode& inode = *it->second;
    bool needed = tree_.used_.count(it->first) > 0 || inode.lookups > 0 || inode.opens > 0 ||
                  inode.detached_opens > 0 || inode.unsaved || inode.upload ||
                  (inode.content && inode.content.use_count() > 1);
    if (!needed && inode.content) needed = tree_.blobs_->IsUnsaved(inode.content.get());
    if (needed || it->first == kRootId)
      ++it;
    else
      it = all.erase(it);
  }
  tree_.trim_at_ = all.size() * 2 + remembered;
}

void Tree::View::Restore(Inode* inode, Node row) {
  // never back to a number that an upload under way was planned with
  row.generation = std::max(row.generation, inode->node.generation) + 1;
  inode->node = std::move(row);
  inode->doubtful = false;
  if (!inode->content) return;
  inode->node.size = tree_.blobs_->SizeOf(inode->content.get());
  inode->unsaved = true;
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
    const auto it = tree_.inodes_.find(id);
    const bool lives_on = it != tree_.inodes_.end() && !it->second->node.gone();
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
    if (row.ok())
      tree_.blobs_->ReleaseBytes(bytes - std::min(bytes, *row ? (*row)->cached.bytes : 0));
  }
  for (const NodeId id : std::exchange(tree_.touched_, {})) {
    const auto it = tree_.inodes_.find(id);
    if (it == tree_.inodes_.end()) continue;
    auto row = tree_.index_->Get(id);
    if (!row.ok())
      it->second->doubtful = true;  // the index cannot be read now: whoever wants it reads again
    else if (!*row)
      tree_.inodes_.erase(it);
    else
      view_.Restore(it->second.get(), std::move(**row));
  }
}

}  // namespace pargeter
