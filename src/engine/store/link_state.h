// Is the store reachable? Noticed once for the whole drive, not by one time-out for each file; told
// at once to all who wait; and back again noticed without anybody asking. Thread-safe.
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
  struct Hooks {
    std::function<Status(Duration patience)> trial;  // asks the store something small
    std::function<Steady()> last_sign;               // when it last gave a sign of life
    std::function<void()> back;                      // runs when it answers again
  };
  // While offline, the first trial is made after `pause`, later ones less and less often, at least
  // every 15 s.
  LinkState(const Clock* clock, Hooks hooks, Duration pause = Duration(1000));
  ~LinkState();
  void Start();
  void Stop();  // gives up what is under way

  // kUnavailable while offline, else ok.
  Status Check() const;
  // The same, but while offline the store is asked now instead of at the next trial.
  Status TryNow();
  // Every outcome of a request is told here.
  void Tell(const Status& outcome);
  Nanos OfflineSince() const;  // 0: online
  std::string LastFault() const;

  // A request that somebody waits for. While there are any and the store gives no sign of life for
  // half a second, it is asked something small on the side; no answer to that means offline, within
  // two seconds in all.
  class Waiting {
   public:
    explicit Waiting(LinkState* link);
    ~Waiting();
    Waiting(const Waiting&) = delete;
    Waiting& operator=(const Waiting&) = delete;
    const Cancel& token() const { return token_; }  // cancelled when the store is lost

   private:
    LinkState& link_;
    Cancel token_;
  };

 private:
  void Run();
  void Back() EXCLUDES(mutex_);
  void Lost(const Error& fault) EXCLUDES(mutex_);
  const Clock* const clock_;
  const Hooks hooks_;
  const Duration first_pause_;
  mutable Mutex mutex_;
  CondVar changed_;
  Nanos offline_since_ GUARDED_BY(mutex_) = 0;
  std::string fault_ GUARDED_BY(mutex_);
  bool stopping_ GUARDED_BY(mutex_) = false;
  int waiting_ GUARDED_BY(mutex_) = 0;
  Steady waiting_since_ GUARDED_BY(mutex_){};
  Cancel token_ GUARDED_BY(mutex_) = std::make_shared<CancelToken>();
  std::thread thread_;
};

}  // namespace pargeter
