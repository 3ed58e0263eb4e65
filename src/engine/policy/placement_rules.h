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
  Status SetPattern(const std::string& pattern, Placement placement);
  Result<std::vector<PlacedRule>> Rules();
  const Rule* PatternFor(View& view, const std::string& name) const;
  Status Inherit(View& view, Node* node);
  Status Reconsider(View& view, NodeId id, bool everything);
  Status CheckPinsFit(View& view, const Node& node);
  Status CheckMayBeLocal(View& view, const Node& node);
  Status TakeSharedRules(const std::string& version);
  Status Publish(const std::vector<Rule>& fresh);
  Status FollowMoves();
  Status LoadRules(View& view);  // once, from the index

 private:
  Status TurnInto(View& view, Node* node, Placement now);
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
