// HTTP/1.1 over libcurl's multi interface: one event thread moves all transfers, connections are
// kept and reused, bodies stream both ways with bounded memory.
//
// Thread-safe: Do may be called from any number of threads and blocks the caller. Sources and
// sinks are called on the event thread: they must be quick and must not call back into the client.
// Redirects are never followed, since a request carries credentials.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/version.h"
#include "net/cancel.h"

namespace pargeter {

using Headers = std::vector<std::pair<std::string, std::string>>;

struct HttpHead {
  int status = 0;
  Headers headers;  // names in lower case
  // The first value of that name (lower case), or "".
  const std::string& Get(std::string_view name) const;
};

// An entity tag without its quotes and without a weak mark: the form in which versions are kept and
// compared. RFC 9110 section 8.8.3.
std::string PlainEtag(std::string_view etag);

// Positioned reads, so that a retried upload starts again from its first byte by itself.
class BodySource {
 public:
  virtual ~BodySource() = default;
  virtual std::uint64_t Size() const = 0;
  virtual Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) = 0;
};

class BodySink {
 public:
  virtual ~BodySink() = default;
  // Once per attempt, before the body of a 2xx answer. An error ends the transfer with it.
  virtual Status Begin(const HttpHead& head) = 0;
  virtual Status Write(std::string_view data) = 0;
};

struct Deadlines {
  Duration connect{10000};
  Duration stall{30000};  // no byte in either direction for so long
  Duration overall{0};    // 0: none
};

struct HttpRequest {
  std::string method = "GET";
  std::string url;
  Headers headers;
  std::string body;              // sent if there is no source
  BodySource* source = nullptr;  // not owned; must outlive Do
  BodySink* sink = nullptr;      // not owned; without one the body is kept, up to max_body
  std::size_t max_body = 32u << 20;
  Deadlines deadlines;
  Cancel cancel;  // may be null
};

struct HttpResponse {
  HttpHead head;
  std::string body;  // of an error answer also where there is a sink (up to 64 KiB)
  std::uint64_t received = 0;
};

struct HttpOptions {
  std::string ca_file;  // PEM; "" = the system's authorities
  // The certificate that this machine shows to a server that asks for one; PEM files, or "".
  std::string certificate, certificate_key;  // the key may be in the certificate's file
  std::string proxy;     // http://HOST:PORT; "": as the usual environment variables say
  std::string no_proxy;  // names with commas that go around it; this machine itself always does
  int max_connections = 64;
  std::string user_agent = std::string("pargeter/") + kVersion;
};

class HttpClient {
 public:
  explicit HttpClient(HttpOptions options);
  ~HttpClient();  // cancels what is under way
  HttpClient(const HttpClient&) = delete;
  HttpClient& operator=(const HttpClient&) = delete;

  // One attempt. Any complete answer is a success here, whatever its status. Errors: kUnavailable
  // (cannot connect, connection lost), kTimeout, kDamaged (body shorter than promised, headers too
  // large), kUntrusted (its certificate), kCancelled, or the source's or sink's own.
  Result<HttpResponse> Do(const HttpRequest& request);
  // When the other side last sent something or took something of a body; the epoch if never.
  Steady LastSign() const;

 private:
  class Loop;
  std::unique_ptr<Loop> loop_;
};

}  // namespace pargeter
