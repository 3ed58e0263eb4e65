// Requests that were called off arrive all the same; and what others do looks as if they had.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class LateRequestsTest : public DriveTest {
 protected:
  Hands hands() { return Hands(drive_.get()); }
  // What was written here as f, and deleted, is at the store once more when f is written anew.
  void StandsThereAgain() {
    Open();
    ASSERT_TRUE(Write("f", "first").ok());
    FlushAll();
    const FakeWorld::Object late = [&] {
      const Lock lock(world_.mutex);
      return world_.objects["f"];
    }();
    ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
    FlushAll();
    {
      const Lock lock(world_.mutex);
      ASSERT_EQ(world_.objects.count("f"), 0u);
      world_.objects["f"] = late;
    }
    ASSERT_TRUE(Write("f", "second").ok());
    FlushAll();
  }
};

// A request that was called off can still arrive when nothing is left of its file here.
TEST_F(LateRequestsTest, AnUploadThatArrivesAfterItsFileIsGoneIsNoConflict) {
  StandsThereAgain();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"f", "second"}}));
  EXPECT_TRUE(drive_->Conflicts()->empty());
}

// Two machines bring f to the place of g, which one of them has just changed: here it is kept
// beside that. The other is done with it then: f is there, and tells that this machine has written
// it.
class MovedThereTooTest : public LateRequestsTest {
 protected:
  void SetUp() override {
    retry_pause_ = trial_pause_ = Duration(5);
    may_be_late_ = Duration(100);
    world_.Put("g", "theirs");
    Open();
    ASSERT_TRUE(Write("f", "ours").ok());
    FlushAll();
    ASSERT_EQ(Names("").size(), 2u);
    world_.Put("g", "theirs, changed");
    world_.TakeAsked();
  }
  void OthersCopyIt() {
    const Lock lock(world_.mutex);
    world_.objects["g"] = world_.objects["f"];
  }
  void OthersRemoveIt() {
    const Lock lock(world_.mutex);
    world_.objects.erase("f");
  }
  bool IsThere(const std::string& content) {
    const auto all = world_.All();
    return std::any_of(all.begin(), all.end(),
                       [&](const auto& one) { return one.second == content; });
  }
};

TEST_F(MovedThereTooTest, WhatTheyMovedIsNotTakenForALateRequest) {
  {
    const Lock lock(world_.mutex);
    world_.fails["copy"] = std::deque<bool>(10000, true);
    world_.fails["copy"][1] = false;  // the first may have come to something, the second is refused
  }
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Eventually([&] {
    const auto copies = Asked("copy");
    return std::any_of(copies.begin(), copies.end(), [](const std::string& one) {
      return one.find("kept") != std::string::npos;
    });
  }));
  OthersCopyIt();
  OthersRemoveIt();
  ASSERT_TRUE(Write("g", "new").ok());
  Ignore(drive_->Flush(Duration(500)));
  {
    const Lock lock(world_.mutex);
    world_.fails["copy"].clear();
  }
  FlushAll();
  EXPECT_TRUE(IsThere("ours"));
  EXPECT_TRUE(IsThere("new"));
}

TEST_F(MovedThereTooTest, WhatWasRefusedAtOnceNeedsNotBeTakenBack) {
  std::atomic<int> looks{0};
  world_.on_look = [&](const std::string& path) {
    if (path == "g" && ++looks == 5) OthersCopyIt();
  };
  world_.on_remove = [&](const std::string& path) {
    if (path == "g") OthersRemoveIt();  // between the look at f and this
  };
  ASSERT_TRUE(hands().Move("f", "g").ok());
  FlushAll();
  world_.on_look = world_.on_remove = nullptr;
  EXPECT_TRUE(IsThere("ours"));
  EXPECT_EQ(looks, 4) << Waiting();
}

// Later, another machine has fetched a former version of it, which tells the same.
TEST_F(LateRequestsTest, WhatOthersBringBackLaterIsNoLateRequest) {
  may_be_late_ = Duration(0);
  StandsThereAgain();
  EXPECT_EQ(world_.All()["f"], "first");
  EXPECT_EQ(drive_->Conflicts()->size(), 1u);
}

// The answer to its first removal was lost. A look shows that it is gone, and the second is still
// on its way: the new one has to wait for that, or would be what it removes.
class RemovedOnceMoreTest : public LateRequestsTest {
 protected:
  void RemovedAndMadeAnew(const std::string& name, const std::function<Status()>& remove,
                          const std::function<Status()>& make) {
    retry_pause_ = trial_pause_ = Duration(5);
    Open();
    std::atomic<int> removals{0};
    std::atomic<bool> looked{false}, made{false}, over{false};
    {
      const Lock lock(world_.mutex);
      world_.loses["remove"] = world_.loses["remove-folder"] = {true};
    }
    world_.on_remove = [&](const std::string& path) {
      if (path != name || ++removals != 2) return;
      EXPECT_TRUE(Eventually([&] { return looked.load(); }));
      EXPECT_FALSE(Eventually([&] { return made.load(); }, 1));
      over = true;
    };
    world_.on_folder = world_.on_write = [&](const std::string&) { made = true; };
    ASSERT_TRUE(remove().ok());
    ASSERT_TRUE(Eventually([&] { return removals == 2; }));
    ASSERT_TRUE(make().ok());
    ASSERT_TRUE(drive_->Refresh().ok());
    looked = true;
    ASSERT_TRUE(Eventually([&] { return over.load(); }));
    FlushAll();
    Close();
    EXPECT_EQ(world_.All().count(name), 1u);
  }
};

TEST_F(RemovedOnceMoreTest, AFolderIsNotRemovedInstead) {
  world_.Put("f/", "");
  RemovedAndMadeAnew(
      "f/", [&] { return drive_->RemoveFolder(kRootId, "f"); },
      [&] { return hands().MakeFolder("f"); });
}

TEST_F(RemovedOnceMoreTest, AFileIsNotRemovedInstead) {
  world_.Put("f", "former");
  RemovedAndMadeAnew(
      "f", [&] { return drive_->Unlink(kRootId, "f"); }, [&] { return Write("f", "new"); });
}

class LateUploadTest : public LateRequestsTest {
 protected:
  // The upload of f has got no answer; `leave` is what happens to f; the upload arrives after the
  // store has said that there is no f.
  void AnUploadArrivesAfter(const std::function<Status()>& leave) {
    if (!drive_) Open();
    {
      const Lock lock(world_.mutex);
      world_.next_write_is_late = true;
    }
    ASSERT_TRUE(Write("f", "first").ok());
    world_.SetOffline(false);
    ASSERT_TRUE(Eventually([&] { return !Asked("write").empty(); }));
    ASSERT_TRUE(leave().ok());
    ASSERT_TRUE(Eventually([&] {
      const auto looks = Asked("look");
      return std::count(looks.begin(), looks.end(), "look f") > 0;
    }));
    std::function<void()> arrive;
    {
      const Lock lock(world_.mutex);
      arrive = world_.arrive_late;
    }
    arrive();
    FlushAll();
  }
};

TEST_F(LateUploadTest, DoesNotBringADeletedFileBack) {
  AnUploadArrivesAfter([this] { return drive_->Unlink(kRootId, "f"); });
  EXPECT_TRUE(world_.All().empty());
}

TEST_F(LateUploadTest, DoesNotBringADeletedFileBackInPlaceOfAnother) {
  Open();
  ASSERT_TRUE(Write("f", "another, that was there before").ok());
  FlushAll();
  world_.TakeAsked();
  world_.SetOffline(true);
  {
    const Lock lock(world_.mutex);
    world_.fails["remove"] = {true};  // so that the other is still there
  }
  ASSERT_TRUE(drive_->Unlink(kRootId, "f").ok());
  AnUploadArrivesAfter([this] { return drive_->Unlink(kRootId, "f"); });
  EXPECT_TRUE(world_.All().empty());
}

TEST_F(LateUploadTest, DoesNotBringBackWhatAFileWasCalled) {
  AnUploadArrivesAfter([this] { return hands().Move("f", "g"); });
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"g", "first"}}));
}

}  // namespace
}  // namespace pargeter::test
