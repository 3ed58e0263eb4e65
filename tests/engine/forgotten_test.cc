// A power cut has taken the memory of an upload that had come to the store: what is done here then
// is done with the former version, and that one stays.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/story.h"

namespace pargeter::test {
namespace {

class ForgottenTest : public DriveTest, public testing::WithParamInterface<bool> {
 protected:
  ForgottenTest() {
    disk_.WatchPower(folder_.path());
    const Lock lock(world_.mutex);
    world_.serial_versions = GetParam();
  }
  // The store has `later` of it, of which nobody here knows any more.
  void Forget(const std::string& name, const std::string& later, bool orderly = false) {
    Play("set retry=10 trial=10; open");
    ASSERT_TRUE(Write(name, "former").ok());
    Play("flush; fsync-folder");
    if (orderly) {
      Close();
      LookAtIt();
    } else {
      LosePower(1);
    }
    boot_id_ = "after";
    if (orderly) LookAtIt();
    {
      const Lock lock(world_.mutex);
      FakeWorld::Object sent = world_.objects[name];
      sent.body = later;
      world_.Set(name, sent);
    }
    Play("offline; open");
  }
  // As a command does while it is not mounted.
  void LookAtIt() {
    EXPECT_TRUE(Drive::Open(Options(1ull << 30), std::make_unique<FakeStore>(&world_)).ok());
    boot_id_ += ", and once more";
  }
  void RemoveAfterRestart(const std::string& name) {
    Play("close; set retry=10; offline; open");
    ASSERT_TRUE(hands().Remove(name).ok());
    GoOnline();
  }
  void GoOnline() { Play("online; flush"); }
  // The next upload happens and gets no answer; nothing comes of those after it.
  void LoseOneThenFail() {
    const Lock lock(world_.mutex);
    world_.loses["write"] = {true};
    world_.fails["write"] = std::deque<bool>(10000, true);
    world_.fails["write"].front() = false;
  }
  void Heal() {
    const Lock lock(world_.mutex);
    world_.fails.clear();
  }
  std::vector<std::string> Bodies() {
    std::vector<std::string> bodies;
    for (const auto& [path, body] : world_.All()) bodies.push_back(body);
    return bodies;
  }
};

TEST_P(ForgottenTest, ItIsNotDeleted) {
  Forget("f", "mine, and more");
  ASSERT_TRUE(hands().Remove("f").ok());
  GoOnline();
  EXPECT_THAT(Bodies(), testing::ElementsAre("mine, and more"));
}

TEST_P(ForgottenTest, NorWithAnotherName) {
  Forget("f", "mine, and more");
  Play("move f f~; write f: new; remove f~");
  GoOnline();
  EXPECT_THAT(Bodies(), testing::UnorderedElementsAre("mine, and more", "new"));
}

TEST_P(ForgottenTest, NothingIsWrittenOverIt) {
  Forget("f", "mine, and more");
  ASSERT_TRUE(Write("f", "new").ok());
  GoOnline();
  EXPECT_THAT(Bodies(), testing::UnorderedElementsAre("mine, and more", "new"));
}

// It is ours after all where nothing can have been forgotten.
TEST_P(ForgottenTest, AnOrderlyEndForgetsNothing) {
  Forget("f", "mine, and more", true);
  ASSERT_TRUE(hands().Remove("f").ok());
  GoOnline();
  EXPECT_THAT(Bodies(), testing::IsEmpty());
}

// What is sent after the power cut is known again, and what waited for upload when it came.
TEST_P(ForgottenTest, WhatIsSentSinceIsOurs) {
  Forget("g", "of g");
  GoOnline();
  Play("refresh; read g: of g");
  for (const char* body : {"second", ""}) {
    LoseOneThenFail();
    ASSERT_TRUE(Write("g", body).ok());
    ASSERT_TRUE(Eventually([&] { return world_.All()["g"] == body; }));
    ASSERT_TRUE(Write("g", "third").ok());
    Heal();
    FlushAll();
    EXPECT_THAT(Bodies(), testing::ElementsAre("third"));
  }
  Play("lose-next; write g: fourth; at g: fourth; remove g; flush");
  EXPECT_THAT(Bodies(), testing::IsEmpty());
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
}

// Put together, and nobody heard of it: deleted before it is tried again.
TEST_P(ForgottenTest, WhatCameInPartsIsOurs) {
  world_.multipart_above = 100;
  Forget("g", "of g");
  GoOnline();
  Play("close; set retry=60000; open; lose complete-parts");
  ASSERT_TRUE(Write("g", std::string(5000, 'g')).ok());
  ASSERT_TRUE(Eventually([&] { return world_.All()["g"].size() == 5000; }));
  RemoveAfterRestart("g");
  EXPECT_THAT(Bodies(), testing::IsEmpty());
}

TEST_P(ForgottenTest, PartsOfWhatWasNeverThereAreEnded) {
  world_.multipart_above = 100;
  Play("set retry=60000; open; lose begin-parts");
  ASSERT_TRUE(Write("g", std::string(5000, 'g')).ok());
  ASSERT_TRUE(Eventually([&] { return world_.Uploads() == 1; }));
  RemoveAfterRestart("g");
  EXPECT_EQ(world_.Uploads(), 0u);
  EXPECT_THAT(Bodies(), testing::IsEmpty());
}

TEST_P(ForgottenTest, WhatWaitedIsStillOurs) {
  for (const bool removed : {false, true}) {
    const std::string name = removed ? "removed" : "written";
    Open();
    ASSERT_TRUE(Write(name, "former").ok());
    FlushAll();
    LoseOneThenFail();
    ASSERT_TRUE(hands().Write(name, "second", true).ok());
    ASSERT_TRUE(Eventually([&] { return world_.All()[name] == "second"; }));
    ASSERT_TRUE(hands().Write(name, "then", true).ok());
    LosePower(removed);
    Play("offline; open");
    if (removed)
      ASSERT_TRUE(hands().Remove(name).ok());
    else
      ASSERT_TRUE(Write(name, "third").ok());
    Heal();
    GoOnline();
    Play("conflicts 0; close");
  }
  EXPECT_EQ(world_.All(), (Files{{"written", "third"}}));
}

INSTANTIATE_TEST_SUITE_P(Versions, ForgottenTest, testing::Bool(), [](const auto& one) {
  return std::string(one.param ? "Serial" : "OfContent");
});

}  // namespace
}  // namespace pargeter::test
