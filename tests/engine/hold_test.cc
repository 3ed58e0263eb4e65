// Very many deletions at once are held back from the store until somebody lets them go or drops
// them; work goes on meanwhile, also where the deleted things were.
#include "engine/hold.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <filesystem>
#include <set>

namespace pargeter::test {
namespace {

TEST_F(HoldTest, TheyAreHeldBackAndReleased) {
  DeleteAll();
  EXPECT_EQ(AtTheStore(), 40u);
  EXPECT_EQ(drive_->Summary().held, 40u);
  EXPECT_NE(drive_->Summary().held_since, 0);
  EXPECT_EQ(drive_->Summary().pending.files, 0u);
  EXPECT_EQ(drive_->Summary().pending.oldest, 0);
  EXPECT_EQ(IdOf("d"), kNoNode) << "here they are gone";
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(IdOf("d"), kNoNode) << "and do not come back by themselves";
  Close();
  Open();
  FlushAll();
  EXPECT_EQ(AtTheStore(), 40u) << "not even a restart lets them go";
  EXPECT_EQ(drive_->Summary().held, 40u);
  world_.SetOffline(true);
  ASSERT_TRUE(Write("meanwhile", "goes up").ok());
  const PendingSummary waits = drive_->Summary().pending;
  EXPECT_EQ(waits.files, 1u);
  EXPECT_GT(waits.oldest, drive_->Summary().held_since) << "it is not one of those held back";
  world_.SetOffline(false);
  FlushAll();
  EXPECT_EQ(world_.All()["meanwhile"], "goes up");
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  EXPECT_EQ(AtTheStore(), 0u);
  EXPECT_EQ(drive_->Summary().held, 0u);
}

// On a store that has one thing at a path, a file cannot take the place of such a folder yet.
class HeldFolderTest : public HoldTest {
 protected:
  void SetUp() override {
    world_.real_folders = world_.moves_folders = world_.moves_files = world_.serial_versions = true;
    HoldTest::SetUp();
    DeleteAll();
    ASSERT_TRUE(Write("d", "a file").ok());
    ASSERT_TRUE(Eventually([&] {
      const auto queue = *drive_->Queue(100);
      return std::any_of(queue.begin(), queue.end(), [](const auto& one) {
        return one.first == "d" && one.second.error.find("held back") != std::string::npos;
      });
    }));
    EXPECT_EQ(AtTheStore(), 40u);
  }
};
TEST_F(HeldFolderTest, MakesRoomWhenItIsReleased) {
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"d", "a file"}, {"other", "o"}}));
}
TEST_F(HeldFolderTest, StandsBesideTheFileWhenItIsDropped) {
  ASSERT_TRUE(drive_->DropDeletions().ok());
  FlushAll();
  ASSERT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
  EXPECT_EQ(hands().List("")->size(), 3u);
  std::set<std::string> contents;
  const auto tree = *hands().Tree();
  for (const auto& [path, content] : tree) contents.insert(content);
  EXPECT_EQ(contents, (std::set<std::string>{"", "a file", "o", "x"}));
  std::set<std::string> there;
  for (const auto& [path, content] : world_.All()) there.insert(content);
  EXPECT_EQ(there, contents);
}

TEST_F(HoldTest, DroppedTheyAreBack) {
  DeleteAll();
  const auto back = drive_->DropDeletions();
  ASSERT_TRUE(back.ok()) << back.error().what;
  EXPECT_EQ(*back, 40u);
  EXPECT_EQ(Names("d").size(), 40u);
  EXPECT_EQ(*Read("d/7"), "x");
  FlushAll();
  EXPECT_EQ(AtTheStore(), 40u);
}

// The bytes of a deleted file go a while after it: not those that are written when it is back.
TEST_F(HoldTest, WhatIsWrittenWhenTheyAreBackStays) {
  world_.SetOffline(true);
  ASSERT_TRUE(Write("d/8", "never sent").ok());
  DeleteAll();
  EXPECT_EQ(drive_->Summary().held, 40u);
  world_.SetOffline(false);
  ASSERT_TRUE(drive_->DropDeletions().ok());
  ASSERT_TRUE(Eventually([&] { return Read("d/8").ok(); }));  // until it notices
  ASSERT_EQ(*Read("d/8"), "x");
  world_.SetOffline(true);
  ASSERT_TRUE(Write("d/7", "new").ok());
  ASSERT_TRUE(hands().Patch("d/8", "X", 2).ok());
  Close();
  world_.SetOffline(false);
  Open();
  const auto written = Read("d/7");
  ASSERT_TRUE(written.ok()) << written.error().what;
  EXPECT_EQ(*written, "new");
  FlushAll();
  EXPECT_EQ(world_.All()["d/7"], "new");
  EXPECT_EQ(world_.All()["d/8"], std::string("x\0X", 3));
}

// They are dropped while another goes up to the place of one.
TEST_F(HoldTest, WhatIsBeingReplacedDoesNotComeBack) {
  DeleteAll();
  world_.on_write =
      [this, dropped = std::make_shared<std::atomic<bool>>(false)](const std::string& path) {
        if (path != "d/7" || dropped->exchange(true)) return;
        const auto back = drive_->DropDeletions();
        ASSERT_TRUE(back.ok()) << back.error().what;
        EXPECT_EQ(*back, 39u);
      };
  ASSERT_TRUE(hands().MakeFolder("d").ok());
  ASSERT_TRUE(Write("d/7", "new").ok());
  FlushAll();
  EXPECT_EQ(*Read("d/7"), "new");
  EXPECT_EQ(world_.All()["d/7"], "new");
  EXPECT_EQ(Names("d").size(), 40u);
  EXPECT_EQ(AtTheStore(), 40u);
}

// One was on its way before the deletions were held back.
TEST_F(HoldTest, WhatIsBeingDeletedIsNotSaidToBeBack) {
  std::atomic<bool> asked{false}, refused{false};
  world_.on_remove = [&](const std::string& path) {
    if (path != "d/0" || asked.exchange(true)) return;
    for (int i = 1; i < 31; ++i) ASSERT_TRUE(hands().Remove("d/" + std::to_string(i)).ok());
    ASSERT_EQ(drive_->Summary().held, 31u);
    const auto back = drive_->DropDeletions();
    refused = !back.ok() && back.error().code == Code::kBusy;
  };
  ASSERT_TRUE(hands().Remove("d/0").ok());
  EXPECT_TRUE(Eventually([&] { return refused.load(); }));
  std::uint64_t back = 0;
  EXPECT_TRUE(Eventually([&] {
    const auto dropped = drive_->DropDeletions();
    if (dropped.ok()) back = *dropped;
    return dropped.ok();
  }));
  world_.on_remove = nullptr;
  EXPECT_EQ(back, 30u);
  EXPECT_EQ(Names("d").size(), 39u);
  EXPECT_EQ(AtTheStore(), 39u);
}

// (It was here again until the next look, and then gone.)
TEST_F(HoldTest, AFolderThatMayBeGoneFromTheStoreIsMadeAnew) {
  for (const bool real : {false, true}) {
    const std::string drawer = real ? "cupboard" : "drawer";
    Close();
    world_.real_folders = real;
    retry_pause_ = Duration(60000);
    Open();
    ASSERT_TRUE(Write("first", "f").ok());
    ASSERT_TRUE(hands().MakeFolder(drawer).ok());
    FlushAll();
    {
      const Lock lock(world_.mutex);
      world_.loses["remove-folder"] = {true};
    }
    ASSERT_TRUE(hands().Remove("first").ok());  // the sweep begins
    ASSERT_TRUE(hands().RemoveFolder(drawer).ok());
    ASSERT_TRUE(Eventually([&] { return world_.All().count(drawer + "/") == 0; }));
    DeleteAll();
    EXPECT_EQ(drive_->Summary().held, 41u);
    ASSERT_TRUE(Eventually([&] { return drive_->DropDeletions().ok(); }));
    FlushAll();
    ASSERT_TRUE(drive_->Refresh().ok());
    EXPECT_NE(IdOf(drawer), kNoNode);
    EXPECT_EQ(world_.All().count(drawer + "/"), 1u);
  }
}

TEST_F(HoldTest, AFolderThatWasBeingRemovedInACrashIsMadeAnew) {
  ASSERT_TRUE(Write("first", "f").ok());
  ASSERT_TRUE(hands().MakeFolder("drawer").ok());
  FlushAll();
  std::atomic<bool> dead{false};
  world_.on_remove = [&](const std::string& path) {
    if (path != "drawer/" || dead) return;
    for (int i = 0; i < 40; ++i) EXPECT_TRUE(hands().Remove("d/" + std::to_string(i)).ok());
    disk_.DieAt(disk_.operations() + 1);
    dead = true;
  };
  ASSERT_TRUE(hands().Remove("first").ok());  // the sweep begins
  ASSERT_TRUE(hands().RemoveFolder("drawer").ok());
  ASSERT_TRUE(Eventually([&] { return dead.load(); }));
  ASSERT_TRUE(Eventually([&] { return world_.All().count("drawer/") == 0; }));
  Close();
  world_.on_remove = nullptr;
  disk_.Heal();
  world_.SetOffline(true);  // no look shows that it is gone
  Open();
  EXPECT_EQ(drive_->Summary().held, 41u);
  ASSERT_TRUE(drive_->DropDeletions().ok());
  world_.SetOffline(false);
  FlushAll();
  EXPECT_EQ(world_.All().count("drawer/"), 1u);
}

// What waits in a held file goes up no more, and nothing of it is left at the store.
TEST_F(HoldTest, AnUploadInPartsOfWhatIsHeldIsEnded) {
  world_.multipart_above = 100;
  for (const bool dropped : {false, true}) {
    {
      const Lock lock(world_.mutex);
      world_.fails["complete-parts"] = std::deque<bool>(100, true);
    }
    ASSERT_TRUE(Write("d/7", std::string(500, 'n')).ok());
    ASSERT_TRUE(Eventually([&] { return world_.Uploads() == 1; }));
    DeleteAll();
    Close();  // with the attempt that may be under way
    {
      const Lock lock(world_.mutex);
      world_.fails.clear();
    }
    Open();
    if (dropped) {
      // (refused while the upload is just being ended)
      ASSERT_TRUE(Eventually([&] { return drive_->DropDeletions().ok(); }));
    } else {
      ASSERT_TRUE(hands().MakeFolder("d").ok());
      ASSERT_TRUE(Write("d/7", "new").ok());
    }
    FlushAll();
    EXPECT_TRUE(Eventually([&] { return world_.Uploads() == 0; }));
    EXPECT_EQ(world_.All()["d/7"], "new");
    if (!dropped) {
      ASSERT_TRUE(drive_->DropDeletions().ok());
    }
    FlushAll();
    EXPECT_EQ(AtTheStore(), 40u);
  }
}

// Its name may be taken by then, and so may the name beside that.
TEST_F(HoldTest, DroppedTwiceItIsBackTwice) {
  for (const char* text : {"second", "third"}) {
    const NodeId d = IdOf("d");
    for (int i = 0; i < 40; ++i) ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
    world_.SetOffline(true);  // else they go up over what is held
    ASSERT_TRUE(Write("d/7", text).ok());
    ASSERT_TRUE(Write("d/8", text).ok());
    auto back = drive_->DropDeletions();
    ASSERT_TRUE(Eventually([&] {  // the last upload may not have been put away yet
      if (!back.ok() && back.error().code == Code::kBusy) back = drive_->DropDeletions();
      return back.ok();
    }));
    EXPECT_EQ(*back, 40u);
    world_.SetOffline(false);
    FlushAll();
  }
  EXPECT_EQ(Names("d").size(), 44u);
  std::map<std::string, int> texts;
  for (const auto& [path, text] : world_.All()) ++texts[text];
  EXPECT_EQ(texts["second"], 2);
  EXPECT_EQ(texts["third"], 2);
  EXPECT_EQ(texts["x"], 40);
}

// Nothing holds it at the store by now, which knows of no empty folders.
TEST_F(HoldTest, AFolderThatAMoveEmptiedComesBackToStay) {
  world_.Put("e/last", "l");
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_EQ(Names("e").size(), 1u);
  DeleteAll();
  ASSERT_TRUE(hands().Move("e/last", "last").ok());
  ASSERT_TRUE(hands().RemoveFolder("e").ok());
  FlushAll();
  ASSERT_EQ(world_.All().count("e/last"), 0u);
  ASSERT_TRUE(drive_->DropDeletions().ok());
  FlushAll();
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_NE(IdOf("e"), kNoNode);
  EXPECT_EQ(world_.All().count("e/"), 1u);
  EXPECT_EQ(AtTheStore(), 40u);
  EXPECT_EQ(world_.All().count("d/"), 0u) << "that one is held by what is in it";
}

// A folder that nothing but its objects makes says nothing of its mode: what it is put over would.
TEST_F(HoldTest, WhatComesInItsPlaceKeepsAModeOfItsOwn) {
  AttrChange change;
  change.mode = 0700;
  ASSERT_TRUE(drive_->SetAttr(IdOf("d"), change, nullptr).ok());
  world_.Put("e/last", "l");
  FlushAll();
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_EQ(Names("e").size(), 1u);
  DeleteAll();
  ASSERT_TRUE(hands().Move("e", "d").ok());
  FlushAll();
  ASSERT_EQ(world_.All().count("d/last"), 1u);
  EXPECT_EQ(drive_->GetAttr(IdOf("d"))->mode, 0755u);
  const auto there = [&] {
    const Lock lock(world_.mutex);
    return world_.objects.count("d/") > 0 ? world_.objects["d/"].attributes.mode : 0755;
  };
  EXPECT_EQ(there(), 0755u);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  EXPECT_EQ(there(), 0755u);
  EXPECT_EQ(AtTheStore(), 1u);
}

// One was removed at the store, and nobody heard of it; then its folder moves over the other's.
TEST_F(HoldTest, OfTwoThatWereDeletedAtOnePathOneIsThere) {
  world_.Put("e/0", "e");
  world_.Put("e/1", "stays");
  retry_pause_ = Duration(60000);
  Close();
  std::filesystem::remove_all(folder_ / "state");
  Open();
  ASSERT_EQ(Names("e").size(), 2u);  // known before the others
  ASSERT_GE(Names("d").size(), 40u);
  {
    const Lock lock(world_.mutex);
    world_.loses["remove"] = {true};
  }
  ASSERT_TRUE(hands().Remove("e/0").ok());
  ASSERT_TRUE(Eventually([&] { return world_.All().count("e/0") == 0; }));
  DeleteAll();
  ASSERT_TRUE(hands().Move("e", "d").ok());
  FlushAll();
  ASSERT_TRUE(hands().Move("other", "d/0").ok());
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(world_.All()["d/0"], "o");
  EXPECT_EQ(world_.All()["d/1"], "stays");
}

// That was deleted before, and was waiting for what was in it.
TEST_F(HoldTest, WhatWasInAFolderThatIsNotHeldIsBackInIt) {
  world_.Put("e/f/last", "l");
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_EQ(Names("e/f").size(), 1u);
  world_.SetOffline(true);
  ASSERT_TRUE(hands().Move("e/f/last", "last").ok());
  ASSERT_TRUE(hands().RemoveFolder("e/f").ok());
  ASSERT_TRUE(hands().RemoveFolder("e").ok());
  ASSERT_TRUE(hands().Remove("last").ok());
  for (int i = 0; i < 40; ++i) ASSERT_TRUE(hands().Remove("d/" + std::to_string(i)).ok());
  const auto back = drive_->DropDeletions();
  ASSERT_TRUE(back.ok());
  EXPECT_EQ(*back, 41u);
  EXPECT_NE(IdOf("e/f/last"), kNoNode);
  world_.SetOffline(false);
  FlushAll();
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_NE(IdOf("e/f/last"), kNoNode);
  EXPECT_EQ(world_.All()["e/f/last"], "l");
}

TEST_F(HoldTest, AFewGoAsUsual) {
  const NodeId d = IdOf("d");
  for (int i = 0; i < 15; ++i) ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
  FlushAll();
  EXPECT_EQ(AtTheStore(), 25u);
}

TEST_F(HoldTest, DeletedThereTooNothingWaitsAnyMore) {
  DeleteAll();
  ASSERT_GT(drive_->Summary().held, 20u);
  for (int i = 0; i < 40; ++i) world_.Erase("d/" + std::to_string(i));
  const Status looked = drive_->Refresh();
  ASSERT_TRUE(looked.ok()) << looked.error().what;
  EXPECT_EQ(drive_->Summary().held, 0u);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  EXPECT_EQ(drive_->Summary().pending.files, 0u);
}

TEST_F(HoldTest, SwitchedOffTheyAllGo) {
  Close();
  hold_files_ = 0;
  Open();
  ASSERT_GE(Names("d").size(), 40u);
  DeleteAll();
  EXPECT_EQ(AtTheStore(), 0u);
}

TEST_F(HoldTest, MovingManyFilesIsNoDeletion) {
  const NodeId d = IdOf("d");
  ASSERT_TRUE(hands().MakeFolder("e").ok());
  for (int i = 0; i < 40; ++i)
    ASSERT_TRUE(
        drive_->Rename(d, std::to_string(i), IdOf("e"), std::to_string(i), Drive::Replace::kYes)
            .ok());
  FlushAll();
  EXPECT_EQ(AtTheStore(), 0u);
  EXPECT_EQ(drive_->Summary().held, 0u);
}

}  // namespace
}  // namespace pargeter::test
