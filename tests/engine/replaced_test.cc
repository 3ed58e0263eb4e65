// What was to take the place of a whole file when the power went, and was not synced.
#include <fmt/format.h>

#include "engine/torn.h"

namespace pargeter::test {
namespace {

class ReplacedTest : public TornTest {};

// As an editor saves that syncs nothing.
TEST_F(ReplacedTest, ATornFileDoesNotTakeThePlaceOfAWholeOne) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(Write("new", scan_).ok());
    ASSERT_TRUE(hands().Move("new", Name(i)).ok());
    LoseTheRest(i);
    const auto all = world_.All();
    ASSERT_EQ(all.count(Name(i)), 1u) << i;
    EXPECT_TRUE(all.at(Name(i)) == "of before" || all.at(Name(i)) == scan_)
        << i << ": " << all.at(Name(i)).size() << " bytes";
    EXPECT_TRUE(*Read(Name(i)) == all.at(Name(i)));
  }
}

// The second is lost in the cut; of the first nobody has learnt whether the store has got it.
TEST_F(ReplacedTest, AFileThatWasSavedAnewTwiceIsNotGone) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) ASSERT_TRUE(Read(Name(i)).ok());
  const std::string first(3000, '1'), second(3000, '2');
  for (int i = 0; i < kRounds; ++i) {
    Close();
    retry_pause_ = trial_pause_ = may_be_late_ = Duration(60000);
    Open();
    ASSERT_TRUE(Write("new", first).ok());
    ASSERT_TRUE(hands().Move("new", Name(i)).ok());
    Play("lose write; try");
    ASSERT_TRUE(Eventually([&] { return world_.All()[Name(i)] == first; }));
    ASSERT_TRUE(Write("new", second).ok());
    ASSERT_TRUE(hands().Move("new", Name(i)).ok());
    retry_pause_ = trial_pause_ = may_be_late_ = Duration(5);
    LoseTheRest(i);
    const auto all = world_.All();
    ASSERT_EQ(all.count(Name(i)), 1u) << i << " is gone";
    EXPECT_TRUE(all.at(Name(i)) == first || all.at(Name(i)) == second)
        << i << ": " << all.at(Name(i)).substr(0, 10);
    ASSERT_TRUE(drive_->Refresh().ok());
    EXPECT_TRUE(*Read(Name(i)) == all.at(Name(i)));
  }
}

TEST_F(ReplacedTest, WhatWasSyncedTakesThePlaceForGood) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(hands().Write("new", scan_, true).ok());
    ASSERT_TRUE(hands().Move("new", Name(i)).ok());
    LoseTheRest(i);
    EXPECT_TRUE(world_.All()[Name(i)] == scan_) << i;
  }
}

// What of it was on its way when it was synced arrives, and nobody learns of that.
TEST_F(ReplacedTest, WhatWasSyncedTakesThePlaceOfWhatTheStoreGotBefore) {
  for (int i = 0; i < 2 * kRounds; ++i) {
    // (such stores do not tell who wrote what)
    world_.serial_versions = world_.forgets_origins = i % 4 >= 2;
    if (i % 2 == 0) world_.Put(Name(i), "of before");
    Open();
    ASSERT_TRUE(hands().Write(Name(i), "the first").ok());
    SendLate();
    ASSERT_TRUE(hands().Write(Name(i), scan_, true).ok());
    Arrive(i);
    EXPECT_TRUE(world_.All()[Name(i)] == scan_) << i;
    EXPECT_EQ(drive_->Summary().conflicts, 0u) << i;
    Close();
  }
}

// As an editor saves that removes the file first and syncs nothing; the machine dies in the midst.
TEST_F(ReplacedTest, AFileThatWasOnlyMadeDoesNotTakeThePlaceOfAWholeOne) {
  PutAll("of before");
  Open();
  int back = 0;
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(hands().Remove(Name(i)).ok());
    disk_.DieAt(disk_.operations() + 2 * static_cast<std::uint64_t>(i));
    Ignore(Write(Name(i), scan_));
    disk_.DieAt(disk_.operations() + 1);
    CutPower(i);
    FlushAll();
    const auto all = world_.All();
    if (all.count(Name(i)) == 0) continue;  // it was removed
    EXPECT_TRUE(all.at(Name(i)) == "of before" || all.at(Name(i)) == scan_)
        << i << ": " << all.at(Name(i)).size() << " bytes";
    EXPECT_TRUE(*Read(Name(i)) == all.at(Name(i)));
    back += all.at(Name(i)) == "of before" ? 1 : 0;
  }
  EXPECT_GT(back, 0);
}

// As a data base does with its journal: were it back, it would be rolled back.
TEST_F(ReplacedTest, WhatWasRemovedForGoodDoesNotComeBack) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(hands().Remove(Name(i)).ok());
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    disk_.DieAt(disk_.operations() + 1 + 3 * static_cast<std::uint64_t>(i));
    Ignore(Write(Name(i), scan_));
    CutPower(i);
    FlushAll();
    for (const auto& [path, text] : world_.All())
      if (path.find(Name(i)) == 0 && (path == Name(i) || path[Name(i).size()] == ' ')) {
        EXPECT_NE(text, "of before") << path;
      }
  }
}

// A promise ends where the file is emptied; what the store has got of it, or had before, is whole.
TEST_F(ReplacedTest, WhatWasSyncedIsNotReplacedByWhatWasBegunAnew) {
  const std::string synced(5000, 's');
  int rewritten = 0;
  for (int turn = 0; turn < 6; ++turn) {
    const bool went_up = turn > 0;
    PutAll("of before");
    Open();
    for (int i = 0; i < kRounds; ++i) {
      ASSERT_TRUE(Read(Name(i)).ok());
      ASSERT_TRUE(hands().Write(Name(i), synced, true).ok());
      if (went_up) FlushAll();
      disk_.DieAt(disk_.operations() + 1 + 4 * static_cast<std::uint64_t>(i));
      Ignore(Write(Name(i), scan_));
      CutPower(i + 100 * turn);
      FlushAll();
      const std::string there = world_.All()[Name(i)];
      EXPECT_TRUE(there == "of before" ? !went_up : there == synced || there == scan_)
          << went_up << " " << i << ": " << there.size() << " bytes, " << there.substr(0, 10);
      EXPECT_TRUE(*Read(Name(i)) == there);
      rewritten += there == synced ? 0 : 1;
    }
    Close();
  }
  EXPECT_GT(rewritten, 0);
}

// All that is here of the new content is that it was about to be written.
TEST_F(ReplacedTest, WhatTheStoreHasGotIsNotReplacedByWhatStoodThereBefore) {
  for (int turn = 0; turn < 3; ++turn) {
    PutAll("of before");
    Open();
    for (int i = 0; i < kRounds; ++i) ASSERT_TRUE(Read(Name(i)).ok());
    Play("offline; write waits: for the store");
    Close();  // with all of that on the disk
    world_.SetOffline(false);
    for (int i = 0; i < kRounds; ++i) {
      world_.on_write = [&, i](const std::string& path) {
        if (path == Name(i)) disk_.DieAt(disk_.operations() + 1);
      };
      Open();
      ASSERT_TRUE(Write(Name(i), scan_).ok());
      Ignore(drive_->Flush(Duration(0)));  // it goes up now
      ASSERT_TRUE(Eventually([&] { return world_.All()[Name(i)] == scan_; }));
      LosePower(i + 100 * turn);
      world_.on_write = nullptr;
      Play("open; flush");
      ASSERT_TRUE(world_.All()[Name(i)] == scan_) << turn << " " << i;
      ASSERT_TRUE(drive_->Refresh().ok());
      EXPECT_TRUE(*Read(Name(i)) == scan_);
      Close();
    }
  }
}

// As with a name that was taken first: the store has got that without its bytes, or a draft.
TEST_F(ReplacedTest, WhatTheStoreHasOfATornFileDoesNotTakeThePlaceOfAWholeOne) {
  PutAll("of before");
  Open();
  int back = 0;
  for (int i = 0; i < kRounds; ++i) {
    const std::string fresh = fmt::format("new{}", i), draft = i % 2 == 0 ? "" : "a draft";
    ASSERT_TRUE(Write(fresh, draft).ok());
    FlushAll();
    ASSERT_TRUE(Write(fresh, scan_).ok());
    ASSERT_TRUE(hands().Move(fresh, Name(i)).ok());
    if (i % 4 >= 2) {  // it is on its way, for all that is known
      world_.Fail("write");
      Play("forget; try; asked write");
    }
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    CutPower(i);
    Play("heal; flush");
    const auto all = world_.All();
    ASSERT_EQ(all.count(Name(i)), 1u) << i;
    EXPECT_TRUE(all.at(Name(i)) == "of before" || all.at(Name(i)) == scan_)
        << i << ": " << all.at(Name(i)).size() << " bytes";
    back += all.at(Name(i)) == "of before" ? 1 : 0;
    if (all.at(Name(i)) == "of before") {
      EXPECT_EQ(all.count(fresh), 1u) << i;
      EXPECT_TRUE(!draft.empty() || all.at(fresh).empty()) << i;
    }
    ASSERT_TRUE(drive_->Refresh().ok());
    EXPECT_TRUE(*Read(Name(i)) == all.at(Name(i)));
    EXPECT_EQ(drive_->NodeAt(fresh).ok(), all.count(fresh) == 1) << i;
  }
  EXPECT_GT(back, 0);
}

// Saved twice within a moment: of the first nobody learns that the store has got it, in the place
// of a whole file. Nothing of the second is on the disk.
TEST_F(ReplacedTest, WhatTheStoreHasGotIsThereUntilTheNextComes) {
  for (const bool kept : {false, true}) {  // as a program does that keeps the former version, too
    SCOPED_TRACE(kept);
    const std::string name = kept ? "kept" : "saved";
    world_.Put(name, "of before");
    Open();
    ASSERT_EQ(*Read(name), "of before");
    ASSERT_TRUE(Write("new", "the first").ok());
    ASSERT_TRUE(hands().Move("new", name).ok());
    Play("lose write; try");
    ASSERT_TRUE(Eventually([&] { return world_.All()[name] == "the first"; }));
    if (kept) {
      ASSERT_TRUE(hands().Move(name, "kept~").ok());
      ASSERT_TRUE(Write(name, "the second").ok());
    } else {
      ASSERT_TRUE(Write("new", "the second").ok());
      ASSERT_TRUE(hands().Move("new", name).ok());
    }
    std::atomic<int> missed{0};
    const auto look = [&](const std::string&) {
      const auto all = world_.All();
      missed += all.count(name) + all.count(name + "~") == 0 ? 1 : 0;
    };
    world_.on_write = look;
    FlushAll();
    world_.on_write = nullptr;
    EXPECT_EQ(missed, 0);
    Files wanted{{name, "the second"}};
    if (kept) wanted[name + "~"] = "the first";
    for (const auto& [path, text] : wanted) {
      EXPECT_EQ(world_.All()[path], text);
      EXPECT_EQ(*Read(path), text);
    }
    EXPECT_EQ(world_.All().size(), kept ? 3u : 1u);
    Play("conflicts 0; close");
  }
}

// After the cut the folder would be moved once more, and that along with it.
TEST_F(ReplacedTest, WhatHasComeToAMovedFoldersPlaceStaysThere) {
  quiet_ = Duration(60000);
  for (const bool whole : {true, false}) {
    world_.moves_folders = whole;
    Open();
    for (int i = 0; i < kRounds; ++i) {
      const std::string was = fmt::format("loans {}{}", i, whole), is = was + " lent";
      world_.Put(was + "/1907", "pressed");
      ASSERT_TRUE(drive_->Refresh().ok());
      ASSERT_EQ(Names(was).size(), 1u);
      ASSERT_TRUE(hands().Move(was, is).ok());
      ASSERT_TRUE(drive_->FsyncFolder().ok());  // not even a cut makes it forget to move
      ASSERT_TRUE(hands().MakeFolder(was).ok());
      ASSERT_TRUE(Write(was + "/1908", "new").ok());
      ASSERT_TRUE(drive_->Flush(Duration(20000)).ok());
      ASSERT_EQ(world_.All()[was + "/1908"], "new");
      CutPower(2 * i + whole);
      Play("flush; refresh");
      EXPECT_EQ(world_.All()[was + "/1908"], "new") << i << whole;
      EXPECT_EQ(world_.All()[is + "/1907"], "pressed") << i << whole;
      EXPECT_EQ(*Read(was + "/1908"), "new") << i << whole;
      EXPECT_EQ(Names(is), std::vector<std::string>{"1907"}) << i << whole;
    }
    Close();
  }
}

}  // namespace
}  // namespace pargeter::test
