// A text as the body of a file.
#pragma once

#include <string>
#include <utility>

#include "provider/provider.h"

namespace pargeter {

class TextSource : public WriteSource {
 public:
  explicit TextSource(std::string text) : text_(std::move(text)) {}
  std::uint64_t Size() const override { return text_.size(); }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    return offset < text_.size() ? text_.copy(data, size, offset) : 0;
  }

 private:
  const std::string text_;
};

}  // namespace pargeter
