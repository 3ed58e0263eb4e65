// A way to give up on work that is under way: shared by whoever waits and whoever may stop it.
// Thread-safe.
#pragma once

#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <utility>

#include "base/clock.h"
#include "base/mutex.h"

namespace pargeter {

class CancelToken {
 public:
  bool cancelled() const { return cancelled_.load(std::memory_order_acquire); }

  void Cancel() {
    std::map<int, std::function<void()>> hooks;
    {
      const Lock lock(mutex_);
      cancelled_.store(true, std::memory_order_release);
      hooks.swap(hooks_);
      ++running_;
      changed_.NotifyAll();
    }
    for (auto& [id, hook] : hooks) hook();
    const Lock lock(mutex_);
    --running_;
    changed_.NotifyAll();
  }

  // Runs `hook` once on cancellation, at once if that has happened. Returns an id for Forget.
  int OnCancel(std::function<void()> hook) {
    {
      const Lock lock(mutex_);
      if (!cancelled()) {
        hooks_.emplace(++last_, std::move(hook));
        return last_;
      }
    }
    hook();
    return 0;
  }
  // When it returns, the hook does not run, nor will it: what it uses may go. Not from a hook.
  void Forget(int id) {
    Lock lock(mutex_);
    if (id == 0 || hooks_.erase(id) > 0) return;
    while (running_ > 0) changed_.WaitUntil(mutex_, std::chrono::steady_clock::now() + kLook);
  }

  // Waits for `span`, less if cancelled meanwhile; true: cancelled.
  bool WaitFor(Duration span) NO_TS_ANALYSIS {
    const Steady until = std::chrono::steady_clock::now() + span;
    Lock lock(mutex_);
    while (!cancelled() && changed_.WaitUntil(mutex_, until)) {
    }
    return cancelled();
  }

 private:
  static constexpr Duration kLook{1000};
  std::atomic<bool> cancelled_{false};
  Mutex mutex_;
  CondVar changed_;
  std::map<int, std::function<void()>> hooks_ GUARDED_BY(mutex_);
  int last_ GUARDED_BY(mutex_) = 0;
  int running_ GUARDED_BY(mutex_) = 0;  // who cancels, and runs the hooks
};
using Cancel = std::shared_ptr<CancelToken>;

}  // namespace pargeter
