// Bodies of files as text, both ways.
#pragma once

#include <string>

#include "provider/provider.h"

namespace pargeter::test {

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

class TextSink : public ReadSink {
 public:
  Status Begin(const Entry& e) override {
    entry = e;
    text.clear();
    return {};
  }
  Status Write(std::string_view data) override {
    text += data;
    return {};
  }
  Entry entry;
  std::string text;
};

}  // namespace pargeter::test
