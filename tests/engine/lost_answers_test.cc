// The store has done what it was asked, and its answer was lost; or a request comes late.
#include <gtest/gtest.h>

#include "support/story.h"

namespace pargeter::test::lost_answers {
namespace {

class LostAnswersTest : public DriveTest, public testing::WithParamInterface<Scenario> {};

TEST_P(LostAnswersTest, TheStoreHasWhatIsHere) {
  Begin(GetParam().store);
  Play(GetParam().steps);
  if (!HasFatalFailure()) ExpectStory(GetParam().wanted, GetParam().conflicts);
}

const Scenario kAnswers[] = {
    {"MoveThenTwoWritesLeavesNoOldCopy",
     "",
     "put f: base; open; read f: base; lose-next; move f g; write g: one; at g: one;"
     "write g: two",
     {{"g", "two"}}},
    {"MoveInOneRequestIsNoConflictWithTheNextWrite",
     "moves-files",
     "put f: content of another program; open; names: f; lose-next; move f g; at g;"
     "patch g 0: CONTENT",
     {{"g", "CONTENT of another program"}}},
    {"MoveByCopyIsNoConflictWithTheNextWrite",
     "",
     "put f: base; open; read f: base; lose-next; move f g; at g; write g: one",
     {{"g", "one"}}},
    // Each waits for the next: a file whose move is rolled back, the folder that it was in, and the
    // folder that takes that one's name.
    {"RollbackOutOfAFolderDoesNotWaitForTheFoldersMove",
     "retry=10 trial=5 late=20",
     "put d0/keep: keep; put d0/e/keep: keep; put d1/f: base; open; names d0: e keep;"
     "names d0/e: keep; names d1: f; fail look remove; lose-then-fail copy;"
     "move d1/f d0/e/f; at d0/e/f; move d0/e/f d0/e/g; rmdir d1; move d0 d1; heal",
     {{"d1/keep", "keep"}, {"d1/e/keep", "keep"}, {"d1/e/g", "base"}}},
    // The store says once that another version is there, and then that it is not so.
    {"DeletionSurvivesAWrongDenial", "", "put f: base; open; names: f; deny; remove f", {}},
    {"RollbackOfAnUploadSurvivesAWrongDenial",
     "",
     "open; lose write; write f: first; asked write; deny; remove f",
     {}},
    {"DeletedFileIsNotConfusedWithAFolderOfItsName",
     "",
     "put f: first; open; read f: first; lose-next; write f: second; at f: second; remove f;"
     "mkdir f",
     {{"f/", ""}}},
    // A third version is written while the store is asked about the second, and is deleted too.
    {"DeletionIsNotLeftToANewFileThatIsNotSentYet",
     "quiet=500",
     "put f: first; open; read f: first; lose write; write f: second; asked write;"
     "when look f { write f: third }; remove f; done; remove f",
     {}},
    {"DeletionIsNotLeftToANewFileThatWasNeverSent",
     "",
     "put f: first; open; read f: first; lose write; fail write x2; pass write;"
     "write f: second; asked write; remove f; write f: third; asked write; remove f",
     {}},
    {"OldPlaceOfAMoveIsNoConflictWithANewFileThere",
     "",
     "put f: first; open; read f: first; lose-next; write f: second; at f: second; move f g;"
     "write f: third",
     {{"f", "third"}, {"g", "second"}}},
    // The look that would have told of the move fails as well.
    {"MoveIsNotTakenForADeletionElsewhere",
     "moves-files retry=10",
     "put d/f: content; lose move; fail look x1; open; names d: f; move d/f d/g; flush; names d: "
     "g; full d",
     {{"d/g", "content"}}},
};
INSTANTIATE_TEST_SUITE_P(Answers, LostAnswersTest, testing::ValuesIn(kAnswers), NameOfScenario);

// A file was moved, the answer was lost, and before the step is made again another program has put
// a file of its own at the old place.
constexpr const char* kMoves = "moves-files serial retry=10 late=20 trial=5";
constexpr const char* kCopies = "retry=10 late=20 trial=5";
const std::string kBegin =
    "put d/keep: k; put e/keep: k; put g/keep: k; open; names d: keep; names e: keep;"
    "names g: keep; write d/f: mine; flush;";
const std::string kTheirsComes =
    kBegin + "when moved { put d/f: theirs }; lose-next; move d/f e/f; done;";
const std::string kTheirsComesAndStays =
    kBegin + "when moved { put d/f: theirs; fail move copy }; lose-next; move d/f e/f; done;";
// Nothing comes of the step here until `heal`; meanwhile others move the same file.
const std::string kBothMove = kBegin + "fail move copy; move d/f e/f; asked copy; shift d/f e/f;";
const std::string kChangeMoveAndDelete =
    kBegin +
    "fail move copy; lose-then-fail write; move d/f e/f; write e/f: changed; at e/f;"
    "put d/f: theirs; remove e/f; heal";

Files WithKept(Files files) {
  for (const char* keep : {"d/keep", "e/keep", "g/keep"}) files[keep] = "k";
  return files;
}

const Scenario kOldPlace[] = {
    {"TheirFileIsNotTakenForOurs", kMoves, kTheirsComes,
     WithKept({{"d/f", "theirs"}, {"e/f", "mine"}})},
    {"NorByALookBeforeTheNextTry", kMoves, kTheirsComesAndStays + "refresh-soon; heal",
     WithKept({{"d/f", "theirs"}, {"e/f", "mine"}})},
    {"OursMovesOn", kMoves, kTheirsComesAndStays + "move e/f g/f; heal",
     WithKept({{"d/f", "theirs"}, {"g/f", "mine"}})},
    {"OursIsDeletedAlone", kMoves, kTheirsComesAndStays + "remove e/f; heal",
     WithKept({{"d/f", "theirs"}})},
    // Whoever moves it there moves the file itself: that is not rolled back as an attempt of ours.
    {"TheirMoveToOurTargetStays", kCopies, kBothMove + "refresh-soon; heal",
     WithKept({{"e/f", "mine"}})},
    {"TheirMoveToOurTargetMovesOn", kCopies, kBothMove + "move e/f g/f; heal",
     WithKept({{"g/f", "mine"}})},
    {"TheirMoveToOurTargetStaysThoughOursIsDeleted", kCopies, kBothMove + "remove e/f; heal",
     WithKept({{"e/f", "mine"}})},
    // Whoever makes a folder at the old place has deleted the file.
    {"TheirFolderIsNoNewVersion", kCopies,
     kBegin + "fail move copy; move d/f e/f; asked copy; erase d/f; put d/f/inside: theirs; heal",
     WithKept({{"d/f/inside", "theirs"}})},
    // The object at the target keeps its time and origin, and has other bytes.
    {"WhatTheyMovedAndChangedStays", kCopies, kBothMove + "damage e/f: changed; move e/f g/f; heal",
     WithKept({{"e/f", "changed"}})},
    {"ChangedMovedAndDeletedDoesNotComeBack", kCopies, kChangeMoveAndDelete,
     WithKept({{"d/f", "theirs"}})},
    {"ChangedMovedAndDeletedDoesNotComeBackFromAMove", kMoves, kChangeMoveAndDelete,
     WithKept({{"d/f", "theirs"}})},
};
INSTANTIATE_TEST_SUITE_P(OldPlace, LostAnswersTest, testing::ValuesIn(kOldPlace), NameOfScenario);

class LostAnswerTest : public DriveTest {};

// The former attempt's copy has the mode of that time.
TEST_F(LostAnswerTest, AModeThatWasSetBeforeTheNextTryArrives) {
  Begin(kCopies);
  Play(kBegin + "lose-then-fail copy; move d/f e/f; at e/f; mode e/f 0640; heal");
  ExpectStory(WithKept({{"e/f", "mine"}}));
  EXPECT_EQ(world_.Get("e/f").attributes.mode, 0640u);
}

// Their write has replaced the object at the old place: the copy of that is older, and no reason
// to delete the new one.
TEST_F(LostAnswerTest, ACopyOfTheOldObjectIsNotTakenForTheNewOne) {
  Begin(kCopies);
  Play(kTheirsComesAndStays + "refresh-soon; heal; flush; refresh-soon; flush");
  std::set<std::string> contents;
  for (const auto& [path, content] : world_.All()) contents.insert(content);
  EXPECT_EQ(contents.count("theirs"), 1u);
}

// The same bytes at another place are there because another machine has moved the file.
TEST_F(LostAnswerTest, AMoveOfAnotherMachineIsNotTakenForALateUpload) {
  Play(
      "open; write f: first; flush; shift f g; remove f; flush; write g: second; flush; has g: "
      "first; conflicts 1");
}

// Deletions of one folder go together; one whose former attempt may stand elsewhere goes alone.
TEST_F(LostAnswerTest, ADeletionTogetherWithOthersRollsBackALostMove) {
  Begin("late=100");
  world_.Put("d/f", "base");
  for (int i = 0; i < 20; ++i) world_.Put("d/other" + std::to_string(i), "other");
  Play("open; count d: 21; lose-next; move d/f g; at g");
  for (int i = 0; i < 20; ++i) Play("remove d/other" + std::to_string(i));
  Play("remove g; flush; lacks g; lacks d/f");
}

// A copy has set the attributes, and its answer was lost: that is another version there.
TEST_F(LostAnswerTest, AFileThatIsHeldOpenGetsItsAttributesAndReadsOn) {
  Begin("moves-files serial retry=10");
  Play("set open=20; lose write copy; open; write f: content; lost copy");
  const auto held = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
  ASSERT_TRUE(held.ok());
  FlushAll();
  EXPECT_LE(Asked("copy").size(), 3u);
  Play("evict");
  const auto text = ReadOpen(held->file);
  EXPECT_EQ(text.ok() ? *text : text.error().what, "content");
  drive_->Release(held->file);
}

TEST_F(LostAnswerTest, AFileIsReadableBeforeItIsKnownThatItsAttributesArrived) {
  Begin("serial retry=10 trial=5");  // some of the faults say that the store is away
  Play("put f: content; open");
  const auto held = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  ASSERT_TRUE(held.ok());
  Play("lose-then-fail copy; mode f 0640; asked copy x2");
  EXPECT_TRUE(Eventually([&] {
    const auto text = ReadOpen(held->file);
    return text.ok() && *text == "content";
  }));
  drive_->Release(held->file);
  Play("heal; flush; read f: content");
}

// The move was tried, and then bytes of this file came to its target: written here, and up, but a
// power cut took the memory of them. The known version is not all of it: both stay.
TEST_F(LostAnswerTest, AVersionThatAPowerCutMadeUnknownIsNotRolledBack) {
  Begin("retry=10");
  Play(
      "put f: former; open; names: f; write f.new: mine; flush; lose-then-fail copy;move f.new f; "
      "asked copy x2; copy f.new f");
  world_.Edit("f", [](auto& object) { object.body = "mine, and more"; });
  Play("heal; flush");
  const auto all = world_.All();
  ASSERT_EQ(all.count("f"), 1u);
  EXPECT_EQ(all.at("f"), "mine, and more");
  EXPECT_EQ(all.size(), 2u);
  EXPECT_EQ(all.rbegin()->second, "mine") << all.rbegin()->first;
}

// A mode was set, the answer was lost, and another machine has put as many bytes there in the same
// second: they are not the bytes that are here. By what a store tells: content, writer, nothing.
class SameSecondTest : public DriveTest, public testing::WithParamInterface<const char*> {};
TEST_P(SameSecondTest, TheBytesOfAnotherMachineAreNotTakenForOurs) {
  const std::string tells = GetParam();
  Begin("retry=10 " + tells);
  Play("open; write f: mine; flush; lose-then-fail copy; mode f 0640; asked copy x2");
  world_.Replace("f", [&](auto& theirs) {
    theirs.body = "what";
    if (tells == "serial") theirs.attributes.origin = "another.7";
  });
  Play("heal; flush; refresh; read f: what");
}
INSTANTIATE_TEST_SUITE_P(Stores, SameSecondTest, testing::Values("", "serial", "serial forgets"));

}  // namespace
}  // namespace pargeter::test::lost_answers
