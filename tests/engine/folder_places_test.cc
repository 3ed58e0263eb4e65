// A folder is moved here; before that is done at the store, another program does something where it
// was, or where it is to go. Nothing that anybody put there goes.
#include <gtest/gtest.h>

#include <atomic>
#include <set>

#include "support/story.h"

namespace pargeter::test {
namespace {

enum class Store { kCopies, kMovesFolders, kMovesAll };
enum class Then { kNothing, kLooked, kMovedOnceMore, kDeleted, kChanged };

using Case = std::tuple<Store, Then>;

class FolderPlacesTest : public DriveTest, public testing::WithParamInterface<Case> {
 protected:
  void Begin() {
    const Store store = std::get<0>(GetParam());
    world_.moves_folders = store != Store::kCopies;
    world_.moves_files = world_.serial_versions = store == Store::kMovesAll;
    Play("set retry=10; set late=20; set trial=5");
    for (const char* keep : {"a/keep", "b/keep", "c/keep"}) world_.Put(keep, "k");
    Play(
        "open; list a; list b; list c; mkdir a/D; mkdir a/D/sub; write a/D/x: mine x; write a/D/y: "
        "mine y; write a/D/sub/z: mine z; flush; list a/D; list a/D/sub");
  }
  void Hold(bool on) {
    const Lock lock(world_.mutex);
    for (const char* kind : {"move", "copy", "move-folder"})
      world_.fails[kind] = std::deque<bool>(on ? 10000 : 0, true);
  }
  // What others do to a whole folder, unseen by the feed and by us.
  void OthersMove(const std::string& from, const std::string& to) {
    std::vector<std::string> paths;
    for (const auto& [path, body] : world_.All())
      if (path.compare(0, from.size() + 1, from + "/") == 0) paths.push_back(path);
    for (const std::string& path : paths) world_.Move(path, to + path.substr(from.size()));
  }
  void Go() {
    switch (std::get<1>(GetParam())) {
      case Then::kNothing:
        break;
      case Then::kLooked:
        ASSERT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
        break;
      case Then::kMovedOnceMore:
        ASSERT_TRUE(hands().Move("b/D", "c/D").ok());
        break;
      case Then::kDeleted:
        for (const char* file : {"b/D/x", "b/D/y", "b/D/sub/z"})
          EXPECT_TRUE(hands().Remove(file).ok()) << file;
        Play("rmdir b/D/sub; rmdir b/D");
        break;
      case Then::kChanged:
        ASSERT_TRUE(Write("b/D/x", "mine anew").ok());
        break;
    }
    Hold(false);
  }
  // All that is at the store shows, and nothing else does. Each of these contents is there.
  void End(const std::set<std::string>& wanted, long at_most = 1) {
    FlushAll();
    for (int i = 0; i < 2; ++i) {
      Play("refresh-soon; flush");
    }
    const Files store = FilesThere();
    EXPECT_EQ(Shown(""), store);
    for (const std::string& content : wanted) {
      const auto has = [&](const auto& file) { return file.second == content; };
      const auto times = std::count_if(store.begin(), store.end(), has);
      EXPECT_GE(times, 1) << content;
      EXPECT_LE(times, at_most) << content;
    }
  }
  Files Shown(const std::string& folder) {
    Files all;
    for (const std::string& name : Names(folder)) {
      const std::string path = folder.empty() ? name : folder + "/" + name;
      const auto content = Read(path);
      if (content.ok())
        all[path] = *content;
      else if (content.error().code == Code::kIsFolder)
        all.merge(Shown(path));
      else
        all[path] = content.error().what;
    }
    return all;
  }
  void LoseTheNextAnswer(const std::function<void()>& then) {
    const auto told = [this, then] {
      if (telling_.exchange(true)) return;
      then();
      Hold(true);
      taken_ = true;
    };
    world_.on_moved = world_.on_copied = told;
    world_.LoseAnswers(1);
  }
  // And nothing comes of it, until it is let go.
  void Move() {
    Hold(true);
    ASSERT_TRUE(hands().Move("a/D", "b/D").ok());
    ASSERT_TRUE(Eventually([&] {
      const auto asked = world_.TakeAsked();
      return std::any_of(asked.begin(), asked.end(), [](const std::string& what) {
        return what.compare(0, 4, "copy") == 0 || what.compare(0, 4, "move") == 0;
      });
    }));
  }
  void MoveWithoutAnswer(const std::function<void()>& then) {
    LoseTheNextAnswer(then);
    ASSERT_TRUE(hands().Move("a/D", "b/D").ok());
    ASSERT_TRUE(Eventually([&] { return taken_.load(); }));
  }
  // Of ours, what nobody has deleted or replaced.
  std::set<std::string> Ours() const {
    const Then then = std::get<1>(GetParam());
    if (then == Then::kDeleted) return {};
    return {then == Then::kChanged ? "mine anew" : "mine x", "mine y", "mine z"};
  }
  std::atomic<bool> telling_{false}, taken_{false};
};

// It went, nobody heard of it, and others make a folder of that name where it was.
TEST_P(FolderPlacesTest, ANewFolderAtTheOldPlaceLosesNothing) {
  Begin();
  MoveWithoutAnswer([this] { Play("put a/D/new-x: theirs x; put a/D/new: theirs new"); });
  Go();
  std::set<std::string> wanted = Ours();
  wanted.insert({"theirs x", "theirs new"});
  End(wanted);
}

// The same, and one of its files has the name of ours. (Where nothing moves it replaces that.)
TEST_P(FolderPlacesTest, NorDoesOneWithTheSameNames) {
  Begin();
  MoveWithoutAnswer([this] { world_.Put("a/D/x", "theirs x"); });
  Go();
  std::set<std::string> wanted = Ours();
  if (std::get<0>(GetParam()) == Store::kCopies) wanted.erase("mine x");
  wanted.insert("theirs x");
  End(wanted);
  if (std::get<0>(GetParam()) != Store::kCopies && wanted.count("mine anew") > 0) {
    EXPECT_EQ(*Read("b/D/x"), "mine anew");
  }
}

TEST_P(FolderPlacesTest, AFolderThatOthersMovedToTheSamePlaceStays) {
  Begin();
  Move();
  OthersMove("a/D", "b/D");
  Go();
  End(Ours());
}

TEST_P(FolderPlacesTest, AFileThatOthersMovedToTheNewPlaceStays) {
  Begin();
  Move();
  world_.Move("a/D/x", "b/D/x");
  Go();
  End(Ours());
}

TEST_P(FolderPlacesTest, AFolderOfOthersAtTheNewPlaceStays) {
  Begin();
  Move();
  Play("put b/D/x: theirs x; put b/D/new: theirs new");
  Go();
  std::set<std::string> wanted = Ours();
  wanted.insert({"theirs x", "theirs new"});
  End(wanted);
}

// It went, nobody heard of it, and others moved it on.
TEST_P(FolderPlacesTest, AFolderThatOthersMovedOnIsNotLost) {
  Begin();
  MoveWithoutAnswer([this] { OthersMove("b/D", "c/E"); });
  Go();
  End(Ours(), 2);  // of a copy they moved, the original goes where it was to go
}

std::string NameOfCase(const testing::TestParamInfo<Case>& one) {
  static constexpr const char* kStores[] = {"Copies", "MovesFolders", "MovesAll"};
  static constexpr const char* kThen[] = {"", "Looked", "MovedOnceMore", "Deleted", "Changed"};
  return std::string(kStores[static_cast<int>(std::get<0>(one.param))]) +
         kThen[static_cast<int>(std::get<1>(one.param))];
}

INSTANTIATE_TEST_SUITE_P(
    Stores, FolderPlacesTest,
    testing::Combine(testing::Values(Store::kCopies, Store::kMovesFolders, Store::kMovesAll),
                     testing::Values(Then::kNothing, Then::kLooked, Then::kMovedOnceMore,
                                     Then::kDeleted, Then::kChanged)),
    NameOfCase);

}  // namespace
}  // namespace pargeter::test
