// Brings what the store shows, and what it shows no more, into the tree.
#pragma once

#include "engine/context/context.h"
#include "engine/refresh/listing.h"
#include "engine/refresh/listing_ages.h"
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

  // All pages have come: nodes that were not among them are gone from the store.
  Status EndListing(Listing* listing);
  // One object that was asked for by itself at `asked`; its presence in a listing under way is
  // noted.
  Status MergeOne(View& view, NodeId folder, const Entry& entry, Steady asked);
  // The store has another version, and no bytes wait here: the node adopts it. A mode or owner that
  // was set here is kept; a time belongs to the former version.
  void NewVersion(View& view, Inode* inode, const Entry& entry);
  // The store did not have the node at `asked`. A node with waiting bytes is queued as new; any
  // other is deleted here.
  Status RemoteDeleted(View& view, Inode* inode, Steady asked);
  // The folder of that name is gone: the file beside it drops its "{file}" suffix.
  Status ReleaseName(View& view, NodeId parent, const std::string& name);
  // kBusy: the folder was moved at the store while it was listed.
  static Error MovedMeanwhile();
  // A later listing did not have the object: it may be gone by now.
  Result<bool> WasMissing(View& view, NodeId folder, const Entry& entry, Steady asked);
  // An object that the feed named. `left`: nodes by version that may have moved to it; `doubtful`:
  // nodes whose absence is to be checked.
  Status MergeChanged(View& view, NodeId folder, const Entry& entry, Steady started,
                      std::map<std::string, std::vector<NodeId>>* left,
                      std::vector<NodeId>* doubtful);
  // One page of a listing.
  Status MergePage(Listing* listing, const std::vector<Entry>& entries, bool may_write);

  UnderLock<ListingAges> listing_ages_;
  UnderLock<std::map<std::string, Leftover>> leftovers_;  // by their paths
  UnderLock<bool> shut_out_{false};

 private:
  Status MergeEntry(View& view, Listing* listing, const Entry& entry);
  // An object that no node stands for.
  Status InsertNew(View& view, Listing* listing, const Entry& entry);
  // An object of a known node.
  Status UpdateKnown(View& view, Listing* listing, Inode* inode, const Entry& entry);
  // The account may write there now, or may not any more.
  Status MergeRights(View& view, Inode* inode, bool may_write);
  // A temporary object: removed when it is old and has not changed for a while, since the store's
  // clock may be wrong.
  Status NoteLeftover(View& view, NodeId folder, const Entry& entry);
  // The file that has this version moved to this place: its row moves, with all that is here of it.
  // False: it is another file.
  Result<bool> WasMovedRemotely(View& view, Inode* inode, NodeId folder, const Entry& entry);

  Facts& facts_;
  Contents& contents_;
  Provenance& provenance_;
  PlacementRules& placement_;
};

}  // namespace pargeter
