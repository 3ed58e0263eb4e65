// Sample data: the herbarium of an invented island museum, made from a seed. The same seed gives
// the same bytes on every machine.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "base/error.h"

namespace pargeter::app {

struct SampleSize {
  int sheets = 120;   // scans of pressed plants, PGM images of some 200 KiB
  int notebooks = 4;  // field notebooks of `pages` scanned pages each
  int pages = 24;
  int lists = 12;  // determination lists, CSV
  int loans = 40;  // loan forms, text
};

// Calls `emit` with each file's path and content; stops at its first error.
Status MakeSample(
    std::uint64_t seed, const SampleSize& size,
    const std::function<Status(const std::string& path, const std::string& content)>& emit);

}  // namespace pargeter::app
