// What a drive did lately, the last few hundred things, in memory. Thread-safe.
#pragma once

#include <cstdint>
#include <deque>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/mutex.h"

namespace pargeter {

struct Happening {
  std::int64_t number = 0;  // from 1, without gaps
  Nanos at = 0;
  std::string side;  // here, store
  std::string what;  // uploaded, deleted, conflict, changed, appeared, vanished, held-back, rotten
  std::string path;  // relative to the drive
  std::string detail;
};

class Activity {
 public:
  explicit Activity(const Clock* clock) : clock_(*clock) {}
  void Add(std::string side, std::string what, std::string path, std::string detail = {}) {
    const Lock lock(mutex_);
    happened_.push_back({++last_, clock_.Wall(), std::move(side), std::move(what), std::move(path),
                         std::move(detail)});
    if (happened_.size() > kKept) happened_.pop_front();
  }
  // Those after `number`, oldest first, the last `limit` of them.
  std::vector<Happening> After(std::int64_t number, std::size_t limit) const {
    const Lock lock(mutex_);
    std::vector<Happening> out;
    for (auto it = happened_.rbegin(); it != happened_.rend() && out.size() < limit; ++it) {
      if (it->number <= number) break;
      out.push_back(*it);
    }
    return {out.rbegin(), out.rend()};
  }

 private:
  static constexpr std::size_t kKept = 1000;
  const Clock& clock_;
  mutable Mutex mutex_;
  std::deque<Happening> happened_ GUARDED_BY(mutex_);
  std::int64_t last_ GUARDED_BY(mutex_) = 0;
};

}  // namespace pargeter
