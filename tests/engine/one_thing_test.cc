// A store that has one thing at a path, as a cloud drive does: files and folders that come to the
// same name, here and there.
#include <gtest/gtest.h>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class OneThingTest : public DriveTest {
 protected:
  void SetUp() override {
    world_.real_folders = world_.moves_files = world_.moves_folders = world_.serial_versions = true;
    may_be_late_ = Duration(20);
    retry_pause_ = Duration(10);
  }
  Hands hands() { return Hands(drive_.get()); }
  // Once all is up, which took few requests.
  std::vector<std::pair<std::string, Node>> KeptInTheEnd() {
    world_.TakeAsked();
    world_.SetOffline(false);
    FlushAll();
    EXPECT_LT(world_.TakeAsked().size(), 40u);
    EXPECT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
    return *drive_->Conflicts();
  }
};

class FolderOfOthersTest : public OneThingTest {
 protected:
  void Begin() {
    world_.Put("d/f", "base");
    Open();
    ASSERT_EQ(*Read("d/f"), "base");
    world_.SetOffline(true);
  }
  void End(const std::string& name, const std::string& content) {
    const auto conflicts = KeptInTheEnd();
    ASSERT_EQ(conflicts.size(), 1u);
    EXPECT_EQ(conflicts[0].second.beside, name);
    EXPECT_EQ(*Read(conflicts[0].first), content);
    EXPECT_EQ(world_.All()[conflicts[0].first], content);
    EXPECT_EQ(*Read("d/" + name + "/inside"), "theirs");
  }
};
TEST_F(FolderOfOthersTest, HasTheNameOfANewFile) {
  Begin();
  ASSERT_TRUE(Write("d/new", "mine").ok());
  world_.Put("d/new/inside", "theirs");
  End("new", "mine");
}
// Their folder is not deleted with all that is in it.
TEST_F(FolderOfOthersTest, KeepsTheName) {
  Begin();
  ASSERT_TRUE(Write("d/new", "mine").ok());
  world_.Put("d/new/inside", "theirs");
  ASSERT_EQ(KeptInTheEnd().size(), 1u);
  const Status refused = drive_->SettleConflict("d/new", Drive::Keep::kHere);
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kIsFolder);
  EXPECT_FALSE(refused.error().remedy.empty());
  EXPECT_EQ(*Read("d/new/inside"), "theirs");
  EXPECT_TRUE(drive_->SettleConflict("d/new", Drive::Keep::kThere).ok());
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
}
TEST_F(FolderOfOthersTest, HasTheNameOfAChangedFile) {
  Begin();
  ASSERT_TRUE(Write("d/f", "mine").ok());
  world_.Erase("d/f");
  world_.Put("d/f/inside", "theirs");
  End("f", "mine");
}
TEST_F(FolderOfOthersTest, HasTheNewNameOfAFile) {
  Begin();
  ASSERT_TRUE(hands().Move("d/f", "d/g").ok());
  world_.Put("d/g/inside", "theirs");
  End("g", "base");
}

// Ours goes from there first, and then the file has the name.
TEST_F(FolderOfOthersTest, IsNotOneOfOursThatIsAboutToLeave) {
  for (const char* path : {"d/moves/x", "d/goes/x"}) world_.Put(path, "x");
  Open();
  for (const char* folder : {"d", "d/moves", "d/goes"}) Names(folder);
  {
    const Lock lock(world_.mutex);
    for (const char* kind : {"move-folder", "remove-folder"})
      world_.fails[kind] = {true, true, true};
  }
  ASSERT_TRUE(hands().Move("d/moves", "d/moved").ok());
  ASSERT_TRUE(Write("d/moves", "a file").ok());
  ASSERT_TRUE(hands().Remove("d/goes/x").ok());
  ASSERT_TRUE(hands().RemoveFolder("d/goes").ok());
  ASSERT_TRUE(Write("d/goes", "another").ok());
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  using Files = std::map<std::string, std::string>;
  EXPECT_EQ(world_.All(), (Files{{"d/", ""},
                                 {"d/goes", "another"},
                                 {"d/moved/", ""},
                                 {"d/moved/x", "x"},
                                 {"d/moves", "a file"}}));
}

// A file takes the name of the deleted folder that it comes from.
TEST_F(FolderOfOthersTest, IsNotOneOfOursThatTheFileComesFrom) {
  world_.Put("d/out/f", "content");
  Open();
  for (const char* folder : {"d", "d/out"}) Names(folder);
  world_.SetOffline(true);
  ASSERT_TRUE(hands().Move("d/out/f", "d/t").ok());
  ASSERT_TRUE(hands().RemoveFolder("d/out").ok());
  ASSERT_TRUE(hands().Move("d/t", "d/out").ok());
  world_.SetOffline(false);
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"d/", ""}, {"d/out", "content"}}));
}

class FileOfOthersTest : public OneThingTest {
 protected:
  void Begin() {
    world_.Put("d/e/x", "base");
    world_.Put("d/k", "k");
    Open();
    for (const char* folder : {"d", "d/e"}) Names(folder);
    world_.SetOffline(true);
  }
  // Theirs has `name` in d; our folder stands beside it, with all that is in it.
  void End(const std::string& name, const std::map<std::string, std::string>& inside) {
    const auto conflicts = KeptInTheEnd();
    ASSERT_EQ(conflicts.size(), 1u);
    const auto& [kept, node] = conflicts[0];
    EXPECT_EQ(node.beside, name);
    EXPECT_EQ(node.kind, NodeKind::kFolder);
    EXPECT_EQ(*Read("d/" + name), "theirs");
    for (const auto& [path, content] : inside) {
      EXPECT_EQ(*Read(kept + "/" + path), content);
      EXPECT_EQ(world_.All()[kept + "/" + path], content);
    }
    EXPECT_EQ(Names(kept).size(), inside.size());
    EXPECT_TRUE(drive_->CheckIndex().ok());
  }
};
TEST_F(FileOfOthersTest, HasTheNameOfANewFolder) {
  Begin();
  ASSERT_TRUE(hands().MakeFolder("d/new").ok());
  world_.Put("d/new", "theirs");
  End("new", {});
}
TEST_F(FileOfOthersTest, HasTheNameOfANewFolderThatIsNotEmpty) {
  Begin();
  ASSERT_TRUE(hands().MakeFolder("d/new").ok());
  ASSERT_TRUE(Write("d/new/f", "mine").ok());
  ASSERT_TRUE(hands().Move("d/k", "d/new/k").ok());
  world_.Put("d/new", "theirs");
  End("new", {{"f", "mine"}, {"k", "k"}});
}
TEST_F(FileOfOthersTest, HasTheNameOfAFolderAboveANewOne) {
  Begin();
  for (const char* folder : {"d/new", "d/new/er"}) ASSERT_TRUE(hands().MakeFolder(folder).ok());
  ASSERT_TRUE(Write("d/new/er/f", "mine").ok());
  world_.Put("d/new", "theirs");
  world_.SetOffline(false);
  FlushAll();
  const auto conflicts = *drive_->Conflicts();
  ASSERT_EQ(conflicts.size(), 1u);
  EXPECT_EQ(world_.All()[conflicts[0].first + "/er/f"], "mine");
}
TEST_F(FileOfOthersTest, HasTheNewNameOfAFolder) {
  Begin();
  ASSERT_TRUE(hands().Move("d/e", "d/new").ok());
  ASSERT_TRUE(Write("d/new/f", "mine").ok());
  world_.Put("d/new", "theirs");
  End("new", {{"f", "mine"}, {"x", "base"}});
}
// In the folder of others that has the new name: what is in ours goes into that.
TEST_F(FileOfOthersTest, HasTheNameOfAFolderInAMovedOne) {
  world_.Put("d/e/sub/deep/y", "y");
  world_.Put("d/e/sub/x", "x in sub");
  Begin();
  world_.SetOffline(false);
  for (const char* folder : {"d/e/sub", "d/e/sub/deep"}) Names(folder);
  world_.SetOffline(true);
  ASSERT_TRUE(hands().Move("d/e", "d/new").ok());
  ASSERT_TRUE(Write("d/new/sub/f", "mine").ok());
  world_.Put("d/new/sub", "theirs");
  const auto conflicts = KeptInTheEnd();
  ASSERT_EQ(conflicts.size(), 1u);
  const auto& [kept, node] = conflicts[0];
  EXPECT_EQ(node.beside, "sub");
  const std::map<std::string, std::string> wanted = {
      {"d/k", "k"},          {"d/new/sub", "theirs"},  {"d/new/x", "base"}, {kept + "/deep/y", "y"},
      {kept + "/f", "mine"}, {kept + "/x", "x in sub"}};
  auto all = world_.All();
  EXPECT_EQ(all.count("d/e/"), 0u);
  std::erase_if(all, [](const auto& one) { return one.first.back() == '/'; });
  EXPECT_EQ(all, wanted);
  Names("d/new");
  for (const auto& [path, content] : wanted) EXPECT_EQ(*Read(path), content) << path;
}
// Known here already, under a name that says so.
TEST_F(FileOfOthersTest, IsSeenFirst) {
  Begin();
  ASSERT_TRUE(hands().MakeFolder("d/new").ok());
  ASSERT_TRUE(Write("d/new/f", "mine").ok());
  world_.Put("d/new", "theirs");
  {
    const Lock lock(world_.mutex);
    world_.fails["write"] = world_.fails["folder"] = {true, true, true, true};
  }
  world_.SetOffline(false);
  ASSERT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
  Names("d");
  End("new", {{"f", "mine"}});
}
// What is in it here is all that is left of it.
TEST_F(FileOfOthersTest, HasTakenThePlaceOfAFolder) {
  Begin();
  ASSERT_TRUE(Write("d/e/f", "mine").ok());
  world_.Erase("d/e/x");
  world_.Erase("d/e/");
  world_.Put("d/e", "theirs");
  End("e", {{"f", "mine"}});
}
TEST_F(FileOfOthersTest, HasTakenThePlaceOfAFolderOfAnotherMode) {
  Begin();
  ASSERT_TRUE(drive_
                  ->SetAttr(IdOf("d/e"),
                            AttrChange{.mode = 0700, .uid = {}, .gid = {}, .size = {}, .mtime = {}},
                            nullptr)
                  .ok());
  world_.Erase("d/e/x");
  world_.Erase("d/e/");
  world_.Put("d/e", "theirs");
  End("e", {});
}

TEST_F(FileOfOthersTest, IsSettled) {
  Begin();
  for (const char* folder : {"d/n1", "d/n2", "d/n3"}) {
    ASSERT_TRUE(hands().MakeFolder(folder).ok());
    ASSERT_TRUE(Write(std::string(folder) + "/f", "mine").ok());
    world_.Put(folder, "theirs");
  }
  ASSERT_EQ(KeptInTheEnd().size(), 3u);
  using Keep = Drive::Keep;
  EXPECT_TRUE(drive_->SettleConflict("d/n1", Keep::kHere).ok());
  EXPECT_TRUE(drive_->SettleConflict("d/n2", Keep::kBoth).ok());
  const Status full = drive_->SettleConflict("d/n3", Keep::kThere);
  ASSERT_FALSE(full.ok());
  EXPECT_EQ(full.error().code, Code::kNotEmpty);
  EXPECT_FALSE(full.error().remedy.empty());
  const auto left = *drive_->Conflicts();
  ASSERT_EQ(left.size(), 1u);
  ASSERT_TRUE(hands().Remove(left[0].first + "/f").ok());
  EXPECT_TRUE(drive_->SettleConflict("d/n3", Keep::kThere).ok());
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(*Read("d/n1/f"), "mine");
  const auto all = world_.All();
  EXPECT_EQ(all.at("d/n1/f"), "mine");
  EXPECT_EQ(all.at("d/n2"), "theirs");
  EXPECT_EQ(all.at("d/n3"), "theirs");
  EXPECT_EQ(all.size(), 10u);  // with e/x, k and four folders
}

// Ours goes from there first, and then the folder has the name.
TEST_F(FileOfOthersTest, IsNotOneOfOursThatIsAboutToLeave) {
  for (const char* path : {"d/moves", "d/goes"}) world_.Put(path, "x");
  Open();
  Names("d");
  {
    const Lock lock(world_.mutex);
    for (const char* kind : {"move", "remove"}) world_.fails[kind] = {true, true, true};
  }
  ASSERT_TRUE(hands().Move("d/moves", "d/moved").ok());
  ASSERT_TRUE(hands().MakeFolder("d/moves").ok());
  ASSERT_TRUE(Write("d/moves/f", "mine").ok());
  ASSERT_TRUE(hands().Remove("d/goes").ok());
  ASSERT_TRUE(hands().MakeFolder("d/goes").ok());
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(
      world_.All(),
      (std::map<std::string, std::string>{
          {"d/", ""}, {"d/goes/", ""}, {"d/moved", "x"}, {"d/moves/", ""}, {"d/moves/f", "mine"}}));
}
TEST_F(FileOfOthersTest, IsNotOneOfOursThatGoesIntoTheFolder) {
  world_.Put("d/f", "x");
  Open();
  Names("d");
  world_.SetOffline(true);
  ASSERT_TRUE(hands().Move("d/f", "d/t").ok());
  ASSERT_TRUE(hands().MakeFolder("d/f").ok());
  ASSERT_TRUE(hands().Move("d/t", "d/f/f").ok());
  world_.SetOffline(false);
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(world_.All(),
            (std::map<std::string, std::string>{{"d/", ""}, {"d/f/", ""}, {"d/f/f", "x"}}));
}
TEST_F(FileOfOthersTest, IsNotOneOfOursThatChangesPlacesWithAFolder) {
  world_.Put("d/f", "x");
  world_.Put("d/e/y", "y");
  Open();
  for (const char* folder : {"d", "d/e"}) Names(folder);
  world_.SetOffline(true);
  ASSERT_TRUE(hands().Move("d/f", "d/t").ok());
  ASSERT_TRUE(hands().Move("d/e", "d/f").ok());
  ASSERT_TRUE(hands().Move("d/t", "d/e").ok());
  world_.SetOffline(false);
  FlushAll();
  EXPECT_TRUE(drive_->Conflicts()->empty());
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{
                              {"d/", ""}, {"d/e", "x"}, {"d/f/", ""}, {"d/f/y", "y"}}));
}

}  // namespace
}  // namespace pargeter::test
