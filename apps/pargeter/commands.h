// All commands of the program, in the order of the job.
#pragma once

#include <memory>
#include <string>

#include "command_line/command.h"
#include "world.h"

namespace pargeter::app {

// The program itself, with every command below it. Its options fill `world`; the action of a
// command sets `*run`. Both must outlive it.
std::unique_ptr<Command> DescribeCommands(World* world, Work* run);

// "pargeter 0.2.0", then the stores and the libraries that it was built with, in lines.
std::string VersionText();

// The command that shells call to complete a command line; help does not show it.
constexpr const char* kCompletionCommand = "complete";

}  // namespace pargeter::app
