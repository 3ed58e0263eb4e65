// Whose is what stands at a place of the store, and what is known here better than an answer that
// was asked for earlier.
#pragma once

#include "engine/context/context.h"
#include "engine/provenance/recent_changes.h"

namespace pargeter {

class Contents;

class Provenance : public Component {
 public:
  Provenance(Context* context, Contents* contents) : Component(context), contents_(*contents) {}

  static std::string RemotePlaceId(const Node& node);  // the same as in sent.h
  bool AbsenceIsInconclusive(View& view, const Node& node, Steady asked);
  Result<bool> OnlyAttributesDiffer(const Node& node, const std::string& path, const Entry& there,
                                    const Call& call);
  Status AdoptVersion(View& view, Inode* inode, const Entry& there);
  static bool NeedsRemotePlace(const Node& node);
  Result<bool> HasAttemptBelow(View& view, NodeId folder);
  std::string OriginOf(NodeId id) const;
  NodeId WrittenBy(const std::string& origin) const;
  std::string WriterOf(const Node& node) const;
  // Whether what stands at `place` and says that it is of this node is what is known of it, or was
  // sent for it since. A power cut takes the memory of what was sent: of nodes that waited for
  // nothing then, only what was written down since is known.
  bool OriginIsConclusive(const Node& node, const std::string& place) const;
  static UploadLog TrustOriginEverywhere(const Node& node);
  std::string TempName(NodeId id) const;
  static bool IsTempName(std::string_view name);  // of any machine
  // Without the lock. Is it what an upload of the node sent to `place` (sent.h), without an answer
  // that anybody heard? A store that does not tell the writer is asked for the bytes at `path`.
  Result<bool> WasSent(const Node& node, const std::string& place, const std::string& path,
                       const Entry& there, const Call& call);
  void ForgetTombstone(View& view, const Node& left);
  Status DisownTombstones(View& view, NodeId moved);  // what it has left is removed by nobody

  RecentChanges& recent(const View& view) { return recent_(view); }
  // At opening, before any thread is begun: the drive's id, and the highest node that existed at
  // the last power cut.
  void SetOwnId(const std::string& id) { own_id_ = id; }
  void SetLastIdBeforeCut(NodeId id) { last_id_before_cut_ = id; }
  const std::string& own_id() const { return own_id_; }

 private:
  Contents& contents_;
  UnderLock<RecentChanges> recent_{RecentChanges(options_.clock)};
  std::string own_id_;  // random, for as long as the state lives
  NodeId last_id_before_cut_ = kNoNode;
};

}  // namespace pargeter
