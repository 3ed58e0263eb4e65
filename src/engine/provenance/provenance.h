// Whose is what stands at a place of the store, and what is known here better than an answer that
// was asked for earlier.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class Contents;

class Provenance : public Component {
 public:
  Provenance(Context* context, Contents* contents) : Component(context), contents_(*contents) {}

  static std::string PlaceThere(const Node& node);  // the same as in sent.h
  bool MayBeElsewhere(View& view, const Node& node, Steady asked);
  Result<bool> OnlyAttributesDiffer(const Node& node, const std::string& path, const Entry& there,
                                    const Call& call);
  Status AdoptVersion(View& view, Live* live, const Entry& there);
  static bool Goes(const Node& node);
  Result<bool> WasTriedBelow(View& view, NodeId folder);
  std::string OriginOf(NodeId id) const;
  NodeId WrittenBy(const std::string& origin) const;
  std::string WriterOf(const Node& node) const;
  // Whether what stands at `place` and says that it is of this node is what is known of it, or was
  // sent for it since. A power cut takes the memory of what was sent: of nodes that waited for
  // nothing then, only what was written down since is known.
  bool SignTells(const Node& node, const std::string& place) const;
  static std::string WithAnything(const Node& node);
  std::string AsideName(NodeId id) const;
  static bool IsAsideName(std::string_view name);  // of any machine
  // Without the lock. Is it what an upload of the node sent to `place` (sent.h), without an answer
  // that anybody heard? A store that does not tell the writer is asked for the bytes at `path`.
  Result<bool> WasSent(const Node& node, const std::string& place, const std::string& path,
                       const Entry& there, const Call& call);
  void ForgetLeft(View& view, const Node& left);
  Status LeaveThem(View& view, NodeId moved);  // what it has left is removed by nobody

  std::string own_id_;            // random, for as long as the state lives
  NodeId last_of_cut_ = kNoNode;  // nodes up to it were there before the last power cut
  UnderLock<std::unordered_map<NodeId, Steady>> acked_;  // changed by us, or told
  UnderLock<std::map<std::pair<NodeId, std::string>, Steady>> removed_;
  // Since when the store does not have what a request without an answer was to make.
  UnderLock<std::unordered_map<NodeId, Steady>> not_there_;
  // Since when it has what such a request, or another machine's, has made.
  UnderLock<std::unordered_map<NodeId, Steady>> copy_seen_;
  // Places that nodes have left at the store, some by a request that was called off.
  UnderLock<std::map<std::pair<NodeId, std::string>, Steady>> left_behind_;
  UnderLock<std::unordered_map<NodeId, Steady>> just_copied_;  // old places of moves
  // What a moved file has left at its old places, and is not gone from there yet.
  UnderLock<std::unordered_multimap<NodeId, NodeId>> left_by_;

 private:
  Contents& contents_;
};

}  // namespace pargeter
