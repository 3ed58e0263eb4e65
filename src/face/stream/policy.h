// How each open is served to the kernel: the one place that decides it.
//
//   cached   through the page cache; pages of the last open stay if they are of the same version
//   direct   past the page cache: while somebody still has an older version open, since the
//            kernel keeps one set of pages for all who have the file open
//
// Later: passthrough, for files that are wholly here. Block files are whole files for that reason.
#pragma once

#include "engine/drive.h"

namespace pargeter {

struct OpenMode {
  bool direct = false;
  bool keep_pages = false;
  bool no_flush = false;  // nothing to hear at close: only readers
};

inline OpenMode ModeFor(const OpenFile& file) {
  OpenMode mode;
  mode.direct = file.mixed_versions;
  mode.keep_pages = !mode.direct && file.kernel_pages_valid;
  mode.no_flush = !file.for_writing;
  return mode;
}

// How long the kernel may answer for us, in seconds. It is told when something changes; these
// bound what a lost or late word could do.
constexpr double kAttributeSeconds = 60;
constexpr double kEntrySeconds = 60;
constexpr double kNothingThereSeconds = 2;

}  // namespace pargeter
