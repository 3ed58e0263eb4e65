// Entry for the coverage-guided fuzzer; PARGETER_FUZZ_KIND says which parser.
#include <cstdint>
#include <string_view>

#include "fuzz/parsers.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const auto& parse = pargeter::test::Parsers().at(PARGETER_FUZZ_KIND);
  parse(std::string_view(reinterpret_cast<const char*>(data), size));
  return 0;
}
