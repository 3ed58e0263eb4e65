// While the store moves something, it is at the one place or the other, and nobody here knows at
// which.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <future>

#include "support/story.h"

namespace pargeter::test {
namespace {

// Moves d/loans to d/lent; the store has done it, and `meanwhile` happens before its answer comes.
class MovingTest : public DriveTest {
 protected:
  MovingTest() {
    world_.moves_folders = true;
    for (const char* name : {"d/loans/1907", "d/loans/1908"}) world_.Put(name, name);
  }
  void MoveAnd(const std::function<void()>& meanwhile) {
    std::atomic<bool> done{false};
    world_.on_moved = [&] {
      if (done.exchange(true)) return;
      meanwhile();
    };
    ASSERT_TRUE(hands().Move("d/loans", "d/lent").ok());
    ASSERT_TRUE(Eventually([&] { return done.load(); }));
    FlushAll();
    world_.on_moved = nullptr;
  }
  const std::vector<std::string> years_{"1907", "1908"};
};

TEST_F(MovingTest, AReadThatMissesItsFileTakesItForGoneByNoMeans) {
  Open();
  ASSERT_EQ(Names("d/loans"), years_);
  const NodeId before = IdOf("d/loans/1907");
  std::future<Result<std::string>> text;
  MoveAnd([&] {
    text = std::async(std::launch::async, [this] { return Read("d/lent/1907"); });
    EXPECT_TRUE(Eventually([&] { return !Asked("read").empty(); }));
    text.wait_for(std::chrono::milliseconds(50));
  });
  const auto read = text.get();
  ASSERT_TRUE(read.ok()) << read.error().what;
  EXPECT_EQ(*read, "d/loans/1907");
  EXPECT_EQ(Names("d/lent"), years_);
  EXPECT_EQ(IdOf("d/lent/1907"), before) << "and what is known of it is kept";
  EXPECT_EQ(*Read("d/lent/1907"), "d/loans/1907");
}

TEST_F(MovingTest, ChangesThatTheStoreTellsOfAreOurOwn) {
  world_.has_feed = true;
  Open();
  ASSERT_EQ(Names("d/loans"), years_);
  const NodeId before = IdOf("d/loans/1907");
  ASSERT_TRUE(drive_->Refresh().ok());  // asks from here on
  MoveAnd([this] { Ignore(drive_->Refresh()); });
  EXPECT_EQ(Names("d/lent"), years_);
  EXPECT_EQ(IdOf("d/lent/1907"), before) << "and what is known of it is kept";
}

TEST_F(MovingTest, AFolderThatWasNeverListedIsListedWhenItHasMoved) {
  Play("open; names d: loans");
  std::future<std::vector<std::string>> names;
  MoveAnd([&] {
    names = std::async(std::launch::async, [this] { return Names("d/lent"); });
    names.wait_for(std::chrono::milliseconds(300));  // it must not come before the move is done
  });
  EXPECT_EQ(names.get(), years_);
}

// One that began before: what it says of the old place is no news of the folder.
TEST_F(MovingTest, AListingThatComesTooLateIsNotTakenForEmptiness) {
  Open();
  ASSERT_EQ(Names("d/loans"), years_);
  std::promise<void> moved;
  std::atomic<bool> held{false};
  world_.on_listing = [&](const std::string& folder) {
    if (folder == "d/loans/" && !held.exchange(true))
      moved.get_future().wait_for(std::chrono::seconds(20));
  };
  const auto listed = std::async(std::launch::async, [this] { Ignore(drive_->Refresh()); });
  ASSERT_TRUE(Eventually([&] { return held.load(); }));
  MoveAnd([] {});
  world_.Put("d/loans/1950", "of another folder that is there now");
  moved.set_value();
  listed.wait();
  world_.on_listing = nullptr;
  EXPECT_EQ(Names("d/lent"), years_);
}

// It waits for what is on its way into the folder; an unmount may come while it does.
TEST_F(MovingTest, AnUploadIntoTheFolderIsNotLeftBehindByAnUnmount) {
  world_.moves_folders = false;
  Open();
  ASSERT_EQ(Names("d/loans"), years_);
  std::promise<void> begun, go_on;
  std::atomic<bool> held{false};
  world_.on_write = [&](const std::string&) {
    if (held.exchange(true)) return;
    begun.set_value();
    go_on.get_future().wait_for(std::chrono::seconds(20));
  };
  ASSERT_TRUE(Write("d/loans/1909", "new").ok());
  begun.get_future().wait_for(std::chrono::seconds(20));
  ASSERT_TRUE(hands().Move("d/loans", "d/lent").ok());
  auto closed = std::async(std::launch::async, [this] {
    Ignore(drive_->Flush(Duration(300)));  // the move is tried
    Close();
  });
  closed.wait_for(std::chrono::milliseconds(600));
  go_on.set_value();
  closed.wait();
  Play("open; flush");
  const auto all = world_.All();
  EXPECT_EQ(all.count("d/lent/1909"), 1u);
  for (const auto& [path, text] : all) EXPECT_NE(path.substr(0, 8), "d/loans/") << path;
  world_.on_write = nullptr;
}

// An upload into it makes it anew at its old place.
TEST_F(MovingTest, AFolderThatVanishedMeanwhileIsWhereAnUploadBringsIt) {
  Open();
  ASSERT_EQ(Names("d/loans"), years_);
  std::atomic<bool> done{false};
  world_.on_write = [&](const std::string& path) {
    if (path != "d/loans/1909" || done) return;
    for (const char* year : {"1907", "1908"})
      ASSERT_TRUE(hands().Remove(std::string("d/loans/") + year).ok());
    Play("gone d/loans/1908; refresh; move d/loans d/lent");
    done = true;
  };
  ASSERT_TRUE(Write("d/loans/1909", "new").ok());
  ASSERT_TRUE(Eventually([&] { return done.load(); }));
  FlushAll();
  world_.on_write = nullptr;
  Play("refresh; names d: lent; names d/lent: 1909; has d/lent/1909");
}

// Nothing was left in it; a look shows that, and then its own object is there: the answer to that
// is lost.
TEST_F(MovingTest, AFolderThatIsJustBeingMarkedHasNotVanished) {
  Play("put drawer/last: l; open; count drawer: 1; lose folder");
  std::atomic<bool> done{false};
  world_.on_folder = [&](const std::string& path) {
    if (path != "drawer" || done) return;
    Play("gone drawer/last; refresh; move drawer shelf");
    done = true;
  };
  ASSERT_TRUE(hands().Remove("drawer/last").ok());
  ASSERT_TRUE(Eventually([&] { return done.load(); }));
  FlushAll();
  world_.on_folder = nullptr;
  Play("refresh; names: d shelf");
}

// It has waited for another's step, goes another way meanwhile, and is on that when the other's
// ends.
TEST_F(MovingTest, WhatWaitedForAnotherDoesNotGoUpTwice) {
  Open();
  std::atomic<bool> old{false}, later{false}, fresh{false}, go_on{false};
  const auto wait = [](std::atomic<bool>* until) { Eventually([&] { return until->load(); }); };
  world_.on_write = [&](const std::string& path) {
    if (path == "f" && !old.exchange(true)) wait(&fresh);
    if (path == "h") later = true;
    if (path == "g" && !fresh.exchange(true)) wait(&go_on);
  };
  ASSERT_TRUE(Write("f", "old").ok());
  wait(&old);
  Play("remove f; write f: new; write h: later");
  wait(&later);  // and the new one has had its turn
  ASSERT_TRUE(hands().Move("f", "g").ok());
  wait(&fresh);
  Eventually([&] { return drive_->Queue(10)->size() == 1; });  // what was left of the old one
  ASSERT_TRUE(Write("h", "later still").ok());
  Eventually([&] { return world_.All()["h"] == "later still"; });
  go_on = true;
  FlushAll();
  world_.on_write = nullptr;
  const std::vector<std::string> writes = Asked("write");
  EXPECT_EQ(std::count(writes.begin(), writes.end(), "write g"), 1);
  EXPECT_EQ(world_.All()["g"], "new");
}

// Moves f to g; `meanwhile` happens when the store has done it, before its answer comes.
class MovingFileTest : public DriveTest {
 protected:
  MovingFileTest() { Play("put f: what was there before; set retry=10"); }
  void MoveAnd(const std::function<void()>& meanwhile) {
    Play("open; names: f");
    std::atomic<bool> begun{false}, done{false};
    world_.on_moved = world_.on_copied = [&] {
      if (begun.exchange(true)) return;
      meanwhile();
      done = true;
    };
    ASSERT_TRUE(hands().Move("f", "g").ok());
    ASSERT_TRUE(Eventually([&] { return done.load(); }));
    FlushAll();
    world_.on_moved = world_.on_copied = nullptr;
  }
};

// What is not here of the file comes from its new place from then on.
TEST_F(MovingFileTest, AWriteMeanwhileStandsOnWhatWasMoved) {
  MoveAnd([this] { EXPECT_TRUE(hands().Patch("g", "WHAT", 0).ok()); });
  Play("store: g=WHAT was there before; read g: WHAT was there before");
}

TEST_F(MovingFileTest, AWriteMeanwhileStandsOnWhatWasMovedInOneRequest) {
  world_.moves_files = true;
  MoveAnd([this] { EXPECT_TRUE(hands().Patch("g", "WHAT", 0).ok()); });
  EXPECT_EQ(world_.All(), (Files{{"g", "WHAT was there before"}}));
}

TEST_F(MovingFileTest, AReadMeanwhileWaitsForTheEndOfTheMove) {
  world_.moves_files = true;
  std::future<Result<std::string>> text;
  MoveAnd([&] {
    text = std::async(std::launch::async, [this] { return Read("g"); });
    EXPECT_TRUE(Eventually([&] { return !Asked("read").empty(); }));
    text.wait_for(std::chrono::milliseconds(50));
  });
  const auto read = text.get();
  ASSERT_TRUE(read.ok()) << read.error().what;
  EXPECT_EQ(*read, "what was there before");
}

// Others have put a file where one of ours comes to, which goes beside that; and another that waits
// here has been given the same name, in the same second. (The step failed for ever.)
TEST_F(MovingTest, WhatIsKeptBesideAnothersIsNotCalledAsOneThatWaits) {
  world_.moves_folders = false;
  Play("set quiet=60000; open");
  ASSERT_EQ(Names("d/loans"), years_);
  Files wanted{{"d/lent/1907", "another's"}};
  const Nanos now = SystemClock().Wall();
  for (int second = 0; second < 20; ++second) {
    std::string stamp = Rfc3339(now + second * 1'000'000'000ll).substr(0, 19);
    std::replace(stamp.begin(), stamp.end(), 'T', ' ');
    std::replace(stamp.begin(), stamp.end(), ':', '.');
    ASSERT_TRUE(
        Write(fmt::format("d/loans/1907 (kept from isle {})", stamp), "waits " + stamp).ok());
  }
  Play("move d/loans d/lent; put d/lent/1907: another's; flush; refresh");
  int ours = 0, waited = 0;
  for (const auto& [path, text] : world_.All()) {
    if (path.rfind("d/lent/1907 (kept from isle ", 0) == 0 && text == "d/loans/1907") ++ours;
    if (path.rfind("d/lent/1907 (kept from isle ", 0) == 0 && text.rfind("waits ", 0) == 0)
      ++waited;
    if (path.back() != '/') {
      EXPECT_EQ(*Read(path), text) << path;
    }
  }
  EXPECT_EQ(world_.All()["d/lent/1907"], "another's");
  EXPECT_EQ(ours, 1);
  EXPECT_EQ(waited, 20);
  EXPECT_EQ(drive_->Conflicts()->size(), 1u);
}

}  // namespace
}  // namespace pargeter::test
