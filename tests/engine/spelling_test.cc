// Names that are not here what they are at the store: what no file here can be called, a file
// beside a folder of its name, and what differs only in case where the store takes that for one.
#include <gtest/gtest.h>

#include <functional>
#include <future>
#include <set>

#include "support/story.h"

namespace pargeter::test {
namespace {

class SpellingTest : public DriveTest {
 protected:
  // One object then has one row here, and what is left of a name is not what has it now.
  void SetFolds() {
    const Lock lock(world_.mutex);
    world_.folds_names = true;
  }
};

TEST_F(SpellingTest, HostileAndStrangeNamesStayInTheirFolder) {
  Play(
      "put ../etc/passwd: no; put a/./b: dot; put a//c: empty; put /top: leading; put both: file; "
      "put both/inner: inner");
  world_.Put(std::string(300, 'n'), "long");
  Open();
  const auto names = Names("");
  EXPECT_EQ(names.size(), 6u);
  for (const std::string& name : names) {
    EXPECT_TRUE(name != ".." && name.size() <= 255) << name;
  }
  EXPECT_EQ(*Read("{x2E}{x2E}/etc/passwd"), "no");
  EXPECT_EQ(*Read("a/{x2E}/b"), "dot");
  EXPECT_EQ(*Read("a/{}/c"), "empty");
  EXPECT_EQ(*Read("{}/top"), "leading");
  EXPECT_EQ(*Read("both{file}"), "file");
  EXPECT_EQ(*Read("both/inner"), "inner");
  ASSERT_TRUE(Write("both{file}", "changed").ok());
  Play("flush; has both: changed");
}

TEST_F(SpellingTest, AFileBesideAFolderHasTheNameWhenThatIsGone) {
  for (const char* name : {"theirs", "ours"}) {
    world_.Put(name, "file");
    world_.Put(std::string(name) + "/in", "in the folder");
  }
  Open();
  ASSERT_EQ(Names(""), (std::vector<std::string>{"ours", "ours{file}", "theirs", "theirs{file}"}));
  Play(
      "count ours: 1; erase theirs/in; refresh; read theirs: file; remove ours/in; rmdir ours; "
      "flush; read ours: file; names: ours theirs; write ours: changed; flush; has ours: changed; "
      "conflicts 0");
}

TEST_F(SpellingTest, AFileBesideAFolderHasTheNameWhenBothSidesDeleteThat) {
  Play(
      "put both: file; put both/in: in the folder; open; count both: 1; offline; remove both/in; "
      "rmdir both; online; erase both/in; refresh; flush; names: both; read both: file");
}

// The folder is deleted here, a new file takes its name, and others put a folder there again: three
// of one name. `first`: what happens before the folder comes.
class ThreeOfOneNameTest : public SpellingTest {
 protected:
  void PlayThree(const std::function<void()>& first) {
    Play("put both: file; put both/in: in the folder; open");
    ASSERT_EQ(Names(""), (std::vector<std::string>{"both", "both{file}"}));
    Play("count both: 1; offline; remove both/in; rmdir both; write both: new; online");
    first();
    world_.Put("both/other", "of another");
    const Status looked = drive_->Refresh();
    EXPECT_TRUE(looked.ok()) << looked.error().what;
    Play("flush; refresh");
    std::multiset<std::string> there, here;
    for (const auto& [path, text] : world_.All()) there.insert(text);
    for (const std::string& name : Names("")) {
      const auto text = Read(name);
      if (text.ok()) here.insert(*text);
    }
    EXPECT_EQ(there, (std::multiset<std::string>{"file", "new", "of another"}));
    EXPECT_EQ(here, (std::multiset<std::string>{"file", "new"}));
    EXPECT_EQ(*Read("both/other"), "of another");
  }
};
TEST_F(ThreeOfOneNameTest, BeforeTheNewFileWentUp) {
  quiet_ = Duration(60000);
  PlayThree([] {});
}
TEST_F(ThreeOfOneNameTest, AfterIt) {
  PlayThree([this] { FlushAll(); });
}

// While a large folder's listing is on its way, the one name is asked for; the store answers, with
// what it lists under another.
TEST_F(SpellingTest, AnotherSpellingIsNoSecondFile) {
  SetFolds();
  world_.page_size = 2;
  for (const char* name : {"fern", "moss", "oak", "pine", "sedge"}) world_.Put(name, name);
  std::promise<void> go_on;
  std::atomic<int> pages{0};
  world_.on_listing = [&](const std::string&) {
    if (++pages == 2) go_on.get_future().wait_for(std::chrono::seconds(20));
  };
  Open();
  auto other = std::async(std::launch::async, [this] { return drive_->Lookup(kRootId, "Fern"); });
  EXPECT_TRUE(Eventually([&] {
    const auto looks = Asked("look");
    return std::count(looks.begin(), looks.end(), "look Fern") > 0;
  }));
  other.wait_for(std::chrono::milliseconds(50));
  go_on.set_value();
  EXPECT_EQ(other.get().error().code, Code::kNotFound);
  EXPECT_EQ(Names("").size(), 5u);
  world_.on_listing = nullptr;
}

// Moved to another spelling, on a store that took the two for two names until then.
TEST_F(SpellingTest, WhatAMoveLeftIsNotRemovedIfItIsTheSame) {
  Play(
      "put fern: base; set retry=10; open; read fern: base; fail remove; move fern Fern; asked "
      "remove");
  {
    const Lock lock(world_.mutex);
    world_.objects.erase("fern");
    world_.folds_names = true;
    world_.fails.clear();
  }
  Play("flush; store: Fern=base");
}

}  // namespace
}  // namespace pargeter::test
