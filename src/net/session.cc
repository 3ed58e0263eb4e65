#include "net/session.h"

#include <algorithm>
#include <cstdlib>

#include "base/log.h"
#include "base/random.h"

namespace pargeter {
namespace {

constexpr long kLongestWait = 300;  // seconds

}  // namespace

Session::Session(SessionOptions options)
    : options_(std::move(options)), http_(options_.http), aside_(options_.http) {}

std::optional<Nanos> Session::Ahead() const {
  const Lock lock(mutex_);
  return ahead_;
}

Status Session::WaitForLeave(const Cancel& cancel) {
  for (;;) {
    Steady until;
    {
      const Lock lock(mutex_);
      until = pause_until_;
    }
    const Steady now = options_.clock->Now();
    if (now >= until) return {};
    const Cancel token = cancel ? cancel : std::make_shared<CancelToken>();
    if (token->WaitFor(std::chrono::duration_cast<Duration>(until - now) + Duration(1)))
      return Error(Code::kCancelled, "the request was given up");
  }
}

Result<HttpResponse> Session::SendOnce(const Build& build, const Judge& judge, Duration once,
                                       const Cancel& cancel) {
  PG_ASSIGN(HttpRequest request, build());
  request.cancel = cancel;
  if (once.count() > 0) {
    request.deadlines = {once, Duration(once.count() + 1000), once};
  } else {
    PG_TRY(WaitForLeave(cancel));
  }
  PG_ASSIGN(HttpResponse response, (once.count() > 0 ? aside_ : http_).Do(request));
  if (const Nanos theirs = ParseHttpDate(response.head.Get("date").c_str()); theirs != 0) {
    const Lock lock(mutex_);
    ahead_ = options_.clock->Wall() - theirs;
  }
  if (response.head.status / 100 == 2) return response;

  Error error = judge(response);
  const std::string& wait = response.head.Get("retry-after");
  if (!wait.empty()) {
    const Nanos date_given = ParseHttpDate(wait.c_str());
    const long seconds =
        date_given != 0 ? static_cast<long>((date_given - options_.clock->Wall()) / 1'000'000'000)
                        : std::strtol(wait.c_str(), nullptr, 10);
    // whatever a store asks for, it is asked again within minutes
    error.retry_after_ms = std::clamp(seconds, 0L, kLongestWait) * 1000;
  }
  return error;
}

Result<HttpResponse> Session::Send(const Build& build, const Judge& judge, Duration once,
                                   const Cancel& cancel) {
  const Steady start = options_.clock->Now();
  for (int attempt = 1;; ++attempt) {
    Result<HttpResponse> response = SendOnce(build, judge, once, cancel);
    if (!response.ok()) response = response.error().For(options_.account);
    if (response.ok() || once.count() > 0) return response;
    const auto elapsed = std::chrono::duration_cast<Duration>(options_.clock->Now() - start);
    const double random = static_cast<double>(RandomBits() >> 11) * 0x1.0p-53;
    const auto delay = NextTry(options_.retry, response.error(), attempt, elapsed, random);
    if (!delay) return response;
    if (response.error().code == Code::kThrottled) {
      const Lock lock(mutex_);
      pause_until_ = std::max(pause_until_, options_.clock->Now() + *delay);
    }
    Log(LogLevel::kDebug, "{}; trying again in {} ms", response.error().what, delay->count());
    const Cancel token = cancel ? cancel : std::make_shared<CancelToken>();
    if (token->WaitFor(*delay)) return Error(Code::kCancelled, "the request was given up");
  }
}

}  // namespace pargeter
