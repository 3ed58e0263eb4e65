// Stores that do not tell who wrote what, or only by a request after the bytes: an upload that was
// cut off there is known again by what was sent.
#include <gtest/gtest.h>

#include <filesystem>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

using Files = std::map<std::string, std::string>;

class SentTest : public DriveTest, public testing::WithParamInterface<bool> {
 protected:
  SentTest() {
    world_.moves_files = world_.moves_folders = world_.serial_versions = true;
    world_.forgets_origins = GetParam();
    retry_pause_ = trial_pause_ = Duration(10);
  }
  Hands hands() { return Hands(drive_.get()); }
  // Changes something, and the process dies at once when the next bytes have come to the store.
  template <typename Change>
  void DieAfter(Change change) {
    std::atomic<bool> dead{false};
    {
      const Lock lock(world_.mutex);
      world_.cut_off = [&dead] { return dead.load(); };
      world_.die_after_write = [&dead] { dead = true; };
    }
    change();
    ASSERT_TRUE(Eventually([&] { return dead.load(); }));
    Close();
    world_.cut_off = nullptr;
    {
      const Lock lock(world_.mutex);
      world_.die_after_write = nullptr;
      world_.offline = true;
    }
    Open();
  }
  // The bytes of "second" have come to f, the process died at once.
  void CutOff(bool is_new, const std::string& folder = "") {
    const std::string path = folder + "f";
    if (!folder.empty()) world_.Put(folder + "beside", "b");
    if (!is_new) world_.Put(path, "first");
    Open();
    ASSERT_EQ(Names(folder).size(), (is_new ? 0u : 1u) + (folder.empty() ? 0u : 1u));
    DieAfter([&] { ASSERT_TRUE(Write(path, "second").ok()); });
  }
  void ForgetAll() {  // for the next round
    Close();
    std::filesystem::remove_all(folder_ / "state");
  }
  void Online() {
    world_.SetOffline(false);
    FlushAll();
    ASSERT_TRUE(drive_->Refresh().ok());
    EXPECT_EQ(drive_->Summary().conflicts, 0u);
  }
  void ExpectAll(const Files& files) {
    EXPECT_EQ(world_.All(), files);
    std::vector<std::string> names;
    for (const auto& [name, text] : files) {
      names.push_back(name);
      EXPECT_EQ(*Read(name), text);
    }
    EXPECT_EQ(Names(""), names);
  }
};
INSTANTIATE_TEST_SUITE_P(OriginsForgotten, SentTest, testing::Bool());

TEST_P(SentTest, ChangedSinceItIsNoConflict) {
  for (const bool is_new : {false, true}) {
    CutOff(is_new);
    ASSERT_TRUE(Write("f", "third, and longer").ok());
    Online();
    ExpectAll({{"f", "third, and longer"}});
    ASSERT_TRUE(hands().Remove("f").ok());
    FlushAll();
    ForgetAll();
  }
}

TEST_P(SentTest, DeletedSinceItDoesNotComeBack) {
  for (const bool is_new : {false, true}) {
    CutOff(is_new);
    ASSERT_TRUE(hands().Remove("f").ok());
    Online();
    ExpectAll({});
    ForgetAll();
  }
}

TEST_P(SentTest, MovedSinceItLeavesNothing) {
  for (const bool is_new : {false, true}) {
    CutOff(is_new);
    ASSERT_TRUE(hands().Move("f", "g").ok());
    ASSERT_TRUE(hands().Patch("g", "THI", 0).ok());
    Online();
    ExpectAll({{"g", "THIond"}});
    ASSERT_TRUE(hands().Remove("g").ok());
    FlushAll();
    ForgetAll();
  }
}

// Cut off at the one place, and at the other too.
TEST_P(SentTest, CutOffTwiceAtTwoPlacesItLeavesNothing) {
  for (const bool is_new : {false, true}) {
    CutOff(is_new);
    ASSERT_TRUE(hands().Move("f", "g").ok());
    ASSERT_TRUE(Write("g", "third, and longer").ok());
    DieAfter([&] { world_.SetOffline(false); });
    Online();
    ExpectAll({{"g", "third, and longer"}});
    ASSERT_TRUE(hands().Remove("g").ok());
    FlushAll();
    ForgetAll();
  }
}

// What was sent was sent to another path then.
TEST_P(SentTest, InAFolderThatWasMovedSinceItIsKnownAllTheSame) {
  for (const bool is_new : {false, true}) {
    for (const bool removed : {false, true}) {
      CutOff(is_new, "d/");
      ASSERT_TRUE(hands().Move("d", "e").ok());
      ASSERT_TRUE((removed ? hands().Remove("e/f") : Write("e/f", "third, and longer")).ok());
      Online();
      Files wanted = {{"e/beside", "b"}};
      if (!removed) wanted["e/f"] = "third, and longer";
      for (Files there : {world_.All(), *hands().Tree()}) {
        std::erase_if(there, [](const auto& one) { return one.first.back() == '/'; });
        EXPECT_EQ(there, wanted) << is_new << removed;
      }
      for (const auto& [path, text] : wanted) EXPECT_TRUE(hands().Remove(path).ok());
      ASSERT_TRUE(hands().RemoveFolder("e").ok());
      FlushAll();
      ForgetAll();
    }
  }
}

// Its deletion is held back, and another folder takes the place of the one it was in.
TEST_P(SentTest, InAFolderThatIsMadeAnewItIsDeletedAllTheSame) {
  hold_files_ = 1;
  hold_quiet_ = Duration(1);
  CutOff(false, "d/");
  for (const char* path : {"d/f", "d/beside"}) ASSERT_TRUE(hands().Remove(path).ok());
  ASSERT_TRUE(hands().RemoveFolder("d").ok());
  ASSERT_TRUE(hands().MakeFolder("d").ok());
  Online();
  EXPECT_EQ(drive_->Summary().held, 2u);
  EXPECT_EQ(world_.All().count("d/f"), 1u);
  ASSERT_TRUE(drive_->ReleaseDeletions().ok());
  FlushAll();
  EXPECT_EQ(world_.All().count("d/f"), 0u);
  EXPECT_EQ(world_.All().count("d/beside"), 0u);
}

TEST_P(SentTest, ReplacedSinceByAnotherItIsNoConflict) {
  for (const bool is_new : {false, true}) {
    CutOff(is_new);
    ASSERT_TRUE(Write("g", "of an editor").ok());
    ASSERT_TRUE(hands().Move("g", "f").ok());
    Online();
    ExpectAll({{"f", "of an editor"}});
    ASSERT_TRUE(hands().Remove("f").ok());
    FlushAll();
    ForgetAll();
  }
}

TEST_P(SentTest, WhatOthersPutThereIsTheirs) {
  CutOff(false);
  {
    const Lock lock(world_.mutex);
    world_.Set("f", {"SECOND", {}});  // as long
  }
  ASSERT_TRUE(Write("f", "third").ok());
  world_.SetOffline(false);
  FlushAll();
  EXPECT_EQ(drive_->Summary().conflicts, 1u);
  EXPECT_EQ(world_.All()["f"], "SECOND");
}

// A new time of change may be a new version, and its answer was lost.
TEST_P(SentTest, NewAttributesAreOurOwnToo) {
  for (const bool moved : {false, true}) {
    world_.Put("f", "first");
    Open();
    ASSERT_EQ(Names("").size(), 1u);
    std::atomic<bool> sent{false};
    world_.on_copied = [&] {
      if (!sent.exchange(true)) world_.SetOffline(true);
    };
    {
      const Lock lock(world_.mutex);
      world_.loses["copy"] = {true};
    }
    AttrChange change;
    change.mtime = 1'700'000'000'000'000'000;
    ASSERT_TRUE(drive_->SetAttr(IdOf("f"), change, nullptr).ok());
    ASSERT_TRUE(Eventually([&] { return sent.load(); }));
    world_.on_copied = nullptr;
    const std::string name = moved ? "g" : "f";
    if (moved) {
      ASSERT_TRUE(hands().Move("f", "g").ok());
    }
    ASSERT_TRUE(Write(name, "second").ok());
    Online();
    ExpectAll({{name, "second"}});
    ASSERT_TRUE(hands().Remove(name).ok());
    Online();
    ExpectAll({});
    ForgetAll();
  }
}

// What is synced after that must not find a version at the store that it knows nothing of.
TEST_P(SentTest, WhatChangesBeforeItsLastByteGoesIsNotSent) {
  Open();
  std::atomic<bool> changed{false};
  disk_.on_read = [&] {
    if (changed.exchange(true)) return;
    EXPECT_TRUE(hands().Write("f", "third", true).ok());
  };
  ASSERT_TRUE(Write("f", "second").ok());
  ASSERT_TRUE(Eventually([&] { return changed.load(); }));
  Online();
  ExpectAll({{"f", "third"}});
  const Lock lock(world_.mutex);
  EXPECT_EQ(std::count(world_.asked.begin(), world_.asked.end(), "write f"), 1);
}

TEST_P(SentTest, UnchangedItIsDoneAndGetsItsAttributes) {
  CutOff(true);
  Online();
  ExpectAll({{"f", "second"}});
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.objects["f"].attributes.mode, 0644u);
}

// It is not done before it has them.
TEST_P(SentTest, CutOffAgainAnywhereItGetsItsAttributes) {
  std::uint64_t n = 0;
  for (bool died = true; died; ++n) {
    CutOff(true);
    {
      const Lock lock(world_.mutex);
      world_.cut_off = [this] { return disk_.dead(); };
    }
    disk_.DieAt(disk_.operations() + 1 + n);
    world_.SetOffline(false);
    Ignore(drive_->Refresh());
    ASSERT_TRUE(Eventually([&] { return disk_.dead() || drive_->Summary().pending.files == 0; }));
    died = disk_.dead();
    Close();
    world_.cut_off = nullptr;
    disk_.Heal();
    Open();
    Online();
    ExpectAll({{"f", "second"}});
    {
      const Lock lock(world_.mutex);
      EXPECT_EQ(world_.objects["f"].attributes.mode, 0644u) << n;
    }
    ForgetAll();
    world_.Erase("f");
  }
  EXPECT_GT(n, 5u);
}

}  // namespace
}  // namespace pargeter::test
