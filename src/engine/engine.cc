// Engine: opening, starting and stopping, in order.
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
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/prefetch/prefetcher.h"
#include "engine/provenance/sent.h"
#include "engine/refresh/refresher.h"
#include "engine/vfs/account_room.h"

namespace pargeter {

namespace {
// A process that was killed holds its lock until the kernel is done with it; and whoever looks
// through the open files of all processes holds it for a moment.
Result<Fd> LockSoon(const std::string& path) {
  for (int i = 0;; ++i) {
    auto lock = LockFile(path);
    if (lock.ok() || lock.error().code != Code::kBusy || i == 40) return lock;
    std::this_thread::sleep_for(Duration(50));
  }
}
}  // namespace

Engine::Engine(DriveOptions options, std::unique_ptr<Provider> provider)
    : ContextOwner(std::move(options), std::move(provider)), Component(&context_) {
  tree_.SetBlobs(&contents_);
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
  drive->context_.state_lock = std::move(*lock);
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
  drive->context_.cache_lock = std::move(*cache_lock);
  drive->budget_ = std::make_unique<Budget>(Budget::Limits{o.cache_limit, o.keep_free},
                                            o.cache_folder, o.state_folder, o.disk);
  drive->spare_ = std::make_unique<SpareRoom>(o.state_folder + "/spare", o.spare_room, o.disk);
  drive->spare_->Tend();
  {
    View view(&drive->tree_);
    drive->limits_(view) = o;
    PG_TRY(drive->recovery_.OpenIndex(view));
    PG_TRY(drive->placement_.LoadRules(view));
  }
  PG_TRY(drive->recovery_.Recover());
  return drive;
}

Engine::~Engine() { Stop(); }

void Engine::Start(ChangeListener* listener) {
  {
    View view(&tree_);
    const auto learnt = view.index().Meta(Mark::kProbeResult);
    if (learnt.ok() && !learnt->empty()) store_->AdoptProbeResult(*learnt);
    // from here on something may come to the store of which a power cut takes the memory
    if (view.index().SetMeta(Mark::kCleanShutdown, "").ok()) Ignore(view.SyncUnderLock());
  }
  started_ = true;
  Ignore(options_.disk->Remove(options_.state_folder + "/rested"));
  store_->Start();
  face_ = listener;
  events_.Start(listener);
  threads_.emplace_back([this] { refresher_.WatchLoop(); });
  threads_.emplace_back([this] { contents_.ShrinkLoop(); });
  threads_.emplace_back([this] { refresher_.FeedLoop(); });
  threads_.emplace_back([this] { prefetcher_.PinLoop(); });
  for (int i = 0; i < options_.fetch_workers; ++i)
    threads_.emplace_back([this] { fetcher_.FetchLoop(); });
  if (options_.read_only) return;
  outbox_.Start(&reconciler_);
}

Status Engine::FirstContact() {
  bool known = false;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * root, view.Get(kRootId));
    known = root->node.listed_at != 0;
  }
  const Status listed = refresher_.ListFolder(kRootId, ListWait::kFirstPage, "");
  if (!listed.ok()) {
    // mounted before: what is known works, the rest waits. What is gone, or forbidden, is refused
    // unless something waits, which may be the only copy.
    const Code code = listed.error().code;
    const bool may_pass = MayRetry(code) || code == Code::kSignIn;
    if (known && (may_pass || Summary().pending.files > 0)) return {};
    return listed;
  }
  Ignore(room_.AccountSpace(Duration(0)));
  return {};
}

void Engine::Stop() {
  stop_->Cancel();
  face_ = nullptr;
  if (!started_) return;
  store_->Stop();
  pins_.Wake();
  budget_->Wake();
  fetcher_.Stop();
  events_.Stop();
  {
    const View view(&tree_);
    tree_.NotifyAll();
  }
  prefetcher_.fetches_.WaitForAll();
  outbox_.Stop();
  for (std::thread& thread : threads_) thread.join();
  threads_.clear();
  {
    // listings run on threads of their own; cancelled, they end at once
    View view(&tree_);
    while (!refresher_.listings_(view).empty() || refresher_.attribute_reads_(view) > 0) {
      view.WaitUntil(std::chrono::steady_clock::now() + std::chrono::seconds(1));
    }
  }
  started_ = false;
  contents_.SavePresenceOfAll();
  SaveAll();
  // it is said to be safe on this disk; and after the next boot nobody has to doubt it
  const auto waits = WaitingForStore();
  if (!waits.ok() || *waits > 0) contents_.SyncEverything();
  Ignore(tree_.UnlinkDeleted());
  View view(&tree_);
  Ignore(view.index().SetMeta(Mark::kCleanShutdown,
                              "1"));  // no power cut takes the memory of what was sent
  Ignore(view.SyncUnderLock());
  Ignore(options_.disk->Open(options_.state_folder + "/rested", O_WRONLY | O_CREAT));
}

void Engine::SaveAll() {
  contents_.SaveWritten();
  View view(&tree_);
  std::vector<NodeId> unsaved;
  for (const auto& [id, inode] : view.inodes())
    if (inode->unsaved) unsaved.push_back(id);
  for (const NodeId id : unsaved)
    if (const auto inode = view.Get(id); inode.ok()) Ignore(view.Save(*inode));
  if (!store_->ProbeResult().empty())
    Ignore(view.index().SetMeta(Mark::kProbeResult, store_->ProbeResult()));
}

void Engine::Learn(NodeId id, const Entry& entry) { Ignore(refresher_.LearnAttributes(id, entry)); }

Result<std::optional<std::string>> Engine::PathInDoubt(View& view, const Node& node) {
  return planner_.PathInDoubt(view, node);
}

bool Engine::AbsenceIsInconclusive(View& view, const Node& node) {
  return provenance_.AbsenceIsInconclusive(view, node, Steady::max());
}

}  // namespace pargeter
