// What a row says of requests whose outcome is not known, and of what moves have left.
#pragma once

#include "index/index.h"
#include "provider/provider.h"

namespace pargeter {

// The row of the object at the old place of a moved file (`target`: the origin of that file), until
// the object is removed.
inline bool IsTombstone(const Node& node) {
  return node.gone() && node.name.empty() && node.kind != NodeKind::kFolder && !node.target.empty();
}

// Node::target of a tombstone whose file is not known any more.
constexpr const char* kDisowned = "-";

// A request was to move the node, and its outcome is not known: the step is made again, or rolled
// back if the node has its former name again.
inline bool HasMoveAttempt(const Node& node) {
  return node.remote.place != RemotePlace::kNone && node.attempt.parent != kNoNode;
}

// Such a request moves the node with everything below it.
inline bool MayHaveMovedInOneRequest(const Capabilities& can, const Node& node) {
  const bool in_one = node.kind == NodeKind::kFolder ? can.moves_folders : can.moves_files;
  return in_one && HasMoveAttempt(node);
}

// A file that only moves: its step finds out by itself what became of it at its old place. Others
// may have moved it to where it was to go, and what stands there is not an attempt of ours then.
inline bool StepWillResolve(const Node& node) {
  return node.kind != NodeKind::kFolder && HasMoveAttempt(node) && node.pending.seq != 0 &&
         (node.dirty & kData) == 0;
}

}  // namespace pargeter
