// Threads, where the system may have no more of them to give (`ulimit -u`, TasksMax, a container's
// limit): what can be done with fewer is done with fewer.
#pragma once

#include <functional>

#include "base/error.h"

namespace pargeter {

// Runs `work` on this thread and on up to `count` - 1 others at the same time, and returns when all
// of them have returned. `work` must take its share by itself, and must not throw.
void WorkTogether(std::size_t count, const std::function<void()>& work);

// Whether so many more could be started now: kTooMany if not. Takes a moment, and leaves none.
Status CheckThreads(std::size_t count);

}  // namespace pargeter
