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
#include "engine/sent.h"
#include "engine/tree/naming.h"

namespace pargeter {
namespace {}

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
    View view(&drive->tree_);
    drive->limits_(view) = o;
    PG_TRY(drive->OpenIndex(view));
    PG_TRY(drive->LoadRules(view));
  }
  PG_TRY(drive->Recover());
  return drive;
}

Engine::~Engine() { Stop(); }

void Engine::Start(ChangeListener* listener) {
  {
    View view(&tree_);
    const auto learnt = view.index().Meta(Mark::kProbeResult);
    if (learnt.ok() && !learnt->empty()) store_->AdoptProbeResult(*learnt);
    // from here on something may come to the store of which a power cut takes the memory
    if (view.index().SetMeta(Mark::kAllKnown, "").ok()) Ignore(view.Sync());
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
    View view(&tree_);
    PG_ASSIGN(Live * root, view.Get(kRootId));
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
    const View view(&tree_);
    tree_.NotifyAll();
  }
  fetches_.WaitForAll();
  outbox_.Stop();
  for (std::thread& thread : threads_) thread.join();
  threads_.clear();
  {
    // listings run on threads of their own; cancelled, they end at once
    View view(&tree_);
    while (!listings_(view).empty() || learning_(view) > 0) {
      view.WaitUntil(std::chrono::steady_clock::now() + std::chrono::seconds(1));
    }
  }
  started_ = false;
  SavePresenceOfAll();
  SaveAll();
  // it is said to be safe on this disk; and after the next boot nobody has to doubt it
  const auto waits = WaitingForStore();
  if (!waits.ok() || *waits > 0) SyncEverything();
  View view(&tree_);
  Ignore(view.index().SetMeta(Mark::kAllKnown,
                              "1"));  // no power cut takes the memory of what was sent
  Ignore(view.Sync());
  view.RemoveDoomed();
  Ignore(options_.disk->Open(options_.state_folder + "/rested", O_WRONLY | O_CREAT));
}

void Engine::SaveAll() {
  SaveWritten();
  View view(&tree_);
  std::vector<NodeId> unsaved;
  for (const auto& [id, live] : view.inodes())
    if (live->unsaved) unsaved.push_back(id);
  for (const NodeId id : unsaved)
    if (const auto live = view.Get(id); live.ok()) Ignore(view.Save(*live));
  if (!store_->ProbeResult().empty())
    Ignore(view.index().SetMeta(Mark::kProbeResult, store_->ProbeResult()));
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

std::string Engine::PlaceThere(const Node& node) {
  return PlaceIn(node.remote_parent(), ThereName(node));
}

Status Engine::CheckWritable() const {
  if (!options_.read_only) return {};
  return Error(Code::kReadOnly, fmt::format("the drive {} is read-only", options_.name));
}

// Refused at once rather than at the upload, as far as the store has said what may be done.
Status Engine::CheckRole(View& view, const Node& node) {
  if (node.may_write || node.effective == Placement::kLocal) return {};
  const auto path = view.PathHere(node.id);
  return Error(
      Code::kPermission,
      fmt::format("{} may only be read with the account {} uses",
                  path.ok() && !path->empty() ? Printable(*path) : "the folder", options_.name),
      "Ask the owner at the store for the right to change it.");
}

// The journal must be a file that the next start finds: else nothing new is promised.
Status Engine::CheckState(View& view) {
  struct stat info {};
  const std::string path = options_.state_folder + "/index.db";
  if (::stat(path.c_str(), &info) == 0 &&
      (index_inode_(view) == 0 || info.st_ino == index_inode_(view))) {
    index_inode_(view) = info.st_ino;
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

// The last object below a folder goes: unless an object of its own keeps it, the store would no
// longer show it.
Status Engine::KeepFolder(View& view, NodeId id) {
  if (id == kRootId || store_->Can().real_folders) return {};
  PG_ASSIGN(Live * live, view.Get(id));
  Node& node = live->node;
  if (node.gone() || node.marker || node.there == There::kAbsent || (node.dirty & kAttributes))
    return {};
  PG_ASSIGN(const bool more, view.index().HasChildren(id));
  if (more) return {};
  node.dirty |= kAttributes;
  return view.AddIntent(live);
}

// ---- the tree's sinks

void Engine::ReleaseBytes(std::uint64_t bytes) { budget_->Release(bytes); }
void Engine::DropCached(NodeId id) { Ignore(blocks_->Drop(id, BlockStore::Place::kCache)); }
void Engine::DropPending(NodeId id) { Ignore(blocks_->Drop(id, BlockStore::Place::kPending)); }
bool Engine::HasPending(NodeId id) { return blocks_->Has(id, BlockStore::Place::kPending); }
std::uint64_t Engine::SizeOf(Content* content) {
  const Lock lock(content->mu);
  return content->size;
}
bool Engine::IsUnsaved(Content* content) {
  const Lock lock(content->mu);
  return content->unsaved;
}
void Engine::Publish(Event event) { events_.Publish(std::move(event)); }
void Engine::Push(NodeId id, std::int64_t order, Duration delay) { outbox_.Push(id, order, delay); }

}  // namespace pargeter
