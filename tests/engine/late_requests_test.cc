// Requests that were called off arrive all the same; and the deeds of others look as if they had.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>

#include "support/story.h"

namespace pargeter::test::late_requests {
namespace {

// The object that was written here as f, and deleted, is at the store once more when f is written
// anew.
const std::string kThereAgain =
    "open; write f: first; flush; save f; remove f; flush; lacks f; restore f; write f: second;";
const std::string kLate = "late-write; write f: first; online; asked write;";

class LateRequestTest : public DriveTest, public testing::WithParamInterface<Scenario> {};
TEST_P(LateRequestTest, LeavesTheStoreAsTheDriveIs) {
  Begin(GetParam().store);
  Play(GetParam().steps);
  if (!HasFatalFailure()) ExpectStory(GetParam().wanted, GetParam().conflicts);
}
const Scenario kScenarios[] = {
    {"AnUploadAfterItsFileIsGoneIsNoConflict", "", kThereAgain, {{"f", "second"}}},
    // Later, another machine has brought back a former version of it, which tells the same origin.
    {"AFormerVersionThatOthersBringBackIsOne",
     "late=0",
     kThereAgain,
     {{"f", "first"}, {"f (kept)", "second"}},
     1},
    // The upload of f gets no answer, f goes, and the upload arrives after the store was asked.
    {"ADeletedFileDoesNotComeBack", "", "open;" + kLate + "remove f; asked look f; arrive", {}},
    {"ADeletedFileDoesNotComeBackInPlaceOfAnother",
     "",
     "open; write f: before; flush; asked write; offline; fail remove x1; remove f;" + kLate +
         "remove f; asked look f; arrive",
     {}},
    {"AFormerNameDoesNotComeBack",
     "",
     "open;" + kLate + "move f g; asked look f; arrive",
     {{"g", "first"}}},
};
INSTANTIATE_TEST_SUITE_P(Files, LateRequestTest, testing::ValuesIn(kScenarios), NameOfScenario);

// Two machines bring f to the place of g, which one of them has just changed: here it is kept
// beside that. The other is done with it then: f is there, and its origin is this machine.
class MovedThereTooTest : public DriveTest {
 protected:
  void SetUp() override {
    Begin("retry=5 trial=5 late=100");
    Play("put g: theirs; open; write f: ours; flush; names: f g; put g: theirs, changed; forget");
  }
  bool IsThere(const std::string& content) {
    const auto all = world_.All();
    return std::any_of(all.begin(), all.end(),
                       [&](const auto& one) { return one.second == content; });
  }
};

TEST_F(MovedThereTooTest, TheirMoveIsNotTakenForALateRequest) {
  world_.Fail("copy");
  world_.Pass("copy", 1);  // the first may have come to something, the second is refused
  Play("move f g");
  ASSERT_TRUE(Eventually([&] {
    const auto copies = Asked("copy");
    return std::any_of(copies.begin(), copies.end(), [](const std::string& one) {
      return one.find("kept") != std::string::npos;
    });
  }));
  world_.Duplicate("f", "g");
  world_.Take("f");
  Play("write g: new");
  Ignore(drive_->Flush(Duration(500)));
  Play("heal; flush");
  EXPECT_TRUE(IsThere("ours"));
  EXPECT_TRUE(IsThere("new"));
}

TEST_F(MovedThereTooTest, AMoveThatWasRefusedAtOnceNeedsNoRollback) {
  std::atomic<int> looks{0};
  world_.on_look = [&](const std::string& path) {
    if (path == "g" && ++looks == 5) world_.Duplicate("f", "g");
  };
  world_.on_remove = [&](const std::string& path) {
    if (path == "g") world_.Take("f");  // between the look at f and this
  };
  Play("move f g; flush");
  world_.on_look = world_.on_remove = nullptr;
  EXPECT_TRUE(IsThere("ours"));
  EXPECT_EQ(looks, 4) << Waiting();
}

// The answer to the first removal was lost. A look shows that the object is gone, and the second
// removal is still on its way: the new object has to wait for that, or would be removed by it.
class RemovedOnceMoreTest : public DriveTest, public testing::WithParamInterface<const char*> {};
TEST_P(RemovedOnceMoreTest, ANewOneIsNotRemovedInstead) {
  const std::string name = GetParam();
  const bool folder = name.back() == '/';
  Begin("retry=5 trial=5");
  world_.Put(name, "");
  Open();
  std::atomic<int> removals{0};
  std::atomic<bool> looked{false}, made{false}, over{false};
  world_.on_remove = [&](const std::string& path) {
    if (path != name || ++removals != 2) return;
    EXPECT_TRUE(Eventually([&] { return looked.load(); }));
    EXPECT_FALSE(Eventually([&] { return made.load(); }, 1));
    over = true;
  };
  world_.on_folder = world_.on_write = [&](const std::string&) { made = true; };
  Play(folder ? "lose remove-folder; rmdir f" : "lose remove; remove f");
  ASSERT_TRUE(Eventually([&] { return removals == 2; }));
  Play(folder ? "mkdir f; refresh" : "write f: new; refresh");
  looked = true;
  ASSERT_TRUE(Eventually([&] { return over.load(); }));
  Play("flush; close");
  EXPECT_EQ(world_.All().count(name), 1u);
}
INSTANTIATE_TEST_SUITE_P(Kinds, RemovedOnceMoreTest, testing::Values("f/", "f"));

}  // namespace
}  // namespace pargeter::test::late_requests
