// A folder has moved in one request, and nobody has heard of it yet: what leaves it meanwhile is
// not to be found where it was.
#include <gtest/gtest.h>

#include <atomic>
#include <future>
#include <thread>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class MovesInDoubtTest : public DriveTest {
 protected:
  using Files = std::map<std::string, std::string>;
  void SetUp() override {
    world_.moves_folders = true;
    retry_pause_ = Duration(200);
    may_be_late_ = Duration(20);
    for (const char* path : {"d/f", "d/k"}) world_.Put(path, path);
  }
  Hands hands() { return Hands(drive_.get()); }
  void Look() {
    Open();
    for (const char* path : {"d/f", "d/k"}) ASSERT_EQ(*Read(path), path);
  }
  // Of the next request of that kind; waits until it has come.
  void LoseAnswer(const std::string& kind, const std::function<Status()>& change) {
    world_.TakeAsked();
    {
      const Lock lock(world_.mutex);
      world_.loses[kind] = {true};
    }
    ASSERT_TRUE(change().ok());
    ASSERT_TRUE(Eventually([&] {
      const Lock lock(world_.mutex);
      return world_.loses[kind].empty();
    }));
  }
  void MoveInDoubt(const std::string& from, const std::string& to) {
    LoseAnswer("move-folder", [&] { return hands().Move(from, to); });
  }
  void End(const Files& wanted) {
    EXPECT_TRUE(Eventually([&] { return world_.All() == wanted; }));
    FlushAll();
    EXPECT_EQ(world_.All(), wanted);
    EXPECT_TRUE(drive_->Conflicts()->empty());
    ASSERT_TRUE(drive_->Refresh().ok());
    for (const auto& [path, content] : wanted) {
      const auto text = Read(path);
      EXPECT_EQ(text.ok() ? *text : text.error().what, content) << path;
    }
  }
};

// It takes some time until somebody asks the store again: no program is told that it is busy.
TEST_F(MovesInDoubtTest, WhatIsInAFolderThatWasNeverListedIsWaitedFor) {
  retry_pause_ = Duration(3000);
  patience_ = Duration(20000);
  world_.Put("d/sub/page", "page");
  Open();
  Names("d");
  MoveInDoubt("d", "e");
  EXPECT_EQ(Names("e/sub"), std::vector<std::string>{"page"});
}

// Where there is no store, there is nothing to wait for.
TEST_F(MovesInDoubtTest, NorIsItWaitedForOffline) {
  retry_pause_ = patience_ = Duration(60000);
  for (const char* path : {"d/sub/page", "other/f"}) world_.Put(path, path);
  Open();
  Names("d");
  Names("other");
  MoveInDoubt("d", "e");
  const NodeId sub = *hands().Find("e/sub");
  auto looks = std::async(std::launch::async, [&] { return drive_->OpenFolder(sub); });
  EXPECT_EQ(looks.wait_for(std::chrono::milliseconds(100)), std::future_status::timeout);
  world_.SetOffline(true);
  EXPECT_FALSE(Read("other/f").ok());
  EXPECT_EQ(looks.wait_for(std::chrono::seconds(5)), std::future_status::ready);
  world_.SetOffline(false);
}

TEST_F(MovesInDoubtTest, AFileThatLeavesIsNotTakenForDeleted) {
  Look();
  MoveInDoubt("d", "e");
  ASSERT_TRUE(hands().Move("e/f", "g").ok());
  End({{"e/k", "d/k"}, {"g", "d/f"}});
}
TEST_F(MovesInDoubtTest, AFileThatHasLeftIsNoConflictWithItself) {
  Look();
  LoseAnswer("copy", [&] { return hands().Move("d/f", "g"); });
  MoveInDoubt("d", "e");
  ASSERT_TRUE(Write("g", "written anew").ok());
  End({{"e/k", "d/k"}, {"g", "written anew"}});
}
TEST_F(MovesInDoubtTest, AFileThatGoesOnLeavesNoCopy) {
  Look();
  LoseAnswer("copy", [&] { return hands().Move("d/f", "g"); });
  MoveInDoubt("d", "e");
  ASSERT_TRUE(hands().Move("g", "h").ok());
  End({{"e/k", "d/k"}, {"h", "d/f"}});
}
// What was not read of it is there still, elsewhere.
TEST_F(MovesInDoubtTest, AFileThatWasChangedInItsMidstStaysWhole) {
  std::string whole(3'000'000, 'a');
  world_.Put("d/big", whole);
  Look();
  MoveInDoubt("d", "e");
  ASSERT_TRUE(hands().Move("e/big", "big").ok());
  ASSERT_TRUE(hands().Patch("big", "changed", 1'000'000).ok());
  whole.replace(1'000'000, 7, "changed");
  EXPECT_TRUE(Eventually([&] { return world_.All()["big"].size() == whole.size(); }));
  FlushAll();
  EXPECT_TRUE(world_.All()["big"] == whole);
}
// Even where the folder's move fails from then on: it is looked for where it would be.
TEST_F(MovesInDoubtTest, AFileThatWasChangedInItsMidstIsFoundWhereTheFolderWent) {
  retry_pause_ = trial_pause_ = Duration(10);
  std::string whole(3'000'000, 'a');
  world_.Put("d/big", whole);
  Look();
  {
    const Lock lock(world_.mutex);
    world_.fails["move-folder"] = std::deque<bool>(10001, true);
    world_.fails["move-folder"][0] = false;
  }
  MoveInDoubt("d", "e");
  ASSERT_TRUE(hands().Move("e/big", "big").ok());
  ASSERT_TRUE(hands().Patch("big", "changed", 1'000'000).ok());
  whole.replace(1'000'000, 7, "changed");
  EXPECT_TRUE(Eventually([&] { return world_.All()["big"].size() == whole.size(); }));
  EXPECT_TRUE(world_.All()["big"] == whole);
  {
    const Lock lock(world_.mutex);
    world_.fails.clear();
  }
  EXPECT_TRUE(Eventually([&] { return world_.All().count("d/k") == 0; }));
  FlushAll();
  EXPECT_TRUE(world_.All()["big"] == whole);
  EXPECT_EQ(world_.All()["e/k"], "d/k");
}
// Until it is back at the store, nothing is where it has always been.
TEST_F(MovesInDoubtTest, AFolderThatMovesBackIsNotTakenForDeleted) {
  Look();
  MoveInDoubt("d", "e");
  ASSERT_TRUE(hands().Move("e", "d").ok());
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(Names(""), std::vector<std::string>{"d"});
  End({{"d/f", "d/f"}, {"d/k", "d/k"}});
}
// The store was asked while it was away, and answers when it is back.
TEST_F(MovesInDoubtTest, AFolderThatWasTakenBackIsNotMissedByAListingFromBefore) {
  Look();
  MoveInDoubt("d", "e");
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             EXPECT_TRUE(hands().Move("e", "d").ok());
             FlushAll();
           });
  ExpectNothingVanished();
  End({{"d/f", "d/f"}, {"d/k", "d/k"}});
}
// A file has the folder's former name meanwhile: it is not the folder,
TEST_F(MovesInDoubtTest, AFileAtItsFormerPlaceIsNotTheFolder) {
  Look();
  MoveInDoubt("d", "e");
  world_.Put("d", "a file");
  ASSERT_TRUE(hands().Move("e", "g").ok());
  End({{"d", "a file"}, {"g/f", "d/f"}, {"g/k", "d/k"}});
}
// which goes on from where it is, if there is no way back.
TEST_F(MovesInDoubtTest, AFolderWhosePlaceIsTakenGoesOn) {
  world_.real_folders = true;
  world_.Put("d/open", "open");
  Look();
  const Drive::Opened open = *drive_->OpenNode(IdOf("d/open"), Drive::Intent::kRead);
  MoveInDoubt("d", "e");
  world_.Put("d", "a file");
  ASSERT_TRUE(hands().Move("e", "g").ok());
  EXPECT_TRUE(Eventually([&] { return world_.All().count("g/f") == 1; }));
  EXPECT_EQ(*ReadOpen(open.file), "open");
  drive_->Release(open.file);
  FlushAll();
  EXPECT_EQ(
      world_.All(),
      (Files{{"d", "a file"}, {"g/", ""}, {"g/f", "d/f"}, {"g/k", "d/k"}, {"g/open", "open"}}));
  EXPECT_TRUE(drive_->Conflicts()->empty());
}
TEST_F(MovesInDoubtTest, AFileThatMovesBackIsNotTakenForDeleted) {
  world_.moves_files = world_.serial_versions = true;
  Look();
  Names("d");
  LoseAnswer("move", [&] { return hands().Move("d/f", "d/g"); });
  ASSERT_TRUE(hands().Move("d/g", "d/f").ok());
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(Names("d"), (std::vector<std::string>{"f", "k"}));
  End({{"d/f", "d/f"}, {"d/k", "d/k"}});
}
// Asked for by its former name, while it is there still at the store, and answered when it is not.
TEST_F(MovesInDoubtTest, AFormerNameIsNotTakenForAnother) {
  world_.page_size = 1;
  world_.Put("z", "z");
  quiet_ = Duration(3600000);
  Look();
  ASSERT_EQ(Names("").size(), 2u);  // that listing is over
  std::atomic<bool> go_on{false}, asked{false}, listing{false};
  {
    const Lock lock(world_.mutex);
    int pages = 0;
    world_.on_listing = [&, pages](const std::string& folder) mutable {
      if (!folder.empty() || ++pages != 2) return;
      listing = true;
      EXPECT_TRUE(Eventually([&] { return go_on.load(); }));
    };
    world_.on_looked = [&] {
      if (!asked.exchange(true)) FlushAll();
    };
  }
  ASSERT_TRUE(hands().Move("d", "e").ok());
  std::thread look([&] { EXPECT_TRUE(drive_->Refresh().ok()); });
  EXPECT_TRUE(Eventually([&] { return listing.load(); }));
  EXPECT_FALSE(hands().Find("d").ok());
  EXPECT_TRUE(asked);
  go_on = true;
  look.join();
  EXPECT_EQ(Names(""), (std::vector<std::string>{"e", "z"}));
}
// A folder that cannot be moved does not keep what has left it.
TEST_F(MovesInDoubtTest, AFileLeavesAFolderThatCannotMove) {
  retry_pause_ = trial_pause_ = Duration(10);
  Look();
  {
    const Lock lock(world_.mutex);
    world_.fails["move-folder"] = std::deque<bool>(10000, true);
  }
  ASSERT_TRUE(hands().Move("d", "e").ok());
  ASSERT_TRUE(hands().Move("e/f", "g").ok());
  EXPECT_TRUE(Eventually([&] { return world_.All()["g"] == "d/f"; }));
  {
    const Lock lock(world_.mutex);
    world_.fails.clear();
  }
  End({{"e/k", "d/k"}, {"g", "d/f"}});
}
// The folder waits for another, which waits for the place where the file was tried: it goes all the
// same, and what was tried there may stay as a copy.
TEST_F(MovesInDoubtTest, NobodyWaitsInACircle) {
  world_.Put("z/k", "z/k");
  Look();
  Names("z");
  LoseAnswer("copy", [&] { return hands().Move("d/f", "y"); });
  MoveInDoubt("d", "z/d");
  world_.SetOffline(true);
  ASSERT_TRUE(hands().Move("y", "g").ok());
  ASSERT_TRUE(hands().Move("z", "y").ok());
  world_.SetOffline(false);
  FlushAll();
  Files all = world_.All();
  all.erase("y");
  EXPECT_EQ(all, (Files{{"g", "d/f"}, {"y/d/k", "d/k"}, {"y/k", "z/k"}}));
}

}  // namespace
}  // namespace pargeter::test
