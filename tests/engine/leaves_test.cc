// The engine's small parts that need no drive: events, health, the pace of listings, the one door
// to the store.
#include <gtest/gtest.h>

#include "engine/observe/events.h"
#include "engine/observe/health.h"
#include "engine/provenance/recent_changes.h"
#include "engine/refresh/listing_pace.h"
#include "engine/store/store_client.h"
#include "support/clocks.h"
#include "support/fake_store.h"

namespace pargeter::test {
namespace {

class Recorder : public ChangeListener {
 public:
  void ContentChanged(NodeId id) override { Note("content " + std::to_string(id)); }
  void AttributesChanged(NodeId id) override { Note("attributes " + std::to_string(id)); }
  void NameChanged(NodeId parent, const std::string& name) override {
    Note("name " + std::to_string(parent) + "/" + name);
  }
  std::vector<std::string> WaitFor(std::size_t count) {
    Lock lock(mutex_);
    const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    while (heard_.size() < count && changed_.WaitUntil(mutex_, until)) {
    }
    return heard_;
  }

 private:
  void Note(std::string what) {
    const Lock lock(mutex_);
    heard_.push_back(std::move(what));
    changed_.NotifyAll();
  }
  Mutex mutex_;
  CondVar changed_;
  std::vector<std::string> heard_;
};

TEST(EventsTest, AFaceHearsThemInOrderAndActivityKeepsTheRest) {
  Recorder face;
  Events events(&SystemClock());
  events.Publish(Event::ContentChanged(1));  // before there is a face: nobody's
  events.Start(&face);
  events.Publish(Event::ContentChanged(2));
  events.Publish(Event::Happened("here", "uploaded", "herbs/a", "3 B"));
  events.Publish(Event::NameChanged(1, "b"));
  events.Publish(Event::AttributesChanged(3));
  EXPECT_EQ(face.WaitFor(3), (std::vector<std::string>{"content 2", "name 1/b", "attributes 3"}));
  events.Stop();
  events.Publish(Event::ContentChanged(4));
  EXPECT_EQ(face.WaitFor(3).size(), 3u);
  const auto happened = events.activity().After(0, 10);
  ASSERT_EQ(happened.size(), 1u);
  EXPECT_EQ(happened[0].path, "herbs/a");
}

TEST(HealthTest, ShowsWhatAPersonMustMendBeforeWhatMayPass) {
  Health health;
  EXPECT_EQ(health.Worst(), "");
  EXPECT_TRUE(health.Warn("the index was lost"));
  EXPECT_FALSE(health.Warn("the index was lost"));
  health.NoteFault(7, Error(Code::kUnavailable, "offline"));  // said apart
  EXPECT_EQ(health.Worst(), "the index was lost");
  health.NoteFault(7, Error(Code::kStoreFault, "500"));
  EXPECT_EQ(health.Worst(), "500");
  health.SetPinFault("no room for pins");
  EXPECT_EQ(health.Worst(), "no room for pins");
  health.NoteFault(7, Error(Code::kSignIn, "signed out"));
  EXPECT_EQ(health.Worst(), "signed out");
  health.NoteSignedIn();
  health.SetPinFault("");
  health.ClearFault(8);  // another's
  EXPECT_EQ(health.Worst(), "500");
  health.ClearFault(7);
  EXPECT_EQ(health.Worst(), "the index was lost");
}

TEST(ListingPaceTest, LetsEightWaitAtOnceAndTwoMoreEachSecond) {
  StandingClock clock;
  ListingPace pace(&clock);
  const auto waiting = [&] {
    int count = 0;
    while (pace.MayWait()) ++count;
    return count;
  };
  EXPECT_EQ(waiting(), 8);
  clock.Advance(std::chrono::seconds(1));
  EXPECT_EQ(waiting(), 2);
  clock.Advance(std::chrono::hours(1));
  EXPECT_EQ(waiting(), 8);
}

TEST(StoreClientTest, CountsRequestsByTrafficAndRefusesThemWhileOffline) {
  FakeWorld world;
  world.Put("a", "A");
  const Cancel stop = std::make_shared<CancelToken>();
  StoreClient store(std::make_unique<FakeStore>(&world),
                    {&SystemClock(), Duration(60000), stop, [] {}});
  const auto look = [&](Traffic traffic) {
    return store.Ask(traffic, [&](const Call& call) { return store.Look("a", call); });
  };
  EXPECT_TRUE(look(Traffic::kForeground).ok());
  EXPECT_TRUE(look(Traffic::kPrefetch).ok());
  EXPECT_TRUE(store.LookIfThere("a", {nullptr, Traffic::kUpload})->has_value());
  EXPECT_FALSE(store.LookIfThere("b", {nullptr, Traffic::kUpload})->has_value());
  EXPECT_EQ(store.Requests(Traffic::kForeground), 1u);
  EXPECT_EQ(store.Requests(Traffic::kPrefetch), 1u);
  EXPECT_EQ(store.Requests(Traffic::kUpload), 2u);
  store.Report(Error(Code::kUnavailable, "the cable"));
  EXPECT_EQ(look(Traffic::kForeground).error().code, Code::kUnavailable);
  EXPECT_EQ(store.Requests(Traffic::kForeground), 1u);  // the store was not asked
  EXPECT_NE(store.OfflineSince(), 0);
  store.Stop();
}

// Answers are older or younger than what is known: by the time at which they were asked for.
TEST(RecentChangesTest, AnOlderAnswerDoesNotCountAgainstALaterChange) {
  StandingClock clock;
  RecentChanges recent(&clock);
  const Steady before = clock.Now();
  clock.Advance(Duration(10));
  recent.NoteChanged(7);
  recent.NoteGone(kRootId, "fern");
  EXPECT_TRUE(recent.WasChangedSince(7, before));
  EXPECT_TRUE(recent.WasGoneSince(kRootId, "fern", before));
  clock.Advance(Duration(10));
  EXPECT_FALSE(recent.WasChangedSince(7, clock.Now()));
  EXPECT_FALSE(recent.WasGoneSince(kRootId, "fern", clock.Now()));
  recent.NoteChanged(7, before);  // told by an answer from before: the later one stands
  EXPECT_TRUE(recent.WasChangedSince(7, before + Duration(5)));
  recent.ForgetBefore(clock.Now(), clock.Now());
  EXPECT_FALSE(recent.WasChangedSince(7, before));
}

TEST(RecentChangesTest, AnAttemptIsMissedFromTheFirstLookOn) {
  StandingClock clock;
  RecentChanges recent(&clock);
  const Steady first = recent.MissingSince(7);
  clock.Advance(Duration(10));
  EXPECT_EQ(recent.MissingSince(7), first);
  EXPECT_EQ(recent.CopySeenSince(7), clock.Now());
  recent.ForgetAttempt(7);
  EXPECT_EQ(recent.MissingSince(7), clock.Now());
  recent.NoteAbandonedWrite(7, "d/fern");
  clock.Advance(Duration(100));
  EXPECT_TRUE(recent.IsAbandonedWrite(7, "d/fern", Duration(100)));
  EXPECT_FALSE(recent.IsAbandonedWrite(7, "d/fern", Duration(99)));
  EXPECT_FALSE(recent.IsAbandonedWrite(8, "d/fern", Duration(100)));
}

TEST(RecentChangesTest, TombstonesAreOfTheFileThatMoved) {
  StandingClock clock;
  RecentChanges recent(&clock);
  for (const NodeId tombstone : {20, 21}) recent.AddTombstone(7, tombstone);
  recent.NoteCopied(20);
  EXPECT_TRUE(recent.IsTombstoneOf(7, 20) && !recent.IsTombstoneOf(8, 20));
  EXPECT_TRUE(recent.WasCopiedWithin(20, Duration(0)) && !recent.WasCopiedWithin(21, Duration(9)));
  recent.ForgetTombstone(7, 20);
  EXPECT_EQ(recent.TombstonesOf(7), std::vector<NodeId>{21});
}

}  // namespace
}  // namespace pargeter::test
