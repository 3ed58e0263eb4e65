#include "face/mirror/plan.h"

#include <algorithm>
#include <map>
#include <set>

namespace pargeter {

namespace {

DiskKind DiskKindOf(NodeKind kind) {
  return kind == NodeKind::kFolder    ? DiskKind::kFolder
         : kind == NodeKind::kSymlink ? DiskKind::kSymlink
                                      : DiskKind::kFile;
}

// A new mode or a new link sets ctime, and leaves the bytes.
bool HasNewBytes(const DiskEntry& disk, const Record& record) {
  if (disk.print.kind == DiskKind::kFolder) return false;
  if (disk.print.kind == DiskKind::kSymlink) return disk.target != record.target;
  if (!disk.print.HasSameTimes(record.print)) return true;
  return disk.print.ctime != record.print.ctime && disk.print.mode == record.print.mode &&
         disk.print.links == record.print.links;
}

bool HasNewContent(const HereNode& node, const Record& record) {
  if (node.kind == NodeKind::kFolder) return false;
  if (node.kind == NodeKind::kSymlink) return node.target != record.target;
  return node.generation != record.generation && !node.ours;
}

class Planner {
 public:
  Planner(const FolderViews& views, OtherFolders* others) : folder_(views.id), others_(*others) {
    for (const DiskEntry& one : views.disk) disk_[one.name] = &one;
    for (const Record& one : views.records) records_[one.name] = &one;
    for (const HereNode& one : views.here)
      if (!one.hidden) here_[one.name] = &one;
  }

  std::vector<Step> Plan() {
    std::set<std::string> names;
    for (const auto& [name, one] : disk_) names.insert(name);
    for (const auto& [name, one] : records_) names.insert(name);
    for (const auto& [name, one] : here_) names.insert(name);
    for (const std::string& name : names) PlanName(name);
    std::stable_sort(steps_.begin(), steps_.end(),
                     [](const Step& a, const Step& b) { return a.kind < b.kind; });
    return std::move(steps_);
  }

 private:
  template <typename Map>
  static auto At(const Map& map, const std::string& name) {
    const auto it = map.find(name);
    return it == map.end() ? nullptr : it->second;
  }
  void Add(StepKind kind, const std::string& name, NodeId id = kNoNode) {
    steps_.push_back({kind, id, name, {}, {}, {}});
    Step& step = steps_.back();
    if (const DiskEntry* disk = At(disk_, name)) step.disk = *disk;
    if (const Record* record = At(records_, name)) step.record = *record;
  }
  void Add(StepKind kind, const std::string& name, const HereNode& here) {
    Add(kind, name, here.id);
    steps_.back().here = here;
  }

  void PlanName(const std::string& name) {
    const DiskEntry* disk = At(disk_, name);
    const Record* record = At(records_, name);
    const HereNode* here = At(here_, name);
    if (disk != nullptr && disk->print.kind == DiskKind::kOther) {
      // Nothing is known of what lies below or behind it: nothing of it was deleted.
      return Add(StepKind::kLeaveOut, name);
    }
    if (record != nullptr)
      PlanRecorded(name, disk, *record);
    else if (disk != nullptr && here != nullptr)
      PlanBothNew(name, *disk, *here);
    else if (disk != nullptr)
      PlanNewOnDisk(name, *disk);
    else if (here != nullptr)
      PlanNewHere(name, *here);
  }

  // A move of a node that the engine has moved, too, is no matter of this folder alone: the node's
  // place counts, and the file follows it.
  bool PlanMoveHere(const std::string& name, const DiskEntry& disk, NodeId but) {
    const std::optional<Record> from = others_.MovedFrom(disk.print);
    if (!from || from->id == but) return false;
    const std::optional<HereNode> node = others_.NodeOf(from->id);
    if (!node && disk.print.HasSameTimes(from->print)) {  // deleted there, and only moved here
      Add(StepKind::kTakeOut, name, from->id);
      steps_.back().record = from;
      return true;
    }
    if (!node || node->parent != from->parent || node->name != from->name) return false;
    Add(StepKind::kMoveHere, name, *node);
    steps_.back().record = from;
    return true;
  }

  void PlanNewOnDisk(const std::string& name, const DiskEntry& disk) {
    if (PlanMoveHere(name, disk, kNoNode)) return;
    Add(disk.print.kind == DiskKind::kFolder ? StepKind::kMakeFolderHere : StepKind::kCreateHere,
        name);
  }

  void PlanNewHere(const std::string& name, const HereNode& here) {
    if (others_.HasRecord(here.id))
      Add(StepKind::kMoveOnDisk, name, here);
    else
      Add(here.kind == NodeKind::kFolder ? StepKind::kMakeFolderOnDisk : StepKind::kFetch, name,
          here);
  }

  void PlanBothNew(const std::string& name, const DiskEntry& disk, const HereNode& here) {
    if (others_.HasRecord(here.id) || disk.print.kind != DiskKindOf(here.kind))
      Add(StepKind::kKeepBeside, name, here);
    else
      Add(StepKind::kCompare, name, here);
  }

  void PlanRecorded(const std::string& name, const DiskEntry* disk, const Record& record) {
    std::optional<HereNode> node = others_.NodeOf(record.id);
    if (node && node->hidden) node.reset();
    const bool in_place = node && node->parent == folder_ && node->name == name;
    if (disk != nullptr && !disk->print.IsSameFile(record.print) &&
        PlanMoveHere(name, *disk, record.id))
      return;
    if (disk == nullptr || disk->print.kind != record.print.kind) {
      const bool wanted = node && in_place && !HasNewContent(*node, record);
      if (wanted)
        Add(StepKind::kRemoveHere, name, *node);
      else
        Add(StepKind::kForget, name, record.id);
      return;
    }
    const bool new_bytes = HasNewBytes(*disk, record);
    if (!node) return Add(new_bytes ? StepKind::kForget : StepKind::kTakeOut, name, record.id);
    if (!in_place) return Add(StepKind::kMoveOnDisk, node->name, *node);
    const bool new_content = HasNewContent(*node, record);
    if (new_bytes && new_content) return Add(StepKind::kCompare, name, *node);
    if (new_bytes) return Add(StepKind::kReplaceHere, name, *node);
    if (new_content) return Add(StepKind::kFetch, name, *node);
    if (disk->print.kind == DiskKind::kSymlink) return;
    if (disk->print.mode != record.print.mode)
      Add(StepKind::kSetHere, name, *node);
    else if (node->mode && *node->mode != record.print.mode)
      Add(StepKind::kSetOnDisk, name, *node);
    else if (disk->print.ctime != record.print.ctime && disk->print.kind == DiskKind::kFile)
      Add(StepKind::kSetHere, name, *node);  // a link: only the record is behind
  }

  const NodeId folder_;
  OtherFolders& others_;
  std::map<std::string, const DiskEntry*> disk_;
  std::map<std::string, const Record*> records_;
  std::map<std::string, const HereNode*> here_;
  std::vector<Step> steps_;
};

}  // namespace

std::vector<Step> PlanFolder(const FolderViews& views, OtherFolders* others) {
  return Planner(views, others).Plan();
}

}  // namespace pargeter
