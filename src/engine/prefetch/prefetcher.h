// Fetches that people asked for, and pinned files that have to be here.
#pragma once

#include "engine/context/context.h"
#include "engine/prefetch/fetch_jobs.h"

namespace pargeter {

class Contents;
class Facts;
class Fetcher;
class PlacementRules;
class Refresher;
class RemoteMerge;

class Prefetcher : public Component {
 public:
  Prefetcher(Context* context, Facts* facts, Contents* contents, Fetcher* fetcher,
             PlacementRules* placement, RemoteMerge* merge, Refresher* refresher)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        fetcher_(*fetcher),
        placement_(*placement),
        merge_(*merge),
        refresher_(*refresher) {}

  // In the background, until it is finished or its `cancel` says so; what came stays. Returns the
  // number of the fetch; kBusy: the system has no thread to give.
  Result<std::int64_t> BeginFetch(std::vector<NodeId> roots);
  std::shared_ptr<Fetch> FetchOf(std::int64_t number);  // null: long over
  Status Pin(NodeId id);  // kNoSpace with the numbers; may ask the store for what is below
  Status Unpin(NodeId id);
  void PinLoop();
  Status Place(NodeId id, Placement placement);  // kNone: as what it is in

  FetchJobs fetches_;

 private:
  Status FetchFile(NodeId id, const Cancel& cancel, std::atomic<std::uint64_t>* bytes_done);
  void RunFetch(Fetch* fetch);
  bool FetchPinned();
  void LookForNew(NodeId root);

  Facts& facts_;
  Contents& contents_;
  Fetcher& fetcher_;
  PlacementRules& placement_;
  RemoteMerge& merge_;
  Refresher& refresher_;
};

}  // namespace pargeter
