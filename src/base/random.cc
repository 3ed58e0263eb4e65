#include "base/random.h"

#include <random>

#include "base/text.h"

namespace pargeter {

std::uint64_t RandomBits() {
  thread_local std::mt19937_64 engine{(static_cast<std::uint64_t>(std::random_device{}()) << 32) ^
                                      std::random_device{}()};
  return engine();
}

std::string RandomName(int bytes) {
  std::random_device device;
  std::string raw;
  for (int i = 0; i < bytes; ++i) raw += static_cast<char>(device() & 0xFF);
  return Hex(raw);
}

}  // namespace pargeter
