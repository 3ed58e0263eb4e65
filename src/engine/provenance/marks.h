// What a row says of requests whose outcome is not known, and of what moves have left.
#pragma once

#include "index/index.h"
#include "provider/provider.h"

namespace pargeter {

// Of what stays at the old place of a file that was copied to its new one (`target`: who moved),
// until it is removed there: true.
inline bool IsLeftBehind(const Node& node) {
  return node.gone() && node.name.empty() && node.kind != NodeKind::kFolder && !node.target.empty();
}

// In place of who moved (Node::target): nobody's old place any more.
constexpr const char* kStays = "-";

// A step of ours was to move it, and what came of that is not known: the step is made again, and
// finds out; or, if it is where it was again here, that is taken back.
inline bool MoveWasTried(const Node& node) {
  return node.there != There::kAbsent && node.tried_parent != kNoNode;
}

// It may have moved whole, in one request.
inline bool MayHaveMoved(const Capabilities& can, const Node& node) {
  const bool in_one = node.kind == NodeKind::kFolder ? can.moves_folders : can.moves_files;
  return in_one && MoveWasTried(node);
}

// A file that only moves: its step finds out by itself what became of it at its old place. Others
// may have moved it to where it was to go, and what stands there is not an attempt of ours then.
inline bool StepFindsOut(const Node& node) {
  return node.kind != NodeKind::kFolder && MoveWasTried(node) && node.intent != 0 &&
         (node.dirty & kData) == 0;
}

}  // namespace pargeter
