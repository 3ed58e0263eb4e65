// Attributes in one short line, for stores that carry text of ours with a file.
#pragma once

#include <string>
#include <string_view>

#include "provider/provider.h"

namespace pargeter {

// "m=644;t=1772357400.000000000;u=1000;g=1000;o=ORIGIN": mode in octal, seconds since 1970; what is
// not set is left out. Small on purpose: stores fail oddly with much of it. A symbolic link's
// target is not in it.
std::string PackAttributes(const Attributes& attributes);
// Reads what it understands and leaves the rest: the line comes from outside.
Attributes UnpackAttributes(const std::string& packed);
// The target of a symbolic link, in Base64; anything that cannot be one is "".
std::string PackLink(const std::string& target);
std::string UnpackLink(const std::string& packed);

}  // namespace pargeter
