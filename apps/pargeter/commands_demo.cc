#include <CLI/CLI.hpp>

#include "world.h"

namespace pargeter::app {
void AddDemoCommand(CLI::App*, Work*) {}
}  // namespace pargeter::app
