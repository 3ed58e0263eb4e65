// A waiting change has a reason, is tried less and less often, and no flush waits for it in vain.
#include <gmock/gmock.h>

#include "support/story.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

class WaitingTest : public DriveTest {
 protected:
  // Each waiting change has been tried, and says why it is not done.
  void ExpectExplained(const char* name) {
    const auto explained = [&] {
      const auto queue = drive_->Queue(100);
      if (!queue.ok() || queue->empty()) return false;
      return std::all_of(queue->begin(), queue->end(), [&](const auto& one) {
        const Drive::Delay delay = drive_->DelayOf(one.second);
        return delay.tries > 0 && !delay.why.empty();
      });
    };
    EXPECT_TRUE(Eventually(explained)) << name << Waiting();
  }
  // In a span twice as long, not twice as often.
  void ExpectAskedLessAndLess(const char* name) {
    world_.TakeAsked();
    const auto asked_for = [&](Duration span) {
      CancelToken().WaitFor(span);
      return world_.TakeAsked().size();
    };
    const std::size_t first = asked_for(Duration(500)), later = asked_for(Duration(1000));
    EXPECT_LE(later, first + 6) << name;
  }
};

struct Postponed {
  const char* name;
  std::function<void(WaitingTest*, FakeWorld*, Drive*, Hands)> make;
};

TEST_F(WaitingTest, EveryPostponementHasACountABackOffAndAReason) {
  const std::vector<Postponed> ways = {
      {"the store forbids it",
       [](WaitingTest*, FakeWorld* world, Drive*, Hands hands) {
         {
           const Lock lock(world->mutex);
           world->forbid = "f";
         }
         EXPECT_TRUE(hands.Write("f", "x").ok());
       }},
      {"a program writes the file",
       [](WaitingTest*, FakeWorld*, Drive* drive, Hands) {
         auto open = drive->Create(kRootId, "open", 0644, 0, 0, false);
         EXPECT_TRUE(open.ok() && drive->Write(open->file, "begun", 0, false).ok());
         EXPECT_TRUE(drive->Flush(open->file).ok());
         // (held open to the end of the test)
         static std::vector<OpenFilePtr> held;
         held.push_back(open->file);
       }},
      {"the deletion is held back",
       [](WaitingTest* test, FakeWorld*, Drive* drive, Hands hands) {
         for (int i = 0; i < 6; ++i) EXPECT_TRUE(hands.Write("d" + std::to_string(i), "d").ok());
         EXPECT_TRUE(drive->Flush(Duration(60000)).ok());
         for (int i = 0; i < 6; ++i) EXPECT_TRUE(hands.Remove("d" + std::to_string(i)).ok());
         (void)test;
       }},
      {"deletions are counted",
       [](WaitingTest*, FakeWorld*, Drive* drive, Hands hands) {
         for (int i = 0; i < 3; ++i) EXPECT_TRUE(hands.Write("c" + std::to_string(i), "c").ok());
         EXPECT_TRUE(drive->Flush(Duration(60000)).ok());
         for (int i = 0; i < 3; ++i) EXPECT_TRUE(hands.Remove("c" + std::to_string(i)).ok());
       }},
      {"the store lists a version and does not give its bytes",
       [](WaitingTest*, FakeWorld* world, Drive* drive, Hands hands) {
         world->Put("base", std::string(300000, 'b'));
         EXPECT_TRUE(drive->Refresh().ok());
         {
           const Lock lock(world->mutex);
           world->withheld = "base";
         }
         EXPECT_TRUE(hands.Patch("base", "changed", 100).ok());
       }},
      {"a program has the deleted file open",
       [](WaitingTest*, FakeWorld*, Drive* drive, Hands hands) {
         EXPECT_TRUE(hands.Write("gone", "g").ok());
         EXPECT_TRUE(drive->Flush(Duration(60000)).ok());
         auto open = drive->OpenNode(*hands.Find("gone"), Drive::Intent::kRead);
         EXPECT_TRUE(open.ok());
         EXPECT_TRUE(hands.Remove("gone").ok());
         static std::vector<OpenFilePtr> held;
         held.push_back(open->file);
       }},
      {"a change waits for another",
       [](WaitingTest*, FakeWorld* world, Drive* drive, Hands hands) {
         EXPECT_TRUE(hands.Write("a", "a").ok() && hands.Write("b", "b").ok());
         EXPECT_TRUE(drive->Flush(Duration(60000)).ok());
         {
           const Lock lock(world->mutex);
           world->forbid = "c";
         }
         EXPECT_TRUE(hands.Move("a", "c").ok() && hands.Move("b", "a").ok());
       }},
  };
  hold_files_ = 5;
  hold_quiet_ = Duration(60000);
  retry_pause_ = Duration(100);
  for (const Postponed& way : ways) {
    if (drive_) ForgetState();
    std::filesystem::remove_all(folder_ / "cache");
    world_.SetPath(&FakeWorld::forbid, "");
    world_.SetPath(&FakeWorld::withheld, "");
    world_.Clear();
    Open();
    way.make(this, &world_, drive_.get(), hands());
    ExpectExplained(way.name);
    ExpectAskedLessAndLess(way.name);
  }
}

// A flush repeats once what was refused for good, and says so; it does not ask on and on.
TEST_F(WaitingTest, AFlushDoesNotWaitForWhatOnlyAPersonCanMend) {
  Play("set retry=100; open");
  world_.SetPath(&FakeWorld::forbid, "f");
  Play("write f: kept; forget");
  const Status flushed = drive_->Flush(Duration(3600'000));
  ASSERT_FALSE(flushed.ok());
  EXPECT_EQ(flushed.error().code, Code::kPermission);
  EXPECT_THAT(flushed.error().what, HasSubstr("in vain")) << flushed.error().what;
  EXPECT_FALSE(flushed.error().remedy.empty());
  EXPECT_LE(Asked("write").size(), 3u);
  // what can go up beside it is waited for
  ASSERT_TRUE(Write("g", "goes").ok());
  EXPECT_EQ(drive_->Flush(Duration(3600'000)).error().code, Code::kPermission);
  EXPECT_EQ(world_.All().count("g"), 1u);
}

TEST_F(WaitingTest, AFlushThatNobodyWaitsForEnds) {
  Play("open; offline; write f: kept");
  int asked = 0;
  const Status flushed = drive_->Flush(Duration(3600'000), [&] { return ++asked > 2; });
  EXPECT_EQ(flushed.error().code, Code::kCancelled);
}

// The folder was removed while an upload into it was under way, and the rows below it after it.
TEST_F(WaitingTest, AFolderRemovedDuringAnUploadIntoItIsKnownToTheEnd) {
  Open();
  std::promise<void> reached, go_on;
  std::atomic<bool> first{true};
  world_.on_write = [&, gate = go_on.get_future().share()](const std::string&) {
    if (first.exchange(false)) {
      reached.set_value();
      gate.wait();
    }
  };
  ASSERT_TRUE(hands().MakeFolder("h").ok() && hands().MakeFolder("h/g").ok());
  ASSERT_TRUE(hands().Write("h/g/f", "f").ok());
  ASSERT_TRUE(Eventually([&] { return !first.load(); }));
  for (const char* path : {"h/g/f"}) ASSERT_TRUE(hands().Remove(path).ok());
  ASSERT_TRUE(hands().RemoveFolder("h/g").ok() && hands().RemoveFolder("h").ok());
  go_on.set_value();
  FlushAll();
  const Status index = drive_->CheckIndex();
  EXPECT_TRUE(index.ok()) << index.error().what;
  EXPECT_TRUE(world_.All().empty());
}

// An upload that was given up, as its file is deleted, leaves no name of ours.
TEST_F(WaitingTest, WhatAnUploadLeftThatIsGivenUpIsTakenAway) {
  Open();
  world_.Faults(1, 7);
  ASSERT_TRUE(Write("f", "x").ok());
  ASSERT_TRUE(Eventually([&] {
    const auto queue = drive_->Queue(1);
    return queue.ok() && !queue->empty() && (*queue)[0].second.pending.tries > 0;
  }));
  ASSERT_TRUE(hands().Remove("f").ok());
  world_.Faults(0, 7);
  FlushAll();
  const Lock lock(world_.mutex);
  EXPECT_EQ(world_.given_up, std::vector<std::string>{"f"});
}

}  // namespace
}  // namespace pargeter::test
