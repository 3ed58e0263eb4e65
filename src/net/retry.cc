#include "net/retry.h"

#include <algorithm>
#include <cmath>

namespace pargeter {

std::optional<Duration> NextTry(const RetryPolicy& policy, const Error& error, int attempt,
                                Duration elapsed, double random) {
  if (!MayRetry(error.code) || attempt >= policy.max_attempts) return std::nullopt;
  const double ceiling =
      std::min(static_cast<double>(policy.max_delay.count()),
               static_cast<double>(policy.first_delay.count()) * std::pow(2.0, attempt - 1));
  // at least half of the step, so that a row of lucky numbers does not hammer the store
  Duration delay(static_cast<long>(ceiling * (0.5 + random / 2)));
  delay = std::max(delay, Duration(error.retry_after_ms));
  if (elapsed + delay > policy.give_up_after) return std::nullopt;
  return delay;
}

}  // namespace pargeter
