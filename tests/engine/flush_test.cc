// While a disk is flushed, others are answered: no flush under the tree's lock.
#include <gtest/gtest.h>

#include <condition_variable>
#include <thread>

#include "support/story.h"

namespace pargeter::test {
namespace {

// A disk whose flush does not end before 100 lookups have been answered, or, so that a failure is
// none that hangs, before three seconds have passed.
class FlushTest : public DriveTest {
 protected:
  void SetUp() override {
    disk_.on_sync = [this] {
      if (!watched_) return;
      ++flushes_;
      const int wanted = answered_ + 100;
      const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(3);
      while (watched_ && answered_ < wanted && std::chrono::steady_clock::now() < until)
        std::this_thread::yield();
      if (watched_ && answered_ < wanted) ++stuck_;
    };
    world_.Put("other", "O");
  }
  void LookUpDuring(const std::function<void()>& work) {
    watched_ = true;
    std::thread reader([&] {
      while (watched_) {
        EXPECT_TRUE(drive_->Lookup(kRootId, "other").ok());
        ++answered_;
      }
    });
    work();
    watched_ = false;
    reader.join();
    EXPECT_GE(flushes_, 1);
    EXPECT_EQ(stuck_, 0);
  }

 private:
  std::atomic<int> answered_{0}, stuck_{0}, flushes_{0};
  std::atomic<bool> watched_{false};
};

TEST_F(FlushTest, OfAFileStallsNoLookup) {
  Play("open; write f: some bytes");
  LookUpDuring([&] {
    const auto file = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
    ASSERT_TRUE(file.ok());
    ASSERT_TRUE(drive_->Write(file->file, "others", 0, false).ok());
    EXPECT_TRUE(drive_->Fsync(file->file).ok());
    drive_->Release(file->file);
  });
}

TEST_F(FlushTest, OfAFolderStallsNoLookup) {
  Play("open; write f: some bytes");
  LookUpDuring([&] { EXPECT_TRUE(drive_->FsyncFolder().ok()); });
}

TEST_F(FlushTest, OfWhatIsUploadedStallsNoLookup) {
  Open();
  const auto file = drive_->Create(kRootId, "f", 0644, 0, 0, false);
  ASSERT_TRUE(file.ok());
  ASSERT_TRUE(drive_->Write(file->file, "some bytes", 0, false).ok());
  ASSERT_TRUE(drive_->Fsync(file->file).ok());
  ASSERT_TRUE(drive_->Write(file->file, "others", 0, false).ok());
  drive_->Release(file->file);
  LookUpDuring([&] { FlushAll(); });
}

TEST_F(FlushTest, OfAFileThatComesDownStallsNoLookup) {
  Play("put f: some bytes; open");
  LookUpDuring([&] { Play("place f local; flush"); });
  Play("lacks f; read f: some bytes");
}

TEST_F(FlushTest, OfWhatIsOverwrittenStallsNoLookup) {
  Open();
  for (int i = 0; i < 3; ++i) {
    const auto file = i == 0 ? drive_->Create(kRootId, "f", 0644, 0, 0, false)
                             : drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
    ASSERT_TRUE(file.ok());
    const auto write = [&] {
      ASSERT_TRUE(drive_->Write(file->file, "text " + std::to_string(i), 0, false).ok());
      ASSERT_TRUE(drive_->Fsync(file->file).ok());
      drive_->Release(file->file);
      FlushAll();
    };
    LookUpDuring(write);
  }
}

}  // namespace
}  // namespace pargeter::test
