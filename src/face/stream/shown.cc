#include "face/stream/shown.h"

#include <unistd.h>

#include "base/clock.h"

namespace pargeter {

Shown::Shown(Drive* alone) : several_(false), since_(SystemClock().Wall()) { drives_[0] = alone; }
Shown::Shown() : several_(true), since_(SystemClock().Wall()) {}

Place Shown::At(InodeNumber inode) const {
  const InodeNumber slot = inode >> kSlotShift;
  if (slot > kMostDrives) return {};
  return {drives_[slot].load(std::memory_order_acquire),
          static_cast<NodeId>(inode & ((InodeNumber{1} << kSlotShift) - 1)), slot << kSlotShift};
}

Result<InodeNumber> Shown::Add(const std::string& name, Drive* drive) {
  const Lock lock(mutex_);
  if (entries_.size() >= kMostDrives)
    return Error(Code::kNoSpace, "one mount cannot show more than 1000 drives");
  entries_.push_back({name, true});
  drives_[entries_.size()].store(drive, std::memory_order_release);
  return static_cast<InodeNumber>(entries_.size()) << kSlotShift;
}

void Shown::SetVisible(InodeNumber base, bool visible) {
  const Lock lock(mutex_);
  entries_.at((base >> kSlotShift) - 1).visible = visible;
}

Shown::Folder Shown::FolderAt(std::size_t slot) const {
  const InodeNumber base = static_cast<InodeNumber>(slot) << kSlotShift;
  return {entries_[slot - 1].name, {drives_[slot], kRootId, base}};
}

std::optional<Shown::Folder> Shown::Find(const std::string& name) const {
  const Lock lock(mutex_);
  for (std::size_t slot = 1; slot <= entries_.size(); ++slot)
    if (entries_[slot - 1].visible && entries_[slot - 1].name == name) return FolderAt(slot);
  return std::nullopt;
}

std::vector<Shown::Folder> Shown::After(std::uint64_t slot) const {
  const Lock lock(mutex_);
  std::vector<Folder> out;
  for (std::size_t next = slot + 1; next <= entries_.size(); ++next)
    if (entries_[next - 1].visible) out.push_back(FolderAt(next));
  return out;
}

Attr Shown::TopAttr() const {
  Attr top;
  top.id = kRootId;
  top.kind = NodeKind::kFolder;
  top.mode = 0555;
  top.uid = ::geteuid();
  top.gid = ::getegid();
  top.mtime = top.ctime = since_;
  return top;
}

}  // namespace pargeter
