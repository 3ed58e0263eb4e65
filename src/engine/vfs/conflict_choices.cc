// ConflictChoices: who decides which side stays.
#include "engine/vfs/conflict_choices.h"

#include <fmt/format.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <ctime>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"
#include "engine/provenance/sent.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

// `path` names the kept copy, or the file that it stands beside.
Result<Node> ConflictChoices::ConflictAt(const std::string& path) {
  PG_ASSIGN(const auto all, Conflicts());
  std::vector<const Node*> beside;  // what that is need not be known here yet
  for (const auto& [where, kept] : all) {
    if (where == path) return kept;
    if (where.substr(0, where.rfind('/') + 1) + kept.conflict_copy.original_name == path)
      beside.push_back(&kept);
  }
  if (beside.size() == 1) return *beside[0];
  if (beside.empty()) {
    PG_TRY(facts_.NodeAt(path));
    return Error(Code::kNotFound, fmt::format("{} has no conflict that waits", Printable(path)),
                 "See: pargeter conflicts");
  }
  return Error(Code::kInvalid,
               fmt::format("{} copies are kept beside {}", beside.size(), Printable(path)),
               "Name one of the copies; pargeter conflicts lists them.");
}

Status ConflictChoices::DropKept(const Node& kept) {
  if (kept.kind != NodeKind::kFolder) return names_.Unlink(kept.parent, kept.name);
  const Status gone = names_.RemoveFolder(kept.parent, kept.name);
  if (gone.ok() || gone.error().code != Code::kNotEmpty) return gone;
  return Error(Code::kNotEmpty,
               fmt::format("the folder {} still holds something", Printable(kept.name)),
               "Take out what is wanted and delete the rest, or keep --both.");
}

Status ConflictChoices::TakesName(const Node& kept) {
  const auto theirs = names_.Lookup(kept.parent, kept.conflict_copy.original_name);
  if (!theirs.ok() && theirs.error().code != Code::kNotFound) return theirs.error();
  if (theirs.ok()) names_.Forget(theirs->id, 1);
  const bool folder = theirs.ok() && theirs->kind == NodeKind::kFolder;
  const bool file = theirs.ok() && !folder;
  if (folder && kept.kind != NodeKind::kFolder)
    return Error(Code::kIsFolder,
                 fmt::format("{} is a folder, which is not deleted for a file",
                             Printable(kept.conflict_copy.original_name)),
                 "Move or delete that folder first, or give the copy kept another name, with mv.");
  if (file && kept.kind == NodeKind::kFolder)
    PG_TRY(names_.Unlink(kept.parent, kept.conflict_copy.original_name));
  return names_.Rename(kept.parent, kept.name, kept.parent, kept.conflict_copy.original_name,
                       ReplaceTarget::kYes);
}

Status ConflictChoices::SettleConflict(const std::string& path, ConflictChoice keep) {
  PG_TRY(facts_.CheckWritable());
  PG_ASSIGN(const Node kept, ConflictAt(path));
  if (keep == ConflictChoice::kHere && kept.conflict_copy.original_name.empty()) {
    return Error(Code::kInvalid, "it is not known which name this copy had",
                 "Rename the copy to the wanted name with mv.");
  }
  if (keep != ConflictChoice::kBoth) {
    PG_TRY(keep == ConflictChoice::kThere ? DropKept(kept) : TakesName(kept));
    // (it was not asked for through the face)
    events_.Publish(Event::NameChanged(kept.parent, kept.name));
    if (keep == ConflictChoice::kHere)
      events_.Publish(Event::NameChanged(kept.parent, kept.conflict_copy.original_name));
    return {};
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(kept.id));
  inode->node.conflict_copy = {};
  return view.Save(inode);
}

Result<std::vector<std::pair<std::string, Node>>> ConflictChoices::Conflicts() {
  std::vector<Node> rows;
  {
    View view(&tree_);
    PG_ASSIGN(rows, view.index().Conflicts());
  }
  std::vector<std::pair<std::string, Node>> out;
  for (Node& row : rows) {
    PG_ASSIGN(std::string path, facts_.PathOf(row.id));
    out.emplace_back(std::move(path), std::move(row));
  }
  return out;
}

}  // namespace pargeter
