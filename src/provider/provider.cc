#include "provider/provider.h"

namespace pargeter {

bool IsOwnScratchName(std::string_view name) {
  return name.substr(0, kScratchPrefix.size()) == kScratchPrefix;
}

std::string SymlinkBody(const std::string& target) {
  std::string body = "This object stands for a symbolic link to:\n" + target + "\n";
  body.resize(kSymlinkObjectSize, '\n');
  return body;
}

}  // namespace pargeter
