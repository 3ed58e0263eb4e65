// Compares what a store gives with what is here, for stores whose versions say nothing of content.
#pragma once

#include <string>
#include <string_view>

#include "provider/provider.h"

namespace pargeter {

// Are these the source's bytes?
class CompareSink : public ReadSink {
 public:
  explicit CompareSink(WriteSource* source) : source_(source) {}
  Status Begin(const Entry&) override {
    at_ = 0;
    same_ = true;
    return {};
  }
  Status Write(std::string_view data) override {
    std::string own(data.size(), '\0');
    for (std::size_t n = 0; n < own.size();) {
      const auto read = source_->Read(own.data() + n, own.size() - n, at_ + n);
      if (!read.ok()) return Error(Code::kChanged, read.error().what);  // it is being changed
      const std::size_t got = *read;
      if (got == 0) return Error(Code::kChanged, "it is longer than what is here");
      n += got;
    }
    at_ += data.size();
    if (own == data) return {};
    same_ = false;
    return Error(Code::kChanged, "it is something else");
  }
  bool Same() const { return same_ && at_ == source_->Size(); }

 private:
  WriteSource* source_;
  std::uint64_t at_ = 0;
  bool same_ = true;
};

}  // namespace pargeter
