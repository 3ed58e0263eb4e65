#include "engine/link_state.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"

namespace pargeter {

LinkState::LinkState(const Clock* clock, std::function<Status()> trial, std::function<void()> back,
                     Duration pause)
    : clock_(clock), trial_(std::move(trial)), back_(std::move(back)), first_pause_(pause) {}

LinkState::~LinkState() { Stop(); }

void LinkState::Start() {
  thread_ = std::thread([this] { Run(); });
}

void LinkState::Stop() {
  {
    const Lock lock(mutex_);
    stopping_ = true;
    changed_.NotifyAll();
  }
  if (thread_.joinable()) thread_.join();
}

Status LinkState::Check() const {
  const Lock lock(mutex_);
  if (offline_since_ == 0) return {};
  return Error(Code::kUnavailable, fmt::format("the store is not reachable since {}: {}",
                                               Rfc3339(offline_since_), fault_));
}

void LinkState::Tell(const Status& outcome) {
  const bool lost = !outcome.ok() && (outcome.error().code == Code::kUnavailable ||
                                      outcome.error().code == Code::kTimeout);
  const Lock lock(mutex_);
  if (lost && offline_since_ == 0) {
    offline_since_ = clock_->Wall();
    fault_ = outcome.error().what;
    Log(LogLevel::kWarning, "offline: {}", fault_);
    changed_.NotifyAll();
  }
}

Nanos LinkState::OfflineSince() const {
  const Lock lock(mutex_);
  return offline_since_;
}
std::string LinkState::LastFault() const {
  const Lock lock(mutex_);
  return fault_;
}

void LinkState::Run() {
  Duration pause = first_pause_;
  for (;;) {
    {
      Lock lock(mutex_);
      while (!stopping_ && offline_since_ == 0) {
        changed_.WaitUntil(mutex_, std::chrono::steady_clock::now() + std::chrono::hours(1));
      }
      const Steady next = std::chrono::steady_clock::now() + pause;
      while (!stopping_ && changed_.WaitUntil(mutex_, next)) {
      }
      if (stopping_) return;
    }
    const Status answer = trial_();
    const bool back = answer.ok() || (answer.error().code != Code::kUnavailable &&
                                      answer.error().code != Code::kTimeout);
    pause = back ? first_pause_ : std::min(pause * 2, Duration(15000));
    if (!back) continue;
    {
      const Lock lock(mutex_);
      offline_since_ = 0;
      fault_.clear();
    }
    Log(LogLevel::kWarning, "online again");
    back_();
  }
}

}  // namespace pargeter
