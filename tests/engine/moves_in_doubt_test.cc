// A folder has moved in one request, and the answer was lost: its former path is not the place to
// look for a file that leaves it meanwhile.
#include <gtest/gtest.h>

#include <future>
#include <thread>

#include "support/story.h"

namespace pargeter::test::moves_in_doubt {
namespace {

constexpr const char* kStore = "moves-folders retry=200 late=20";
const std::string kLook = "put d/f: d/f; put d/k: d/k; open; read d/f: d/f; read d/k: d/k;";
const std::string kMoveInDoubt = "lose move-folder; move d e; lost move-folder;";
const std::string kFileInDoubt = "lose copy; move d/f g; lost copy;";

class MovesInDoubtTest : public DriveTest, public testing::WithParamInterface<Scenario> {};
TEST_P(MovesInDoubtTest, TheStoreHasWhatIsHere) {
  Begin(GetParam().store);
  Play(GetParam().steps);
  // without anybody who asks for it
  EXPECT_TRUE(Eventually([&] { return world_.All() == GetParam().wanted; }));
  if (!HasFatalFailure()) ExpectStory(GetParam().wanted);
}
const Scenario kScenarios[] = {
    {"AFileThatLeavesIsNotTakenForDeleted",
     kStore,
     kLook + kMoveInDoubt + "move e/f g",
     {{"e/k", "d/k"}, {"g", "d/f"}}},
    {"AFileThatHasLeftIsNoConflictWithItself",
     kStore,
     kLook + kFileInDoubt + kMoveInDoubt + "write g: anew",
     {{"e/k", "d/k"}, {"g", "anew"}}},
    {"AFileThatGoesOnLeavesNoCopy",
     kStore,
     kLook + kFileInDoubt + kMoveInDoubt + "move g h",
     {{"e/k", "d/k"}, {"h", "d/f"}}},
    // Until it is back at the store, nothing is at its former path.
    {"AFolderThatMovesBackIsNotTakenForDeleted",
     kStore,
     kLook + kMoveInDoubt + "move e d; refresh; names: d",
     {{"d/f", "d/f"}, {"d/k", "d/k"}}},
    {"AFileAtTheFormerPathIsNotTheFolder",
     kStore,
     kLook + kMoveInDoubt + "put d: a file; move e g",
     {{"d", "a file"}, {"g/f", "d/f"}, {"g/k", "d/k"}}},
    {"AFileThatMovesBackIsNotTakenForDeleted",
     "moves-folders moves-files serial retry=200 late=20",
     kLook + "names d: f k; lose move; move d/f d/g; lost move; move d/g d/f; refresh;"
             "names d: f k",
     {{"d/f", "d/f"}, {"d/k", "d/k"}}},
    {"AFileLeavesAFolderThatCannotMove",
     "moves-folders retry=10 trial=10 late=20",
     kLook + "fail move-folder; move d e; move e/f g; at g: d/f; heal",
     {{"e/k", "d/k"}, {"g", "d/f"}}},
};
INSTANTIATE_TEST_SUITE_P(Files, MovesInDoubtTest, testing::ValuesIn(kScenarios), NameOfScenario);

class MoveInDoubtTest : public DriveTest {
 protected:
  // A change in the midst of a large file: the rest of it is at the store still, elsewhere.
  std::string PutBig() {
    std::string whole(3'000'000, 'a');
    world_.Put("d/big", whole);
    whole.replace(1'000'000, 7, "changed");
    return whole;
  }
  void WaitForBig(const std::string& whole) {
    EXPECT_TRUE(Eventually([&] { return world_.All()["big"].size() == whole.size(); }));
    EXPECT_TRUE(world_.All()["big"] == whole);
  }
};

// It takes some time until somebody asks the store again: no program is told that it is busy.
TEST_F(MoveInDoubtTest, AFolderThatWasNeverListedIsWaitedFor) {
  Begin("moves-folders late=20 retry=3000 patience=20000");
  Play("put d/sub/page: page; open; names d: sub;" + kMoveInDoubt + "names e/sub: page");
}

// Where there is no store, there is nothing to wait for.
TEST_F(MoveInDoubtTest, NothingIsWaitedForOffline) {
  Begin("moves-folders late=20 retry=60000 patience=60000");
  Play("put d/sub/page: page; put other/f: f; open; names d: sub; names other: f;" + kMoveInDoubt);
  const NodeId sub = *hands().Find("e/sub");
  auto looks = std::async(std::launch::async, [&] { return drive_->OpenFolder(sub); });
  EXPECT_EQ(looks.wait_for(std::chrono::milliseconds(100)), std::future_status::timeout);
  world_.SetOffline(true);
  EXPECT_FALSE(Read("other/f").ok());
  EXPECT_EQ(looks.wait_for(std::chrono::seconds(5)), std::future_status::ready);
  world_.SetOffline(false);
}

TEST_F(MoveInDoubtTest, AFileThatWasChangedInItsMidstStaysWhole) {
  Begin(kStore);
  const std::string whole = PutBig();
  Play(kLook + kMoveInDoubt + "move e/big big; patch big 1000000: changed");
  WaitForBig(whole);
}
// Even where the folder's move fails from then on: it is looked for where it would be.
TEST_F(MoveInDoubtTest, AFileThatWasChangedInItsMidstIsFoundWhereTheFolderWent) {
  Begin("moves-folders retry=10 trial=10 late=20");
  const std::string whole = PutBig();
  Play(kLook +
       "lose-then-fail move-folder; move d e; lost move-folder; move e/big big;"
       "patch big 1000000: changed");
  WaitForBig(whole);
  Play("heal; gone d/k; flush");
  WaitForBig(whole);
  EXPECT_EQ(world_.All()["e/k"], "d/k");
}
// The store was asked while the folder was away, and answers when it is back.
TEST_F(MoveInDoubtTest, AFolderWhoseMoveWasRolledBackIsNotMissedByAnEarlierListing) {
  Begin(kStore);
  Play(kLook + kMoveInDoubt);
  Overtake([&] { Ignore(drive_->Refresh()); }, [&] { Play("move e d; flush"); });
  ExpectNothingVanished();
  EXPECT_TRUE(Eventually([&] { return world_.All() == Files{{"d/f", "d/f"}, {"d/k", "d/k"}}; }));
  ExpectStory({{"d/f", "d/f"}, {"d/k", "d/k"}});
}
// A file has its former name, and there is no way back: the folder goes on from where it is.
TEST_F(MoveInDoubtTest, AFolderWhosePlaceIsTakenGoesOn) {
  Begin("moves-folders real-folders retry=200 late=20");
  Play("put d/open: open;" + kLook);
  const Drive::Opened open = *drive_->OpenNode(IdOf("d/open"), Drive::Intent::kRead);
  Play(kMoveInDoubt + "put d: a file; move e g; at g/f");
  EXPECT_EQ(*ReadOpen(open.file), "open");
  drive_->Release(open.file);
  ExpectStory({{"d", "a file"}, {"g/f", "d/f"}, {"g/k", "d/k"}, {"g/open", "open"}});
}
// Asked for by its former name, while it is there still at the store, and answered when it is not.
TEST_F(MoveInDoubtTest, AFormerNameIsNotTakenForAnother) {
  Begin("moves-folders retry=200 late=20 quiet=3600000");
  world_.page_size = 1;
  Play("put z: z;" + kLook + "names: d z");  // that listing is over
  std::atomic<bool> go_on{false}, asked{false}, listing{false};
  world_.on_listing = [&, pages = 0](const std::string& folder) mutable {
    if (!folder.empty() || ++pages != 2) return;
    listing = true;
    EXPECT_TRUE(Eventually([&] { return go_on.load(); }));
  };
  world_.on_looked = [&] {
    if (!asked.exchange(true)) FlushAll();
  };
  Play("move d e");
  std::thread look([&] { EXPECT_TRUE(drive_->Refresh().ok()); });
  EXPECT_TRUE(Eventually([&] { return listing.load(); }));
  EXPECT_FALSE(hands().Find("d").ok());
  EXPECT_TRUE(asked);
  go_on = true;
  look.join();
  Play("names: e z");
}
// The folder waits for another, which waits for the place where the file was tried: it goes all the
// same, and the tried copy may stay.
TEST_F(MoveInDoubtTest, NobodyWaitsInACircle) {
  Begin(kStore);
  Play(
      "put z/k: z/k;" + kLook +
      "names z: k; lose copy; move d/f y; lost copy;"
      "lose move-folder; move d z/d; lost move-folder; offline; move y g; move z y; online; flush");
  Files all = world_.All();
  all.erase("y");
  EXPECT_EQ(all, (Files{{"g", "d/f"}, {"y/d/k", "d/k"}, {"y/k", "z/k"}}));
}

}  // namespace
}  // namespace pargeter::test::moves_in_doubt
