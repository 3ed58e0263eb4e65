// A listing that was asked for before something else was learnt, and comes after it.
#include <gtest/gtest.h>

#include "support/drive_fixture.h"
#include "support/no_threads.h"

namespace pargeter::test {
namespace {

class ListingTest : public DriveTest {};

TEST_F(ListingTest, AListingHalfWayThroughAChangeOfPlacesLosesNeither) {
  world_.Put("a", "A");
  world_.Put("b", "B");
  Open();
  {
    const Lock lock(world_.mutex);
    world_.forbid = "a";  // one of the two is left standing under a name of our own
  }
  ASSERT_TRUE(drive_->Rename(kRootId, "a", kRootId, "t", Drive::Replace::kYes).ok());
  ASSERT_TRUE(drive_->Rename(kRootId, "b", kRootId, "a", Drive::Replace::kYes).ok());
  ASSERT_TRUE(drive_->Rename(kRootId, "t", kRootId, "b", Drive::Replace::kYes).ok());
  EXPECT_EQ(drive_->Flush(Duration(1500)).error().code, Code::kPermission);
  // a new start knows of no recent change of ours: only the listing counts
  Close();
  Open();
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(Names(""), (std::vector<std::string>{"a", "b"}));
  {
    const Lock lock(world_.mutex);
    world_.forbid.clear();
  }
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"a", "B"}, {"b", "A"}}));
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
  EXPECT_EQ(world_.All(),
            (std::map<std::string, std::string>{{"plants/a", "a"}, {"plants/b", "b"}}));
  const auto number = drive_->BeginFetch({herbs});
  EXPECT_TRUE(Eventually([&] { return drive_->FetchOf(*number)->finished.load(); }));
}

TEST_F(ListingTest, BringsNothingBackThatHasMoved) {
  world_.moves_files = true;
  world_.Put("a", "A");
  Open();
  Names("");
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             EXPECT_TRUE(drive_->Rename(kRootId, "a", kRootId, "b", Drive::Replace::kYes).ok());
             EXPECT_TRUE(Eventually([&] { return world_.All().count("b") == 1; }));
             FlushAll();
           });
  EXPECT_EQ(Names(""), std::vector<std::string>{"b"});
  EXPECT_EQ(Asked("move").size(), 1u);
}

// It is asked for by name, as the folder is large, and was made after its page was sent.
TEST_F(ListingTest, TakesNothingAwayThatWasAskedForByName) {
  world_.page_size = 2;
  for (const char* name : {"b", "c", "d", "e"}) world_.Put(name, name);
  Open();
  ASSERT_EQ(Names("").size(), 4u);
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
  world_.serial_versions = true;
  world_.Put("a", "A");
  Open();
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
  class LaterClock : public Clock {
   public:
    std::atomic<int> minutes = 0;
    Nanos Wall() const override { return SystemClock().Wall() + minutes * 60'000'000'000ll; }
    Steady Now() const override { return SystemClock().Now() + std::chrono::minutes(minutes); }
  };
  LaterClock clock;
  clock_ = &clock;
  watch_every_ = Duration(10);
  world_.Put("f", "content");
  world_.Put("g", "former");
  world_.Put("d/e", "e");
  Open();
  Names("d");
  ASSERT_EQ(Names("").size(), 3u);
  Overtake([&] { Ignore(drive_->Refresh()); },
           [&] {
             EXPECT_TRUE(drive_->Unlink(kRootId, "f").ok());
             EXPECT_TRUE(Write("g", "newer").ok());
             FlushAll();
             clock.minutes = 11;
             Names("d");
             for (const int minutes : {13, 15}) {  // whoever looks there again puts things in order
               Asked("list");
               clock.minutes = minutes;
               EXPECT_TRUE(Eventually([&] { return !Asked("list").empty(); }));
             }
           });
  EXPECT_EQ(Names(""), (std::vector<std::string>{"d", "g"}));
  EXPECT_EQ(*Read("g"), "newer");
  for (const Happening& one : drive_->Happened(0, 100)) EXPECT_NE(one.side, "store") << one.path;
  Close();
}

}  // namespace
}  // namespace pargeter::test
