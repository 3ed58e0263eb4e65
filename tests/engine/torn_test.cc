// What waits for upload when the power goes, and was not synced: lost or torn, but nothing else is
// lost with it.
#include "engine/torn.h"

#include <fmt/format.h>

#include <fstream>
#include <set>
#include <thread>

#include "cache/block_store.h"

namespace pargeter::test {
namespace {

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
    Play("offline; write waits: for the store");
    Close();  // with all of that on the disk
    MakeOld();
    Play("online; open");
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
    Play("open; refresh");
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
    Kill();
    std::ofstream(bytes) << scan_.substr(0, 9000);
    boot_id_ = "after " + name;
    Play("open; flush");
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
  Play("open; flush; conflicts 0");
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

// It went up, and nobody heard of it: what the disk has left is older. (When that was at its new
// place, what stood at the former one was removed, as a late request of the same file.)
TEST_F(TornTest, WhatTheStoreHasGotStaysWhereTheFileWasWhenThatHasMovedOn) {
  for (int i = 0; i < 2 * kRounds; ++i) {
    const std::string last = "the new one!!";
    const std::string moved = fmt::format("moved-{}", i);
    Open();
    ASSERT_TRUE(Write(Name(i), "an older list").ok());
    FlushAll();
    Close();  // with that on the disk
    Open();
    ASSERT_TRUE(Write(Name(i), last).ok());
    Play("lose write; fail write");
    world_.Pass("write");
    ASSERT_TRUE(Eventually([&] {
      Ignore(drive_->Flush(Duration(0)));
      return world_.All()[Name(i)] == last;
    }));
    ASSERT_TRUE(hands().Move(Name(i), moved).ok());
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    LosePower(i);
    SetAge(std::chrono::hours(-1));  // it may be of this moment, as far as the clock tells
    Play("heal; open; flush");
    const auto there = world_.All();
    EXPECT_TRUE(there.count(Name(i)) > 0 ? there.at(Name(i)) == last : there.at(moved) == last)
        << i << ": " << there.at(moved);
    Close();
  }
}

// Else the store would be left with neither of them, if nothing came after that.
TEST_F(TornTest, WhatIsWrittenAnewWhileItGoesUpDoesNotGoUpInPart) {
  world_.keeps_former = true;
  const std::string before(3000, 'a'), after(5000, 'b');
  world_.Put("f", before);
  Play("open; patch f 10: a");
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
      Play("open; flush");
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
    Play("flush; fsync-folder");
    CutPower(i);
    EXPECT_TRUE(drive_->Refresh().ok());
    EXPECT_TRUE(*Read(name) == world_.All()[name]) << i;
    Close();
  }
}

class SetClock : public Clock {
 public:
  std::atomic<Nanos> at{SystemClock().Wall()};
  Nanos Wall() const override { return at; }
  Steady Now() const override { return SystemClock().Now(); }
};

// The disk has a file as it was fetched, however short a time before it was written anew.
TEST_F(TornTest, WhatWasFetchedAMomentBeforeDoesNotGoUp) {
  SetClock clock;
  clock_ = &clock;
  const std::string first(3000, '1'), second(3000, '2'), third(3000, '3');
  PutAll(first);
  Open();
  for (int i = 0; i < kRounds; ++i) {
    const std::string name = Name(i);
    ASSERT_TRUE(Read(name).ok());
    ASSERT_TRUE(disk_.SyncAll(folder_ / "cache").ok());
    const BlockStore blocks(folder_ / "cache", folder_ / "state/pending", &disk_);
    clock.at = *blocks.ChangedAt(drive_->NodeAt(name)->id, BlockStore::Place::kCache);
    clock.at += 1'000'000;
    ASSERT_TRUE(Write(name, second).ok());
    FlushAll();
    ASSERT_TRUE(world_.All()[name] == second);
    clock.at += 5'000'000;
    ASSERT_TRUE(Write(name, third).ok());
    LoseTheRest(i);
    const std::string there = world_.All()[name];
    EXPECT_TRUE(there == second || there == third) << i << ": " << there.substr(0, 10);
    EXPECT_TRUE(*Read(name) == there) << i;
  }
  Close();
}

// The index forgets a file that went up, or knows it as it was made only; another gets its name,
// while nobody can look.
TEST_F(TornTest, AForgottenFileIsNotTakenForTheNextOne) {
  trial_pause_ = retry_pause_ = may_be_late_ = Duration(10);
  Play("open; mkdir d; flush");
  int forgotten = 0;
  for (int i = 0; i < kRounds; ++i) {
    const std::string name = "d/" + Name(i), first = "first " + name, second = "second " + name;
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    ASSERT_TRUE(Write(name, first).ok());
    Play("flush; offline");
    CutPower(i);
    const bool known = drive_->NodeAt(name).ok();
    if (!known) {
      ASSERT_TRUE(Write(name, second).ok());
      ++forgotten;
    }
    Play("online; flush");
    std::multiset<std::string> there;
    for (const auto& [path, text] : world_.All()) there.insert(text);
    EXPECT_EQ(there.count(first), 1u) << i;
    EXPECT_EQ(there.count(second), known ? 0u : 1u) << i;
  }
  EXPECT_GT(forgotten, 0);
}

// What the store got of it before the power went stands in the name, what is left here beside it.
// Who decides for that does not lose it with this.
TEST_F(TornTest, WhatTheStoreHasGotStaysWhenTheRestIsDropped) {
  Open();
  int dropped = 0;
  for (int i = 0; i < kRounds; ++i) {
    ASSERT_TRUE(Write(Name(i), scan_).ok());
    Play("fsync-folder; flush");
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
  Play("open; mkdir scratch; flush; place scratch local");
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
  Play("place scratch none; flush");
}

// Nothing waits of it: its only copy is here.
TEST_F(TornTest, AFileThatIsOnlyHereIsSyncedByAReader) {
  Play("open; mkdir scratch; flush; place scratch local");
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
