#include <gtest/gtest.h>

#include <random>
#include <set>

#include "cache/block_store.h"
#include "cache/budget.h"
#include "cache/range_set.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

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
  ASSERT_TRUE(store.Move(7, BlockStore::Place::kCache, BlockStore::Place::kPending, &*fd).ok());
  EXPECT_TRUE(store.Has(7, BlockStore::Place::kPending));
  EXPECT_FALSE(store.Has(7, BlockStore::Place::kCache));
  ASSERT_TRUE(RealDisk().WriteAt(fd->get(), "!", 5).ok());
  EXPECT_EQ(ReadAll(store.PathOf(7, BlockStore::Place::kPending)), "seven!");
  EXPECT_EQ(store.List(BlockStore::Place::kPending), std::vector<std::int64_t>{7});
  EXPECT_TRUE(store.Drop(7, BlockStore::Place::kPending).ok());
  EXPECT_TRUE(store.Drop(7, BlockStore::Place::kPending).ok());  // gone is gone
}

class TinyDisk : public Disk {
 public:
  Result<std::uint64_t> FreeBytes(const std::string&) override { return free; }
  std::uint64_t free = 1000;
};

TEST(BudgetTest, NothingIsTakenThatDoesNotFit) {
  TinyDisk disk;
  disk.free = 1 << 20;
  Budget budget({100, 0}, "/tmp", &disk);
  EXPECT_EQ(budget.Reserve(60), 0u);
  EXPECT_EQ(budget.Reserve(60), 20u);  // so much more has to go first
  EXPECT_EQ(budget.Used(), 60u);
  budget.Release(20);
  EXPECT_EQ(budget.Reserve(60), 0u);
}

TEST(BudgetTest, WritingIsHeldBackOnlyByTheDisk) {
  TinyDisk disk;
  Budget budget({100, 0}, "/tmp", &disk);
  EXPECT_TRUE(budget.ReserveForWriting(900).ok());
  const Status full = budget.ReserveForWriting(2000);
  EXPECT_EQ(full.error().code, Code::kNoSpace);
  EXPECT_NE(full.error().what.find("/tmp"), std::string::npos);
}

}  // namespace
}  // namespace pargeter::test
