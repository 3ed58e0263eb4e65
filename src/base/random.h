// Unpredictable numbers for names and back-off. Thread-safe.
#pragma once

#include <cstdint>
#include <string>

namespace pargeter {

std::uint64_t RandomBits();
std::string RandomName(int bytes = 8);  // lower-case hexadecimal

}  // namespace pargeter
