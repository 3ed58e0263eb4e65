// Clocks that a test sets.
#pragma once

#include <atomic>

#include "base/clock.h"

namespace pargeter::test {

// Stands still, until it is advanced.
class StandingClock : public Clock {
 public:
  Steady Now() const override { return now_; }
  Nanos Wall() const override { return 0; }
  void Advance(std::chrono::nanoseconds time) { now_ += time; }

 private:
  Steady now_ = Steady() + std::chrono::hours(1);
};

// Runs as the machine's, so much ahead of it.
class AheadClock : public Clock {
 public:
  Steady Now() const override {
    return SystemClock().Now() + std::chrono::nanoseconds(steady_ahead.load());
  }
  Nanos Wall() const override { return SystemClock().Wall() + wall_ahead; }
  void Advance(std::chrono::nanoseconds time) {
    steady_ahead += time.count();
    wall_ahead += time.count();
  }
  std::atomic<Nanos> wall_ahead{0}, steady_ahead{0};
};

}  // namespace pargeter::test
