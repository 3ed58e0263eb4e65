// The FUSE operations. Each only translates: request in, one call of the engine, one reply.
#pragma once

#define FUSE_USE_VERSION FUSE_MAKE_VERSION(3, 12)
#include <fuse_lowlevel.h>

#include "engine/drive.h"

namespace pargeter {

// Readings ahead that may wait for the store at a time, each with a thread. All else has others.
constexpr unsigned kMostReads = 256;

// `userdata` of the session is a Shown.
const fuse_lowlevel_ops& StreamOperations();

}  // namespace pargeter
