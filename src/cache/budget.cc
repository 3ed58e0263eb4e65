#include "cache/budget.h"

#include <fmt/format.h>
#include <sys/statvfs.h>

#include <algorithm>

#include "base/units.h"

namespace pargeter {
namespace {
constexpr std::uint64_t kLookEvery = 16 * kMiB;
}

Budget::Budget(Limits limits, std::string folder, Disk* disk)
    : folder_(std::move(folder)), disk_(disk), limits_(limits) {}

std::uint64_t Budget::Keep() const {
  struct statvfs info {};
  if (::statvfs(folder_.c_str(), &info) != 0) return 0;
  return static_cast<std::uint64_t>(limits_.keep_free * static_cast<double>(info.f_blocks) *
                                    static_cast<double>(info.f_frsize));
}

std::uint64_t Budget::DiskRoom() {
  if (until_look_ == 0) {
    const auto free = disk_->FreeBytes(folder_);
    const std::uint64_t keep = Keep();
    room_ = free.ok() && *free > keep ? *free - keep : 0;
    until_look_ = kLookEvery;
  }
  return room_;
}

std::uint64_t Budget::Reserve(std::uint64_t bytes) {
  const Lock lock(mutex_);
  const std::uint64_t room = DiskRoom();
  const std::uint64_t over_limit =
      used_ + bytes > limits_.bytes ? used_ + bytes - limits_.bytes : 0;
  const std::uint64_t over_disk = bytes > room ? bytes - room : 0;
  const std::uint64_t over = std::max(over_limit, over_disk);
  if (over > 0) {
    until_look_ = 0;  // something will be freed: look again
    return over;
  }
  used_ += bytes;
  room_ -= bytes;
  until_look_ -= std::min(until_look_, bytes);
  return 0;
}

Status Budget::ReserveForWriting(std::uint64_t bytes) {
  const Lock lock(mutex_);
  if (bytes > DiskRoom()) {
    until_look_ = 0;
    if (bytes > DiskRoom()) {
      return Error(
          Code::kNoSpace,
          fmt::format("the disk of {} has no room for {} more (keeping {:.0f} % of it free)",
                      folder_, FormatSize(bytes), limits_.keep_free * 100),
          "Free space on that disk, or move the cache with: pargeter drive change --cache-at");
    }
  }
  used_ += bytes;
  room_ -= bytes;
  until_look_ -= std::min(until_look_, bytes);
  return {};
}

void Budget::Release(std::uint64_t bytes) {
  const Lock lock(mutex_);
  used_ -= std::min(used_, bytes);
  until_look_ = 0;
}

std::uint64_t Budget::Short() {
  const Lock lock(mutex_);
  const auto free = disk_->FreeBytes(folder_);
  const std::uint64_t keep = Keep();
  return free.ok() && *free < keep ? keep - *free : 0;
}

std::uint64_t Budget::Room() {
  const Lock lock(mutex_);
  until_look_ = 0;
  return DiskRoom();
}

std::uint64_t Budget::Used() const {
  const Lock lock(mutex_);
  return used_;
}
Budget::Limits Budget::limits() const {
  const Lock lock(mutex_);
  return limits_;
}
void Budget::SetLimits(Limits limits) {
  const Lock lock(mutex_);
  limits_ = limits;
  until_look_ = 0;
}

}  // namespace pargeter
