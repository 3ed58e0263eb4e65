// The store has done what it was asked, and nobody heard of it; or does it late.
#include <gtest/gtest.h>

#include <atomic>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class LostAnswersTest : public DriveTest {
 protected:
  Hands hands() { return Hands(drive_.get()); }
  // The next request of that kind happens and gets no answer; nothing comes of those after it.
  void LoseOneThenFail(const std::string& kind) {
    const Lock lock(world_.mutex);
    world_.loses[kind] = {true};
    world_.fails[kind] = std::deque<bool>(10000, true);
    world_.fails[kind].front() = false;
  }
};

TEST_F(LostAnswersTest, AMoveWhoseAnswerWasLostLeavesNothingBehind) {
  world_.Put("f", "base");
  Open();
  ASSERT_EQ(*Read("f"), "base");
  world_.TakeAsked();
  world_.LoseAnswers(1);
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Write("g", "one").ok());
  ASSERT_TRUE(
      Eventually([&] { return world_.All().count("g") > 0 && world_.All()["g"] == "one"; }));
  ASSERT_TRUE(Write("g", "two").ok());  // before the upload is tried again
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"g", "two"}}));
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

TEST_F(LostAnswersTest, AMoveWhoseAnswerWasLostIsNoConflictWithWhatIsWrittenNext) {
  {
    const Lock lock(world_.mutex);
    world_.moves_files = true;
  }
  world_.Put("f", "content of another program");
  Open();
  ASSERT_EQ(Names(""), std::vector<std::string>{"f"});
  world_.LoseAnswers(1);
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All().count("g") > 0; }));
  ASSERT_TRUE(hands().Patch("g", "CONTENT", 0).ok());
  FlushAll();
  using Files = std::map<std::string, std::string>;
  EXPECT_EQ(world_.All(), (Files{{"g", "CONTENT of another program"}}));
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
}

TEST_F(LostAnswersTest, ACopyWhoseAnswerWasLostIsNoConflictWithWhatIsWrittenNext) {
  world_.Put("f", "base");
  Open();
  ASSERT_EQ(*Read("f"), "base");
  world_.LoseAnswers(1);
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All().count("g") > 0; }));
  ASSERT_TRUE(Write("g", "one").ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"g", "one"}}));
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

// Deletions of one folder go together; one whose former attempt may stand elsewhere goes alone.
TEST_F(LostAnswersTest, ADeletionTogetherWithOthersTakesBackWhatALostMoveMade) {
  may_be_late_ = Duration(100);
  world_.Put("d/f", "base");
  for (int i = 0; i < 20; ++i) world_.Put("d/other" + std::to_string(i), "other");
  Open();
  ASSERT_EQ(Names("d").size(), 21u);
  world_.LoseAnswers(1);
  ASSERT_TRUE(hands().Move("d/f", "g").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All().count("g") > 0; }));
  for (int i = 0; i < 20; ++i)
    ASSERT_TRUE(drive_->Unlink(IdOf("d"), "other" + std::to_string(i)).ok());
  ASSERT_TRUE(drive_->Unlink(kRootId, "g").ok());
  FlushAll();
  EXPECT_EQ(world_.All().count("g"), 0u);
  EXPECT_EQ(world_.All().count("d/f"), 0u);
}

// A file was to move into a folder, nobody heard of it, and it was moved on. That folder takes the
// place of the one which the file comes from: each waits for the next.
TEST_F(LostAnswersTest, WhatIsTakenBackFromAFolderDoesNotWaitForItsMove) {
  for (const char* path : {"d0/keep", "d0/e/keep"}) world_.Put(path, "keep");
  world_.Put("d1/f", "base");
  retry_pause_ = Duration(10);
  trial_pause_ = Duration(5);
  may_be_late_ = Duration(20);
  Open();
  for (const char* folder : {"d0", "d0/e", "d1"}) Names(folder);
  {
    const Lock lock(world_.mutex);
    world_.loses["copy"] = {true};
    for (const char* kind : {"copy", "look", "remove"})
      world_.fails[kind] = std::deque<bool>(10000, true);
    world_.fails["copy"].front() = false;
  }
  ASSERT_TRUE(hands().Move("d1/f", "d0/e/f").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All().count("d0/e/f") > 0; }));
  ASSERT_TRUE(hands().Move("d0/e/f", "d0/e/g").ok());
  ASSERT_TRUE(hands().RemoveFolder("d1").ok());
  ASSERT_TRUE(hands().Move("d0", "d1").ok());
  {
    const Lock lock(world_.mutex);
    world_.fails.clear();
  }
  FlushAll();
  using Files = std::map<std::string, std::string>;
  EXPECT_EQ(world_.All(), (Files{{"d1/keep", "keep"}, {"d1/e/keep", "keep"}, {"d1/e/g", "base"}}));
}

// Once it says that another version is there, and then that it is not so.
TEST_F(LostAnswersTest, ADeletionIsNotGivenUpForAWordThatTheStoreTakesBack) {
  world_.Put("f", "base");
  Open();
  ASSERT_EQ(Names(""), std::vector<std::string>{"f"});
  {
    const Lock lock(world_.mutex);
    world_.denies = {true};
  }
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
}

// The same of what a former attempt has left.
TEST_F(LostAnswersTest, NorIsTheTakingBackOfWhatWasSent) {
  Open();
  {
    const Lock lock(world_.mutex);
    world_.loses["write"] = {true};
  }
  ASSERT_TRUE(Write("f", "first").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("write").empty(); }));
  {
    const Lock lock(world_.mutex);
    world_.denies = {true};
  }
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
}

// Written once more, and nobody learnt of it; deleted, and a folder has its name.
TEST_F(LostAnswersTest, ADeletionIsNotGivenUpForAFolderOfItsName) {
  world_.Put("f", "first");
  Open();
  ASSERT_EQ(*Read("f"), "first");
  world_.LoseAnswers(1);
  ASSERT_TRUE(Write("f", "second").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All()["f"] == "second"; }));
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  ASSERT_TRUE(hands().MakeFolder("f").ok());
  FlushAll();
  EXPECT_EQ(world_.All().count("f"), 0u);
  EXPECT_EQ(world_.All().count("f/"), 1u);
}

// Written once more, and nobody learnt of it; deleted; another begins to take its name while the
// store is asked, and is deleted too.
TEST_F(LostAnswersTest, ADeletionIsNotLeftToAnotherThatIsNotThereYet) {
  world_.Put("f", "first");
  quiet_ = Duration(500);
  Open();
  ASSERT_EQ(*Read("f"), "first");
  {
    const Lock lock(world_.mutex);
    world_.loses["write"] = {true};
  }
  ASSERT_TRUE(Write("f", "second").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("write").empty(); }));
  std::atomic<bool> made{false};
  world_.on_look = [&](const std::string& path) {
    if (path != "f" || made) return;
    EXPECT_TRUE(Write("f", "third").ok());
    made = true;
  };
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  ASSERT_TRUE(Eventually([&] { return made.load(); }));
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
}

// Written once more, and nobody learnt of it; deleted, like another that was to take its place and
// did not get there.
TEST_F(LostAnswersTest, ADeletionIsNotLeftToAnotherThatNeverGotThere) {
  world_.Put("f", "first");
  Open();
  ASSERT_EQ(*Read("f"), "first");
  {
    const Lock lock(world_.mutex);
    world_.loses["write"] = {true};
    world_.fails["write"] = {false, true};
  }
  ASSERT_TRUE(Write("f", "second").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("write").empty(); }));
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  ASSERT_TRUE(Write("f", "third").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("write").empty(); }));
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{}));
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_TRUE(Names("").empty());
}

// Nobody learnt that it had been written once more before it was moved, and another took its name.
TEST_F(LostAnswersTest, WhatAMoveLeftIsNoConflictWithWhatTakesItsName) {
  world_.Put("f", "first");
  Open();
  ASSERT_EQ(*Read("f"), "first");
  world_.LoseAnswers(1);
  ASSERT_TRUE(Write("f", "second").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All()["f"] == "second"; }));
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Write("f", "third").ok());
  FlushAll();
  using Files = std::map<std::string, std::string>;
  EXPECT_EQ(world_.All(), (Files{{"f", "third"}, {"g", "second"}}));
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

// The same bytes at another place are there because somebody moved them.
TEST_F(LostAnswersTest, WhatAnotherMachineMovedIsNotTakenForALateUpload) {
  Open();
  ASSERT_TRUE(Write("f", "first").ok());
  FlushAll();
  {
    const Lock lock(world_.mutex);
    world_.objects["g"] = world_.objects["f"];
    world_.objects.erase("f");
  }
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  ASSERT_TRUE(Write("g", "second").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["g"], "first");
  EXPECT_EQ(drive_->Conflicts()->size(), 1u);
}

// The look that would have told of it fails as well.
TEST_F(LostAnswersTest, AMoveWhoseAnswerWasLostIsNotTakenForADeletionElsewhere) {
  {
    const Lock lock(world_.mutex);
    world_.moves_files = true;
    world_.loses["move"] = {true};
    world_.fails["look"] = {true};
  }
  retry_pause_ = Duration(10);
  world_.Put("d/f", "content of another program");
  Open();
  ASSERT_EQ(Names("d"), std::vector<std::string>{"f"});
  ASSERT_TRUE(hands().Move("d/f", "d/g").ok());
  FlushAll();
  EXPECT_EQ(Names("d"), std::vector<std::string>{"g"});
  EXPECT_EQ(drive_->RemoveFolder(kRootId, "d").error().code, Code::kNotEmpty);
  EXPECT_EQ(world_.All().count("d/g"), 1u);
}

// Its attributes were set by a copy, and nobody learnt of it: that is another version there.
TEST_F(LostAnswersTest, AFileThatIsHeldOpenGetsItsAttributesAndReadsOn) {
  {
    const Lock lock(world_.mutex);
    world_.moves_files = world_.serial_versions = true;
    world_.loses["write"] = {true};
    world_.loses["copy"] = {true};
  }
  retry_pause_ = Duration(10);
  open_patience_ = Duration(20);
  Open();
  ASSERT_TRUE(Write("f", "content").ok());
  ASSERT_TRUE(Eventually([&] {
    const Lock lock(world_.mutex);
    return world_.loses["copy"].empty();
  }));
  const auto held = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
  ASSERT_TRUE(held.ok());
  FlushAll();
  EXPECT_LE(Asked("copy").size(), 3u);
  ASSERT_TRUE(drive_->Evict({kRootId}, {}).ok());
  const auto text = ReadOpen(held->file);
  EXPECT_EQ(text.ok() ? *text : text.error().what, "content");
  drive_->Release(held->file);
}

// Nor has who reads before the step is made again to hear of it.
TEST_F(LostAnswersTest, AFileIsReadableBeforeItIsKnownThatItsAttributesArrived) {
  {
    const Lock lock(world_.mutex);
    world_.serial_versions = true;
  }
  world_.Put("f", "content");
  retry_pause_ = Duration(10);
  trial_pause_ = Duration(5);  // some of the faults say that the store is away
  Open();
  const auto held = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  ASSERT_TRUE(held.ok());
  LoseOneThenFail("copy");
  ASSERT_TRUE(hands().SetMode("f", 0640).ok());
  ASSERT_TRUE(Eventually([&, n = 0u]() mutable { return (n += Asked("copy").size()) > 1; }));
  EXPECT_TRUE(Eventually([&] {
    const auto text = ReadOpen(held->file);
    return text.ok() && *text == "content";
  }));
  {
    const Lock lock(world_.mutex);
    world_.fails.clear();
  }
  drive_->Release(held->file);
  FlushAll();
  EXPECT_EQ(*Read("f"), "content");
}

// The move was tried, and then bytes of this file came to where it goes: written here, and up, but
// a power cut took the memory of them. What is known is not all there is: both stay.
TEST_F(LostAnswersTest, WhatAPowerCutMadeUnknownIsNotTakenBack) {
  retry_pause_ = Duration(10);
  world_.Put("f", "former");
  Open();
  Names("");
  ASSERT_TRUE(Write("f.new", "mine").ok());
  FlushAll();
  LoseOneThenFail("copy");
  ASSERT_TRUE(hands().Move("f.new", "f").ok());
  ASSERT_TRUE(Eventually([&, n = 0u]() mutable { return (n += Asked("copy").size()) > 1; }));
  {
    const Lock lock(world_.mutex);
    FakeWorld::Object sent = world_.objects["f.new"];
    sent.body = "mine, and more";
    world_.Set("f", sent);
    world_.fails.clear();
  }
  FlushAll();
  const auto all = world_.All();
  ASSERT_EQ(all.count("f"), 1u);
  EXPECT_EQ(all.at("f"), "mine, and more");
  EXPECT_EQ(all.size(), 2u);
  EXPECT_EQ(all.rbegin()->second, "mine") << all.rbegin()->first;
}

// A mode was set, nobody heard of it, and another machine has put as many bytes there in the same
// second: they are not what is here.
enum class Tells { kContent, kWriter, kNothing };
class SameSecondTest : public LostAnswersTest, public testing::WithParamInterface<Tells> {};
TEST_P(SameSecondTest, TheBytesOfAnotherMachineAreNotTakenForOurs) {
  const Tells tells = GetParam();
  {
    const Lock lock(world_.mutex);
    world_.serial_versions = tells != Tells::kContent;
    world_.forgets_origins = tells == Tells::kNothing;
  }
  retry_pause_ = Duration(10);
  Open();
  ASSERT_TRUE(Write("f", "mine").ok());
  FlushAll();
  LoseOneThenFail("copy");
  ASSERT_TRUE(hands().SetMode("f", 0640).ok());
  ASSERT_TRUE(Eventually([&, n = 0u]() mutable { return (n += Asked("copy").size()) > 1; }));
  {
    const Lock lock(world_.mutex);
    FakeWorld::Object theirs = world_.objects["f"];
    theirs.body = "what";
    if (tells == Tells::kWriter) theirs.attributes.origin = "another.7";
    world_.Set("f", theirs);
    world_.fails.clear();
  }
  FlushAll();
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("f"), "what");
}
std::string NameOfStore(const testing::TestParamInfo<Tells>& one) {
  static const std::string names[] = {"Content", "Writer", "Nothing"};
  return names[static_cast<int>(one.param)];
}
INSTANTIATE_TEST_SUITE_P(Stores, SameSecondTest,
                         testing::Values(Tells::kContent, Tells::kWriter, Tells::kNothing),
                         NameOfStore);

// A file was moved, nobody heard of it, and before the step is made again another program has put
// a file of its own where it was.
class OldPlaceTest : public LostAnswersTest {
 protected:
  using Files = std::map<std::string, std::string>;
  void Begin(bool moves_files) {
    {
      const Lock lock(world_.mutex);
      world_.moves_files = world_.serial_versions = moves_files;
    }
    retry_pause_ = Duration(10);
    may_be_late_ = Duration(20);
    trial_pause_ = Duration(5);
    world_.Put("d/keep", "k");
    world_.Put("e/keep", "k");
    world_.Put("g/keep", "k");
    Open();
    for (const char* folder : {"d", "e", "g"}) Names(folder);
    ASSERT_TRUE(Write("d/f", "mine").ok());
    FlushAll();
  }
  // And nothing comes of the step here, until it is let go.
  void MoveHereAndThere() {
    Hold(true);
    ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
    ASSERT_TRUE(Eventually([&] { return !Asked("copy").empty(); }));
    world_.Move("d/f", "e/f");
  }
  void LoseTheNextAnswer() {
    const auto told = [this] {
      if (telling_.exchange(true)) return;
      world_.Put("d/f", "of another program");
      if (holds_) Hold(true);
      taken_ = true;
    };
    world_.on_moved = world_.on_copied = told;
    world_.LoseAnswers(1);
  }
  void Hold(bool on) {
    const Lock lock(world_.mutex);
    for (const char* kind : {"move", "copy"})
      world_.fails[kind] = std::deque<bool>(on ? 10000 : 0, true);
  }
  void Look() {
    ASSERT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
  }
  void End(const Files& wanted) {
    FlushAll();
    Look();
    FlushAll();
    Files store = world_.All();
    for (const char* keep : {"d/keep", "e/keep", "g/keep"}) store.erase(keep);
    EXPECT_EQ(store, wanted);
    for (const auto& [path, content] : wanted) EXPECT_EQ(*Read(path), content) << path;
    EXPECT_TRUE(drive_->Conflicts()->empty());
  }
  void ChangeMoveAndDelete(bool moves_files) {
    Begin(moves_files);
    Hold(true);
    LoseOneThenFail("write");
    ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
    ASSERT_TRUE(Write("e/f", "changed").ok());
    ASSERT_TRUE(Eventually([&] { return world_.All().count("e/f") > 0; }));
    world_.Put("d/f", "of another program");
    ASSERT_TRUE(hands().Remove("e/f").ok());
    {
      const Lock lock(world_.mutex);
      world_.fails.clear();
    }
    End({{"d/f", "of another program"}});
  }
  std::atomic<bool> telling_{false}, taken_{false};
  bool holds_ = false;
};

TEST_F(OldPlaceTest, WhatStandsThereIsNotTakenForWhatWasMoved) {
  Begin(true);
  LoseTheNextAnswer();
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  End({{"d/f", "of another program"}, {"e/f", "mine"}});
}

TEST_F(OldPlaceTest, NorByALookThatComesBeforeTheNextTry) {
  holds_ = true;
  Begin(true);
  LoseTheNextAnswer();
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  ASSERT_TRUE(Eventually([&] { return taken_.load(); }));
  Look();
  Hold(false);
  End({{"d/f", "of another program"}, {"e/f", "mine"}});
}

TEST_F(OldPlaceTest, WhatWasMovedOnceMoreComesAlong) {
  holds_ = true;
  Begin(true);
  LoseTheNextAnswer();
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  ASSERT_TRUE(Eventually([&] { return taken_.load(); }));
  ASSERT_TRUE(hands().Move("e/f", "g/f").ok());
  Hold(false);
  End({{"d/f", "of another program"}, {"g/f", "mine"}});
}

TEST_F(OldPlaceTest, WhatWasDeletedMeanwhileTakesNothingAlong) {
  holds_ = true;
  Begin(true);
  LoseTheNextAnswer();
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  ASSERT_TRUE(Eventually([&] { return taken_.load(); }));
  ASSERT_TRUE(hands().Remove("e/f").ok());
  Hold(false);
  End({{"d/f", "of another program"}});
}

// Whoever moves it there moves the file itself: that is not taken back as an attempt of ours.
TEST_F(OldPlaceTest, WhatOthersMovedWhereItWasToGoIsNotDeleted) {
  Begin(false);
  MoveHereAndThere();
  Look();
  Hold(false);
  End({{"e/f", "mine"}});
}

TEST_F(OldPlaceTest, NorIsItWhenItIsMovedOnceMore) {
  Begin(false);
  MoveHereAndThere();
  ASSERT_TRUE(hands().Move("e/f", "g/f").ok());
  Hold(false);
  End({{"g/f", "mine"}});
}

TEST_F(OldPlaceTest, NorWhenItIsDeletedHere) {
  Begin(false);
  MoveHereAndThere();
  ASSERT_TRUE(hands().Remove("e/f").ok());
  Hold(false);
  End({{"e/f", "mine"}});
}

// Who makes a folder where it was has deleted it.
TEST_F(OldPlaceTest, AFolderThereIsNoNewVersionOfIt) {
  Begin(false);
  Hold(true);
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("copy").empty(); }));
  world_.Erase("d/f");
  world_.Put("d/f/inside", "of another program");
  Hold(false);
  End({{"d/f/inside", "of another program"}});
}

// What they changed there too is theirs: ours has nothing more to move.
TEST_F(OldPlaceTest, WhatTheyMovedAndChangedStaysAndIsNotShownAsOurs) {
  Begin(false);
  MoveHereAndThere();
  {
    const Lock lock(world_.mutex);
    world_.objects["e/f"].body = "changed";  // and all else is as it was
  }
  ASSERT_TRUE(hands().Move("e/f", "g/f").ok());
  Hold(false);
  End({{"e/f", "changed"}});
}

// What the former attempt brought there has the mode of that time.
TEST_F(OldPlaceTest, AModeThatWasSetBeforeTheNextTryArrives) {
  Begin(false);
  LoseOneThenFail("copy");
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All().count("e/f") > 0; }));
  ASSERT_TRUE(hands().SetMode("e/f", 0640).ok());
  Hold(false);
  End({{"e/f", "mine"}});
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.objects["e/f"].attributes.mode, 0640u);
}

// What went up was changed here, and is not what stood at the old place, whatever that is now.
TEST_F(OldPlaceTest, WhatWasChangedAndMovedAndDeletedDoesNotComeBack) {
  ChangeMoveAndDelete(false);
}
TEST_F(OldPlaceTest, NorDoesItWhereFilesMoveInOneRequest) { ChangeMoveAndDelete(true); }

// Who writes there has replaced what was there: the copy of that is older, and no reason to delete
// what is new.
TEST_F(OldPlaceTest, ACopyOfWhatStoodThereIsNotTakenForWhatStandsThere) {
  holds_ = true;
  Begin(false);
  LoseTheNextAnswer();
  ASSERT_TRUE(hands().Move("d/f", "e/f").ok());
  ASSERT_TRUE(Eventually([&] { return taken_.load(); }));
  Look();
  Hold(false);
  FlushAll();
  Look();
  FlushAll();
  std::set<std::string> contents;
  for (const auto& [path, content] : world_.All()) contents.insert(content);
  EXPECT_EQ(contents.count("of another program"), 1u);
}

}  // namespace
}  // namespace pargeter::test
