#include "provider/paths.h"

#include <vector>

#include "base/text.h"

namespace pargeter {

bool Sayable(const std::string& path) {
  if (path.find('\0') != std::string::npos) return false;
  const std::vector<std::string> parts = Split(path, '/');
  for (std::size_t i = 0; i < parts.size(); ++i) {
    const bool end = i + 1 == parts.size();  // a folder's path ends in "/"
    if (parts[i] == "." || parts[i] == ".." || (parts[i].empty() && !end)) return false;
  }
  return true;
}

std::string NameIn(const std::string& path) {
  const std::string plain = IsFolderPath(path) ? path.substr(0, path.size() - 1) : path;
  return plain.substr(plain.rfind('/') + 1);
}

}  // namespace pargeter
