#include "provider/range_sink.h"

#include <algorithm>
#include <cstdio>

namespace pargeter {

Status RangeSink::Begin(const HttpHead& head) {
  Entry entry = describe_(head);
  if (!version_.empty() && !entry.version.empty() && entry.version != version_) {
    return Error(Code::kChanged, "another version is there");
  }
  skip_ = 0;
  left_ = size_;
  std::uint64_t total = entry.size;
  if (head.status == 206) {
    std::uint64_t first = 0, last = 0;
    if (std::sscanf(head.Get("content-range").c_str(), "bytes %lu-%lu/%lu", &first, &last,
                    &total) != 3 ||
        first != offset_) {
      return Error(Code::kDamaged, "the store sent another range than was asked for");
    }
  } else {
    skip_ = offset_;  // the store ignored the range and sends everything
  }
  entry.size = total;
  left_ = std::min(size_, total > offset_ ? total - offset_ : 0);
  whole_ = offset_ == 0 && left_ == total;
  md5_.Reset();
  return out_->Begin(entry);
}

Status RangeSink::Write(std::string_view data) {
  if (skip_ > 0) {
    const std::size_t n = std::min<std::uint64_t>(skip_, data.size());
    skip_ -= n;
    data.remove_prefix(n);
  }
  data = data.substr(0, std::min<std::uint64_t>(left_, data.size()));
  if (data.empty()) return {};
  left_ -= data.size();
  if (check_md5_ && whole_) md5_.Update(data);
  return out_->Write(data);
}

Status RangeSink::Check() const {
  if (left_ > 0) return Error(Code::kDamaged, "the store's answer was cut short");
  return {};
}

}  // namespace pargeter
