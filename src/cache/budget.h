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
  Budget(Limits limits, std::string folder, Disk* disk);

  // Takes `bytes` of the budget, or says how many more would have to be freed first (never 0).
  // 0: taken.
  std::uint64_t Reserve(std::uint64_t bytes);
  // The same for what a person writes: only the disk's own limit holds it back, since it cannot
  // be fetched again. kNoSpace with the numbers.
  Status ReserveForWriting(std::uint64_t bytes);
  void Release(std::uint64_t bytes);
  std::uint64_t Used() const;
  std::uint64_t Room();  // that the disk has to give
  // Bytes that the disk is short of the share to keep free: others may have filled it.
  std::uint64_t Short();
  Limits limits() const;
  void SetLimits(Limits limits);

 private:
  // Bytes that may still be written to the disk; looks at it at most once for each 16 MiB taken.
  std::uint64_t DiskRoom() REQUIRES(mutex_);
  std::uint64_t Keep() const REQUIRES(mutex_);
  const std::string folder_;
  Disk* const disk_;
  mutable Mutex mutex_;
  Limits limits_ GUARDED_BY(mutex_);
  std::uint64_t used_ GUARDED_BY(mutex_) = 0;
  std::uint64_t room_ GUARDED_BY(mutex_) = 0;
  std::uint64_t until_look_ GUARDED_BY(mutex_) = 0;
};

}  // namespace pargeter
