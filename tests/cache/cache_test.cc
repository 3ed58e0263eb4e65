#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <filesystem>
#include <map>
#include <random>
#include <set>

#include "cache/block_store.h"
#include "cache/budget.h"
#include "cache/eviction.h"
#include "cache/range_set.h"
#include "cache/relocate.h"
#include "cache/spare_room.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

TEST(RangeSetTest, BytesInARangeAreThoseThatAreNotMissing) {
  RangeSet set;
  for (const Range& range : {Range{10, 20}, Range{30, 40}, Range{50, 51}}) set.Add(range);
  for (std::uint64_t begin = 0; begin < 60; ++begin)
    for (std::uint64_t end = begin; end < 60; ++end) {
      std::uint64_t missing = 0;
      for (const Range& gap : set.Missing({begin, end})) missing += gap.size();
      ASSERT_EQ(set.BytesIn({begin, end}), end - begin - missing) << begin << "-" << end;
    }
}

TEST(RangeSetTest, AgreesWithAPlainSetOfBytes) {
  std::mt19937 random(7);
  for (int round = 0; round < 200; ++round) {
    RangeSet ranges;
    std::set<std::uint64_t> bytes;
    for (int step = 0; step < 30; ++step) {
      const std::uint64_t begin = random() % 60, end = begin + random() % 12;
      const bool add = random() % 3 != 0;
      if (add)
        ranges.Add({begin, end});
      else
        ranges.Remove({begin, end});
      for (std::uint64_t b = begin; b < end; ++b) {
        if (add)
          bytes.insert(b);
        else
          bytes.erase(b);
      }
      ASSERT_EQ(ranges.Bytes(), bytes.size());
      std::uint64_t missing = 0;
      for (const Range& gap : ranges.Missing({10, 40})) {
        missing += gap.size();
        for (std::uint64_t b = gap.begin; b < gap.end; ++b) ASSERT_EQ(bytes.count(b), 0u);
      }
      std::uint64_t within = 0;
      for (const std::uint64_t b : bytes) within += b >= 10 && b < 40;
      ASSERT_EQ(missing + within, 30u);
      ASSERT_EQ(ranges.Covers({10, 40}), within == 30);
      ASSERT_EQ(RangeSet::Parse(ranges.Serialize()).All(), ranges.All());
    }
  }
}

TEST(RangeSetTest, ADamagedSerialFormIsNeverMoreThanWasThere) {
  RangeSet ranges;
  ranges.Add({100, 5000});
  ranges.Add({1u << 30, (1u << 30) + 77});
  const std::string serial = ranges.Serialize();
  for (std::size_t n = 0; n < serial.size(); ++n) {
    EXPECT_LE(RangeSet::Parse(serial.substr(0, n)).Bytes(), ranges.Bytes()) << n;
  }
  EXPECT_TRUE(RangeSet::Parse("\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF").empty());
}

TEST(BlockStoreTest, FilesMoveBetweenThePlacesAndStayOpen) {
  TemporaryFolder folder;
  BlockStore store(folder / "cache", folder / "pending", &RealDisk());
  ASSERT_TRUE(store.Prepare().ok());
  auto fd = store.Open(7, BlockStore::Place::kCache);
  ASSERT_TRUE(fd.ok());
  ASSERT_TRUE(RealDisk().WriteAt(fd->get(), "seven", 0).ok());
  ASSERT_TRUE(store.Move(7, BlockStore::Place::kCache, BlockStore::Place::kPending).ok());
  EXPECT_TRUE(store.Has(7, BlockStore::Place::kPending));
  EXPECT_FALSE(store.Has(7, BlockStore::Place::kCache));
  ASSERT_TRUE(RealDisk().WriteAt(fd->get(), "!", 5).ok());
  EXPECT_EQ(ReadAll(store.PathOf(7, BlockStore::Place::kPending)), "seven!");
  EXPECT_EQ(store.List(BlockStore::Place::kPending), std::vector<std::int64_t>{7});
  EXPECT_TRUE(store.Drop(7, BlockStore::Place::kPending).ok());
  EXPECT_TRUE(store.Drop(7, BlockStore::Place::kPending).ok());  // gone is gone
}

// Some file systems take 3 KB, some 16 and some 64.
TEST(BlockStoreTest, ANoteThatWasTakenCanBeRead) {
  TemporaryFolder folder(QuickFolder());
  BlockStore store(folder / "cache", folder / "pending", &RealDisk());
  ASSERT_TRUE(store.Prepare().ok());
  ASSERT_TRUE(store.Open(7, BlockStore::Place::kPending).ok());
  std::string last = "";
  for (const std::size_t size : {100, 3000, 9000, 16385, 50000, 65536, 65537, 200000, 10}) {
    const std::string note(size, 'n');
    if (store.SetNote(7, BlockStore::Place::kPending, note)) last = note;
    EXPECT_EQ(store.Note(7, BlockStore::Place::kPending).size(), last.size()) << size;
  }
  EXPECT_EQ(last.size(), 10u);
}

class TinyDisk : public Disk {
 public:
  Result<std::uint64_t> FreeBytes(const std::string&) override { return free; }
  std::uint64_t free = 1000;
};

TEST(BudgetTest, NothingIsTakenThatDoesNotFit) {
  TinyDisk disk;
  disk.free = 64 << 20;
  Budget budget({100, 0}, "/tmp", "/tmp", &disk);
  EXPECT_EQ(budget.Reserve(60), 0u);
  EXPECT_EQ(budget.Reserve(60), 20u);  // so much more has to go first
  EXPECT_EQ(budget.Used(), 60u);
  budget.Release(20);
  EXPECT_EQ(budget.Reserve(60), 0u);
}

// What is being fetched fills the disk later, and has to find room there.
TEST(BudgetTest, WhatIsOnItsWayIsNotOverlooked) {
  constexpr std::uint64_t kPiece = 8ull << 20;
  TinyDisk disk;
  disk.free = (32ull << 20) + 5 * kPiece;
  Budget budget({1ull << 40, 0}, "/tmp", "/tmp", &disk);
  for (int i = 0; i < 5; ++i) EXPECT_EQ(budget.Reserve(kPiece), 0u);
  EXPECT_EQ(budget.Reserve(kPiece), kPiece);
  disk.free -= kPiece / 2;
  budget.Arrived(kPiece, kPiece / 2);  // of one, half had been there
  EXPECT_EQ(budget.Used(), 5 * kPiece - kPiece / 2);
  EXPECT_EQ(budget.Reserve(kPiece / 2), 0u);
  EXPECT_EQ(budget.Reserve(kPiece), kPiece);
}

// Each looks at the disk every 16 MiB: that much, for each of them, is all it can be out by.
TEST(BudgetTest, DrivesThatShareADiskKeepItsFreeShareTogether) {
  TemporaryFolder folder;
  struct statvfs real {};
  ASSERT_EQ(::statvfs(folder.path().c_str(), &real), 0);
  const double keep = 0.1;
  const auto kept = static_cast<std::uint64_t>(keep * static_cast<double>(real.f_blocks) *
                                               static_cast<double>(real.f_frsize));
  constexpr std::uint64_t kRoom = 400ull << 20, kPiece = 1ull << 20;
  TinyDisk disk;
  disk.free = kept + kRoom;
  Budget one({~0ull >> 1, keep}, folder.path(), folder.path(), &disk),
      two({~0ull >> 1, keep}, folder.path(), folder.path(), &disk);
  for (bool room = true; room;) {
    room = false;
    for (Budget* each : {&one, &two}) {
      if (each->Reserve(kPiece) != 0) continue;
      disk.free -= kPiece;
      each->Arrived(kPiece, kPiece);
      room = true;
    }
  }
  EXPECT_GE(one.Used() + two.Used(), kRoom);
  EXPECT_LE(one.Used() + two.Used(), kRoom + (32ull << 20));
  EXPECT_GT(two.Used(), kRoom / 4);
  disk.free -= 100ull << 20;  // other programs fill it: so much has to go
  EXPECT_GE(one.Short(), 100ull << 20);
}

TEST(BudgetTest, WritingIsHeldBackOnlyByTheDisk) {
  TinyDisk disk;
  disk.free = (32 << 20) + 1000;  // the rest is for the index
  Budget budget({100, 0}, "/tmp", "/tmp", &disk);
  EXPECT_TRUE(budget.ReserveForWriting(900).ok());
  const Status full = budget.ReserveForWriting(2000);
  EXPECT_EQ(full.error().code, Code::kNoSpace);
  EXPECT_THAT(full.error().what, HasSubstr("/tmp"));
}

TEST(SpareRoomTest, IsGivenUpOnAFullDiskAndTakenAgain) {
  TemporaryFolder folder;
  const std::string path = folder / "spare";
  TinyDisk disk;
  disk.free = 1ull << 30;
  SpareRoom spare(path, 1 << 20, &disk);
  const auto size = [&]() -> std::uint64_t {
    struct stat info {};
    return ::stat(path.c_str(), &info) == 0 ? static_cast<std::uint64_t>(info.st_blocks) * 512 : 0;
  };
  spare.Tend();
  EXPECT_GE(size(), 1u << 20);
  disk.free = 2 << 20;  // little, but some
  spare.Tend();
  EXPECT_GE(size(), 1u << 20);
  disk.free = 4096;
  spare.Tend();
  EXPECT_EQ(size(), 0u);
  disk.free = 2 << 20;
  spare.Tend();
  EXPECT_EQ(size(), 0u);
  disk.free = 1ull << 30;
  spare.Tend();
  EXPECT_GE(size(), 1u << 20);
  SpareRoom none(folder / "none", 0, &disk);
  none.Tend();
  EXPECT_FALSE(std::filesystem::exists(folder / "none"));
}

// Fails at the n-th write, and from there on.
class DyingDisk : public Disk {
 public:
  explicit DyingDisk(int writes) : left_(writes) {}
  Status WriteAt(int fd, std::string_view data, std::uint64_t offset) override {
    if (left_-- <= 0) return Error(Code::kIo, "the disk failed (on purpose)");
    return Disk::WriteAt(fd, data, offset);
  }
  Status Rename(const std::string& from, const std::string& to) override {
    if (left_ <= 0) return Error(Code::kIo, "the disk failed (on purpose)");
    return Disk::Rename(from, to);
  }

 private:
  int left_;
};

TEST(RelocateTest, EndedAnywhereItGoesOnAndNothingIsLost) {
  if (::access("/dev/shm", W_OK) != 0) GTEST_SKIP() << "no second file system here";
  TemporaryFolder here, there("/dev/shm");
  std::map<std::int64_t, std::string> contents;
  {
    BlockStore store(here / "cache", here / "pending", &RealDisk());
    ASSERT_TRUE(store.Prepare().ok());
    for (std::int64_t id = 1; id <= 20; ++id) {
      contents[id] =
          std::string(3000 + static_cast<std::size_t>(id) * 1000, static_cast<char>('a' + id));
      const auto fd = store.Open(id, BlockStore::Place::kCache);
      ASSERT_TRUE(RealDisk().WriteAt(fd->get(), contents[id], 1 << 20).ok());  // after a hole
    }
  }
  for (const int writes : {0, 1, 4, 7}) {
    DyingDisk disk(writes);
    const auto moved = MoveBlocks(here / "cache", there / "cache", &disk, nullptr);
    EXPECT_FALSE(moved.ok());
    BlockStore old_place(here / "cache", here / "pending", &RealDisk());
    BlockStore new_place(there / "cache", here / "pending", &RealDisk());
    for (const auto& [id, content] : contents) {
      const bool old_has = old_place.Has(id, BlockStore::Place::kCache);
      BlockStore& place = old_has ? old_place : new_place;
      const auto fd = place.Open(id, BlockStore::Place::kCache);
      std::string got(content.size(), 0);
      ASSERT_TRUE(RealDisk().ReadAt(fd->get(), got.data(), got.size(), 1 << 20).ok());
      EXPECT_EQ(got, content) << id;
    }
  }
  const auto rest = MoveBlocks(here / "cache", there / "cache", &RealDisk(), nullptr);
  ASSERT_TRUE(rest.ok());
  BlockStore new_place(there / "cache", here / "pending", &RealDisk());
  EXPECT_EQ(new_place.List(BlockStore::Place::kCache).size(), 20u);
  struct stat info {};
  ASSERT_EQ(::stat(new_place.PathOf(1, BlockStore::Place::kCache).c_str(), &info), 0);
  EXPECT_LT(info.st_blocks * 512, 1 << 19);  // the hole is still one
}

TEST(EvictionTest, OnlyUsesThatAreApartMakeAHabit) {
  constexpr Nanos kMinute = 60ll * 1'000'000'000, kHour = 60 * kMinute;
  Use use = Used({}, false, 100 * kHour);
  EXPECT_FALSE(use.again);
  const Use burst = Used(use, true, use.last + kMinute / 2);
  EXPECT_FALSE(burst.again);
  EXPECT_EQ(burst.last, use.last);
  EXPECT_TRUE(Used(use, true, use.last + 2 * kHour).again);
  EXPECT_FALSE(Used(use, true, use.last + 48 * kHour).again);
  EXPECT_TRUE(Used(use, false, use.last + kHour / 2).again);   // it had to go too early
  EXPECT_FALSE(Used(use, false, use.last + 2 * kHour).again);  // as a nightly pass would come again
  EXPECT_EQ(FirstToGo(10, 100), Segment::kAgain);
  EXPECT_EQ(FirstToGo(40, 100), Segment::kOnce);
}

}  // namespace
}  // namespace pargeter::test
