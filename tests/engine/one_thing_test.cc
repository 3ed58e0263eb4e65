// A store that has one thing at a path, as a cloud drive does: files and folders that come to the
// same name, here and there.
#include <gtest/gtest.h>

#include "support/story.h"

namespace pargeter::test::one_thing {
namespace {

constexpr const char* kStore = "real-folders moves-files moves-folders serial late=20 retry=10";

class OneThingTest : public DriveTest {
 protected:
  // All goes up, by few requests.
  void GoOnline() {
    Play("forget; online; flush");
    EXPECT_LT(world_.TakeAsked().size(), 40u);
    EXPECT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
  }
};

class SameNameTest : public OneThingTest, public testing::WithParamInterface<Scenario> {};
TEST_P(SameNameTest, NothingIsLost) {
  Begin(kStore);
  Play(GetParam().steps);
  GoOnline();
  ExpectStory(GetParam().wanted, GetParam().conflicts);
  EXPECT_TRUE(drive_->CheckIndex().ok());
}

// A folder of others has the name of a file here.
const std::string kFile = "put d/f: base; open; read d/f: base; offline;";
const Scenario kFolderOfOthers[] = {
    {"HasTheNameOfANewFile",
     "",
     kFile + "write d/new: mine; put d/new/in: theirs",
     {{"d/f", "base"}, {"d/new (kept)", "mine"}, {"d/new/in", "theirs"}},
     1},
    {"HasTheNameOfAChangedFile",
     "",
     kFile + "write d/f: mine; erase d/f; put d/f/in: theirs",
     {{"d/f (kept)", "mine"}, {"d/f/in", "theirs"}},
     1},
    {"HasTheNewNameOfAFile",
     "",
     kFile + "move d/f d/g; put d/g/in: theirs",
     {{"d/g (kept)", "base"}, {"d/g/in", "theirs"}},
     1},
    // Our folder goes from there first, and then the file has the name.
    {"IsOursAndAboutToLeave",
     "",
     "put d/moves/x: x; put d/goes/x: x; open; names d: goes moves; names d/moves: x;"
     "names d/goes: x; fail move-folder remove-folder x3; move d/moves d/moved;"
     "write d/moves: a file; remove d/goes/x; rmdir d/goes; write d/goes: another",
     {{"d/goes", "another"}, {"d/moved/x", "x"}, {"d/moves", "a file"}}},
    {"IsOursAndTheFileComesFromIt",
     "",
     "put d/out/f: content; open; names d: out; names d/out: f; offline; move d/out/f d/t;"
     "rmdir d/out; move d/t d/out",
     {{"d/out", "content"}}},
};
INSTANTIATE_TEST_SUITE_P(FolderOfOthers, SameNameTest, testing::ValuesIn(kFolderOfOthers),
                         NameOfScenario);

// A file of others has the name of a folder here: that stands beside it, with all that is in it.
const std::string kFolder =
    "put d/e/x: base; put d/k: k; open; names d: e k; names d/e: x; offline;";
const std::string kNew = kFolder + "mkdir d/new; write d/new/f: mine;";
const Scenario kFileOfOthers[] = {
    {"HasTheNameOfANewFolder",
     "",
     kFolder + "mkdir d/new; put d/new: theirs",
     {{"d/e/x", "base"}, {"d/k", "k"}, {"d/new", "theirs"}, {"d/new (kept)/", ""}},
     1},
    {"HasTheNameOfANewFolderThatIsNotEmpty",
     "",
     kNew + "move d/k d/new/k; put d/new: theirs",
     {{"d/e/x", "base"}, {"d/new", "theirs"}, {"d/new (kept)/f", "mine"}, {"d/new (kept)/k", "k"}},
     1},
    {"HasTheNameOfAFolderAboveANewOne",
     "",
     kFolder + "mkdir d/new; mkdir d/new/er; write d/new/er/f: mine; put d/new: theirs",
     {{"d/e/x", "base"}, {"d/k", "k"}, {"d/new", "theirs"}, {"d/new (kept)/er/f", "mine"}},
     1},
    {"HasTheNewNameOfAFolder",
     "",
     kFolder + "move d/e d/new; write d/new/f: mine; put d/new: theirs",
     {{"d/k", "k"}, {"d/new", "theirs"}, {"d/new (kept)/f", "mine"}, {"d/new (kept)/x", "base"}},
     1},
    {"HasTheNameOfAFolderInAMovedOne",
     "",
     "put d/e/sub/deep/y: y; put d/e/sub/x: x in sub; put d/e/x: base; put d/k: k; open;"
     "names d: e k; names d/e: sub x; names d/e/sub: deep x; names d/e/sub/deep: y; offline;"
     "move d/e d/new; write d/new/sub/f: mine; put d/new/sub: theirs",
     {{"d/k", "k"},
      {"d/new/sub", "theirs"},
      {"d/new/sub (kept)/deep/y", "y"},
      {"d/new/sub (kept)/f", "mine"},
      {"d/new/sub (kept)/x", "x in sub"},
      {"d/new/x", "base"}},
     1},
    // Known here already, under a name that says so.
    {"IsSeenFirst",
     "",
     kNew + "put d/new: theirs; fail write folder x4; online; refresh-soon; list d",
     {{"d/e/x", "base"}, {"d/k", "k"}, {"d/new", "theirs"}, {"d/new (kept)/f", "mine"}},
     1},
    // All that is left of the folder is here.
    {"HasTakenThePlaceOfAFolder",
     "",
     kFolder + "write d/e/f: mine; erase d/e/x; erase d/e/; put d/e: theirs",
     {{"d/e", "theirs"}, {"d/e (kept)/f", "mine"}, {"d/k", "k"}},
     1},
    {"IsOursAndAboutToLeave",
     "",
     "put d/moves: x; put d/goes: x; open; names d: goes moves; fail move remove x3;"
     "move d/moves d/moved; mkdir d/moves; write d/moves/f: mine; remove d/goes; mkdir d/goes",
     {{"d/goes/", ""}, {"d/moved", "x"}, {"d/moves/f", "mine"}}},
    {"IsOursAndGoesIntoTheFolder",
     "",
     "put d/f: x; open; names d: f; offline; move d/f d/t; mkdir d/f; move d/t d/f/f",
     {{"d/f/f", "x"}}},
    {"IsOursAndChangesPlacesWithAFolder",
     "",
     "put d/f: x; put d/e/y: y; open; names d: e f; names d/e: y; offline; move d/f d/t;"
     "move d/e d/f; move d/t d/e",
     {{"d/e", "x"}, {"d/f/y", "y"}}},
};
INSTANTIATE_TEST_SUITE_P(FileOfOthers, SameNameTest, testing::ValuesIn(kFileOfOthers),
                         NameOfScenario);

// Their folder is not deleted with all that is in it.
TEST_F(OneThingTest, AFolderOfOthersKeepsTheName) {
  Begin(kStore);
  Play(kFile + "write d/new: mine; put d/new/in: theirs");
  GoOnline();
  const Status refused = drive_->SettleConflict("d/new", Drive::Keep::kHere);
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kIsFolder);
  EXPECT_FALSE(refused.error().remedy.empty());
  Play("read d/new/in: theirs");
  EXPECT_TRUE(drive_->SettleConflict("d/new", Drive::Keep::kThere).ok());
  Play("flush; conflicts 0");
}

TEST_F(OneThingTest, AFileOfOthersTakesThePlaceOfAFolderOfAnotherMode) {
  Begin(kStore);
  Play(kFolder);
  ASSERT_TRUE(drive_->SetAttr(IdOf("d/e"), AttrChange{.mode = 0700}, nullptr).ok());
  Play("erase d/e/x; erase d/e/; put d/e: theirs");
  GoOnline();
  ExpectStory({{"d/e", "theirs"}, {"d/e (kept)/", ""}, {"d/k", "k"}}, 1);
}

TEST_F(OneThingTest, AFileOfOthersAndAFolderAreSettled) {
  Begin(kStore);
  Play(kFolder);
  for (const std::string folder : {"d/n1", "d/n2", "d/n3"})
    Play("mkdir " + folder + "; write " + folder + "/f: mine; put " + folder + ": theirs");
  GoOnline();
  Play("conflicts 3");
  using Keep = Drive::Keep;
  EXPECT_TRUE(drive_->SettleConflict("d/n1", Keep::kHere).ok());
  EXPECT_TRUE(drive_->SettleConflict("d/n2", Keep::kBoth).ok());
  const Status full = drive_->SettleConflict("d/n3", Keep::kThere);
  ASSERT_FALSE(full.ok());
  EXPECT_EQ(full.error().code, Code::kNotEmpty);
  EXPECT_FALSE(full.error().remedy.empty());
  const auto left = *drive_->Conflicts();
  ASSERT_EQ(left.size(), 1u);
  ASSERT_TRUE(hands().Remove(left[0].first + "/f").ok());
  EXPECT_TRUE(drive_->SettleConflict("d/n3", Keep::kThere).ok());
  Play("flush; conflicts 0; read d/n1/f: mine");
  const auto all = world_.All();
  EXPECT_EQ(all.at("d/n1/f"), "mine");
  EXPECT_EQ(all.at("d/n2"), "theirs");
  EXPECT_EQ(all.at("d/n3"), "theirs");
  EXPECT_EQ(all.size(), 10u);  // with e/x, k and four folders
}

}  // namespace
}  // namespace pargeter::test::one_thing
