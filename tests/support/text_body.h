// Bodies of files as text, both ways.
#pragma once

#include <string>

#include "provider/provider.h"
#include "provider/text_source.h"

namespace pargeter::test {

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
