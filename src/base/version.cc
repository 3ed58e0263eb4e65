#include "base/version.h"

namespace pargeter {

const char* const kVersion = PARGETER_VERSION;

}  // namespace pargeter
