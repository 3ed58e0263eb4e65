#include "provider/s3/s3_wire.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"

namespace pargeter::s3 {
namespace {

constexpr long kLongestWait = 300;  // seconds

HttpOptions OptionsOf(const WireOptions& options) {
  HttpOptions http;
  http.ca_file = options.ca_file;
  return http;
}

// How far the store's clock is from ours, for the message about it; "" if it did not say.
std::string SkewWords(const HttpHead& head, const Clock& clock) {
  const Nanos store = ParseHttpDate(head.Get("date").c_str());
  if (store == 0) return "";
  const Nanos difference = clock.Wall() - store;
  return fmt::format(" (this machine is {} {})",
                     FormatAge(Duration(std::abs(difference) / 1000000)),
                     difference > 0 ? "ahead" : "behind");
}

}  // namespace

Wire::Wire(WireOptions options)
    : options_(std::move(options)), http_(OptionsOf(options_)), aside_(OptionsOf(options_)) {
  SetCredentials(options_.credentials);
}

bool Wire::SetCredentials(Credentials credentials) {
  const Lock lock(mutex_);
  const bool differ = credentials.key_id != credentials_.key_id ||
                      credentials.secret != credentials_.secret ||
                      credentials.region != credentials_.region;
  credentials_ = std::move(credentials);
  return differ;
}

std::optional<Nanos> Wire::Ahead() const {
  const Lock lock(mutex_);
  return ahead_;
}

Status Wire::WaitForLeave(const Cancel& cancel) {
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

Result<HttpResponse> Wire::SendOnce(const Call& call) {
  const bool host_style = options_.style == AddressStyle::kHost && !call.bucket.empty();
  std::string path = options_.endpoint.path;
  if (!call.bucket.empty() && !host_style) path += "/" + PercentEncode(call.bucket);
  path += call.key.empty() && !path.empty() && !host_style
              ? ""
              : "/" + PercentEncode(call.key, KeepSlash::kYes);
  const std::string host = (host_style ? call.bucket + "." : "") + options_.endpoint.authority;

  const std::string date = AmzDate(options_.clock->Wall());
  const bool has_body = call.source != nullptr || !call.body.empty();
  const std::string payload(has_body ? kUnsignedPayload : kEmptySha256);
  Fields to_sign = call.headers;
  to_sign.emplace_back("host", host);
  to_sign.emplace_back("x-amz-content-sha256", payload);
  to_sign.emplace_back("x-amz-date", date);
  const Credentials credentials = [this] {
    const Lock lock(mutex_);
    return credentials_;
  }();
  const std::string authorization =
      Authorization(credentials, call.method, path, call.query, to_sign, payload, date);

  HttpRequest request;
  request.method = call.method;
  request.url = options_.endpoint.scheme + "://" + host + path;
  if (!call.query.empty()) request.url += "?" + CanonicalQuery(call.query);
  request.headers = to_sign;
  request.headers.emplace_back("authorization", authorization);
  request.body = call.body;
  request.source = call.source;
  request.sink = call.sink;
  request.deadlines = options_.deadlines;
  if (call.slow_answer) request.deadlines.stall = Duration(300000);
  request.cancel = call.cancel;
  if (call.once.count() > 0) {
    request.deadlines = {call.once, Duration(call.once.count() + 1000), call.once};
  } else {
    PG_TRY(WaitForLeave(call.cancel));
  }
  PG_ASSIGN(HttpResponse response, (call.once.count() > 0 ? aside_ : http_).Do(request));
  if (const Nanos theirs = ParseHttpDate(response.head.Get("date").c_str()); theirs != 0) {
    const Lock lock(mutex_);
    ahead_ = options_.clock->Wall() - theirs;
  }
  if (response.head.status / 100 == 2) return response;

  Error error = ErrorOf(response.head.status, ParseError(response.body), call.what);
  if (error.code == Code::kSignIn && error.what.find("clock") != std::string::npos) {
    error.what += SkewWords(response.head, *options_.clock);
  }
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

Result<HttpResponse> Wire::Send(const Call& call) {
  const Steady start = options_.clock->Now();
  for (int attempt = 1;; ++attempt) {
    Result<HttpResponse> response = SendOnce(call);
    if (response.ok()) return response;
    const auto elapsed = std::chrono::duration_cast<Duration>(options_.clock->Now() - start);
    if (call.once.count() > 0) return response;
    const double random = static_cast<double>(RandomBits() >> 11) * 0x1.0p-53;
    const auto delay = NextTry(options_.retry, response.error(), attempt, elapsed, random);
    if (!delay) return response;
    if (response.error().code == Code::kThrottled) {
      const Lock lock(mutex_);
      pause_until_ = std::max(pause_until_, options_.clock->Now() + *delay);
    }
    Log(LogLevel::kDebug, "{}; trying again in {} ms", response.error().what, delay->count());
    const Cancel cancel = call.cancel ? call.cancel : std::make_shared<CancelToken>();
    if (cancel->WaitFor(*delay)) return Error(Code::kCancelled, "the request was given up");
  }
}

}  // namespace pargeter::s3
