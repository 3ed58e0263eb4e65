// The queue of local changes by itself: a worker that does as it is told, and no drive.
#include "engine/outbox/outbox.h"

#include <gtest/gtest.h>

#include <atomic>
#include <map>

namespace pargeter::test {
namespace {

using Next = TurnResult::Next;

TurnResult Again(Duration delay, std::optional<Error> refusal = {}) {
  TurnResult result;
  result.next = Next::kAgain;
  result.delay = delay;
  result.why = "told to";
  result.refusal = std::move(refusal);
  result.failed = result.refusal.has_value();
  return result;
}

TurnResult Behind(NodeId behind) {
  TurnResult result;
  result.next = Next::kBehind;
  result.behind = behind;
  return result;
}

class OutboxTest : public ::testing::Test, public Outbox::Worker {
 protected:
  void TearDown() override {  // while it is still a worker
    Release();
    stop_->Cancel();
    outbox_.Stop();
  }
  TurnResult RunTurn(NodeId id, int, const Cancel&) override {
    Lock lock(mutex_);
    turns_.push_back(id);
    most_ = std::max(most_, ++running_);
    changed_.NotifyAll();
    while (held_.count(id) > 0) changed_.WaitUntil(mutex_, Soon());
    --running_;
    auto& results = told_[id];
    if (results.empty()) return TurnResult::Done();
    TurnResult result = results.front();
    results.erase(results.begin());
    return result;
  }
  std::int64_t EndTurn(NodeId id) override { return id; }

  static Steady Soon() { return std::chrono::steady_clock::now() + std::chrono::seconds(20); }
  std::vector<NodeId> AwaitTurns(std::size_t count) {
    Lock lock(mutex_);
    const Steady until = Soon();
    while (turns_.size() < count && changed_.WaitUntil(mutex_, until)) {
    }
    return turns_;
  }
  void Hold(NodeId id) {
    const Lock lock(mutex_);
    held_.insert(id);
  }
  void Release() {
    const Lock lock(mutex_);
    held_.clear();
    changed_.NotifyAll();
  }
  void AwaitIdle() {
    const Steady until = Soon();
    while (outbox_.Running() > 0 && std::chrono::steady_clock::now() < until)
      outbox_.WaitForProgress(until);
  }
  std::vector<NodeId> Turns() {
    const Lock lock(mutex_);
    return turns_;
  }

  Mutex mutex_;
  CondVar changed_;
  std::vector<NodeId> turns_;
  std::map<NodeId, std::vector<TurnResult>> told_;
  std::set<NodeId> held_;
  int running_ = 0, most_ = 0;
  std::atomic<bool> online_{true};
  const Cancel stop_ = std::make_shared<CancelToken>();
  Outbox outbox_{{&SystemClock(), 4, Duration(1), stop_, [this] { return online_.load(); }}};
};

TEST_F(OutboxTest, ANodeThatIsPushedDuringItsTurnGetsAnotherAfterIt) {
  Hold(1);
  outbox_.Start(this);
  outbox_.Push(1, 1);
  AwaitTurns(1);
  outbox_.Push(1, 2, Duration(0));
  EXPECT_FALSE(outbox_.IsQueued(1));
  Release();
  EXPECT_EQ(AwaitTurns(2), (std::vector<NodeId>{1, 1}));
  EXPECT_EQ(most_, 1);
}

TEST_F(OutboxTest, AChangeDuringATurnThatEndsInALongWaitDoesNotWaitWithIt) {
  told_[1] = {Again(Duration(3600'000), Error(Code::kRefused, "held back"))};
  Hold(1);
  outbox_.Start(this);
  outbox_.Push(1, 1, Duration(0));
  AwaitTurns(1);
  const Steady begun = std::chrono::steady_clock::now();
  outbox_.Push(1, 1, Duration(0));  // released meanwhile
  Release();
  EXPECT_EQ(AwaitTurns(2), (std::vector<NodeId>{1, 1}));
  AwaitIdle();
  EXPECT_FALSE(outbox_.RefusalOfAll(begun));
}

TEST_F(OutboxTest, WhatWaitsBehindAnotherRunsWhenThatHasEnded) {
  told_[2] = {Behind(1)};
  Hold(1);
  outbox_.Start(this);
  outbox_.Push(1, 1, Duration(0));
  AwaitTurns(1);
  outbox_.Push(2, 2, Duration(0));
  AwaitTurns(2);
  while (outbox_.Running() > 1) outbox_.WaitForProgress(Soon());
  EXPECT_EQ(outbox_.DelayOf(2).tries, 1);
  EXPECT_FALSE(outbox_.DelayOf(2).next_try);
  Release();
  EXPECT_EQ(AwaitTurns(3), (std::vector<NodeId>{1, 2, 2}));
}

TEST_F(OutboxTest, TwoThatWaitForEachOtherBothLookAgain) {
  told_[1] = {Behind(2)};
  told_[2] = {Behind(1)};
  outbox_.Start(this);
  outbox_.Push(1, 1, Duration(0));
  outbox_.Push(2, 2, Duration(0));
  EXPECT_GE(AwaitTurns(4).size(), 4u);
}

TEST_F(OutboxTest, NobodyBeginsATurnBesideOneThatRunsAlone) {
  Hold(1);
  Hold(2);
  outbox_.Start(this);
  outbox_.Push(1, 1, Duration(0));
  outbox_.Push(2, 2, Duration(0));
  AwaitTurns(2);
  {
    const Outbox::Alone alone(&outbox_, 1, std::chrono::steady_clock::now());
    EXPECT_FALSE(alone);  // the other one is under way
  }
  Release();
  AwaitIdle();
  ASSERT_FALSE(outbox_.Steal(3));
  online_ = false;
  outbox_.Push(3, 3, Duration(0));
  outbox_.Push(4, 4, Duration(0));
  ASSERT_TRUE(outbox_.Steal(3));
  {
    const Outbox::Alone alone(&outbox_, 3, Soon());
    ASSERT_TRUE(alone);
    EXPECT_TRUE(outbox_.IsAnyAlone());
    online_ = true;
    outbox_.Wake();
    EXPECT_EQ(Turns().size(), 2u);
  }
  EXPECT_EQ(AwaitTurns(3).back(), 4);
  outbox_.EndStolen(3, Again(Duration(0)));
  EXPECT_EQ(AwaitTurns(4).back(), 3);
}

TEST_F(OutboxTest, AHurrySendsAtOnceAndTriesOnceMoreWhatWasRefused) {
  const Error refused(Code::kPermission, "read only there");
  told_[1] = {Again(Duration(3600'000), refused), Again(Duration(3600'000), refused)};
  outbox_.Start(this);
  outbox_.Push(1, 1, Duration(0));
  AwaitTurns(1);
  AwaitIdle();
  outbox_.Push(2, 2, Duration(3600'000));
  const Steady begun = std::chrono::steady_clock::now();
  const Outbox::Hurry hurry(&outbox_);
  AwaitTurns(3);
  AwaitIdle();
  EXPECT_EQ(std::multiset<NodeId>(turns_.begin(), turns_.end()), (std::multiset<NodeId>{1, 1, 2}));
  const auto why = outbox_.RefusalOfAll(begun);
  ASSERT_TRUE(why);
  EXPECT_EQ(why->code, Code::kPermission);
  EXPECT_FALSE(outbox_.RefusalOfAll(Soon()));  // not since then
}

TEST_F(OutboxTest, ARefusalOfATurnThatBeganBeforeTheHurryIsTriedOnceMore) {
  told_[1] = {Again(Duration(3600'000), Error(Code::kPermission, "read only there"))};
  Hold(1);
  outbox_.Start(this);
  outbox_.Push(1, 1, Duration(0));
  AwaitTurns(1);
  const Steady begun = std::chrono::steady_clock::now();
  const Outbox::Hurry hurry(&outbox_);
  Release();
  AwaitTurns(2);
  AwaitIdle();
  EXPECT_FALSE(outbox_.RefusalOfAll(begun));
}

TEST_F(OutboxTest, AStoreThatIsAskedTooOftenGetsHalfAsMuchAtOnce) {
  for (NodeId id = 1; id <= 4; ++id) Hold(id);
  outbox_.SlowDown(Duration(0));
  outbox_.Start(this);
  for (NodeId id = 1; id <= 4; ++id) outbox_.Push(id, id, Duration(0));
  AwaitTurns(2);
  EXPECT_EQ(outbox_.Running(), 2u);
  Release();
  EXPECT_EQ(AwaitTurns(4).size(), 4u);
  AwaitIdle();
  EXPECT_EQ(most_, 2);
}

}  // namespace
}  // namespace pargeter::test
