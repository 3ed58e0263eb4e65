#include "cache/spare_room.h"

#include <fcntl.h>
#include <unistd.h>

#include <utility>

#include "base/log.h"
#include "base/text.h"

namespace pargeter {

SpareRoom::SpareRoom(std::string path, std::uint64_t bytes, Disk* disk)
    : path_(std::move(path)), bytes_(bytes), disk_(disk) {}

void SpareRoom::Tend() {
  if (bytes_ == 0) return;
  const Lock lock(mutex_);
  const auto free = disk_->FreeBytes(path_.substr(0, path_.rfind('/')));
  if (!free.ok()) return;
  const bool held = ::access(path_.c_str(), F_OK) == 0;
  if (held && *free < bytes_ / 4) {
    Log(LogLevel::kWarning, "the disk is full: {} is given up, so that room can be made",
        Printable(path_));
    Ignore(disk_->Remove(path_));
  } else if (!held && *free > bytes_ * 4) {
    if (!Take().ok()) Ignore(disk_->Remove(path_));
  }
}

Status SpareRoom::Take() {
  PG_ASSIGN(const Fd fd, disk_->Open(path_, O_WRONLY | O_CREAT | O_CLOEXEC));
  return disk_->Allocate(fd.get(), bytes_);
}

}  // namespace pargeter
