// A drive whose cache folder, index and sums are compared after each test.
#pragma once

#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>
#include <memory>
#include <string>
#include <utility>

#include "support/story.h"

namespace pargeter::test {

class ResidencyTest : public DriveTest {
 protected:
  std::string StateOf(const std::string& path) { return drive_->State(IdOf(path))->state; }
  std::uint64_t OnDisk(const std::string& path) {
    return drive_->State(IdOf(path))->node.cached.bytes;
  }
  void Place(const std::string& path, Placement placement) {
    const Status placed = drive_->Place(IdOf(path), placement);
    ASSERT_TRUE(placed.ok()) << placed.error().what;
  }
  Evicted Evict(const std::string& path, const EvictWish& wish = {}) {
    auto evicted = drive_->Evict({path.empty() ? kRootId : IdOf(path)}, wish);
    EXPECT_TRUE(evicted.ok());
    return *evicted;
  }
  std::shared_ptr<Fetch> Fetched(const std::string& path) {
    auto fetch = drive_->FetchOf(*drive_->BeginFetch({path.empty() ? kRootId : IdOf(path)}));
    EXPECT_TRUE(Eventually([&] { return fetch->finished.load(); }));
    return fetch;
  }
  // Kept up to date, what a walk finds, and what the cache folder holds: all the same.
  void TearDown() override {
    if (drive_) {
      EXPECT_TRUE(drive_->SumsOf(kRootId).ok());
      const Status sums = drive_->CheckIndex();
      EXPECT_TRUE(sums.ok()) << sums.error().what;
      EvictWish look;
      look.dry_run = true;
      const auto near = [](std::int64_t a, std::int64_t b, int files) {
        return std::abs(a - b) <= 8192 * files;
      };
      std::int64_t known = 0, counted = 0, found = 0;
      EXPECT_TRUE(Eventually([&] {  // what is pinned may still be arriving
        Ignore(drive_->Evict({kRootId}, look));
        const auto [bytes, files] = InTheCacheFolder();
        found = static_cast<std::int64_t>(bytes);
        known = drive_->SumsOf(kRootId)->on_disk;
        counted = static_cast<std::int64_t>(drive_->Summary().cache_bytes);
        return near(known, found, files) && near(counted, found, files);
      })) << known
          << " by the index, " << counted << " by the budget, " << found << " on the disk";
    }
    DriveTest::TearDown();
  }
  // Bytes that the disk really gave to cached and waiting files, and how many there are.
  std::pair<std::uint64_t, int> InTheCacheFolder() {
    std::pair<std::uint64_t, int> out;
    for (const char* below : {"cache", "state/pending"}) {
      const std::string folder = folder_ / below;
      if (!std::filesystem::exists(folder)) continue;
      for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
        struct stat info {};
        if (!entry.is_regular_file() || ::stat(entry.path().c_str(), &info) != 0) continue;
        if (entry.path().filename().c_str()[0] == '.') continue;
        out.first += static_cast<std::uint64_t>(info.st_blocks) * 512;
        ++out.second;
      }
    }
    return out;
  }
};

}  // namespace pargeter::test
