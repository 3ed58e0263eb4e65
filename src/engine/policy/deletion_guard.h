// Which deletions may leave: very many at once are held back until a person decides.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class Contents;
class Facts;

class DeletionGuard : public Component {
 public:
  DeletionGuard(Context* context, Facts* facts, Contents* contents)
      : Component(context), facts_(*facts), contents_(*contents) {}

  // Deletions that were held back, since they were so many: let go, or brought back.
  Status ReleaseDeletions();
  // Files that are back. kBusy: the store is just being asked about one of them.
  Result<std::uint64_t> DropDeletions();
  // The node's content, and so its time, is the store's again; the time is not known here and is
  // asked for.
  static void AskForTime(Node* node);
  // Before a deletion is queued. Too many within a minute: this one and later ones are held.
  Status Count(View& view, const Node& node);
  // The deletion may not be sent.
  bool IsHeld(View& view, const Node& node);
  // How long the next deletion waits, so that all of one sweep are counted before any is sent.
  std::vector<Node> HeldDeletions(View& view);
  Duration WaitBeforeSending(View& view);
  // The folder is in a deleted one to whose place another folder is moving: a part of that may have
  // arrived, and would come back with the deleted files.
  Result<bool> FolderComesOver(View& view, NodeId folder);
  // The deleted node shows again here.
  Status BringBack(View& view, Node node);

  UnderLock<std::int64_t> hold_from_{0};  // deletions from this sequence on; 0: none

 private:
  Result<std::vector<Node>> WithFoldersAbove(View& view, std::vector<Node> held);
  Result<bool> FolderComesTo(View& view, const Node& held);

  Facts& facts_;
  Contents& contents_;
  UnderLock<std::deque<std::pair<Steady, std::int64_t>>>
      deletions_;  // when, and their place in the queue
};

}  // namespace pargeter
