// Faults that the stand-ins make on purpose: which request meets which, set at the start or while
// they run. Thread-safe.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"

namespace pargeter::standin {

// One rule, written "status=503,share=0.05,retry-after=2" or as a JSON object with those names.
//   status=N       answer with that HTTP status      retry-after=SECONDS
//   cut            send half of the body, then close
//   reset          close with a TCP reset, before any answer
//   stall=MS       hold the answer back for so long
//   corrupt        change a byte of the body
//   wrong-etag     answer with an ETag that is not the object's
//   skew=SECONDS   pretend that the clock is so far ahead
//   lie            answer a change with 2xx, and do nothing
//   inside=N       answer 207 with that status for the resource, and do nothing; 0: for none
//   away=MS        refuse every connection from now on, for so long
// Which requests: nth=N (the Nth that matches, counted from 1), share=P (each with that
// probability), times=N (at most so many), method=PUT, key=TEXT (in the key). Without nth and
// share: all.
struct Fault {
  std::string kind;
  int status = 0;
  int retry_after = -1;
  long amount = 0;  // ms or s, by kind
  int nth = 0;
  double share = -1;
  int times = -1;
  std::string method, key;
  int seen = 0, made = 0;
};

Result<Fault> ParseFault(const std::string& text);

// What one request meets.
struct Plan {
  std::optional<Fault> status, cut, reset, stall, corrupt, wrong_etag, lie, inside;
};

class Faults {
 public:
  explicit Faults(const Clock& clock = SystemClock()) : clock_(clock) {}
  void Add(Fault fault);
  void Clear();
  Plan Meet(const std::string& method, const std::string& key);
  Nanos Skew() const;  // added to the store's clock
  bool Away() const;
  std::size_t Count() const;

 private:
  const Clock& clock_;
  mutable Mutex mutex_;
  std::vector<Fault> faults_ GUARDED_BY(mutex_);
  Nanos skew_ GUARDED_BY(mutex_) = 0;
  Steady away_until_ GUARDED_BY(mutex_){};
};

}  // namespace pargeter::standin
