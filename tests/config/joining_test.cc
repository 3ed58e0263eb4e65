// Joined drives: which folders a pattern means, and what their parts are set to.
#include "config/joining.h"

#include <gtest/gtest.h>

#include <map>

#include "config/toml_file.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

class JoiningTest : public testing::Test {
 protected:
  // The store's folders by what they are in; each question is counted.
  ListFolders Lister() {
    return [this](const std::string& folder) -> Result<std::vector<std::string>> {
      asked_.push_back(folder);
      const auto it = folders_.find(folder);
      if (it == folders_.end()) return Error(Code::kNotFound, "no such folder");
      return it->second;
    };
  }
  std::vector<std::string> Find(const std::string& text) {
    const auto pattern = ParseJoin(text);
    if (!pattern.ok()) return {"(" + pattern.error().what + ")"};
    const auto found = FindSources(*pattern, Lister());
    if (!found.ok()) return {"(" + found.error().what + ")"};
    std::vector<std::string> out;
    for (const JoinSource& source : *found) out.push_back(source.account + ":" + source.folder);
    return out;
  }
  Paths PathsHere() const {
    Paths paths;
    paths.config_dir = home_ / "c";
    paths.state_dir = home_ / "s";
    return paths;
  }
  DriveSettings Joined() {
    DriveSettings joined;
    joined.name = "all";
    joined.join = {"museum/team/*", "loan"};
    joined.at = "/srv/all";
    joined.cache_limit = 3u << 20;
    return joined;
  }
  TemporaryFolder home_;
  std::map<std::string, std::vector<std::string>> folders_;
  std::vector<std::string> asked_;
};

using Names = std::vector<std::string>;

TEST_F(JoiningTest, AStarIsAnyNameOfItsOwnLevel) {
  folders_ = {{"", {"team", "personal", ".bin"}},
              {"team", {"herbarium", "archive", ".hidden"}},
              {"personal", {"team"}}};
  EXPECT_EQ(Find("museum/team/*"), (Names{"museum:team/archive", "museum:team/herbarium"}));
  EXPECT_EQ(asked_, Names{"team"});
  EXPECT_EQ(Find("museum/*/*"),
            (Names{"museum:personal/team", "museum:team/archive", "museum:team/herbarium"}));
  EXPECT_EQ(Find("museum/team/h?rb*"), Names{"museum:team/herbarium"});
  EXPECT_EQ(Find("museum/*/nothing*"), Names{});
  asked_.clear();
  EXPECT_EQ(Find("museum/team/seeds/"), Names{"museum:team/seeds"});  // need not be there yet
  EXPECT_EQ(Find("museum"), Names{"museum:"});
  EXPECT_EQ(asked_, Names{});
  EXPECT_EQ(Find("museum/lost/*"), Names{"(no such folder)"});
}

TEST_F(JoiningTest, AStoreNamesNoFolderThatCannotBeOne) {
  folders_ = {{"",
               {"..", ".", "a/../../etc", std::string("n\0l", 3), "\xff", "", "good",
                std::string(256, 'x')}}};
  EXPECT_EQ(Find("museum/*"), Names{"museum:good"});
  EXPECT_EQ(Find("museum/.*"), Names{});
}

TEST_F(JoiningTest, WhatSaysNoFolderIsRefused) {
  for (const char* bad : {"", "/team", "mu seum/x", "museum/../x", "museum/a//b", "museum/\xff"})
    EXPECT_FALSE(ParseJoin(bad).ok()) << bad;
}

TEST_F(JoiningTest, WhatIsLeftOutAndWhatIsMeant) {
  EXPECT_TRUE(IsJoined({"museum", "team/archive"}, {"museum/team/*"}));
  EXPECT_FALSE(IsJoined({"museum", "team/archive/old"}, {"museum/team/*"}));
  EXPECT_FALSE(IsJoined({"loan", "team/archive"}, {"museum/team/*"}));
  EXPECT_TRUE(IsJoined({"loan", ""}, {"loan"}));
  EXPECT_FALSE(IsJoined({"loan", "x"}, {"loan"}));
  EXPECT_TRUE(IsLeftOut({"museum", "team/archive"}, {"museum/team"}));
  EXPECT_TRUE(IsLeftOut({"museum", "team/archive"}, {"museum"}));
  EXPECT_FALSE(IsLeftOut({"museum", "teams"}, {"museum/team"}));
  const JoinSource odd{"museum", "te[am]/a*b\\c?"};
  EXPECT_TRUE(IsLeftOut(odd, {PatternOf(odd)}));
  EXPECT_FALSE(IsLeftOut({"museum", "te[am]/axb\\c?"}, {PatternOf(odd)}));
}

TEST_F(JoiningTest, FoldersOfOneNameAreToldApart) {
  const DriveSettings joined = Joined();
  const DriveSettings first = NewPart(joined, {"museum", "team/loan forms"}, {}, {"all"});
  EXPECT_EQ(first.name, "all.loan-forms");
  EXPECT_EQ(first.shown_as, "loan forms");
  EXPECT_EQ(first.at, "/srv/all/loan forms");
  const DriveSettings second =
      NewPart(joined, {"loan", "loan forms"}, {first}, {"all", first.name});
  EXPECT_EQ(second.shown_as, "loan forms (loan)");
  EXPECT_EQ(second.name, "all.loan-forms-loan");
  const DriveSettings third = NewPart(joined, {"loan", "old/loan forms"}, {first, second},
                                      {"all", first.name, second.name});
  EXPECT_NE(third.shown_as, second.shown_as);
  EXPECT_NE(third.name, second.name);
  EXPECT_EQ(NewPart(joined, {"loan", ""}, {}, {}).shown_as, "loan");
  const DriveSettings letters = NewPart(joined, {"museum", "team/Gräser"}, {}, {});
  EXPECT_EQ(letters.shown_as, "Gräser");
  EXPECT_TRUE(CheckName("drive", letters.name).ok()) << letters.name;
}

TEST_F(JoiningTest, APartIsAsItsJoinedDriveWhereItSaysNothing) {
  const Paths paths = PathsHere();
  DriveSettings joined = Joined();
  ASSERT_TRUE(SaveDrive(paths, joined).ok());
  const DriveSettings part = NewPart(joined, {"museum", "team/archive"}, {}, DriveNames(paths));
  ASSERT_TRUE(SaveDrive(paths, part).ok());
  EXPECT_EQ(ReadAll(paths.DriveFile("all.archive")),
            "part_of = \"all\"\nshown_as = \"archive\"\naccount = \"museum\"\n"
            "folder = \"team/archive\"\n");
  joined.cache_limit = 5u << 20;
  joined.at = "/srv/every";
  joined.read_only = true;
  ASSERT_TRUE(SaveDrive(paths, joined).ok());
  auto now = LoadDrive(paths, "all.archive");
  ASSERT_TRUE(now.ok()) << now.error().what;
  EXPECT_EQ(now->cache_limit, 5u << 20);
  EXPECT_EQ(now->at, "/srv/every/archive");
  EXPECT_TRUE(now->read_only);
  EXPECT_TRUE(now->join.empty());
  now->cache_limit = 7u << 20;  // its own from here on
  now->read_only = false;
  ASSERT_TRUE(SaveDrive(paths, *now).ok());
  joined.cache_limit = 9u << 20;
  ASSERT_TRUE(SaveDrive(paths, joined).ok());
  now = LoadDrive(paths, "all.archive");
  EXPECT_EQ(now->cache_limit, 7u << 20);
  EXPECT_FALSE(now->read_only);
  EXPECT_EQ(PartsOf(paths, "all").size(), 1u);
  ASSERT_TRUE(RemoveDrive(paths, "all").ok());
  EXPECT_FALSE(LoadDrive(paths, "all.archive").ok());
}

TEST_F(JoiningTest, APartOfNoJoinedDriveOrWithoutANameIsRefused) {
  const Paths paths = PathsHere();
  DriveSettings plain = Joined();
  plain.join.clear();
  plain.account = "museum";
  ASSERT_TRUE(SaveDrive(paths, plain).ok());
  for (const char* text : {"part_of = \"all\"\nshown_as = \"x\"\naccount = \"m\"\n",
                           "part_of = \"bad\"\nshown_as = \"x\"\naccount = \"m\"\n",
                           "part_of = \"all\"\nshown_as = \"../x\"\naccount = \"m\"\n"}) {
    WriteAll(paths.DriveFile("bad"), text);
    EXPECT_FALSE(LoadDrive(paths, "bad").ok()) << text;
  }
}

TEST_F(JoiningTest, DifferencesAreSaidInWordsAndTakenIn) {
  DriveSettings was = Joined(), now = Joined();
  now.join.push_back("museum/personal");
  now.at = "/elsewhere";
  now.hold_files = 5;
  now.hold_share = 0.5;
  std::string inode, at_mount;
  for (const SettingDifference& differs : Differences(was, now))
    (differs.at_mount ? at_mount : inode) += differs.what + ";";
  EXPECT_EQ(inode, "what is joined;holding back deletions;");
  EXPECT_EQ(at_mount, "at;");
  TakeLive(&was, now);
  EXPECT_EQ(was.join, now.join);
  EXPECT_EQ(was.at, "/srv/all");
}

TEST_F(JoiningTest, AListStaysInItsLine) {
  auto file = TomlFile::Parse("a = 1\njoin = [\"m/x\", 'm/y']  # by hand\nb = 2\n", "t");
  ASSERT_TRUE(file.ok());
  EXPECT_EQ(**file->Strings("", "join"), (Names{"m/x", "m/y"}));
  ASSERT_TRUE(file->SetStrings("", "join", {"m/\"z\""}).ok());
  EXPECT_EQ(file->text(), "a = 1\njoin = [\"m/\\\"z\\\"\"]  # by hand\nb = 2\n");
  EXPECT_FALSE(TomlFile::Parse("join = [1]\n", "t")->Strings("", "join").ok());
  auto spread = TomlFile::Parse("join = [\n  \"m/x\",\n]\n", "t");
  ASSERT_TRUE(spread.ok());
  EXPECT_EQ(**spread->Strings("", "join"), Names{"m/x"});
  EXPECT_FALSE(spread->SetStrings("", "join", {"m/y"}).ok());
}

}  // namespace
}  // namespace pargeter::test
