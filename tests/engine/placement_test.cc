// What the rules of places do: hidden, only here, and the same for every machine.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "support/residency_fixture.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

class PlacementTest : public ResidencyTest {};

TEST_F(PlacementTest, WhatIsHiddenIsNeitherShownNorAskedFor) {
  Play("put old/leaf: 1; put new/leaf: 2; open");
  Names("");
  Place("old", Placement::kHide);
  EXPECT_EQ(Names(""), std::vector<std::string>{"new"});
  EXPECT_EQ(IdOf("old"), kNoNode);
  const auto made = drive_->MakeFolder(kRootId, "old", 0755, 0, 0);
  ASSERT_FALSE(made.ok());
  EXPECT_EQ(made.error().code, Code::kExists);
  EXPECT_THAT(made.error().what, HasSubstr("hides"));
  world_.TakeAsked();
  Fetched("");
  for (const std::string& asked : world_.TakeAsked())
    EXPECT_THAT(asked, Not(HasSubstr("old"))) << asked;
  Play("close; open; names: new");
  ASSERT_TRUE(drive_->Place(drive_->NodeAt("old")->id, Placement::kNone).ok());
  Play("names: new old; read old/leaf: 1");
}

TEST_F(PlacementTest, WhatIsLocalNeverGoesUpAndOutlivesEverything) {
  Open();
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "scratch", 0755, 0, 0).ok());
  FlushAll();
  Place("scratch", Placement::kLocal);
  ASSERT_TRUE(Write("scratch/note", "mine").ok());
  ASSERT_TRUE(drive_->MakeFolder(IdOf("scratch"), "deep", 0755, 0, 0).ok());
  Play("write scratch/deep/er: mine too; flush");
  EXPECT_EQ(StateOf("scratch/note"), "local");
  EXPECT_EQ(drive_->Summary().pending.files, 0u);
  EXPECT_EQ(Evict("").kept, 2u);
  Play("close; open; read scratch/note: mine; read scratch/deep/er: mine too");
  for (const auto& [path, body] : world_.All()) EXPECT_EQ(body, "") << path;
  // another rule: it goes up like anything new
  Place("scratch", Placement::kNone);
  Play("flush; has scratch/note: mine; has scratch/deep/er: mine too");
  EXPECT_EQ(StateOf("scratch"), "cached");
}

// Its folder came to be there with it, and has no object of its own.
TEST_F(PlacementTest, AFolderThatWasLocalStaysWhenTheOneFileThatWasNotLeavesIt) {
  Play("open; offline");
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "scratch", 0700, 0, 0).ok());
  Place("scratch", Placement::kLocal);
  ASSERT_TRUE(Write("scratch/goes", "up").ok());
  Place("scratch/goes", Placement::kCache);
  Play("online; flush; has scratch/goes: up");
  Place("scratch", Placement::kNone);
  Play("move scratch/goes went; flush");
  const Lock lock(world_.mutex);
  ASSERT_EQ(world_.objects.count("scratch/"), 1u);
  EXPECT_EQ(world_.objects["scratch/"].attributes.mode, 0700u);
}

TEST_F(PlacementTest, WhatIsLocalStaysSoWhenTheIndexIsLost) {
  Open();
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "scratch", 0755, 0, 0).ok());
  Play("offline; write scratch/before: written before the rule; online");
  Place("scratch", Placement::kLocal);
  ASSERT_TRUE(Write("scratch/after", "and after").ok());
  ASSERT_TRUE(hands().Move("scratch/after", "scratch/after all").ok());
  Play("write goes: up; flush; close");
  for (const char* ending : {"", "-wal", "-shm"})
    std::filesystem::remove((folder_ / "state/index.db") + ending);
  Play("open; flush; read scratch/before: written before the rule");
  EXPECT_EQ(*Read("scratch/after all"), "and after");
  EXPECT_EQ(StateOf("scratch/after all"), "local");
  for (const auto& [path, body] : world_.All()) EXPECT_EQ(body, path == "goes" ? "up" : "") << path;
}

TEST_F(PlacementTest, WhatIsNotUploadedIsNeverEvictedWhereverItEnds) {
  // killed at each change of the disk in turn, while a thin file goes up and is to be freed
  world_.cut_off = [this] { return disk_.dead(); };
  for (std::uint64_t at = 1, done = 0; done == 0; ++at) {
    const std::string body = "sheet " + std::to_string(at);
    Open();
    if (at == 1) {
      ASSERT_TRUE(drive_->MakeFolder(kRootId, "thin", 0755, 0, 0).ok());
      Place("thin", Placement::kThin);
    }
    Play("flush; list thin; offline");
    const Status written = Write("thin/f", body);
    ASSERT_TRUE(written.ok()) << at << ": " << written.error().what;
    const std::uint64_t before = disk_.operations();
    disk_.DieAt(before + at);
    world_.SetOffline(false);
    Ignore(drive_->Refresh());
    Eventually([&] { return disk_.dead() || drive_->Summary().pending.files == 0; });
    if (!disk_.dead()) done = 1;  // there was no such operation any more
    Close();
    disk_.Heal();
    Open();
    EXPECT_EQ(*Read("thin/f"), body) << "ended at " << at;
    FlushAll();
    EXPECT_EQ(world_.All()["thin/f"], body) << "ended at " << at;
    Close();
    ASSERT_LT(at, 400u);
  }
}

TEST_F(PlacementTest, WhatBecomesLocalComesDownBeforeItGoesAtTheStore) {
  world_.Put("loans/a", std::string(300000, 'a'));
  Play("put loans/b: bb; open");
  Names("");
  Place("loans", Placement::kLocal);
  Play("flush; store:");
  EXPECT_EQ(*Read("loans/a"), std::string(300000, 'a'));
  EXPECT_EQ(StateOf("loans"), "local");
  Play("close; open; refresh; read loans/b: bb");
  // a file that moves out goes up, and one that moves in comes down
  Play(
      "move loans/b b; flush; has b: bb; move b loans/again; flush; lacks b; lacks loans/again; "
      "read loans/again: bb");
}

TEST_F(PlacementTest, AFailingStoreTakesNothingThatComesDown) {
  world_.Put("loans/a", std::string(300000, 'a'));
  Play("open; list loans");
  world_.Faults(0.3, 7);
  Place("loans", Placement::kLocal);
  ASSERT_TRUE(Eventually([&] { return StateOf("loans/a") == "local"; }, 60));
  world_.Faults(0, 0);
  Play("flush; store:");
  EXPECT_EQ(*Read("loans/a"), std::string(300000, 'a'));
}

TEST_F(PlacementTest, PatternsAreForNamesAndAFilesOwnRuleIsNearer) {
  Open();
  ASSERT_TRUE(drive_->SetPattern("*.tmp", Placement::kLocal).ok());
  EXPECT_EQ(drive_->SetPattern("a/b", Placement::kLocal).error().code, Code::kInvalid);
  Play("write a.tmp: 1; write a.txt: 2; flush; store: a.txt=2");
  EXPECT_EQ(drive_->Explain(IdOf("a.tmp"))->placed_on, "*.tmp");
  // an editor's scratch file that becomes the real one
  Play("move a.tmp b.txt; flush; has b.txt: 1; write c.tmp: 3");
  Place("c.tmp", Placement::kCache);
  Play("flush; has c.tmp: 3");
  EXPECT_EQ(drive_->Rules()->size(), 2u);
}

TEST_F(PlacementTest, ARuleForEveryMachineHoldsThereBeforeItsFirstDownload) {
  for (int i = 0; i < 5; ++i) {
    world_.Put("archive/a" + std::to_string(i), "archived");
    world_.Put("work/w" + std::to_string(i), "work");
    world_.Put("mine/m" + std::to_string(i), "mine");
  }
  Open();
  Names("");
  ASSERT_TRUE(drive_->PlaceEverywhere("archive", false, Placement::kThin).ok());
  ASSERT_TRUE(drive_->PlaceEverywhere("mine", false, Placement::kHide).ok());
  ASSERT_TRUE(drive_->PlaceEverywhere("*.tmp", true, Placement::kLocal).ok());
  EXPECT_EQ(drive_->PlaceEverywhere("work", false, Placement::kLocal).error().code, Code::kInvalid);
  Close();
  std::filesystem::rename(folder_ / "state", folder_ / "first");  // a machine that knows nothing
  std::filesystem::remove_all(folder_ / "cache");
  Play("forget; open; names: archive work");
  ASSERT_TRUE(drive_->Pin(kRootId).ok());  // all of it, as far as no rule is nearer
  ASSERT_TRUE(Eventually([&] { return OnDisk("work") == 20u; }));
  Fetched("work");
  Play("write work/x.tmp: local; flush");
  const auto asked = world_.TakeAsked();
  for (const std::string& what : asked) {
    EXPECT_THAT(what, Not(HasSubstr("read archive"))) << what;
    EXPECT_THAT(what, Not(HasSubstr("mine"))) << what;
    EXPECT_THAT(what, Not(HasSubstr("x.tmp"))) << what;
  }
  EXPECT_EQ(std::count(asked.begin(), asked.end(), "read .pargeter-rules.json"), 1);
  EXPECT_EQ(drive_->Explain(IdOf("archive/a1"))->placed_by, "isle");
  // this machine's own rule is nearer
  Place("archive", Placement::kPin);
  ASSERT_TRUE(Eventually([&] { return StateOf("archive") == "pinned"; }));
  EXPECT_EQ(drive_->Rules()->size(), 4u);
}

TEST_F(PlacementTest, TwoMachinesMayChangeTheSharedRules) {
  Play("put a/1: 1; put b/1: 1; open");
  Names("");
  ASSERT_TRUE(drive_->PlaceEverywhere("a", false, Placement::kThin).ok());
  {
    // another machine writes meanwhile
    const Lock lock(world_.mutex);
    auto rules = *ParseSharedRules(world_.objects[kRulesName].body);
    rules.push_back({"b", false, Placement::kThin, 5, "fenland", true});
    rules.push_back({"a", false, Placement::kCache, 4, "fenland", true});  // older than ours
    world_.objects[kRulesName].body = WriteSharedRules(rules);
  }
  ASSERT_TRUE(drive_->PlaceEverywhere("*.bak", true, Placement::kThin).ok());
  EXPECT_EQ(drive_->State(IdOf("a"))->node.effective, Placement::kThin);
  EXPECT_EQ(drive_->State(IdOf("b"))->node.effective, Placement::kThin);
  // taken away by the other one, and seen with the next listing
  world_.Edit(kRulesName, [&](auto& object) { object.body = WriteSharedRules({}); });
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(drive_->State(IdOf("a"))->node.effective, Placement::kCache);
  EXPECT_TRUE(drive_->Rules()->empty());
  // rubbish there changes nothing
  world_.Put(kRulesName, "{\"rules\": [");
  EXPECT_TRUE(drive_->Refresh().ok());
  EXPECT_THAT(drive_->Summary().last_error, HasSubstr("shared rules"));
  EXPECT_EQ(*Read("b/1"), "1");
}

TEST_F(PlacementTest, ASharedRuleFollowsItsFolder) {
  Play("put archive/1: 1; open");
  Names("");
  ASSERT_TRUE(drive_->PlaceEverywhere("archive", false, Placement::kThin).ok());
  Play("move archive stacks; flush");
  ASSERT_TRUE(
      Eventually([&] { return world_.All()[kRulesName].find("stacks") != std::string::npos; }, 30));
  EXPECT_EQ(drive_->State(IdOf("stacks"))->node.effective, Placement::kThin);
  const auto rules = ParseSharedRules(world_.All()[kRulesName]);
  ASSERT_EQ(rules->size(), 2u);
  for (const Rule& rule : *rules)
    EXPECT_EQ(rule.placement, rule.key == "stacks" ? Placement::kThin : Placement::kNone);
}

}  // namespace
}  // namespace pargeter::test
