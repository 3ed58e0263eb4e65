#include "provider/provider.h"

namespace pargeter {

bool IsOwnScratchName(std::string_view name) {
  return name.substr(0, kScratchPrefix.size()) == kScratchPrefix;
}

}  // namespace pargeter
