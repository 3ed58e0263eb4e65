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
    const Files files = FilesThere();
    want["other"] = "o";
    EXPECT_EQ(files, want);
    EXPECT_EQ(drive_->Summary().pending.files, 0u);
    EXPECT_EQ(drive_->Summary().conflicts, 0u);
  }
  void MakeAnew() {
    Play("mkdir d; mkdir d/deep; write d/7: new; write d/deep/fresh: fresh; flush");
  }
};

TEST_F(AnewTest, WhatIsHeldDoesNotShowInTheNewFolder) {
  DeleteTree();
  MakeAnew();
  ExpectHere({{"d/7", "new"}, {"d/deep/", ""}, {"d/deep/fresh", "fresh"}});
  Play("has d/7: new; held 42; close; open");
  ExpectHere({{"d/7", "new"}, {"d/deep/", ""}, {"d/deep/fresh", "fresh"}});
  Play("release; flush");
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
  Play("count d: 41; count d/deep: 4");
}

// Held only by what is deleted after it.
TEST_F(AnewTest, TheHoldMayBeginWhenTheFolderIsThereAgain) {
  for (int i = 0; i < 3; ++i) ASSERT_TRUE(hands().Remove("d/deep/" + std::to_string(i)).ok());
  Play("rmdir d/deep; mkdir d/deep; write d/deep/1: new");
  for (int i = 0; i < 40; ++i) ASSERT_TRUE(hands().Remove("d/" + std::to_string(i)).ok());
  FlushAll();
  ASSERT_GE(drive_->Summary().held, 40u);
  ExpectHere({{"d/deep/", ""}, {"d/deep/1", "new"}});
  Play("release; flush");
  ExpectThere({{"d/deep/1", "new"}});
}

class MovedInTest : public AnewTest, public testing::WithParamInterface<bool> {
 protected:
  MovedInTest() {
    world_.moves_folders = world_.moves_files = world_.serial_versions = GetParam();
    Play("put e/7: other seven; put e/deep/1: other one; put e/deep/more: more");
  }
  void MoveIn() { Play("count e/deep: 2; move e d; flush"); }
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
                         [](const auto& one) { return one.second.pending.tries > 0; });
    });
  }
  void HoldInBoth() {
    DeleteTree();
    ASSERT_EQ(Names("e/deep").size(), 2u);
    for (const char* name : {"e/deep/1", "e/deep/more"}) ASSERT_TRUE(hands().Remove(name).ok());
    Play("rmdir e/deep; move e d; flush");
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
  Play("close; open");
  ExpectHere(want_);
  Play("release; flush");
  ExpectHere(want_);
  ExpectThere(left_);
}

TEST_P(MovedInTest, WhatIsHeldInBothDoesNotShow) {
  HoldInBoth();
  ExpectHere({{"d/7", "other seven"}});
  Play("release; flush");
  ExpectHere({{"d/7", "other seven"}});
  ExpectThere({{"d/7", "other seven"}});
}

TEST_P(MovedInTest, WhatIsHeldInBothComesBack) {
  HoldInBoth();
  Play("drop; flush; refresh");
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
  Play("move e d; flush");
  ExpectHere(want_);
  Play("release; flush");
  ExpectHere(want_);
  ExpectThere(left_);
}

// As after "cp -a": the same time, the same size, where these are the version.
TEST_P(MovedInTest, WhatLooksLikeTheHeldIsNotDeletedForIt) {
  world_.Duplicate("d/7", "e/7");
  Play("lose move x3; refresh");
  DeleteTree();
  MoveIn();
  Play("release; flush");
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
  world_.Lose(GetParam() ? "move" : "copy", 3);
  Play("close; set retry=60000; open; count e/deep: 2; move e d");
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
  world_.Lose(GetParam() ? "move" : "copy", 3);
  retry_pause_ = Duration(60000);
  feed_pause_ = Duration(20);
  Play("open; count e/deep: 2; asked feed; move e d");
  ASSERT_TRUE(IsHalfWay());
  ASSERT_TRUE(HasLooked());
  ASSERT_TRUE(Eventually([&] { return drive_->Flush(Duration(1000)).ok(); }))
      << drive_->Queue(100)->begin()->first;
  ExpectHere(want_);
  Play("release; flush");
  ExpectHere(want_);
  ExpectThere(left_);
}

// (It was waited for, though nothing was to be done with it.)
TEST_P(MovedInTest, WhatOthersHavePutThereSinceIsNotInTheWay) {
  Close();
  world_.has_feed = true;
  feed_pause_ = Duration(20);
  Play("open; count d: 41; count d/deep: 3; asked feed");
  DeleteTree();
  Play("put d/theirs: theirs; put d/deep/more: also theirs");
  ASSERT_TRUE(HasLooked());
  Play("count e/deep: 2; move e d");
  ASSERT_TRUE(Eventually([&] { return drive_->Flush(Duration(1000)).ok(); }));
  Play("refresh; read d/theirs: theirs; read d/deep/more: also theirs; conflicts 1");
  EXPECT_EQ(Names("d/deep").size(), 3u) << "ours is beside it";
  Play("release; flush; has d/theirs: theirs; has d/deep/more: also theirs; has d/7: other seven");
  EXPECT_EQ(AtTheStore(), 5u);
}

// What is kept of the former folder is on its way elsewhere, and is not taken for a deletion.
TEST_P(MovedInTest, WhatIsMovedOutOfTheHeldFolderGoesFirst) {
  Play("move d/7 seven; move d/deep deep");
  const NodeId d = IdOf("d");
  for (int i = 0; i < 40; ++i) {
    if (i == 7) continue;
    ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
  }
  ASSERT_TRUE(hands().RemoveFolder("d").ok());
  MoveIn();
  ASSERT_EQ(drive_->Summary().held, 39u);
  ExpectHere(want_);
  Play("release; flush");
  Tree want = left_;
  want["seven"] = "x";
  for (int i = 0; i < 3; ++i) want["deep/" + std::to_string(i)] = "deep";
  ExpectThere(want);
}

}  // namespace
}  // namespace pargeter::test
