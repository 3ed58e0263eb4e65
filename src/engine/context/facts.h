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
  Status CheckWritable() const;
  Status CheckRole(View& view, const Node& node);  // may the account change it there?
  Status CheckState(View& view);
  Status CheckNewName(const std::string& name) const;
  Status KeepFolder(View& view, NodeId id);
  Result<NodeId> FolderThere(View& view, const std::string& path);
  Result<std::optional<Node>> NodeThere(View& view, NodeId folder, const std::string& key,
                                        bool is_folder);
  Status Walk(NodeId id, const std::function<Result<bool>(View&, const Node&)>& enter,
              const std::function<void(View&, const Node&)>& each);
  static Status ForMany(const std::vector<NodeId>& ids, const std::function<Status(NodeId)>& each);
  Status EnsureProbed(const Call& call);
  Result<std::string> NameBeside(View& view, NodeId parent, const std::string& name);
  std::string Stamp() const;
  Attr AttrOf(const Live& live);

  UnderLock<std::int64_t> names_synced_{0};  // intents promised by a folder's fsync

 private:
  std::uint32_t ModeFor(const Node& node) const;

  UnderLock<ino_t> index_inode_{0};
};

}  // namespace pargeter
