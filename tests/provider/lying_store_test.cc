// A store that acknowledges what it has not done: nothing counts as written, copied or moved before
// the store has named its version, or a look has found it in its place.
#include "conformance.h"

namespace pargeter::test {
namespace {

struct Lie {
  const char* name;
  const char* fault;
};

class LyingStoreTest : public ConformanceTest {
 protected:
  ~LyingStoreTest() override { SetFault(peer(), ""); }
  // A request to the store, and the look that proves that it was carried out.
  struct Act {
    std::string name;
    std::function<Status()> run;
    std::function<bool()> is_done;
  };
  std::vector<Act> Acts() {
    const auto status = [](const auto& outcome) { return outcome.status(); };
    const auto holds = [this](const std::string& path, const std::string& text) {
      const auto got = Get(path);
      return got.ok() && *got == text;
    };
    const std::string original = provider_->Look("original", nullptr)->version;
    const std::string taken = provider_->Look("taken", nullptr)->version;
    std::vector<Act> acts = {
        {"write a new file",
         [=, this] { return status(Put("new", "text", Precondition::Absent())); },
         [=] { return holds("new", "text"); }},
        {"write over a file",
         [=, this] { return status(Put("taken", "text", Precondition::Is(taken))); },
         [=] { return holds("taken", "text"); }},
        {"copy a file",
         [=, this] {
           return status(provider_->Copy("original", original, 8, "copy", nullptr,
                                         Precondition::Absent(), nullptr));
         },
         [=] { return holds("copy", "original"); }}};
    if (provider_->Can().moves_files)
      acts.push_back({"move a file",
                      [=, this] {
                        return status(provider_->MoveFile("original", original, "moved",
                                                          Precondition::Absent(), nullptr));
                      },
                      [=] { return holds("moved", "original"); }});
    if (provider_->Can().moves_folders)
      acts.push_back({"move a folder",
                      [=, this] { return provider_->MoveFolder("d", "e", nullptr); },
                      [=] { return holds("e/x", "x"); }});
    return acts;
  }
};

TEST_P(LyingStoreTest, NothingCountsAsDoneThatIsNot) {
  for (const Lie& lie :
       {Lie{"PUT", "lie,method=PUT"}, Lie{"MOVE", "lie,method=MOVE"},
        Lie{"COPY", "lie,method=COPY"}, Lie{"inside PUT", "inside=507,method=PUT"},
        Lie{"inside MOVE", "inside=423,method=MOVE"}, Lie{"inside COPY", "inside=507,method=COPY"},
        Lie{"no word", "inside=0,method=MOVE"}}) {
    ASSERT_OK(Put("original", "original"));
    ASSERT_OK(Put("taken", "former"));
    ASSERT_OK(Put("d/x", "x"));
    for (const Act& act : Acts()) {
      SetFault(peer(), lie.fault);
      const Status outcome = act.run();
      SetFault(peer(), "");
      if (outcome.ok()) {
        EXPECT_TRUE(act.is_done()) << lie.name << ": " << act.name;
      } else {
        EXPECT_NE(outcome.error().code, Code::kChanged) << "no conflict: " << outcome.error().what;
        EXPECT_NE(outcome.error().code, Code::kNotFound) << outcome.error().what;
        const Status again = act.run();
        EXPECT_TRUE(again.ok()) << lie.name << ": " << act.name << ": " << again.error().what;
        EXPECT_TRUE(act.is_done()) << lie.name << ": " << act.name;
      }
    }
    for (const char* path : {"new", "copy", "moved", "e/x"})
      ASSERT_OK(provider_->Remove(path, Precondition::Anything(), nullptr));
    ASSERT_OK(provider_->RemoveFolder("e", nullptr));
    for (const auto& [name, entry] : ListAll(""))
      EXPECT_FALSE(IsOwnScratchName(entry.name)) << lie.name << ": " << name;
  }
}

TEST_P(LyingStoreTest, ARefusalInsideAMultistatusIsARefusal) {
  if (peer().kind != "webdav") GTEST_SKIP() << "no multistatus";
  ASSERT_OK(Put("kept", "kept"));
  SetFault(peer(), "inside=423,method=DELETE");
  EXPECT_EQ(provider_->Remove("kept", Precondition::Anything(), nullptr).error().code, Code::kBusy);
  EXPECT_EQ(*Get("kept"), "kept");
}

// The scratch file of an upload is deleted when the upload is given up.
TEST_P(LyingStoreTest, NothingIsLeftOfAWriteThatIsGivenUp) {
  if (peer().kind != "webdav") GTEST_SKIP() << "nothing is written aside";
  Attributes a;
  a.origin = "museum.7";
  SetFault(peer(), "inside=502,method=MOVE");
  EXPECT_FALSE(Put("given-up", "text", Precondition::Anything(), a).ok() &&
               ListAll("").count("given-up") == 0);
  SetFault(peer(), "");
  ASSERT_OK(provider_->DropUnfinished("given-up", a.origin, nullptr));
  for (const auto& [name, entry] : ListAll("")) EXPECT_FALSE(IsOwnScratchName(entry.name)) << name;
}

std::vector<std::size_t> StandIns() {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; i < Peers().size(); ++i)
    if (!Peers()[i].standin.empty()) out.push_back(i);
  return out;
}
INSTANTIATE_TEST_SUITE_P(Stores, LyingStoreTest, testing::ValuesIn(StandIns()),
                         [](const auto& peer) { return Peers()[peer.param].name; });

}  // namespace
}  // namespace pargeter::test
