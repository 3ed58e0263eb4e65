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
  // The node's attributes, after a request if the listing did not carry them and `ask` wants them.
  Result<Attr> AttrAsking(NodeId id, AskFor ask = AskFor::kLink);
  // One object, or a folder; a folder without an object of its own has default attributes.
  Result<Entry> LookAt(bool folder, const std::string& path, const Call& call);
  // `answers`: whoever asks gets them, and a word to the kernel would make that forget them.
  // Attributes that came along with another answer. `asked`: when that was asked for.
  Status LearnAttributes(NodeId id, const Entry& entry, Steady asked = {}, bool answers = false);
  // The folder has been listed once: before it is taken for empty, or a name for free. Waits for
  // the store.
  Status EnsureListed(NodeId folder);
  // Joins the listing that is under way, or begins one on a thread of its own. Waits as `wait`
  // says, or until `until_name` has come.
  Status ListFolder(NodeId id, ListWait wait, const std::string& until_name,
                    Traffic traffic = Traffic::kForeground);
  // The last listing is younger than DriveLimits::fresh_for.
  bool IsFresh(View& view, NodeId id);
  // Asks for the node's version, and adopts a new one. For readers whose version is not at the
  // store any more.
  Status Revalidate(NodeId id);
  // Until the drive closes: lists the folders again that people looked at lately, and tends to
  // housekeeping.
  void WatchLoop();
  // Lists every folder below that was never listed. A folder that cannot be listed does not stop
  // the others; its error is returned at the end.
  Status ListBelow(NodeId id, const Cancel& cancel);
  // Afterwards the index has what the store had when it was asked: all folders are listed, and
  // those again in which anything changed.
  Status CatchUp(const Cancel& cancel);
  // The listing did not carry the attributes.
  static bool NeedsAsking(const Node& node);
  // Until the drive closes: reads the feed of changes, where the store has one.
  void FeedLoop();

  ListingPace pace_{options_.clock};
  UnderLock<std::unordered_map<NodeId, std::shared_ptr<Listing>>> listings_;
  UnderLock<int> attribute_reads_{0};  // listings that are done, but for LearnFolder
  UnderLock<std::unordered_map<NodeId, Steady>> visited_at_;  // folders, by people

 private:
  // How a look at the drive's own folder went: once we are let in again, what waits is tried at
  // once.
  void OnAccessResult(View& view, const Status& look);
  // Changes that were refused are tried again: the account was let in anew.
  void RetryWaiting(View& view);
  Result<bool> HasChanged(View& view, NodeId folder, const std::set<std::string>& names);
  // A listing that was under way when the folder was distrusted does not count.
  Status ListAnew(NodeId id);
  // Attributes of a listed folder's own object. If the request fails, the next listing asks again.
  void LearnFolder(NodeId id, const std::string& key);
  // False: the system has no thread to give; the caller runs the listing itself.
  bool BeginListing(const std::shared_ptr<Listing>& listing);
  void RunListing(const std::shared_ptr<Listing>& listing);
  // Wakes those who wait. True: the folder's own attributes are still to be asked for.
  bool CloseListing(Listing* listing, const Status& outcome);
  // A store that folds names answered for another name that is known here.
  Result<bool> IsOtherSpelling(NodeId folder, const std::string& name, const Entry& entry);
  // Loads the rules for all machines before the names of the drive's folder show.
  Status FindSharedRules(const std::vector<Entry>& entries);
  // Removes temporary objects that killed processes have left.
  void RemoveLeftovers();
  // One name that is not known here, asked for by itself.
  Status LookupRemote(NodeId id, const std::string& key);
  // Drops what is kept only for answers that cannot come any more.
  void ForgetOld(View& view);
  // Somebody works with the drive just now.
  bool IsBusy();
  // Returns the number of changes.
  Result<std::size_t> ReadFeed(std::string* moment);
  // Merges new and changed objects before missing ones, so that a moved file is known by its
  // version before it is missed at its old place.
  Status MergeChanges(const Changes& changes, Steady started);

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
