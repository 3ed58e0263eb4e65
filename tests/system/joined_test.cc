// The built program on real mounts: several accounts and libraries under one folder.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

using Json = nlohmann::json;

class JoinedDriveTest : public testing::Test {
 protected:
  void SetUp() override {
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
  }
  // A cloud drive with libraries as this person sees it; its account is called museum.
  void BeginAs(const std::string& person) {
    curator_ = StartDriveStandin("drive", {"--libraries"});
    Peer peer = curator_;
    peer.key_id = person;
    machine_ = std::make_unique<Machine>(peer);
    machine_->AddAccount("museum", peer);
  }
  void Join(std::vector<std::string> more) {
    more.insert(more.begin(), {"drive", "add", "sheets", "--at", At(), "--keep-free", "0"});
    const Outcome added = machine_->Pargeter(more);
    ASSERT_EQ(added.exit_code, 0) << added.err;
  }
  void GiveVisitor(const std::string& role, const std::string& library) {
    RunCommand({"/usr/bin/curl", "-s", "-d", "visitor " + role + " " + library,
                curator_.endpoint + "/-/control/role"});
  }
  std::string Listing() { return machine_->Shell("ls").out; }
  Json StatusOf(const std::string& name) {
    const Outcome status = machine_->Pargeter({"--json", "status", "sheets"});
    const Json all = Json::parse(status.out, nullptr, false);
    for (const Json& drive : all["drives"])
      if (drive["name"] == name) return drive;
    return Json();
  }
  std::string At(const std::string& path = "") const { return machine_->At(path); }
  Peer curator_;
  std::unique_ptr<Machine> machine_;
};

TEST_F(JoinedDriveTest, SeveralAccountsStandSideBySide) {
  BeginAs("curator");
  const Peer bucket = StartStandin();
  machine_->AddAccount("reserve", bucket);
  Join({"--join", "museum/team/*", "--join", "reserve/herbarium"});
  machine_->Mount();
  EXPECT_EQ(Listing(), "archive\nherbarium\nherbarium (reserve)\n");
  ASSERT_EQ(machine_
                ->Shell("echo fern > archive/fern.txt && echo moss > 'herbarium (reserve)/moss' "
                        "&& mkdir herbarium/deep")
                .exit_code,
            0);
  // between two stores a move is a copy and a removal
  ASSERT_EQ(machine_->Shell("mv archive/fern.txt herbarium/deep/ && ls archive").out, "");
  ASSERT_EQ(machine_->Pargeter({"flush", "sheets", "--timeout", "40s"}).exit_code, 0);
  EXPECT_EQ(OtherClient(curator_, "team/herbarium/").Get("deep/fern.txt"), "fern\n");
  EXPECT_EQ(OtherClient(curator_, "team/archive/").Get("fern.txt"), "(none)");
  EXPECT_EQ(OtherClient(bucket).Get("moss"), "moss\n");
  // the top is no store's
  for (const char* refused : {"touch x", "mkdir x", "rmdir archive", "mv archive old",
                              "mv archive/. herbarium/x", "ln -s a b", "rm -r nothing"})
    EXPECT_NE(machine_->Shell(refused).exit_code, 0) << refused;
  EXPECT_THAT(machine_->Shell("touch x").err, HasSubstr("ermission denied"));
  EXPECT_EQ(Listing(), "archive\nherbarium\nherbarium (reserve)\n");
  // inode numbers are of the whole mount, and find walks it
  EXPECT_EQ(machine_->Shell("find . -type f | sort").out,
            "./herbarium (reserve)/moss\n./herbarium/deep/fern.txt\n");
  EXPECT_EQ(machine_->Shell("stat -c %i . * */* */*/* | sort | uniq -d").out, "");
}

TEST_F(JoinedDriveTest, IsNotMadeReadOnlyWhileAPartHasChanges) {
  BeginAs("curator");
  Join({"--join", "museum/team/*"});
  machine_->Mount();
  SetFault(curator_, "away=600000");
  ASSERT_EQ(machine_->Shell("echo fern > archive/fern.txt").exit_code, 0);
  const Outcome refused = machine_->Pargeter({"drive", "change", "sheets", "--read-only"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_THAT(refused.err, HasSubstr("sheets.archive has 1 change")) << refused.err;
  EXPECT_THAT(refused.err, HasSubstr("pargeter mount sheets;")) << refused.err;
}

TEST_F(JoinedDriveTest, EachPartIsADriveOfItsOwn) {
  BeginAs("curator");
  Join({"--join", "museum/team/*", "--cache-limit", "64MiB"});
  machine_->Mount();
  ASSERT_EQ(machine_->Shell("echo fern > archive/fern.txt").exit_code, 0);
  ASSERT_EQ(
      machine_->Pargeter({"drive", "change", "sheets.archive", "--cache-limit", "32MiB"}).exit_code,
      0);
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(StatusOf("sheets.archive")["cache"]["limit"], 32u << 20);
  EXPECT_EQ(StatusOf("sheets.herbarium")["cache"]["limit"], 64u << 20);
  EXPECT_EQ(StatusOf("sheets")["cache"]["limit"], 96u << 20);
  EXPECT_EQ(StatusOf("sheets")["pid"], StatusOf("sheets.archive")["pid"]);
  EXPECT_EQ(StatusOf("sheets.archive")["part_of"], "sheets");
  // what is asked by a path finds its part; the top stands for all of them where that means
  // something
  EXPECT_EQ(machine_->Pargeter({"pin", At("archive")}).exit_code, 0);
  EXPECT_EQ(machine_->Pargeter({"fetch", At()}).exit_code, 0);
  const Outcome rules = machine_->Pargeter({"--json", "rule", "list"});
  EXPECT_EQ(Json::parse(rules.out)["rules"][0]["drive"], "sheets.archive") << rules.out;
  const Outcome listed = machine_->Pargeter({"--json", "ls", At()});
  EXPECT_EQ(Json::parse(listed.out)["entries"].size(), 2u) << listed.out << listed.err;
  EXPECT_EQ(machine_->Pargeter({"explain", At()}).exit_code, 2);
  EXPECT_EQ(machine_->Pargeter({"explain", At("lost/x")}).exit_code, 3);
  for (const std::vector<std::string>& refused :
       std::vector<std::vector<std::string>>{{"mount", "sheets.archive"},
                                             {"unmount", "sheets.archive"},
                                             {"queue", "release", "sheets"},
                                             {"drive", "change", "sheets.archive", "--at", "/x"},
                                             {"drive", "remove", "sheets.archive"},
                                             {"drive", "rename", "sheets", "every"},
                                             {"account", "remove", "museum"},
                                             {"service", "enable", "sheets.archive"}}) {
    const Outcome outcome = machine_->Pargeter(refused);
    EXPECT_NE(outcome.exit_code, 0) << refused[0] << " " << refused[1];
    EXPECT_NE(outcome.err, "");
  }
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  EXPECT_EQ(OtherClient(curator_, "team/archive/").Get("fern.txt"), "fern\n");
  // one that is removed does not come back by itself
  ASSERT_EQ(machine_->Pargeter({"drive", "remove", "sheets.archive"}).exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"account", "rename", "museum", "island"}).exit_code, 0);
  machine_->Mount();
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(Listing(), "herbarium\n");
  ASSERT_EQ(machine_->Pargeter({"drive", "change", "sheets", "--except", "none"}).exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(machine_->Shell("cat archive/fern.txt").out, "fern\n");
}

TEST_F(JoinedDriveTest, ANewNameTakesThePartsAlong) {
  BeginAs("curator");
  Join({"--join", "museum/team/*"});
  machine_->Mount();
  ASSERT_EQ(machine_->Shell("echo fern > archive/fern.txt").exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"drive", "rename", "sheets", "every"}).exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"drive", "change", "every", "--cache-at", machine_->Home("big")})
                .exit_code,
            0);
  ReadLog(machine_->peer());
  ASSERT_EQ(machine_->Pargeter({"drive", "rename", "every", "sheets"}).exit_code, 0);
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat archive/fern.txt").out, "fern\n");
  for (const Logged& line : ReadLog(machine_->peer())) EXPECT_NE(line.method, "GET");
  const Outcome list = machine_->Pargeter({"--json", "drive", "list"});
  EXPECT_EQ(Json::parse(list.out)["drives"].size(), 3u) << list.out;
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"drive", "remove", "sheets"}).exit_code, 0);
  EXPECT_EQ(Json::parse(machine_->Pargeter({"--json", "drive", "list"}).out)["drives"].size(), 0u);
}

TEST_F(JoinedDriveTest, LibrariesComeAndGoByThemselves) {
  BeginAs("visitor");
  ASSERT_TRUE(OtherClient(curator_, "team/archive/").Put("ledger", "1881"));
  Join({"--join", "museum/team/*", "--fresh-for", "100ms"});
  machine_->Mount();
  EXPECT_EQ(Listing(), "herbarium\n");
  EXPECT_NE(machine_->Shell("cat archive/ledger").exit_code, 0);  // and this is not remembered
  GiveVisitor("write", "team/archive");
  EXPECT_TRUE(Eventually([&] { return Listing() == "archive\nherbarium\n"; }));
  EXPECT_EQ(machine_->Shell("cat archive/ledger").out, "1881");
  const int open_file = ::open(At("archive/ledger").c_str(), O_RDONLY);
  ASSERT_GE(open_file, 0);
  GiveVisitor("none", "team/archive");
  EXPECT_TRUE(Eventually([&] { return Listing() == "herbarium\n"; }));
  char buffer[8] = {};
  EXPECT_EQ(::pread(open_file, buffer, 4, 0), 4);  // whoever has it open reads on
  EXPECT_STREQ(buffer, "1881");
  ::close(open_file);
  EXPECT_EQ(StatusOf("sheets")["parts"].size(), 2u);
  GiveVisitor("read", "team/archive");
  EXPECT_TRUE(Eventually([&] { return Listing() == "archive\nherbarium\n"; }));
}

TEST_F(JoinedDriveTest, ALookIsOneRequestForEachLevel) {
  BeginAs("curator");
  Join({"--join", "museum/team/*", "--join", "museum/personal", "--fresh-for", "1h"});
  machine_->Mount();
  const auto looks = [&] {
    int count = 0;
    for (const Logged& line : ReadLog(machine_->peer()))
      count += line.method == "PROPFIND" && line.key == "team/" ? 1 : 0;
    return count;
  };
  EXPECT_EQ(looks(), 1);  // at first, since no part was known
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(looks(), 1);
}

TEST_F(JoinedDriveTest, ALibraryThatGoesKeepsWhatWaits) {
  BeginAs("visitor");
  GiveVisitor("write", "team/archive");
  Join({"--join", "museum/team/*", "--fresh-for", "100ms"});
  machine_->Mount();
  SetFault(curator_, "status=503,method=PUT");
  ASSERT_EQ(machine_->Shell("echo only copy > archive/new").exit_code, 0);
  GiveVisitor("none", "team/archive");
  SetFault(curator_, "");
  // taken away, and a look has seen it
  EXPECT_TRUE(Eventually([&] {
    return machine_->Pargeter({"refresh", "sheets"}).exit_code == 0 &&
           StatusOf("sheets.archive")["last_error"] != "";
  }));
  EXPECT_EQ(Listing(), "archive\nherbarium\n");
  EXPECT_EQ(machine_->Shell("cat archive/new").out, "only copy\n");
  const Outcome left = machine_->Pargeter({"unmount", "sheets", "--timeout", "1s"});
  EXPECT_EQ(left.exit_code, 5) << left.err;
  EXPECT_THAT(left.err, HasSubstr("1 change")) << left.err;
  machine_->Mount();
  GiveVisitor("write", "team/archive");
  EXPECT_TRUE(Eventually(
      [&] { return OtherClient(curator_, "team/archive/").Get("new") == "only copy\n"; }, 60));
}

TEST_F(JoinedDriveTest, ACrashLosesNothingOfAnyPart) {
  BeginAs("curator");
  Join({"--join", "museum/team/*", "--join", "museum/personal"});
  machine_->Mount();
  SetFault(curator_, "status=503,method=PUT");
  ASSERT_EQ(
      machine_->Shell("for p in archive herbarium personal; do echo $p > $p/new; done").exit_code,
      0);
  ASSERT_TRUE(machine_->KillDaemon());
  SetFault(curator_, "");
  EXPECT_TRUE(Eventually([&] {
    return machine_->Pargeter({"unmount", "sheets", "--if-dead"}).exit_code == 0 &&
           machine_->Pargeter({"mount", "sheets", "--detach"}).exit_code == 0;
  }));
  ASSERT_EQ(machine_->Pargeter({"flush", "sheets", "--timeout", "40s"}).exit_code, 0);
  EXPECT_EQ(OtherClient(curator_, "team/archive/").Get("new"), "archive\n");
  EXPECT_EQ(OtherClient(curator_, "team/herbarium/").Get("new"), "herbarium\n");
  EXPECT_EQ(OtherClient(curator_, "personal/").Get("new"), "personal\n");
}

TEST_F(JoinedDriveTest, AnAccountThatIsAwayHidesNoOther) {
  BeginAs("curator");
  Peer bucket = StartStandin();
  machine_->AddAccount("reserve", bucket);
  Join({"--join", "museum/team/*", "--join", "reserve/*", "--fresh-for", "100ms"});
  SetFault(bucket, "status=503");
  machine_->Mount();
  EXPECT_EQ(Listing(), "archive\nherbarium\n");
  EXPECT_TRUE(Eventually([&] { return StatusOf("sheets")["last_error"] != ""; }, 60));
  SetFault(bucket, "");
  EXPECT_TRUE(
      Eventually([&] { return Listing() == "archive\nherbarium\nherbarium (reserve)\n"; }, 60));
  ASSERT_EQ(machine_->Shell("echo moss > 'herbarium (reserve)/moss'").exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  // known by now: it is mounted from what is known, whether its store answers or not
  SetFault(bucket, "status=503");
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat 'herbarium (reserve)/moss'").out, "moss\n");
}

TEST_F(JoinedDriveTest, APartWhoseFileIsSpoiltIsNotMadeAnew) {
  BeginAs("curator");
  Join({"--join", "museum/team/*"});
  machine_->Mount();
  EXPECT_EQ(Listing(), "archive\nherbarium\n");
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  const std::string file = machine_->Home("config/pargeter/drives/sheets.archive.toml");
  const std::string before = ReadAll(file);
  WriteAll(file, before + "cache_limit = \"many\"\n");
  machine_->Mount();
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(Listing(), "herbarium\n");
  EXPECT_NE(StatusOf("sheets")["last_error"], "");
  WriteAll(file, before);
  EXPECT_TRUE(Eventually([&] {
    return machine_->Pargeter({"refresh", "sheets"}).exit_code == 0 &&
           Listing() == "archive\nherbarium\n";
  }));
  const Outcome list = machine_->Pargeter({"--json", "drive", "list"});
  EXPECT_EQ(Json::parse(list.out)["drives"].size(), 3u) << list.out;
}

TEST_F(JoinedDriveTest, NothingToShowIsSaid) {
  BeginAs("curator");
  Outcome bad = machine_->Pargeter({"drive", "add", "sheets", "--join", "nobody/x", "--at", At()});
  EXPECT_EQ(bad.exit_code, 3) << bad.err;
  bad = machine_->Pargeter({"drive", "add", "sheets", "--join", "museum/../x", "--at", At()});
  EXPECT_EQ(bad.exit_code, 2) << bad.err;
  bad = machine_->Pargeter({"drive", "add", "sheets", "--at", At()});
  EXPECT_EQ(bad.exit_code, 2) << bad.err;
  bad = machine_->Pargeter(
      {"drive", "add", "sheets", "--join", "museum/team/*", "--account", "museum", "--at", At()});
  EXPECT_EQ(bad.exit_code, 2) << bad.err;
  WriteAll(machine_->Home("wrong.txt"), "wrong\n");
  ASSERT_EQ(
      machine_
          ->Pargeter({"account", "add", "stale", "--kind", "webdav", "--url", curator_.endpoint,
                      "--user", "curator", "--secret-file", machine_->Home("wrong.txt")})
          .exit_code,
      0);
  Join({"--join", "stale/team/*"});
  const Outcome mounted = machine_->Pargeter({"mount", "sheets", "--detach"});
  EXPECT_NE(mounted.exit_code, 0);
  EXPECT_THAT(mounted.err, HasSubstr("stale/team/*")) << mounted.err;
  // an account in which nothing matches yet is no mistake: it may come
  ASSERT_EQ(machine_->Pargeter({"drive", "change", "sheets", "--join", "museum/team/z*"}).exit_code,
            0);
  machine_->Mount();
  EXPECT_EQ(Listing(), "");
  EXPECT_EQ(machine_->Shell("df . > /dev/null; find .").out, ".\n");
}

}  // namespace
}  // namespace pargeter::test
