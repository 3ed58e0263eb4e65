// A file was moved by a copy, and the removal of the object at its old place, which a tombstone
// waits for, has failed once. Others, who see both meanwhile, may delete one of the two: the last
// of them stays.
#include <gtest/gtest.h>

#include <atomic>

#include "support/story.h"

namespace pargeter::test::left_behind {
namespace {

const std::string kLook = "put f: the fern; open; names: f;";
const std::string kHalfWay = kLook + "fail remove x1; move f g; try; tried; at g: the fern;";
const std::string kInDoubt = kLook + "lose remove; move f g; try; tried; at g: the fern;";
const Files kOld{{"f", "the fern"}};

class TombstoneTest : public DriveTest, public testing::WithParamInterface<Scenario> {};
TEST_P(TombstoneTest, GoesIfTheFileIsElsewhere) {
  Begin("retry=60000");
  Play(GetParam().steps);
  if (!HasFatalFailure()) ExpectStory(GetParam().wanted);
}
const Scenario kScenarios[] = {
    {"StaysWhereOthersPutItBack", "", kInDoubt + "shift g f", kOld},
    {"StaysWhereOthersRemovedTheCopy", "", kHalfWay + "erase g", kOld},
    {"StaysIfThatIsKnown", "", kHalfWay + "erase g; refresh; absent g", kOld},
    {"StaysAfterAnotherStart", "", kHalfWay + "close; erase g; open", kOld},
    {"StaysIfThatWasKnownBeforeAnotherStart", "", kHalfWay + "erase g; refresh; reopen", kOld},
    {"GoesWhenTheFileIsDeletedHere", "", kHalfWay + "remove g", {}},
    {"GoesWhenTheFileIsChangedHere", "", kHalfWay + "write g: more", {{"g", "more"}}},
    {"GoesWhenTheFileMovesOn", "", kHalfWay + "move g h", {{"h", "the fern"}}},
    {"GoesWhenTheFileIsReplacedHere",
     "",
     kHalfWay + "write h: another; move h g",
     {{"g", "another"}}},
};
INSTANTIATE_TEST_SUITE_P(Files, TombstoneTest, testing::ValuesIn(kScenarios), NameOfScenario);

class LeftBehindTest : public DriveTest {
 protected:
  // The answer to the copy that was to be made here is not heard, and the file moves on; meanwhile
  // another machine has moved the same file to the same place.
  void TheyMoveItToo(bool written_here) {
    Begin("retry=5 late=300");
    Play(kLook);
    if (written_here) Play("write f: the fern; flush; evict");
    std::atomic<bool> theirs{false}, sent{false}, moved{false};
    std::atomic<int> looks{0};
    world_.Fail("copy", 1);
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
    Play("move f g; try");
    ASSERT_TRUE(Eventually([&] { return sent.load(); }));
    Play("move g h");
    moved = true;
    Play("flush; close");
    world_.on_send = world_.on_look = nullptr;
    world_.on_looked = nullptr;
    EXPECT_EQ(world_.All(), (Files{{written_here ? "h" : "g", "the fern"}}));
  }
};

TEST_F(LeftBehindTest, ATombstoneCostsOneLook) {
  Begin("retry=60000");
  Play(kHalfWay);
  Play("forget; flush");
  EXPECT_EQ(Asked("look"), std::vector<std::string>{"look g"});
  ExpectStory({{"g", "the fern"}});
}

// A whole folder's worth, at once.
TEST_F(LeftBehindTest, ManyTombstonesStayIfOthersHaveTheFilesOnlyThere) {
  Begin("retry=20 trial=20");
  Files there{{"f", "the fern"}, {"e/own", "own"}};
  for (int i = 0; i < 12; ++i) there["d/" + std::to_string(i)] = "sheet " + std::to_string(i);
  for (const auto& [path, text] : there) world_.Put(path, text);
  Play("open; count d: 12; names e: own; fail remove remove-many");
  for (int i = 0; i < 12; ++i) Play(fmt::format("move d/{} e/{}", i, i));
  Play("try");
  ASSERT_TRUE(Eventually([&] {
    const auto queue = *drive_->Queue(100);
    return queue.size() == 12 && std::all_of(queue.begin(), queue.end(), [](const auto& one) {
             return one.second.name.empty();
           });
  }));
  Play("close; heal");
  for (int i = 0; i < 12; ++i) world_.Erase("e/" + std::to_string(i));
  there["d/"] = "";  // was empty for a moment
  Play("open; flush");
  ExpectStory(there);
}

TEST_F(LeftBehindTest, AFileThatAnotherMachineMovedIsNotRemoved) { TheyMoveItToo(false); }

// (the copy bears this machine's origin)
TEST_F(LeftBehindTest, NorIsItThoughItWasWrittenHere) { TheyMoveItToo(true); }

}  // namespace
}  // namespace pargeter::test::left_behind
