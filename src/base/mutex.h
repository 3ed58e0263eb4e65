// A mutex that clang's thread-safety analysis can see, since it does not see the standard
// library's own. With g++ the annotations are empty.
#pragma once

#include <condition_variable>
#include <mutex>

#if defined(__clang__)
#define PG_TS(x) __attribute__((x))
#else
#define PG_TS(x)
#endif
#define GUARDED_BY(m) PG_TS(guarded_by(m))
#define REQUIRES(...) PG_TS(requires_capability(__VA_ARGS__))
#define EXCLUDES(...) PG_TS(locks_excluded(__VA_ARGS__))
#define NO_TS_ANALYSIS PG_TS(no_thread_safety_analysis)

namespace pargeter {

class PG_TS(capability("mutex")) Mutex {
 public:
  void lock() PG_TS(acquire_capability()) { inner_.lock(); }
  void unlock() PG_TS(release_capability()) { inner_.unlock(); }
  bool try_lock() PG_TS(try_acquire_capability(true)) { return inner_.try_lock(); }

 private:
  std::mutex inner_;
};

class PG_TS(scoped_lockable) Lock {
 public:
  explicit Lock(Mutex& m) PG_TS(acquire_capability(m)) : mutex_(m) { mutex_.lock(); }
  ~Lock() PG_TS(release_capability()) {
    if (held_) mutex_.unlock();
  }
  Lock(const Lock&) = delete;
  Lock& operator=(const Lock&) = delete;
  void Unlock() PG_TS(release_capability()) {
    mutex_.unlock();
    held_ = false;
  }
  void Relock() PG_TS(acquire_capability()) {
    mutex_.lock();
    held_ = true;
  }

 private:
  Mutex& mutex_;
  bool held_ = true;
};

// Waits only with a deadline: every wait has one.
class CondVar {
 public:
  // The caller holds `m`. False: the deadline passed.
  template <typename Time>
  bool WaitUntil(Mutex& m, Time deadline) REQUIRES(m) NO_TS_ANALYSIS {
    return inner_.wait_until(m, deadline) == std::cv_status::no_timeout;
  }
  void NotifyAll() { inner_.notify_all(); }
  void NotifyOne() { inner_.notify_one(); }

 private:
  std::condition_variable_any inner_;
};

}  // namespace pargeter
