// Engine: opening, stopping, and the tree of names with its two places for each node.
#include "engine/engine.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <utility>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "engine/naming.h"
#include "engine/sent.h"

namespace pargeter {
namespace {
constexpr std::size_t kManyDoomed = 1000;
}

Engine::Engine(DriveOptions options, std::unique_ptr<Provider> provider)
    : options_(std::move(options)) {
  const auto back = [this] {
    WakePins();
    outbox_.Wake();
  };
  store_ = std::make_unique<StoreClient>(
      std::move(provider), StoreClient::Options{options_.clock, options_.trial_pause, stop_, back});
}

// A process that was killed holds its lock until the kernel is done with it; and whoever looks
// through the open files of all processes holds it for a moment.
static Result<Fd> LockSoon(const std::string& path) {
  for (int i = 0;; ++i) {
    auto lock = LockFile(path);
    if (lock.ok() || lock.error().code != Code::kBusy || i == 40) return lock;
    std::this_thread::sleep_for(Duration(50));
  }
}

Result<std::unique_ptr<Engine>> Engine::Open(DriveOptions options,
                                             std::unique_ptr<Provider> provider) {
  auto drive = std::unique_ptr<Engine>(new Engine(std::move(options), std::move(provider)));
  const DriveOptions& o = drive->options_;
  PG_TRY(MakeFolders(o.state_folder));
  auto lock = LockSoon(o.state_folder + "/lock");
  if (!lock.ok()) {
    return Error(lock.error().code,
                 fmt::format("the drive {} is in use: {}", o.name, lock.error().what),
                 fmt::format("Unmount it first: pargeter unmount {}", o.name));
  }
  drive->lock_ = std::move(*lock);
  drive->blocks_ =
      std::make_unique<BlockStore>(o.cache_folder, o.state_folder + "/pending", o.disk);
  PG_TRY(drive->blocks_->Prepare());
  PG_TRY(drive->blocks_->DropUnfinishedCopies());
  auto cache_lock = LockSoon(o.cache_folder + "/.lock");
  if (!cache_lock.ok()) {
    return Error(cache_lock.error().code,
                 fmt::format("the cache folder {} is in use: {}", Printable(o.cache_folder),
                             cache_lock.error().what),
                 fmt::format("Give {} a folder of its own: pargeter drive change {} --cache-at DIR",
                             o.name, o.name));
  }
  drive->cache_lock_ = std::move(*cache_lock);
  drive->budget_ = std::make_unique<Budget>(Budget::Limits{o.cache_limit, o.keep_free},
                                            o.cache_folder, o.state_folder, o.disk);
  drive->spare_ = std::make_unique<SpareRoom>(o.state_folder + "/spare", o.spare_room, o.disk);
  drive->spare_->Tend();
  {
    const Lock tree(drive->tree_mutex_);
    drive->limits_ = o;
    PG_TRY(drive->OpenIndex());
    PG_TRY(drive->LoadRules());
  }
  PG_TRY(drive->Recover());
  return drive;
}

Engine::~Engine() { Stop(); }

void Engine::Start(ChangeListener* listener) {
  {
    const Lock tree(tree_mutex_);
    const auto learnt = index_->Meta(Mark::kProbeResult);
    if (learnt.ok() && !learnt->empty()) store_->AdoptProbeResult(*learnt);
    // from here on something may come to the store of which a power cut takes the memory
    if (index_->SetMeta(Mark::kAllKnown, "").ok()) Ignore(SyncIndex());
  }
  started_ = true;
  Ignore(options_.disk->Remove(options_.state_folder + "/rested"));
  store_->Start();
  events_.Start(listener);
  threads_.emplace_back([this] { WatchLoop(); });
  threads_.emplace_back([this] { ShrinkLoop(); });
  threads_.emplace_back([this] { FeedLoop(); });
  threads_.emplace_back([this] { PinLoop(); });
  for (int i = 0; i < options_.fetch_workers; ++i) threads_.emplace_back([this] { FetchLoop(); });
  if (options_.read_only) return;
  outbox_.Start(this);
}

Status Engine::FirstContact() {
  bool known = false;
  {
    const Lock tree(tree_mutex_);
    PG_ASSIGN(Live * root, Get(kRootId));
    known = root->node.listed_at != 0;
  }
  const Status listed = ListFolder(kRootId, Wait::kFirstPage, "");
  if (!listed.ok()) {
    // mounted before: what is known works, the rest waits. What is gone, or forbidden, is refused
    // unless something waits, which may be the only copy.
    const Code code = listed.error().code;
    const bool may_pass = MayRetry(code) || code == Code::kSignIn;
    if (known && (may_pass || Summary().pending.files > 0)) return {};
    return listed;
  }
  Ignore(AccountSpace(Duration(0)));
  return {};
}

void Engine::Stop() {
  stop_->Cancel();
  if (!started_) return;
  store_->Stop();
  WakePins();
  budget_->Wake();
  {
    const Lock lock(fetch_mutex_);
    fetch_stopped_ = true;
    fetch_changed_.NotifyAll();
  }
  events_.Stop();
  {
    const Lock lock(tree_mutex_);
    tree_changed_.NotifyAll();
  }
  fetches_.WaitForAll();
  outbox_.Stop();
  for (std::thread& thread : threads_) thread.join();
  threads_.clear();
  {
    // listings run on threads of their own; cancelled, they end at once
    Lock tree(tree_mutex_);
    while (!listings_.empty() || learning_ > 0) {
      tree_changed_.WaitUntil(tree_mutex_,
                              std::chrono::steady_clock::now() + std::chrono::seconds(1));
    }
  }
  started_ = false;
  SavePresenceOfAll();
  SaveAll();
  // it is said to be safe on this disk; and after the next boot nobody has to doubt it
  const auto waits = WaitingForStore();
  if (!waits.ok() || *waits > 0) SyncEverything();
  const Lock tree(tree_mutex_);
  Ignore(index_->SetMeta(Mark::kAllKnown, "1"));  // no power cut takes the memory of what was sent
  Ignore(SyncIndex());
  RemoveDoomed();
  Ignore(options_.disk->Open(options_.state_folder + "/rested", O_WRONLY | O_CREAT));
}

void Engine::SaveAll() {
  SaveWritten();
  const Lock tree(tree_mutex_);
  std::vector<NodeId> unsaved;
  for (const auto& [id, live] : live_)
    if (live->unsaved) unsaved.push_back(id);
  for (const NodeId id : unsaved)
    if (const auto live = Get(id); live.ok()) Ignore(Save(*live));
  if (!store_->ProbeResult().empty())
    Ignore(index_->SetMeta(Mark::kProbeResult, store_->ProbeResult()));
}

// ---- the tree

Engine::Live* Engine::Adopt(Node node) {
  if (changes_ > 0) touched_.insert(node.id);
  auto& slot = live_[node.id];
  if (!slot) {
    slot = std::make_unique<Live>();
    slot->node = std::move(node);
  } else if (slot->doubtful) {
    Restore(slot.get(), std::move(node));
  }
  return slot.get();
}

Result<Engine::Live*> Engine::Get(NodeId id) {
  if (changes_ > 0) touched_.insert(id);
  const auto it = live_.find(id);
  if (it != live_.end() && !it->second->doubtful) return it->second.get();
  PG_ASSIGN(std::optional<Node> node, index_->Get(id));
  if (!node) return Error(Code::kStale, "the file is gone");
  return Adopt(std::move(*node));
}

Result<Engine::Live*> Engine::Find(NodeId parent, const std::string& name) {
  PG_ASSIGN(std::optional<Node> node, index_->Find(parent, name));
  if (!node) return static_cast<Live*>(nullptr);
  return Adopt(std::move(*node));
}

Result<Engine::Live*> Engine::GetFolder(NodeId id) {
  PG_ASSIGN(Live * live, Get(id));
  if (live->node.gone()) return Error(Code::kNotFound, "the folder is gone");
  if (live->node.kind != NodeKind::kFolder) return Error(Code::kNotFolder, "it is not a folder");
  return live;
}

Status Engine::Save(Live* live) {
  Change change(this);
  touched_.insert(live->node.id);
  live->unsaved = false;
  PG_TRY(index_->Update(live->node));
  return change.Commit();
}

Engine::Change::Change(Engine* drive) NO_TS_ANALYSIS : drive_(*drive),
                                                       transaction_(drive->index_->Begin()) {
  ++drive_.changes_;
}

Engine::Change::~Change() NO_TS_ANALYSIS {
  if (!open_) return;
  --drive_.changes_;
  if (drive_.changes_ == 0) Undo();
}

Status Engine::Change::Commit() NO_TS_ANALYSIS {
  open_ = false;
  const bool outermost = --drive_.changes_ == 0;
  Status done = transaction_.Commit();
  if (!outermost) return done;
  if (!done.ok()) {
    Undo();
    return done;
  }
  drive_.touched_.clear();
  // what the index on the disk may still hold for waiting is not destroyed before it knows better
  const bool may_drop =
      drive_.dropped_.empty() || !drive_.acks_unsynced_ || drive_.SyncIndex().ok();
  for (const auto& [id, bytes] : std::exchange(drive_.dropped_, {})) {
    drive_.budget_->Release(bytes);
    if (!may_drop) continue;
    Ignore(drive_.blocks_->Drop(id, BlockStore::Place::kCache));
    const auto it = drive_.live_.find(id);
    const bool lives_on = it != drive_.live_.end() && !it->second->node.gone();
    if (lives_on) {
      Ignore(drive_.blocks_->Drop(id, BlockStore::Place::kPending));
    } else {
      drive_.doomed_.push_back(id);
    }
  }
  if (drive_.doomed_.size() >= kManyDoomed) drive_.RemoveDoomed();
  return {};
}

Status Engine::SyncIndex() {
  PG_TRY(index_->Sync());
  acks_unsynced_ = promises_unsynced_ = false;
  return {};
}

// A deleted file's waiting bytes go only when its deletion is sure to survive a power cut: else the
// index would speak of a file whose bytes are gone.
void Engine::RemoveDoomed() {
  if (doomed_.empty()) return;
  const bool any = std::any_of(doomed_.begin(), doomed_.end(), [&](NodeId id) {
    return blocks_->Has(id, BlockStore::Place::kPending);
  });
  if (any && !SyncIndex().ok()) return;
  for (const NodeId id : std::exchange(doomed_, {}))
    Ignore(blocks_->Drop(id, BlockStore::Place::kPending));
}

// Memory says again what the index says.
void Engine::Change::Undo() NO_TS_ANALYSIS {
  transaction_.Abandon();
  for (const auto& [id, bytes] : std::exchange(drive_.dropped_, {})) {
    const auto node = drive_.index_->Get(id);  // what is not written down is not known any more
    if (node.ok()) drive_.budget_->Release(bytes - std::min(bytes, *node ? (*node)->on_disk : 0));
  }
  for (const NodeId id : std::exchange(drive_.touched_, {})) {
    const auto it = drive_.live_.find(id);
    if (it == drive_.live_.end()) continue;
    auto node = drive_.index_->Get(id);
    if (!node.ok())
      it->second->doubtful = true;  // the index cannot be read now: whoever wants it reads again
    else if (!*node)
      drive_.live_.erase(it);
    else
      Restore(it->second.get(), std::move(**node));
  }
}

void Engine::Restore(Live* live, Node node) {
  // never back to a number that an upload under way was planned with
  node.generation = std::max(node.generation, live->node.generation) + 1;
  live->node = std::move(node);
  live->doubtful = false;
  if (!live->content) return;
  const Lock lock(live->content->mu);
  live->node.size = live->content->size;
  live->unsaved = true;
}

Status Engine::AddIntent(Live* live) {
  Node& node = live->node;
  if (MayStay(node)) {
    node.intent = 0;
    return Save(live);
  }
  if (node.intent == 0) {
    node.intent = index_->NextIntent();
    node.intent_since = options_.clock->FileTime();
  }
  node.attempts = 0;
  node.error.clear();
  PG_TRY(Save(live));
  outbox_.Push(node.id, node.intent);
  return {};
}

// Drops what neither the kernel nor an open file nor an unsaved change needs. Called where a call
// begins, and nobody under this lock has got hold of anything yet.
void Engine::Trim() {
  if (live_.size() <= std::max(trim_at_, options_.remembered)) return;
  for (auto it = live_.begin(); it != live_.end();) {
    const Live& live = *it->second;
    bool needed = used_.count(it->first) > 0 || live.lookups > 0 || live.opens > 0 ||
                  live.old_opens > 0 || live.unsaved || live.upload ||
                  (live.content && live.content.use_count() > 1);
    if (!needed && live.content) {
      const Lock lock(live.content->mu);
      needed = live.content->unsaved;
    }
    if (needed || it->first == kRootId) {
      ++it;
    } else {
      it = live_.erase(it);
    }
  }
  trim_at_ = live_.size() * 2 + options_.remembered;
}

Attr Engine::AttrOf(const Live& live) {
  const Node& n = live.node;
  Attr attr;
  attr.id = n.id;
  attr.kind = n.kind;
  attr.mode = ModeFor(n);
  attr.uid = n.uid >= 0 ? static_cast<std::uint32_t>(n.uid) : options_.uid;
  attr.gid = n.gid >= 0 ? static_cast<std::uint32_t>(n.gid) : options_.gid;
  attr.size = n.kind == NodeKind::kSymlink ? n.target.size() : n.size;
  attr.on_disk = n.on_disk;
  if (live.content) {
    const Lock lock(live.content->mu);
    attr.on_disk = live.content->Held();
  }
  attr.deleted = n.gone();
  attr.mtime = n.mtime;
  attr.ctime = n.ctime;
  attr.atime = n.atime != 0 ? n.atime : n.mtime;
  if (options_.read_only || (!n.may_write && n.effective != Placement::kLocal)) attr.mode &= ~0222u;
  return attr;
}

std::string Engine::KeyPart(const Node& node) {
  return node.there == There::kSpelled ? node.there_name : NameToKey(node.name);
}

std::string Engine::ThereName(const Node& node) {
  return node.there == There::kSame || node.there == There::kAbsent ? NameToKey(node.name)
                                                                    : node.there_name;
}

// The prefix of what the store has in the folder: "" or ending in "/". A folder that it does not
// have yet will be where it is here.
Result<std::string> Engine::FolderKey(NodeId folder) {
  std::string path;
  for (int depth = 0; folder != kRootId; ++depth) {
    if (depth > 4096) return Error(Code::kInternal, "folders nest in a circle");
    PG_ASSIGN(Live * live, Get(folder));
    const Node& node = live->node;
    path.insert(0, ThereName(node) + "/");
    folder = node.remote_parent();
    if (folder == kNoNode) return Error(Code::kStale, "the folder is gone");
  }
  return path;
}

Result<std::string> Engine::TherePath(const Node& node) {
  const NodeId parent = node.remote_parent();
  if (node.id == kRootId) return std::string();
  PG_ASSIGN(const std::string folder, FolderKey(parent));
  return folder + ThereName(node);
}

std::string Engine::PlaceThere(const Node& node) {
  return PlaceIn(node.remote_parent(), ThereName(node));
}

void Engine::SetThere(Node* node, NodeId parent, const std::string& key) {
  if (node->parent == parent && NameToKey(node->name) == key) {
    node->there = There::kSame;
    node->there_parent = kNoNode;
    node->there_name.clear();
    return;
  }
  const bool spelled = node->parent == parent && node->kind != NodeKind::kFolder &&
                       node->name == BesideFolder(KeyToName(key));
  node->there = spelled || (node->parent == parent && node->name == ShortenName(KeyToName(key)))
                    ? There::kSpelled
                    : There::kElsewhere;
  node->there_parent = parent;
  node->there_name = key;
}

void Engine::TakeOut(Node* node) {
  if (node->there == There::kSame) {
    node->there_parent = node->parent;
    node->there_name = NameToKey(node->name);
  }
  if (node->there != There::kAbsent) node->there = There::kElsewhere;
  node->parent = kNoNode;
}

Status Engine::CheckWritable() const {
  if (!options_.read_only) return {};
  return Error(Code::kReadOnly, fmt::format("the drive {} is read-only", options_.name));
}

// Refused at once rather than at the upload, as far as the store has said what may be done.
Status Engine::CheckRole(const Node& node) {
  if (node.may_write || node.effective == Placement::kLocal) return {};
  const auto path = PathHere(node.id);
  return Error(
      Code::kPermission,
      fmt::format("{} may only be read with the account {} uses",
                  path.ok() && !path->empty() ? Printable(*path) : "the folder", options_.name),
      "Ask the owner at the store for the right to change it.");
}

// The journal must be a file that the next start finds: else nothing new is promised.
Status Engine::CheckState() {
  struct stat info {};
  const std::string path = options_.state_folder + "/index.db";
  if (::stat(path.c_str(), &info) == 0 && (index_inode_ == 0 || info.st_ino == index_inode_)) {
    index_inode_ = info.st_ino;
    return {};
  }
  const std::string what = fmt::format("the state folder {} was deleted while the drive is mounted",
                                       Printable(options_.state_folder));
  if (health_.Warn(what))
    Log(LogLevel::kError, "{}: nothing new is taken until it is mounted again", what);
  return Error(Code::kIo, what, "Unmount the drive and mount it again.");
}

Status Engine::CheckNewName(const std::string& name) const {
  if (name.size() > kMaxName) return Error(Code::kNameTooLong, "the name is longer than 255 bytes");
  if (NameToKey(name).size() > 1000)
    return Error(Code::kNameTooLong, "the name is too long for the store");
  if (name == kRulesName)
    return Error(Code::kInvalid, fmt::format("{} is where rules for all machines are kept", name),
                 "See: pargeter rule --help");
  if (IsOwnScratchName(name)) {
    return Error(
        Code::kInvalid,
        fmt::format("names that start with {} are kept for short-lived objects", kScratchPrefix));
  }
  return {};
}

void Engine::TouchFolder(NodeId id) {
  auto live = Get(id);
  if (!live.ok()) return;
  (*live)->node.mtime = (*live)->node.ctime = options_.clock->Wall();
  (*live)->unsaved = true;  // saved with the next change or at the end: it goes to no store
}

// The last object below a folder goes: unless an object of its own keeps it, the store would no
// longer show it.
Status Engine::KeepFolder(NodeId id) {
  if (id == kRootId || store_->Can().real_folders) return {};
  PG_ASSIGN(Live * live, Get(id));
  Node& node = live->node;
  if (node.gone() || node.marker || node.there == There::kAbsent || (node.dirty & kAttributes))
    return {};
  PG_ASSIGN(const bool more, index_->HasChildren(id));
  if (more) return {};
  node.dirty |= kAttributes;
  return AddIntent(live);
}

void Engine::Emit(Event event) { events_.Publish(std::move(event)); }

void Engine::EmitHappened(std::string side, std::string what, std::string path,
                          std::string detail) {
  Emit(Event::Happened(std::move(side), std::move(what), std::move(path), std::move(detail)));
}

}  // namespace pargeter
