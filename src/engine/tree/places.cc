// Places of nodes at the store.
#include "engine/tree/places.h"

#include "engine/api/naming.h"

namespace pargeter {

std::string KeyPart(const Node& node) {
  return node.there == There::kSpelled ? node.there_name : NameToKey(node.name);
}

std::string ThereName(const Node& node) {
  return node.there == There::kSame || node.there == There::kAbsent ? NameToKey(node.name)
                                                                    : node.there_name;
}

void SetThere(Node* node, NodeId parent, const std::string& key) {
  if (node->parent == parent && NameToKey(node->name) == key) {
    node->there = There::kSame;
    node->there_parent = kNoNode;
    node->there_name.clear();
    return;
  }
  const bool spelled = node->parent == parent && node->kind != NodeKind::kFolder &&
                       node->name == BesideFolder(KeyToName(key));
  node->there = spelled || (node->parent == parent && node->name == ShortenName(KeyToName(key)))
                    ? There::kSpelled
                    : There::kElsewhere;
  node->there_parent = parent;
  node->there_name = key;
}

void ForgetThere(Node* node) {
  node->there = There::kAbsent;
  node->there_parent = kNoNode;
  node->there_name.clear();
  node->version.clear();
}

void TakeOut(Node* node) {
  if (node->there == There::kSame) {
    node->there_parent = node->parent;
    node->there_name = NameToKey(node->name);
  }
  if (node->there != There::kAbsent) node->there = There::kElsewhere;
  node->parent = kNoNode;
}

bool MayStay(const Node& node) {
  return node.effective == Placement::kLocal && !node.gone() && node.there == There::kAbsent &&
         node.upload.empty() && node.tried_parent == kNoNode;
}

bool ModeIsKnown(const Node& node) {
  return node.kind == NodeKind::kSymlink || node.attributes_known || node.there == There::kAbsent ||
         (node.dirty & kOwnMode) != 0;
}

}  // namespace pargeter
