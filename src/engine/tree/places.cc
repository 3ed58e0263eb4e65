// Places of nodes at the store.
#include "engine/tree/places.h"

#include "engine/api/naming.h"

namespace pargeter {

std::string KeyPart(const Node& node) {
  return node.remote.place == RemotePlace::kEncoded ? node.remote.name : NameToKey(node.name);
}

std::string RemoteName(const Node& node) {
  return node.remote.place == RemotePlace::kSame || node.remote.place == RemotePlace::kNone
             ? NameToKey(node.name)
             : node.remote.name;
}

void SetRemote(Node* node, NodeId parent, const std::string& key) {
  if (node->parent == parent && NameToKey(node->name) == key) {
    node->remote.place = RemotePlace::kSame;
    node->remote.parent = kNoNode;
    node->remote.name.clear();
    return;
  }
  const bool spelled = node->parent == parent && node->kind != NodeKind::kFolder &&
                       node->name == BesideFolder(KeyToName(key));
  node->remote.place =
      spelled || (node->parent == parent && node->name == ShortenName(KeyToName(key)))
          ? RemotePlace::kEncoded
          : RemotePlace::kMoved;
  node->remote.parent = parent;
  node->remote.name = key;
}

void ForgetRemote(Node* node) {
  node->remote.place = RemotePlace::kNone;
  node->remote.parent = kNoNode;
  node->remote.name.clear();
  node->remote.version.clear();
}

void UnlinkLocally(Node* node) {
  if (node->remote.place == RemotePlace::kSame) {
    node->remote.parent = node->parent;
    node->remote.name = NameToKey(node->name);
  }
  if (node->remote.place != RemotePlace::kNone) node->remote.place = RemotePlace::kMoved;
  node->parent = kNoNode;
}

bool IsLocalOnly(const Node& node) {
  return node.effective == Placement::kLocal && !node.gone() &&
         node.remote.place == RemotePlace::kNone && node.upload_log.empty() &&
         node.attempt.parent == kNoNode;
}

bool ModeIsKnown(const Node& node) {
  return node.kind == NodeKind::kSymlink || node.attributes_known ||
         node.remote.place == RemotePlace::kNone || (node.dirty & kOwnMode) != 0;
}

}  // namespace pargeter
