// The version of this program.
#pragma once

namespace pargeter {

extern const char* const kVersion;  // "1.2.3"

}  // namespace pargeter
