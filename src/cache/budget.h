// How many bytes of content may be on this disk: counted before they arrive, never repaired
// afterwards. Thread-safe.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "base/error.h"
#include "base/file.h"
#include "base/mutex.h"

namespace pargeter {

class Budget {
 public:
  struct Limits {
    std::uint64_t bytes = 0;  // at most so many
    double keep_free = 0;     // this share of the disk stays free, 0 to 1
  };
  // `pending` is where bytes wait for upload, perhaps on another disk than the cache. On that disk
  // some room is always left for the index, without which nothing can be uploaded or deleted.
  Budget(Limits limits, const std::string& cache, const std::string& pending, Disk* disk);

  // Takes `bytes` of the budget for what is to be fetched, or says how many more would have to be
  // freed first (never 0). 0: taken, until Arrived says how many of them have come to be here.
  std::uint64_t Reserve(std::uint64_t bytes);
  void Arrived(std::uint64_t reserved, std::uint64_t kept);
  // The same for what a person writes: only the disk's own limit holds it back, since it cannot
  // be fetched again. kNoSpace with the numbers.
  Status ReserveForWriting(std::uint64_t bytes);
  void Count(std::uint64_t bytes);  // what is here already, or takes no room as holes do
  void Release(std::uint64_t bytes);
  // Room on the one disk for bytes that are counted already, on the other. 0: taken, else how many
  // more it would need; kNoSpace with the numbers.
  std::uint64_t TakeCacheRoom(std::uint64_t bytes);
  Status TakePendingRoom(std::uint64_t bytes);
  void LookAgain();  // at the disks: something was freed
  // Waits while no more is used than the limit allows, until Wake is called; how many bytes more.
  // (Written bytes are counted without a reservation, so the limit may be exceeded.)
  std::uint64_t AwaitOver();
  void Wake();
  std::uint64_t Used() const;
  std::uint64_t Room();  // that the disk has to give
  // Bytes that the disk is short of the share to keep free: others may have filled it.
  std::uint64_t Short();
  Limits limits() const;
  void SetLimits(Limits limits);

 private:
  struct DiskRoom {
    std::string folder;
    bool has_index = false;
    std::uint64_t room = 0, until_look = 0;
  };
  // Bytes that may still be written there; looks at the disk at most once for each 16 MiB taken.
  std::uint64_t RoomOn(DiskRoom* disk) REQUIRES(mutex_);
  std::uint64_t Keep(const DiskRoom& disk) const REQUIRES(mutex_);
  static void Take(DiskRoom* disk, std::uint64_t bytes);
  Status TakeForWriting(std::uint64_t bytes) REQUIRES(mutex_);
  std::uint64_t Over() const REQUIRES(mutex_);
  void Use(std::uint64_t bytes) REQUIRES(mutex_);
  Disk* const disk_;
  mutable Mutex mutex_;
  CondVar over_;
  bool woken_ GUARDED_BY(mutex_) = false;
  Limits limits_ GUARDED_BY(mutex_);
  std::uint64_t used_ GUARDED_BY(mutex_) = 0;
  std::uint64_t on_its_way_ GUARDED_BY(mutex_) = 0;  // to the cache, as far as the disk knows
  DiskRoom cache_ GUARDED_BY(mutex_), other_ GUARDED_BY(mutex_);
  DiskRoom* const pending_;  // one of the two
};

}  // namespace pargeter
