// What the store tells of itself: what changed, and what may be changed.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <future>
#include <thread>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class FeedTest : public DriveTest {
 protected:
  FeedTest() {
    world_.has_feed = true;
    feed_pause_ = Duration(50);
  }
  Hands hands() { return Hands(drive_.get()); }
  void OpenAtWork() {
    Open();
    Names("");
    // the feed has begun before anything is changed
    ASSERT_TRUE(Eventually([&] { return !Asked("feed").empty(); }, 10));
  }
  bool Known(const std::string& path) { return drive_->NodeAt(path).ok(); }
  // Each of the first three answers is made, and held back until the next is waited for.
  void OpenHoldingAnswers() {
    OpenAtWork();
    Close();
    world_.on_feed = [this] {
      const int now = ++answers_;
      if (now <= 3) Eventually([&] { return let_go_ >= now; });
    };
    Open();
    NextAnswer(1);
  }
  void NextAnswer(int number) {
    let_go_ = number - 1;
    ASSERT_TRUE(Eventually([&] { return answers_ == number; }));
  }
  std::atomic<int> answers_{0}, let_go_{0};
};

TEST_F(FeedTest, ChangesElsewhereShowWithoutAListing) {
  world_.Put("d/a", "a");
  world_.Put("d/b", "b");
  world_.Put("unseen/x", "x");
  OpenAtWork();
  Names("d");
  ASSERT_TRUE(Read("d/a").ok());
  world_.TakeAsked();
  world_.Put("d/a", "another");
  world_.Put("d/c", "c");
  world_.Erase("d/b");
  world_.Put("unseen/y", "y");
  ASSERT_TRUE(Eventually([&] { return Known("d/c") && !Known("d/b"); }, 10));
  EXPECT_EQ(drive_->NodeAt("d/a")->size, 7u);
  EXPECT_FALSE(Known("unseen/y"));  // nobody has looked into it: it is listed when somebody does
  EXPECT_TRUE(Asked("list").empty());
  EXPECT_EQ(*Read("d/a"), "another");
}

TEST_F(FeedTest, AnEarlierListingBringsNothingBack) {
  world_.Put("a", "A");
  world_.Put("z", "Z");
  OpenAtWork();
  std::promise<void> listed, gone;
  std::atomic<int> listings{0};
  {
    const Lock lock(world_.mutex);
    world_.on_listed = [&] {
      if (listings++ > 0) return;
      listed.set_value();
      gone.get_future().wait_for(std::chrono::seconds(20));
    };
  }
  std::atomic<bool> done{false};
  std::thread look([&] {
    Ignore(drive_->Refresh());
    done = true;
  });
  listed.get_future().wait();  // the store has said that there is an "a"
  world_.Erase("a");
  EXPECT_TRUE(Eventually([&] { return !Known("a"); }, 10));
  gone.set_value();
  bool back = false;
  while (!done) back = back || Known("a");
  EXPECT_FALSE(back || Known("a"));
  look.join();
  EXPECT_TRUE(Known("z"));
  Close();
  world_.on_listed = nullptr;
}

// A read would miss the version that was there once.
TEST_F(FeedTest, ALateAnswerBringsNoFormerVersionBack) {
  world_.Put("f", "first");
  OpenHoldingAnswers();
  world_.Put("f", "the second");
  NextAnswer(2);
  world_.Put("f", "the third, which is there");
  ASSERT_TRUE(drive_->Refresh().ok());
  NextAnswer(3);  // the former is taken in
  const auto text = Read("f");
  EXPECT_TRUE(text.ok()) << text.error().what;
  EXPECT_EQ(text.ok() ? *text : "", "the third, which is there");
  let_go_ = 3;
  Close();
  world_.on_feed = nullptr;
}

// It would show, and could not be opened.
TEST_F(FeedTest, ALateAnswerShowsNothingThatIsGone) {
  OpenHoldingAnswers();
  world_.Put("gone", "for a moment");
  world_.Put("stays", "here");
  world_.Put("d/", "");
  NextAnswer(2);
  world_.Erase("gone");
  world_.Erase("stays");
  world_.Erase("d/");
  ASSERT_TRUE(drive_->Refresh().ok());
  world_.Put("stays", "here again");  // of that this listing tells nothing, the next answer may not
  world_.Put("d/", "");
  world_.Put("d/stays", "here too");
  NextAnswer(3);
  EXPECT_FALSE(Known("gone"));
  EXPECT_TRUE(Known("stays"));
  EXPECT_TRUE(Known("d"));
  let_go_ = 3;
  EXPECT_EQ(*Read("stays"), "here again");
  EXPECT_EQ(*Read("d/stays"), "here too");
  Close();
  world_.on_feed = nullptr;
}

// What came of those, the feed never tells again.
TEST_F(FeedTest, AnEarlierListingTakesNothingAway) {
  world_.serial_versions = true;
  world_.Put("a", "A");
  world_.Put("d/keep", "k");
  world_.Put("d/m", "moves");
  OpenAtWork();
  Names("d");
  ASSERT_EQ(*Read("d/m"), "moves");
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             world_.Put("a", "another");
             world_.Put("new", "n");
             world_.Move("d/m", "m");
             EXPECT_TRUE(Eventually([&] { return Known("new") && Known("m") && !Known("d/m"); }));
           });
  EXPECT_TRUE(Known("new"));
  EXPECT_TRUE(Known("m"));
  EXPECT_EQ(drive_->NodeAt("a")->size, 7u);
  ExpectNothingVanished();
  world_.TakeAsked();
  EXPECT_EQ(*Read("m"), "moves");
  EXPECT_TRUE(Asked("read").empty());
}

TEST_F(FeedTest, WhatMovesThereIsNotFetchedAgain) {
  world_.Put("d/a", "moves");
  world_.Put("e/keep", "k");
  OpenAtWork();
  Names("d");
  Names("e");
  ASSERT_TRUE(Read("d/a").ok());
  world_.TakeAsked();
  world_.Move("d/a", "e/b");
  ASSERT_TRUE(Eventually([&] { return Known("e/b") && !Known("d/a"); }, 10));
  EXPECT_EQ(drive_->State(IdOf("e/b"))->state, "cached");
  EXPECT_EQ(*Read("e/b"), "moves");
  EXPECT_TRUE(Asked("read").empty());
}

// A folder of ours takes the place of one whose deletion is held back, and so goes file by file.
TEST_F(FeedTest, WhatAStepOfOursMovesIsNotTakenForMovedByOthers) {
  {
    const Lock lock(world_.mutex);
    world_.feed_tells_all = world_.moves_folders = world_.moves_files = true;
    world_.serial_versions = true;
  }
  hold_files_ = 1;
  hold_quiet_ = Duration(1000);
  feed_pause_ = Duration(10);
  for (const char* path : {"d0/a", "d0/e/f", "d1/keep", "d1/e/x", "d1/e/y", "d1/e/z"})
    world_.Put(path, path);
  OpenAtWork();
  for (const char* folder : {"d0", "d0/e", "d1", "d1/e"}) Names(folder);
  for (const char* name : {"x", "y", "z"}) ASSERT_TRUE(drive_->Unlink(IdOf("d1/e"), name).ok());
  ASSERT_TRUE(hands().RemoveFolder("d1/e").ok());
  FlushAll();
  ASSERT_EQ(drive_->Summary().held, 3u);
  world_.on_moved = [this] {  // until it has been told
    const auto looks = [this] {
      const Lock lock(world_.mutex);
      return std::count_if(world_.asked.begin(), world_.asked.end(),
                           [](const std::string& what) { return what.rfind("feed", 0) == 0; });
    };
    const auto before = looks();
    EXPECT_TRUE(Eventually([&] { return looks() > before + 1; }));
  };
  ASSERT_TRUE(hands().Move("d0", "d1/e").ok());
  FlushAll();
  EXPECT_EQ(Names("d1/e"), (std::vector<std::string>{"a", "e"}));
  EXPECT_EQ(Names("d1/e/e"), std::vector<std::string>{"f"});
  EXPECT_EQ(*Read("d1/e/a"), "d0/a");
  const Status index = drive_->CheckIndex();
  EXPECT_TRUE(index.ok()) << index.error().what;
}

TEST_F(FeedTest, PinnedFoldersGetWhatAppears) {
  world_.Put("pressed/s", "sheet");
  OpenAtWork();
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  world_.Put("pressed/new", std::string(5000, 'n'));
  EXPECT_TRUE(Eventually(
      [&] { return Known("pressed/new") && drive_->NodeAt("pressed/new")->on_disk == 5000; }, 10));
}

TEST_F(FeedTest, WhatWasMissedWhileNobodyLookedComesLater) {
  world_.Put("d/a", "a");
  OpenAtWork();
  Names("d");
  Close();
  world_.Put("d/b", "b");
  world_.Erase("d/a");
  Open();
  EXPECT_TRUE(Eventually([&] { return Known("d/b") && !Known("d/a"); }, 10));
}

TEST_F(FeedTest, AMomentThatIsForgottenLosesNothing) {
  world_.Put("d/a", "a");
  OpenAtWork();
  Names("d");
  {
    const Lock lock(world_.mutex);
    world_.feed_run = "b";
    world_.Set("d/b", {"b", {}});
  }
  EXPECT_TRUE(Eventually(
      [&] {
        const auto names = Names("d");
        return std::find(names.begin(), names.end(), "b") != names.end();
      },
      15));
}

TEST_F(FeedTest, OurOwnChangesAreNoNews) {
  OpenAtWork();
  ASSERT_TRUE(Write("mine", "one").ok());
  FlushAll();
  {
    const Lock lock(world_.mutex);
    world_.changes.push_back("mine");
  }
  ASSERT_TRUE(Write("mine", "two").ok());
  world_.TakeAsked();
  ASSERT_TRUE(Eventually([&] { return Asked("feed").size() > 0; }, 10));
  EXPECT_EQ(*Read("mine"), "two");
  FlushAll();
  EXPECT_EQ(world_.All().at("mine"), "two");
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

class RoleTest : public DriveTest {
 protected:
  RoleTest() { world_.sealed = "archive"; }
  Hands hands() { return Hands(drive_.get()); }
};

TEST_F(RoleTest, WhatMayOnlyBeReadIsRefusedAtOnceAndSaysSo) {
  world_.Put("archive/old", "old");
  world_.Put("open/new", "new");
  Open();
  Names("");
  Names("archive");
  EXPECT_EQ(drive_->GetAttr(IdOf("archive"))->mode & 0222u, 0u);
  EXPECT_EQ(drive_->GetAttr(IdOf("archive/old"))->mode & 0222u, 0u);
  EXPECT_NE(drive_->GetAttr(IdOf("open"))->mode & 0222u, 0u);
  const auto opened = drive_->OpenNode(IdOf("archive/old"), Drive::Intent::kWrite);
  ASSERT_FALSE(opened.ok());
  EXPECT_EQ(opened.error().code, Code::kPermission);
  EXPECT_NE(opened.error().what.find("archive/old may only be read"), std::string::npos)
      << opened.error().what;
  EXPECT_EQ(Write("archive/x", "x").error().code, Code::kPermission);
  EXPECT_EQ(drive_->Unlink(IdOf("archive"), "old").error().code, Code::kPermission);
  EXPECT_EQ(hands().Move("archive/old", "open/old").error().code, Code::kPermission);
  EXPECT_EQ(hands().Move("open/new", "archive/new").error().code, Code::kPermission);
  EXPECT_EQ(drive_->MakeFolder(IdOf("archive"), "d", 0755, 0, 0).error().code, Code::kPermission);
  EXPECT_EQ(*Read("archive/old"), "old");
  world_.TakeAsked();
  FlushAll();
  EXPECT_TRUE(Asked("write").empty());
}

TEST_F(RoleTest, AnotherRoleIsNoticedAndWhatWaitsIsKept) {
  world_.Put("archive/old", "old");
  Open();
  Names("");
  Names("archive");
  {
    const Lock lock(world_.mutex);
    world_.sealed = "";
  }
  ASSERT_TRUE(drive_->Refresh().ok());
  Names("archive");
  ASSERT_TRUE(Write("archive/mine", "mine").ok());
  {
    const Lock lock(world_.mutex);
    world_.sealed = "archive";
    world_.forbid = "archive/mine";
  }
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_TRUE(Eventually([&] { return (drive_->GetAttr(IdOf("archive"))->mode & 0222u) == 0; }));
  ASSERT_TRUE(Eventually([&] {
    const auto queue = drive_->Queue(10);
    return queue.ok() && queue->size() == 1 && !queue->front().second.error.empty();
  }));
  EXPECT_EQ(*Read("archive/mine"), "mine");
  const Lock lock(world_.mutex);
  world_.forbid.clear();
}

}  // namespace
}  // namespace pargeter::test
