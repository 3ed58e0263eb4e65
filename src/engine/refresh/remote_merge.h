// Brings what the store shows, and what it shows no more, into the tree.
#pragma once

#include "engine/context/context.h"
#include "engine/refresh/listing.h"
#include "engine/refresh/listing_pace.h"

namespace pargeter {

class Contents;
class Facts;
class PlacementRules;
class Provenance;

class RemoteMerge : public Component {
 public:
  RemoteMerge(Context* context, Facts* facts, Contents* contents, Provenance* provenance,
              PlacementRules* placement)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        provenance_(*provenance),
        placement_(*placement) {}

  Status EndListing(Listing* listing);
  Status TakeOne(View& view, NodeId folder, const Entry& entry, Steady asked);
  void NewVersion(View& view, Live* live, const Entry& entry);
  Status VanishedThere(View& view, Live* live, Steady asked);
  Status GiveNameBack(View& view, NodeId parent, const std::string& name);
  static Error MovedMeanwhile();
  Result<bool> WasMissing(View& view, NodeId folder, const Entry& entry, Steady asked);
  Status TakeChanged(View& view, NodeId folder, const Entry& entry, Steady started,
                     std::map<std::string, std::vector<NodeId>>* left,
                     std::vector<NodeId>* doubtful);
  Status TakePage(Listing* listing, const std::vector<Entry>& entries, bool may_write);

  UnderLock<std::unordered_map<NodeId, Steady>> listed_;  // when, this run
  UnderLock<std::map<std::string, Leftover>> leftovers_;  // by their paths
  UnderLock<bool> shut_out_{false};

 private:
  Status TakeEntry(View& view, Listing* listing, const Entry& entry);
  Status TakeNew(View& view, Listing* listing, const Entry& entry);
  Status TakeKnown(View& view, Listing* listing, Live* live, const Entry& entry);
  Status TakeRole(View& view, Live* live, bool may_write);
  Status NoteLeftover(View& view, NodeId folder, const Entry& entry);
  Result<bool> MovedThere(View& view, Live* live, NodeId folder, const Entry& entry);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  PlacementRules& placement_;
};

}  // namespace pargeter
