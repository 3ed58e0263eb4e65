// Names that are not here what they are at the store: what no file here can be called, a file
// beside a folder of its name, and what differs only in case where the store takes that for one.
#include <gtest/gtest.h>

#include <functional>
#include <future>
#include <set>

#include "support/drive_fixture.h"
#include "support/hands.h"

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
  world_.Put("../etc/passwd", "no");
  world_.Put("a/./b", "dot");
  world_.Put("a//c", "empty");
  world_.Put("/top", "leading");
  world_.Put("both", "file");
  world_.Put("both/inner", "inner");
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
  FlushAll();
  EXPECT_EQ(world_.All()["both"], "changed");
}

TEST_F(SpellingTest, AFileBesideAFolderHasTheNameWhenThatIsGone) {
  for (const char* name : {"theirs", "ours"}) {
    world_.Put(name, "file");
    world_.Put(std::string(name) + "/in", "in the folder");
  }
  Open();
  ASSERT_EQ(Names(""), (std::vector<std::string>{"ours", "ours{file}", "theirs", "theirs{file}"}));
  ASSERT_EQ(Names("ours").size(), 1u);
  world_.Erase("theirs/in");
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("theirs"), "file");
  ASSERT_TRUE(drive_->Unlink(IdOf("ours"), "in").ok());
  ASSERT_TRUE(drive_->RemoveFolder(kRootId, "ours").ok());
  FlushAll();
  EXPECT_EQ(*Read("ours"), "file");
  EXPECT_EQ(Names(""), (std::vector<std::string>{"ours", "theirs"}));
  ASSERT_TRUE(Write("ours", "changed").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["ours"], "changed");
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
}

TEST_F(SpellingTest, AFileBesideAFolderHasTheNameWhenBothSidesDeleteThat) {
  world_.Put("both", "file");
  world_.Put("both/in", "in the folder");
  Open();
  ASSERT_EQ(Names("both").size(), 1u);
  world_.SetOffline(true);
  ASSERT_TRUE(drive_->Unlink(IdOf("both"), "in").ok());
  ASSERT_TRUE(drive_->RemoveFolder(kRootId, "both").ok());
  world_.SetOffline(false);
  world_.Erase("both/in");
  ASSERT_TRUE(drive_->Refresh().ok());
  FlushAll();
  EXPECT_EQ(Names(""), std::vector<std::string>{"both"});
  EXPECT_EQ(*Read("both"), "file");
}

// The folder is deleted here, a new file takes its name, and others put a folder there again: three
// of one name. `first`: what happens before the folder comes.
class ThreeOfOneNameTest : public SpellingTest {
 protected:
  void Play(const std::function<void()>& first) {
    world_.Put("both", "file");
    world_.Put("both/in", "in the folder");
    Open();
    ASSERT_EQ(Names(""), (std::vector<std::string>{"both", "both{file}"}));
    ASSERT_EQ(Names("both").size(), 1u);
    world_.SetOffline(true);
    ASSERT_TRUE(drive_->Unlink(IdOf("both"), "in").ok());
    ASSERT_TRUE(drive_->RemoveFolder(kRootId, "both").ok());
    ASSERT_TRUE(Write("both", "new").ok());
    world_.SetOffline(false);
    first();
    world_.Put("both/other", "of another");
    const Status looked = drive_->Refresh();
    EXPECT_TRUE(looked.ok()) << looked.error().what;
    FlushAll();
    ASSERT_TRUE(drive_->Refresh().ok());
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
  Play([] {});
}
TEST_F(ThreeOfOneNameTest, AfterIt) {
  Play([this] { FlushAll(); });
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
  world_.Put("fern", "base");
  retry_pause_ = Duration(10);
  Open();
  ASSERT_EQ(*Read("fern"), "base");
  {
    const Lock lock(world_.mutex);
    world_.fails["remove"].assign(1000, true);
  }
  ASSERT_TRUE(Hands(drive_.get()).Move("fern", "Fern").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("remove").empty(); }));
  {
    const Lock lock(world_.mutex);
    world_.objects.erase("fern");
    world_.folds_names = true;
    world_.fails.clear();
  }
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"Fern", "base"}}));
}

}  // namespace
}  // namespace pargeter::test
