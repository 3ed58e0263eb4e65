// Stores that do not tell who wrote an object, or only by a request after the bytes: an upload that
// was cut off there is known again by the marks in its upload log.
#include <gtest/gtest.h>

#include <filesystem>

#include "support/story.h"

namespace pargeter::test::sent {
namespace {

class CutOff : public DriveTest {
 protected:
  // The bytes of "second" have come to FOLDERf, and the process died at once.
  void CutOffUpload(bool forgets_origins, bool is_new, const std::string& folder = "") {
    Begin("moves-files moves-folders serial retry=10 trial=10");
    world_.forgets_origins = forgets_origins;
    if (!folder.empty()) world_.Put(folder + "beside", "b");
    if (!is_new) world_.Put(folder + "f", "first");
    Open();
    Names(folder);
    Play("die { write " + folder + "f: second }");
  }
};

// By whether the store forgets origins, whether the file was new, and what happens to it then; the
// row's `store` is the file's folder.
class SentTest : public CutOff,
                 public testing::WithParamInterface<std::tuple<bool, bool, Scenario>> {};
TEST_P(SentTest, IsKnownAgain) {
  const auto& [forgets_origins, is_new, one] = GetParam();
  CutOffUpload(forgets_origins, is_new, one.store);
  Play(one.steps + "; online");
  ExpectStory(one.wanted);
  for (const auto& [path, text] : one.wanted) Play("remove " + path);  // known, and so deleted
  FlushAll();
  EXPECT_TRUE(FilesThere().empty());
}
const std::string kLonger = "third, and longer";
const Scenario kScenarios[] = {
    {"Unchanged", "", "", {{"f", "second"}}},
    {"Changed", "", "write f: third, and longer", {{"f", kLonger}}},
    {"Deleted", "", "remove f", {}},
    {"MovedAndChanged", "", "move f g; patch g 0: THI", {{"g", "THIond"}}},
    {"CutOffAtTwoPlaces",
     "",
     "move f g; write g: third, and longer; die { online }",
     {{"g", kLonger}}},
    {"ReplacedByAnother", "", "write g: of an editor; move g f", {{"f", "of an editor"}}},
    {"ChangedInAMovedFolder",
     "d/",
     "move d e; write e/f: third, and longer",
     {{"e/beside", "b"}, {"e/f", kLonger}}},
    {"DeletedInAMovedFolder", "d/", "move d e; remove e/f", {{"e/beside", "b"}}},
};
std::string NameOfCase(const testing::TestParamInfo<SentTest::ParamType>& one) {
  const auto& [forgets_origins, is_new, row] = one.param;
  return std::string(row.name) + (is_new ? "New" : "Changed") +
         (forgets_origins ? "OriginForgotten" : "");
}
INSTANTIATE_TEST_SUITE_P(Files, SentTest,
                         testing::Combine(testing::Bool(), testing::Bool(),
                                          testing::ValuesIn(kScenarios)),
                         NameOfCase);

// By whether the store forgets origins.
class CutOffTest : public CutOff, public testing::WithParamInterface<bool> {};
INSTANTIATE_TEST_SUITE_P(OriginsForgotten, CutOffTest, testing::Bool());

// Its deletion is held back, and another folder takes the place of the one it was in.
TEST_P(CutOffTest, InAFolderThatIsMadeAnewItIsDeletedAllTheSame) {
  hold_files_ = 1;
  hold_quiet_ = Duration(1);
  CutOffUpload(GetParam(), false, "d/");
  Play(
      "remove d/f; remove d/beside; rmdir d; mkdir d; online; flush; refresh; held 2; at d/f; "
      "release; flush; lacks d/f; lacks d/beside");
}

TEST_P(CutOffTest, AnObjectThatOthersPutThereIsTheirs) {
  CutOffUpload(GetParam(), false);
  Play("put f: SECOND; write f: third; online");  // as long
  ExpectStory({{"f", "SECOND"}, {"f (kept)", "third"}}, 1);
}

// A new time of change may be a new version, and its answer was lost.
TEST_P(CutOffTest, NewAttributesAreOurOwnToo) {
  for (const std::string name : {"f", "g"}) {
    Begin("moves-files moves-folders serial retry=10 trial=10");
    world_.forgets_origins = GetParam();
    Play("put f: first; open; names: f; when moved { offline }; lose copy");
    ASSERT_TRUE(
        drive_->SetAttr(IdOf("f"), AttrChange{.mtime = 1'700'000'000'000'000'000}, nullptr).ok());
    Play("done");
    world_.on_copied = world_.on_moved = nullptr;
    if (name == "g") Play("move f g");
    ASSERT_TRUE(Write(name, "second").ok());
    world_.SetOffline(false);
    ExpectStory({{name, "second"}});
    Play("remove " + name);
    ExpectStory({});
    ForgetState();
  }
}

// A version that is synced after that must not meet one at the store that the index does not know.
TEST_P(CutOffTest, AFileThatChangesBeforeItsLastByteGoesIsNotSent) {
  Begin("moves-files moves-folders serial retry=10 trial=10");
  world_.forgets_origins = GetParam();
  Open();
  std::atomic<bool> changed{false};
  disk_.on_read = [&] {
    if (!changed.exchange(true)) Play("sync f: third");
  };
  ASSERT_TRUE(Write("f", "second").ok());
  ASSERT_TRUE(Eventually([&] { return changed.load(); }));
  FlushAll();
  EXPECT_EQ(Asked("write"), std::vector<std::string>{"write f"});
  ExpectStory({{"f", "third"}});
}

// It is not done before it has its attributes, wherever it is cut off again.
TEST_P(CutOffTest, CutOffAgainAnywhereItGetsItsAttributes) {
  std::uint64_t n = 0;
  for (bool died = true; died; ++n) {
    CutOffUpload(GetParam(), true);
    world_.cut_off = [this] { return disk_.dead(); };
    disk_.DieAt(disk_.operations() + 1 + n);
    world_.SetOffline(false);
    Ignore(drive_->Refresh());
    ASSERT_TRUE(Eventually([&] { return disk_.dead() || drive_->Summary().pending.files == 0; }));
    died = disk_.dead();
    Close();
    world_.cut_off = nullptr;
    disk_.Heal();
    Open();
    ExpectStory({{"f", "second"}});
    EXPECT_EQ(world_.Get("f").attributes.mode, 0644u) << n;
    ForgetState();
    world_.Erase("f");
  }
  EXPECT_GT(n, 5u);
}

}  // namespace
}  // namespace pargeter::test::sent
