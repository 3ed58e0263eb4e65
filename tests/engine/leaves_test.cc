// The engine's small parts that need no drive: events, health, the pace of listings, the one door
// to the store.
#include <gtest/gtest.h>

#include "engine/observe/events.h"
#include "engine/observe/health.h"
#include "engine/refresh/listing_pace.h"
#include "engine/store/store_client.h"
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

class HandClock : public Clock {
 public:
  Steady Now() const override { return now; }
  Nanos Wall() const override { return 0; }
  Steady now = Steady() + std::chrono::hours(1);
};

TEST(ListingPaceTest, LetsEightWaitAtOnceAndTwoMoreEachSecond) {
  HandClock clock;
  ListingPace pace(&clock);
  const auto waiting = [&] {
    int count = 0;
    while (pace.MayWait()) ++count;
    return count;
  };
  EXPECT_EQ(waiting(), 8);
  clock.now += std::chrono::seconds(1);
  EXPECT_EQ(waiting(), 2);
  clock.now += std::chrono::hours(1);
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

}  // namespace
}  // namespace pargeter::test
