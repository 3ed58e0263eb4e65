// The cache limit holds whatever brings bytes here: each way in a row of its own.
#include <functional>

#include "support/residency_fixture.h"

namespace pargeter::test {
namespace {

constexpr std::uint64_t kLimit = 4u << 20, kFile = 256u << 10;

class LimitTest : public ResidencyTest {
 protected:
  // Bytes above the limit, without those that wait or are pinned.
  std::uint64_t Over() {
    const DriveStatus now = drive_->Summary();
    const auto pinned = static_cast<std::uint64_t>(now.sums.pinned_on_disk);
    const std::uint64_t kept = now.waiting_bytes + pinned;
    const std::uint64_t rest = now.cache_bytes - std::min(now.cache_bytes, kept);
    return rest > kLimit ? rest - kLimit : 0;
  }
  void ExpectWithinLimit(const std::string& what) {
    EXPECT_TRUE(Eventually([&] { return drive_->Summary().cache_bytes <= kLimit; }))
        << what << ": " << drive_->Summary().cache_bytes;
  }
  void WriteMany(int from, int to) {
    for (int i = from; i < to; ++i)
      ASSERT_TRUE(
          Write("sheet" + std::to_string(i), std::string(kFile, static_cast<char>('a' + i % 26)))
              .ok());
  }
};

// An hour of a machine that only writes, a file each minute.
TEST_F(LimitTest, AMachineThatOnlyWritesStaysWithinIt) {
  Open(kLimit);
  for (int minute = 0; minute < 60; ++minute) {
    WriteMany(minute, minute + 1);
    FlushAll();
    EXPECT_TRUE(Eventually([&] { return Over() == 0; })) << minute << ": " << Over();
  }
  ExpectWithinLimit("after an hour");
  EXPECT_GT(drive_->Summary().cache_bytes, kLimit / 2) << "no more goes than has to";
  EXPECT_EQ(StateOf("sheet59"), "cached") << "the last one written is the last to go";
  EXPECT_EQ(StateOf("sheet0"), "remote");
}

TEST_F(LimitTest, WhatWaitsIsNeverGivenUpForIt) {
  Open(kLimit);
  world_.SetOffline(true);
  WriteMany(0, 32);
  EXPECT_GE(drive_->Summary().cache_bytes, 32 * kFile);
  EXPECT_EQ(drive_->Summary().waiting_bytes, 32 * kFile);
  for (int i = 0; i < 32; ++i) EXPECT_EQ(Read("sheet" + std::to_string(i))->size(), kFile) << i;
  Play("online; refresh; flush");
  ExpectWithinLimit("once all is up");
}

struct Way {
  const char* name;
  std::function<void(LimitTest*)> bring;
};

TEST_F(LimitTest, WhateverBringsBytesHereIsHeldToIt) {
  Open(1u << 30);
  WriteMany(0, 12);
  FlushAll();
  ASSERT_TRUE(drive_->Pin(kRootId).ok());
  DriveLimits limits = Options(kLimit / 2);
  drive_->SetLimits(limits);
  EXPECT_EQ(drive_->Summary().cache_bytes, 12 * kFile) << "what is pinned stays";
  ASSERT_TRUE(drive_->Unpin(kRootId).ok());
  EXPECT_TRUE(Eventually([&] { return drive_->Summary().cache_bytes <= kLimit / 2; }))
      << "a pin was taken away: " << drive_->Summary().cache_bytes;
  limits.cache_limit = kLimit / 4;
  drive_->SetLimits(limits);
  EXPECT_TRUE(Eventually([&] { return drive_->Summary().cache_bytes <= kLimit / 4; }))
      << "a smaller limit: " << drive_->Summary().cache_bytes;
  // a file that is held open stays until it is closed
  auto open = drive_->Create(kRootId, "open", 0644, 0, 0, false);
  ASSERT_TRUE(open.ok() && drive_->Write(open->file, std::string(kLimit / 2, 'o'), 0, false).ok());
  ASSERT_TRUE(drive_->Flush(open->file).ok());
  drive_->Release(open->file);
  open->file.reset();
  FlushAll();
  EXPECT_TRUE(Eventually([&] { return drive_->Summary().cache_bytes <= kLimit / 4; }))
      << "a finished write: " << drive_->Summary().cache_bytes;
}

}  // namespace
}  // namespace pargeter::test
