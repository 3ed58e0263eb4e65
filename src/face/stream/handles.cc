#include "face/stream/handles.h"

namespace pargeter {

std::uint64_t OpenHandles::Add(Drive* drive, OpenFilePtr file) {
  auto open = std::make_unique<Open>(Open{drive, std::move(file)});
  const auto handle = reinterpret_cast<std::uint64_t>(open.get());
  const Lock lock(mutex_);
  all_.emplace(handle, std::move(open));
  return handle;
}

const OpenFilePtr& OpenHandles::FileOf(std::uint64_t handle) {
  return reinterpret_cast<const Open*>(handle)->file;
}

void OpenHandles::Release(std::uint64_t handle) {
  std::unique_ptr<Open> open;
  {
    const Lock lock(mutex_);
    const auto it = all_.find(handle);
    if (it == all_.end()) return;
    open = std::move(it->second);
    all_.erase(it);
  }
  open->drive->Release(open->file);
}

void OpenHandles::ReleaseAll() {
  std::unordered_map<std::uint64_t, std::unique_ptr<Open>> left;
  {
    const Lock lock(mutex_);
    left.swap(all_);
  }
  for (const auto& [handle, open] : left) open->drive->Release(open->file);
}

}  // namespace pargeter
