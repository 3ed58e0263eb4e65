#include "engine/api/naming.h"

#include <gtest/gtest.h>

#include <random>

#include "base/text.h"

namespace pargeter::test {
namespace {

TEST(NamingTest, OrdinaryNamesAreThemselves) {
  for (const char* name :
       {"sheet 1.jpg", "Ünïcödé", "100%", "a{b}", "{", "x{41}", ".hidden", "..."}) {
    EXPECT_EQ(KeyToName(name), name);
    EXPECT_EQ(NameToKey(name), name);
  }
}

TEST(NamingTest, WhatTheOtherSideCannotHoldIsSpelled) {
  EXPECT_EQ(KeyToName(""), "{}");
  EXPECT_EQ(KeyToName("."), "{x2E}");
  EXPECT_EQ(KeyToName(".."), "{x2E}{x2E}");
  EXPECT_EQ(KeyToName(std::string("a\0b", 3)), "a{x00}b");
  EXPECT_EQ(KeyToName("a{x2E}b"), "a{x7B}x2E}b");
  EXPECT_EQ(NameToKey("caf\xE9"), "caf{bE9}");
  EXPECT_TRUE(IsUtf8(NameToKey("\xFF\xFE")));
}

TEST(NamingTest, BothWaysComeBackForEverything) {
  std::mt19937 random(11);
  constexpr char kLetters[] = "{}xb07BEF29.a\xE9\xC3\xA9\0/";
  const std::string letters(kLetters, sizeof(kLetters) - 1);
  for (int round = 0; round < 60000; ++round) {
    std::string text;
    for (std::size_t n = random() % 12; n > 0; --n) text += letters[random() % letters.size()];
    if (text.find('/') == std::string::npos) {
      const std::string name = KeyToName(text);
      ASSERT_EQ(NameToKey(name), text) << Printable(text) << " -> " << Printable(name);
      ASSERT_TRUE(name != "." && name != ".." && !name.empty() &&
                  name.find('\0') == std::string::npos);
    }
    const bool legal = !text.empty() && text != "." && text != ".." &&
                       text.find('/') == std::string::npos && text.find('\0') == std::string::npos;
    if (legal) {
      ASSERT_EQ(KeyToName(NameToKey(text)), text)
          << Printable(text) << " -> " << Printable(NameToKey(text));
      // only a name that spells such a key itself stands for one that is no UTF-8
      ASSERT_TRUE(IsUtf8(NameToKey(text)) || text.find("{x") != std::string::npos);
    }
  }
}

// A name may have 255 bytes of any kind, and a part of a key 1,000.
TEST(NamingTest, NamesOfAnyBytesFitIntoAKeyAndComeBack) {
  for (const std::string& piece : {std::string("\xE9"),
                                   std::string("\xE9\xE8"
                                               "a"),
                                   std::string("{x2E}"),
                                   std::string("\xFF"
                                               "{b"),
                                   std::string("\xE9\xE8\xE7"
                                               "}")}) {
    std::string name;
    while (name.size() + piece.size() <= kMaxName) name += piece;
    const std::string key = NameToKey(name);
    EXPECT_LE(key.size(), 1000u) << piece;
    EXPECT_TRUE(IsUtf8(key)) << piece;
    EXPECT_EQ(KeyToName(key), name) << key;
  }
  EXPECT_EQ(NameToKey("caf\xE9\xE8"), "caf{bE9}{bE8}") << "short ones stay as they were";
}

TEST(NamingTest, LongNamesAreShortenedApart) {
  const std::string a = std::string(300, 'a') + "1", b = std::string(300, 'a') + "2";
  EXPECT_LE(ShortenName(a).size(), kMaxName);
  EXPECT_NE(ShortenName(a), ShortenName(b));
  std::string wide;
  while (wide.size() < 400) wide += "日";
  EXPECT_TRUE(IsUtf8(ShortenName(wide)));
}

TEST(NamingTest, SpellingsOfOneName) {
  EXPECT_TRUE(DifferInSpelling("Fern.TXT", "fern.txt"));
  EXPECT_TRUE(DifferInSpelling("caf\u00e9", "CAFE\u0301"));
  EXPECT_FALSE(DifferInSpelling("fern", "fern"));
  EXPECT_FALSE(DifferInSpelling("fern", "ferns"));
  EXPECT_FALSE(DifferInSpelling("a\xFF", "A\xFF")) << "no UTF-8: nobody folds it";
}

TEST(NamingTest, ConflictCopiesKeepTheirEndingAndFit) {
  EXPECT_EQ(ConflictName("notes.csv", "isle", "2026-03-01 09.30.00"),
            "notes (kept from isle 2026-03-01 09.30.00).csv");
  EXPECT_EQ(ConflictName(".profile", "isle", "t"), ".profile (kept from isle t)");
  EXPECT_EQ(ConflictName("notes (kept from isle 2026-03-01 09.30.00)", "isle", "t"),
            "notes (kept from isle 2026-03-01 09.30.00) (kept from isle t)");
  const std::string no_ending = "v1." + std::string(40, 'n');
  EXPECT_EQ(ConflictName(no_ending, "isle", "t"), no_ending + " (kept from isle t)");
  EXPECT_LE(ConflictName(std::string(250, 'n') + ".csv", "isle", "2026-03-01 09.30.00").size(),
            kMaxName);
}

}  // namespace
}  // namespace pargeter::test
