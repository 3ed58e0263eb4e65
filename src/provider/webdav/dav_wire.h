// Requests to one WebDAV server: addressed, authorized, sent, tried again; refusals become Errors.
// Thread-safe.
#pragma once

#include <functional>
#include <string>

#include "base/mutex.h"
#include "net/session.h"
#include "net/uri.h"

namespace pargeter::webdav {

struct Login {
  std::string user, password;  // Basic, RFC 7617
};
// A token to bear (RFC 6750) instead of a login; asked for each request. `refused`: the server did
// not take that one.
using Bearer = std::function<Result<std::string>(const std::string& refused, const Cancel&)>;

struct WireOptions {
  Endpoint base;  // the folder that paths are relative to
  Login login;
  Bearer bearer;  // none: the login
  HttpOptions http;
  std::string account;  // for remedies
  RetryPolicy retry;
  Deadlines deadlines;
  const Clock* clock = &SystemClock();
};

struct Call {
  std::string method = "GET";
  std::string root_path;  // if not "": relative to the server instead
  std::string target;     // if not "": path and query at the server, encoded as it said them
  std::string path;       // relative to the base, raw bytes; of a folder it ends in "/"
  std::string to;         // the same, of COPY and MOVE: the destination
  Headers headers;        // lower-case names
  std::string body;       // XML
  BodySource* source = nullptr;
  BodySink* sink = nullptr;
  std::string what;       // for messages: "cannot read x"
  Duration once{0};       // not 0: one attempt, within this span
  int* status = nullptr;  // of the last answer
  Cancel cancel;
};

class Wire {
 public:
  explicit Wire(WireOptions options);
  // 2xx answers only; everything else is an Error.
  Result<HttpResponse> Send(const Call& call);
  bool SetLogin(Login login) EXCLUDES(mutex_);  // false if it is the same
  std::string UrlOf(const std::string& path) const;
  std::optional<Nanos> Ahead() const { return session_.Ahead(); }
  Steady LastSign() const { return session_.LastSign(); }
  // Of what the server named by path and query.
  std::string UrlOfTarget(const std::string& target) const;
  const Endpoint& base() const { return options_.base; }

 private:
  Result<HttpRequest> Made(const Call& call, const std::string& refused, std::string* token)
      EXCLUDES(mutex_);
  const WireOptions options_;
  Session session_;
  mutable Mutex mutex_;
  Login login_ GUARDED_BY(mutex_);
};

// The error of a refused request.
Error ErrorOf(const HttpResponse& response, std::string_view what);

}  // namespace pargeter::webdav
