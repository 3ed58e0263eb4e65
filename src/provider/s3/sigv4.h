// AWS Signature Version 4: signing of one request and, for the stand-in, checking of one. Pure
// functions of their arguments.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/clock.h"

namespace pargeter::s3 {

struct Credentials {
  std::string key_id;  // "": nothing is signed, as for a bucket that is open to all
  std::string secret;
  std::string region;
  std::string session_token = {};  // of a temporary key; "": the key is a lasting one
  std::string service = "s3";
};

using Fields = std::vector<std::pair<std::string, std::string>>;

inline constexpr std::string_view kUnsignedPayload = "UNSIGNED-PAYLOAD";
inline constexpr std::string_view kEmptySha256 =
    "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

// "20130524T000000Z"
std::string AmzDate(Nanos wall);

// The value of the Authorization header. `path` is percent-encoded as sent; `query` are decoded
// names and values; `headers` are all that are to be signed, host and x-amz-date among them, names
// in lower case. `payload_hash` is what x-amz-content-sha256 says.
std::string Authorization(const Credentials& credentials, const std::string& method,
                          const std::string& path, const Fields& query, const Fields& headers,
                          const std::string& payload_hash, const std::string& amz_date);

// The query of an address that is signed by itself, to be used by whoever has it for so many
// seconds (604800 at most): `query` with the signature in it.
Fields PresignedQuery(const Credentials& credentials, const std::string& method,
                      const std::string& path, const std::string& host, std::int64_t seconds,
                      const std::string& amz_date);

// "a=1&b=2", sorted and encoded as the signature wants it; also what is sent.
std::string CanonicalQuery(const Fields& query);

}  // namespace pargeter::s3
