// What a file does on this disk: rules of nodes, patterns, and rules for every machine.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class Contents;
class Facts;

class PlacementRules : public Component {
 public:
  PlacementRules(Context* context, Facts* facts, Contents* contents)
      : Component(context), facts_(*facts), contents_(*contents) {}

  // For every machine: asks the store. `key` is a path relative to the drive, or a pattern.
  Status PlaceEverywhere(const std::string& key, bool is_pattern, Placement placement);
  // For names that match, on this machine. kNone takes the rule away.
  Status SetPattern(const std::string& pattern, Placement placement);
  // All rules that are in force, also those for names that are not known here.
  Result<std::vector<PlacedRule>> Rules();
  // The rule by pattern for a name; null: none.
  const Rule* PatternFor(View& view, const std::string& name) const;
  // Sets the node's effective placement: its own, a pattern's, or the folder's.
  Status Inherit(View& view, Node* node);
  // After a rule has changed: for the node and all below; `everything`: patterns too.
  Status PropagatePlacement(View& view, NodeId id, bool everything);
  // kNoSpace: the cache cannot hold all that would be pinned.
  Status CheckPinsFit(View& view, const Node& node);
  // kRefused: it cannot be taken from the store just now.
  Status CheckMayBeLocal(View& view, const Node& node);
  // Loads the rules for all machines, if they are of another version.
  Status TakeSharedRules(const std::string& version);
  // Merges rules into the object that all machines read, with If-Match, again on conflict.
  Status Publish(const std::vector<Rule>& fresh);
  // Rules for paths follow the nodes that they are bound to.
  Status FollowMoves();
  Status LoadRules(View& view);  // once, from the index

 private:
  Status ApplyEffective(View& view, Node* node, Placement now);
  Result<std::pair<std::vector<Rule>, std::string>> LoadSharedRules();
  Status ApplySharedRules(const std::vector<Rule>& rules, const std::string& version);
  Status PlaceShared(View& view, const Rule& rule);
  Placement PlacementOf(View& view, const Node& node, Placement above) const;

  Facts& facts_;
  Contents& contents_;
  UnderLock<std::vector<Rule>> rules_;
  UnderLock<bool> awaited_rules_{false};  // some are for names not known here
};

}  // namespace pargeter
