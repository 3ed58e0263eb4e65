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
  Play("close; open; flush");
  EXPECT_EQ(AtTheStore(), 40u) << "not even a restart lets them go";
  Play("held 40; offline; write meanwhile: goes up");
  const PendingSummary waits = drive_->Summary().pending;
  EXPECT_EQ(waits.files, 1u);
  EXPECT_GT(waits.oldest, drive_->Summary().held_since) << "it is not one of those held back";
  Play("online; flush; has meanwhile: goes up; release; flush");
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
        return one.first == "d" && one.second.pending.error.find("held back") != std::string::npos;
      });
    }));
    EXPECT_EQ(AtTheStore(), 40u);
  }
};
TEST_F(HeldFolderTest, MakesRoomWhenItIsReleased) {
  Play("release; flush; store: d=a file, other=o");
}
TEST_F(HeldFolderTest, StandsBesideTheFileWhenItIsDropped) {
  Play("drop; flush; refresh-soon");
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
  Play("count d: 40; read d/7: x; flush");
  EXPECT_EQ(AtTheStore(), 40u);
}

// The bytes of a deleted file go a while after it: not those that are written when it is back.
TEST_F(HoldTest, WhatIsWrittenWhenTheyAreBackStays) {
  Play("offline; write d/8: never sent");
  DeleteAll();
  Play("held 40; online; drop");
  ASSERT_TRUE(Eventually([&] { return Read("d/8").ok(); }));  // until it notices
  Play("read d/8: x; offline; write d/7: new; patch d/8 2: X; close; online; open");
  const auto written = Read("d/7");
  ASSERT_TRUE(written.ok()) << written.error().what;
  EXPECT_EQ(*written, "new");
  Play("flush; has d/7: new");
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
  Play("mkdir d; write d/7: new; flush; read d/7: new; has d/7: new; count d: 40");
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
    Play("set retry=60000; open; write first: f");
    ASSERT_TRUE(hands().MakeFolder(drawer).ok());
    Play("flush; lose remove-folder");
    ASSERT_TRUE(hands().Remove("first").ok());  // the sweep begins
    ASSERT_TRUE(hands().RemoveFolder(drawer).ok());
    ASSERT_TRUE(Eventually([&] { return world_.All().count(drawer + "/") == 0; }));
    DeleteAll();
    EXPECT_EQ(drive_->Summary().held, 41u);
    ASSERT_TRUE(Eventually([&] { return drive_->DropDeletions().ok(); }));
    Play("flush; refresh");
    EXPECT_NE(IdOf(drawer), kNoNode);
    EXPECT_EQ(world_.All().count(drawer + "/"), 1u);
  }
}

TEST_F(HoldTest, AFolderThatWasBeingRemovedInACrashIsMadeAnew) {
  Play("write first: f; mkdir drawer; flush");
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
  Play("gone drawer/; close");
  world_.on_remove = nullptr;
  disk_.Heal();
  world_.SetOffline(true);  // no look shows that it is gone
  Play("open; held 41; drop; online; flush; has drawer/");
}

// What waits in a held file goes up no more, and nothing of it is left at the store.
TEST_F(HoldTest, AnUploadInPartsOfWhatIsHeldIsEnded) {
  world_.multipart_above = 100;
  for (const bool dropped : {false, true}) {
    world_.Fail("complete-parts", 100);
    ASSERT_TRUE(Write("d/7", std::string(500, 'n')).ok());
    ASSERT_TRUE(Eventually([&] { return world_.Uploads() == 1; }));
    DeleteAll();
    Close();  // with the attempt that may be under way
    Play("heal; open");
    if (dropped) {
      // (refused while the upload is just being ended)
      ASSERT_TRUE(Eventually([&] { return drive_->DropDeletions().ok(); }));
    } else {
      Play("mkdir d; write d/7: new");
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
    Play("online; flush");
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
  Play("put e/last: l; refresh; count e: 1");
  DeleteAll();
  Play("move e/last last; rmdir e; flush; lacks e/last; drop; flush; refresh");
  EXPECT_NE(IdOf("e"), kNoNode);
  EXPECT_EQ(world_.All().count("e/"), 1u);
  EXPECT_EQ(AtTheStore(), 40u);
  EXPECT_EQ(world_.All().count("d/"), 0u) << "that one is held by what is in it";
}

// A folder that nothing but its objects makes says nothing of its mode: what it is put over would.
TEST_F(HoldTest, WhatComesInItsPlaceKeepsAModeOfItsOwn) {
  ASSERT_TRUE(drive_->SetAttr(IdOf("d"), AttrChange{.mode = 0700}, nullptr).ok());
  Play("put e/last: l; flush; refresh; count e: 1");
  DeleteAll();
  Play("move e d; flush; has d/last");
  EXPECT_EQ(drive_->GetAttr(IdOf("d"))->mode, 0755u);
  const auto there = [&] {
    const Lock lock(world_.mutex);
    return world_.objects.count("d/") > 0 ? world_.objects["d/"].attributes.mode : 0755;
  };
  EXPECT_EQ(there(), 0755u);
  Play("release; flush");
  EXPECT_EQ(there(), 0755u);
  EXPECT_EQ(AtTheStore(), 1u);
}

// One was removed at the store, and nobody heard of it; then its folder moves over the other's.
TEST_F(HoldTest, OfTwoThatWereDeletedAtOnePathOneIsThere) {
  Play("put e/0: e; put e/1: stays; set retry=60000; close");
  std::filesystem::remove_all(folder_ / "state");
  Open();
  ASSERT_EQ(Names("e").size(), 2u);  // known before the others
  ASSERT_GE(Names("d").size(), 40u);
  Play("lose remove; remove e/0; gone e/0");
  DeleteAll();
  Play("move e d; flush; move other d/0; flush; conflicts 0; has d/0: o; has d/1: stays");
}

// That was deleted before, and was waiting for what was in it.
TEST_F(HoldTest, WhatWasInAFolderThatIsNotHeldIsBackInIt) {
  Play(
      "put e/f/last: l; refresh; count e/f: 1; offline; move e/f/last last; rmdir e/f; rmdir e; "
      "remove last");
  for (int i = 0; i < 40; ++i) ASSERT_TRUE(hands().Remove("d/" + std::to_string(i)).ok());
  const auto back = drive_->DropDeletions();
  ASSERT_TRUE(back.ok());
  EXPECT_EQ(*back, 41u);
  EXPECT_NE(IdOf("e/f/last"), kNoNode);
  Play("online; flush; refresh");
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
  Play("held 0; release; flush");
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
