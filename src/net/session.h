// Requests to one server, paced and tried again: what every protocol over HTTP needs alike.
// Thread-safe.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "base/mutex.h"
#include "net/http_client.h"
#include "net/retry.h"

namespace pargeter {

struct SessionOptions {
  HttpOptions http;
  RetryPolicy retry;
  const Clock* clock = &SystemClock();
  std::string account = {};  // for remedies; "": none is known
};

class Session {
 public:
  explicit Session(SessionOptions options);

  // Made anew for each attempt, since a signature or a token may have to be.
  using Build = std::function<Result<HttpRequest>()>;
  // The error of an answer that is no 2xx.
  using Judge = std::function<Error(const HttpResponse&)>;
  // 2xx answers only. Transient faults are tried again by the policy; when the server asks for a
  // pause nothing is sent before it is over, by anybody. `once` not 0: one attempt, on a connection
  // of its own, within that span.
  Result<HttpResponse> Send(const Build& build, const Judge& judge, Duration once,
                            const Cancel& cancel);
  // How far this machine's clock was ahead of the server's at the last answer, to a second or two.
  std::optional<Nanos> Ahead() const EXCLUDES(mutex_);
  Steady LastSign() const { return http_.LastSign(); }

 private:
  Result<HttpResponse> SendOnce(const Build& build, const Judge& judge, Duration once,
                                const Cancel& cancel);
  Status WaitForLeave(const Cancel& cancel) EXCLUDES(mutex_);

  const SessionOptions options_;
  HttpClient http_;
  HttpClient aside_;  // for requests that must not wait behind others
  mutable Mutex mutex_;
  std::optional<Nanos> ahead_ GUARDED_BY(mutex_);
  Steady pause_until_ GUARDED_BY(mutex_){};
};

}  // namespace pargeter
