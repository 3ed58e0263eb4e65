// A mirror in each situation: which side has what, what is done, what both have then.
#include <gtest/gtest.h>

#include "support/mirror_fixture.h"

namespace pargeter::test {
namespace {

struct Scenario {
  const char *name, *steps;
};

class Scenarios : public MirrorFixture, public testing::WithParamInterface<Scenario> {};

TEST_P(Scenarios, EndAsTheySay) { Play(GetParam().steps); }

const Scenario kScenarios[] = {
    // -- the first meeting
    {"FullStore", "put a: A; put d/b: B; put d/e/c: C; start; same: a=A, d/b=B, d/e/c=C"},
    {"FullDirectory",
     "mkdir d/e; write a: A; write d/b: B; mkdir empty; start;"
     "same: a=A, d/b=B, d/e/=, empty/="},
    {"BothEqual",
     "put a: A; put d/b: B; mkdir d; write a: A; write d/b: B; start; same: a=A, d/b=B;"
     "asked read 0; asked write 0; conflicts 0"},
    {"BothDifferent",
     "put a: theirs; put d/b: B; mkdir d; write a: ours; write d/c: C; start;"
     "same: a=theirs, a (kept)=ours, d/b=B, d/c=C; conflicts 1"},
    {"BothOfOtherKinds",
     "put a: file; mkdir a; write a/in: inside; start;"
     "same: a=file, a (kept)/in=inside"},
    // -- changes here
    {"NewHere",
     "put a: A; start; settle; write b: B; mkdir d/e; write d/e/c: C;"
     "same: a=A, b=B, d/e/c=C"},
    {"ChangedHere",
     "put a: A; start; settle; write a: changed; same: a=changed; conflicts 0;"
     "recovered:"},
    {"SavedByRename",
     "put a: A; start; settle; asked write 0; save a: changed; same: a=changed;"
     "asked write 1; asked remove 0"},
    {"RemovedHere", "put a: A; put d/b: B; start; settle; remove a; remove d; same:"},
    {"MovedHere",
     "put a: A; start; settle; asked write 0; move a b; same: b=A; asked move 1;"
     "asked write 0; asked remove 0"},
    {"FolderMovedHere",
     "put d/a: A; put d/e/b: B; start; settle; asked move-folder 0; move d f;"
     "same: f/a=A, f/e/b=B; asked move-folder 1; asked write 0"},
    {"MovedOver", "put a: A; put b: B; start; settle; move a b; same: b=A"},
    {"MovedAndChanged",
     "put a: A; mkdir d; start; settle; move a d/b; write d/b: changed;"
     "same: d/b=changed"},
    {"SwappedHere",
     "put a: A; put b: B; start; settle; move a t; move b a; move t b;"
     "same: a=B, b=A"},
    {"ModeSetHere", "put a: A; start; settle; mode a 700; modes a 700; settle; asked write 0"},
    {"LinkedHere",
     "write a: A; link a b; symlink l: a; symlink out: /nowhere; start;"
     "same: a=A, b=A, l=-> a, out=-> /nowhere"},
    {"SpecialHere", "fifo f; write a: A; start; there: a=A; problem f"},
    {"UnchangedScan",
     "put a: A; put d/b: B; start; settle; stop; asked read 2; start; settle;"
     "asked read 0; asked write 0"},
    // -- changes at the store
    {"NewThere", "start; settle; put a: A; put d/e/b: B; same: a=A, d/e/b=B"},
    {"ChangedThere", "put a: A; start; settle; put a: changed; same: a=changed; recovered: A"},
    {"DeletedThere",
     "put a: A; put d/b: B; put d/c: C; start; settle; erase a; erase d/b;"
     "same: d/c=C; recovered: A, B"},
    {"MovedThere",
     "put a: A; put d/b: B; start; settle; asked read 2; shift a d/c;"
     "same: d/b=B, d/c=A"},
    // -- while the program was stopped
    {"WhileStopped",
     "put a: A; put b: B; put c: C; start; settle; stop; write a: changed; remove b;"
     "move c d; write e: E; start; same: a=changed, d=C, e=E"},
    {"BothWhileStopped",
     "put a: A; put b: B; start; settle; stop; write a: ours; put a: theirs;"
     "erase b; write c: C; start; same: a=theirs, a (kept)=ours, c=C;"
     "conflicts 1; recovered: B"},
    {"KilledWhileItWorks",
     "put a: A; start; settle; offline; write a: changed; write b: B; kill;"
     "online; start; same: a=changed, b=B; conflicts 0"},
    {"HiddenHere", "put d/a: A; put b: B; start; settle; hide d; here: b=B; there: b=B, d/a=A"},
    {"ReplacedByAFifo",
     "put a: A; put b: B; start; settle; remove a; fifo a; write b: changed;"
     "there: a=A, b=changed; problem a"},
    {"MovedOverAChange",
     "put a: A; put b: B; start; settle; stop; move b a; put a: theirs; start;"
     "same: a=theirs, a (kept)=B"},
    {"StatesHere", "put a: A; start; settle; state a pinned; offline; write b: B; state b pending"},
    {"OwnNameThere", "put .pargeter/a: A; put b: B; start; here: b=B; problem .pargeter"},
    {"Offline",
     "put a: A; start; settle; offline; write a: changed; write b: B; mkdir d; online;"
     "same: a=changed, b=B, d/="},
};
INSTANTIATE_TEST_SUITE_P(Mirror, Scenarios, testing::ValuesIn(kScenarios),
                         [](const auto& one) { return std::string(one.param.name); });

// ---- every row of docs/conflicts.md

struct Row {
  const char *name, *before, *here, *there, *outcome;
  int conflicts = 0;
};

const Row kRows[] = {
    {"ChangedChanged", "put a: A", "write a: ours", "put a: theirs", "a=theirs, a (kept)=ours", 1},
    {"ChangedToTheSame", "put a: A", "write a: same", "put a: same", "a=same"},
    {"ChangedDeleted", "put a: A", "write a: ours", "erase a", "a=ours"},
    {"ChangedRenamed", "put a: A", "write a: ours", "shift a b", "a=ours, b=A"},
    {"DeletedChanged", "put a: A", "remove a", "put a: theirs", "a=theirs"},
    {"DeletedDeleted", "put a: A", "remove a", "erase a", ""},
    {"DeletedRenamed", "put a: A", "remove a", "shift a b", "b=A"},
    {"RenamedChanged", "put a: A", "move a b", "put a: theirs", "b=theirs"},
    {"RenamedDeleted", "put a: A", "move a b", "erase a", ""},
    {"CreatedCreated", "put z: Z", "write a: ours", "put a: theirs", "a=theirs, a (kept)=ours, z=Z",
     1},
    {"CreatedTheSame", "put z: Z", "write a: same", "put a: same", "a=same, z=Z"},
    {"FolderRenamedFileCreated", "put d/a: A", "move d e", "put d/b: B", "e/a=A, e/b=B"},
    {"FolderRenamedFileChanged", "put d/a: A", "move d e", "put d/a: theirs", "e/a=theirs"},
    {"FolderDeletedFileChanged", "put d/a: A", "remove d", "put d/a: theirs", "d/a=theirs"},
    {"FolderDeletedFileCreated", "put d/a: A", "remove d", "put d/b: B", "d/b=B"},
};

class Conflicts : public MirrorFixture,
                  public testing::WithParamInterface<std::tuple<Row, bool>> {};

// Neither side knows of the other's change: the store is away, or the program is stopped.
TEST_P(Conflicts, EndAsInTheTable) {
  const auto& [row, stopped] = GetParam();
  Play(
      fmt::format("{}; start; settle; {}; {}", row.before, stopped ? "stop" : "offline", row.here));
  if (!stopped) {
    EXPECT_TRUE(Eventually([&] { return drive_->Summary().pending.files > 0; })) << Different();
    EXPECT_TRUE(face_->WaitUntilSame(Duration(10000)).ok()) << Different();
  }
  Play(fmt::format("{}; {}; same: {}; conflicts {}", row.there, stopped ? "start" : "online",
                   row.outcome, row.conflicts));
}
INSTANTIATE_TEST_SUITE_P(Mirror, Conflicts,
                         testing::Combine(testing::ValuesIn(kRows), testing::Bool()),
                         [](const auto& one) {
                           return std::string(std::get<0>(one.param).name) +
                                  (std::get<1>(one.param) ? "Stopped" : "Offline");
                         });

// ---- guards

class Guards : public MirrorFixture {};

TEST_F(Guards, ADirectoryThatIsGoneDeletesNothingAtTheStore) {
  Play("put a: A; put d/b: B; start; settle; stop");
  std::filesystem::rename(At(""), folder_ / "elsewhere");
  StartAll();
  EXPECT_EQ(opened_.error().code, Code::kRefused);
  std::filesystem::create_directory(At(""));  // as where a disk is to be mounted
  StartAll();
  EXPECT_EQ(opened_.error().code, Code::kRefused);
  Play("there: a=A, d/b=B");
  std::filesystem::remove(At(""));
  std::filesystem::rename(folder_ / "elsewhere", At(""));
  Play("start; same: a=A, d/b=B");
}

TEST_F(Guards, ADirectoryThatIsTakenAwayWhileItRunsStopsTheMirror) {
  Play("put a: A; start; settle");
  std::filesystem::rename(At(""), folder_ / "elsewhere");
  std::filesystem::create_directory(At(""));
  EXPECT_TRUE(Eventually([&] {
    world_.Put("b", "B");  // whatever happens
    return face_->Summary().stopped != "";
  }));
  Play("there: a=A, b=B");
}

TEST_F(Guards, ADirectoryOfAnotherDriveIsRefused) {
  Play("put a: A; start; settle; stop");
  const auto other = Directory::Open(At(""), "maps", true);
  ASSERT_FALSE(other.ok());
  EXPECT_EQ(other.error().code, Code::kRefused);
}

TEST_F(Guards, AFileThatIsBeingWrittenWaitsUntilItIsClosed) {
  Play("start; settle");
  const int fd = ::open(At("log").c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
  ASSERT_EQ(::write(fd, "half", 4), 4);
  EXPECT_TRUE(Eventually([&] { return face_->Summary().waiting > 0; }));
  EXPECT_FALSE(face_->WaitUntilSame(Duration(300)).ok());
  Play("there:");
  ASSERT_EQ(::write(fd, " and whole", 10), 10);
  ::close(fd);
  Play("same: log=half and whole");
}

}  // namespace
}  // namespace pargeter::test
