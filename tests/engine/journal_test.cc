// What a close has confirmed is in the journal, whatever else goes on with the file.
#include <gtest/gtest.h>

#include <future>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class JournalTest : public DriveTest {
 protected:
  // The process is killed, and another takes over.
  void Kill() {
    disk_.DieAt(disk_.operations());
    Close();
    disk_.Heal();
    Open();
  }
};

// The kernel closes a file for good some time after the program did: while it is written anew.
TEST_F(JournalTest, AWriteIsJournalledThoughAnotherHandleWasSavedInTheMidstOfIt) {
  quiet_ = Duration(60000);
  Open();
  const auto former = drive_->Create(kRootId, "f", 0644, 0, 0, false);
  ASSERT_TRUE(former.ok());
  std::promise<void> writing;
  std::atomic<bool> saving{false};
  disk_.on_sync = [&, once = std::make_shared<std::atomic<bool>>(false)] {
    if (once->exchange(true)) return;
    saving = true;
    writing.get_future().wait_for(std::chrono::seconds(20));
  };
  auto saved = std::async(std::launch::async, [&] { return drive_->Fsync(former->file).ok(); });
  ASSERT_TRUE(Eventually([&] { return saving.load(); }));
  disk_.on_write = [&, once = std::make_shared<std::atomic<bool>>(false)] {
    if (once->exchange(true)) return;
    writing.set_value();
    saved.wait_for(std::chrono::milliseconds(200));  // it holds the tree now, and wants the content
  };
  const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  ASSERT_TRUE(drive_->Write(opened->file, "Silene vulgaris", 0, false).ok());
  ASSERT_TRUE(saved.get());
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  disk_.on_write = disk_.on_sync = nullptr;
  Kill();
  EXPECT_EQ(*Read("f"), "Silene vulgaris");
}

// What was fetched is written down when it is on the disk: a good while later.
TEST_F(JournalTest, WhatIsKnownOfFetchedBytesDoesNotReplaceWhatIsKnownOfNewerOnes) {
  std::string scan(3'000'000, 'o');
  world_.Put("f", scan);
  quiet_ = Duration(60000);
  Open();
  const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  char some[1000];
  ASSERT_TRUE(drive_->Read(opened->file, some, sizeof some, 0).ok());
  drive_->Release(opened->file);
  std::promise<void> written;
  std::atomic<bool> saving{false};
  disk_.on_sync = [&, once = std::make_shared<std::atomic<bool>>(false)] {
    if (once->exchange(true)) return;
    saving = true;
    written.get_future().wait_for(std::chrono::seconds(20));
  };
  const auto saved = std::async(std::launch::async, [&] { Ignore(drive_->Evict({}, {})); });
  ASSERT_TRUE(Eventually([&] { return saving.load(); }));
  ASSERT_TRUE(Hands(drive_.get()).Patch("f", "new", 2'900'000).ok());
  written.set_value();
  saved.wait();
  disk_.on_sync = nullptr;
  Kill();
  scan.replace(2'900'000, 3, "new");
  EXPECT_TRUE(*Hands(drive_.get()).Read("f") == scan);
}

// The store is asked to move it, and refuses, since others have changed it. Meanwhile it is
// written.
TEST_F(JournalTest, AWriteIsNotReplacedByWhatOthersMadeOfTheFileBeforeItMoved) {
  world_.Put("f", "base");
  Open();
  ASSERT_EQ(*Read("f"), "base");
  world_.Put("f", "theirs");
  std::atomic<bool> written{false};
  world_.on_copied = [&] {
    if (!written.exchange(true)) {
      EXPECT_TRUE(Write("g", "ours").ok());
    }
  };
  ASSERT_TRUE(Hands(drive_.get()).Move("f", "g").ok());
  ASSERT_TRUE(Eventually([&] { return written.load(); }));
  FlushAll();
  world_.on_copied = nullptr;
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"f", "theirs"}, {"g", "ours"}}));
}

}  // namespace
}  // namespace pargeter::test
