// Which drives are services of this user or of the machine, for the commands that show or change
// it.
#pragma once

#include <optional>
#include <string>

#include "service/units.h"
#include "world.h"

namespace pargeter::app {

// What starts a drive by itself, if anything does: a service that uses this very state.
struct Starting {
  Scope scope = Scope::kUser;
  std::string when;  // "at boot" or "at sign-in"
};
std::optional<Starting> StartOf(const World& world, const std::string& drive);
UnitPlaces UserPlaces(const World& world);

// Runs `work` in a child process as that user, and brings back its outcome.
Status AsUser(const std::string& user, const std::function<Status()>& work);
std::string UserName(unsigned uid);

}  // namespace pargeter::app
