// How often an opened folder may wait for a fresh listing: people look at a few folders and want
// the truth; programs walk thousands and want speed. A token bucket. Thread-safe; a leaf lock.
#pragma once

#include <algorithm>

#include "base/clock.h"
#include "base/mutex.h"

namespace pargeter {

class ListingPace {
 public:
  explicit ListingPace(const Clock* clock) : clock_(*clock) {}
  // True: whoever asks may wait. False: what is known has to do.
  bool MayWait() {
    const Lock lock(mutex_);
    const Steady now = clock_.Now();
    if (since_ == Steady{}) since_ = now;
    const double seconds = std::chrono::duration<double>(now - since_).count();
    tokens_ = std::min(kMost, tokens_ + seconds * kEachSecond);
    since_ = now;
    if (tokens_ < 1) return false;
    tokens_ -= 1;
    return true;
  }

 private:
  static constexpr double kMost = 8, kEachSecond = 2;
  const Clock& clock_;
  Mutex mutex_;
  double tokens_ GUARDED_BY(mutex_) = kMost;
  Steady since_ GUARDED_BY(mutex_){};
};

}  // namespace pargeter
