#include "provider/range_sink.h"

#include <algorithm>
#include <charconv>
#include <cstdio>

namespace pargeter {

std::optional<std::uint64_t> TotalSize(const HttpHead& head) {
  std::string text = head.Get(head.status == 206 ? "content-range" : "content-length");
  if (const auto slash = text.rfind('/'); slash != std::string::npos) text.erase(0, slash + 1);
  std::uint64_t size = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), size);
  if (error != std::errc() || end == text.data()) return std::nullopt;
  return size;
}

Status RangeSink::Begin(const HttpHead& head) {
  Entry entry = describe_(head);
  is_other_ = !version_.empty() && !entry.version.empty() && entry.version != version_;
  if (is_other_) {
    return Error(Code::kChanged, "another version is there");
  }
  skip_ = 0;
  left_ = size_;
  const std::optional<std::uint64_t> total = TotalSize(head);
  if (head.status == 206) {
    std::uint64_t first = 0, last = 0;
    if (std::sscanf(head.Get("content-range").c_str(), "bytes %lu-%lu/", &first, &last) != 2 ||
        first != offset_ || last < first) {
      return Error(Code::kDamaged, "the store sent another range than was asked for");
    }
    if (!total) left_ = std::min(size_, last - first + 1);
  } else {
    skip_ = offset_;  // the store ignored the range and sends everything
  }
  open_end_ = !total;
  if (total) {
    entry.size = *total;
    left_ = std::min(size_, *total > offset_ ? *total - offset_ : 0);
  }
  whole_ = offset_ == 0 && total && left_ == *total;
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
  if (left_ > 0 && !open_end_) return Error(Code::kDamaged, "the store's answer was cut short");
  return {};
}

}  // namespace pargeter
