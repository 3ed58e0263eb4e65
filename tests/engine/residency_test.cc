// What is on this disk, and what decides it: pins, eviction, fetches, checks.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <future>
#include <thread>

#include "support/residency_fixture.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

TEST_F(ResidencyTest, APinnedFolderIsFetchedAndStays) {
  for (int i = 0; i < 10; ++i) world_.Put("pressed/s" + std::to_string(i), std::string(50000, 's'));
  for (int i = 0; i < 10; ++i) world_.Put("loose/l" + std::to_string(i), std::string(50000, 'l'));
  Open(700000);
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  // soon, and not when somebody looks after what was left
  ASSERT_TRUE(Eventually([&] { return StateOf("pressed") == "pinned"; }, 8));
  for (int i = 0; i < 10; ++i) ASSERT_TRUE(Read("loose/l" + std::to_string(i)).ok());
  EXPECT_EQ(OnDisk("pressed"), 500000u);
  const Evicted evicted = Evict("");
  EXPECT_EQ(evicted.kept, 10u);
  EXPECT_EQ(evicted.kept_names.size(), 5u);
  EXPECT_EQ(OnDisk("pressed"), 500000u);
  EXPECT_EQ(OnDisk("loose"), 0u);
  EXPECT_EQ(drive_->Summary().sums.pinned_on_disk, 500000);
  // a restart, another name, another version and a newcomer change nothing of that
  Close();
  Open(700000);
  Play("move pressed dried; flush");
  EXPECT_EQ(StateOf("dried"), "pinned");
  world_.Put("dried/s3", std::string(60000, 'n'));
  world_.Put("dried/new", std::string(1000, 'n'));
  Play("refresh; list dried; refresh");
  ASSERT_TRUE(Eventually([&] { return OnDisk("dried") == 511000u; })) << OnDisk("dried");
  world_.SetOffline(true);
  EXPECT_EQ(*Read("dried/s3"), std::string(60000, 'n'));
  EXPECT_EQ(drive_->Unpin(IdOf("dried/s3")).error().code, Code::kRefused);
  ASSERT_TRUE(drive_->Unpin(IdOf("dried")).ok());
  EXPECT_EQ(StateOf("dried"), "cached");
}

// A hole takes no room; when the store has the file it is cache like any other, and counts whole.
TEST_F(ResidencyTest, HolesOfAWaitingFileTakeNoRoom) {
  Play("set quiet=60000; open; write sparse: begins");
  ASSERT_TRUE(hands().Patch("sparse", "ends", 50u << 20).ok());
  const auto blocks = [&] { return drive_->GetAttr(IdOf("sparse"))->on_disk; };
  EXPECT_EQ(blocks(), 10u);
  EXPECT_EQ(drive_->Summary().cache_bytes, 10u);
  const std::uint64_t size = drive_->GetAttr(IdOf("sparse"))->size;
  Play("close; open");
  EXPECT_LT(blocks(), 64u << 10) << "after a start the file system is asked";
  ASSERT_TRUE(hands().Patch("sparse", std::string(1 << 20, 'm'), 20u << 20).ok());
  EXPECT_GE(blocks(), 1u << 20);
  EXPECT_LT(blocks(), 2u << 20);
  disk_.bytes_read = 0;
  FlushAll();
  EXPECT_LT(disk_.bytes_read, 4u << 20) << "holes are not read from the disk";
  EXPECT_EQ(world_.All().at("sparse").size(), size);
  EXPECT_EQ(drive_->GetAttr(IdOf("sparse"))->on_disk, size);
  Play("remove sparse; flush");
}

TEST_F(ResidencyTest, ADeletedFileWithAHoleGivesBackWhatItTook) {
  Open();
  ASSERT_TRUE(Write("stays", std::string(500000, 's')).ok());
  Play("write gap: begins; patch gap 1000000: ends");
  EXPECT_EQ(drive_->Summary().cache_bytes, 500010u);
  Play("remove gap; flush");
  EXPECT_EQ(drive_->Summary().cache_bytes, 500000u);
}

// Its size was journalled, and of its bytes nothing: they are here all the same.
TEST_F(ResidencyTest, WhatNobodyHadClosedWhenTheProcessDiedIsCounted) {
  Play("set quiet=60000; open");
  ASSERT_TRUE(Write("stays", std::string(500000, 's')).ok());
  auto open = drive_->Create(kRootId, "log", 0644, 0, 0, false);
  ASSERT_TRUE(open.ok() && drive_->Write(open->file, std::string(300000, 'l'), 0, false).ok());
  ASSERT_TRUE(hands().SetMode("log", 0600).ok());
  disk_.DieAt(disk_.operations() + 1);
  open->file.reset();
  Close();
  disk_.Heal();
  Open();
  EXPECT_EQ(*Read("log"), std::string(300000, 'l'));
  EXPECT_EQ(drive_->Summary().cache_bytes, 800000u);
  ASSERT_TRUE(hands().Remove("log").ok());
  EXPECT_EQ(drive_->Summary().cache_bytes, 500000u);
}

TEST_F(ResidencyTest, WhatCouldNotBeEvictedIsStillCounted) {
  quiet_ = Duration(60000);
  world_.Put("a", std::string(50000, 'a'));
  world_.Put("b", std::string(50000, 'b'));
  Open();
  Names("");
  for (std::uint64_t n = 1; n < 16; ++n) {
    ASSERT_EQ(Read("a")->size() + Read("b")->size(), 100000u);
    Evict("", {.dry_run = true});  // it is written down
    disk_.FailAt(disk_.operations() + n);
    Ignore(drive_->Evict({kRootId}, {}));
    disk_.Heal();
    EXPECT_EQ(drive_->Summary().cache_bytes,
              static_cast<std::uint64_t>(drive_->SumsOf(kRootId)->on_disk))
        << "operation " << n << " failed";
  }
}

TEST_F(ResidencyTest, AFaultWhileANewVersionIsTakenInMixesNothing) {
  std::string former(2 << 20, 'f');
  const auto read_at = [&](std::uint64_t offset) {
    const auto opened = drive_->OpenNode(IdOf("sheet"), Drive::Intent::kRead);
    char piece[1000];
    if (!opened.ok()) return;
    Ignore(drive_->Read(opened->file, piece, sizeof piece, offset));
    drive_->Release(opened->file);
  };
  for (std::uint64_t n = 1; n < 24; ++n) {
    world_.Put("sheet", former);
    if (!drive_) Open();
    ASSERT_TRUE(drive_->Refresh().ok());
    Names("");
    Evict("");
    read_at(0);
    Evict("", {.dry_run = true});  // that is written down
    ASSERT_TRUE(OnDisk("sheet") > 0 && OnDisk("sheet") < former.size());
    std::string later(2 << 20, static_cast<char>('A' + n));
    world_.Put("sheet", later);
    disk_.FailAt(disk_.operations() + n);
    read_at(former.size() - 1000);  // there is another
    disk_.Heal();
    Result<std::string> got = Error(Code::kIo, "");
    ASSERT_TRUE(Eventually([&] { return (got = hands().Read("sheet")).ok(); }));
    EXPECT_TRUE(*got == later) << "operation " << n << " failed; wrong from "
                               << got->find_first_not_of(later[0]) << " to "
                               << got->find_last_not_of(later[0]) << " of " << got->size();
    former = later;
  }
}

TEST_F(ResidencyTest, OneFileThatCannotBeReadKeepsNoOtherAway) {
  for (int i = 0; i < 40; ++i) world_.Put("pressed/s" + std::to_string(i), "sheet");
  world_.SetPath(&FakeWorld::unreadable, "pressed/s0");
  Play("open; list pressed");
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  EXPECT_TRUE(Eventually([&] { return drive_->SumsOf(IdOf("pressed"))->whole == 39; }, 5));
  EXPECT_TRUE(Eventually([&] { return !drive_->Summary().last_error.empty(); }, 5));
}

TEST_F(ResidencyTest, APinOutlivesAnEditorsWayToSave) {
  Play("put list.csv: one; open");
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("list.csv")).ok());
  Play("write list.csv.tmp: two; move list.csv.tmp list.csv; flush");
  EXPECT_EQ(StateOf("list.csv"), "pinned");
}

TEST_F(ResidencyTest, APinOutlivesAPowerCut) {
  disk_.WatchPower(folder_.path());
  world_.Put("pressed/s", std::string(50000, 's'));
  Open();
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  Kill();
  disk_.PowerCut(5);
  boot_id_ = "two";
  Open();
  EXPECT_TRUE(Eventually([&] { return StateOf("pressed") == "pinned" && OnDisk("pressed") > 0; }));
}

TEST_F(ResidencyTest, MoreThanTheCacheHoldsIsNotPinned) {
  world_.Put("big/a", std::string(600000, 'a'));
  world_.Put("big/b", std::string(600000, 'b'));
  Open(1000000);
  Names("");
  const Status refused = drive_->Pin(IdOf("big"));
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kNoSpace);
  EXPECT_THAT(refused.error().what, HasSubstr("needs 1.1 MiB")) << refused.error().what;
  EXPECT_THAT(refused.error().what, HasSubstr("limited to 976.6 KiB")) << refused.error().what;
  EXPECT_TRUE(drive_->Pin(IdOf("big/a")).ok());
  EXPECT_FALSE(drive_->Pin(IdOf("big/b")).ok());
}

TEST_F(ResidencyTest, EvictionKeepsWhatWaitsAndWhatIsOpen) {
  Play("put d/clean: clean; put d/open: open!; open; fetch d/clean");
  auto open = drive_->OpenNode(IdOf("d/open"), Drive::Intent::kRead);
  ASSERT_EQ(*ReadOpen(open->file), "open!");
  Play("offline; write d/waits: waits");
  EvictWish dry;
  dry.dry_run = true;
  EXPECT_EQ(Evict("d", dry).bytes, 5u);
  EXPECT_EQ(StateOf("d/clean"), "cached");
  const Evicted evicted = Evict("d");
  EXPECT_EQ(evicted.files, 1u);
  EXPECT_EQ(evicted.pending_names, std::vector<std::string>{"d/waits"});
  EXPECT_EQ(evicted.open, 1u);
  EXPECT_EQ(StateOf("d/clean"), "remote");
  EXPECT_EQ(*ReadOpen(open->file), "open!");
  drive_->Release(open->file);
  EXPECT_EQ(StateOf("d/open"), "remote");
  EXPECT_EQ(*Read("d/waits"), "waits");
}

TEST_F(ResidencyTest, EvictionMayGoByAgeAndByWhatIsNeeded) {
  for (const char* name : {"a", "b", "c"}) world_.Put(name, std::string(100000, *name));
  Open();
  Names("");
  for (const char* name : {"b", "a", "c"}) ASSERT_TRUE(Read(name).ok());
  EvictWish old;
  old.unused_since = SystemClock().Wall() - 3600ll * 1'000'000'000;
  EXPECT_EQ(Evict("", old).files, 0u);
  EvictWish some;
  some.until_free = disk_.free + 1;
  const Evicted one = Evict("", some);  // least recently used first
  EXPECT_EQ(one.files, 1u) << one.open << " open, " << one.pending << " pending, " << one.kept
                           << " kept; free " << one.free_before << ", on disk by the index "
                           << drive_->SumsOf(kRootId)->on_disk;
  EXPECT_EQ(StateOf("b"), "remote");
  EXPECT_EQ(StateOf("a"), "cached");
}

TEST_F(ResidencyTest, EvictionFindsWhatIsJustBeingWrittenDown) {
  for (const char* name : {"a", "b", "c"}) world_.Put(name, std::string(100000, *name));
  Open();
  Names("");
  for (const char* name : {"b", "a", "c"}) ASSERT_TRUE(Read(name).ok());
  std::promise<void> syncing, go_on;
  std::atomic<int> syncs{0};
  disk_.on_sync = [&] {
    if (syncs++ > 0) return;
    syncing.set_value();
    go_on.get_future().wait_for(std::chrono::seconds(20));
  };
  std::thread other([&] { Ignore(drive_->SumsOf(kRootId)); });
  syncing.get_future().wait();
  auto evicted = std::async(std::launch::async, [&] { return Evict("").files; });
  evicted.wait_for(std::chrono::milliseconds(200));  // too early, it would have found nothing
  go_on.set_value();
  other.join();
  EXPECT_EQ(evicted.get(), 3u);
  Close();
  disk_.on_sync = nullptr;
}

TEST_F(ResidencyTest, AFetchBringsAllAndSaysWhatItCouldNot) {
  for (int i = 0; i < 30; ++i)
    world_.Put("d" + std::to_string(i % 3) + "/f" + std::to_string(i), std::string(2000, 'f'));
  world_.Put("d1/large", std::string(9000000, 'g'));
  Open();
  auto fetch = Fetched("");
  EXPECT_EQ(fetch->files, 31u);
  EXPECT_EQ(fetch->files_done, 31u);
  EXPECT_EQ(fetch->bytes_done, fetch->bytes);
  EXPECT_EQ(StateOf("d1"), "cached");
  EXPECT_EQ(drive_->SumsOf(kRootId)->on_disk, 9060000);
  // all is here: no bytes are asked for again
  world_.TakeAsked();
  EXPECT_EQ(Fetched("")->files_done, 31u);
  EXPECT_TRUE(Asked("read").empty());
  Evict("");
  world_.SetOffline(true);
  fetch = Fetched("d0");
  EXPECT_LT(fetch->files_done, fetch->files);
  const Lock lock(fetch->mutex);
  ASSERT_FALSE(fetch->failed.empty());
  EXPECT_EQ(fetch->failed[0].second.code, Code::kUnavailable);
}

TEST_F(ResidencyTest, ThinFilesLeaveNothingBehind) {
  Play("put archive/old: old bytes; open; list archive");
  Place("archive", Placement::kThin);
  EXPECT_EQ(*Read("archive/old"), "old bytes");
  EXPECT_EQ(StateOf("archive/old"), "remote");
  EXPECT_EQ(Fetched("")->thin, 1u);  // fetching all brings nothing of it
  EXPECT_EQ(StateOf("archive/old"), "remote");
  Play("write archive/new: new bytes; read archive/new: new bytes; flush");
  EXPECT_TRUE(Eventually([&] { return StateOf("archive/new") == "remote"; }));
  Play("has archive/new: new bytes; read archive/new: new bytes");
}

TEST_F(ResidencyTest, AFolderThatMayNotBeListedTakesNoOthersPinAway) {
  for (int i = 0; i < 5; ++i) world_.Put("all/d" + std::to_string(i) + "/f", "12345");
  world_.SetPath(&FakeWorld::unlistable, "all/d1/");
  Open();
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("all")).ok());
  EXPECT_TRUE(Eventually([&] { return OnDisk("all") == 20u; }));
  EXPECT_EQ(drive_->Place(IdOf("all"), Placement::kLocal).error().code, Code::kPermission);
}

TEST_F(ResidencyTest, RottenBytesAreFoundDroppedAndFetchedAgain) {
  world_.Put("a", std::string(100000, 'a'));
  world_.Put("b", std::string(100000, 'b'));
  Play("open; fetch a; fetch b; offline; write waits: pending; online");
  EXPECT_EQ(drive_->Verify(kRootId, false)->files + drive_->Verify(kRootId, false)->pending >= 2,
            true);
  const NodeId id = IdOf("b");
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_ / "cache")) {
    if (entry.path().filename().string().find(std::to_string(id)) == std::string::npos ||
        !entry.is_regular_file())
      continue;
    std::fstream file(entry.path(), std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(5000);
    file << "ROT";
  }
  const auto checked = drive_->Verify(kRootId, false);
  ASSERT_TRUE(checked.ok());
  EXPECT_EQ(checked->rotten, std::vector<std::string>{"b"});
  EXPECT_EQ(*Read("b"), std::string(100000, 'b'));
  EXPECT_EQ(*Read("waits"), "pending");
}

// What its digest says needs no bytes of the store's; what waits is read here.
TEST_F(ResidencyTest, WhatIsHereIsVerifiedWithoutTheStore) {
  world_.Put("fetched", std::string(100000, 'a'));
  Play("open; fetch fetched");
  ASSERT_TRUE(Write("sent", std::string(50000, 's')).ok());
  Play("flush; offline");
  ASSERT_TRUE(Write("waits", std::string(3000, 'w')).ok());
  ASSERT_TRUE(Write("waits", std::string(5000, 'v')).ok());
  world_.TakeAsked();
  for (const bool restarted : {false, true}) {
    if (restarted) {
      Play("close; open");
    }
    const auto checked = drive_->Verify(kRootId, false);
    ASSERT_TRUE(checked.ok());
    EXPECT_EQ(checked->files, 2u);
    EXPECT_EQ(checked->pending, 1u);
    EXPECT_EQ(checked->unknown, 0u);
    EXPECT_EQ(checked->unreadable, std::vector<std::string>{});
  }
  EXPECT_EQ(Asked("read").size(), 0u);
}

TEST_F(ResidencyTest, ShyReadersGetTheEndsOfAFileAndNoMore) {
  world_.Put("scan", std::string(1000000, 's'));
  Play("put small: small; open");
  Names("");
  EXPECT_TRUE(drive_->IsCrawler("updatedb"));
  EXPECT_TRUE(drive_->IsCrawler("tracker-miner-f"));  // as the kernel cuts it
  EXPECT_FALSE(drive_->IsCrawler("viewer"));
  auto open = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
  drive_->LimitCrawler(open->file, "tumblerd");
  std::string buffer(1000000, 0);
  EXPECT_EQ(*drive_->Read(open->file, buffer.data(), buffer.size(), 0), 65536u);
  EXPECT_EQ(*drive_->Read(open->file, buffer.data(), 100, 999900), 100u);
  const auto refused = drive_->Read(open->file, buffer.data(), 100, 500000);
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kRefused);
  drive_->Release(open->file);
  EXPECT_LT(OnDisk("scan"), 200000u);
  const auto happened = drive_->Happened(0, 10);
  ASSERT_FALSE(happened.empty());
  EXPECT_EQ(happened.back().what, "held-back");
  EXPECT_EQ(happened.back().path, "scan");
  // what is here anyway it may read
  ASSERT_TRUE(Read("scan").ok());
  open = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
  drive_->LimitCrawler(open->file, "tumblerd");
  EXPECT_EQ(*drive_->Read(open->file, buffer.data(), 100, 500000), 100u);
  drive_->Release(open->file);
}

TEST_F(ResidencyTest, OnePassOverEverythingLeavesWhatIsWorkedWith) {
  AheadClock later;
  clock_ = &later;
  for (int i = 0; i < 5; ++i) world_.Put("work" + std::to_string(i), std::string(60000, 'w'));
  for (int i = 0; i < 60; ++i) world_.Put("all/a" + std::to_string(i), std::string(60000, 'a'));
  Open(1000000);
  for (int day = 0; day < 2; ++day) {
    for (int i = 0; i < 5; ++i) ASSERT_TRUE(Read("work" + std::to_string(i)).ok());
    later.wall_ahead += 3600ll * 1'000'000'000;
  }
  for (int i = 0; i < 60; ++i) ASSERT_TRUE(Read("all/a" + std::to_string(i)).ok());
  world_.TakeAsked();
  for (int i = 0; i < 5; ++i) ASSERT_TRUE(Read("work" + std::to_string(i)).ok());
  Play("unasked read; close");
  clock_ = &SystemClock();
}

TEST_F(ResidencyTest, OfAHugeFileOnlyAsMuchGoesAsIsNeeded) {
  world_.Put("huge", std::string(80 << 20, 'h'));
  world_.Put("other", std::string(10 << 20, 'o'));
  Open(84 << 20);
  ASSERT_EQ(Read("huge")->size(), 1u << 20);
  Fetched("huge");
  EXPECT_EQ(OnDisk("huge"), 80u << 20);
  Fetched("other");
  EXPECT_EQ(OnDisk("other"), 10u << 20);
  EXPECT_GT(OnDisk("huge"), 60u << 20);
  EXPECT_LE(drive_->Summary().cache_bytes, 84u << 20);
  world_.TakeAsked();
  ASSERT_EQ(Read("huge")->size(), 1u << 20);  // its beginning is still here
  EXPECT_TRUE(Asked("read").empty());
  const auto verified = drive_->Verify(kRootId, true);
  EXPECT_TRUE(verified->rotten.empty());
}

// Many readers at once, more than fits: sampled all the time, the limit holds.
TEST_F(ResidencyTest, TheBudgetHoldsInAStormOfReaders) {
  for (int i = 0; i < 200; ++i) world_.Put("f" + std::to_string(i), std::string(100000, 'f'));
  Open(2000000);
  Names("");
  std::atomic<bool> stop{false};
  std::uint64_t most = 0;
  std::thread sampler([&] {
    while (!stop) most = std::max(most, drive_->Summary().cache_bytes);
  });
  std::vector<std::thread> readers;
  for (int r = 0; r < 6; ++r) {
    readers.emplace_back([&, r] {
      for (int i = 0; i < 60; ++i) Ignore(Read("f" + std::to_string((i * 7 + r * 31) % 200)));
    });
  }
  for (std::thread& reader : readers) reader.join();
  stop = true;
  sampler.join();
  EXPECT_LE(most, 2000000u + 65536u);
  // what is counted is what is there
  std::uint64_t blocks = 0;
  Ignore(drive_->SumsOf(kRootId));
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_ / "cache")) {
    struct stat info {};
    if (entry.is_regular_file() && entry.path().filename().string()[0] != '.' &&
        ::stat(entry.path().c_str(), &info) == 0)
      blocks += static_cast<std::uint64_t>(info.st_size);
  }
  EXPECT_EQ(static_cast<std::uint64_t>(drive_->SumsOf(kRootId)->on_disk), blocks);
  EXPECT_EQ(drive_->Summary().cache_bytes, blocks);
}

// Memory follows what is in use; nothing that somebody has got hold of goes with the rest.
TEST_F(ResidencyTest, WhatIsForgottenIsNobodys) {
  remembered_ = 20;
  for (int i = 0; i < 300; ++i) world_.Put("d/f" + std::to_string(i), "text");
  Play("open; list d");
  for (int i = 0; i < 600; ++i) {
    const std::string name = (i % 2 == 0 ? "d/f" : "d/w") + std::to_string(i % 300);
    ASSERT_TRUE(Write(name, "written").ok()) << name;
    ASSERT_EQ(*Read(name), "written");
    drive_->Forget(IdOf(name), 1000);
    if (i % 7 == 0) {
      ASSERT_TRUE(hands().Move(name, "d/m" + std::to_string(i)).ok());
    }
  }
  FlushAll();
  for (const auto& [path, body] : world_.All())
    EXPECT_TRUE(body == "written" || body == "text") << path;
}

// Not a descriptor for each file that was ever touched.
TEST_F(ResidencyTest, FewFilesAreHeldOpen) {
  for (int i = 0; i < 1500; ++i) world_.Put("f" + std::to_string(i), "text");
  Open();
  Names("");
  world_.SetOffline(true);
  for (int i = 0; i < 1500; ++i) ASSERT_TRUE(Write("w" + std::to_string(i), "written").ok());
  world_.SetOffline(false);
  const auto held = [] {
    return std::distance(std::filesystem::directory_iterator("/proc/self/fd"),
                         std::filesystem::directory_iterator());
  };
  EXPECT_LT(held(), 700);
  FlushAll();
  Fetched("");
  EXPECT_LT(held(), 700);
  Play("read w7: written; read f7: text");
}

TEST_F(ResidencyTest, ACacheFolderIsOneDrives) {
  Play("put f: text; open; fetch f");
  DriveOptions other;
  other.name = "other";
  other.state_folder = folder_ / "other";
  other.cache_folder = folder_ / "cache";
  other.disk = &disk_;
  const auto busy = Drive::Open(other, std::make_unique<FakeStore>(&world_));
  EXPECT_EQ(busy.error().code, Code::kBusy);
  Close();
  // carried off by hand to where another drive has its cache
  other.cache_folder = folder_ / "second";
  ASSERT_TRUE(Drive::Open(other, std::make_unique<FakeStore>(&world_)).ok());
  std::filesystem::remove_all(folder_ / "cache");
  std::filesystem::rename(folder_ / "second", folder_ / "cache");
  DriveOptions first;
  first.name = "sheets";
  first.state_folder = folder_ / "state";
  first.cache_folder = folder_ / "cache";
  first.disk = &disk_;
  const auto refused = Drive::Open(first, std::make_unique<FakeStore>(&world_));
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kRefused);
  EXPECT_THAT(refused.error().what, HasSubstr("another drive"));
}

TEST_F(ResidencyTest, ItIsExplained) {
  Play("put d/f: text; open; list d");
  ASSERT_TRUE(drive_->Pin(IdOf("d")).ok());
  const auto why = drive_->Explain(IdOf("d/f"));
  EXPECT_EQ(why->placement, Placement::kPin);
  EXPECT_EQ(why->placed_on, "d");
  EXPECT_FALSE(why->by_itself);
  EXPECT_TRUE(drive_->Explain(IdOf("d"))->by_itself);
}

}  // namespace
}  // namespace pargeter::test
