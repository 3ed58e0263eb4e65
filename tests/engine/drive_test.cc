// The engine without a face: a drive over a store in memory.
#include "engine/drive.h"

#include <gtest/gtest.h>
#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <filesystem>
#include <thread>

#include "base/file.h"
#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

TEST_F(DriveTest, WhatTheStoreHasIsShownAndRead) {
  world_.Put("list.csv", "a,b");
  world_.Put("sheets/1.jpg", "picture");
  Open();
  EXPECT_EQ(Names(""), (std::vector<std::string>{"list.csv", "sheets"}));
  EXPECT_EQ(*Read("sheets/1.jpg"), "picture");
  world_.TakeAsked();
  EXPECT_EQ(*Read("sheets/1.jpg"), "picture");
  EXPECT_TRUE(world_.TakeAsked().empty()) << "a second read asks the store nothing";
}

TEST_F(DriveTest, WhatIsWrittenArrivesOnceWithOneRequest) {
  Open();
  world_.TakeAsked();
  ASSERT_TRUE(Write("note.txt", "seen").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["note.txt"], "seen");
  EXPECT_EQ(Asked("write"), std::vector<std::string>{"write note.txt"});
}

TEST_F(DriveTest, AnEditorsSaveIsOneUpload) {
  world_.Put("f", "old");
  Open();
  ASSERT_TRUE(Write("f.tmp", "new").ok());
  ASSERT_TRUE(drive_->Rename(kRootId, "f.tmp", kRootId, "f", Drive::Replace::kYes).ok());
  world_.TakeAsked();
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"f", "new"}}));
  EXPECT_EQ(Asked("write"), std::vector<std::string>{"write f"});
  EXPECT_EQ(*Read("f"), "new");
}

TEST_F(DriveTest, WhatNeverLeftIsCancelledByItsDeletion) {
  Open();
  ASSERT_TRUE(Write("scratch", "x").ok());
  ASSERT_TRUE(drive_->Unlink(kRootId, "scratch").ok());
  world_.TakeAsked();
  FlushAll();
  EXPECT_TRUE(Asked("write").empty());
  EXPECT_TRUE(world_.All().empty());
}

TEST_F(DriveTest, MovesAreMadeByTheStore) {
  world_.Put("a", "A");
  world_.Put("d/x", "X");
  world_.Put("d/sub/y", "Y");
  Open();
  ASSERT_EQ(Names("d").size(), 2u);
  ASSERT_TRUE(drive_->Rename(kRootId, "a", IdOf("d"), "b", Drive::Replace::kYes).ok());
  ASSERT_TRUE(drive_->Rename(kRootId, "d", kRootId, "e", Drive::Replace::kYes).ok());
  FlushAll();
  EXPECT_EQ(world_.All(),
            (std::map<std::string, std::string>{{"e/b", "A"}, {"e/x", "X"}, {"e/sub/y", "Y"}}));
  EXPECT_TRUE(Asked("read").empty()) << "no bytes through here";
  EXPECT_EQ(*Read("e/sub/y"), "Y");
}

TEST_F(DriveTest, TwoFilesChangePlaces) {
  world_.Put("a", "A");
  world_.Put("b", "B");
  Open();
  ASSERT_TRUE(drive_->Rename(kRootId, "a", kRootId, "t", Drive::Replace::kYes).ok());
  ASSERT_TRUE(drive_->Rename(kRootId, "b", kRootId, "a", Drive::Replace::kYes).ok());
  ASSERT_TRUE(drive_->Rename(kRootId, "t", kRootId, "b", Drive::Replace::kYes).ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"a", "B"}, {"b", "A"}}));
}

TEST_F(DriveTest, WhatOthersHadChangedBeforeItWasDeletedHereShowsAtOnce) {
  world_.Put("f", "one");
  Open();
  ASSERT_EQ(*Read("f"), "one");
  world_.Put("f", "two");
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  EXPECT_EQ(Names(""), std::vector<std::string>{"f"});
  EXPECT_EQ(*Read("f"), "two");
}

TEST_F(DriveTest, AMoveThatNobodyLearntOfIsTakenBackAndLosesNothing) {
  world_.moves_files = true;
  world_.Put("d/a", "A");
  Open();
  Names("d");
  world_.LoseAnswers(1);
  ASSERT_TRUE(Hands(drive_.get()).Move("d/a", "b").ok());
  EXPECT_TRUE(Eventually([&] { return world_.All().count("b") == 1; }));
  ASSERT_TRUE(
      Hands(drive_.get()).Move("b", "c").ok());  // wanted elsewhere before it is known where it is
  Close();
  Open();
  FlushAll();
  EXPECT_EQ(world_.All().count("b") + world_.All().count("d/a"), 0u);
  EXPECT_EQ(world_.All()["c"], "A");
  EXPECT_EQ(*Read("c"), "A");
}

TEST_F(DriveTest, WhatMovedUnlearntIsNotMissedAtItsOldPlace) {
  world_.moves_files = world_.moves_folders = true;
  world_.Put("d/a", "A");
  world_.Put("e/b", "B");
  Open();
  Names("d");
  Names("e");
  ASSERT_TRUE(Read("d/a").ok());
  for (const char* move : {"file", "folder"}) {
    world_.LoseAnswers(1);
    ASSERT_TRUE((move == std::string("file") ? Hands(drive_.get()).Move("d/a", "d/c")
                                             : Hands(drive_.get()).Move("e", "f"))
                    .ok());
    EXPECT_TRUE(Eventually(
        [&] { return world_.All().count(move == std::string("file") ? "d/c" : "f/b") == 1; }));
    ASSERT_TRUE(drive_->Refresh().ok());  // the store has it at the new place already
    EXPECT_EQ(drive_->State(IdOf("d/c"))->state == "remote", false);
  }
  FlushAll();
  EXPECT_EQ(Names("d"), std::vector<std::string>{"c"});
  EXPECT_EQ(*Read("f/b"), "B");
  EXPECT_EQ(world_.All().count("d/c") + world_.All().count("f/b"), 2u);
  EXPECT_EQ(world_.All().count("d/a") + world_.All().count("e/b"), 0u);
  EXPECT_TRUE(Asked("write").empty());
}

TEST_F(DriveTest, AFolderLivesOnWhenItsLastFileGoes) {
  world_.Put("d/x", "X");
  Open();
  ASSERT_EQ(Names("d").size(), 1u);
  ASSERT_TRUE(drive_->Unlink(IdOf("d"), "x").ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"d/", ""}}));
  ASSERT_TRUE(drive_->RemoveFolder(kRootId, "d").ok());
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
}

TEST_F(DriveTest, AFullFolderIsNotRemoved) {
  world_.Put("d/x", "X");
  Open();
  EXPECT_EQ(drive_->RemoveFolder(kRootId, "d").error().code, Code::kNotEmpty);
  EXPECT_EQ(drive_->Unlink(kRootId, "d").error().code, Code::kIsFolder);
}

TEST_F(DriveTest, ManyDeletionsGoInOneRequest) {
  for (int i = 0; i < 50; ++i) world_.Put("d/" + std::to_string(i), "x");
  world_.Put("d/keep", "k");
  Open();
  ASSERT_EQ(Names("d").size(), 51u);
  world_.TakeAsked();
  const NodeId d = IdOf("d");
  for (int i = 0; i < 50; ++i) ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
  FlushAll();
  EXPECT_EQ(world_.All().size(), 1u);
  EXPECT_LT(world_.TakeAsked().size(), 20u);
}

TEST_F(DriveTest, ChangedOnBothSidesBothSurvive) {
  world_.Put("f.csv", "base");
  Open();
  ASSERT_EQ(*Read("f.csv"), "base");
  world_.Put("f.csv", "theirs");
  ASSERT_TRUE(Write("f.csv", "ours").ok());
  FlushAll();
  const auto all = world_.All();
  ASSERT_EQ(all.size(), 2u);
  EXPECT_EQ(all.at("f.csv"), "theirs");
  const auto kept =
      std::find_if(all.begin(), all.end(), [](const auto& o) { return o.second == "ours"; });
  ASSERT_NE(kept, all.end());
  EXPECT_EQ(kept->first.compare(0, 17, "f (kept from isle"), 0) << kept->first;
  EXPECT_EQ(*Read("f.csv"), "theirs");
  EXPECT_EQ(*Read(kept->first), "ours");
}

TEST_F(DriveTest, DeletedThereAndChangedHereComesBack) {
  world_.Put("f", "base");
  Open();
  ASSERT_EQ(*Read("f"), "base");
  world_.Erase("f");
  ASSERT_TRUE(Write("f", "ours").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["f"], "ours");
}

TEST_F(DriveTest, DeletedHereAndChangedThereStays) {
  world_.Put("f", "base");
  Open();
  ASSERT_EQ(*Read("f"), "base");
  world_.Put("f", "theirs");
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["f"], "theirs");
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("f"), "theirs");
}

// A new mode is on its way when it is deleted, and finds that the store has another version.
TEST_F(DriveTest, DeletedHereAndChangedThereStaysThoughThatWasLearntMeanwhile) {
  world_.Put("f", "seen");
  Open();
  ASSERT_EQ(*Read("f"), "seen");
  world_.Put("f", "unseen");
  std::atomic<bool> removed{false};
  world_.on_look = [&](const std::string&) {
    if (removed.exchange(true)) return;
    EXPECT_TRUE(drive_->Unlink(kRootId, "f").ok());
  };
  ASSERT_TRUE(Hands(drive_.get()).SetMode("f", 0600).ok());
  ASSERT_TRUE(Eventually([&] { return removed.load(); }));
  FlushAll();
  world_.on_look = nullptr;
  EXPECT_EQ(world_.All()["f"], "unseen");
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("f"), "unseen");
}

TEST_F(DriveTest, CreatedOnBothSidesBothSurviveAndEqualOnesAreOne) {
  Open();
  world_.Put("same", "equal");
  world_.Put("other", "theirs");
  ASSERT_TRUE(Write("same", "equal").ok());
  ASSERT_TRUE(Write("other", "ours").ok());
  FlushAll();
  EXPECT_EQ(world_.All().size(), 3u);
  EXPECT_EQ(*Read("same"), "equal");
  EXPECT_EQ(*Read("other"), "theirs");
}

TEST_F(DriveTest, ALostAnswerIsNoConflict) {
  Open();
  world_.LoseAnswers(1);
  ASSERT_TRUE(Write("f", "once").ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"f", "once"}}));
  EXPECT_EQ(Names(""), std::vector<std::string>{"f"});
}

TEST_F(DriveTest, ChangesAtTheStoreShowAfterALook) {
  world_.Put("a", "1");
  world_.Put("b", "2");
  Open();
  ASSERT_EQ(*Read("a"), "1");
  world_.Put("a", "111");
  world_.Erase("b");
  world_.Put("c", "3");
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(Names(""), (std::vector<std::string>{"a", "c"}));
  EXPECT_EQ(*Read("a"), "111");
}

TEST_F(DriveTest, AnOpenFileReadsItsVersionOrNothing) {
  world_.Put("f", std::string(3000000, 'o'));
  Open();
  auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  ASSERT_TRUE(opened.ok());
  std::string piece(4096, '\0');
  ASSERT_TRUE(drive_->Read(opened->file, piece.data(), piece.size(), 0).ok());
  world_.Put("f", std::string(3000000, 'n'));
  ASSERT_TRUE(drive_->Refresh().ok());
  for (std::uint64_t at = 0; at < 3000000; at += 100000) {
    const auto n = drive_->Read(opened->file, piece.data(), piece.size(), at);
    if (!n.ok()) {
      EXPECT_EQ(n.error().code, Code::kStale);
    } else {
      EXPECT_EQ(piece.substr(0, *n), std::string(*n, 'o'));
    }
  }
  drive_->Release(opened->file);
  EXPECT_EQ((*Read("f"))[0], 'n');
}

TEST_F(DriveTest, ADeletedFileIsReadOnByWhoeverHasItOpen) {
  world_.Put("f", "still here");
  Open();
  auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  EXPECT_EQ(*ReadOpen(opened->file), "still here");
  EXPECT_EQ(IdOf("f"), kNoNode);
  drive_->Release(opened->file);
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
}

TEST_F(DriveTest, WhatIsPendingOutlivesTheProcessAndGoesUpOnce) {
  Open();
  world_.SetOffline(true);
  ASSERT_TRUE(Write("f", "safe").ok());
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "d", 0755, 0, 0).ok());
  ASSERT_TRUE(Write("d/g", "too").ok());
  EXPECT_EQ(drive_->Flush(Duration(300)).error().code, Code::kTimeout);
  Close();
  // the cache may be emptied by hand; pending data is elsewhere
  std::filesystem::remove_all(folder_ / "cache");
  world_.SetOffline(false);
  Open();
  EXPECT_EQ(*Read("f"), "safe");
  FlushAll();
  EXPECT_EQ(world_.All(),
            (std::map<std::string, std::string>{{"d/", ""}, {"d/g", "too"}, {"f", "safe"}}));
}

TEST_F(DriveTest, OfflineIsNoticedOnceAndWhatIsHereWorks) {
  world_.Put("here", "h");
  world_.Put("away", "a");
  Open();
  ASSERT_EQ(*Read("here"), "h");
  world_.SetOffline(true);
  EXPECT_EQ(Read("away").error().code, Code::kUnavailable);
  world_.TakeAsked();
  EXPECT_EQ(*Read("here"), "h");
  EXPECT_EQ(Read("away").error().code, Code::kUnavailable);
  EXPECT_TRUE(Asked("read").empty()) << "asked again although it is known to be offline";
  EXPECT_NE(drive_->Summary().offline_since, 0);
  ASSERT_TRUE(Write("new", "n").ok());
  world_.SetOffline(false);
  FlushAll();  // back is noticed without being told
  EXPECT_EQ(world_.All()["new"], "n");
  EXPECT_EQ(*Read("away"), "a");
}

TEST_F(DriveTest, AMountedDriveStartsOfflineFromItsIndex) {
  world_.Put("d/f", "x");
  Open();
  ASSERT_EQ(*Read("d/f"), "x");
  Close();
  world_.SetOffline(true);
  Open();
  EXPECT_EQ(Names("d"), std::vector<std::string>{"f"});
  EXPECT_EQ(*Read("d/f"), "x");
}

// Who knows that the network is back does not wait for the next trial.
TEST_F(DriveTest, ARefreshTriesAtOnceWhetherTheStoreIsBack) {
  trial_pause_ = Duration(600'000);
  world_.Put("f", "x");
  Open();
  world_.SetOffline(true);
  EXPECT_EQ(Read("f").error().code, Code::kUnavailable);
  EXPECT_EQ(drive_->Refresh().error().code, Code::kUnavailable);
  EXPECT_NE(drive_->Summary().offline_since, 0);
  world_.SetOffline(false);
  EXPECT_EQ(Read("f").error().code, Code::kUnavailable);
  EXPECT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(drive_->Summary().offline_since, 0);
  EXPECT_EQ(*Read("f"), "x");
}

TEST_F(DriveTest, TheCacheStaysWithinItsBudgetAndPendingIsNeverDropped) {
  for (int i = 0; i < 20; ++i)
    world_.Put("f" + std::to_string(i), std::string(100000, static_cast<char>('a' + i)));
  Open(500000);
  world_.SetOffline(false);
  for (int i = 0; i < 20; ++i) {
    ASSERT_EQ(Read("f" + std::to_string(i))->size(), 100000u);
    ASSERT_LE(drive_->Summary().cache_bytes, 500000u);
  }
  world_.SetOffline(true);
  ASSERT_TRUE(Write("mine", std::string(50000, 'm')).ok());
  world_.SetOffline(false);
  EXPECT_EQ(Read("mine")->size(), 50000u);
  Ignore(drive_->Evict({kRootId}, {}));
  EXPECT_EQ(Read("mine")->size(), 50000u);
  FlushAll();
  EXPECT_EQ(world_.All()["mine"], std::string(50000, 'm'));
}

TEST_F(DriveTest, AFullDiskIsSaidAtTheWriteAndReadingGoesThrough) {
  world_.Put("f", "content");
  Open();
  disk_.full = true;
  EXPECT_EQ(Write("new", std::string(100000, 'n')).error().code, Code::kNoSpace);
  EXPECT_EQ(*Read("f"), "content");
  EXPECT_EQ(drive_->Summary().cache_bytes, 0u);
}

TEST_F(DriveTest, ABrokenCacheDiskIsAnErrorNotAWrongByte) {
  world_.Put("f", "content");
  Open();
  ASSERT_EQ(*Read("f"), "content");
  disk_.broken = true;
  EXPECT_EQ(Read("f").error().code, Code::kIo);
  disk_.broken = false;
  EXPECT_EQ(*Read("f"), "content");
}

TEST_F(DriveTest, AForbiddenUploadIsKeptAndExplained) {
  Open();
  {
    const Lock lock(world_.mutex);
    world_.forbid = "f";
  }
  ASSERT_TRUE(Write("f", "kept").ok());
  // (a wait of an hour is cut short: nothing that is left can go up)
  EXPECT_EQ(drive_->Flush(Duration(3600'000)).error().code, Code::kPermission);
  const auto queue = drive_->Queue(10);
  ASSERT_TRUE(queue.ok());
  ASSERT_EQ(queue->size(), 1u);
  EXPECT_NE((*queue)[0].second.error.find("not allowed"), std::string::npos);
  EXPECT_EQ(*Read("f"), "kept");
}

TEST_F(DriveTest, AReadOnlyDriveSaysSo) {
  world_.Put("f", "x");
  read_only_ = true;
  Open();
  EXPECT_EQ(*Read("f"), "x");
  EXPECT_EQ(Write("g", "y").error().code, Code::kReadOnly);
  EXPECT_EQ(drive_->Unlink(kRootId, "f").error().code, Code::kReadOnly);
  EXPECT_EQ(drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite).error().code, Code::kReadOnly);
}

TEST_F(DriveTest, SymbolicLinksTravel) {
  Open();
  ASSERT_TRUE(drive_->MakeSymlink(kRootId, "link", "some/where", 0, 0).ok());
  FlushAll();
  Close();
  std::filesystem::remove_all(folder_ / "state");
  Open();
  const NodeId id = IdOf("link");
  EXPECT_EQ(*drive_->ReadSymlink(id), "some/where");
}

// The kernel asks again then, and follows it.
TEST_F(DriveTest, ASymbolicLinkIsNotOpenedAsAFile) {
  Open();
  ASSERT_TRUE(drive_->MakeSymlink(kRootId, "link", "target", 0, 0).ok());
  EXPECT_EQ(drive_->Create(kRootId, "link", 0644, 0, 0, false).error().code, Code::kStale);
  EXPECT_EQ(drive_->OpenNode(IdOf("link"), Drive::Intent::kRead).error().code, Code::kStale);
}

TEST_F(DriveTest, WhatWaitsOnAReadOnlyDriveIsSaid) {
  Open();
  world_.SetOffline(true);
  ASSERT_TRUE(Write("f", "waiting").ok());
  Close();
  world_.SetOffline(false);
  read_only_ = true;
  Open();
  EXPECT_EQ(drive_->Flush(Duration(1000)).error().code, Code::kReadOnly);
  Close();
  read_only_ = false;
  Open();
  FlushAll();
  EXPECT_EQ(world_.All()["f"], "waiting");
}

TEST_F(DriveTest, ASecondProcessIsKeptOut) {
  Open();
  DriveOptions o;
  o.name = "sheets";
  o.state_folder = folder_ / "state";
  o.cache_folder = folder_ / "cache";
  const auto second = Drive::Open(o, nullptr);
  ASSERT_FALSE(second.ok());
  EXPECT_EQ(second.error().code, Code::kBusy);
}

TEST_F(DriveTest, PartsNeverReadComeFromTheVersionThatWasChanged) {
  world_.Put("big", std::string(3000000, 'o'));
  Open();
  auto opened = drive_->OpenNode(IdOf("big"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  ASSERT_TRUE(drive_->Write(opened->file, "NEW", 1500000, false).ok());
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  drive_->Release(opened->file);
  FlushAll();
  std::string expected(3000000, 'o');
  expected.replace(1500000, 3, "NEW");
  EXPECT_TRUE(world_.All()["big"] == expected);
}

// Between the kernel's look and its wish to create.
// Between them the store is asked for more than is missing, rather than for each gap.
TEST_F(DriveTest, AFileChangedInManyPlacesIsCompletedByFewRequests) {
  std::string scan(3 << 20, 'o');
  world_.Put("scan", scan);
  quiet_ = Duration(60000);
  Open();
  const auto opened = drive_->OpenNode(IdOf("scan"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  for (std::uint64_t at = 0; at < scan.size(); at += 5000) {
    ASSERT_TRUE(drive_->Write(opened->file, "N", at, false).ok());
    scan[at] = 'N';
  }
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  drive_->Release(opened->file);
  world_.TakeAsked();
  FlushAll();
  EXPECT_LE(Asked("read").size(), 2u);
  EXPECT_TRUE(world_.All()["scan"] == scan);
}

TEST_F(DriveTest, WhatAppearedMeanwhileIsCutOffByWhoeverCreatesIt) {
  world_.Put("f", "longer than what is written now");
  Open();
  ASSERT_EQ(Names("").size(), 1u);
  const auto opened = drive_->Create(kRootId, "f", 0644, 0, 0, false, Drive::Intent::kTruncate);
  ASSERT_TRUE(opened.ok());
  EXPECT_EQ(opened->attr.size, 0u);
  ASSERT_TRUE(drive_->Write(opened->file, "new", 0, false).ok());
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  drive_->Release(opened->file);
  FlushAll();
  EXPECT_EQ(world_.All()["f"], "new");
}

TEST_F(DriveTest, CutAndGrownFilesReadZerosNotTheOldBytes) {
  world_.Put("f", std::string(200000, 'o'));
  Open();
  const NodeId id = IdOf("f");
  AttrChange cut, grow;
  cut.size = 1000;
  grow.size = 5000;
  ASSERT_TRUE(drive_->SetAttr(id, cut, nullptr).ok());
  ASSERT_TRUE(drive_->SetAttr(id, grow, nullptr).ok());
  FlushAll();
  EXPECT_EQ(world_.All()["f"], std::string(1000, 'o') + std::string(4000, '\0'));
}

// Whoever looks through the processes' open files holds a lock for a moment longer than its owner.
TEST_F(DriveTest, ALockThatIsAboutToGoIsWaitedFor) {
  Open();
  for (const char* path : {"state/lock", "cache/.lock"}) {
    Close();
    auto held = LockFile(folder_ / path);
    ASSERT_TRUE(held.ok()) << path;
    const Fd watch(::inotify_init1(IN_CLOEXEC));
    ASSERT_GE(::inotify_add_watch(watch.get(), (folder_ / path).c_str(), IN_CLOSE), 0);
    std::thread goes([&] {  // when it has been refused once
      char event[sizeof(inotify_event) + 256];
      pollfd refused{watch.get(), POLLIN, 0};
      EXPECT_EQ(::poll(&refused, 1, 10'000), 1);
      EXPECT_GT(::read(watch.get(), event, sizeof event), 0);
      held->Reset();
    });
    Open();
    goes.join();
  }
}

}  // namespace
}  // namespace pargeter::test
