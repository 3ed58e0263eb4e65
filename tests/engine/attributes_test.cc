// Mode and times of files whose listing did not tell them: what was not set here is the store's.
#include <gtest/gtest.h>

#include <filesystem>

#include "support/story.h"

namespace pargeter::test {
namespace {

constexpr Nanos kThen = 1'577'836'800'000'000'000;

class AttributesTest : public DriveTest {
 protected:
  void SetUp() override {
    world_.Put("f", "#!/bin/sh");
    world_.Edit("f", [&](auto& object) { object.attributes.mode = 0755; });
    world_.Edit("f", [&](auto& object) { object.attributes.mtime = kThen; });
    Open();
    ASSERT_FALSE(Names("").empty());
    world_.TakeAsked();
  }
  void Set(const AttrChange& change) {
    ASSERT_TRUE(drive_->SetAttr(IdOf("f"), change, nullptr).ok());
  }
  // The store has it, and its answer is lost.
  void SetUnheard(std::uint32_t mode) {
    world_.Lose("copy");
    Set({.mode = mode});
    ASSERT_TRUE(Eventually([&] {
      const Lock lock(world_.mutex);
      return world_.objects["f"].attributes.mode == mode;
    }));
  }
  // At the store, and here.
  void Expect(std::uint32_t mode, std::optional<Nanos> mtime) {
    FlushAll();
    const auto here = drive_->GetAttr(IdOf("f"));
    ASSERT_TRUE(here.ok());
    const Lock lock(world_.mutex);
    const Attributes& there = world_.objects["f"].attributes;
    EXPECT_EQ(there.mode, mode);
    EXPECT_EQ(here->mode, mode);
    EXPECT_EQ(there.mtime, here->mtime);
    if (mtime)
      EXPECT_EQ(here->mtime, *mtime);
    else
      EXPECT_GT(here->mtime, kThen);
  }
};

TEST_F(AttributesTest, WhatIsWrittenAnewKeepsItsMode) {
  ASSERT_TRUE(Write("f", "#!/bin/bash").ok());
  Expect(0755, std::nullopt);
  EXPECT_EQ(world_.TakeAsked(), (std::vector<std::string>{"look f", "write f"}));
}

TEST_F(AttributesTest, WhatIsAddedToKeepsItsModeAndHasTheTimeOfThat) {
  ASSERT_TRUE(hands().Patch("f", "\necho", 9).ok());
  Expect(0755, std::nullopt);
}

TEST_F(AttributesTest, ANewTimeLeavesTheMode) {
  Set({.mtime = kThen + 1});
  Expect(0755, kThen + 1);
}

TEST_F(AttributesTest, ANewModeLeavesTheTime) {
  AttrChange change;
  change.mode = drive_->GetAttr(IdOf("f"))->mode;  // as it seemed to be
  Set(change);
  Expect(0644, kThen);
}

TEST_F(AttributesTest, OfASharedDriveOthersMayNothingBeforeTheModeIsKnown) {
  Close();
  shared_ = true;
  Open();
  const NodeId id = IdOf("f");
  EXPECT_EQ(drive_->GetAttr(id)->mode, 0600u);
  world_.SetOffline(true);
  EXPECT_EQ(drive_->GetAttr(id, 4242)->mode, 0600u);
  world_.SetOffline(false);
  ASSERT_TRUE(Eventually([&] { return drive_->GetAttr(id, 4242)->mode == 0755u; }));
  EXPECT_EQ(drive_->GetAttr(id)->mode, 0755u);
  ASSERT_TRUE(Write("made", "here").ok());
  EXPECT_EQ(drive_->GetAttr(IdOf("made"))->mode, 0644u);
  FlushAll();
  EXPECT_EQ(drive_->GetAttr(IdOf("made"))->mode, 0644u);
}

TEST_F(AttributesTest, WhoAsksForOneIsTold) {
  EXPECT_EQ(drive_->GetAttr(IdOf("f"), 0)->mode, 0755u) << "before it is run, say";
  EXPECT_EQ(Asked("look").size(), 1u);
  EXPECT_EQ(drive_->GetAttr(IdOf("f"), 0)->mode, 0755u);
  EXPECT_EQ(Asked("look").size(), 0u) << "once";
}

TEST_F(AttributesTest, WhoAsksForManyIsNotHeldUp) {
  {
    const Lock lock(world_.mutex);
    for (int i = 0; i < 100; ++i) world_.Set("many/n" + std::to_string(i), {"x", {}});
  }
  ASSERT_TRUE(drive_->Refresh().ok());
  for (int i = 0; i < 100; ++i)
    ASSERT_TRUE(drive_->GetAttr(IdOf("many/n" + std::to_string(i)), 0).ok());
  EXPECT_LE(Asked("look").size(), 30u);
}

TEST_F(AttributesTest, AnOwnerIsSetThoughItSeemedToBeThat) {
  world_.Edit("f", [](auto& object) { object.attributes.uid = object.attributes.gid = 4242; });
  AttrChange change;
  change.uid = 0;  // whom the mount shows what it does not know for
  Set(change);
  Expect(0755, kThen);
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.objects["f"].attributes.uid, 0u);
  EXPECT_EQ(world_.objects["f"].attributes.gid, 4242u);
}

TEST_F(AttributesTest, AnOwnerSetWhileNobodyKnowsThatTheBytesCameHolds) {
  Play("lose write; write f: #!/bin/bash; at f: #!/bin/bash");
  Set({.uid = 4242});
  Expect(0755, std::nullopt);
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.objects["f"].attributes.uid, 4242u);
}

TEST_F(AttributesTest, WhatWasSetAfterItWasWrittenHolds) {
  ASSERT_TRUE(Write("f", "#!/bin/bash").ok());
  Set({.mode = 0700, .mtime = kThen + 1});
  Expect(0700, kThen + 1);
}

TEST_F(AttributesTest, SetOfflineTheyGoUpWithTheRestOfTheStores) {
  world_.SetOffline(true);
  Set({.mtime = kThen + 1});
  Play("close; open; online");
  Expect(0755, kThen + 1);
}

TEST_F(AttributesTest, WhatIsSetWhileItMovesHolds) {
  std::atomic<bool> set{false};
  world_.on_copied = [&] {
    if (set.exchange(true)) return;
    AttrChange change;
    change.mode = 0644;  // as it seems to be
    EXPECT_TRUE(drive_->SetAttr(IdOf("g"), change, nullptr).ok());
  };
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Eventually([&] { return set.load(); }));
  FlushAll();
  world_.on_copied = nullptr;
  ASSERT_TRUE(hands().Move("g", "f").ok());
  Expect(0644, kThen);
}

// Its answer was lost, and it was written with the same bytes once more.
TEST_F(AttributesTest, TheSameBytesGetTheTimeOfTheLastWrite) {
  Play(
      "lose write; set retry=50; close; open; write f: #!/bin/bash; at f: #!/bin/bash; write f: "
      "#!/bin/bash");
  Expect(0755, std::nullopt);
}

TEST_F(AttributesTest, MovedItKeepsThem) {
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(hands().Patch("g", "\necho", 9).ok());
  ASSERT_TRUE(hands().Move("g", "f").ok());
  Expect(0755, std::nullopt);
}

// The answer to one was lost, and the store calls what it has now another version.
TEST_F(AttributesTest, WhatIsSetWhileNobodyKnowsThatTheLastWasTakenHolds) {
  for (const std::string store :
       {"of digests", "of parts", "of serials", "of serials, no origins"}) {
    SCOPED_TRACE(store);
    Close();
    world_.multipart_above = store == "of parts" ? 1000 : 0;
    world_.serial_versions = store.rfind("of serials", 0) == 0;
    world_.forgets_origins = store == "of serials, no origins";
    Open();
    const std::string body = store + std::string(5000, 'x');
    ASSERT_TRUE(Write("f", body).ok());
    Play("flush; forget");
    SetUnheard(0700);
    Set({.mode = 0640, .mtime = kThen + 5'000'000'000});
    Expect(0640, kThen + 5'000'000'000);
    EXPECT_EQ(*Read("f"), body);
    // (who is told nothing at all has to compare the bytes once)
    const auto reads = Asked("read").size();
    EXPECT_LE(reads, store == "of serials, no origins" ? 1u : 0u);
  }
}

// The same of one that others wrote, that is here, and that somebody has open for writing: of a
// store that tells nothing, its bytes are compared.
TEST_F(AttributesTest, WhatWasSetWithALostAnswerIsKnownWhileItIsHeldOpen) {
  Play("close; set serial forgets");
  world_.Put("theirs", std::string(5000, 'x'));
  Play("set retry=10; open; fetch theirs");
  const auto opened = drive_->OpenNode(IdOf("theirs"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  world_.Lose("copy");
  ASSERT_TRUE(drive_->SetAttr(IdOf("theirs"), AttrChange{.mode = 0640}, opened->file).ok());
  EXPECT_TRUE(drive_->Flush(Duration(10000)).ok());
  EXPECT_EQ(Asked("read").size(), 2u);  // one to have it, one to compare
  drive_->Release(opened->file);
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.objects["theirs"].attributes.mode, 0640u);
}

// The same of one that was moved, and that somebody has open for writing since. (It was looked at
// again and again until they closed it.)
TEST_F(AttributesTest, WhatWasSetWithALostAnswerMovesWhileItIsHeldOpen) {
  Play("close; set serial moves-files; open; fetch f");
  world_.Fail("look");  // nothing is learnt of it till then
  SetUnheard(0700);
  const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  Play("move f g; heal; flush; store: g=#!/bin/sh");
  drive_->Release(opened->file);
}

// Another machine takes it away for a moment, and brings it back: the same version, which is no
// other's. (It was kept beside itself, without any bytes to send.)
TEST_F(AttributesTest, WhatWasAwayForAMomentIsNoConflict) {
  std::optional<FakeWorld::Object> away;
  std::atomic<int> times{0};
  world_.on_send = [&](const std::string&) {
    if (times++ > 0) return;
    const Lock lock(world_.mutex);
    away = world_.objects["f"];
    world_.Drop("f");
  };
  world_.on_look = [&](const std::string&) {
    const Lock lock(world_.mutex);
    if (away) world_.Set("f", *std::exchange(away, std::nullopt));
  };
  Set({.mode = 0700});
  Expect(0700, kThen);
  Play("conflicts 0; store: f=#!/bin/sh");
  world_.on_send = nullptr;
  world_.on_look = nullptr;
}

TEST_F(AttributesTest, AModeIsThatOfTheVersionThatCameMeanwhile) {
  for (const bool known : {false, true}) {
    SCOPED_TRACE(known);
    if (known) {
      ASSERT_TRUE(Read("f").ok());
    }
    world_.SetOffline(true);
    AttrChange change;
    change.mode = known ? 0711 : 0700;
    change.mtime = kThen - 1;
    Set(change);
    world_.Put("f", known ? "#!/bin/ksh" : "#!/bin/dash");
    world_.Edit("f", [&](auto& object) { object.attributes.mode = 0644; });
    world_.Edit("f", [&](auto& object) { object.attributes.mtime = kThen + 1; });
    world_.SetOffline(false);
    Expect(*change.mode, kThen + 1);
    EXPECT_EQ(*Read("f"), known ? "#!/bin/ksh" : "#!/bin/dash");
  }
}

// It goes at the store then, and what was not learnt of it with it. (Of bytes that were here when
// the process died nothing was read again.)
TEST_F(AttributesTest, WhatComesDownToBeOnlyHereHasThemThoughTheProcessDied) {
  bool all = false;
  for (std::uint64_t i = 0; !all; ++i) {
    disk_.DieAt(disk_.operations() + 1 + i);
    Ignore(drive_->Place(IdOf("f"), Placement::kLocal));
    Eventually([&] { return disk_.dead() || drive_->Flush(Duration(20)).ok(); });
    all = !disk_.dead();
    Close();
    disk_.Heal();
    Play("open; place f local; flush; store:; place f none; flush; close");
    std::filesystem::remove_all(folder_ / "state");
    {
      const Lock lock(world_.mutex);
      ASSERT_EQ(world_.objects["f"].attributes.mode, 0755u) << i;
      ASSERT_EQ(world_.objects["f"].attributes.mtime, kThen) << i;
    }
    Play("open; count: 1");
  }
}

// ---- of folders, which only an object of their own can carry

class FolderAttributesTest : public AttributesTest {
 protected:
  void SetUp() override {
    MakeThere("d", 0700);
    AttributesTest::SetUp();
  }
  // As another machine did.
  void MakeThere(const std::string& path, std::uint32_t mode) {
    const Lock lock(world_.mutex);
    world_.Set(path + "/", {"", {}});
    Attributes& a = world_.objects[path + "/"].attributes;
    a.mode = mode;
    a.mtime = kThen;
    a.uid = 4242;
  }
  std::uint32_t ModeThere(const std::string& path) {
    const Lock lock(world_.mutex);
    return world_.objects[path + "/"].attributes.mode.value_or(0);
  }
  std::uint32_t ModeOf(const std::string& path, std::optional<std::uint32_t> user = {}) {
    return drive_->GetAttr(IdOf(path), user)->mode;
  }
  bool Comes(const std::string& path, std::uint32_t mode) {
    return Eventually([&] { return ModeOf(path) == mode; });
  }
};

TEST_F(FolderAttributesTest, AreKnownOnceItHasBeenLookedInto) {
  EXPECT_EQ(ModeOf("d"), 0755u);
  EXPECT_TRUE(Names("d").empty());
  ASSERT_TRUE(Comes("d", 0700));
  const auto here = drive_->GetAttr(IdOf("d"));
  EXPECT_EQ(here->mtime, kThen);
  EXPECT_EQ(here->uid, 4242u);
  EXPECT_EQ(world_.TakeAsked(), (std::vector<std::string>{"list d/", "look-folder d"}));
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(Asked("look-folder").size(), 0u) << "once";
}

TEST_F(FolderAttributesTest, OneThatNobodyMadeIsNotAskedFor) {
  Play("put plain/f: x; refresh; count plain: 1; close");
  EXPECT_EQ(Asked("look-folder").size(), 0u);
}

TEST_F(FolderAttributesTest, OfASharedDriveOthersMayNotLookInBefore) {
  Close();
  shared_ = true;
  Open();
  EXPECT_EQ(ModeOf("d"), 0700u);
  MakeThere("d", 0755);
  world_.SetOffline(true);
  EXPECT_EQ(ModeOf("d", 4243), 0700u);
  world_.SetOffline(false);
  ASSERT_TRUE(Eventually([&] { return ModeOf("d", 4243) == 0755u; }));
  EXPECT_EQ(ModeOf("d"), 0755u);
}

TEST_F(FolderAttributesTest, OfASharedDriveOthersMayLookIntoOneThatNobodyMade) {
  Play("close; put plain/f: x");
  shared_ = true;
  Play("open; refresh");
  EXPECT_EQ(ModeOf("plain", 4243), 0755u);
  EXPECT_EQ(Asked("look-folder").size(), 1u);
  EXPECT_EQ(ModeOf("plain", 4243), 0755u);
  EXPECT_EQ(Asked("look-folder").size(), 0u) << "once";
}

TEST_F(FolderAttributesTest, WhatIsNotSetStaysAtTheStore) {
  ASSERT_TRUE(drive_->SetAttr(IdOf("d"), AttrChange{.mtime = kThen + 5}, nullptr).ok());
  FlushAll();
  EXPECT_EQ(ModeThere("d"), 0700u);
  EXPECT_EQ(ModeOf("d"), 0700u);
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.objects["d/"].attributes.mtime, kThen + 5);
  EXPECT_EQ(world_.objects["d/"].attributes.uid, 4242u);
}

TEST_F(FolderAttributesTest, WhatIsSetHereHolds) {
  ASSERT_TRUE(drive_->SetAttr(IdOf("d"), AttrChange{.mode = 0750}, nullptr).ok());
  Play("count d: 0; flush");
  EXPECT_EQ(ModeThere("d"), 0750u);
  EXPECT_EQ(ModeOf("d"), 0750u);
}

TEST_F(FolderAttributesTest, AnOwnerSetWhileItGoesUpGoesUpToo) {
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "new", 0755, 0, 0).ok());
  bool set = false;
  const NodeId id = IdOf("new");
  {
    const Lock lock(world_.mutex);
    world_.on_folder = [&](const std::string& path) {
      if (path != "new" || std::exchange(set, true)) return;
      EXPECT_TRUE(drive_->SetAttr(id, AttrChange{.uid = 4242}, nullptr).ok());
    };
  }
  FlushAll();
  world_.on_folder = nullptr;
  EXPECT_EQ(world_.Get("new/").attributes.uid, 4242u);
}

TEST_F(FolderAttributesTest, ComeAlongToANameThatOthersHaveGivenToOne) {
  EXPECT_TRUE(Names("d").empty());
  ASSERT_TRUE(Comes("d", 0700));
  Play("offline; move d e");
  MakeThere("e", 0755);
  Play("online; flush");
  EXPECT_EQ(ModeThere("e"), 0700u);
  EXPECT_EQ(ModeOf("e"), 0700u);
}

TEST_F(FolderAttributesTest, AMarkerThatOthersMadeSinceIsRead) {
  Play("put plain/f: x; refresh; count plain: 1");
  MakeThere("plain", 0711);
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_TRUE(Comes("plain", 0711));
}

TEST_F(FolderAttributesTest, ComeBackWithWaitingWorkWhenTheIndexIsLost) {
  Play("offline; write d/new: waits; close");
  std::filesystem::remove(folder_ / "state/index.db");
  std::filesystem::remove(folder_ / "state/index.db-wal");
  world_.SetOffline(false);
  shared_ = true;
  Open();
  EXPECT_EQ(ModeOf("d", 4243), 0700u);
  Play("flush; has d/new: waits");
  EXPECT_EQ(ModeThere("d"), 0700u);
  EXPECT_EQ(ModeOf("d"), 0700u);
}

}  // namespace
}  // namespace pargeter::test
