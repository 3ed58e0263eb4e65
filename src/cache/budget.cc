#include "cache/budget.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"

namespace pargeter {
namespace {
constexpr std::uint64_t kLookEvery = 16 * kMiB;
constexpr std::uint64_t kForIndex = 32 * kMiB;  // or an eighth of a small disk

bool OnOneDisk(const std::string& a, const std::string& b) {
  struct stat at_a {
  }, at_b{};
  return ::stat(a.c_str(), &at_a) == 0 && ::stat(b.c_str(), &at_b) == 0 &&
         at_a.st_dev == at_b.st_dev;
}
}  // namespace

Budget::Budget(Limits limits, const std::string& cache, const std::string& pending, Disk* disk)
    : disk_(disk),
      limits_(limits),
      cache_{cache},
      other_{pending},
      pending_(OnOneDisk(cache, pending) ? &cache_ : &other_) {
  pending_->has_index = true;
}

std::uint64_t Budget::Keep(const DiskRoom& disk) const {
  struct statvfs info {};
  if (::statvfs(disk.folder.c_str(), &info) != 0) return 0;
  const double all = static_cast<double>(info.f_blocks) * static_cast<double>(info.f_frsize);
  const auto share = static_cast<std::uint64_t>(limits_.keep_free * all);
  const auto least = std::min(kForIndex, static_cast<std::uint64_t>(all / 8));
  return disk.has_index ? std::max(share, least) : share;
}

std::uint64_t Budget::RoomOn(DiskRoom* disk) {
  if (disk->until_look == 0) {
    const auto free = disk_->FreeBytes(disk->folder);
    const std::uint64_t keep = Keep(*disk) + (disk == &cache_ ? on_its_way_ : 0);
    disk->room = free.ok() && *free > keep ? *free - keep : 0;
    disk->until_look = kLookEvery;
  }
  return disk->room;
}

void Budget::Take(DiskRoom* disk, std::uint64_t bytes) {
  disk->room -= bytes;
  disk->until_look -= std::min(disk->until_look, bytes);
}

std::uint64_t Budget::Reserve(std::uint64_t bytes) {
  const Lock lock(mutex_);
  const std::uint64_t room = RoomOn(&cache_);
  const std::uint64_t over_limit =
      used_ + bytes > limits_.bytes ? used_ + bytes - limits_.bytes : 0;
  const std::uint64_t over_disk = bytes > room ? bytes - room : 0;
  const std::uint64_t over = std::max(over_limit, over_disk);
  if (over > 0) {
    cache_.until_look = 0;  // something will be freed: look again
    return over;
  }
  used_ += bytes;
  on_its_way_ += bytes;
  Take(&cache_, bytes);
  return 0;
}

void Budget::Arrived(std::uint64_t reserved, std::uint64_t kept) {
  const Lock lock(mutex_);
  on_its_way_ -= std::min(on_its_way_, reserved);
  used_ -= std::min(used_, reserved - std::min(reserved, kept));
  cache_.until_look = other_.until_look = 0;  // the disk knows of it now
}

std::uint64_t Budget::TakeCacheRoom(std::uint64_t bytes) {
  const Lock lock(mutex_);
  const std::uint64_t room = RoomOn(&cache_);
  if (bytes > room) {
    cache_.until_look = 0;
    return bytes - room;
  }
  Take(&cache_, bytes);
  return 0;
}

Status Budget::TakeForWriting(std::uint64_t bytes) {
  if (bytes > RoomOn(pending_)) {
    pending_->until_look = 0;
    if (bytes > RoomOn(pending_)) {
      pending_->until_look = 0;
      const std::string kept = FormatSize(Keep(*pending_));
      return Error(Code::kNoSpace,
                   fmt::format("the disk of {} has no room for {} more (keeping {} of it free)",
                               Printable(pending_->folder), FormatSize(bytes), kept),
                   pending_ == &cache_
                       ? "Free space on that disk, or move the cache with: pargeter "
                         "drive change --cache-at"
                       : "Free space on that disk.");
    }
  }
  Take(pending_, bytes);
  return {};
}

Status Budget::TakePendingRoom(std::uint64_t bytes) {
  const Lock lock(mutex_);
  return TakeForWriting(bytes);
}

Status Budget::ReserveForWriting(std::uint64_t bytes) {
  const Lock lock(mutex_);
  PG_TRY(TakeForWriting(bytes));
  Use(bytes);
  return {};
}

void Budget::Count(std::uint64_t bytes) {
  const Lock lock(mutex_);
  Use(bytes);
}

void Budget::Use(std::uint64_t bytes) {
  used_ += bytes;
  if (Over() > 0) over_.NotifyAll();
}

std::uint64_t Budget::Over() const { return used_ > limits_.bytes ? used_ - limits_.bytes : 0; }

std::uint64_t Budget::AwaitOver() {
  Lock lock(mutex_);
  while (Over() == 0 && !woken_)
    over_.WaitUntil(mutex_, std::chrono::steady_clock::now() + std::chrono::hours(1));
  woken_ = false;
  return Over();
}

void Budget::Wake() {
  const Lock lock(mutex_);
  woken_ = true;
  over_.NotifyAll();
}

void Budget::Release(std::uint64_t bytes) {
  const Lock lock(mutex_);
  used_ -= std::min(used_, bytes);
  cache_.until_look = other_.until_look = 0;
}

void Budget::LookAgain() {
  const Lock lock(mutex_);
  cache_.until_look = other_.until_look = 0;
}

std::uint64_t Budget::Short() {
  const Lock lock(mutex_);
  const auto free = disk_->FreeBytes(cache_.folder);
  const std::uint64_t keep = Keep(cache_);
  return free.ok() && *free < keep ? keep - *free : 0;
}

std::uint64_t Budget::Room() {
  const Lock lock(mutex_);
  cache_.until_look = 0;
  return RoomOn(&cache_);
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
  over_.NotifyAll();
  cache_.until_look = other_.until_look = 0;
}

}  // namespace pargeter
