#pragma once

#include <string>

#include "base/clock.h"
#include "control/rpc.h"

namespace pargeter {

// One request to the drive behind `socket`; nothing if no drive runs there. kTimeout: no answer
// within `patience`. Other errors are the drive's own.
Result<std::optional<Json>> CallDrive(const std::string& socket, const std::string& method,
                                      const Json& params, Duration patience);

}  // namespace pargeter
