// The power goes while files wait for upload that were not synced.
#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>

#include <atomic>
#include <chrono>
#include <filesystem>
#include <string>
#include <vector>

#include "support/story.h"

namespace pargeter::test {

inline constexpr int kRounds = 12;

class TornTest : public DriveTest {
 protected:
  TornTest() {
    quiet_ = Duration(60000);  // nothing goes up before the power goes
    disk_.WatchPower(folder_.path());
  }
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
    Play("open; flush; refresh");
    return left.ok() ? *left : "";
  }
  // What the cache has came long ago.
  void MakeOld() { SetAge(std::chrono::hours(1)); }
  void SetAge(std::chrono::hours age) {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_ / "cache"))
      if (entry.is_regular_file())
        std::filesystem::last_write_time(entry,
                                         std::filesystem::file_time_type::clock::now() - age);
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
    world_.DelayNextWrite();
    world_.Fail("write");
    world_.Pass("write");
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

}  // namespace pargeter::test
