// Uploads and copies in parts: whatever fails on the way, none is left at the store that nobody
// ends.
#include <gtest/gtest.h>

#include <atomic>
#include <functional>
#include <set>

#include "support/story.h"

namespace pargeter::test {
namespace {

class PartsTest : public DriveTest {
 protected:
  PartsTest() {
    world_.multipart_above = world_.copies_in_parts_above = 100000;
    retry_pause_ = Duration(10);
  }
  void Script(const std::string& kind, std::deque<bool> fails, std::deque<bool> loses = {}) {
    const Lock lock(world_.mutex);
    world_.fails[kind] = std::move(fails);
    world_.loses[kind] = std::move(loses);
  }
  const std::string scan_ = std::string(150000, 's');  // of a sheet: too large for one request
};

// The file is up, and nobody knows: sent once more it is refused, and the second upload is not to
// be ended either. Then the file is known again, and the second upload is still there.
TEST_F(PartsTest, ASecondUploadIsEndedThoughTheFirstTurnsOutToBeDone) {
  Open();
  Script("complete-parts", {}, {true});
  Script("abort-parts", {false, true});
  ASSERT_TRUE(Write("scan", scan_).ok());
  FlushAll();
  EXPECT_EQ(world_.All()["scan"], scan_);
  EXPECT_EQ(world_.Uploads(), 0u);
}

// They have the attributes of when they were begun.
TEST_F(PartsTest, PartsThatAreGoneOnWithGetWhatWasSetMeanwhile) {
  Play("set retry=300; open");
  Script("complete-parts", {true});
  ASSERT_TRUE(Write("scan", scan_).ok());
  ASSERT_TRUE(Eventually([&] { return Asked("complete-parts").size() == 1; }));
  AttrChange change;
  change.mode = 0640;
  change.mtime = 1'577'836'800'000'000'000;
  ASSERT_TRUE(drive_->SetAttr(IdOf("scan"), change, nullptr).ok());
  FlushAll();
  {
    const Lock lock(world_.mutex);
    const FakeWorld::Object& there = world_.objects["scan"];
    EXPECT_TRUE(there.body == scan_);
    EXPECT_EQ(there.attributes.mode, change.mode);
    EXPECT_EQ(there.attributes.mtime, change.mtime);
  }
  EXPECT_TRUE(Asked("write-part").empty()) << "it was gone on with";
  EXPECT_EQ(world_.Uploads(), 0u);
}

TEST_F(PartsTest, ABeginningWhoseAnswerWasLostIsEnded) {
  Open();
  Script("begin-parts", {}, {true, true, true});
  ASSERT_TRUE(Write("scan", scan_).ok());
  FlushAll();
  EXPECT_EQ(world_.All()["scan"], scan_);
  EXPECT_EQ(world_.Uploads(), 0u);
}

TEST_F(PartsTest, ACopyThatFailsHalfWayIsEnded) {
  world_.Put("scan", scan_);
  Play("open; names: scan");
  Script("copy", {true, true});
  Script("abort-parts", {true, true});
  Play("move scan sheet; flush");
  EXPECT_EQ(world_.All(), (Files{{"sheet", scan_}}));
  EXPECT_EQ(world_.Uploads(), 0u);
}

TEST_F(PartsTest, ACopyThatFailsHalfWayIsEndedThoughItsFileIsDeletedMeanwhile) {
  world_.Put("scan", scan_);
  Play("set retry=300; open; names: scan");
  Script("copy", {true, true});
  Script("abort-parts", {true, true});
  ASSERT_TRUE(hands().Move("scan", "sheet").ok());
  ASSERT_TRUE(Eventually([&] { return world_.Uploads() == 1; }));
  Play("remove sheet; flush; store:");
  EXPECT_EQ(world_.Uploads(), 0u);
}

TEST_F(PartsTest, CopiesBelowAMovedFolderThatFailHalfWayAreEnded) {
  for (const char* name : {"d/one", "d/two", "d/e/three"}) world_.Put(name, scan_);
  Play("open; count d: 3");
  Script("copy", {true, false, true, true});
  Script("abort-parts", {true, true, true});
  Play("move d f; flush");
  EXPECT_EQ(world_.All().size(), 3u);
  EXPECT_EQ(world_.All().count("f/e/three"), 1u);
  EXPECT_EQ(world_.Uploads(), 0u);
}

TEST_F(PartsTest, ACopyThatIsCutOffByDeathIsEndedByTheNextStart) {
  world_.Put("scan", scan_);
  Play("open; names: scan");
  std::atomic<bool> alive{true};
  world_.cut_off = [&]() NO_TS_ANALYSIS {
    if (!world_.asked.empty() && world_.asked.back() == "begin-parts sheet") alive = false;
    return !alive;
  };
  ASSERT_TRUE(hands().Move("scan", "sheet").ok());
  ASSERT_TRUE(Eventually([&] { return !alive; }));
  Close();
  world_.cut_off = nullptr;
  ASSERT_EQ(world_.Uploads(), 1u);
  Play("open; flush");
  EXPECT_EQ(world_.All(), (Files{{"sheet", scan_}}));
  EXPECT_EQ(world_.Uploads(), 0u);
}

// The folder that a file goes up into is taken away at the store meanwhile, and is made anew by
// what goes up; here it is no more. Its place was forgotten then: what was left there to do could
// never be done.
class LostFolderTest : public PartsTest {
 protected:
  LostFolderTest() { world_.Put("d/1907", "a list"); }
  void WhileItGoesUp(const std::function<void()>& leave, const std::string& to = "d") {
    Open();
    ASSERT_EQ(Names(to), std::vector<std::string>{"1907"});
    std::atomic<bool> begun{false}, left{false};
    world_.on_part = [&](const std::string&) {
      if (begun.exchange(true)) {
        Eventually([&] { return left.load(); });
        return;
      }
      leave();
      world_.Erase("d/1907");
      world_.Erase(to + "/1907");
      EXPECT_TRUE(drive_->Refresh().ok());
      EXPECT_FALSE(Exists("d"));
      left = true;
    };
    ASSERT_TRUE(Write(to + "/scan", scan_).ok());
    FlushAll();
    world_.on_part = nullptr;
    const Status index = drive_->CheckIndex();
    EXPECT_TRUE(index.ok()) << index.error().what;
    EXPECT_TRUE(left);
  }
  bool Exists(const std::string& path) { return hands().Find(path).ok(); }
  std::set<std::string> StorePaths() {
    std::set<std::string> paths;
    for (const auto& one : world_.All()) paths.insert(one.first);
    return paths;
  }
};

TEST_F(LostFolderTest, WhatWasRemovedMeanwhileGoesAgain) {
  WhileItGoesUp([this] { EXPECT_TRUE(hands().Remove("d/scan").ok()); });
  EXPECT_EQ(StorePaths(), std::set<std::string>{});
  EXPECT_FALSE(Exists("d"));
}

TEST_F(LostFolderTest, WhatWasMovedMeanwhileComesToItsPlace) {
  WhileItGoesUp([this] { EXPECT_TRUE(hands().Move("d/scan", "scan").ok()); });
  EXPECT_EQ(StorePaths(), std::set<std::string>{"scan"});
  EXPECT_FALSE(Exists("d"));
  EXPECT_TRUE(*Read("scan") == scan_);
}

TEST_F(LostFolderTest, SoItDoesOutOfAFolderInALostFolder) {
  world_.Put("d/drawer/1907", "a list");
  WhileItGoesUp([this] { Play("remove d/drawer/scan; list d"); }, "d/drawer");
  EXPECT_EQ(StorePaths(), std::set<std::string>{});
  EXPECT_FALSE(Exists("d"));
}

TEST_F(LostFolderTest, WhatOthersPutThereAgainIsShown) {
  WhileItGoesUp([this] { EXPECT_TRUE(hands().Remove("d/scan").ok()); });
  Play("put d/1908: another list; refresh; names d: 1908");
}

}  // namespace
}  // namespace pargeter::test
