#include "provider/s3/sigv4.h"

#include <fmt/format.h>

#include <algorithm>
#include <ctime>

#include "base/digest.h"
#include "base/text.h"
#include "net/uri.h"

namespace pargeter::s3 {
namespace {

// Runs of blanks inside a value count as one.
std::string Squeeze(std::string_view value) {
  std::string out;
  for (const char c : Trim(value)) {
    if (c == ' ' && !out.empty() && out.back() == ' ') continue;
    out += c;
  }
  return out;
}

}  // namespace

std::string AmzDate(Nanos wall) {
  const time_t seconds = static_cast<time_t>(wall / 1'000'000'000);
  tm t{};
  gmtime_r(&seconds, &t);
  return fmt::format("{:04}{:02}{:02}T{:02}{:02}{:02}Z", t.tm_year + 1900, t.tm_mon + 1, t.tm_mday,
                     t.tm_hour, t.tm_min, t.tm_sec);
}

std::string CanonicalQuery(const Fields& query) {
  std::vector<std::pair<std::string, std::string>> pairs;
  for (const auto& [name, value] : query) {
    pairs.emplace_back(PercentEncode(name), PercentEncode(value));
  }
  std::sort(pairs.begin(), pairs.end());
  std::string out;
  for (const auto& [name, value] : pairs) {
    if (!out.empty()) out += '&';
    out += name + "=" + value;
  }
  return out;
}

namespace {

std::string Scope(const Credentials& c, const std::string& amz_date) {
  return fmt::format("{}/{}/{}/aws4_request", amz_date.substr(0, 8), c.region, c.service);
}

std::string Signature(const Credentials& credentials, const std::string& canonical,
                      const std::string& amz_date) {
  const std::string to_sign = fmt::format("AWS4-HMAC-SHA256\n{}\n{}\n{}", amz_date,
                                          Scope(credentials, amz_date), Hex(Sha256(canonical)));
  std::string key = HmacSha256("AWS4" + credentials.secret, amz_date.substr(0, 8));
  key = HmacSha256(key, credentials.region);
  key = HmacSha256(key, credentials.service);
  key = HmacSha256(key, "aws4_request");
  return Hex(HmacSha256(key, to_sign));
}

}  // namespace

Fields PresignedQuery(const Credentials& credentials, const std::string& method,
                      const std::string& path, const std::string& host, std::int64_t seconds,
                      const std::string& amz_date) {
  Fields query = {{"X-Amz-Algorithm", "AWS4-HMAC-SHA256"},
                  {"X-Amz-Credential", credentials.key_id + "/" + Scope(credentials, amz_date)},
                  {"X-Amz-Date", amz_date},
                  {"X-Amz-Expires", fmt::format("{}", seconds)},
                  {"X-Amz-SignedHeaders", "host"}};
  if (!credentials.session_token.empty())
    query.insert(query.begin() + 4, {"X-Amz-Security-Token", credentials.session_token});
  const std::string canonical = fmt::format("{}\n{}\n{}\nhost:{}\n\nhost\n{}", method, path,
                                            CanonicalQuery(query), host, kUnsignedPayload);
  query.emplace_back("X-Amz-Signature", Signature(credentials, canonical, amz_date));
  return query;
}

std::string Authorization(const Credentials& credentials, const std::string& method,
                          const std::string& path, const Fields& query, const Fields& headers,
                          const std::string& payload_hash, const std::string& amz_date) {
  Fields sorted = headers;
  std::sort(sorted.begin(), sorted.end());
  std::string canonical_headers, signed_headers;
  for (const auto& [name, value] : sorted) {
    canonical_headers += name + ":" + Squeeze(value) + "\n";
    if (!signed_headers.empty()) signed_headers += ';';
    signed_headers += name;
  }
  const std::string canonical =
      fmt::format("{}\n{}\n{}\n{}\n{}\n{}", method, path.empty() ? "/" : path,
                  CanonicalQuery(query), canonical_headers, signed_headers, payload_hash);
  return fmt::format("AWS4-HMAC-SHA256 Credential={}/{},SignedHeaders={},Signature={}",
                     credentials.key_id, Scope(credentials, amz_date), signed_headers,
                     Signature(credentials, canonical, amz_date));
}

}  // namespace pargeter::s3
