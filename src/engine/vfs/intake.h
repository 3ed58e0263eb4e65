// Whole files that come into the drive in one step each: for a face whose files are its own
// (face/mirror), and which sees only the results of what programs do.
#pragma once

#include <string>

#include "engine/context/context.h"

namespace pargeter {

class Contents;
class Facts;
class Files;
class Namespace;

class Intake : public Component {
 public:
  Intake(Context* context, Facts* facts, Contents* contents, Namespace* names, Files* files)
      : Component(context), facts_(*facts), contents_(*contents), names_(*names), files_(*files) {}

  // The staged file, which is moved away, becomes the content of the node. Returns the generation
  // of the node that has it. kStale: the node has another generation than `known`, or is gone; the
  // staged file stays. After a crash the node has either content, or none that is sent.
  Result<std::uint64_t> Replace(NodeId id, std::uint64_t known, const StagedFile& staged);
  // As a new file; `conflicts_with`: the name of the file that it is kept beside, or "". kExists:
  // the name is taken.
  Result<NodeState> Create(NodeId parent, const std::string& name, const StagedFile& staged,
                           const std::string& conflicts_with);
  // A free name for a copy of that file kept beside it.
  Result<std::string> ConflictName(NodeId parent, const std::string& name);
  Result<std::optional<bool>> CompareWithVersion(NodeId id, int fd);

 private:
  Result<std::uint64_t> Adopt(const OpenFilePtr& file, const StagedFile& staged);

  Facts& facts_;
  Contents& contents_;
  Namespace& names_;
  Files& files_;
};

}  // namespace pargeter
