#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "config/paths.h"
#include "config/secrets.h"
#include "config/settings.h"
#include "config/toml_file.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

constexpr const char* kByHand =
    "# our store on the island\n"
    "endpoint = \"http://one\"   # moved in March\n"
    "\n"
    "key_id='k' # do not touch\n"
    "[extra]\n"
    "note = 1\n";

TEST(TomlFileTest, AChangeTouchesOnlyItsOwnValue) {
  auto file = TomlFile::Parse(kByHand, "t");
  ASSERT_TRUE(file.ok());
  ASSERT_TRUE(file->SetString("", "endpoint", "http://two \"quoted\"").ok());
  EXPECT_EQ(file->text(),
            "# our store on the island\n"
            "endpoint = \"http://two \\\"quoted\\\"\"   # moved in March\n"
            "\n"
            "key_id='k' # do not touch\n"
            "[extra]\n"
            "note = 1\n");
  EXPECT_EQ(**file->String("", "endpoint"), "http://two \"quoted\"");
}

TEST(TomlFileTest, ANewKeyGoesToItsSectionAndRemovalTakesItsLine) {
  auto file = TomlFile::Parse(kByHand, "t");
  ASSERT_TRUE(file->SetBool("", "read_only", true).ok());
  EXPECT_LT(file->text().find("read_only"), file->text().find("[extra]"));
  ASSERT_TRUE(file->SetString("museum", "secret", "s").ok());
  EXPECT_EQ(**file->String("museum", "secret"), "s");
  ASSERT_TRUE(file->Remove("", "read_only").ok());
  ASSERT_TRUE(file->RemoveSection("museum").ok());
  EXPECT_EQ(file->Sections(), std::vector<std::string>{"extra"});
  EXPECT_THAT(file->text(), HasSubstr("# do not touch"));
}

TEST(TomlFileTest, WhatCannotBeEditedSafelyIsRefused) {
  auto file = TomlFile::Parse("folder = \"\"\"\nspread\nout\"\"\"\n", "t");
  ASSERT_TRUE(file.ok());
  const std::string before = file->text();
  EXPECT_EQ(file->SetString("", "folder", "x").error().code, Code::kRefused);
  EXPECT_EQ(file->text(), before);
}

TEST(TomlFileTest, WhatIsWrittenAnotherWayIsNotTakenForGone) {
  // the key is that of a section, and a line within a text looks like the head of another
  auto file = TomlFile::Parse("[label]\na = \"\"\"\n[\"\"\"\n", "t");
  ASSERT_TRUE(file.ok());
  EXPECT_EQ(file->SetString("", "label", "x").error().code, Code::kRefused);
  auto quoted = TomlFile::Parse("\"read_only\" = true\n['museum']\nkind = \"s3\"\n", "t");
  ASSERT_TRUE(quoted.ok());
  EXPECT_EQ(quoted->Remove("", "read_only").error().code, Code::kRefused);
  EXPECT_EQ(quoted->RemoveSection("museum").error().code, Code::kRefused);
  EXPECT_TRUE(quoted->Remove("", "never_there").ok());
  EXPECT_TRUE(quoted->Remove("never", "there").ok());
  EXPECT_TRUE(quoted->RemoveSection("never").ok());
}

TEST(TomlFileTest, MistakesNameFileAndLine) {
  const auto bad = TomlFile::Parse("a = 1\nb = = 2\n", "here.toml");
  ASSERT_FALSE(bad.ok());
  EXPECT_THAT(bad.error().what, HasSubstr("here.toml:2")) << bad.error().what;
  auto wrong_type = TomlFile::Parse("a = 1\n", "t");
  EXPECT_EQ(wrong_type->String("", "a").error().code, Code::kInvalid);
}

// Of a hundred thousand parts it would be the end of the process.
TEST(TomlFileTest, AKeyHasAnEnd) {
  std::string dots;
  for (int i = 0; i < 100'000; ++i) dots += "a.";
  for (const std::string& text :
       {dots + "a = 1\n", "[" + dots + "a]\n", "x = {" + dots + "a = 1}\n"})
    EXPECT_EQ(TomlFile::Parse(text, "t").error().code, Code::kInvalid);
  for (const std::string& text :
       {"# " + dots + "\n", "a = \"\\\"" + dots + "\"\n", "a = '" + dots + "'\n"})
    EXPECT_TRUE(TomlFile::Parse(text, "t").ok()) << text.substr(0, 20);
}

Paths In(const TemporaryFolder& folder) {
  return {folder / "config", folder / "state", folder / "run"};
}

TEST(SettingsTest, WhatIsSavedIsLoaded) {
  TemporaryFolder folder;
  const Paths paths = In(folder);
  AccountSettings account;
  account.name = "museum";
  account.endpoint = "http://127.0.0.1:9400";
  account.key_id = "fieldkey";
  account.read_only = true;
  ASSERT_TRUE(SaveAccount(paths, account).ok());
  const auto loaded = LoadAccount(paths, "museum");
  ASSERT_TRUE(loaded.ok());
  EXPECT_EQ(loaded->endpoint, account.endpoint);
  EXPECT_TRUE(loaded->read_only);
  DriveSettings drive;
  drive.name = "sheets";
  drive.account = "museum";
  drive.folder = "herbarium/sheets";
  drive.at = "/mnt/sheets";
  drive.cache_limit = (2ull << 30) + 1;
  drive.keep_free = 0.25;
  drive.fresh_for = Duration(1500);
  ASSERT_TRUE(SaveDrive(paths, drive).ok());
  const auto again = LoadDrive(paths, "sheets");
  ASSERT_TRUE(again.ok()) << again.error().what;
  EXPECT_EQ(again->cache_limit, drive.cache_limit);
  EXPECT_EQ(again->keep_free, drive.keep_free);
  EXPECT_EQ(again->fresh_for, drive.fresh_for);
  EXPECT_EQ(DriveNames(paths), std::vector<std::string>{"sheets"});
}

TEST(SettingsTest, NamesCannotLeaveTheirFolder) {
  for (const char* bad : {"", "../x", "a/b", ".hidden", "-dash", "sp ace", "ü"}) {
    EXPECT_EQ(CheckName("drive", bad).error().code, Code::kInvalid) << bad;
  }
  EXPECT_TRUE(CheckName("drive", "sheets-2.old_B").ok());
}

TEST(SettingsTest, AnUnknownNameSaysWhatThereIs) {
  TemporaryFolder folder;
  AccountSettings account;
  account.name = "museum";
  account.endpoint = "http://x";
  ASSERT_TRUE(SaveAccount(In(folder), account).ok());
  const auto missing = LoadAccount(In(folder), "musuem");
  EXPECT_EQ(missing.error().code, Code::kNotFound);
  EXPECT_THAT(missing.error().remedy, HasSubstr("museum"));
}

TEST(SecretsTest, AFileOpenToOthersIsRefused) {
  TemporaryFolder folder;
  const std::string path = folder / "secrets.toml";
  ASSERT_TRUE(SaveSecret(path, "museum", "s3cret").ok());
  struct stat info {};
  ASSERT_EQ(::stat(path.c_str(), &info), 0);
  EXPECT_EQ(info.st_mode & 0777, 0600u);
  EXPECT_EQ(*LoadSecret(path, "museum"), "s3cret");
  EXPECT_EQ(LoadSecret(path, "other").error().code, Code::kNotFound);
  ASSERT_EQ(::chmod(path.c_str(), 0640), 0);
  const auto refused = LoadSecret(path, "museum");
  EXPECT_EQ(refused.error().code, Code::kPermission);
  EXPECT_THAT(refused.error().what, Not(HasSubstr("s3cret")));
}

TEST(PathsTest, XdgThenHomeThenSystem) {
  const auto none = [](const char*) { return std::string(); };
  EXPECT_EQ(ResolvePaths(none, true, 0, "", "")->config_dir, "/etc/pargeter");
  EXPECT_EQ(ResolvePaths(none, true, 0, "", "")->state_dir, "/var/lib/pargeter");
  EXPECT_FALSE(ResolvePaths(none, false, 1000, "", "").ok());
  const auto home = [](const char* name) {
    return std::string(std::string(name) == "HOME" ? "/home/jo" : "");
  };
  EXPECT_EQ(ResolvePaths(home, false, 1000, "", "")->config_dir, "/home/jo/.config/pargeter");
  EXPECT_EQ(ResolvePaths(home, false, 1000, "", "")->state_dir, "/home/jo/.local/state/pargeter");
  const auto a = ResolvePaths(home, false, 1000, "", "/x"),
             b = ResolvePaths(home, false, 1000, "", "/y");
  EXPECT_NE(a->runtime_dir, b->runtime_dir);
  EXPECT_EQ(AbsolutePath("../b//c/", "/a/x"), "/a/b/c");
}

}  // namespace
}  // namespace pargeter::test
