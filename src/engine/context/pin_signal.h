// Wakes the thread that keeps pinned files here. Thread-safe; a leaf lock.
#pragma once

#include "base/clock.h"
#include "base/mutex.h"
#include "net/cancel.h"

namespace pargeter {

class PinSignal {
 public:
  void Wake() {
    const Lock lock(mutex_);
    woken_ = true;
    changed_.NotifyAll();
  }
  // Until Wake was called, `stop` is cancelled (and Wake called), or the deadline.
  void AwaitWake(const Clock& clock, Steady deadline, const CancelToken& stop) {
    const Lock lock(mutex_);
    while (!woken_ && !stop.cancelled() && clock.Now() < deadline)
      changed_.WaitUntil(mutex_, deadline);
    woken_ = false;
  }

 private:
  Mutex mutex_;
  CondVar changed_;
  bool woken_ GUARDED_BY(mutex_) = false;
};

}  // namespace pargeter
