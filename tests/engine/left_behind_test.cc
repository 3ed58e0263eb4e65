// A file was moved by a copy, and what is left at its old place waits for its removal, which has
// failed once. Others, who see both meanwhile, may take the two for one too many: the last of them
// stays.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <deque>
#include <map>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class LeftBehindTest : public DriveTest {
 protected:
  using Tree = std::map<std::string, std::string>;
  Hands hands() { return Hands(drive_.get()); }
  void SetUp() override {
    retry_pause_ = Duration(60000);
    world_.Put("f", "the fern");
    Open();
    ASSERT_EQ(Names("").size(), 1u);
  }
  void MoveHalfWay(const char* how = "fails") {
    {
      const Lock lock(world_.mutex);
      (how == std::string("fails") ? world_.fails : world_.loses)["remove"] = {true};
    }
    ASSERT_TRUE(hands().Move("f", "g").ok());
    Ignore(drive_->Flush(Duration(0)));
    ASSERT_TRUE(Eventually([&] {
      const auto queue = *drive_->Queue(100);
      return std::any_of(queue.begin(), queue.end(),
                         [](const auto& one) { return one.second.attempts > 0; });
    }));
    ASSERT_EQ(world_.All()["g"], "the fern");
  }
  void ExpectInTheEnd(const Tree& want) {
    world_.TakeAsked();
    FlushAll();
    EXPECT_EQ(world_.All(), want);
    ASSERT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
    EXPECT_EQ(*hands().Tree(), want);
    EXPECT_EQ(drive_->Summary().conflicts, 0u);
  }
  // Nobody has heard what came of the copy that was to be made here, and the file moves on;
  // meanwhile another machine has moved the same file to the same place.
  void TheyMoveItToo(bool written_here) {
    Close();
    retry_pause_ = Duration(5);
    may_be_late_ = Duration(300);
    Open();
    if (written_here) {
      ASSERT_TRUE(Write("f", "the fern").ok());
      FlushAll();
      ASSERT_TRUE(drive_->Evict({kRootId}, {}).ok());
    }
    std::atomic<bool> theirs{false}, sent{false}, moved{false};
    std::atomic<int> looks{0};
    {
      const Lock lock(world_.mutex);
      world_.fails["copy"] = {true};
    }
    world_.on_send = [&](const std::string&) {
      sent = true;
      EXPECT_TRUE(Eventually([&] { return moved.load(); }));
    };
    world_.on_look = [&](const std::string& path) {
      const Lock lock(world_.mutex);
      if (path == "g" && !theirs.exchange(true)) world_.Set("g", world_.objects["f"]);
      if (path == "f" && theirs) ++looks;
    };
    world_.on_looked = [&] {
      // just after it was seen for the last time
      if (looks == (written_here ? 1 : 2)) world_.Erase("f");
    };
    ASSERT_TRUE(hands().Move("f", "g").ok());
    Ignore(drive_->Flush(Duration(0)));
    ASSERT_TRUE(Eventually([&] { return sent.load(); }));
    ASSERT_TRUE(hands().Move("g", "h").ok());
    moved = true;
    FlushAll();
    Close();
    world_.on_send = world_.on_look = nullptr;
    world_.on_looked = nullptr;
    EXPECT_EQ(world_.All(), (Tree{{written_here ? "h" : "g", "the fern"}}));
  }
};

TEST_F(LeftBehindTest, ItGoesForTheAskingOfOneQuestion) {
  MoveHalfWay();
  world_.TakeAsked();
  FlushAll();
  EXPECT_EQ(Asked("look"), std::vector<std::string>{"look g"});
  ExpectInTheEnd({{"g", "the fern"}});
}

TEST_F(LeftBehindTest, ItStaysWhereOthersPutItBack) {
  MoveHalfWay("loses");
  world_.Move("g", "f");
  ExpectInTheEnd({{"f", "the fern"}});
}

TEST_F(LeftBehindTest, ItStaysWhereOthersRemovedTheCopy) {
  MoveHalfWay();
  world_.Erase("g");
  ExpectInTheEnd({{"f", "the fern"}});
}

TEST_F(LeftBehindTest, ItStaysThoughThatIsKnownAlready) {
  MoveHalfWay();
  world_.Erase("g");
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(drive_->NodeAt("g").ok(), false);
  ExpectInTheEnd({{"f", "the fern"}});
}

TEST_F(LeftBehindTest, ItStaysThoughThatWasBeforeAnotherStart) {
  MoveHalfWay();
  Close();
  world_.Erase("g");
  Open();
  ExpectInTheEnd({{"f", "the fern"}});
}

TEST_F(LeftBehindTest, ItStaysThoughThatWasKnownBeforeAnotherStart) {
  MoveHalfWay();
  world_.Erase("g");
  ASSERT_TRUE(drive_->Refresh().ok());
  Close();
  Open();
  ExpectInTheEnd({{"f", "the fern"}});
}

TEST_F(LeftBehindTest, ItGoesWhenTheOtherIsDeletedHere) {
  MoveHalfWay();
  ASSERT_TRUE(hands().Remove("g").ok());
  ExpectInTheEnd({});
}

TEST_F(LeftBehindTest, ItGoesWhenTheOtherIsChangedHere) {
  MoveHalfWay();
  ASSERT_TRUE(Write("g", "more of it").ok());
  ExpectInTheEnd({{"g", "more of it"}});
}

TEST_F(LeftBehindTest, ItGoesWhenTheOtherMovedOn) {
  MoveHalfWay();
  ASSERT_TRUE(hands().Move("g", "h").ok());
  ExpectInTheEnd({{"h", "the fern"}});
}

TEST_F(LeftBehindTest, ItGoesWhenTheOtherIsReplacedHere) {
  MoveHalfWay();
  ASSERT_TRUE(Write("h", "another").ok());
  ASSERT_TRUE(hands().Move("h", "g").ok());
  ExpectInTheEnd({{"g", "another"}});
}

// A whole folder's worth, at once.
TEST_F(LeftBehindTest, NorDoManyGoThatOthersHaveOnlyThere) {
  Close();
  retry_pause_ = trial_pause_ = Duration(20);
  Open();
  Tree there{{"f", "the fern"}};
  for (int i = 0; i < 12; ++i) {
    world_.Put("d/" + std::to_string(i), "sheet " + std::to_string(i));
    there["d/" + std::to_string(i)] = "sheet " + std::to_string(i);
  }
  world_.Put("e/own", "own");
  there["e/own"] = "own";
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_EQ(Names("d").size(), 12u);
  ASSERT_EQ(Names("e").size(), 1u);
  {
    const Lock lock(world_.mutex);
    world_.fails["remove"] = world_.fails["remove-many"] = std::deque<bool>(100000, true);
  }
  for (int i = 0; i < 12; ++i)
    ASSERT_TRUE(hands().Move("d/" + std::to_string(i), "e/" + std::to_string(i)).ok());
  Ignore(drive_->Flush(Duration(0)));
  ASSERT_TRUE(Eventually([&] {
    const auto queue = *drive_->Queue(100);
    return queue.size() == 12 && std::all_of(queue.begin(), queue.end(), [](const auto& one) {
             return one.second.name.empty();
           });
  }));
  Close();
  {
    const Lock lock(world_.mutex);
    world_.fails.clear();
  }
  for (int i = 0; i < 12; ++i) world_.Erase("e/" + std::to_string(i));
  Open();
  FlushAll();
  Tree files;
  for (const auto& [path, text] : world_.All())
    if (path.back() != '/') files[path] = text;
  EXPECT_EQ(files, there);
}

TEST_F(LeftBehindTest, WhatAnotherMachineMovedIsNotRemoved) { TheyMoveItToo(false); }

// (the copy bears this machine's mark)
TEST_F(LeftBehindTest, NorIsItThoughItWasWrittenHere) { TheyMoveItToo(true); }

}  // namespace
}  // namespace pargeter::test
