// What the store tells of itself: what changed, and what may be changed.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <future>
#include <thread>

#include "support/story.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

class FeedTest : public DriveTest {
 protected:
  FeedTest() {
    world_.has_feed = true;
    feed_pause_ = Duration(50);
  }
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
  Play("put d/a: a; put d/b: b; put unseen/x: x");
  OpenAtWork();
  Play("list d; fetch d/a; forget; put d/a: another; put d/c: c; erase d/b; put unseen/y: y");
  ASSERT_TRUE(Eventually([&] { return Known("d/c") && !Known("d/b"); }, 10));
  EXPECT_EQ(drive_->NodeAt("d/a")->size, 7u);
  EXPECT_FALSE(Known("unseen/y"));  // nobody has looked into it: it is listed when somebody does
  Play("unasked list; read d/a: another");
}

TEST_F(FeedTest, AnEarlierListingBringsNothingBack) {
  Play("put a: A; put z: Z");
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
  Play("put f: the third, which is there; refresh");
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
  Play("put gone: for a moment; put stays: here");
  world_.Put("d/", "");
  NextAnswer(2);
  Play("erase gone; erase stays; erase d/; refresh");
  world_.Put("stays", "here again");  // of that this listing tells nothing, the next answer may not
  world_.Put("d/", "");
  world_.Put("d/stays", "here too");
  NextAnswer(3);
  EXPECT_FALSE(Known("gone"));
  EXPECT_TRUE(Known("stays"));
  EXPECT_TRUE(Known("d"));
  let_go_ = 3;
  Play("read stays: here again; read d/stays: here too; close");
  world_.on_feed = nullptr;
}

// What came of those, the feed never tells again.
TEST_F(FeedTest, AnEarlierListingTakesNothingAway) {
  Play("set serial; put a: A; put d/keep: k; put d/m: moves");
  OpenAtWork();
  Play("list d; read d/m: moves");
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             Play("put a: another; put new: n; shift d/m m");
             EXPECT_TRUE(Eventually([&] { return Known("new") && Known("m") && !Known("d/m"); }));
           });
  EXPECT_TRUE(Known("new"));
  EXPECT_TRUE(Known("m"));
  EXPECT_EQ(drive_->NodeAt("a")->size, 7u);
  ExpectNothingVanished();
  Play("forget; read m: moves; unasked read");
}

TEST_F(FeedTest, WhatMovesThereIsNotFetchedAgain) {
  Play("put d/a: moves; put e/keep: k");
  OpenAtWork();
  Play("list d; list e; fetch d/a; forget; shift d/a e/b");
  ASSERT_TRUE(Eventually([&] { return Known("e/b") && !Known("d/a"); }, 10));
  EXPECT_EQ(drive_->State(IdOf("e/b"))->state, "cached");
  Play("read e/b: moves; unasked read");
}

// A folder of ours takes the place of one whose deletion is held back, and so goes file by file.
TEST_F(FeedTest, WhatAStepOfOursMovesIsNotTakenForMovedByOthers) {
  world_.feed_tells_all = world_.moves_folders = world_.moves_files = true;
  world_.serial_versions = true;
  hold_files_ = 1;
  hold_quiet_ = Duration(1000);
  feed_pause_ = Duration(10);
  for (const char* path : {"d0/a", "d0/e/f", "d1/keep", "d1/e/x", "d1/e/y", "d1/e/z"})
    world_.Put(path, path);
  OpenAtWork();
  for (const char* folder : {"d0", "d0/e", "d1", "d1/e"}) Names(folder);
  for (const char* name : {"x", "y", "z"}) ASSERT_TRUE(drive_->Unlink(IdOf("d1/e"), name).ok());
  Play("rmdir d1/e; flush; held 3");
  world_.on_moved = [this] {  // until it has been told
    const auto looks = [this] {
      const Lock lock(world_.mutex);
      return std::count_if(world_.asked.begin(), world_.asked.end(),
                           [](const std::string& what) { return what.rfind("feed", 0) == 0; });
    };
    const auto before = looks();
    EXPECT_TRUE(Eventually([&] { return looks() > before + 1; }));
  };
  Play("move d0 d1/e; flush; names d1/e: a e; names d1/e/e: f; read d1/e/a: d0/a");
  const Status index = drive_->CheckIndex();
  EXPECT_TRUE(index.ok()) << index.error().what;
}

TEST_F(FeedTest, PinnedFoldersGetWhatAppears) {
  world_.Put("pressed/s", "sheet");
  OpenAtWork();
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  world_.Put("pressed/new", std::string(5000, 'n'));
  EXPECT_TRUE(Eventually(
      [&] { return Known("pressed/new") && drive_->NodeAt("pressed/new")->cached.bytes == 5000; },
      10));
}

TEST_F(FeedTest, WhatWasMissedWhileNobodyLookedComesLater) {
  world_.Put("d/a", "a");
  OpenAtWork();
  Play("list d; close; put d/b: b; erase d/a; open");
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
  Play("write mine: one; flush");
  {
    const Lock lock(world_.mutex);
    world_.changes.push_back("mine");
  }
  Play("write mine: two; forget");
  ASSERT_TRUE(Eventually([&] { return Asked("feed").size() > 0; }, 10));
  Play("read mine: two; flush");
  EXPECT_EQ(world_.All().at("mine"), "two");
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

class RoleTest : public DriveTest {
 protected:
  RoleTest() { world_.sealed = "archive"; }
};

TEST_F(RoleTest, WhatMayOnlyBeReadIsRefusedAtOnceAndSaysSo) {
  Play("put archive/old: old; put open/new: new; open");
  Names("");
  Names("archive");
  EXPECT_EQ(drive_->GetAttr(IdOf("archive"))->mode & 0222u, 0u);
  EXPECT_EQ(drive_->GetAttr(IdOf("archive/old"))->mode & 0222u, 0u);
  EXPECT_NE(drive_->GetAttr(IdOf("open"))->mode & 0222u, 0u);
  const auto opened = drive_->OpenNode(IdOf("archive/old"), Drive::Intent::kWrite);
  ASSERT_FALSE(opened.ok());
  EXPECT_EQ(opened.error().code, Code::kPermission);
  EXPECT_THAT(opened.error().what, HasSubstr("archive/old may only be read"))
      << opened.error().what;
  EXPECT_EQ(Write("archive/x", "x").error().code, Code::kPermission);
  EXPECT_EQ(drive_->Unlink(IdOf("archive"), "old").error().code, Code::kPermission);
  EXPECT_EQ(hands().Move("archive/old", "open/old").error().code, Code::kPermission);
  EXPECT_EQ(hands().Move("open/new", "archive/new").error().code, Code::kPermission);
  EXPECT_EQ(drive_->MakeFolder(IdOf("archive"), "d", 0755, 0, 0).error().code, Code::kPermission);
  Play("read archive/old: old; forget; flush; unasked write");
}

TEST_F(RoleTest, AnotherRoleIsNoticedAndWhatWaitsIsKept) {
  Play("put archive/old: old; open");
  Names("");
  Names("archive");
  world_.SetPath(&FakeWorld::sealed, "");
  Play("refresh; list archive; write archive/mine: mine");
  world_.SetPath(&FakeWorld::sealed, "archive");
  world_.SetPath(&FakeWorld::forbid, "archive/mine");
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_TRUE(Eventually([&] { return (drive_->GetAttr(IdOf("archive"))->mode & 0222u) == 0; }));
  ASSERT_TRUE(Eventually([&] {
    const auto queue = drive_->Queue(10);
    return queue.ok() && queue->size() == 1 && !queue->front().second.pending.error.empty();
  }));
  EXPECT_EQ(*Read("archive/mine"), "mine");
  const Lock lock(world_.mutex);
  world_.forbid.clear();
}

}  // namespace
}  // namespace pargeter::test
