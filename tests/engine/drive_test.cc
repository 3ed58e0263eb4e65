// The engine without a face: a drive over a store in memory.
#include "engine/drive.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <filesystem>
#include <thread>

#include "base/file.h"
#include "support/story.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

TEST_F(DriveTest, WhatTheStoreHasIsShownAndRead) {
  Play(
      "put list.csv: a,b; put sheets/1.jpg: picture; open; names: list.csv sheets; read "
      "sheets/1.jpg: picture; forget; read sheets/1.jpg: picture");
  EXPECT_TRUE(world_.TakeAsked().empty()) << "a second read asks the store nothing";
}

TEST_F(DriveTest, WhatIsWrittenArrivesOnceWithOneRequest) {
  Play("open; forget; write note.txt: seen; flush; has note.txt: seen");
  EXPECT_EQ(Asked("write"), std::vector<std::string>{"write note.txt"});
}

TEST_F(DriveTest, AnEditorsSaveIsOneUpload) {
  Play("put f: old; open; write f.tmp: new; move f.tmp f; forget; flush; store: f=new");
  EXPECT_EQ(Asked("write"), std::vector<std::string>{"write f"});
  EXPECT_EQ(*Read("f"), "new");
}

TEST_F(DriveTest, WhatNeverLeftIsCancelledByItsDeletion) {
  Play("open; write scratch: x; remove scratch; forget; flush; unasked write; store:");
}

TEST_F(DriveTest, MovesAreMadeByTheStore) {
  Play("put a: A; put d/x: X; put d/sub/y: Y; open; count d: 2; move a d/b; move d e; flush");
  EXPECT_EQ(world_.All(), (Files{{"e/b", "A"}, {"e/x", "X"}, {"e/sub/y", "Y"}}));
  EXPECT_TRUE(Asked("read").empty()) << "no bytes through here";
  EXPECT_EQ(*Read("e/sub/y"), "Y");
}

TEST_F(DriveTest, TwoFilesChangePlaces) {
  Play("put a: A; put b: B; open; move a t; move b a; move t b; flush; store: a=B, b=A");
}

TEST_F(DriveTest, WhatOthersHadChangedBeforeItWasDeletedHereShowsAtOnce) {
  Play("put f: one; open; read f: one; put f: two; remove f; flush; names: f; read f: two");
}

TEST_F(DriveTest, AMoveThatNobodyLearntOfIsTakenBackAndLosesNothing) {
  Play("set moves-files; put d/a: A; open; list d; lose-next; move d/a b; at b");
  ASSERT_TRUE(hands().Move("b", "c").ok());  // wanted elsewhere before it is known where it is
  Play("close; open; flush");
  EXPECT_EQ(world_.All().count("b") + world_.All().count("d/a"), 0u);
  Play("has c: A; read c: A");
}

TEST_F(DriveTest, WhatMovedUnlearntIsNotMissedAtItsOldPlace) {
  Play("set moves-files moves-folders; put d/a: A; put e/b: B; open; list d; list e; fetch d/a");
  for (const char* move : {"file", "folder"}) {
    world_.LoseAnswers(1);
    ASSERT_TRUE(
        (move == std::string("file") ? hands().Move("d/a", "d/c") : hands().Move("e", "f")).ok());
    EXPECT_TRUE(Eventually(
        [&] { return world_.All().count(move == std::string("file") ? "d/c" : "f/b") == 1; }));
    ASSERT_TRUE(drive_->Refresh().ok());  // the store has it at the new place already
    EXPECT_EQ(drive_->State(IdOf("d/c"))->state == "remote", false);
  }
  Play("flush; names d: c; read f/b: B");
  EXPECT_EQ(world_.All().count("d/c") + world_.All().count("f/b"), 2u);
  EXPECT_EQ(world_.All().count("d/a") + world_.All().count("e/b"), 0u);
  EXPECT_TRUE(Asked("write").empty());
}

TEST_F(DriveTest, AFolderLivesOnWhenItsLastFileGoes) {
  Play("put d/x: X; open; count d: 1; remove d/x; flush; store: d/=; rmdir d; flush; store:");
}

TEST_F(DriveTest, AFullFolderIsNotRemoved) {
  Play("put d/x: X; open");
  EXPECT_EQ(drive_->RemoveFolder(kRootId, "d").error().code, Code::kNotEmpty);
  EXPECT_EQ(drive_->Unlink(kRootId, "d").error().code, Code::kIsFolder);
}

TEST_F(DriveTest, ManyDeletionsGoInOneRequest) {
  for (int i = 0; i < 50; ++i) world_.Put("d/" + std::to_string(i), "x");
  Play("put d/keep: k; open; count d: 51; forget");
  const NodeId d = IdOf("d");
  for (int i = 0; i < 50; ++i) ASSERT_TRUE(drive_->Unlink(d, std::to_string(i)).ok());
  FlushAll();
  EXPECT_EQ(world_.All().size(), 1u);
  EXPECT_LT(world_.TakeAsked().size(), 20u);
}

// A new mode is on its way when it is deleted, and finds that the store has another version.
TEST_F(DriveTest, DeletedHereAndChangedThereStaysThoughThatWasLearntMeanwhile) {
  Play("put f: seen; open; read f: seen; put f: unseen");
  std::atomic<bool> removed{false};
  world_.on_look = [&](const std::string&) {
    if (removed.exchange(true)) return;
    EXPECT_TRUE(drive_->Unlink(kRootId, "f").ok());
  };
  ASSERT_TRUE(hands().SetMode("f", 0600).ok());
  ASSERT_TRUE(Eventually([&] { return removed.load(); }));
  FlushAll();
  world_.on_look = nullptr;
  Play("has f: unseen; refresh; read f: unseen");
}

TEST_F(DriveTest, CreatedOnBothSidesBothSurviveAndEqualOnesAreOne) {
  Play("open; put same: equal; put other: theirs; write same: equal; write other: ours; flush");
  EXPECT_EQ(world_.All().size(), 3u);
  Play("read same: equal; read other: theirs");
}

TEST_F(DriveTest, ALostAnswerIsNoConflict) {
  Play("open; lose-next; write f: once; flush; store: f=once; names: f");
}

TEST_F(DriveTest, ChangesAtTheStoreShowAfterALook) {
  Play(
      "put a: 1; put b: 2; open; read a: 1; put a: 111; erase b; put c: 3; refresh; names: a c; "
      "read a: 111");
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
  Play("put f: still here; open");
  auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  EXPECT_EQ(*ReadOpen(opened->file), "still here");
  EXPECT_EQ(IdOf("f"), kNoNode);
  drive_->Release(opened->file);
  Play("flush; store:");
}

TEST_F(DriveTest, WhatIsPendingOutlivesTheProcessAndGoesUpOnce) {
  Play("open; offline; write f: safe");
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "d", 0755, 0, 0).ok());
  ASSERT_TRUE(Write("d/g", "too").ok());
  EXPECT_EQ(drive_->Flush(Duration(300)).error().code, Code::kTimeout);
  Close();
  // the cache may be emptied by hand; pending data is elsewhere
  std::filesystem::remove_all(folder_ / "cache");
  Play("online; open; read f: safe; flush; store: d/=, d/g=too, f=safe");
}

TEST_F(DriveTest, OfflineIsNoticedOnceAndWhatIsHereWorks) {
  Play("put here: h; put away: a; open; read here: h; offline");
  EXPECT_EQ(Read("away").error().code, Code::kUnavailable);
  Play("forget; read here: h");
  EXPECT_EQ(Read("away").error().code, Code::kUnavailable);
  EXPECT_TRUE(Asked("read").empty()) << "asked again although it is known to be offline";
  EXPECT_NE(drive_->Summary().offline_since, 0);
  Play("write new: n; online");
  FlushAll();  // back is noticed without being told
  Play("has new: n; read away: a");
}

TEST_F(DriveTest, AMountedDriveStartsOfflineFromItsIndex) {
  Play("put d/f: x; open; read d/f: x; close; offline; open; names d: f; read d/f: x");
}

// Who knows that the network is back does not wait for the next trial.
TEST_F(DriveTest, ARefreshTriesAtOnceWhetherTheStoreIsBack) {
  Play("set trial=600000; put f: x; open; offline");
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
  Play("put f: content; open");
  disk_.full = true;
  EXPECT_EQ(Write("new", std::string(100000, 'n')).error().code, Code::kNoSpace);
  EXPECT_EQ(*Read("f"), "content");
  EXPECT_EQ(drive_->Summary().cache_bytes, 0u);
}

TEST_F(DriveTest, ABrokenCacheDiskIsAnErrorNotAWrongByte) {
  Play("put f: content; open; read f: content");
  disk_.broken = true;
  EXPECT_EQ(Read("f").error().code, Code::kIo);
  disk_.broken = false;
  EXPECT_EQ(*Read("f"), "content");
}

TEST_F(DriveTest, AForbiddenUploadIsKeptAndExplained) {
  Open();
  world_.SetPath(&FakeWorld::forbid, "f");
  ASSERT_TRUE(Write("f", "kept").ok());
  // (a wait of an hour is cut short: nothing that is left can go up)
  EXPECT_EQ(drive_->Flush(Duration(3600'000)).error().code, Code::kPermission);
  const auto queue = drive_->Queue(10);
  ASSERT_TRUE(queue.ok());
  ASSERT_EQ(queue->size(), 1u);
  EXPECT_THAT((*queue)[0].second.pending.error, HasSubstr("not allowed"));
  EXPECT_EQ(*Read("f"), "kept");
}

TEST_F(DriveTest, AReadOnlyDriveSaysSo) {
  world_.Put("f", "x");
  read_only_ = true;
  Play("open; read f: x");
  EXPECT_EQ(Write("g", "y").error().code, Code::kReadOnly);
  EXPECT_EQ(drive_->Unlink(kRootId, "f").error().code, Code::kReadOnly);
  EXPECT_EQ(drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite).error().code, Code::kReadOnly);
}

TEST_F(DriveTest, SymbolicLinksTravel) {
  Open();
  ASSERT_TRUE(drive_->MakeSymlink(kRootId, "link", "some/where", 0, 0).ok());
  Play("flush; close");
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
  Play("open; offline; write f: waiting; close; online");
  read_only_ = true;
  Open();
  EXPECT_EQ(drive_->Flush(Duration(1000)).error().code, Code::kReadOnly);
  Close();
  read_only_ = false;
  Play("open; flush; has f: waiting");
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
  Play("set quiet=60000; open");
  const auto opened = drive_->OpenNode(IdOf("scan"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  for (std::uint64_t at = 0; at < scan.size(); at += 5000) {
    ASSERT_TRUE(drive_->Write(opened->file, "N", at, false).ok());
    scan[at] = 'N';
  }
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  drive_->Release(opened->file);
  Play("forget; flush");
  EXPECT_LE(Asked("read").size(), 2u);
  EXPECT_TRUE(world_.All()["scan"] == scan);
}

TEST_F(DriveTest, WhatAppearedMeanwhileIsCutOffByWhoeverCreatesIt) {
  Play("put f: longer than what is written now; open; count: 1");
  const auto opened = drive_->Create(kRootId, "f", 0644, 0, 0, false, Drive::Intent::kTruncate);
  ASSERT_TRUE(opened.ok());
  EXPECT_EQ(opened->attr.size, 0u);
  ASSERT_TRUE(drive_->Write(opened->file, "new", 0, false).ok());
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  drive_->Release(opened->file);
  Play("flush; has f: new");
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
