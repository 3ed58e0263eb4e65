// A set of byte ranges [begin, end): which bytes of a file are on this disk. Kept merged and
// sorted. Not thread-safe.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <string_view>
#include <vector>

namespace pargeter {

struct Range {
  std::uint64_t begin = 0, end = 0;
  std::uint64_t size() const { return end - begin; }
  bool operator==(const Range&) const = default;
};

class RangeSet {
 public:
  void Add(Range range);
  void Remove(Range range);
  void Clear();
  bool Covers(Range range) const;
  // The parts of `range` that are not in the set, in order.
  std::vector<Range> Missing(Range range) const;
  std::vector<Range> All() const;
  std::uint64_t Bytes() const { return bytes_; }
  std::uint64_t BytesIn(Range range) const;
  bool empty() const { return ranges_.empty(); }

  // Variable-length integers: gap and length in turn. A damaged text gives the empty set: what is
  // not known to be here is fetched again.
  std::string Serialize() const;
  static RangeSet Parse(std::string_view serial);

 private:
  std::map<std::uint64_t, std::uint64_t> ranges_;  // begin -> end
  std::uint64_t bytes_ = 0;
};

}  // namespace pargeter
