// The built program on mounts of a simulated cloud drive; links and former versions.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

class CloudDriveTest : public testing::Test {
 protected:
  void Begin(const std::vector<std::string>& switches = {}) {
    machine_ = std::make_unique<Machine>(StartDriveStandin("drive", switches));
    other_ = std::make_unique<OtherClient>(machine_->peer(), "office/");
    ASSERT_TRUE(OpenPeer(machine_->peer(), "")->MakeFolder("office", {}, nullptr).ok());
    machine_->AddDrive("office");
    machine_->Mount();
  }
  // "METHOD path" of each request since the last call.
  std::vector<std::string> Asked() {
    std::vector<std::string> out;
    for (const Logged& line : ReadLog(machine_->peer()))
      if (line.key.find("scratch") == std::string::npos && line.method != "OPTIONS" &&
          line.method != "REPORT")  // looks for changes, one each time
        out.push_back(line.method + " " + line.key);
    return out;
  }
  void Flush() {
    const Outcome flushed = machine_->Pargeter({"flush", "sheets", "--timeout", "40s"});
    ASSERT_EQ(flushed.exit_code, 0) << flushed.err;
  }
  void SetUp() override {
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
  }
  std::unique_ptr<Machine> machine_;
  std::unique_ptr<OtherClient> other_;
};

TEST_F(CloudDriveTest, EachJobAsksTheServerAsLittleAsItSays) {
  Begin();
  ASSERT_EQ(machine_
                ->Shell("mkdir -p loans/deep && echo one > loans/deep/a && ln -s a loans/l && "
                        "chmod 640 loans/deep/a")
                .exit_code,
            0);
  Flush();
  Asked();
  ASSERT_EQ(machine_->Shell("mv loans lent").exit_code, 0);
  Flush();
  auto moved_folder = Asked();
  std::erase_if(moved_folder, [](const std::string& m) { return m.rfind("PROPFIND", 0) == 0; });
  EXPECT_EQ(moved_folder, std::vector<std::string>{"MOVE office/loans/"});
  ASSERT_EQ(machine_->Shell("mv lent/deep/a lent/deep/z").exit_code, 0);
  Flush();
  auto moved = Asked();
  // with a look at the file just before, and perhaps at the folder or the name when it was moved
  // here
  EXPECT_LE(std::erase_if(moved, [](const std::string& m) { return m.rfind("PROPFIND", 0) == 0; }),
            3u);
  EXPECT_EQ(moved, std::vector<std::string>{"MOVE office/lent/deep/a"});
  ASSERT_EQ(machine_->Shell("mv lent/deep/z lent/deep/a && echo two > lent/deep/b").exit_code, 0);
  Flush();
  const auto written = Asked();
  EXPECT_EQ(std::count(written.begin(), written.end(), "PUT office/lent/deep/b"), 1);
  EXPECT_EQ(std::count(written.begin(), written.end(), "PROPPATCH office/lent/deep/b"), 1);
  EXPECT_LE(written.size(), 7u);  // with the move back, and a look at the folder
  // another machine learns names, sizes, modes and links by one request for each folder
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  std::filesystem::remove_all(machine_->Home("state/pargeter"));
  machine_->Mount();
  Asked();
  const Outcome listed = machine_->Shell("readlink lent/l && stat -c '%a %s' lent/deep/a");
  EXPECT_EQ(listed.out, "a\n640 4\n") << listed.err;
  const auto asked = Asked();
  EXPECT_LE(std::count_if(asked.begin(), asked.end(),
                          [](const std::string& a) { return a.rfind("PROPFIND", 0) == 0; }),
            3);
  EXPECT_EQ(machine_->Shell("cat lent/deep/a lent/deep/b").out, "one\ntwo\n");
}

TEST_F(CloudDriveTest, TheAccountsRoomIsToldAndKeptTo) {
  Begin({"--quota", "100KiB"});
  EXPECT_EQ(machine_->Shell("df --output=size,avail -k . | tail -1 | tr -s ' '").out, " 100 100\n");
  ASSERT_EQ(machine_->Shell("head -c 60000 /dev/zero > a").exit_code, 0);
  const Outcome full = machine_->Shell("head -c 60000 /dev/zero > b");
  EXPECT_NE(full.exit_code, 0);
  EXPECT_THAT(full.err, HasSubstr("quota")) << full.err;
  EXPECT_EQ(machine_->Shell("rm b && head -c 60000 /dev/zero > a").exit_code,
            0);  // in its own place
  Flush();
  const Outcome usage = machine_->Pargeter({"usage"});
  EXPECT_EQ(usage.exit_code, 0);
  EXPECT_THAT(usage.out, HasSubstr("58.6 KiB used of 100.0 KiB, 41.4 KiB free")) << usage.out;
}

TEST_F(CloudDriveTest, ChangesElsewhereAreSeenByOneRequestEach) {
  Begin();
  ASSERT_TRUE(other_->Put("a", "one"));
  ASSERT_TRUE(other_->Put("deep/b", "two"));
  EXPECT_TRUE(Eventually([&] {
    return machine_->Shell("cat a deep/b").out == "one\ntwo\n" ||
           machine_->Shell("cat a deep/b").out == "onetwo";
  }));
  Asked();
  ReadLog(machine_->peer());
  ASSERT_TRUE(other_->Put("deep/b", "another"));
  other_->Delete({"a"});
  // the index knows, by the command that asks nothing of the store
  EXPECT_TRUE(Eventually([&] {
    const std::string now = machine_->Pargeter({"ls", machine_->At(), machine_->At("deep")}).out;
    return now.find("7 B") != std::string::npos && now.find(" a\n") == std::string::npos;
  })) << machine_->Pargeter({"ls", machine_->At(), machine_->At("deep")}).out;
  for (const Logged& line : ReadLog(machine_->peer()))
    EXPECT_TRUE(line.method != "PROPFIND" || line.key.rfind("office/", 0) != 0 || line.query != "1")
        << line.method << " " << line.key;
}

TEST_F(CloudDriveTest, AGrantThatEndsKeepsTheWorkAndGoesOnAfterSigningInAgain) {
  machine_ = std::make_unique<Machine>(StartDriveStandin("drive", {"--token-life", "2s"}));
  machine_->UseGrants();
  machine_->AddDrive("");
  EXPECT_EQ(machine_->Pargeter({"account", "test", "museum"}).exit_code, 6);
  EXPECT_EQ(machine_->SignIn("curator", "deny").exit_code, 6);
  const Outcome in = machine_->SignIn("curator");
  ASSERT_EQ(in.exit_code, 0) << in.err;
  machine_->Mount();
  ASSERT_EQ(machine_->Shell("echo one > a").exit_code, 0);
  Flush();
  // its tokens lapse and are renewed meanwhile
  const auto lapsed = std::chrono::steady_clock::now() + std::chrono::seconds(3);
  EXPECT_TRUE(Eventually([&] { return std::chrono::steady_clock::now() > lapsed; }));
  ASSERT_EQ(machine_->Shell("echo two > b").exit_code, 0);
  Flush();
  RunCommand(
      {"/usr/bin/curl", "-s", "-X", "POST", machine_->peer().endpoint + "/-/control/end-grants"});
  ASSERT_EQ(machine_->Shell("echo three > c").exit_code, 0);
  EXPECT_TRUE(Eventually([&] {
    return machine_->Pargeter({"status"}).out.find("sign-in needed") != std::string::npos;
  })) << machine_->Pargeter({"status"}).out;
  EXPECT_NE(machine_->Pargeter({"flush", "sheets", "--timeout", "2s"}).exit_code, 0);
  EXPECT_EQ(machine_->Shell("cat c").out, "three\n");
  ASSERT_EQ(machine_->SignIn("curator").exit_code, 0);
  Flush();
  const Outcome status = machine_->Pargeter({"status"});
  EXPECT_THAT(status.out, Not(HasSubstr("sign-in needed"))) << status.out;
  // secrets are nowhere but in their file
  for (const char* log : {"state/pargeter/drives/sheets/mount.log", "sign-in.txt"})
    EXPECT_THAT(ReadAll(machine_->Home(log)), Not(HasSubstr("Bearer")));
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  const Outcome out = machine_->Pargeter({"account", "sign-out", "museum"});
  EXPECT_EQ(out.exit_code, 0) << out.err;
  EXPECT_THAT(ReadAll(machine_->Home("config/pargeter/secrets.toml")), Not(HasSubstr("refresh")));
  EXPECT_EQ(machine_->Pargeter({"account", "test", "museum"}).exit_code, 6);
}

TEST_F(CloudDriveTest, ALibraryMayOnlyBeReadUntilTheRoleChanges) {
  machine_ =
      std::make_unique<Machine>(StartDriveStandin("drive", {"--libraries", "--user", "visitor"}));
  Peer curator = machine_->peer();
  Peer visitor = curator;
  visitor.key_id = "visitor";
  machine_ = std::make_unique<Machine>(visitor);
  other_ = std::make_unique<OtherClient>(curator, "team/herbarium/");
  ASSERT_TRUE(other_->Put("sheet", "pressed"));
  machine_->AddDrive("team/herbarium");
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat sheet; stat -c %a sheet .").out, "pressed444\n555\n");
  Outcome refused = machine_->Shell("echo x > mine");
  EXPECT_NE(refused.exit_code, 0);
  EXPECT_THAT(refused.err, HasSubstr("ermission denied")) << refused.err;
  EXPECT_NE(machine_->Shell("rm sheet").exit_code, 0);
  const auto role = [&](const std::string& word) {
    RunCommand({"/usr/bin/curl", "-s", "-d", "visitor " + word + " team/herbarium",
                visitor.endpoint + "/-/control/role"});
    machine_->Pargeter({"refresh", "sheets"});
  };
  role("write");
  EXPECT_TRUE(Eventually([&] { return machine_->Shell("echo x > mine").exit_code == 0; }));
  Flush();
  EXPECT_EQ(other_->Get("mine"), "x\n");
  role("read");
  EXPECT_TRUE(Eventually([&] { return machine_->Shell("echo y > mine").exit_code != 0; }));
  EXPECT_EQ(machine_->Shell("cat mine").out, "x\n");
}

TEST_F(CloudDriveTest, AWrongOrUnsafeAddressIsToldApart) {
  Begin();
  const auto test = [&](const std::string& url, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"account",
                                      "add",
                                      "other",
                                      "--kind",
                                      "webdav",
                                      "--url",
                                      url,
                                      "--user",
                                      "curator",
                                      "--secret-file",
                                      machine_->Home("key.txt")};
    words.insert(words.end(), more.begin(), more.end());
    Outcome outcome = machine_->Pargeter(words);
    if (outcome.exit_code == 0) outcome = machine_->Pargeter({"account", "test", "other"});
    machine_->Pargeter({"account", "remove", "other"});
    return outcome;
  };
  // a web server that is none of these
  const Peer objects = StartStandin();
  Outcome wrong = test(objects.endpoint + "/herbarium");
  EXPECT_NE(wrong.exit_code, 0);
  EXPECT_NE(wrong.err.find("Check that the address is a WebDAV folder's"), std::string::npos)
      << wrong.out << wrong.err;
  // a password that would go over a network in clear
  wrong = test("http://drive.example.test/dav");
  EXPECT_EQ(wrong.exit_code, 4) << wrong.out << wrong.err;
  EXPECT_THAT(wrong.err, HasSubstr("unprotected")) << wrong.err;
  // a certificate that nobody has vouched for
  const std::string cert = machine_->Home("cert.pem"), key = machine_->Home("tls.pem");
  ASSERT_EQ(RunCommand({"/usr/bin/openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes",
                        "-days", "2", "-subj", "/CN=127.0.0.1", "-addext",
                        "subjectAltName=IP:127.0.0.1", "-keyout", key, "-out", cert})
                .exit_code,
            0);
  const Peer safe = StartDriveStandin("safe", {"--tls-certificate", cert, "--tls-key", key});
  WriteAll(machine_->Home("key.txt"), safe.secret + "\n");
  wrong = test(safe.endpoint);
  EXPECT_NE(wrong.exit_code, 0);
  EXPECT_THAT((wrong.out + wrong.err), HasSubstr("certificate")) << wrong.out << wrong.err;
  EXPECT_EQ(test(safe.endpoint, {"--ca-file", cert}).exit_code, 0);
}

TEST_F(CloudDriveTest, AFormerVersionComesBack) {
  Begin();
  for (const char* text : {"one", "two", "three"}) {
    ASSERT_EQ(machine_->Shell(std::string("printf ") + text + " > list.csv").exit_code, 0);
    Flush();
  }
  Outcome versions = machine_->Pargeter({"--json", "versions", machine_->At("list.csv")});
  ASSERT_EQ(versions.exit_code, 0) << versions.err;
  const auto all = nlohmann::json::parse(versions.out)["versions"];
  ASSERT_EQ(all.size(), 3u) << versions.out;
  EXPECT_TRUE(all[0]["current"].get<bool>());
  const Outcome back = machine_->Pargeter(
      {"restore", machine_->At("list.csv"), "--version", all[2]["version"].get<std::string>()});
  ASSERT_EQ(back.exit_code, 0) << back.err;
  EXPECT_EQ(machine_->Shell("cat list.csv").out, "one");
  Flush();
  EXPECT_EQ(other_->Get("list.csv"), "one");
  EXPECT_EQ(
      nlohmann::json::parse(
          machine_->Pargeter({"--json", "versions", machine_->At("list.csv")}).out)["versions"]
          .size(),
      4u);
  EXPECT_EQ(
      machine_->Pargeter({"restore", machine_->At("list.csv"), "--version", "/no/such"}).exit_code,
      3);
}

TEST_F(CloudDriveTest, ALinkIsAPageOrASharedOneForAWhile) {
  Begin();
  ASSERT_EQ(machine_->Shell("echo pressed > 'a sheet+1.txt'").exit_code, 0);
  Flush();
  const std::string file = machine_->At("a sheet+1.txt");
  const auto fetch = [](const std::string& url) {
    return RunCommand({"/usr/bin/curl", "-sf", url});
  };
  const auto url = [](const Outcome& link) { return link.out.substr(0, link.out.size() - 1); };
  Outcome link = machine_->Pargeter({"link", file});
  ASSERT_EQ(link.exit_code, 0) << link.err;
  EXPECT_EQ(link.out, machine_->peer().endpoint + "/-/page/office/a%20sheet%2B1.txt\n");
  EXPECT_NE(fetch(url(link)).exit_code, 0);  // only for those whom the drive lets in
  link = machine_->Pargeter({"link", file, "--for", "3s"});
  ASSERT_EQ(link.exit_code, 0) << link.err;
  EXPECT_THAT(fetch(url(link)).out, HasSubstr("Shared until"));
  EXPECT_EQ(fetch(url(link) + "/bytes").out, "pressed\n");
  EXPECT_NE(fetch(url(link) + "0").exit_code, 0);
  EXPECT_TRUE(Eventually([&] { return fetch(url(link)).exit_code != 0; }));
  EXPECT_NE(fetch(url(link) + "/bytes").exit_code, 0);
  EXPECT_EQ(machine_->Pargeter({"link", file, "--for", "1000d"}).exit_code, 2);
}

TEST_F(OnAMount, ALinkOpensTheFileForAWhileAndFormerVersionsComeBack) {
  machine_ = std::make_unique<Machine>(StartStandin({"--versions"}));
  MountAll();
  for (const char* text : {"one", "two"}) {
    ASSERT_EQ(machine_->Shell(std::string("printf ") + text + " > 'a sheet+1.txt'").exit_code, 0);
    Flush();
  }
  const std::string file = At("a sheet+1.txt");
  const Outcome link = machine_->Pargeter({"link", file, "--for", "5s"});
  ASSERT_EQ(link.exit_code, 0) << link.err;
  const std::string url = link.out.substr(0, link.out.size() - 1);
  EXPECT_EQ(RunCommand({"/usr/bin/curl", "-s", url}).out, "two");
  EXPECT_NE(RunCommand({"/usr/bin/curl", "-sf", url + "0"}).exit_code, 0);
  EXPECT_TRUE(Eventually([&] { return RunCommand({"/usr/bin/curl", "-sf", url}).exit_code != 0; }));
  EXPECT_EQ(machine_->Pargeter({"link", file, "--for", "8d"}).exit_code, 2);
  const auto all =
      nlohmann::json::parse(machine_->Pargeter({"--json", "versions", file}).out)["versions"];
  ASSERT_EQ(all.size(), 2u);
  ASSERT_EQ(machine_->Pargeter({"restore", file, "--version", all[1]["version"]}).exit_code, 0);
  EXPECT_EQ(machine_->Shell("cat 'a sheet+1.txt'").out, "one");
  Flush();
  EXPECT_EQ(RunCommand({"/usr/bin/curl", "-s",
                        machine_->Pargeter({"link", file})
                            .out.substr(0, machine_->Pargeter({"link", file}).out.size() - 1)})
                .out,
            "one");
}

TEST_F(CloudDriveTest, AFullAccountLosesNothing) {
  Begin({"--quota", "64KiB"});
  ASSERT_EQ(machine_->Shell("head -c 40000 /dev/zero > a").exit_code, 0);
  Flush();
  // others fill it: when this is written it is not known yet
  ASSERT_TRUE(other_->Put("theirs", std::string(20000, 't')));
  ASSERT_EQ(machine_->Shell("head -c 20000 /dev/zero > b").exit_code, 0);
  EXPECT_TRUE(Eventually([&] {
    return machine_->Pargeter({"queue", "sheets"}).out.find("account is full") != std::string::npos;
  })) << machine_->Pargeter({"queue", "sheets"}).out;
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets", "--now"}).exit_code, 0);
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat a b | wc -c").out, "60000\n");
  ASSERT_EQ(machine_->Shell("rm a").exit_code, 0);  // room again
  Flush();
  EXPECT_EQ(other_->Get("b"), std::string(20000, '\0'));
}

TEST_F(CloudDriveTest, AVersionThatTheServerNamesWronglyIsNotBelieved) {
  Begin();
  SetFault(machine_->peer(), "wrong-etag,method=PUT,key=list,times=1");
  ASSERT_EQ(machine_->Shell("printf one > list").exit_code, 0);
  Flush();
  ASSERT_EQ(machine_->Shell("chmod 640 list && printf two >> list").exit_code, 0);
  Flush();
  EXPECT_EQ(machine_->Shell("ls").out, "list\n");
  EXPECT_EQ(other_->Get("list"), "onetwo");
  SetFault(machine_->peer(), "wrong-etag,method=PUT,key=label,times=1");
  ASSERT_EQ(machine_->Shell("printf one > label").exit_code, 0);
  Flush();
  ASSERT_EQ(machine_->Shell("rm label").exit_code, 0);
  Flush();
  EXPECT_EQ(other_->Get("label"), "(none)");
}

TEST_F(CloudDriveTest, TwoWritersLoseNothing) {
  Begin({"--silent-put"});
  ASSERT_TRUE(other_->Put("list", "one"));
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(machine_->Shell("cat list").out, "one");
  ASSERT_TRUE(other_->Put("list", "theirs, meanwhile"));
  ASSERT_EQ(machine_->Shell("printf 'ours as well' > list").exit_code, 0);
  Flush();
  EXPECT_EQ(other_->Get("list"), "theirs, meanwhile");
  EXPECT_EQ(machine_->Shell("cat 'list (kept from'*").out, "ours as well");
}

}  // namespace
}  // namespace pargeter::test
