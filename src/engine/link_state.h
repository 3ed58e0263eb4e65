// Is the store reachable? Noticed once, by whichever request fails first; then everything that
// needs the store fails at once until a trial request succeeds. Thread-safe.
#pragma once

#include <functional>
#include <string>
#include <thread>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"
#include "net/cancel.h"

namespace pargeter {

class LinkState {
 public:
  // `trial` asks the store something small; `back` runs when it answers again. The first
  // trial is made after `pause`, later ones less and less often, at least every 15 s.
  LinkState(const Clock* clock, std::function<Status()> trial, std::function<void()> back,
            Duration pause = Duration(1000));
  ~LinkState();
  void Start();
  void Stop();

  // kUnavailable while offline, else ok.
  Status Check() const;
  // Every outcome of a request is told here.
  void Tell(const Status& outcome);
  Nanos OfflineSince() const;  // 0: online
  std::string LastFault() const;

 private:
  void Run();
  const Clock* const clock_;
  const std::function<Status()> trial_;
  const std::function<void()> back_;
  const Duration first_pause_;
  mutable Mutex mutex_;
  CondVar changed_;
  Nanos offline_since_ GUARDED_BY(mutex_) = 0;
  std::string fault_ GUARDED_BY(mutex_);
  bool stopping_ GUARDED_BY(mutex_) = false;
  std::thread thread_;
};

}  // namespace pargeter
