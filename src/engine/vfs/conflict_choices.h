// Conflicts that nobody has settled yet, and their settling.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class Facts;
class Namespace;

class ConflictChoices : public Component {
 public:
  ConflictChoices(Context* context, Facts* facts, Namespace* names)
      : Component(context), facts_(*facts), names_(*names) {}

  // Copies kept beside another side's version that nobody has settled: path here, node.
  Result<std::vector<std::pair<std::string, Node>>> Conflicts();
  Status SettleConflict(const std::string& path, ConflictChoice keep);

 private:
  Result<Node> ConflictAt(const std::string& path);
  Status DropKept(const Node& kept);
  Status TakesName(const Node& kept);

  Facts& facts_;
  Namespace& names_;
};

}  // namespace pargeter
