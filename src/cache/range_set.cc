#include "cache/range_set.h"

#include <algorithm>

namespace pargeter {

void RangeSet::Add(Range range) {
  if (range.begin >= range.end) return;
  auto it = ranges_.upper_bound(range.begin);
  if (it != ranges_.begin() && std::prev(it)->second >= range.begin) --it;
  while (it != ranges_.end() && it->first <= range.end) {
    range.begin = std::min(range.begin, it->first);
    range.end = std::max(range.end, it->second);
    bytes_ -= it->second - it->first;
    it = ranges_.erase(it);
  }
  ranges_.emplace(range.begin, range.end);
  bytes_ += range.size();
}

void RangeSet::Remove(Range range) {
  if (range.begin >= range.end) return;
  auto it = ranges_.upper_bound(range.begin);
  if (it != ranges_.begin()) --it;
  while (it != ranges_.end() && it->first < range.end) {
    const Range old{it->first, it->second};
    if (old.end <= range.begin) {
      ++it;
      continue;
    }
    it = ranges_.erase(it);
    bytes_ -= old.size();
    if (old.begin < range.begin) {
      ranges_.emplace(old.begin, range.begin);
      bytes_ += range.begin - old.begin;
    }
    if (old.end > range.end) {
      it = ranges_.emplace(range.end, old.end).first;
      bytes_ += old.end - range.end;
    }
  }
}

void RangeSet::Clear() {
  ranges_.clear();
  bytes_ = 0;
}

bool RangeSet::Covers(Range range) const {
  if (range.begin >= range.end) return true;
  auto it = ranges_.upper_bound(range.begin);
  return it != ranges_.begin() && std::prev(it)->second >= range.end;
}

std::vector<Range> RangeSet::Missing(Range range) const {
  std::vector<Range> missing;
  std::uint64_t at = range.begin;
  auto it = ranges_.upper_bound(range.begin);
  if (it != ranges_.begin()) --it;
  for (; it != ranges_.end() && it->first < range.end && at < range.end; ++it) {
    if (it->first > at) missing.push_back({at, it->first});
    at = std::max(at, it->second);
  }
  if (at < range.end) missing.push_back({at, range.end});
  return missing;
}

std::uint64_t RangeSet::BytesIn(Range range) const {
  std::uint64_t bytes = 0;
  auto it = ranges_.upper_bound(range.begin);
  if (it != ranges_.begin()) --it;  // it may reach into the range
  for (; it != ranges_.end() && it->first < range.end; ++it) {
    const std::uint64_t begin = std::max(it->first, range.begin);
    const std::uint64_t end = std::min(it->second, range.end);
    if (end > begin) bytes += end - begin;
  }
  return bytes;
}

std::vector<Range> RangeSet::All() const {
  std::vector<Range> all;
  for (const auto& [begin, end] : ranges_) all.push_back({begin, end});
  return all;
}

std::string RangeSet::Serialize() const {
  std::string out;
  const auto put = [&](std::uint64_t value) {
    for (; value >= 0x80; value >>= 7) out += static_cast<char>((value & 0x7F) | 0x80);
    out += static_cast<char>(value);
  };
  std::uint64_t last = 0;
  for (const auto& [begin, end] : ranges_) {
    put(begin - last);
    put(end - begin);
    last = end;
  }
  return out;
}

RangeSet RangeSet::Parse(std::string_view serial) {
  RangeSet set;
  std::uint64_t at = 0;
  while (!serial.empty()) {
    std::uint64_t numbers[2] = {0, 0};
    for (std::uint64_t& number : numbers) {
      int shift = 0;
      for (;; shift += 7) {
        if (serial.empty() || shift > 56) return {};
        const auto byte = static_cast<unsigned char>(serial[0]);
        serial.remove_prefix(1);
        number |= static_cast<std::uint64_t>(byte & 0x7F) << shift;
        if ((byte & 0x80) == 0) break;
      }
    }
    if (numbers[0] > (1ull << 62) || numbers[1] > (1ull << 62) || at > (1ull << 62)) return {};
    set.Add({at + numbers[0], at + numbers[0] + numbers[1]});
    at += numbers[0] + numbers[1];
  }
  return set;
}

}  // namespace pargeter
