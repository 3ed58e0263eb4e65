// What waits for upload when the power goes, and was not synced: lost or torn, but nothing else is
// lost with it, and nothing whole at the store is replaced by it.
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <set>
#include <thread>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

constexpr int kRounds = 12;

class TornTest : public DriveTest {
 protected:
  TornTest() {
    quiet_ = Duration(60000);  // nothing goes up before the power goes
    disk_.WatchPower(folder_.path());
  }
  Hands hands() { return Hands(drive_.get()); }
  void PutAll(const std::string& text) {
    for (int i = 0; i < kRounds; ++i) world_.Put(Name(i), text);
  }
  static std::string Name(int i) { return "f" + std::to_string(i); }
  // The index is on the disk, the files are not.
  void LoseTheRest(int round) {
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    CutPower(round);
    FlushAll();
  }
  enum class Loss { kAll, kEnd, kMiddle };
  // The machine dies, and takes that much of the waiting file along. What is left of it.
  std::string Tear(const std::string& name, Loss loss) {
    const std::string bytes = folder_ / "state/pending/" + std::to_string(drive_->NodeAt(name)->id);
    Close();
    disk_.Heal();
    world_.on_write = nullptr;
    if (loss == Loss::kAll) {
      EXPECT_TRUE(std::filesystem::remove(bytes));
    } else if (loss == Loss::kEnd) {
      std::filesystem::resize_file(bytes, 1000);
    } else {
      const auto fd = RealDisk().Open(bytes, O_RDWR, 0);
      EXPECT_TRUE(RealDisk().Punch(fd->get(), 8192, 4096).ok());
    }
    const auto left = ReadFile(bytes);
    boot_id_ = "after " + name;
    Open();
    FlushAll();
    EXPECT_TRUE(drive_->Refresh().ok());
    return left.ok() ? *left : "";
  }
  // What the cache has came long ago.
  void MakeOld() {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_ / "cache"))
      if (entry.is_regular_file())
        std::filesystem::last_write_time(
            entry, std::filesystem::file_time_type::clock::now() - std::chrono::hours(1));
  }
  // The machine dies now, and of that waiting file the end is lost.
  void TearEnd(const std::string& name, int round) {
    const std::string bytes = folder_ / "state/pending/" + std::to_string(drive_->NodeAt(name)->id);
    const auto fd = disk_.Open(bytes, O_RDWR, 0);
    ASSERT_TRUE(disk_.SyncData(fd->get()).ok());
    ASSERT_TRUE(disk_.SyncFolder(folder_ / "state/pending").ok());
    LosePower(round);
    std::filesystem::resize_file(bytes, 1000);
  }
  // What waits is sent, and is on its way still when the drive gives up.
  void SendLate() {
    {
      const Lock lock(world_.mutex);
      world_.next_write_is_late = true;
      world_.fails["write"] = std::deque<bool>(1000, true);
      world_.fails["write"].front() = false;
    }
    ASSERT_TRUE(Eventually([&] {
      Ignore(drive_->Flush(Duration(100)));
      const Lock lock(world_.mutex);
      return world_.arrive_late != nullptr;
    }));
  }
  void Arrive(int round) {
    std::function<void()> arrive;
    {
      const Lock lock(world_.mutex);
      arrive = std::exchange(world_.arrive_late, nullptr);
      world_.fails.clear();
    }
    arrive();
    CutPower(round);
    FlushAll();
  }
  std::vector<std::string> Kept(const std::string& name) {
    std::vector<std::string> kept;
    for (const auto& [path, text] : world_.All()) {
      if (path.find(name + " (kept from isle") != 0) continue;
      kept.push_back(text);
      EXPECT_TRUE(*Read(path) == text);
    }
    return kept;
  }
  const std::string scan_ = std::string(300000, 'o');
  std::atomic<bool> closed_{false};
};

TEST_F(TornTest, APatchTakesNothingAlongOfWhatItStandsOn) {
  PutAll(scan_);
  Open();
  std::string patched = scan_;
  patched.replace(299000, 3, "NEW");
  for (int i = 0; i < kRounds; ++i) {
    if (i % 2 == 0) {
      ASSERT_TRUE(Read(Name(i)).ok());  // it was fetched, and that is not on the disk either
    }
    ASSERT_TRUE(hands().Patch(Name(i), "NEW", 299000).ok());
    LoseTheRest(i);
    const std::string there = world_.All()[Name(i)];
    EXPECT_TRUE(there == scan_ || there == patched) << i << ": " << there.size() << " bytes";
    EXPECT_TRUE(*Read(Name(i)) == there);
  }
}

// The cache has that on the disk, of what came since only the index has word.
TEST_F(TornTest, APatchTakesNothingAlongOfAnEarlierVersion) {
  for (const std::string& before : {std::string("of before"), std::string(200000, 'b')}) {
    PutAll(before);
    Open();
    for (int i = 0; i < kRounds; ++i) ASSERT_TRUE(Read(Name(i)).ok());
    world_.SetOffline(true);
    ASSERT_TRUE(Write("waits", "for the store").ok());
    Close();  // with all of that on the disk
    MakeOld();
    world_.SetOffline(false);
    Open();
    std::string patched = scan_;
    patched.replace(299000, 3, "NEW");
    for (int i = 0; i < kRounds / 2; ++i) {
      world_.Put(Name(i), scan_);
      ASSERT_TRUE(drive_->Refresh().ok());
      ASSERT_TRUE(*Read(Name(i)) == scan_);
      ASSERT_TRUE(hands().Patch(Name(i), "NEW", 299000).ok());
      LoseTheRest(i);
      const std::string there = world_.All()[Name(i)];
      EXPECT_TRUE(there == scan_ || there == patched)
          << i << ": " << there.size() << " bytes, " << there.substr(0, 10);
      EXPECT_TRUE(*Read(Name(i)) == there);
    }
    Close();
  }
}

// The process was killed when the index had given up the earlier version, and the file was there.
TEST_F(TornTest, APatchTakesNothingAlongOfAFileThatShouldHaveGone) {
  std::string patched = scan_;
  patched.replace(299000, 3, "NEW");
  for (int i = 0; i < 4 * kRounds; ++i) {
    const std::string name = Name(i);
    world_.Put(name, std::string(200000, 'b'));
    Open();
    ASSERT_TRUE(Read(name).ok());
    MakeOld();
    world_.Put(name, scan_);
    disk_.DieAt(disk_.operations() + 1 + static_cast<std::uint64_t>(i) % kRounds);
    Ignore(drive_->Refresh());
    Close();
    disk_.Heal();
    Open();
    ASSERT_TRUE(drive_->Refresh().ok());
    ASSERT_TRUE(*Read(name) == scan_);
    ASSERT_TRUE(hands().Patch(name, "NEW", 299000).ok());
    LoseTheRest(i);
    const std::string there = world_.All()[name];
    EXPECT_TRUE(there == scan_ || there == patched)
        << i << ": " << there.size() << " bytes, " << there.substr(0, 10);
    Close();
    world_.Erase(name);
  }
}

TEST_F(TornTest, WhatWasAddedToASyncedFileTakesNothingAlong) {
  PutAll(scan_);
  Open();
  for (int i = 0; i < kRounds; ++i) {
    const std::string more(100000, 'm');
    ASSERT_TRUE(hands().Patch(Name(i), "NEW", 100, true).ok());
    ASSERT_TRUE(hands().Patch(Name(i), more, scan_.size()).ok());
    LoseTheRest(i);
    std::string wanted = scan_;
    wanted.replace(100, 3, "NEW");
    const std::string there = world_.All()[Name(i)];
    ASSERT_GE(there.size(), wanted.size());
    EXPECT_TRUE(there.substr(0, wanted.size()) == wanted) << i;
  }
}

TEST_F(TornTest, ATornFileDoesNotReplaceAWholeOne) {
  PutAll("of before");
  Open();
  int kept = 0;
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(Write(Name(i), scan_).ok());
    LoseTheRest(i);
    const auto all = world_.All();
    EXPECT_TRUE(all.at(Name(i)) == "of before" || all.at(Name(i)) == scan_)
        << i << ": " << all.at(Name(i)).size() << " bytes";
    EXPECT_TRUE(*Read(Name(i)) == all.at(Name(i)));
    for (const auto& [path, text] : all) {
      if (path.find(Name(i) + " (kept from isle") != 0) continue;
      ++kept;
      EXPECT_TRUE(*Read(path) == text);
    }
  }
  EXPECT_EQ(static_cast<int>(drive_->Summary().conflicts), kept);
}

TEST_F(TornTest, WhatIsLeftOfATornFileStandsBesideTheWholeOne) {
  PutAll("of before");
  Open();
  int n = 0;
  for (const Loss loss : {Loss::kEnd, Loss::kMiddle}) {
    for (const char* way : {"written", "by rename", "moved before"}) {
      const std::string name = Name(n++), former = way == std::string("moved before") ? "m" : "";
      if (!former.empty()) {
        world_.Put(former, "of before");
        ASSERT_TRUE(drive_->Refresh().ok());
        ASSERT_TRUE(hands().Move(former, name).ok());
      }
      const bool by_rename = way == std::string("by rename");
      ASSERT_TRUE(Write(by_rename ? "new" : name, scan_).ok());
      if (by_rename) {
        ASSERT_TRUE(hands().Move("new", name).ok());
      }
      disk_.DieAt(disk_.operations() + 1);
      const std::string left = Tear(name, loss);
      EXPECT_TRUE(*Read(name) == "of before") << way;
      EXPECT_TRUE(world_.All()[name] == "of before") << way;
      EXPECT_TRUE(Kept(name) == std::vector{left}) << way;
    }
  }
  EXPECT_EQ(static_cast<int>(drive_->Summary().conflicts), n);
}

// It waited, and was being written anew, longer than before: the index knows of the former only.
TEST_F(TornTest, TheBeginningOfALongerOneIsNotTheFormer) {
  for (const bool there : {false, true}) {
    const std::string name = there ? "there" : "new";
    if (there) world_.Put(name, "of before");
    Open();
    ASSERT_TRUE(Write(name, std::string(5000, 'f')).ok());
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    const std::string bytes = folder_ / "state/pending/" + std::to_string(IdOf(name));
    disk_.DieAt(disk_.operations() + 1);
    Close();
    disk_.Heal();
    std::ofstream(bytes) << scan_.substr(0, 9000);
    boot_id_ = "after " + name;
    Open();
    FlushAll();
    EXPECT_TRUE(world_.All()[name] == (there ? "of before" : scan_.substr(0, 9000)))
        << world_.All()[name].size();
    EXPECT_TRUE(Kept(name) ==
                (there ? std::vector{scan_.substr(0, 9000)} : std::vector<std::string>()));
    Close();
  }
}

// The machine was started anew in order: what waits was synced as the drive ended, gaps and all.
TEST_F(TornTest, AfterAnOrderlyEndAFileWithGapsIsWhole) {
  PutAll("of before");
  Open();
  ASSERT_TRUE(Write(Name(0), "begin").ok());
  ASSERT_TRUE(hands().Patch(Name(0), "end", 1'000'000).ok());
  Close();
  disk_.PowerCut(1);  // later
  boot_id_ = "two";
  Open();
  FlushAll();
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
  const std::string there = world_.All()[Name(0)];
  EXPECT_TRUE(there == "begin" + std::string(999'995, '\0') + "end") << there.size();
}

// It went up, and nobody has learnt of it; then it was torn here.
TEST_F(TornTest, WhatTheStoreHasGotOfATornFileStays) {
  quiet_ = Duration(1);
  int n = 0;
  for (const bool replaces : {false, true}) {
    for (const Loss loss : {Loss::kAll, Loss::kEnd, Loss::kMiddle}) {
      const std::string name = Name(n++);
      if (replaces) world_.Put(name, "of before");
      Open();
      closed_ = false;
      world_.on_write = [this](const std::string&) {
        EXPECT_TRUE(Eventually([this] { return closed_.load(); }));
        disk_.DieAt(disk_.operations() + 1);
      };
      Ignore(Write(name, scan_));
      closed_ = true;
      ASSERT_TRUE(Eventually([&] { return disk_.dead(); }));
      const std::string left = Tear(name, loss);
      EXPECT_TRUE(*Read(name) == scan_) << name;
      EXPECT_TRUE(world_.All()[name] == scan_) << name;
      EXPECT_TRUE(Kept(name) ==
                  (loss == Loss::kAll ? std::vector<std::string>() : std::vector{left}))
          << name;
      Close();
    }
  }
}

// As an editor saves that syncs nothing.
TEST_F(TornTest, ATornFileDoesNotTakeThePlaceOfAWholeOne) {
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

// Else the store would be left with neither of them, if nothing came after that.
TEST_F(TornTest, WhatIsWrittenAnewWhileItGoesUpDoesNotGoUpInPart) {
  world_.keeps_former = true;
  const std::string before(3000, 'a'), after(5000, 'b');
  world_.Put("f", before);
  Open();
  ASSERT_TRUE(hands().Patch("f", "a", 10).ok());
  std::atomic<bool> once{false};
  world_.on_read = [&](const std::string&) {  // what is missing of it, before it goes up
    if (once.exchange(true)) return;
    EXPECT_TRUE(hands().Patch("f", after, 0).ok());
  };
  FlushAll();
  EXPECT_TRUE(once);
  EXPECT_TRUE(world_.All()["f"] == after);
  const Lock lock(world_.mutex);
  for (const auto& [path, content] : world_.former)
    EXPECT_TRUE(content == before || content == after)
        << content.size() << " bytes, " << content.substr(0, 10);
}

// The second is lost in the cut; of the first nobody has learnt whether the store has got it.
TEST_F(TornTest, AFileThatWasSavedAnewTwiceIsNotGone) {
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
    {
      const Lock lock(world_.mutex);
      world_.loses["write"] = {true};
    }
    Ignore(drive_->Flush(Duration(0)));
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

TEST_F(TornTest, WhatWasSyncedTakesThePlaceForGood) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(hands().Write("new", scan_, true).ok());
    ASSERT_TRUE(hands().Move("new", Name(i)).ok());
    LoseTheRest(i);
    EXPECT_TRUE(world_.All()[Name(i)] == scan_) << i;
  }
}

TEST_F(TornTest, WhatWasSyncedIsNotGivenUpForWhatTheStoreHas) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) {
    const std::string synced = i % 2 == 0 ? "" : "synced text";
    ASSERT_TRUE(hands().Write(Name(i), synced, true).ok());
    ASSERT_TRUE(hands().Patch(Name(i), scan_, synced.size()).ok());
    LoseTheRest(i);
    const std::string there = world_.All()[Name(i)];
    EXPECT_EQ(there.substr(0, synced.size()), synced) << i;
    EXPECT_NE(there, "of before") << i;
  }
}

// The looking after what is left may end anywhere itself, with the process or the machine.
TEST_F(TornTest, AStartThatIsCutOffIsMadeAnew) {
  for (const bool machine : {false, true}) {
    for (int i = 0, n = 1; n > 0; ++i, ++n) {
      const std::string name = fmt::format("f{} {}", machine ? "m" : "p", i);
      world_.Put(name, "of before");
      Open();
      ASSERT_TRUE(Write(name, scan_).ok());
      ASSERT_TRUE(drive_->FsyncFolder().ok());
      TearEnd(name, i);
      disk_.DieAt(disk_.operations() + static_cast<std::uint64_t>(n));
      Ignore(Drive::Open(Options(), std::make_unique<FakeStore>(&world_)));
      if (!disk_.dead()) n = -1;  // it came to its end
      disk_.Heal();
      if (machine) {
        disk_.PowerCut(static_cast<std::uint64_t>(i));
        boot_id_ = "again, " + name;
      }
      Open();
      FlushAll();
      EXPECT_TRUE(world_.All()[name] == "of before")
          << name << ": " << world_.All()[name].size() << " bytes";
      EXPECT_TRUE(Kept(name) == std::vector{scan_.substr(0, 1000)}) << name;
      Close();
    }
  }
}

// What was found out holds, whatever is done with the file from then on.
TEST_F(TornTest, ASecondCutFindsWhatTheFirstOneDid) {
  PutAll("of before");
  Open();
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(Write(Name(i), scan_).ok());
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    TearEnd(Name(i), i);
    Open();
    const auto kept = Names("");
    FlushAll();
    CutPower(100 + i);
    FlushAll();
    EXPECT_TRUE(world_.All()[Name(i)] == "of before")
        << i << ": " << world_.All()[Name(i)].size() << " bytes";
    EXPECT_TRUE(Kept(Name(i)) == std::vector{scan_.substr(0, 1000)}) << i;
    EXPECT_EQ(Names(""), kept) << i;
  }
}

// What of it was on its way when it was synced arrives, and nobody learns of that.
TEST_F(TornTest, WhatWasSyncedTakesThePlaceOfWhatTheStoreGotBefore) {
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

TEST_F(TornTest, WhatTheStoreGotAfterASyncIsNotReplacedByLess) {
  for (int i = 0; i < 2 * kRounds; ++i) {
    world_.serial_versions = world_.forgets_origins = i % 4 >= 2;
    if (i % 2 == 0) world_.Put(Name(i), "of before");
    Open();
    ASSERT_TRUE(hands().Write(Name(i), scan_, true).ok());
    const std::string more(2000, 'm');
    ASSERT_TRUE(hands().Patch(Name(i), more, 0).ok());
    SendLate();
    Arrive(i);
    EXPECT_TRUE(world_.All()[Name(i)] == more + scan_.substr(2000)) << i;
    EXPECT_EQ(drive_->Summary().conflicts, 0u) << i;
    Close();
  }
}

// The index may be on the disk, and say what became of a file, while the file is as it was.
TEST_F(TornTest, WhatIsInTheCacheIsOfTheVersionThatTheIndexSays) {
  const std::string more(2000, 'm');
  for (int i = 0; i < 4 * kRounds; ++i) {
    const std::string name = Name(i);
    world_.Put(name, scan_);
    Open();
    ASSERT_TRUE(Read(name).ok());
    ASSERT_TRUE(Write("waits " + name, "").ok());
    Close();  // so all is synced
    Open();
    if (i % 4 == 0) {
      ASSERT_TRUE(hands().Patch(name, more, 0).ok());
    } else if (i % 4 == 1) {
      ASSERT_TRUE(Write(name, more + scan_.substr(2000)).ok());
    } else {
      ASSERT_TRUE(drive_->Evict({kRootId}, {}).ok());
      if (i % 4 == 2) {
        ASSERT_TRUE(hands().Patch(name, more, 0).ok());
      } else {
        world_.Put(name, more + scan_.substr(2000));
        ASSERT_TRUE(drive_->Refresh().ok());
        ASSERT_TRUE(Read(name).ok());
        ASSERT_TRUE(drive_->Evict({}, {}).ok());  // saves what is known to be here
      }
    }
    FlushAll();
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    CutPower(i);
    EXPECT_TRUE(drive_->Refresh().ok());
    EXPECT_TRUE(*Read(name) == world_.All()[name]) << i;
    Close();
  }
}

// The index forgets a file that went up, or knows it as it was made only; another gets its name,
// while nobody can look.
TEST_F(TornTest, AForgottenFileIsNotTakenForTheNextOne) {
  trial_pause_ = retry_pause_ = may_be_late_ = Duration(10);
  Open();
  ASSERT_TRUE(hands().MakeFolder("d").ok());
  FlushAll();
  int forgotten = 0;
  for (int i = 0; i < kRounds; ++i) {
    const std::string name = "d/" + Name(i), first = "first " + name, second = "second " + name;
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    ASSERT_TRUE(Write(name, first).ok());
    FlushAll();
    world_.SetOffline(true);
    CutPower(i);
    const bool known = drive_->NodeAt(name).ok();
    if (!known) {
      ASSERT_TRUE(Write(name, second).ok());
      ++forgotten;
    }
    world_.SetOffline(false);
    FlushAll();
    std::multiset<std::string> there;
    for (const auto& [path, text] : world_.All()) there.insert(text);
    EXPECT_EQ(there.count(first), 1u) << i;
    EXPECT_EQ(there.count(second), known ? 0u : 1u) << i;
  }
  EXPECT_GT(forgotten, 0);
}

// A promise ends where the file is emptied; what the store has got of it, or had before, is whole.
TEST_F(TornTest, WhatWasSyncedIsNotReplacedByWhatWasBegunAnew) {
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
TEST_F(TornTest, WhatTheStoreHasGotIsNotReplacedByWhatStoodThereBefore) {
  for (int turn = 0; turn < 3; ++turn) {
    PutAll("of before");
    Open();
    for (int i = 0; i < kRounds; ++i) ASSERT_TRUE(Read(Name(i)).ok());
    world_.SetOffline(true);
    ASSERT_TRUE(Write("waits", "for the store").ok());
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
      Open();
      FlushAll();
      ASSERT_TRUE(world_.All()[Name(i)] == scan_) << turn << " " << i;
      ASSERT_TRUE(drive_->Refresh().ok());
      EXPECT_TRUE(*Read(Name(i)) == scan_);
      Close();
    }
  }
}

// As an editor saves that removes the file first and syncs nothing; the machine dies in the midst.
TEST_F(TornTest, AFileThatWasOnlyMadeDoesNotTakeThePlaceOfAWholeOne) {
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

// What the store got of it before the power went stands in the name, what is left here beside it.
// Who decides for that does not lose it with this.
TEST_F(TornTest, WhatTheStoreHasGotStaysWhenTheRestIsDropped) {
  Open();
  int dropped = 0;
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(Write(Name(i), scan_).ok());
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    FlushAll();
    CutPower(i);
    std::thread flush([&] { FlushAll(); });
    // at once, before the copy has gone up
    EXPECT_TRUE(Eventually(
        [&] { return !drive_->Conflicts()->empty() || drive_->Summary().pending.files == 0; }));
    for (const auto& [path, node] : *drive_->Conflicts()) {
      ++dropped;
      EXPECT_TRUE(drive_->SettleConflict(path, Drive::Keep::kThere).ok());
    }
    flush.join();
    FlushAll();
    EXPECT_TRUE(world_.All()[Name(i)] == scan_) << i;
  }
  EXPECT_GT(dropped, 0);
}

// As a data base does with its journal: were it back, it would be rolled back.
TEST_F(TornTest, WhatWasRemovedForGoodDoesNotComeBack) {
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

// The store has the beginning, nobody heard of it, and it was added to and synced since that was
// planned: what is remembered of it is on the disk, too.
TEST_F(TornTest, WhatWasSyncedWhileItsBeginningWentUpIsNoConflictWithThat) {
  world_.serial_versions = world_.forgets_origins = true;
  std::atomic<bool> added{true};
  Open();
  for (int i = 0; i < kRounds / 3; ++i) {
    ASSERT_TRUE(Write(Name(i), "one ").ok());
    added = false;
    disk_.on_read = [&] {
      if (added.exchange(true)) return;
      EXPECT_TRUE(hands().Patch(Name(i), "two", 4, true).ok());
    };
    world_.LoseAnswers(1);
    Ignore(drive_->Flush(Duration(300)));
    EXPECT_TRUE(added);
    disk_.on_read = nullptr;
    CutPower(i);
    FlushAll();
    EXPECT_EQ(*Read(Name(i)), "one two");
    EXPECT_EQ(world_.All()[Name(i)], "one two");
    EXPECT_TRUE(Kept(Name(i)).empty());
  }
}

// As on any disk: it is gone, or what is left of it can be read. And it goes on so.
TEST_F(TornTest, WhatIsLostOfAFileThatIsOnlyHereIsNotShown) {
  Open();
  ASSERT_TRUE(hands().MakeFolder("scratch").ok());
  FlushAll();
  ASSERT_TRUE(drive_->Place(IdOf("scratch"), Placement::kLocal).ok());
  int lost = 0;
  for (int i = 0; i < kRounds; ++i) {
    const std::string path = "scratch/" + Name(i);
    ASSERT_TRUE(Write(path, scan_).ok());
    LoseTheRest(i);
    for (const std::string& name : Names("scratch")) EXPECT_TRUE(Read("scratch/" + name).ok());
    if (IdOf(path) == kNoNode) ++lost;
    ASSERT_TRUE(Write(path, scan_).ok());
    EXPECT_TRUE(*Read(path) == scan_);
  }
  EXPECT_GT(lost, 0);
  ASSERT_TRUE(drive_->Place(IdOf("scratch"), Placement::kNone).ok());
  FlushAll();
}

// Nothing waits of it: its only copy is here.
TEST_F(TornTest, AFileThatIsOnlyHereIsSyncedByAReader) {
  Open();
  ASSERT_TRUE(hands().MakeFolder("scratch").ok());
  FlushAll();
  ASSERT_TRUE(drive_->Place(IdOf("scratch"), Placement::kLocal).ok());
  for (int i = 0; i < kRounds; ++i) {
    const std::string path = "scratch/" + Name(i), text(5000, static_cast<char>('a' + i));
    ASSERT_TRUE(Write(path, text).ok());
    const auto opened = drive_->OpenNode(IdOf(path), Drive::Intent::kRead);
    ASSERT_TRUE(opened.ok());
    EXPECT_TRUE(drive_->Fsync(opened->file).ok());
    drive_->Release(opened->file);
    CutPower(i);
    const auto read = Read(path);
    ASSERT_TRUE(read.ok()) << path << ": " << read.error().what;
    EXPECT_EQ(*read, text);
  }
}

}  // namespace
}  // namespace pargeter::test
