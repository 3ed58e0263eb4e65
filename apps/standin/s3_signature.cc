// Whether a request is signed with a key that the simulated store knows.
#include <fmt/format.h>

#include <cstdlib>
#include <ctime>

#include "base/text.h"
#include "net/uri.h"
#include "s3_impl.h"

namespace pargeter::standin {

std::optional<Refusal> S3Server::Impl::CheckSignature(const Request& request, Ask* ask) const {
  if (ask->Find("X-Amz-Signature")) return CheckPresigned(request, ask);
  const std::string header = request.get_header_value("Authorization");
  const bool reads = request.method == "GET" || request.method == "HEAD";
  if (header.empty() && reads && !ask->bucket.empty() && ask->bucket == options_.public_bucket)
    return std::nullopt;
  const auto field = [&](const std::string& name) -> std::string {
    const auto at = header.find(name + "=");
    if (at == std::string::npos) return "";
    const auto from = at + name.size() + 1;
    return std::string(Trim(header.substr(from, header.find(',', from) - from)));
  };
  if (header.compare(0, 16, "AWS4-HMAC-SHA256") != 0) {
    return Refusal{403, "AccessDenied", "the request is not signed"};
  }
  // a key id may itself hold slashes; the scope's four parts do not
  std::vector<std::string> scope = Split(field("Credential"), '/');
  if (scope.size() < 5) return Refusal{400, "AuthorizationHeaderMalformed", "bad Credential"};
  const std::string region = scope[scope.size() - 3];
  scope.resize(scope.size() - 4);
  const std::string key_id = fmt::format("{}", fmt::join(scope, "/"));
  std::string secret;
  if (key_id == options_.key_id) {
    secret = options_.secret;
  } else if (!options_.narrow_key_id.empty() && key_id == options_.narrow_key_id) {
    secret = options_.narrow_secret;
    ask->may_list_buckets = false;
  } else {
    return Refusal{403, "InvalidAccessKeyId", "no such key"};
  }
  if (request.get_header_value("x-amz-security-token") != options_.session_token)
    return Refusal{403, "InvalidToken", "the session token is not good"};
  const std::string date = request.get_header_value("x-amz-date");
  tm parts{};
  if (::strptime(date.c_str(), "%Y%m%dT%H%M%SZ", &parts) == nullptr) {
    return Refusal{403, "AccessDenied", "no date"};
  }
  if (std::abs(Now() / 1'000'000'000 - timegm(&parts)) > 900) {
    return Refusal{403, "RequestTimeTooSkewed", "the clocks differ too much"};
  }
  s3::Fields headers;
  for (const std::string& name : Split(field("SignedHeaders"), ';')) {
    // httplib hands header values out percent-decoded
    std::string value = request.get_header_value(name);
    if (name == "x-amz-copy-source") value = PercentEncode(value, KeepSlash::kYes);
    headers.emplace_back(name, std::move(value));
  }
  // a client that sends no body may leave its digest out
  std::string payload = request.get_header_value("x-amz-content-sha256");
  if (payload.empty()) payload = s3::kEmptySha256;
  const std::string expected = s3::Authorization({key_id, secret, region}, request.method,
                                                 ask->raw_path, ask->query, headers, payload, date);
  if (expected.substr(expected.rfind('=') + 1) != field("Signature")) {
    return Refusal{403, "SignatureDoesNotMatch", "the signature is wrong"};
  }
  return std::nullopt;
}

std::optional<Refusal> S3Server::Impl::CheckPresigned(const Request& request, Ask* ask) const {
  const std::vector<std::string> scope = Split(ask->Value("X-Amz-Credential"), '/');
  const std::string date = ask->Value("X-Amz-Date");
  tm parts{};
  if (scope.size() != 5 || scope[0] != options_.key_id ||
      ask->Value("X-Amz-SignedHeaders") != "host" ||
      ::strptime(date.c_str(), "%Y%m%dT%H%M%SZ", &parts) == nullptr)
    return Refusal{403, "AccessDenied", "bad address"};
  const std::int64_t seconds = std::atoll(ask->Value("X-Amz-Expires").c_str());
  if (seconds < 1 || seconds > 604800 || Now() / 1'000'000'000 > timegm(&parts) + seconds)
    return Refusal{403, "AccessDenied", "the address has lapsed"};
  const s3::Fields query =
      s3::PresignedQuery({options_.key_id, options_.secret, scope[2]}, request.method,
                         ask->raw_path, request.get_header_value("Host"), seconds, date);
  if (query.back().second != ask->Value("X-Amz-Signature"))
    return Refusal{403, "SignatureDoesNotMatch", "the signature is wrong"};
  return std::nullopt;
}

}  // namespace pargeter::standin
