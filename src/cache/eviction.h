// Which cached file goes first. Pure functions.
//
// Least recently used first, in two segments: files that were used once, and files that were used
// again, at another time. One pass over everything (a backup, a search, a scan) fills only the
// first segment: while that holds more than its share, its files go, and what people work with
// stays. A file that is read again after it had to go is known to have been used before, and is in
// the second segment at once: so a working set that changes is taken in after one look each.
#pragma once

#include <cstdint>

#include "base/clock.h"

namespace pargeter {

struct Use {
  Nanos last = 0;      // 0: never
  bool again = false;  // used at two times that are apart, and yet not long apart
};

constexpr Nanos kOneUse = 60ll * 1'000'000'000;           // whatever is closer is one use
constexpr Nanos kHabit = 24 * 3600ll * 1'000'000'000;     // whatever is farther is no habit
constexpr Nanos kHabitGone = 1 * 3600ll * 1'000'000'000;  // ... of a file that had to go

// `here`: it is still on the disk.
inline Use Used(Use before, bool here, Nanos now) {
  const Nanos gap = now - before.last;
  const bool habit = before.last != 0 && gap >= kOneUse && gap <= (here ? kHabit : kHabitGone);
  // within one use the first time counts, else a steady reader would never come again
  const bool same = before.last != 0 && gap >= 0 && gap < kOneUse;
  return {same ? before.last : now, before.again || habit};
}

enum class Segment { kOnce, kAgain };

// From which a file has to go, while the first holds `once` bytes and the cache may hold `limit`.
inline Segment FirstToGo(std::uint64_t once, std::uint64_t limit) {
  return once > limit / 3 ? Segment::kOnce : Segment::kAgain;
}

}  // namespace pargeter
