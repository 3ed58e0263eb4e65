// The cache is on another disk than what waits for upload: bytes that go from the one to the other
// are copied, while people read and write them.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <atomic>
#include <filesystem>
#include <future>

#include "support/story.h"

namespace pargeter::test {
namespace {

class TwoDisksTest : public DriveTest {
 protected:
  void SetUp() override {
    struct stat a {
    }, b{};
    ASSERT_EQ(::stat(folder_.path().c_str(), &a), 0);
    ASSERT_EQ(::stat(other_.path().c_str(), &b), 0);
    if (a.st_dev == b.st_dev) GTEST_SKIP() << "the two folders are on one disk";
    cache_folder_ = other_.path();
    for (std::size_t i = 0; i < scan_.size(); ++i) scan_[i] = static_cast<char>(i / 1000);
    world_.Put("scan", scan_);
  }
  // What is left below the folder of cached files, or of waiting ones.
  static std::uint64_t FilesBelow(const std::string& folder) {
    std::uint64_t files = 0;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder))
      if (entry.is_regular_file() && entry.path().filename() != ".lock") ++files;
    return files;
  }
  TemporaryFolder other_{QuickFolder() == "/tmp" ? "/dev/shm" : "/tmp"};
  std::string scan_ = std::string(3 << 20, '\0');
};

TEST_F(TwoDisksTest, BytesThatComeWhileAWriteBeginsAreNotLost) {
  Play("open; names: scan");
  auto opened = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
  ASSERT_TRUE(opened.ok());
  std::string piece(100, '\0');
  ASSERT_TRUE(drive_->Read(opened->file, piece.data(), piece.size(), 0).ok());
  std::future<Status> wrote;
  std::atomic<bool> begun{false};
  disk_.on_write = [&] {
    if (begun.exchange(true)) return;
    wrote =
        std::async(std::launch::async, [this] { return hands().Patch("scan", "WRITTEN", 2000); });
    wrote.wait_for(std::chrono::milliseconds(300));
  };
  ASSERT_TRUE(drive_->Read(opened->file, piece.data(), piece.size(), 2 << 20).ok());
  ASSERT_TRUE(wrote.get().ok());
  drive_->Release(opened->file);
  FlushAll();
  scan_.replace(2000, 7, "WRITTEN");
  EXPECT_TRUE(world_.All()["scan"] == scan_);
  auto again = hands().Read("scan");
  EXPECT_TRUE(again.ok() && *again == scan_);
  disk_.on_write = nullptr;
}

// Readers who are at the former file when it is replaced read it to the end.
TEST_F(TwoDisksTest, ManyReadAndOneWritesAllTheTime) {
  Open();
  const NodeId id = IdOf("scan");
  std::atomic<bool> stop{false};
  std::vector<std::future<std::string>> readers;
  for (int i = 0; i < 4; ++i) {
    readers.push_back(std::async(std::launch::async, [&, i] {
      auto opened = drive_->OpenNode(id, Drive::Intent::kRead);
      std::string piece(4096, '\0'), why;
      for (std::size_t at = static_cast<std::size_t>(i) * 100'000; !stop && why.empty();
           at = (at + 70'001) % (scan_.size() - 4096)) {
        const std::size_t from = std::max<std::size_t>(at, 4096);  // the rest is written to
        const auto n = drive_->Read(opened->file, piece.data(), piece.size(), from);
        if (!n.ok()) why = n.error().what;
        if (n.ok() && piece != scan_.substr(from, piece.size())) why = "other bytes";
      }
      drive_->Release(opened->file);
      return why;
    }));
  }
  for (int i = 0; i < 40; ++i) {
    ASSERT_TRUE(hands().Patch("scan", "written " + std::to_string(i), 0, i % 4 == 0).ok());
    if (i % 3 == 0) FlushAll();
  }
  stop = true;
  for (auto& reader : readers) EXPECT_EQ(reader.get(), "");
  FlushAll();
  EXPECT_EQ(world_.All()["scan"].substr(0, 10), "written 39");
  EXPECT_EQ(world_.All()["scan"].substr(4096), scan_.substr(4096));
  EXPECT_EQ(FilesBelow(folder_ / "state/pending"), 0u);
}

// Larger than that disk has room for: it is at the store, and comes from there when it is read.
TEST_F(TwoDisksTest, WhatTheCachesDiskHasNoRoomForGoesUpAllTheSame) {
  Open();
  ASSERT_TRUE(Write("new", scan_).ok());
  auto reader = drive_->OpenNode(IdOf("new"), Drive::Intent::kRead);
  ASSERT_TRUE(reader.ok());
  disk_.free = 1 << 20;
  FlushAll();
  EXPECT_TRUE(world_.All()["new"] == scan_);
  EXPECT_EQ(Asked("write"), std::vector<std::string>{"write new"});
  EXPECT_EQ(FilesBelow(folder_ / "state/pending"), 0u);
  EXPECT_EQ(drive_->Summary().cache_bytes, 0u);
  // whoever has it open reads on, and it can be written
  disk_.free = 100ull << 30;
  EXPECT_TRUE(*hands().Read("new") == scan_);
  EXPECT_TRUE(ReadOpen(reader->file)->substr(0, 5000) == scan_.substr(0, 5000));
  ASSERT_TRUE(hands().Patch("new", "more", 100).ok());
  EXPECT_EQ(ReadOpen(reader->file)->substr(100, 4), "more");
  drive_->Release(reader->file);
  FlushAll();
  scan_.replace(100, 4, "more");
  EXPECT_TRUE(world_.All()["new"] == scan_);
}

// The room of a file that was deleted before it went up can be written to at once.
TEST_F(TwoDisksTest, ADeletionMakesRoomOnTheDiskOfTheWaiting) {
  Open();
  disk_.on_free = [this] {
    std::uint64_t used = 0;
    for (const auto& entry :
         std::filesystem::recursive_directory_iterator(folder_ / "state/pending"))
      if (entry.is_regular_file()) used += entry.file_size();
    const std::uint64_t all = (36ull << 20);  // of which 32 MiB are for the index
    return all - std::min(used, all);
  };
  world_.SetOffline(true);
  ASSERT_TRUE(Write("a", scan_).ok());
  EXPECT_EQ(Write("b", scan_).error().code, Code::kNoSpace);
  ASSERT_TRUE(drive_->Unlink(kRootId, "a").ok());
  EXPECT_TRUE(Write("b", scan_).ok());
  disk_.on_free = nullptr;
}

// Whatever fails of a copy for the other disk: the next attempt makes it anew.
TEST_F(TwoDisksTest, AWriteThatFailedAtAnyStepOfTheCopySucceedsTheNextTime) {
  quiet_ = Duration(60000);  // no other step is the one that fails
  Open();
  int failed = 0;
  for (std::uint64_t at = 1; at <= 30; ++at) {
    SCOPED_TRACE(at);
    const std::string text = fmt::format("written {:02}", at);
    disk_.FailAt(disk_.operations() + at);
    const Status first = hands().Patch("scan", text, 5000);
    disk_.FailAt(0);
    if (!first.ok()) {
      ++failed;
      const Status again = hands().Patch("scan", text, 5000);
      ASSERT_TRUE(again.ok()) << first.error().what << ", then " << again.error().what;
    }
    FlushAll();
    ASSERT_EQ(world_.All()["scan"].substr(5000, text.size()), text);
    ASSERT_EQ(FilesBelow(folder_ / "state/pending"), 0u);
  }
  EXPECT_GT(failed, 4);
}

// A file of no bytes, of which nobody learnt that it went up. (A copy whose last step had failed
// was ended once more, and never could be.)
TEST_F(TwoDisksTest, AnEmptyFileGoesUpWhateverFailedOfTheCopy) {
  Play("set retry=1; open");
  for (std::uint64_t at = 1; at <= 80; ++at) {
    SCOPED_TRACE(at);
    const std::string name = fmt::format("label {:02}", at);
    world_.SetOffline(true);
    ASSERT_TRUE(Write(name, "").ok());
    world_.Lose("write");
    disk_.FailAt(disk_.operations() + at);
    Play("online; flush");
    disk_.FailAt(0);
    ASSERT_EQ(world_.All().count(name), 1u);
    ASSERT_FALSE(HasFailure());
  }
}

TEST_F(TwoDisksTest, WhatWasCutShortAtTheEndOfACopyIsTidiedAway) {
  Open();
  ASSERT_TRUE(hands().Read("scan").ok());
  const std::string id = std::to_string(IdOf("scan"));
  Close();
  ASSERT_TRUE(WriteFileAtomically(folder_ / "state/pending/" + id + ".new", "half", 0600).ok());
  Open();
  EXPECT_EQ(FilesBelow(folder_ / "state/pending"), 0u);
  Play("patch scan 0: WRITTEN; flush");
  EXPECT_EQ(world_.All()["scan"].substr(0, 7), "WRITTEN");
}

}  // namespace
}  // namespace pargeter::test
