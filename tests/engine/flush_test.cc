// While a disk is flushed, others are answered: no flush under the tree's lock.
#include <gtest/gtest.h>

#include <condition_variable>
#include <thread>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

// A disk whose flush does not end before 100 lookups have been answered, or, so that a failure is
// none that hangs, before three seconds have passed.
class FlushTest : public DriveTest {
 protected:
  void LookUpDuring(const std::function<void()>& work) {
    std::atomic<int> answered{0}, stuck{0}, flushes{0};
    std::atomic<bool> over{false};
    disk_.on_sync = [&] {
      ++flushes;
      const int wanted = answered + 100;
      const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(3);
      while (answered < wanted && std::chrono::steady_clock::now() < until)
        std::this_thread::yield();
      if (answered < wanted) ++stuck;
    };
    std::thread reader([&] {
      while (!over) {
        EXPECT_TRUE(drive_->Lookup(kRootId, "other").ok());
        ++answered;
      }
    });
    work();
    over = true;
    reader.join();
    disk_.on_sync = nullptr;
    EXPECT_GE(flushes, 1);
    EXPECT_EQ(stuck, 0);
  }
};

TEST_F(FlushTest, OfAFileStallsNoLookup) {
  world_.Put("other", "O");
  Open();
  ASSERT_TRUE(Write("f", "some bytes").ok());
  LookUpDuring([&] {
    const auto file = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
    ASSERT_TRUE(file.ok());
    ASSERT_TRUE(drive_->Write(file->file, "others", 0, false).ok());
    EXPECT_TRUE(drive_->Fsync(file->file).ok());
    drive_->Release(file->file);
  });
}

TEST_F(FlushTest, OfAFolderStallsNoLookup) {
  world_.Put("other", "O");
  Open();
  ASSERT_TRUE(Write("f", "some bytes").ok());
  LookUpDuring([&] { EXPECT_TRUE(drive_->FsyncFolder().ok()); });
}

TEST_F(FlushTest, OfWhatIsUploadedStallsNoLookup) {
  world_.Put("other", "O");
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
  world_.Put("other", "O");
  world_.Put("f", "some bytes");
  Open();
  LookUpDuring([&] {
    ASSERT_TRUE(drive_->Place(IdOf("f"), Placement::kLocal).ok());
    FlushAll();
  });
  EXPECT_EQ(world_.All().count("f"), 0u);
  EXPECT_EQ(*Read("f"), "some bytes");
}

TEST_F(FlushTest, OfWhatIsOverwrittenStallsNoLookup) {
  world_.Put("other", "O");
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
