// Asks the store what it has: listings, single looks, attributes, and the feed of changes.
#pragma once

#include "engine/context/context.h"
#include "engine/refresh/listing.h"
#include "engine/refresh/listing_pace.h"

namespace pargeter {

class Contents;
class DeletionGuard;
class Facts;
class PlacementRules;
class Provenance;
class RemoteMerge;

class Refresher : public Component {
 public:
  Refresher(Context* context, Facts* facts, Contents* contents, Provenance* provenance,
            PlacementRules* placement, DeletionGuard* guard, RemoteMerge* merge)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        provenance_(*provenance),
        placement_(*placement),
        guard_(*guard),
        merge_(*merge) {}

  Status Refresh();  // all folders that were looked at lately
  Result<Attr> AttrAsking(NodeId id, AskFor ask = AskFor::kLink);
  Result<Entry> LookAt(bool folder, const std::string& path, const Call& call);
  // `answers`: whoever asks gets them, and a word to the kernel would make that forget them.
  Status LearnAttributes(NodeId id, const Entry& entry, Steady asked = {}, bool answers = false);
  Status EnsureListed(NodeId folder);
  Status ListFolder(NodeId id, ListWait wait, const std::string& until_name,
                    Traffic traffic = Traffic::kForeground);
  bool IsFresh(View& view, NodeId id);
  Status LookAgain(NodeId id);
  void WatchLoop();
  Status ListBelow(NodeId id, const Cancel& cancel);
  static bool NeedsAsking(const Node& node);
  void FeedLoop();

  ListingPace pace_{options_.clock};
  UnderLock<std::unordered_map<NodeId, std::shared_ptr<Listing>>> listings_;
  UnderLock<int> learning_{0};  // listings that are done, but for LearnFolder
  UnderLock<std::unordered_map<NodeId, Steady>> visited_;  // folders, by people

 private:
  // How a look at the drive's own folder went: once we are let in again, what waits is tried at
  // once.
  void NoteAccess(View& view, const Status& look);
  void RetryWaiting(View& view);
  void LearnFolder(NodeId id, const std::string& key);
  bool BeginListing(const std::shared_ptr<Listing>& listing);
  void RunListing(const std::shared_ptr<Listing>& listing);
  bool CloseListing(Listing* listing, const Status& outcome);
  Result<bool> IsOtherSpelling(NodeId folder, const std::string& name, const Entry& entry);
  Status LookForRules(const std::vector<Entry>& entries);
  void RemoveLeftovers();
  Status LookForKey(NodeId id, const std::string& key);
  void ForgetOld(View& view);
  bool IsBusy();
  Result<std::size_t> LookAtFeed(std::string* moment);
  Status TakeChanges(const Changes& changes, Steady started);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  PlacementRules& placement_;
  DeletionGuard& guard_;
  RemoteMerge& merge_;
  std::atomic<bool> has_feed_{false};            // the store tells what changed
  UnderLock<std::optional<Steady>> feed_asked_;  // its answer is under way
};

}  // namespace pargeter
