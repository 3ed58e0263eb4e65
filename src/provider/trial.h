// A trial file at a store, for `account test`: what a drive would do with one, by the same calls.
#pragma once

#include "provider/provider.h"

namespace pargeter {

inline constexpr const char* kGuarded = "the store itself guards changes that were not seen";
inline constexpr const char* kNotGuarded =
    "the store guards no changes that were not seen, so each is looked for before a write";

// Writes a file under a random name of our own, reads it back whole and by range, as the version
// that a listing names, renames and deletes it; a step of `report` for each, up to the first that
// fails. Nothing is left at the store, as far as it lets us. `guarded`: said of the first step.
void TryFile(Provider* provider, const std::string& guarded, const Cancel& cancel,
             TestReport* report);

}  // namespace pargeter
