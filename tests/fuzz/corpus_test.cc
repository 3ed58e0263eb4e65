// Every saved input, and many small changes of each, through the parser that it is for.
#include <gtest/gtest.h>

#include <filesystem>
#include <random>

#include "fuzz/parsers.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

std::vector<std::string> Saved(const std::string& kind) {
  std::vector<std::string> out;
  for (const auto& entry :
       std::filesystem::directory_iterator(std::string(PARGETER_CORPUS) + "/" + kind))
    out.push_back(ReadAll(entry.path()));
  return out;
}

std::string Changed(std::string text, std::mt19937_64* dice) {
  static const std::string odd[] = {std::string(1, '\0'),
                                    "\xff",
                                    "<",
                                    ">",
                                    "&",
                                    "\"",
                                    "]]>",
                                    "{",
                                    "}",
                                    "\\u0000",
                                    "/",
                                    "..",
                                    "=",
                                    ";",
                                    "-1",
                                    "99999999999999999999",
                                    "\n",
                                    "[",
                                    "'''"};
  for (int i = static_cast<int>((*dice)() % 4); i >= 0; --i) {
    const std::size_t at = text.empty() ? 0 : (*dice)() % text.size();
    switch ((*dice)() % 5) {
      case 0:
        if (!text.empty()) text[at] = static_cast<char>((*dice)());
        break;
      case 1:
        text.insert(at, odd[(*dice)() % std::size(odd)]);
        break;
      case 2:
        text.erase(at, (*dice)() % 20);
        break;
      case 3:
        text.insert(at, text.substr(at, (*dice)() % 60));
        break;
      default:
        text.resize(at);
        break;
    }
  }
  return text;
}

class Corpus : public testing::TestWithParam<std::string> {};

TEST_P(Corpus, NoInputBreaksTheParser) {
  const auto& parse = Parsers().at(GetParam());
  const auto saved = Saved(GetParam());
  ASSERT_FALSE(saved.empty());
  std::mt19937_64 dice(7);
  for (const std::string& text : saved) {
    parse(text);
    for (int i = 0; i < 1500; ++i) parse(Changed(text, &dice));
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, Corpus,
                         testing::Values("xml", "json", "toml", "headers", "names", "packets"),
                         [](const auto& one) { return one.param; });

}  // namespace
}  // namespace pargeter::test
