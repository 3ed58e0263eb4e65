// Files that a program holds open and writes to for hours: logs, recordings, data bases.
#include <gtest/gtest.h>

#include <atomic>
#include <thread>

#include "support/story.h"

namespace pargeter::test {
namespace {

class HeldOpenTest : public DriveTest {
 protected:
  HeldOpenTest() { retry_pause_ = Duration(10); }
  Drive::Opened Hold(const std::string& name) {
    const NodeId id = IdOf(name);
    auto opened = id == kNoNode ? drive_->Create(kRootId, name, 0644, 0, 0, false)
                                : drive_->OpenNode(id, Drive::Intent::kWrite);
    EXPECT_TRUE(opened.ok());
    return *opened;
  }
  std::string RemotePlace(const std::string& path) { return world_.All()[path]; }
  // While "one " goes up, once.
  template <typename Change>
  void WhileItGoesUp(Change change) {
    std::atomic<bool> changed{false};
    world_.on_write = [&](const std::string&) {
      if (!changed.exchange(true)) change();
    };
    FlushAll();
    world_.on_write = nullptr;
    EXPECT_TRUE(changed);
  }
  void AddWhileItGoesUp(bool tells_writer, int lost_answers) {
    SCOPED_TRACE(tells_writer);
    world_.serial_versions = !tells_writer;
    const std::string name = tells_writer ? "f" : "g";
    Open();
    ASSERT_TRUE(Write(name, "one ").ok());
    world_.LoseAnswers(lost_answers);
    WhileItGoesUp([&] { EXPECT_TRUE(hands().Patch(name, "two", 4).ok()); });
    EXPECT_EQ(RemotePlace(name), "one two");
    Play("conflicts 0; close");
  }
};

TEST_F(HeldOpenTest, WhatIsWrittenWithoutAPauseGoesUpNowAndThen) {
  open_patience_ = Duration(100);
  watch_every_ = Duration(10);
  Open();
  const Drive::Opened log = Hold("log");
  std::atomic<bool> enough{false};
  std::string all;
  std::thread program([&] {
    while (!enough) {
      const std::string line = "sheet " + std::to_string(all.size()) + "\n";
      ASSERT_TRUE(drive_->Write(log.file, line, 0, true).ok());
      all += line;
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
    }
  });
  std::size_t before = 0;
  for (int i = 0; i < 2; ++i) {  // and then once more
    EXPECT_TRUE(Eventually([&] { return RemotePlace("log").size() > before; }));
    before = RemotePlace("log").size();
  }
  enough = true;
  program.join();
  EXPECT_EQ(RemotePlace("log"), all.substr(0, RemotePlace("log").size()));
  drive_->Release(log.file);
  FlushAll();
  EXPECT_EQ(RemotePlace("log"), all);
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

TEST_F(HeldOpenTest, ButNotAllTheTime) {
  watch_every_ = Duration(10);
  Open();
  const Drive::Opened log = Hold("log");
  world_.TakeAsked();
  // planned several times, and each time it was written to a moment ago
  const auto until = std::chrono::steady_clock::now() + std::chrono::milliseconds(2500);
  while (std::chrono::steady_clock::now() < until) {
    ASSERT_TRUE(drive_->Write(log.file, "one more ", 0, true).ok());
    ASSERT_TRUE(drive_->Flush(log.file).ok());
  }
  EXPECT_TRUE(Asked("write").empty());
  drive_->Release(log.file);
  FlushAll();
  EXPECT_EQ(Asked("write").size(), 1u);
}

TEST_F(HeldOpenTest, WhatIsWrittenBehindLetsItGoUp) {
  for (const bool tells_writer : {true, false}) {
    AddWhileItGoesUp(tells_writer, 0);
    EXPECT_EQ(Asked("write").size(), 2u);  // first as it was, and then as it is
  }
}

TEST_F(HeldOpenTest, WhatIsWrittenIntoItDoesNot) {
  Play("set serial; open");
  ASSERT_TRUE(Write("f", "one ").ok());
  WhileItGoesUp([&] { Play("patch f 4: two; patch f 0: O; patch f 7: !"); });
  EXPECT_EQ(Asked("write").size(), 1u);
  EXPECT_EQ(RemotePlace("f"), "One two!");
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

// The store has the beginning, nobody heard of it, and the file is longer by now.
TEST_F(HeldOpenTest, ALostAnswerToABeginningIsNoConflict) {
  for (const bool tells_writer : {true, false}) AddWhileItGoesUp(tells_writer, 1);
}

TEST_F(HeldOpenTest, TheBeginningInPartsIsNotTakenForTheWhole) {
  world_.multipart_above = 100000;
  Open();
  const std::string scan(300000, 's');
  std::atomic<bool> changed{false};
  world_.on_part = [&](const std::string&) {
    if (changed.exchange(true)) return;
    EXPECT_TRUE(hands().Patch("f", "label", scan.size()).ok());
  };
  ASSERT_TRUE(Write("f", scan).ok());
  FlushAll();
  world_.on_part = nullptr;
  EXPECT_TRUE(changed);
  EXPECT_EQ(RemotePlace("f"), scan + "label");
  EXPECT_EQ(world_.Uploads(), 0u);
  EXPECT_EQ(Asked("complete-parts").size(), 2u);
}

}  // namespace
}  // namespace pargeter::test
