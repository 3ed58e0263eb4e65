// The form of Node::upload.
#include "engine/provenance/sent.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>
#include <vector>

#include "base/text.h"

namespace pargeter {

namespace {
constexpr std::size_t kRemembered = 12;

std::string Written(const std::vector<SentMark>& all) {
  std::string out;
  for (const SentMark& one : all) out += (out.empty() ? "=" : "\n") + one.of + " " + one.place;
  return out;
}
}  // namespace

std::vector<SentMark> ParseSent(const std::string& upload) {
  std::vector<SentMark> all;
  if (upload.empty() || HasParts(upload)) return all;
  for (const std::string& line : Split(upload.substr(1), '\n')) {
    const auto space = line.find(' ');
    if (space != std::string::npos) all.push_back({line.substr(0, space), line.substr(space + 1)});
  }
  return all;
}

std::string PlaceIn(NodeId folder, const std::string& key) {
  std::string name;  // in one line
  for (const char c : key) name += c == '\n' ? "%0A" : c == '%' ? "%25" : std::string(1, c);
  return fmt::format("{}/{}", folder, name);
}

bool SentTo(const std::string& upload, const std::string& place) {
  const std::vector<SentMark> all = ParseSent(upload);
  return std::any_of(all.begin(), all.end(),
                     [&](const SentMark& one) { return one.place == place; });
}

bool AnythingSentTo(const std::string& upload, const std::string& place) {
  const std::vector<SentMark> all = ParseSent(upload);
  return std::find(all.begin(), all.end(), SentMark{kAnything, place}) != all.end();
}

std::string WithoutAnything(const std::string& upload) {
  if (HasParts(upload)) return upload;
  std::vector<SentMark> all = ParseSent(upload);
  std::erase_if(all, [](const SentMark& one) { return one.of == kAnything; });
  return Written(all);
}

std::string MovedSent(const std::string& upload, NodeId from, NodeId to) {
  if (HasParts(upload)) return upload;
  const std::string former = PlaceIn(from, "");
  std::vector<SentMark> all = ParseSent(upload);
  for (SentMark& one : all)
    if (one.place.rfind(former, 0) == 0)
      one.place = PlaceIn(to, "") + one.place.substr(former.size());
  return Written(all);
}

std::string BytesMark(std::uint64_t size, const std::string& digest) {
  return fmt::format("{}:{}", size, Hex(digest));
}

std::string TimeMark(std::uint64_t size, Nanos mtime) {
  return fmt::format("{}@{}", size, mtime / 1'000'000'000);
}

std::string WithSent(const std::string& upload, const std::string& place, const std::string& mark) {
  std::vector<SentMark> all = ParseSent(upload);
  std::erase(all, SentMark{mark, place});
  all.push_back({mark, place});
  if (all.size() > kRemembered) all.erase(all.begin());
  return Written(all);
}

std::string WithoutSent(const std::string& upload, const std::string& place) {
  if (HasParts(upload)) return upload;
  std::vector<SentMark> all = ParseSent(upload);
  std::erase_if(all, [&](const SentMark& one) { return one.place == place; });
  return Written(all);
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
