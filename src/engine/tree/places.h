// Where the store has a node, or is to have it: facts of one row. The place *here* is (parent,
// name); the place *there* is the same, another, one with a special spelling, or none (index.h).
#pragma once

#include <string>

#include "index/index.h"

namespace pargeter {

// The last part of a node's key: where it is to be, and where it is.
std::string KeyPart(const Node& node);
std::string RemoteName(const Node& node);

// The store has the node at `key` in the folder `parent`.
void SetRemote(Node* node, NodeId parent, const std::string& key);
// The store does not have it, and what was known of its version there is forgotten.
void ForgetRemote(Node* node);
// The node goes from the tree here; the store has it where it had it.
void UnlinkLocally(Node* node);

// Mode, or that there is none to know.
bool ModeIsKnown(const Node& node);

// The store never had it, not even perhaps, and is not to get it: nothing has to be done there.
bool IsLocalOnly(const Node& node);

}  // namespace pargeter
