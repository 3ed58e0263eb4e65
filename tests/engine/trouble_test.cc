// What goes wrong around a drive: its state is damaged or deleted, clocks jump, power is cut, too
// much is deleted at once, both sides change the same things.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "support/story.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

namespace fs = std::filesystem;

class TroubleTest : public DriveTest {
 protected:
  void Damage(const std::string& path, std::uintmax_t from, std::size_t bytes) {
    std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(from));
    file << std::string(bytes, '\x5A');
  }
};

// ---- the index

TEST_F(TroubleTest, ADamagedIndexIsMadeAnewAndNothingWaitingIsLost) {
  quiet_ = Duration(60000);  // nothing goes up while the patch is made
  world_.Put("d/old", "from the store");
  world_.Put("big", std::string(300000, 'o'));
  Play(
      "open; read d/old: from the store; names: big d; offline; write d/new: waiting; mkdir fresh; "
      "write fresh/deep: waits too; online; patch big 150000: NEW; offline; close");
  const std::string index = folder_ / "state/index.db";
  Damage(index, 0, 2000);
  Play("online; open");
  EXPECT_THAT(drive_->Summary().last_error, HasSubstr("3 waiting files were found again"))
      << drive_->Summary().last_error;
  FlushAll();
  std::string big(300000, 'o');
  big.replace(150000, 3, "NEW");
  const auto all = world_.All();
  EXPECT_EQ(all.at("d/new"), "waiting");
  EXPECT_EQ(all.at("fresh/deep"), "waits too");
  EXPECT_TRUE(all.at("big") == big) << all.at("big").size() << " " << all.at("big").find("NEW");
  EXPECT_EQ(all.at("d/old"), "from the store");
  EXPECT_EQ(*Read("d/old"), "from the store");
}

TEST_F(TroubleTest, DamageInTheMiddleOfTheIndexIsFoundAtOpen) {
  for (int i = 0; i < 300; ++i) world_.Put("d/file-" + std::to_string(i), "x");
  Play("open; count d: 300; close");
  const std::string index = folder_ / "state/index.db";
  ASSERT_GT(fs::file_size(index), 20000u);
  for (std::uintmax_t at = 4096; at + 4096 < fs::file_size(index); at += 8192)
    Damage(index, at, 200);
  Play("open; count d: 300");
  bool kept = false;
  for (const auto& entry : fs::directory_iterator(folder_ / "state"))
    kept = kept || entry.path().string().find("index.db.damaged-") != std::string::npos;
  EXPECT_TRUE(kept) << "the damaged one is kept for who wants to look at it";
}

TEST_F(TroubleTest, ALostIndexFindsWhatWaitsByItsNotes) {
  Play("open; offline; write f: waiting; move f renamed; close");
  for (const char* ending : {"", "-wal", "-shm"})
    fs::remove(folder_ / "state/index.db" + std::string(ending));
  Play("online; open; flush; store: renamed=waiting");
}

// As a file system leaves it that lost what was not synced.
TEST_F(TroubleTest, AnEmptiedIndexFindsWhatWaitsByItsNotes) {
  Play("open; offline; write f: waiting; close");
  fs::resize_file(folder_ / "state/index.db", 0);
  Play("online; open; flush; store: f=waiting");
}

// At each point of it.
TEST_F(TroubleTest, AnIndexWhoseMakingWasCutOffIsMadeToTheEnd) {
  std::uint64_t n = 0;
  for (bool died = true; died; ++n) {
    Play("open; offline");
    Files wanted;
    for (int i = 0; i < 3; ++i) {
      wanted["f" + std::to_string(i)] = "waiting " + std::to_string(i);
      ASSERT_TRUE(Write("f" + std::to_string(i), "waiting " + std::to_string(i)).ok());
    }
    Close();
    for (const char* ending : {"", "-wal", "-shm"})
      fs::remove(folder_ / "state/index.db" + std::string(ending));
    disk_.DieAt(disk_.operations() + 1 + n);
    Ignore(Drive::Open(Options(), std::make_unique<FakeStore>(&world_)));
    died = disk_.dead();
    disk_.Heal();
    Play("online; open; flush");
    ASSERT_EQ(world_.All(), wanted) << "killed at operation " << n;
    Close();
    fs::remove_all(folder_ / "state");
    const Lock lock(world_.mutex);
    world_.objects.clear();
  }
  EXPECT_GT(n, 10u);
}

// File systems keep few bytes of notes.
TEST_F(TroubleTest, WithoutRoomForItsNoteWhatWaitsStandsBesideTheStores) {
  const std::string scan(3'000'000, 'o');
  world_.Put("scan", scan);
  Play("set quiet=60000; open");
  const auto opened = drive_->OpenNode(IdOf("scan"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  for (std::uint64_t at = 0; at < scan.size(); at += 50) {
    ASSERT_TRUE(drive_->Write(opened->file, "N", at, false).ok());
    if (at == 500) {
      ASSERT_TRUE(drive_->Flush(opened->file).ok());
    }
  }
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  drive_->Release(opened->file);
  Close();
  fs::resize_file(folder_ / "state/index.db", 0);
  Play("open; flush");
  std::string written(scan.size(), '\0');
  for (std::uint64_t at = 0; at < scan.size(); at += 50) written[at] = 'N';
  written.resize(2'999'951);
  const auto all = world_.All();
  EXPECT_TRUE(all.at("scan") == scan);
  ASSERT_EQ(all.size(), 2u);
  for (const auto& [path, text] : all)
    EXPECT_TRUE(path == "scan" || text == written) << path << text.size();
}

TEST_F(TroubleTest, WhatIsKnownIsMountedWhileTheStoreWantsSomething) {
  Play("put f: content; open; read f: content");
  for (const Code code :
       {Code::kUnavailable, Code::kThrottled, Code::kStoreFault, Code::kTimeout, Code::kSignIn}) {
    Close();
    world_.SetOffline(true, code);
    Open();
    EXPECT_EQ(*Read("f"), "content") << NameOf(code);
    EXPECT_NE(drive_->Summary().last_error, "") << NameOf(code);
    world_.SetOffline(false);
  }
  Play("write g: more; flush");
  EXPECT_EQ(world_.All().at("g"), "more");
}

TEST_F(TroubleTest, AFaultIsSaidUntilItIsOvercome) {
  Play("set retry=10 trial=10; set quiet=1; put d/f: content; open");
  const auto fails = [&](const std::string& kind, const std::function<Status()>& work) {
    world_.Fail(kind);
    EXPECT_TRUE(Eventually([&] {
      Ignore(work());
      return drive_->Summary().offline_since == 0 && drive_->Summary().last_error != "";
    }));
    world_.Heal();
    EXPECT_TRUE(Eventually([&] { return work().ok(); }));
    FlushAll();
    EXPECT_TRUE(Eventually([&] { return drive_->Summary().last_error == ""; })) << kind;
  };
  fails("list", [&] { return drive_->Refresh(); });
  fails("read", [&] { return Read("d/f").ok() ? Status() : Error(Code::kIo, "unread"); });
  fails("write", [&] { return Write("g", "more"); });
}

// (It was tried again for ever, and the queue said nothing of it.)
TEST_F(TroubleTest, WhatDoesNotPassIsSaid) {
  Open();
  world_.SetOffline(true, Code::kStale);
  ASSERT_TRUE(Write("sheet", "pressed").ok());
  const auto said = [this] {
    const auto queue = *drive_->Queue(10);
    return queue.size() == 1 ? queue[0].second.pending.error : "";
  };
  EXPECT_TRUE(Eventually([&] { return said() == "the store does not answer"; })) << said();
  Play("online; flush; has sheet: pressed");
  EXPECT_EQ(drive_->NodeAt("sheet")->pending.error, "");
}

TEST_F(TroubleTest, AFaultOfAFileIsNotSaidWhenThatIsGone) {
  Play("set retry=10 trial=10; put d/f: content; put d/other: content; open; list d; fail read");
  EXPECT_TRUE(Eventually([&] {
    EXPECT_FALSE(Read("d/f").ok());
    return drive_->Summary().offline_since == 0 && drive_->Summary().last_error != "";
  }));
  Play("erase d/f; heal");
  ASSERT_TRUE(Eventually([&] {
    Ignore(drive_->Refresh());
    return Names("d").size() == 1;
  }));
  EXPECT_EQ(drive_->Summary().last_error, "");
}

TEST_F(TroubleTest, WhatIsGoneAtTheStoreIsMountedWhileSomethingWaits) {
  Open();
  for (const bool waits : {true, false}) {
    world_.SetOffline(true, Code::kNotFound);
    if (waits) {
      ASSERT_TRUE(Write("new", "only copy").ok());
    }
    Close();
    if (waits) {
      Play("open; read new: only copy");
      EXPECT_NE(drive_->Summary().last_error, "");
      Play("online; flush");
    } else {
      Open(1ull << 30, Code::kNotFound);
    }
  }
}

TEST_F(TroubleTest, LetInAgainWhatWaitsGoesUpAtOnce) {
  Play("set retry=400; open");
  world_.SetOffline(true, Code::kPermission);
  ASSERT_TRUE(Write("new", "only copy").ok());
  // refused so often that the next try is far away
  ASSERT_TRUE(Eventually([&] {
    const auto state = drive_->State(IdOf("new"));
    return state.ok() && state->node.pending.tries >= 4;
  }));
  EXPECT_FALSE(drive_->Refresh().ok());
  world_.SetOffline(false);
  EXPECT_TRUE(drive_->OpenFolder(kRootId).ok());
  const Status flushed = drive_->Flush(Duration(3000));
  EXPECT_TRUE(flushed.ok()) << flushed.error().what;
}

// What goes into a folder may be at the store before the folder has been made there.
TEST_F(TroubleTest, AFolderThatIsThereByWhatIsInItMovesWithIt) {
  const auto refuse = [&](bool value) {
    const Lock lock(world_.mutex);
    world_.refuses_folders = value;
  };
  retry_pause_ = Duration(100);
  for (const bool deleted : {false, true}) {
    Open();
    refuse(true);
    Play("mkdir new; mkdir new/deep; write new/deep/f: content; at new/deep/f");
    ASSERT_TRUE(Eventually([&] {
      const auto state = drive_->State(IdOf("new/deep/f"));
      return state.ok() && state->node.pending.seq == 0;
    }));
    if (deleted) {
      Play("remove new/deep/f; rmdir new/deep; rmdir new");
    } else {
      ASSERT_TRUE(hands().Move("new", "moved").ok());
    }
    refuse(false);
    Play("flush; refresh");
    const auto all = world_.All();
    if (deleted) {
      EXPECT_EQ(all.count("new/deep/f"), 0u);
    } else {
      EXPECT_EQ(all.count("new/deep/f"), 0u);
      ASSERT_EQ(all.count("moved/deep/f"), 1u);
      Play(
          "read moved/deep/f: content; names: moved; remove moved/deep/f; rmdir moved/deep; rmdir "
          "moved; flush");
    }
    Play("store:; close");
  }
}

TEST_F(TroubleTest, AStateFolderDeletedUnderItTakesNothingNewAndSaysWhy) {
  Play("put f: content; open; read f: content");
  fs::remove_all(folder_ / "state");
  const Status refused = Write("new", "text");
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kIo);
  EXPECT_THAT(drive_->Summary().last_error, HasSubstr("was deleted"));
  EXPECT_EQ(*Read("f"), "content") << "reading goes on";
}

TEST_F(TroubleTest, WaitingBytesThatSomebodyDeletedAreNotReplacedByNothing) {
  Play("open; offline");
  ASSERT_TRUE(Write("f", std::string(1000, 'w')).ok());
  Close();
  for (const auto& file : fs::directory_iterator(folder_ / "state/pending")) fs::remove(file);
  world_.SetOffline(false);
  // not a power cut: nothing explains that they are gone
  Open();
  EXPECT_EQ(drive_->Flush(Duration(500)).error().code, Code::kTimeout);
  const auto queue = drive_->Queue(10);
  ASSERT_EQ(queue->size(), 1u);
  EXPECT_THAT((*queue)[0].second.pending.error, HasSubstr("no longer on this disk"));
  EXPECT_EQ(world_.All().count("f"), 0u) << "an empty file went up in their place";
}

TEST_F(TroubleTest, AFolderThatVanishesKeepsWhatWasMovedIntoIt) {
  Play(
      "put a/inner/x: X; put b/y: Y; open; count a/inner: 1; count b: 1; offline; move a/inner "
      "b/inner; erase b/y; close; online; open; refresh; flush; read b/inner/x: X; has b/inner/x");
}

TEST_F(TroubleTest, ACutBetweenAnUploadAndItsNextChangeIsSent) {
  world_.Put("f", std::string(30000, 'o'));
  Open();
  for (int i = 0; i < 30; ++i) {
    ASSERT_TRUE(hands().Resize("f", static_cast<std::uint64_t>(1000 - i)).ok());
    FlushAll();
    ASSERT_EQ(world_.All()["f"].size(), static_cast<std::size_t>(1000 - i));
  }
}

TEST_F(TroubleTest, AChangeOfAFileThatWasReplacedBeforeItWasWhollyHereIsKept) {
  world_.Put("big", std::string(3000000, 'o'));
  Play(
      "open; names: big; offline; patch big 1500000: NEW; put big: theirs; online; flush; has big: "
      "theirs");
  const auto conflicts = drive_->Conflicts();
  ASSERT_EQ(conflicts->size(), 1u);
  const std::string kept = world_.All()[(*conflicts)[0].first];
  ASSERT_EQ(kept.size(), 3000000u);
  EXPECT_EQ(kept.substr(1500000, 3), "NEW");
  EXPECT_THAT(drive_->Summary().last_error, HasSubstr("zeros"));
}

TEST_F(TroubleTest, NewFilesAtTheOldPlacesOfMovedOnesStay) {
  for (int i = 0; i < 12; ++i) world_.Put("d/" + std::to_string(i), "old");
  Play("put e/keep: k; open; count d: 12");
  for (int round = 0; round < 5; ++round) {
    const std::string text = "new " + std::to_string(round);
    for (int i = 0; i < 12; ++i) {
      const std::string name = std::to_string(i);
      ASSERT_TRUE(hands().Move("d/" + name, "e/" + name).ok());
      ASSERT_TRUE(Write("d/" + name, text).ok());
    }
    FlushAll();
    for (int i = 0; i < 12; ++i) EXPECT_EQ(world_.All()["d/" + std::to_string(i)], text);
  }
}

// ---- clocks

TEST_F(TroubleTest, WhatAKilledProcessLeftAtTheStoreIsRemovedWhenItIsOld) {
  AheadClock clock;
  clock_ = &clock;
  const std::vector<std::string> left = {"ferns/.pargeter-scratch-same-1",
                                         "ferns/.pargeter-scratch-put-2",
                                         "ferns/.pargeter-scratch-put-3"};
  const std::string aside = "ferns/.pargeter-scratch-aside-coast.7";
  for (const std::string& path : left) world_.Put(path, path);
  world_.Put(aside, "on its way");
  const auto age = [&](Nanos modified) {
    const Lock lock(world_.mutex);
    for (auto& [path, object] : world_.objects) object.modified = modified;
  };
  const auto removals = [&] {
    const Lock lock(world_.mutex);
    return std::count_if(world_.asked.begin(), world_.asked.end(),
                         [](const std::string& one) { return one.rfind("remove ", 0) == 0; });
  };
  const auto look = [&] {
    ASSERT_TRUE(drive_->OpenFolder(IdOf("ferns")).ok());
    ASSERT_TRUE(drive_->Refresh().ok());
  };
  age(clock.Wall());
  Open();
  look();
  clock.Advance(std::chrono::hours(3));
  look();
  EXPECT_EQ(removals(), 0) << "it is in use, perhaps";
  age(clock.Wall() - 48 * 3600'000'000'000);
  look();
  EXPECT_EQ(removals(), 0) << "the store's clock may be wrong";
  world_.Put(left[2], "still being written");
  clock.Advance(std::chrono::hours(2));
  look();
  const auto all = world_.All();
  EXPECT_EQ(all.count(left[0]) + all.count(left[1]), 0u);
  EXPECT_EQ(all.count(left[2]), 1u);
  EXPECT_EQ(all.count(aside), 1u);
  Close();
}

TEST_F(TroubleTest, TheWallClockMayJump) {
  AheadClock clock;
  clock_ = &clock;
  Play("put f: 1; open; read f: 1");
  for (const std::int64_t jump : {86400L * 3650, -86400L * 3650, 0L}) {
    clock.wall_ahead = (jump)*1'000'000'000;
    ASSERT_TRUE(Write("g", std::to_string(jump)).ok());
    FlushAll();
    EXPECT_EQ(world_.All()["g"], std::to_string(jump));
    world_.Put("f", std::to_string(jump));
    ASSERT_TRUE(drive_->Refresh().ok());
    EXPECT_EQ(*Read("f"), std::to_string(jump));
  }
  Close();
  clock.wall_ahead = (-86400L * 3650) * 1'000'000'000;
  Play("open; read g: 0");
  Close();  // before its clock goes
}

// ---- power

TEST_F(TroubleTest, AfterAPowerCutUnsyncedBytesOfTheCacheAreFetchedAgain) {
  world_.Put("f", "content");
  disk_.WatchPower(folder_.path());
  Play("open; read f: content; write mine: acknowledged, never synced; flush; close");
  disk_.PowerCut(3);
  boot_id_ = "two";
  Play("open; read f: content; read mine: acknowledged, never synced");
}

// The index of before the upload is back, and speaks of a waiting file.
TEST_F(TroubleTest, WhatWasSyncedUploadedAndEvictedOutlivesAPowerCut) {
  disk_.WatchPower(folder_.path());
  Open();
  for (int i = 0; i < 20; ++i) {
    const std::string name = "f" + std::to_string(i), text = "synced as " + name;
    ASSERT_TRUE(hands().Write(name, text, true).ok());
    FlushAll();
    Ignore(drive_->Evict({kRootId}, {}));
    ASSERT_EQ(*Read(name), text);  // fetched again, and not on the disk yet
    CutPower(i);
    FlushAll();
    const auto read = Read(name);
    ASSERT_TRUE(read.ok()) << name << ": " << read.error().what;
    EXPECT_EQ(*read, text);
    EXPECT_EQ(world_.All()[name], text);
  }
}

// As sync(1) does it.
TEST_F(TroubleTest, WhatIsSyncedByAReaderOutlivesAPowerCut) {
  disk_.WatchPower(folder_.path());
  Play("open; count: 0; offline");
  for (int i = 0; i < 10; ++i) {
    const std::string name = "f" + std::to_string(i), text(5000, static_cast<char>('a' + i));
    ASSERT_TRUE(Write(name, text).ok());
    auto opened = drive_->OpenNode(IdOf(name), Drive::Intent::kRead);
    ASSERT_TRUE(opened.ok());
    EXPECT_TRUE(drive_->Fsync(opened->file).ok());
    drive_->Release(opened->file);
    CutPower(i);
    const auto read = Read(name);
    ASSERT_TRUE(read.ok()) << name << ": " << read.error().what;
    EXPECT_EQ(*read, text);
  }
}

// As a database does it: written, synced, renamed to its place, its folder synced.
TEST_F(TroubleTest, TheNamesOfASyncedFolderOutliveAPowerCut) {
  disk_.WatchPower(folder_.path());
  Play("open; count: 0; offline; sync list: of before");
  for (int i = 0; i < 10; ++i) {
    const std::string folder = "d" + std::to_string(i), text = "list " + std::to_string(i);
    ASSERT_TRUE(hands().Write("new", text, true).ok());
    ASSERT_TRUE(hands().Move("new", "list").ok());
    ASSERT_TRUE(hands().MakeFolder(folder).ok());
    ASSERT_TRUE(drive_->FsyncFolder().ok());
    CutPower(i);
    EXPECT_EQ(*Read("list"), text);
    EXPECT_EQ(IdOf("new"), kNoNode);
    EXPECT_NE(IdOf(folder), kNoNode);
  }
}

// ---- conflicts are settled

class ConflictTest : public TroubleTest {
 protected:
  void SetUp() override {
    Play(
        "put d/list.csv: base; open; read d/list.csv: base; put d/list.csv: theirs; write "
        "d/list.csv: ours; flush");
    const auto conflicts = drive_->Conflicts();
    ASSERT_EQ(conflicts->size(), 1u);
    copy_ = (*conflicts)[0].first;
    EXPECT_EQ((*conflicts)[0].second.conflict_copy.original_name, "list.csv");
    EXPECT_EQ(drive_->State((*conflicts)[0].second.id)->state, "conflict");
  }
  std::string copy_;
};

TEST_F(ConflictTest, HereTakesTheName) {
  ASSERT_TRUE(drive_->SettleConflict(copy_, Drive::Keep::kHere).ok());
  Play("flush; store: d/list.csv=ours; conflicts 0");
}
TEST_F(ConflictTest, ThereStaysAndTheCopyGoes) {
  ASSERT_TRUE(drive_->SettleConflict("d/list.csv", Drive::Keep::kThere).ok())
      << "named by its neighbour";
  Play("flush; store: d/list.csv=theirs; conflicts 0");
}
TEST_F(ConflictTest, BothStay) {
  ASSERT_TRUE(drive_->SettleConflict(copy_, Drive::Keep::kBoth).ok());
  FlushAll();
  EXPECT_EQ(world_.All().size(), 2u);
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(drive_->SettleConflict(copy_, Drive::Keep::kBoth).error().code, Code::kNotFound);
}
TEST_F(ConflictTest, AMoveByHandSettlesItToo) {
  ASSERT_TRUE(hands().Move(copy_, "d/mine.csv").ok());
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

}  // namespace
}  // namespace pargeter::test
