// The marks of an upload log.
#include "engine/provenance/sent.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>
#include <vector>

#include "base/text.h"

namespace pargeter {

std::string PlaceIdIn(NodeId folder, const std::string& key) {
  std::string name;  // in one line
  for (const char c : key) name += c == '\n' ? "%0A" : c == '%' ? "%25" : std::string(1, c);
  return fmt::format("{}/{}", folder, name);
}

std::string BytesMark(std::uint64_t size, const std::string& digest) {
  return fmt::format("{}:{}", size, Hex(digest));
}

std::string TimeMark(std::uint64_t size, Nanos mtime) {
  return fmt::format("{}@{}", size, mtime / 1'000'000'000);
}

Result<std::size_t> SentSource::Read(char* data, std::size_t size, std::uint64_t offset) {
  PG_ASSIGN(const std::size_t n, source_.Read(data, size, offset));
  if (offset == 0 && at_ != 0) {  // once more from the start
    md5_.Reset();
    at_ = 0;
  }
  if (offset != at_ || n == 0) return n;
  md5_.Update({data, n});
  at_ += n;
  if (at_ == Size()) PG_TRY(tell_(md5_.Finish()));
  return n;
}

}  // namespace pargeter
