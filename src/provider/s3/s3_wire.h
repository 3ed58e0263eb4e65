// Requests to one S3-compatible endpoint: addressed, signed, sent, retried; refusals become
// Errors. Thread-safe.
#pragma once

#include <string>
#include <vector>

#include "net/http_client.h"
#include "net/retry.h"
#include "net/uri.h"
#include "provider/s3/s3_xml.h"
#include "provider/s3/sigv4.h"

namespace pargeter::s3 {

enum class AddressStyle { kPath, kHost };

struct WireOptions {
  Endpoint endpoint;
  AddressStyle style = AddressStyle::kPath;
  Credentials credentials;
  std::string ca_file;
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
  // For every call from now on; false if they are the same.
  bool SetCredentials(Credentials credentials) EXCLUDES(mutex_);
  // How far this machine's clock was ahead of the store's at the last answer, to a second or two.
  std::optional<Nanos> Ahead() const EXCLUDES(mutex_);
  Steady LastSign() const { return http_.LastSign(); }
  const WireOptions& options() const { return options_; }

 private:
  Result<HttpResponse> SendOnce(const Call& call);
  const WireOptions options_;
  HttpClient http_;
  HttpClient aside_;  // for calls that must not wait behind others
  // The store asked for a pause: nothing is sent before then, by anybody.
  Status WaitForLeave(const Cancel& cancel) EXCLUDES(mutex_);
  mutable Mutex mutex_;
  std::optional<Nanos> ahead_ GUARDED_BY(mutex_);
  Credentials credentials_ GUARDED_BY(mutex_);
  Steady pause_until_ GUARDED_BY(mutex_){};
};

}  // namespace pargeter::s3
