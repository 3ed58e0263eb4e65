// The engine of one drive: makes the components and joins them, starts and stops them in order, and
// answers what takes several of them.
//
// Lock order: the probe's (StoreClient), those of unlinking (Tree), saving (Contents) and flushing
// (Tree), the tree's own (Tree::View), a Content's, then any one of the leaves'. None but the first
// is held while the store is asked, none from the tree's on while a disk is flushed
// (docs/locking.md).
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/prefetch/prefetcher.h"
#include "engine/prefetch/verifier.h"
#include "engine/provenance/provenance.h"
#include "engine/recovery/recovery.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/committer.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/sync/evidence.h"
#include "engine/sync/folder_mover.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/planner.h"
#include "engine/sync/reconciler.h"
#include "engine/sync/remover.h"
#include "engine/sync/rollback.h"
#include "engine/sync/send_log.h"
#include "engine/sync/uploader.h"
#include "engine/vfs/account_room.h"
#include "engine/vfs/conflict_choices.h"
#include "engine/vfs/files.h"
#include "engine/vfs/intake.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

// Made before the components that stand on it.
struct ContextOwner {
  ContextOwner(DriveOptions options, std::unique_ptr<Provider> provider)
      : context_(std::move(options), std::move(provider)) {}
  Context context_;
};

class Engine : private ContextOwner, public Component, private Fetcher::Observer {
 public:
  // The contracts of these are in drive.h.
  static Result<std::unique_ptr<Engine>> Open(DriveOptions options,
                                              std::unique_ptr<Provider> provider);
  ~Engine() override;
  void Start(ChangeListener* listener);
  Status FirstContact();
  Status Flush(Duration patience, const std::function<bool()>& given_up);
  void Stop();
  DriveStatus Summary();
  Result<NodeState> State(NodeId id);
  Result<std::vector<NodeState>> ListStates(NodeId folder);
  Result<std::vector<std::pair<std::string, Node>>> Queue(int limit);
  UploadDelay DelayOf(const Node& node);
  Result<Sums> SumsOf(NodeId folder);
  Result<Explanation> Explain(NodeId id);
  Result<Attr> SpaceOf();
  Status CheckIndex();
  std::vector<Happening> Happened(std::int64_t after, std::size_t limit);
  void SetLimits(const DriveLimits& limits);
  bool IsAlive();
  const DriveOptions& options() const { return options_; }
  Provider& provider() { return store_->provider(); }

  Namespace& names() { return names_; }
  Files& files() { return files_; }
  Intake& intake() { return intake_; }
  AccountRoom& room() { return room_; }
  ConflictChoices& choices() { return choices_; }
  Contents& contents() { return contents_; }
  DeletionGuard& guard() { return guard_; }
  Facts& facts() { return facts_; }
  PlacementRules& placement() { return placement_; }
  Prefetcher& prefetcher() { return prefetcher_; }
  Refresher& refresher() { return refresher_; }
  Verifier& verifier() { return verifier_; }

 private:
  Engine(DriveOptions options, std::unique_ptr<Provider> provider);
  void Learn(NodeId id, const Entry& entry) override;
  bool AbsenceIsInconclusive(View& view, const Node& node) override;
  Result<std::optional<std::string>> PathInDoubt(View& view, const Node& node) override;
  void SaveAll();
  Result<std::uint64_t> WaitingForStore();  // changes, but for held deletions
  std::optional<Error> WhyInVain(Steady since);
  Status AwaitUploads(Steady begun, Steady deadline, const std::function<bool()>& given_up);
  NodeState StateOfLive(const Inode& inode);
  bool IsKeptByFace(const Node& node) const;
  Status AddSums(View& view, NodeState* state);

  Facts facts_{&context_};
  Contents contents_{&context_, &facts_};
  Fetcher fetcher_{&context_, &contents_, this};
  Provenance provenance_{&context_, &contents_};
  PlacementRules placement_{&context_, &facts_, &contents_};
  DeletionGuard guard_{&context_, &facts_, &contents_};
  RemoteMerge merge_{&context_, &facts_, &contents_, &provenance_, &placement_};
  Refresher refresher_{&context_, &facts_, &contents_, &provenance_, &placement_, &guard_, &merge_};
  HeldFolders held_{&context_, &facts_, &contents_, &provenance_, &guard_};
  Planner planner_{&context_, &contents_, &provenance_, &guard_, &held_};
  SendLog send_log_{&context_};
  Evidence evidence_{&context_, &facts_, &provenance_, &send_log_};
  Committer committer_{&context_, &contents_, &provenance_, &held_};
  ConflictResolver resolver_{&context_, &facts_,   &provenance_, &placement_,
                             &merge_,   &planner_, &evidence_,   &committer_};
  Rollback rollback_{&context_, &provenance_, &held_, &send_log_, &evidence_};
  Uploader uploader_{&context_,   &contents_, &fetcher_,  &provenance_, &merge_,
                     &refresher_, &send_log_, &evidence_, &committer_,  &resolver_};
  FolderMover mover_{&context_,  &facts_,    &provenance_, &merge_,    &held_,    &planner_,
                     &send_log_, &evidence_, &committer_,  &resolver_, &rollback_};
  Remover remover_{&context_, &provenance_, &guard_, &merge_, &held_, &planner_, &evidence_};
  Reconciler reconciler_{&context_,   &facts_,    &provenance_, &planner_, &send_log_,
                         &committer_, &rollback_, &uploader_,   &mover_,   &remover_};
  AccountRoom room_{&context_};
  Namespace names_{&context_, &facts_, &contents_, &provenance_, &placement_, &guard_, &refresher_};
  Files files_{&context_, &facts_, &contents_, &fetcher_, &merge_, &refresher_, &room_, &names_};
  Intake intake_{&context_, &facts_, &contents_, &names_, &files_};
  ConflictChoices choices_{&context_, &facts_, &names_};
  Prefetcher prefetcher_{&context_,   &facts_, &contents_, &fetcher_,
                         &placement_, &merge_, &refresher_};
  Verifier verifier_{&context_, &facts_, &contents_, &fetcher_};
  Recovery recovery_{&context_,   &facts_, &contents_, &provenance_,
                     &placement_, &guard_, &resolver_, &names_};

  std::atomic<ChangeListener*> face_{nullptr};  // from Start to Stop
  std::vector<std::thread> threads_;
};

}  // namespace pargeter
