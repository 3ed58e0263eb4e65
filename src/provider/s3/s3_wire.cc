#include "provider/s3/s3_wire.h"

#include <fmt/format.h>

#include <cstdlib>

#include "base/text.h"
#include "base/units.h"

namespace pargeter::s3 {
namespace {

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
    : options_(std::move(options)),
      session_({options_.http, options_.retry, options_.clock, options_.account}) {
  SetCredentials(options_.credentials);
}

bool Wire::SetCredentials(Credentials credentials) {
  const Lock lock(mutex_);
  const bool differ = credentials.key_id != credentials_.key_id ||
                      credentials.secret != credentials_.secret ||
                      credentials.session_token != credentials_.session_token ||
                      credentials.region != credentials_.region;
  credentials_ = std::move(credentials);
  return differ;
}

Wire::Place Wire::PlaceOf(const std::string& bucket, const std::string& key) const {
  const bool host_style = options_.style == AddressStyle::kHost && !bucket.empty();
  Place at{(host_style ? bucket + "." : "") + options_.endpoint.authority, options_.endpoint.path};
  if (!bucket.empty() && !host_style) at.path += "/" + PercentEncode(bucket);
  at.path += key.empty() && !at.path.empty() && !host_style
                 ? ""
                 : "/" + PercentEncode(key, KeepSlash::kYes);
  return at;
}

std::string Wire::Presigned(const std::string& bucket, const std::string& key, Duration lasts) {
  const Place at = PlaceOf(bucket, key);
  const Lock lock(mutex_);
  if (credentials_.key_id.empty()) return options_.endpoint.scheme + "://" + at.host + at.path;
  const Fields query = PresignedQuery(credentials_, "GET", at.path, at.host, lasts.count() / 1000,
                                      AmzDate(options_.clock->Wall()));
  return options_.endpoint.scheme + "://" + at.host + at.path + "?" + CanonicalQuery(query);
}

HttpRequest Wire::Signed(const Call& call) {
  const auto [host, path] = PlaceOf(call.bucket, call.key);
  const std::string date = AmzDate(options_.clock->Wall());
  const bool has_body = call.source != nullptr || !call.body.empty();
  const std::string payload(has_body ? kUnsignedPayload : kEmptySha256);
  const Credentials credentials = [this] {
    const Lock lock(mutex_);
    return credentials_;
  }();
  const bool is_signed = !credentials.key_id.empty();
  Fields to_sign = call.headers;
  to_sign.emplace_back("host", host);
  if (is_signed) {
    to_sign.emplace_back("x-amz-content-sha256", payload);
    to_sign.emplace_back("x-amz-date", date);
    if (!credentials.session_token.empty())
      to_sign.emplace_back("x-amz-security-token", credentials.session_token);
  }

  HttpRequest request;
  request.method = call.method;
  request.url = options_.endpoint.scheme + "://" + host + path;
  if (!call.query.empty()) request.url += "?" + CanonicalQuery(call.query);
  request.headers = to_sign;
  if (is_signed)
    request.headers.emplace_back(
        "authorization",
        Authorization(credentials, call.method, path, call.query, to_sign, payload, date));
  request.body = call.body;
  request.source = call.source;
  request.sink = call.sink;
  request.deadlines = options_.deadlines;
  if (call.slow_answer) request.deadlines.stall = Duration(300000);
  return request;
}

Result<HttpResponse> Wire::Send(const Call& call) {
  const auto judge = [&](const HttpResponse& response) {
    Error error = ErrorOf(response.head.status, ParseError(response.body), call.what);
    if (error.code == Code::kSignIn && error.what.find("clock") != std::string::npos) {
      error.what += SkewWords(response.head, *options_.clock);
    }
    return error;
  };
  return session_.Send([&] { return Result<HttpRequest>(Signed(call)); }, judge, call.once,
                       call.cancel);
}

}  // namespace pargeter::s3
