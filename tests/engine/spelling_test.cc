// A store that takes names for one which differ only in case: the one object has one row here, and
// what is left of a name is not what has it now.
#include <gtest/gtest.h>

#include <future>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class SpellingTest : public DriveTest {
 protected:
  void SetFolds() {
    const Lock lock(world_.mutex);
    world_.folds_names = true;
  }
};

// While a large folder's listing is on its way, the one name is asked for; the store answers, with
// what it lists under another.
TEST_F(SpellingTest, AnotherSpellingIsNoSecondFile) {
  SetFolds();
  world_.page_size = 2;
  for (const char* name : {"fern", "moss", "oak", "pine", "sedge"}) world_.Put(name, name);
  std::promise<void> go_on;
  std::atomic<int> pages{0};
  world_.on_listing = [&](const std::string&) {
    if (++pages == 2) go_on.get_future().wait_for(std::chrono::seconds(20));
  };
  Open();
  auto other = std::async(std::launch::async, [this] { return drive_->Lookup(kRootId, "Fern"); });
  EXPECT_TRUE(Eventually([&] {
    const auto looks = Asked("look");
    return std::count(looks.begin(), looks.end(), "look Fern") > 0;
  }));
  other.wait_for(std::chrono::milliseconds(50));
  go_on.set_value();
  EXPECT_EQ(other.get().error().code, Code::kNotFound);
  EXPECT_EQ(Names("").size(), 5u);
  world_.on_listing = nullptr;
}

// Moved to another spelling, on a store that took the two for two names until then.
TEST_F(SpellingTest, WhatAMoveLeftIsNotRemovedIfItIsTheSame) {
  world_.Put("fern", "base");
  retry_pause_ = Duration(10);
  Open();
  ASSERT_EQ(*Read("fern"), "base");
  {
    const Lock lock(world_.mutex);
    world_.fails["remove"].assign(1000, true);
  }
  ASSERT_TRUE(Hands(drive_.get()).Move("fern", "Fern").ok());
  ASSERT_TRUE(Eventually([&] { return !Asked("remove").empty(); }));
  {
    const Lock lock(world_.mutex);
    world_.objects.erase("fern");
    world_.folds_names = true;
    world_.fails.clear();
  }
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"Fern", "base"}}));
}

}  // namespace
}  // namespace pargeter::test
