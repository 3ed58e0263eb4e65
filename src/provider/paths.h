// Paths at stores that have real folders. Pure functions.
#pragma once

#include <string>

namespace pargeter {

// No part is empty, "." or "..": no server keeps such names, and clients on the way resolve them.
bool Sayable(const std::string& path);
inline bool IsFolderPath(const std::string& path) { return !path.empty() && path.back() == '/'; }
std::string NameIn(const std::string& path);  // the last part, of a folder too

}  // namespace pargeter
