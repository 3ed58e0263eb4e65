// A listing that was asked for before something else was learnt, and comes after it.
#include <gtest/gtest.h>

#include "engine/refresh/listing_ages.h"
#include "support/no_threads.h"
#include "support/story.h"

namespace pargeter::test {
namespace {

class ListingTest : public DriveTest {};

TEST_F(ListingTest, AListingHalfWayThroughAChangeOfPlacesLosesNeither) {
  Play("put a: A; put b: B; open");
  world_.SetPath(&FakeWorld::forbid,
                 "a");  // one of the two is left standing under a name of our own
  Play("move a t; move b a; move t b");
  EXPECT_EQ(drive_->Flush(Duration(1500)).error().code, Code::kPermission);
  // a new start knows of no recent change of ours: only the listing counts
  Play("close; open; refresh; names: a b");
  world_.SetPath(&FakeWorld::forbid, "");
  Play("flush; store: a=B, b=A");
}

// A container allows so many threads, and others have them all.
TEST_F(ListingTest, NeedsNoThreadOfItsOwn) {
  for (const char* name : {"a", "b"}) world_.Put(std::string("herbs/") + name, name);
  Open();
  const NodeId herbs = IdOf("herbs");
  {
    const NoThreads none;
    EXPECT_EQ(Names("herbs"), (std::vector<std::string>{"a", "b"}));
    EXPECT_EQ(drive_->BeginFetch({herbs}).error().code, Code::kBusy);
    EXPECT_TRUE(drive_->Rename(kRootId, "herbs", kRootId, "plants", Drive::Replace::kYes).ok());
    FlushAll();  // the folder's move is made by several, where there are several
  }
  EXPECT_EQ(world_.All(), (Files{{"plants/a", "a"}, {"plants/b", "b"}}));
  const auto number = drive_->BeginFetch({herbs});
  EXPECT_TRUE(Eventually([&] { return drive_->FetchOf(*number)->finished.load(); }));
}

TEST_F(ListingTest, BringsNothingBackThatHasMoved) {
  Play("set moves-files; put a: A; open");
  Names("");
  Overtake([&] { Ignore(drive_->Refresh()); }, [&] { Play("move a b; at b; flush"); });
  EXPECT_EQ(Names(""), std::vector<std::string>{"b"});
  EXPECT_EQ(Asked("move").size(), 1u);
}

TEST_F(ListingTest, ARefreshIsNotAnsweredByAListingThatBeganBeforeIt) {
  Play("put b: B; open");
  std::promise<void> begun;
  std::future<Status> refreshed;
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             world_.Put("a", "A");
             refreshed = std::async(std::launch::async, [&] {
               begun.set_value();
               return drive_->Refresh();
             });
             begun.get_future().wait();
           });
  EXPECT_TRUE(refreshed.get().ok());
  EXPECT_EQ(Names(""), (std::vector<std::string>{"a", "b"}));
}

TEST(ListingAges, AListingThatBeganBeforeItsFolderWasDistrustedDoesNotCount) {
  const auto at = [](int seconds) { return Steady(std::chrono::seconds(seconds)); };
  ListingAges ages;
  EXPECT_FALSE(ages.When(1));
  ages.Note(1, at(10));
  ages.Note(2, at(10));
  EXPECT_EQ(ages.When(1), at(10));
  ages.Distrust(1, at(20));
  ages.Note(1, at(15));  // it was under way
  EXPECT_FALSE(ages.When(1));
  EXPECT_EQ(ages.When(2), at(10));
  ages.Note(1, at(20));
  EXPECT_EQ(ages.When(1), at(20));
  ages.DistrustAll(at(30));
  EXPECT_FALSE(ages.When(2));
  ages.Note(2, at(31));
  ages.ForgetBefore(at(31));
  EXPECT_EQ(ages.When(2), at(31));
  EXPECT_FALSE(ages.When(1));
}

// It is asked for by name, as the folder is large, and was made after its page was sent.
TEST_F(ListingTest, TakesNothingAwayThatWasAskedForByName) {
  world_.page_size = 2;
  for (const char* name : {"b", "c", "d", "e"}) world_.Put(name, name);
  Play("open; count: 4");
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             world_.Put("a", "late");
             EXPECT_NE(IdOf("a"), kNoNode);
           },
           2);
  ExpectNothingVanished();
  EXPECT_EQ(*Read("a"), "late");
}

// Others have changed it, and who was about to read it has noticed.
TEST_F(ListingTest, BringsNoFormerVersionBack) {
  Play("set serial; put a: A; open");
  const Drive::Opened open = *drive_->OpenNode(IdOf("a"), Drive::Intent::kRead);
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             world_.Put("a", "another");
             EXPECT_EQ(ReadOpen(open.file).error().code, Code::kStale);
             EXPECT_EQ(drive_->GetAttr(open.attr.id)->size, 7u);
           });
  EXPECT_EQ(drive_->GetAttr(open.attr.id)->size, 7u);
  drive_->Release(open.file);
  EXPECT_EQ(*Read("a"), "another");
}

// However long it takes: a folder of a million names, of a slow store.
TEST_F(ListingTest, BringsNothingBackThatWentLongAgo) {
  AheadClock clock;
  clock_ = &clock;
  watch_every_ = Duration(10);
  Play("put f: content; put g: former; put d/e: e; open; list d; count: 3");
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             Play("remove f; write g: newer; flush");
             clock.steady_ahead = std::chrono::nanoseconds(std::chrono::minutes(11)).count();
             Names("d");
             for (const int minutes : {13, 15}) {  // whoever looks there again puts things in order
               Asked("list");
               clock.steady_ahead = std::chrono::nanoseconds(std::chrono::minutes(minutes)).count();
               EXPECT_TRUE(Eventually([&] { return !Asked("list").empty(); }));
             }
           });
  Play("names: d g; read g: newer");
  for (const Happening& one : drive_->Happened(0, 100)) EXPECT_NE(one.side, "store") << one.path;
  Close();
}

}  // namespace
}  // namespace pargeter::test
