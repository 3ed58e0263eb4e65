// What any component asks of a drive: may it be changed, what are a node's attributes and path,
// which names are free for copies that are kept.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

// A full cache, or a store that is away, is not met again for each file.
inline bool MeetsAll(const Error& error) {
  return error.code == Code::kNoSpace || error.code == Code::kUnavailable ||
         error.code == Code::kCancelled;
}

class Facts : public Component {
 public:
  explicit Facts(Context* context) : Component(context) {}

  Result<Node> NodeAt(const std::string& path);  // relative to the drive, "" = its root; index only
  Result<std::string> PathOf(NodeId id);
  // kReadOnly, unless the drive may be written.
  Status CheckWritable() const;
  Status CheckRole(View& view, const Node& node);  // may the account change it there?
  // kIo: the drive's state was deleted under it, and nothing new can be kept.
  Status CheckState(View& view);
  // kInvalid or kTooLong: no file here may have that name.
  Status CheckNewName(const std::string& name) const;
  // The store keeps the folder when nothing is in it any more: a marker is queued.
  Status KeepFolder(View& view, NodeId id);
  // The folder at that path in the remote tree; kNoNode: not known.
  Result<NodeId> FolderThere(View& view, const std::string& path);
  // The node with that key in a folder of the remote tree.
  Result<std::optional<Node>> NodeThere(View& view, NodeId folder, const std::string& key,
                                        bool is_folder);
  // Calls `each` for every node below, folders before their children, a few at a time under the
  // lock. `enter`: go into that folder?
  Status Walk(NodeId id, const std::function<Result<bool>(View&, const Node&)>& enter,
              const std::function<void(View&, const Node&)>& each);
  // Calls `each` by a few threads. Ends at the first error that meets all (MeetsAll), and returns
  // it.
  static Status ParallelForEach(const std::vector<NodeId>& ids,
                                const std::function<Status(NodeId)>& each);
  // Finds out the capabilities of the store (Provider::Probe): from the index, or by requests.
  Status EnsureProbed(const Call& call);
  // A free name for a conflict copy: "NAME (kept from HOST TIME).EXT".
  Result<std::string> ConflictCopyName(View& view, NodeId parent, const std::string& name);
  // Local time, for the names of conflict copies.
  std::string Stamp() const;
  // Attributes as programs see them, with the drive's defaults for what is not known.
  Attr AttrOf(const Inode& inode);

  UnderLock<std::int64_t> names_synced_{0};  // changes up to it were promised by a folder's fsync

 private:
  std::uint32_t ModeFor(const Node& node) const;

  UnderLock<ino_t> index_inode_{0};
};

}  // namespace pargeter
