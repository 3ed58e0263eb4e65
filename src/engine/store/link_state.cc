#include "engine/store/link_state.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/log.h"

namespace pargeter {
namespace {
constexpr Duration kSilence(500), kTrial(1300), kTrialOffline(5000), kLook(100),
    kLongestPause(15000);

bool Away(const Error& error) {
  return error.code == Code::kUnavailable || error.code == Code::kTimeout;
}

}  // namespace

LinkState::LinkState(const Clock* clock, Hooks hooks, Duration pause)
    : clock_(clock), hooks_(std::move(hooks)), first_pause_(pause) {}

LinkState::~LinkState() { Stop(); }

void LinkState::Start() {
  thread_ = std::thread([this] { Run(); });
}

void LinkState::Stop() {
  Cancel token;
  {
    const Lock lock(mutex_);
    stopping_ = true;
    token = token_;
    changed_.NotifyAll();
  }
  token->Cancel();
  if (thread_.joinable()) thread_.join();
}

Status LinkState::Check() const {
  const Lock lock(mutex_);
  if (offline_since_ == 0) return {};
  return Error(Code::kUnavailable, fmt::format("the store is not reachable since {}: {}",
                                               Rfc3339(offline_since_), fault_));
}

Status LinkState::TryNow() {
  if (Check().ok()) return {};
  const Status answer = hooks_.trial(kTrialOffline);
  if (answer.ok() || !Away(answer.error())) Back();
  return Check();
}

void LinkState::Back() {
  {
    const Lock lock(mutex_);
    if (offline_since_ == 0 || stopping_) return;
    offline_since_ = 0;
    fault_.clear();
    changed_.NotifyAll();
  }
  Log(LogLevel::kWarning, "online again");
  hooks_.back();
}

void LinkState::Tell(const Status& outcome) {
  if (!outcome.ok() && Away(outcome.error())) Lost(outcome.error());
}

void LinkState::Lost(const Error& fault) {
  Cancel token;
  {
    const Lock lock(mutex_);
    if (offline_since_ != 0 || stopping_) return;
    offline_since_ = clock_->Wall();
    fault_ = fault.what;
    token = std::exchange(token_, std::make_shared<CancelToken>());
    changed_.NotifyAll();
  }
  LogAbout(LogLevel::kWarning, {"", NameOf(fault.code)}, "offline: {}", fault.what);
  token->Cancel();
}

Nanos LinkState::OfflineSince() const {
  const Lock lock(mutex_);
  return offline_since_;
}
std::string LinkState::LastFault() const {
  const Lock lock(mutex_);
  return fault_;
}

LinkState::Waiting::Waiting(LinkState* link) : link_(*link) {
  const Lock lock(link_.mutex_);
  token_ = link_.token_;
  if (link_.waiting_++ > 0) return;
  link_.waiting_since_ = std::chrono::steady_clock::now();
  link_.changed_.NotifyAll();
}
LinkState::Waiting::~Waiting() {
  const Lock lock(link_.mutex_);
  --link_.waiting_;
}

void LinkState::Run() {
  Duration pause = first_pause_;
  for (;;) {
    bool offline = false;
    {
      Lock lock(mutex_);
      // with nobody waiting it sleeps: an idle mount costs nothing
      while (!stopping_ && offline_since_ == 0 && waiting_ == 0) {
        changed_.WaitUntil(mutex_, std::chrono::steady_clock::now() + std::chrono::hours(1));
      }
      offline = offline_since_ != 0;
      if (!offline) pause = first_pause_;
      const Steady next = std::chrono::steady_clock::now() + (offline ? pause : kLook);
      while (!stopping_ && (offline_since_ != 0) == offline && changed_.WaitUntil(mutex_, next)) {
      }
      if (stopping_) return;
      if ((offline_since_ != 0) != offline) continue;
      const Steady since = std::max(waiting_since_, hooks_.last_sign());
      if (!offline && (waiting_ == 0 || std::chrono::steady_clock::now() - since < kSilence)) {
        continue;
      }
    }
    const Steady asked = std::chrono::steady_clock::now();
    const Status answer = hooks_.trial(offline ? kTrialOffline : kTrial);
    const bool there = answer.ok() || !Away(answer.error());
    if (!offline) {
      if (there) {
        const Lock lock(mutex_);
        waiting_since_ = std::chrono::steady_clock::now();
      } else if (hooks_.last_sign() < asked) {
        Lost(answer.error());
      }
      continue;
    }
    pause = there ? first_pause_ : std::min(pause * 2, kLongestPause);
    if (there) Back();
  }
}

}  // namespace pargeter
