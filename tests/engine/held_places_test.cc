// Where deletions are held back, what was deleted is made anew, or something else is moved there.
#include <gtest/gtest.h>

#include <algorithm>
#include <deque>
#include <map>
#include <set>

#include "engine/hold.h"

namespace pargeter::test {
namespace {

// The folder is made anew while the store still has all that was in the former one.
class AnewTest : public HoldTest {
 protected:
  void SetUp() override {
    for (int i = 0; i < 3; ++i) world_.Put("d/deep/" + std::to_string(i), "deep");
    HoldTest::SetUp();
    ASSERT_EQ(Names("d/deep").size(), 3u);
  }
  void DeleteTree() {
    for (int i = 0; i < 3; ++i) ASSERT_TRUE(hands().Remove("d/deep/" + std::to_string(i)).ok());
    ASSERT_TRUE(hands().RemoveFolder("d/deep").ok());
    DeleteAll();
    ASSERT_EQ(drive_->Summary().held, 43u);
  }
  using Tree = std::map<std::string, std::string>;
  void ExpectHere(const Tree& want) {
    ASSERT_TRUE(drive_->Refresh().ok());
    const auto tree = hands().Tree("d");
    ASSERT_TRUE(tree.ok()) << tree.error().what;
    EXPECT_EQ(*tree, want);
  }
  void ExpectThere(Tree want) {
    Tree files;
    for (const auto& [path, text] : world_.All())
      if (path.back() != '/') files[path] = text;
    want["other"] = "o";
    EXPECT_EQ(files, want);
    EXPECT_EQ(drive_->Summary().pending.files, 0u);
    EXPECT_EQ(drive_->Summary().conflicts, 0u);
  }
  void MakeAnew() {
    ASSERT_TRUE(hands().MakeFolder("d").ok());
    ASSERT_TRUE(hands().MakeFolder("d/deep").ok());
    ASSERT_TRUE(Write("d/7", "new").ok());
    ASSERT_TRUE(Write("d/deep/fresh", "fresh").ok());
    FlushAll();
  }
};

TEST_F(AnewTest, WhatIsHeldDoesNotShowInTheNewFolder) {
  DeleteTree();
  MakeAnew();
  ExpectHere({{"d/7", "new"}, {"d/deep/", ""}, {"d/deep/fresh", "fresh"}});
  EXPECT_EQ(world_.All()["d/7"], "new");
  EXPECT_EQ(drive_->Summary().held, 42u);
  Close();
  Open();
  ExpectHere({{"d/7", "new"}, {"d/deep/", ""}, {"d/deep/fresh", "fresh"}});
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectHere({{"d/7", "new"}, {"d/deep/", ""}, {"d/deep/fresh", "fresh"}});
  ExpectThere({{"d/7", "new"}, {"d/deep/fresh", "fresh"}});
}

TEST_F(AnewTest, DroppedItIsBackBesideTheNew) {
  DeleteTree();
  MakeAnew();
  const auto back = drive_->DropDeletions();
  ASSERT_TRUE(back.ok()) << back.error().what;
  EXPECT_EQ(*back, 42u);
  FlushAll();
  Tree want{{"d/7", "new"}, {"d/deep/fresh", "fresh"}};
  for (int i = 0; i < 40; ++i) want.emplace("d/" + std::to_string(i), "x");
  for (int i = 0; i < 3; ++i) want.emplace("d/deep/" + std::to_string(i), "deep");
  ExpectThere(want);
  EXPECT_EQ(Names("d").size(), 41u);
  EXPECT_EQ(Names("d/deep").size(), 4u);
}

// Held only by what is deleted after it.
TEST_F(AnewTest, TheHoldMayBeginWhenTheFolderIsThereAgain) {
  for (int i = 0; i < 3; ++i) ASSERT_TRUE(hands().Remove("d/deep/" + std::to_string(i)).ok());
  ASSERT_TRUE(hands().RemoveFolder("d/deep").ok());
  ASSERT_TRUE(hands().MakeFolder("d/deep").ok());
  ASSERT_TRUE(Write("d/deep/1", "new").ok());
  for (int i = 0; i < 40; ++i) ASSERT_TRUE(hands().Remove("d/" + std::to_string(i)).ok());
  FlushAll();
  ASSERT_GE(drive_->Summary().held, 40u);
  ExpectHere({{"d/deep/", ""}, {"d/deep/1", "new"}});
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectThere({{"d/deep/1", "new"}});
}

class MovedInTest : public AnewTest, public testing::WithParamInterface<bool> {
 protected:
  MovedInTest() {
    world_.moves_folders = world_.moves_files = world_.serial_versions = GetParam();
    world_.Put("e/7", "other seven");
    world_.Put("e/deep/1", "other one");
    world_.Put("e/deep/more", "more");
  }
  void MoveIn() {
    ASSERT_EQ(Names("e/deep").size(), 2u);
    ASSERT_TRUE(hands().Move("e", "d").ok());
    FlushAll();
  }
  // The store has been asked, and its answer been taken, what changed until now.
  bool HasLooked() {
    world_.TakeAsked();
    std::size_t looks = 0;
    return Eventually([&] { return (looks += Asked("feed").size()) > 1; });
  }
  // What is sent has failed once.
  bool IsHalfWay() {
    Ignore(drive_->Flush(Duration(0)));
    return Eventually([&] {
      const auto queue = *drive_->Queue(100);
      return std::any_of(queue.begin(), queue.end(),
                         [](const auto& one) { return one.second.attempts > 0; });
    });
  }
  void HoldInBoth() {
    DeleteTree();
    ASSERT_EQ(Names("e/deep").size(), 2u);
    for (const char* name : {"e/deep/1", "e/deep/more"}) ASSERT_TRUE(hands().Remove(name).ok());
    ASSERT_TRUE(hands().RemoveFolder("e/deep").ok());
    ASSERT_TRUE(hands().Move("e", "d").ok());
    FlushAll();
  }
  const Tree want_{
      {"d/7", "other seven"}, {"d/deep/", ""}, {"d/deep/1", "other one"}, {"d/deep/more", "more"}};
  const Tree left_{{"d/7", "other seven"}, {"d/deep/1", "other one"}, {"d/deep/more", "more"}};
};
INSTANTIATE_TEST_SUITE_P(Stores, MovedInTest, testing::Bool());

TEST_P(MovedInTest, AFolderTakesThePlaceOfAHeldOne) {
  DeleteTree();
  MoveIn();
  ExpectHere(want_);
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
  EXPECT_EQ(AtTheStore(), 44u) << "40 and 3, and what is new";
  Close();
  Open();
  ExpectHere(want_);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectHere(want_);
  ExpectThere(left_);
}

TEST_P(MovedInTest, WhatIsHeldInBothDoesNotShow) {
  HoldInBoth();
  ExpectHere({{"d/7", "other seven"}});
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectHere({{"d/7", "other seven"}});
  ExpectThere({{"d/7", "other seven"}});
}

TEST_P(MovedInTest, WhatIsHeldInBothComesBack) {
  HoldInBoth();
  ASSERT_TRUE(drive_->DropDeletions().ok());
  FlushAll();
  ASSERT_TRUE(drive_->Refresh().ok());
  std::multiset<std::string> want{"other seven", "other one", "more", ""}, here;
  // (of two at one place the one that came there)
  for (int i = 1; i < 40; ++i) want.insert("x");
  for (int i = 1; i < 3; ++i) want.insert("deep");
  const auto tree = hands().Tree("d");
  for (const auto& [path, text] : *tree) here.insert(text);
  EXPECT_EQ(here, want);
}

TEST_P(MovedInTest, WhatIsInItNeedNotBeKnown) {
  DeleteTree();
  ASSERT_TRUE(hands().Move("e", "d").ok());
  FlushAll();
  ExpectHere(want_);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectHere(want_);
  ExpectThere(left_);
}

// As after "cp -a": the same time, the same size, where these are the version.
TEST_P(MovedInTest, WhatLooksLikeTheHeldIsNotDeletedForIt) {
  {
    const Lock lock(world_.mutex);
    world_.objects["e/7"] = world_.objects["d/7"];
    world_.loses["move"] = std::deque<bool>(3, true);
  }
  ASSERT_TRUE(drive_->Refresh().ok());
  DeleteTree();
  MoveIn();
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectThere({{"d/7", "x"}, {"d/deep/1", "other one"}, {"d/deep/more", "more"}});
}

TEST_P(MovedInTest, DroppedTheHeldIsBackInIt) {
  DeleteTree();
  MoveIn();
  const auto back = drive_->DropDeletions();
  ASSERT_TRUE(back.ok()) << back.error().what;
  EXPECT_EQ(*back, 41u) << "two have been replaced";
  FlushAll();
  Tree want = left_;
  for (int i = 0; i < 40; ++i) want.emplace("d/" + std::to_string(i), "x");
  for (int i = 0; i < 3; ++i) want.emplace("d/deep/" + std::to_string(i), "deep");
  ExpectThere(want);
}

// What has come there already is not known, and would be taken for what was held. (All of it was
// copied to a folder beside the new one.)
TEST_P(MovedInTest, TheyAreNotDroppedWhileAFolderIsHalfWayToTheirPlace) {
  DeleteTree();
  {
    const Lock lock(world_.mutex);
    world_.loses[GetParam() ? "move" : "copy"] = std::deque<bool>(3, true);
  }
  Close();
  retry_pause_ = Duration(60000);
  Open();
  ASSERT_EQ(Names("e/deep").size(), 2u);
  ASSERT_TRUE(hands().Move("e", "d").ok());
  ASSERT_TRUE(IsHalfWay());
  const auto early = drive_->DropDeletions();
  ASSERT_FALSE(early.ok());
  EXPECT_EQ(early.error().code, Code::kBusy) << early.error().what;
  std::uint64_t back = 0;
  ASSERT_TRUE(Eventually([&] {
    Ignore(drive_->Flush(Duration(1000)));  // tries again at once
    const auto dropped = drive_->DropDeletions();
    if (dropped.ok()) back = *dropped;
    return dropped.ok();
  }));
  EXPECT_EQ(back, 41u) << "two have been replaced";
  FlushAll();
  Tree want = left_;
  for (int i = 0; i < 40; ++i) want.emplace("d/" + std::to_string(i), "x");
  for (int i = 0; i < 3; ++i) want.emplace("d/deep/" + std::to_string(i), "deep");
  ExpectThere(want);
}

// (It was taken for what others had put into the folder that was deleted, and was waited for.)
TEST_P(MovedInTest, WhatTheStoreTellsOfAFolderThatIsHalfWayIsOurs) {
  DeleteTree();
  Close();
  world_.has_feed = world_.feed_tells_all = true;
  {
    const Lock lock(world_.mutex);
    world_.loses[GetParam() ? "move" : "copy"] = std::deque<bool>(3, true);
  }
  retry_pause_ = Duration(60000);
  feed_pause_ = Duration(20);
  Open();
  ASSERT_EQ(Names("e/deep").size(), 2u);
  ASSERT_TRUE(Eventually([&] { return !Asked("feed").empty(); }));
  ASSERT_TRUE(hands().Move("e", "d").ok());
  ASSERT_TRUE(IsHalfWay());
  ASSERT_TRUE(HasLooked());
  ASSERT_TRUE(Eventually([&] { return drive_->Flush(Duration(1000)).ok(); }))
      << drive_->Queue(100)->begin()->first;
  ExpectHere(want_);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  ExpectHere(want_);
  ExpectThere(left_);
}

// (It was waited for, though nothing was to be done with it.)
TEST_P(MovedInTest, WhatOthersHavePutThereSinceIsNotInTheWay) {
  Close();
  world_.has_feed = true;
  feed_pause_ = Duration(20);
  Open();
  ASSERT_EQ(Names("d").size(), 41u);
  ASSERT_EQ(Names("d/deep").size(), 3u);
  ASSERT_TRUE(Eventually([&] { return !Asked("feed").empty(); }));
  DeleteTree();
  world_.Put("d/theirs", "theirs");
  world_.Put("d/deep/more", "also theirs");
  ASSERT_TRUE(HasLooked());
  ASSERT_EQ(Names("e/deep").size(), 2u);
  ASSERT_TRUE(hands().Move("e", "d").ok());
  ASSERT_TRUE(Eventually([&] { return drive_->Flush(Duration(1000)).ok(); }));
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("d/theirs"), "theirs");
  EXPECT_EQ(*Read("d/deep/more"), "also theirs");
  EXPECT_EQ(drive_->Summary().conflicts, 1u);
  EXPECT_EQ(Names("d/deep").size(), 3u) << "ours is beside it";
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  EXPECT_EQ(world_.All()["d/theirs"], "theirs");
  EXPECT_EQ(world_.All()["d/deep/more"], "also theirs");
  EXPECT_EQ(world_.All()["d/7"], "other seven");
  EXPECT_EQ(AtTheStore(), 5u);
}

// What is kept of the former folder is on its way elsewhere, and is not taken for a deletion.
TEST_P(MovedInTest, WhatIsMovedOutOfTheHeldFolderGoesFirst) {
  ASSERT_TRUE(hands().Move("d/7", "seven").ok());
  ASSERT_TRUE(hands().Move("d/deep", "deep").ok());
  const NodeId d = IdOf("d");
  for (int i = 0; i < 40; ++i) {
    if (i == 7) continue;
    ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
  }
  ASSERT_TRUE(hands().RemoveFolder("d").ok());
  MoveIn();
  ASSERT_EQ(drive_->Summary().held, 39u);
  ExpectHere(want_);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  Tree want = left_;
  want["seven"] = "x";
  for (int i = 0; i < 3; ++i) want["deep/" + std::to_string(i)] = "deep";
  ExpectThere(want);
}

}  // namespace
}  // namespace pargeter::test
