// Requests to one S3-compatible endpoint: addressed, signed, sent, retried; refusals become
// Errors. Thread-safe.
#pragma once

#include <string>
#include <vector>

#include "net/session.h"
#include "net/uri.h"
#include "provider/s3/s3_xml.h"
#include "provider/s3/sigv4.h"

namespace pargeter::s3 {

enum class AddressStyle { kPath, kHost };

struct WireOptions {
  Endpoint endpoint;
  AddressStyle style = AddressStyle::kPath;
  Credentials credentials;
  HttpOptions http;
  std::string account;  // for remedies
  RetryPolicy retry;
  Deadlines deadlines;
  const Clock* clock = &SystemClock();
};

struct Call {
  std::string method = "GET";
  std::string bucket;  // "" = the service itself
  std::string key;     // raw bytes
  Fields query;
  Fields headers;  // lower-case names; all are signed
  std::string body;
  BodySource* source = nullptr;
  BodySink* sink = nullptr;
  std::string what;          // for messages: "cannot read x"
  Duration once{0};          // not 0: one attempt, on a connection of its own, within this span
  bool slow_answer = false;  // the store may think long before its first byte
  Cancel cancel;
};

class Wire {
 public:
  explicit Wire(WireOptions options);
  // 2xx answers only; everything else is an Error by ErrorOf.
  Result<HttpResponse> Send(const Call& call);
  // An address at which whoever has it can read that for so long.
  std::string Presigned(const std::string& bucket, const std::string& key, Duration lasts)
      EXCLUDES(mutex_);
  // For every call from now on; false if they are the same.
  bool SetCredentials(Credentials credentials) EXCLUDES(mutex_);
  // How far this machine's clock was ahead of the store's at the last answer, to a second or two.
  std::optional<Nanos> Ahead() const { return session_.Ahead(); }
  Steady LastSign() const { return session_.LastSign(); }
  const WireOptions& options() const { return options_; }

 private:
  struct Place {
    std::string host, path;
  };
  Place PlaceOf(const std::string& bucket, const std::string& key) const;
  HttpRequest Signed(const Call& call) EXCLUDES(mutex_);
  const WireOptions options_;
  Session session_;
  mutable Mutex mutex_;
  Credentials credentials_ GUARDED_BY(mutex_);
};

}  // namespace pargeter::s3
