// The contract of Provider, run against every store at hand.
#include "conformance.h"

#include <algorithm>
#include <set>

#include "base/digest.h"
#include "base/text.h"

namespace pargeter::test {
namespace {

TEST_P(ConformanceTest, WhatIsWrittenIsReadBackWhole) {
  for (const std::size_t size : {0u, 1u, 4096u, 300000u}) {
    const auto put = Put("a.bin", Bytes(size));
    ASSERT_OK(put);
    EXPECT_FALSE(put->version.empty());
    const auto got = Get("a.bin", put->version);
    ASSERT_TRUE(got.ok() || size == 0) << got.error().what;
    if (size > 0) {
      EXPECT_EQ(*got, Bytes(size));
    }
    const auto look = provider_->Look("a.bin", nullptr);
    ASSERT_OK(look);
    EXPECT_EQ(look->size, size);
    EXPECT_EQ(look->version, put->version);
    EXPECT_GT(look->modified, 0);
  }
}

TEST_P(ConformanceTest, ARangeIsExactlyThatRange) {
  const std::string all = Bytes(100000);
  const auto put = Put("r", all);
  ASSERT_OK(put);
  EXPECT_EQ(*Get("r", put->version, 0, 10), all.substr(0, 10));
  EXPECT_EQ(*Get("r", put->version, 50000, 4096), all.substr(50000, 4096));
  EXPECT_EQ(*Get("r", put->version, 99990, 100), all.substr(99990));
  EXPECT_EQ(Get("r", put->version, 200000, 10).error().code, Code::kChanged);
}

// Some servers tell less of one type of file than of another.
TEST_P(ConformanceTest, EveryTypeOfFileIsReadAsTheVersionThatTheListingNames) {
  const std::string large = Bytes((9u << 20) + 5);
  for (const std::string name : {"field.txt", "field.h"}) {
    ASSERT_OK(Put(name, "first of all"));
    const std::string former = ListAll("").at(name).version;
    ASSERT_OK(Put(name, large));
    const std::string version = ListAll("").at(name).version;
    const auto whole = Get(name, version);
    ASSERT_OK(whole);
    EXPECT_TRUE(*whole == large) << name;
    EXPECT_EQ(*Get(name, version, large.size() - 10, 100), large.substr(large.size() - 10));
    EXPECT_EQ(*Get(name, version, 4u << 20, 77), large.substr(4u << 20, 77));
    EXPECT_EQ(Get(name, former).error().code, Code::kChanged) << name;
  }
}

TEST_P(ConformanceTest, ReadingAnotherVersionIsRefused) {
  const auto first = Put("v", "first");
  ASSERT_OK(first);
  ASSERT_OK(Put("v", "second"));
  EXPECT_EQ(Get("v", first->version).error().code, Code::kChanged);
  EXPECT_EQ(Get("nothing-here").error().code, Code::kNotFound);
}

TEST_P(ConformanceTest, APreconditionKeepsWhatOthersWrote) {
  // of different sizes: where there are no tags, changes of one second are told apart by them
  const auto first = Put("p", "first", Precondition::Absent());
  ASSERT_OK(first);
  EXPECT_EQ(Put("p", "two", Precondition::Absent()).error().code, Code::kChanged);
  const auto second = Put("p", "two", Precondition::Is(first->version));
  ASSERT_OK(second);
  EXPECT_EQ(Put("p", "three", Precondition::Is(first->version)).error().code, Code::kChanged);
  EXPECT_EQ(*Get("p"), "two");
  EXPECT_EQ(provider_->Remove("p", Precondition::Is(first->version), nullptr).error().code,
            Code::kChanged);
  ASSERT_OK(provider_->Remove("p", Precondition::Is(second->version), nullptr));
  ASSERT_OK(provider_->Remove("p", Precondition::StillIs(second->version), nullptr));
  ASSERT_OK(provider_->Remove("p", Precondition::Anything(), nullptr));
  EXPECT_EQ(Put("p", "x", Precondition::Is("0123456789abcdef0123456789abcdef")).error().code,
            Code::kChanged);
}

TEST_P(ConformanceTest, AttributesTravelWithTheFile) {
  if (!provider_->Can().keeps_attributes) GTEST_SKIP() << "this store keeps no attributes";
  Attributes a;
  a.mode = 0754;
  a.mtime = 1234567890123456789;
  a.uid = 1000;
  a.symlink = "wo anders/Ä%41";
  ASSERT_OK(Put("meta", "", Precondition::Anything(), a));
  const auto look = provider_->Look("meta", nullptr);
  ASSERT_OK(look);
  const Capabilities can = provider_->Can();
  if (can.exact_times) {
    EXPECT_EQ(look->attributes.mtime, a.mtime);
  }
  if (can.carries_owners) {
    EXPECT_EQ(look->attributes.uid, a.uid);
  }
  EXPECT_EQ(look->attributes.symlink, a.symlink);
  EXPECT_EQ(look->kind, Kind::kSymlink);
  a.symlink.reset();
  ASSERT_OK(Put("plain", "plain", Precondition::Anything(), a));
  const auto plain = provider_->Look("plain", nullptr);
  ASSERT_OK(plain);
  EXPECT_EQ(plain->attributes.mode, a.mode);
  EXPECT_EQ(*plain->attributes.mtime / 1'000'000'000, *a.mtime / 1'000'000'000);
}

TEST_P(ConformanceTest, StrangeKeysComeBackAsTheyAre) {
  std::vector<std::string> names = {
      "with space", "Ünïcödé-日本", "100%",    "a+b",         "q?x=1&y",
      "semi;colon", "hash#",        "tick'\"", "back\\slash", "star*",
      "{x2E}",      "~tilde",       "a=b,c",   "new\nline",   std::string(200, 'k')};
  std::erase_if(names, [&](const std::string& name) {  // a server may refuse what it cannot hold
    const auto put = Put("odd/" + name, name);
    const bool refused = !put.ok() && put.error().code == Code::kInvalid;
    EXPECT_TRUE(put.ok() || refused) << name << ": " << put.error().what;
    return refused;
  });
  ASSERT_GE(names.size(), 14u);
  const auto listed = ListAll("odd/");
  for (const std::string& name : names) {
    EXPECT_EQ(listed.count(name), 1u) << name;
    const auto got = Get("odd/" + name);
    ASSERT_OK(got);
    EXPECT_EQ(*got, name);
  }
  EXPECT_EQ(listed.size(), names.size());
  std::vector<Provider::Removal> removals;
  for (const std::string& name : names)
    if (name == "with space" || name == "tick'\"" || name == "new\nline")
      removals.push_back({"odd/" + name, ""});
  const auto failed = provider_->RemoveMany(removals, nullptr);
  ASSERT_OK(failed);
  EXPECT_TRUE(failed->empty());
  EXPECT_EQ(ListAll("odd/").size(), names.size() - removals.size());
}

TEST_P(ConformanceTest, CopiesAreMadeByTheStore) {
  Attributes a;
  a.mode = 0600;
  const auto original = Put("c1", "content", Precondition::Anything(), a);
  ASSERT_OK(original);
  const auto copy =
      provider_->Copy("c1", original->version, 7, "c2", nullptr, Precondition::Absent(), nullptr);
  ASSERT_OK(copy);
  EXPECT_EQ(*Get("c2", copy->version), "content");
  const bool keeps = provider_->Can().keeps_attributes;
  const auto mode = [&](const std::string& path) {
    return keeps ? provider_->Look(path, nullptr)->attributes.mode : std::nullopt;
  };
  EXPECT_EQ(mode("c2"), keeps ? a.mode : std::nullopt);
  Attributes b;
  b.mode = 0644;
  ASSERT_OK(provider_->Copy("c1", original->version, 7, "c3", &b, Precondition::Absent(), nullptr));
  EXPECT_EQ(mode("c3"), keeps ? b.mode : std::nullopt);
  EXPECT_EQ(
      provider_->Copy("c1", original->version, 7, "c2", nullptr, Precondition::Absent(), nullptr)
          .error()
          .code,
      Code::kChanged);
  const auto odd = Put("c %41+&Ü", "odd");
  ASSERT_OK(odd);
  ASSERT_OK(
      provider_->Copy("c %41+&Ü", odd->version, 3, "c5", nullptr, Precondition::Absent(), nullptr));
  EXPECT_EQ(*Get("c5"), "odd");
  ASSERT_OK(Put("c1", "changed it"));
  EXPECT_EQ(
      provider_->Copy("c1", original->version, 7, "c4", nullptr, Precondition::Absent(), nullptr)
          .error()
          .code,
      Code::kChanged);
}

TEST_P(ConformanceTest, AttributesTravelWithTheFolder) {
  if (!provider_->Can().keeps_attributes) GTEST_SKIP() << "this store keeps no attributes";
  Attributes a;
  a.mode = 0710;
  a.mtime = 1234567890123456789;
  ASSERT_OK(provider_->MakeFolder("private", a, nullptr));
  const auto look = provider_->LookFolder("private", nullptr);
  ASSERT_OK(look);
  EXPECT_EQ(look->kind, Kind::kFolder);
  EXPECT_EQ(look->attributes.mode, a.mode);
  EXPECT_EQ(*look->attributes.mtime / 1'000'000'000, *a.mtime / 1'000'000'000);
  a.mode = 0700;
  ASSERT_OK(provider_->MakeFolder("private", a, nullptr));  // it is set anew
  EXPECT_EQ(provider_->LookFolder("private", nullptr)->attributes.mode, a.mode);
  EXPECT_EQ(provider_->LookFolder("nothing", nullptr).error().code, Code::kNotFound);
  ASSERT_OK(Put("file", "x"));
  EXPECT_EQ(provider_->LookFolder("file", nullptr).error().code, Code::kNotFound);
}

TEST_P(ConformanceTest, FoldersStayWhileSomethingIsInThem) {
  ASSERT_OK(provider_->MakeFolder("empty", {}, nullptr));
  ASSERT_OK(provider_->MakeFolder("empty", {}, nullptr));  // again: it is there
  ASSERT_OK(Put("full/deep/x", "x"));                      // what is above is made
  auto listed = ListAll("");
  EXPECT_EQ(listed.count("empty/"), 1u);
  EXPECT_EQ(listed.count("full/"), 1u);
  EXPECT_EQ(provider_->Look("full", nullptr)->kind, Kind::kFolder);
  ASSERT_OK(provider_->RemoveFolder("empty", nullptr));
  ASSERT_OK(provider_->RemoveFolder("empty", nullptr));
  EXPECT_EQ(ListAll("").count("empty/"), 0u);
  EXPECT_EQ(provider_->Look("empty", nullptr).error().code, Code::kNotFound);
  ASSERT_OK(provider_->RemoveFolder("full/deep", nullptr));
  EXPECT_EQ(*Get("full/deep/x"), "x");
  EXPECT_TRUE(ListAll("nothing/").empty());
}

TEST_P(ConformanceTest, AFolderMovesWithAllThatIsInIt) {
  if (!provider_->Can().moves_folders) GTEST_SKIP() << "this store moves no folders";
  ASSERT_OK(Put("old/a", "a"));
  ASSERT_OK(Put("old/deep/b", "b"));
  ASSERT_OK(Put("taken/c", "c"));
  EXPECT_EQ(provider_->MoveFolder("old", "taken", nullptr).error().code, Code::kChanged);
  EXPECT_EQ(*Get("taken/c"), "c");
  ASSERT_OK(provider_->MoveFolder("old", "new/place", nullptr));
  EXPECT_EQ(*Get("new/place/deep/b"), "b");
  EXPECT_EQ(provider_->Look("old", nullptr).error().code, Code::kNotFound);
  ASSERT_OK(provider_->MoveFolder("old", "new/place", nullptr));  // as if the answer was lost
}

// Refused so that whoever asks looks what is in the way, and the file is as it was.
TEST_P(ConformanceTest, NoFolderTakesThePlaceOfAFile) {
  if (!provider_->Can().real_folders) GTEST_SKIP() << "both can be at one path";
  ASSERT_OK(Put("f", "theirs"));
  const auto ours = Put("d/x", "x");
  ASSERT_OK(ours);
  const auto kind = [](const auto& outcome) {
    return outcome.ok() ? std::string("done") : std::string(NameOf(outcome.error().code));
  };
  const std::string refused(NameOf(Code::kChanged));
  EXPECT_EQ(kind(provider_->MakeFolder("f", {}, nullptr)), refused);
  EXPECT_EQ(kind(provider_->MakeFolder("f/e", {}, nullptr)), refused);
  EXPECT_EQ(kind(Put("f/x", "x", Precondition::Absent())), refused);
  EXPECT_EQ(kind(Put("f/e/x", "x", Precondition::Absent())), refused);
  EXPECT_EQ(kind(provider_->Copy("d/x", ours->version, 1, "f/x", nullptr, Precondition::Absent(),
                                 nullptr)),
            refused);
  if (provider_->Can().moves_files) {
    EXPECT_EQ(
        kind(provider_->MoveFile("d/x", ours->version, "f/x", Precondition::Absent(), nullptr)),
        refused);
  }
  if (provider_->Can().moves_folders) {
    EXPECT_EQ(kind(provider_->MoveFolder("d", "f", nullptr)), refused);
    EXPECT_EQ(kind(provider_->MoveFolder("d", "f/e", nullptr)), refused);
  }
  for (const char* below : {"f/x", "f/e", "f/e/x"})
    EXPECT_EQ(kind(provider_->Look(below, nullptr)), NameOf(Code::kNotFound)) << below;
  const auto inside = provider_->ListDeep("f/", "", nullptr);
  ASSERT_OK(inside);
  EXPECT_TRUE(inside->entries.empty());
  EXPECT_EQ(*Get("f"), "theirs");
  EXPECT_EQ(*Get("d/x"), "x");
}

// Others may have put one there since the folder left.
TEST_P(ConformanceTest, AFileIsNotTakenForTheFolderOfThatName) {
  ASSERT_OK(Put("f", "theirs"));
  ASSERT_OK(Put("d/x", "x"));
  if (provider_->Can().moves_folders) {
    const Status moved = provider_->MoveFolder("f", "e", nullptr);
    EXPECT_FALSE(moved.ok());
    if (!moved.ok()) {
      EXPECT_EQ(NameOf(moved.error().code), NameOf(Code::kNotFound));
    }
    EXPECT_EQ(provider_->Look("e", nullptr).error().code, Code::kNotFound);
    EXPECT_TRUE(provider_->MoveFolder("f", "d", nullptr).ok()) << "it is there already";
  }
  Ignore(provider_->RemoveFolder("f", nullptr));
  EXPECT_EQ(*Get("f"), "theirs");
  EXPECT_EQ(*Get("d/x"), "x");
}

TEST_P(ConformanceTest, AFileMovesAndKeepsItsVersion) {
  if (!provider_->Can().moves_files) GTEST_SKIP() << "this store moves no files";
  const auto a = Put("a", "a");
  ASSERT_OK(a);
  const auto moved = provider_->MoveFile("a", a->version, "to/b", Precondition::Absent(), nullptr);
  ASSERT_OK(moved);
  EXPECT_EQ(moved->version, a->version);
  EXPECT_EQ(*Get("to/b", a->version), "a");
  EXPECT_EQ(
      provider_->MoveFile("a", a->version, "to/b", Precondition::Absent(), nullptr).error().code,
      Code::kNotFound);
  const auto long_one = Put("long", "another one");
  ASSERT_OK(long_one);
  EXPECT_EQ(provider_->MoveFile("to/b", "1-2", "c", Precondition::Absent(), nullptr).error().code,
            Code::kChanged);
  EXPECT_EQ(
      provider_->MoveFile("to/b", a->version, "long", Precondition::Absent(), nullptr).error().code,
      Code::kChanged);
  EXPECT_EQ(provider_->MoveFile("to/b", a->version, "long", Precondition::Is("1-2"), nullptr)
                .error()
                .code,
            Code::kChanged);
  EXPECT_EQ(*Get("long"), "another one");
  ASSERT_OK(provider_->MoveFile("to/b", a->version, "long", Precondition::Is(long_one->version),
                                nullptr));
  EXPECT_EQ(*Get("long", a->version), "a");
}

TEST_P(ConformanceTest, EverythingBelowIsListedWithItsFolders) {
  ASSERT_OK(Put("top/a", "1"));
  ASSERT_OK(Put("top/d/b", "2"));
  ASSERT_OK(provider_->MakeFolder("top/e", {}, nullptr));
  std::set<std::string> names;
  for (std::string next;;) {
    const auto page = provider_->ListDeep("top/", next, nullptr);
    ASSERT_OK(page);
    for (const Entry& e : page->entries) names.insert(e.name);
    next = page->next;
    if (next.empty()) break;
  }
  EXPECT_EQ(names.count("a") + names.count("d/b") + names.count("e/"), 3u);
}

// Some servers follow a link when it is renamed, and some know its target only as an absolute one.
TEST_P(ConformanceTest, ALinkIsNeverTakenForTheFileThatItNames) {
  if (!provider_->Can().holds_links) GTEST_SKIP() << "this store holds no symbolic links";
  ASSERT_OK(Put("d/big", "all of it"));
  Attributes a;
  a.symlink = "big";
  const auto link = Put("d/link", SymlinkBody("big"), Precondition::Absent(), a);
  ASSERT_OK(link);
  const auto expect = [&](const std::string& path, const std::string& target) {
    const auto look = provider_->Look(path, nullptr);
    ASSERT_OK(look);
    EXPECT_EQ(look->kind, Kind::kSymlink) << path;
    EXPECT_EQ(look->attributes.symlink, target) << path;
    EXPECT_EQ(*Get("d/big"), "all of it");
  };
  expect("d/link", "big");
  a.symlink = "../d/big";
  const auto taken = Put("d/link", SymlinkBody("../d/big"), Precondition::Absent(), a);
  EXPECT_TRUE(!taken.ok() && taken.error().code == Code::kChanged);
  // (a server may shorten it)
  ASSERT_OK(Put("d/link", SymlinkBody("../d/big"), Precondition::Is(link->version), a));
  const auto there = provider_->Look("d/link", nullptr);
  ASSERT_OK(there);
  Result<Entry> moved = Error(Code::kInternal, "");
  if (provider_->Can().moves_files) {
    moved =
        provider_->MoveFile("d/link", there->version, "d/moved", Precondition::Absent(), nullptr);
  } else {
    moved = provider_->Copy("d/link", there->version, there->size, "d/moved", nullptr,
                            Precondition::Absent(), nullptr);
    ASSERT_OK(provider_->Remove("d/link", Precondition::Is(there->version), nullptr));
  }
  ASSERT_OK(moved);
  expect("d/moved", *there->attributes.symlink);
  EXPECT_EQ(provider_->Look("d/link", nullptr).error().code, Code::kNotFound);
  EXPECT_EQ(ListAll("d/").size(), 2u);
}

TEST_P(ConformanceTest, ManyNamesAreListedAndRemoved) {
  std::vector<Provider::Removal> removals;
  for (int i = 0; i < 300; ++i) {
    removals.push_back({"many/n" + std::to_string(i), ""});
    ASSERT_OK(Put(removals.back().path, ""));
  }
  EXPECT_EQ(ListAll("many/").size(), removals.size());
  const auto failed = provider_->RemoveMany(removals, nullptr);
  ASSERT_OK(failed);
  EXPECT_TRUE(failed->empty());
  EXPECT_TRUE(ListAll("many/").empty());
}

TEST_P(ConformanceTest, ItsOwnBytesAreKnownAgain) {
  const auto put = Put("own", Bytes(70000));
  ASSERT_OK(put);
  TextSource same(Bytes(70000)), other(Bytes(69999) + "?");
  EXPECT_TRUE(*provider_->HoldsContent("own", *provider_->Look("own", nullptr), &same, nullptr));
  EXPECT_FALSE(*provider_->HoldsContent("own", *provider_->Look("own", nullptr), &other, nullptr));
}

INSTANTIATE_TEST_SUITE_P(Stores, ConformanceTest, testing::ValuesIn(PeersOf("")),
                         [](const auto& peer) { return Peers()[peer.param].name; });

}  // namespace
}  // namespace pargeter::test
