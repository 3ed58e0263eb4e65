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
  static void AskForTime(Node* node);
  Status CountDeletion(View& view, const Node& node);
  bool IsHeld(View& view, const Node& node);
  std::vector<Node> HeldDeletions(View& view);  // files and folders, in order
  Duration UntilCounted(View& view);
  Result<bool> FolderComesOver(View& view, NodeId folder);
  Status BringBack(View& view, Node node);

  UnderLock<std::int64_t> hold_from_{0};  // this intent and later; 0: none are held

 private:
  Result<std::vector<Node>> WithFoldersAbove(View& view, std::vector<Node> held);
  Result<bool> FolderComesTo(View& view, const Node& held);

  Facts& facts_;
  Contents& contents_;
  UnderLock<std::deque<std::pair<Steady, std::int64_t>>> deletions_;  // when, intent
};

}  // namespace pargeter
