// What a drive answers to commands, whether it runs (through its socket) or not (its state opened
// by the command itself).
#pragma once

#include "control/rpc.h"
#include "engine/drive.h"

namespace pargeter::app {

Result<Json> AnswerMethod(Drive* drive, const std::string& method, const Json& params);

}  // namespace pargeter::app
