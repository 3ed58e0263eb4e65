// When to try a failed call again: a pure function, so that it can be tested without time passing.
#pragma once

#include <optional>

#include "base/clock.h"
#include "base/error.h"

namespace pargeter {

struct RetryPolicy {
  int max_attempts = 5;
  Duration first_delay{200};
  Duration max_delay{10000};
  Duration give_up_after{60000};  // counted from the first attempt
};

// What to do after attempt number `attempt` (1 = the first) failed with `error`, `elapsed` after
// the first one started. `random` is in [0, 1). Nothing: give up. Otherwise how long to wait:
// exponential with full jitter, never less than what the store asked for.
std::optional<Duration> NextTry(const RetryPolicy& policy, const Error& error, int attempt,
                                Duration elapsed, double random);

}  // namespace pargeter
