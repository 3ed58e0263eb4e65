#include "spelling.h"

#include <utf8proc.h>

#include <cstdlib>

#include "base/text.h"

namespace pargeter::standin {
namespace {

std::string Folded(const std::string& path) {
  utf8proc_uint8_t* out = nullptr;
  const auto* in = reinterpret_cast<const utf8proc_uint8_t*>(path.data());
  const auto flags =
      static_cast<utf8proc_option_t>(UTF8PROC_STABLE | UTF8PROC_COMPOSE | UTF8PROC_CASEFOLD);
  const auto size = utf8proc_map(in, static_cast<utf8proc_ssize_t>(path.size()), &out, flags);
  if (size < 0) return path;  // no UTF-8
  std::string folded(reinterpret_cast<char*>(out), static_cast<std::size_t>(size));
  std::free(out);
  return folded;
}

std::string Bare(const std::string& key) {
  return !key.empty() && key.back() == '/' ? key.substr(0, key.size() - 1) : key;
}

}  // namespace

void Spelling::Made(const std::string& key) {
  if (folds_) actual_[Folded(Bare(key))] = Bare(key);
}
void Spelling::Gone(const std::string& key) {
  if (!folds_) return;
  const auto it = actual_.find(Folded(Bare(key)));
  if (it != actual_.end() && it->second == Bare(key)) actual_.erase(it);
}

std::string Spelling::Actual(const std::string& path) const {
  if (!folds_ || path.empty()) return path;
  std::string actual;
  for (const std::string& part : Split(Bare(path), '/')) {
    const std::string wished = actual.empty() ? part : actual + "/" + part;
    const auto it = actual_.find(Folded(wished));
    actual = it == actual_.end() ? wished : it->second;
  }
  return path.back() == '/' ? actual + "/" : actual;
}

}  // namespace pargeter::standin
