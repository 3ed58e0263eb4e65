// What the built program's commands say, refuse and decide; and who may see what.
#include <fcntl.h>
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/file.h"
#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

class CommandsTest : public OnAMount {};

TEST_F(CommandsTest, BadInputIsOneSentenceAndItsExitCode) {
  const auto expect = [&](const std::vector<std::string>& words, int code,
                          const std::string& part) {
    const Outcome o = machine_->Pargeter(words);
    EXPECT_EQ(o.exit_code, code) << words[0] << ": " << o.err;
    EXPECT_EQ(o.err.compare(0, 10, "pargeter: "), 0) << o.err;
    EXPECT_THAT(o.err, HasSubstr(part)) << o.err;
  };
  machine_->AddDrive("herbarium/sheets");
  const Peer& peer = machine_->peer();
  expect({"mount", "shets"}, 3, "no drive is called");
  expect({"account", "test", "nobody"}, 3, "no account is called");
  expect({"drive", "add", "x", "--account", "museum", "--folder", "b", "--at", At("x"),
          "--cache-limit", "much"},
         2, "is no size");
  expect({"drive", "add", "x", "--account", "museum", "--folder", "b", "--at", At()}, 4,
         "appears at");
  expect({"frobnicate"}, 2, "");
  expect({"ls", "/"}, 3, "is on no drive");
  expect({"ls", At()}, 3, "never mounted");

  std::filesystem::remove(At());
  expect({"mount", "sheets"}, 3, "does not exist");
  WriteAll(At(), "file");
  expect({"mount", "sheets"}, 3, "is not a folder");
  std::filesystem::remove(At());
  std::filesystem::create_directory(At());
  WriteAll(At("file"), "in the way");
  expect({"mount", "sheets"}, 4, "has files in it");
  std::filesystem::remove(At("file"));

  WriteAll(machine_->Home("wrong.txt"), "wrong\n");
  const auto account = [&](const std::string& name, const std::string& endpoint,
                           const std::string& key, const std::string& file) {
    EXPECT_EQ(machine_
                  ->Pargeter({"account", "add", name, "--kind", "s3", "--endpoint", endpoint,
                              "--key-id", key, "--secret-file", machine_->Home(file)})
                  .exit_code,
              0);
  };
  account("wrongsecret", peer.endpoint, "fieldkey", "wrong.txt");
  expect({"account", "test", "wrongsecret"}, 6, "the secret does not fit");
  account("wrongkey", peer.endpoint, "nobody", "key.txt");
  expect({"account", "test", "wrongkey"}, 6, "does not know the key");
  account("nowhere", "http://127.0.0.1:1", "fieldkey", "key.txt");
  expect({"account", "test", "nowhere"}, 5, "does not answer");
  expect({"account", "test", "museum", "--folder", "no-such-bucket"}, 3, "no such bucket");
  SetFault(peer, "skew=3600");
  expect({"account", "test", "museum"}, 6, "clock");
  SetFault(peer, "");
  machine_->Pargeter({"drive", "add", "nob", "--account", "museum", "--folder", "no-such-bucket",
                      "--at", machine_->Home("nob")});
  expect({"mount", "nob"}, 3, "no such bucket");
  machine_->Pargeter({"drive", "add", "down", "--account", "nowhere", "--folder", "b", "--at",
                      machine_->Home("down")});
  expect({"mount", "down"}, 5, "does not answer");

  machine_->Mount();
  expect({"mount", "sheets"}, 7, "mounted already");
  expect({"drive", "remove", "sheets"}, 7, "is mounted");
  ::chmod(machine_->Home("config/pargeter/secrets.toml").c_str(), 0644);
  expect({"account", "test", "museum"}, 6, "can be read by other users");
}

// It is asked for its state while it dies: that is one more that is not mounted, and no reason to
// say nothing of the others.
TEST_F(CommandsTest, StatusIsToldThoughADriveEndsMeanwhile) {
  MountAll();
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  const std::string path = machine_->environment().at("XDG_RUNTIME_DIR") + "/pargeter/sheets.sock";
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  ASSERT_LT(path.size(), sizeof(address.sun_path));
  std::strcpy(address.sun_path, path.c_str());
  std::filesystem::remove(path);
  const Fd dying(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0));
  ASSERT_EQ(::bind(dying.get(), reinterpret_cast<sockaddr*>(&address), sizeof(address)), 0);
  ASSERT_EQ(::listen(dying.get(), 8), 0);
  std::thread death([&dying] {
    for (int asked = 0; asked < 2; ++asked)
      ::close(::accept4(dying.get(), nullptr, nullptr, SOCK_CLOEXEC));
    ::shutdown(dying.get(), SHUT_RDWR);  // nobody listens any more
  });
  const Outcome status = machine_->Pargeter({"status"});
  EXPECT_EQ(status.exit_code, 0) << status.err;
  EXPECT_THAT(status.out, HasSubstr("not mounted")) << status.out;
  ::shutdown(dying.get(), SHUT_RDWR);
  death.join();
}

TEST_F(CommandsTest, AMountThatFailsLateLeavesNoneBehind) {
  machine_->AddDrive("herbarium/sheets");
  auto environment = machine_->environment();
  environment["XDG_RUNTIME_DIR"] = "/proc/none";  // no socket can be made there
  for (const char* how : {"--detach", "--quiet"}) {
    const Outcome mounted =
        RunCommand({ProgramFolder() + "/pargeter", "mount", "sheets", how}, "", 60, environment);
    EXPECT_NE(mounted.exit_code, 0) << mounted.err;
    EXPECT_THAT(mounted.err, HasSubstr("/proc/none")) << mounted.err;
    EXPECT_THAT(ReadAll("/proc/self/mounts"), Not(HasSubstr(At()))) << how;
  }
}

// A session's folder goes when its user logs out, and the mount stays.
TEST_F(CommandsTest, AMountWhoseSocketIsGoneIsNotTakenForDead) {
  MountAll();
  ASSERT_EQ(machine_->Shell("echo fern > note").exit_code, 0);
  std::filesystem::remove_all(machine_->environment().at("XDG_RUNTIME_DIR") + "/pargeter");
  const Outcome gone = machine_->Pargeter({"unmount", "sheets"});
  EXPECT_EQ(gone.exit_code, 0) << gone.err;
  EXPECT_THAT(gone.out, HasSubstr("everything is at the store")) << gone.out;
  EXPECT_EQ(other_->Get("note"), "fern\n");
}

TEST_F(CommandsTest, WhereFewFilesMayBeOpenItGoesOnWhenSomeAreClosed) {
  machine_->AddDrive("herbarium/sheets");
  const auto mount = [&](int limit) {
    return RunCommand({"sh", "-c",
                       fmt::format("ulimit -n {} && exec {}/pargeter mount sheets --detach", limit,
                                   ProgramFolder())},
                      "", 60, machine_->environment());
  };
  const Outcome refused = mount(200);
  EXPECT_EQ(refused.exit_code, 1);
  EXPECT_THAT(refused.err, HasSubstr("200 open files here")) << refused.err;
  ASSERT_EQ(mount(260).exit_code, 0);
  std::vector<std::pair<std::string, Fd>> open;
  int too_many = 0;
  for (int i = 0; i < 300; ++i) {
    const std::string name = "sheet-" + std::to_string(i);
    Fd fd(::open(At(name).c_str(), O_CREAT | O_WRONLY | O_CLOEXEC, 0644));
    if (!fd) {
      EXPECT_EQ(errno, ENFILE) << name;
      ++too_many;
    } else if (::write(fd.get(), "fern", 4) == 4) {
      open.emplace_back(name, std::move(fd));
    }
  }
  EXPECT_GT(too_many, 0);
  EXPECT_GT(open.size(), 100u);
  for (auto& [name, fd] : open) fd.Reset();
  EXPECT_EQ(machine_->Pargeter({"flush", "sheets", "--timeout", "60s"}, 90).exit_code, 0);
  for (const auto& [name, fd] : open) EXPECT_EQ(other_->Get(name), "fern") << name;
}

// Of all times, one looks at it when something is broken.
TEST_F(CommandsTest, StatusOfTheOthersIsToldThoughOneCannotBe) {
  MountAll();
  ASSERT_EQ(machine_
                ->Pargeter({"drive", "add", "mosses", "--account", "museum", "--folder",
                            "herbarium/mosses", "--at", machine_->Home("mosses")})
                .exit_code,
            0);
  const std::string state =
      machine_->environment().at("XDG_STATE_HOME") + "/pargeter/drives/mosses";
  std::filesystem::create_directories(state + "/index.db");  // as no index can be
  const Outcome status = machine_->Pargeter({"status"});
  EXPECT_NE(status.exit_code, 0);
  EXPECT_THAT(status.err, HasSubstr("mosses")) << status.err;
  EXPECT_THAT(status.out, HasSubstr("online")) << status.out;
  EXPECT_THAT(status.out, HasSubstr("state    not known")) << status.out;
  EXPECT_EQ(status.out.find("waits"), status.out.rfind("waits")) << status.out;  // who knows?
  const auto drives = nlohmann::json::parse(machine_->Pargeter({"--json", "status"}).out)["drives"];
  ASSERT_EQ(drives.size(), 2u);
  EXPECT_TRUE(drives[0]["running"].is_null());
  EXPECT_NE(drives[0]["last_error"], "");
  EXPECT_EQ(drives[1]["running"], true);
  for (const char* command : {"queue", "usage", "conflicts"}) {
    const Outcome told = machine_->Pargeter({command});
    EXPECT_EQ(told.exit_code, status.exit_code) << command;
    EXPECT_THAT(told.err, HasSubstr("mosses")) << command << told.err;
    const bool others = told.out.find("sheets") != std::string::npos;
    EXPECT_EQ(others, std::string(command) != "conflicts") << command << told.out;
    EXPECT_THAT(told.out, Not(HasSubstr("no conflicts"))) << "who knows?";
  }
}

TEST_F(CommandsTest, WhatIsOnThisDiskIsSaidAndDecided) {
  for (int i = 0; i < 5; ++i) {
    other_->Put("pressed/s" + std::to_string(i), std::string(100000, 's'));
    other_->Put("archive/a" + std::to_string(i), std::string(100000, 'a'));
  }
  MountAll();
  const auto run = [&](std::vector<std::string> words, int exit_code = 0) {
    const Outcome done = machine_->Pargeter(words);
    EXPECT_EQ(done.exit_code, exit_code) << words[0] << ": " << done.out << done.err;
    return done.out + done.err;
  };
  EXPECT_THAT(run({"pin", At("pressed"), "--wait"}), HasSubstr("5 of 5 files here"));
  EXPECT_THAT(run({"rule", "add", At("archive"), "thin", "--everywhere"}),
              HasSubstr("every machine"));
  EXPECT_THAT(run({"rule", "add", "--pattern", "*.tmp", "local"}), HasSubstr("never at the store"));
  EXPECT_EQ(machine_->Shell("cat archive/a1 | wc -c").out, "100000\n");
  EXPECT_THAT(run({"ls", At()}), HasSubstr("*  488.3 KiB  488.3 KiB")) << run({"ls", At()});
  EXPECT_EQ(machine_->Shell("du -s --block-size=1 pressed | cut -f1").out, "501760\n");
  EXPECT_EQ(machine_->Shell("du -s --apparent-size --block-size=1 archive | cut -f1; getfattr -n "
                            "user.pargeter.placement --only-values archive/a2")
                    .out.find("thin") != std::string::npos,
            true);
  EXPECT_THAT(run({"evict", At("pressed")}, 4), HasSubstr("pinned"));
  EXPECT_THAT(run({"explain", At("pressed/s1")}),
              HasSubstr("always kept here, by the rule on pressed"));
  EXPECT_THAT(run({"explain", At("archive")}), HasSubstr("for all machines by"));
  EXPECT_THAT(run({"rule", "list"}), HasSubstr("every machine"));
  EXPECT_NE(machine_->Shell("setfattr -n user.pargeter.ask -v evict pressed").exit_code, 0);
  EXPECT_EQ(machine_->Shell("setfattr -n user.pargeter.ask -v unpin pressed").exit_code, 0);
  EXPECT_THAT(run({"evict", At("pressed"), "--json"}), HasSubstr("\"files\": 5"));
  // nobody asked for the bytes of the thin folder but the one who read them
  run({"fetch", At("pressed")});
  EXPECT_THAT(run({"verify", At()}), HasSubstr("5 files right"));
  EXPECT_FALSE(run({"activity"}).empty());
  run({"unmount", "sheets"});
  // without a mount the same commands work
  EXPECT_THAT(run({"evict", At()}), HasSubstr("Freed 488.3 KiB"));
  EXPECT_THAT(run({"fetch", At("pressed")}), HasSubstr("5 files here now"));
  EXPECT_THAT(run({"drive", "change", "sheets", "--cache-at", machine_->Home("elsewhere")}),
              HasSubstr("moved to"));
  machine_->Mount();
  EXPECT_THAT(run({"ls", At()}), HasSubstr("o  488.3 KiB  488.3 KiB")) << run({"ls", At()});
  EXPECT_EQ(run({"drive", "change", "sheets", "--cache-at", machine_->Home("third")}, 7).empty(),
            false);
  // moved by hand, then told
  run({"unmount", "sheets"});
  std::filesystem::rename(machine_->Home("elsewhere"), machine_->Home("carried"));
  run({"drive", "change", "sheets", "--cache-at", machine_->Home("carried")});
  machine_->Mount();
  Requests();
  EXPECT_EQ(machine_->Shell("cat pressed/s* | wc -c").out, "500000\n");
  for (const Logged& line : Requests()) EXPECT_THAT(line.key, Not(HasSubstr("pressed/s")));
}

TEST_F(CommandsTest, AnotherMachineKnowsTheRulesBeforeItsFirstDownload) {
  for (const char* name : {"archive/a", "archive/deep/b", "old/c", "work/d"})
    other_->Put(name, std::string(1000, 's'));
  MountAll();
  ASSERT_EQ(machine_->Pargeter({"rule", "add", At("archive"), "thin", "--everywhere"}).exit_code,
            0);
  ASSERT_EQ(machine_->Pargeter({"rule", "add", At("old"), "hide", "--everywhere"}).exit_code, 0);
  Machine second(machine_->peer());
  Requests();
  second.AddDrive("herbarium/sheets");
  second.Mount();
  const Outcome pinned = second.Pargeter({"pin", second.At(), "--wait"});
  EXPECT_EQ(pinned.exit_code, 0) << pinned.err;
  EXPECT_EQ(second.Shell("ls; cat work/d | wc -c; du -s --block-size=1 archive | cut -f1").out,
            "archive\nwork\n1000\n1024\n");
  int fetched = 0;
  for (const Logged& line : Requests()) {
    EXPECT_THAT(line.key, Not(HasSubstr("archive/"))) << line.method << " " << line.key;
    EXPECT_THAT(line.key, Not(HasSubstr("old/"))) << line.method << " " << line.key;
    fetched += line.method == "GET" && line.key.find("work/d") != std::string::npos;
  }
  EXPECT_EQ(fetched, 1);
}

TEST_F(CommandsTest, AShyProgramGetsTheEndsOnly) {
  other_->Put("scan", std::string(900000, 's'));
  MountAll({"--shy-readers", "sniffer"});
  ASSERT_EQ(RunCommand({"cp", "/bin/cat", machine_->Home("sniffer")}).exit_code, 0);
  const Outcome sniffed = machine_->Shell(machine_->Home("sniffer") + " scan | wc -c");
  EXPECT_EQ(sniffed.out, "65536\n") << sniffed.err;
  EXPECT_THAT(sniffed.err, HasSubstr("not permitted")) << sniffed.err;
  EXPECT_THAT(machine_->Pargeter({"activity"}).out, HasSubstr("sniffer wanted more"));
  EXPECT_EQ(machine_->Shell("cat scan | wc -c").out, "900000\n");
  EXPECT_EQ(machine_->Shell(machine_->Home("sniffer") + " scan | wc -c").out, "900000\n");
}

// A session bus and a secret service of the test's own, as a desktop has them.
TEST_F(CommandsTest, ASecretMayBeInTheKeyring) {
  if (RunCommand({"sh", "-c", "command -v dbus-run-session gnome-keyring-daemon"}).exit_code != 0)
    GTEST_SKIP() << "no session bus, or no secret service, is installed here";
  machine_->AddDrive("herbarium/sheets");
  auto environment = machine_->environment();
  environment["SECRET"] = machine_->peer().secret;
  const std::string p = ProgramFolder() + "/pargeter";
  const std::string script = R"(
    set -e
    printf 'pass\n' | gnome-keyring-daemon --unlock --components=secrets >/dev/null
    p() { ")" + p + R"(" "$@"; }
    p account change museum --secret-in keyring
    ! grep -q "$SECRET" "$XDG_CONFIG_HOME/pargeter/secrets.toml"
    p account test museum
    p account rename museum isle
    p account test isle
    p account show isle
    p account change isle --secret-in file
    grep -q "$SECRET" "$XDG_CONFIG_HOME/pargeter/secrets.toml"
    p account test isle
    p account rename isle museum
  )";
  const Outcome done =
      RunCommand({"dbus-run-session", "--", "sh", "-c", script}, "", 60, environment);
  EXPECT_EQ(done.exit_code, 0) << done.out << done.err;
  EXPECT_THAT(done.out, HasSubstr("in the keyring")) << done.out;
  // without that session nobody answers, and the message says what to do
  environment["DBUS_SESSION_BUS_ADDRESS"] = "unix:path=/nowhere";
  const Outcome alone =
      RunCommand({p, "account", "change", "museum", "--secret-in", "keyring"}, "", 60, environment);
  EXPECT_EQ(alone.exit_code, 5);
  EXPECT_THAT(alone.err, HasSubstr("--secret-in file")) << alone.err;
}

TEST_F(CommandsTest, SecretsShowNowhere) {
  MountAll();
  machine_->Shell("echo a > a");
  Flush();
  std::string all;
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"account", "show", "museum"},
                                             {"account", "list", "--json"},
                                             {"drive", "show", "sheets", "--json"},
                                             {"status", "--json"},
                                             {"-v", "account", "test", "museum"}}) {
    const Outcome o = machine_->Pargeter(words);
    all += o.out + o.err;
  }
  all += ReadAll("/proc/" + std::to_string(machine_->DaemonPid()) + "/cmdline");
  all += ReadAll(machine_->Home("state/pargeter/drives/sheets/mount.log"));
  EXPECT_THAT(all, Not(HasSubstr(machine_->peer().secret)));
}

TEST_F(CommandsTest, AnOrdinaryUserMountsThroughFusermount) {
  if (::geteuid() != 0) GTEST_SKIP() << "the other tests run as an ordinary user already";
  TemporaryFolder home;
  ASSERT_EQ(::chmod(home.path().c_str(), 0777), 0);
  WriteAll(home / "key.txt", machine_->peer().secret + "\n");
  ::chmod((home / "key.txt").c_str(), 0644);
  const std::string program = ProgramFolder() + "/pargeter";
  // a namespace of its own, in which /dev/fuse has its usual mode
  const std::string script =
      "mount --make-rprivate / && mknod " + home.path() + "/fuse c 10 229 && chmod 666 " +
      home.path() +
      "/fuse && "
      "mount --bind " +
      home.path() + "/fuse /dev/fuse && : > " + home.path() + "/conf && mount --bind " +
      home.path() +
      "/conf /etc/fuse.conf && exec setpriv --reuid=65534 --regid=65534 --clear-groups "
      "env HOME=" +
      home.path() + "/h XDG_RUNTIME_DIR=" + home.path() +
      "/h/run sh -ec '"
      "mkdir -p $HOME/run $HOME/m; P=" +
      program +
      "; "
      "$P -q account add museum --kind s3 --endpoint " +
      machine_->peer().endpoint + " --key-id fieldkey --secret-file " + home.path() +
      "/key.txt; "
      "$P -q drive add sheets --account museum --folder herbarium/sheets --at $HOME/m --keep-free "
      "0; "
      "$P -q mount sheets --detach; echo mine > $HOME/m/mine; stat -c %U $HOME/m/mine; $P -q flush "
      "sheets; $P unmount sheets; $P -q drive change sheets --share-with all; "
      "$P mount sheets --detach || echo rc $?'";
  const Outcome o = RunCommand({"unshare", "-m", "sh", "-c", script}, "", 60);
  EXPECT_EQ(o.exit_code, 0) << o.out << o.err;
  EXPECT_THAT(o.out, HasSubstr("nobody")) << o.out;
  EXPECT_EQ(other_->Get("mine"), "mine\n");
  EXPECT_THAT(o.out, HasSubstr("rc 6")) << o.out;
  EXPECT_THAT(o.err, HasSubstr("user_allow_other")) << o.err;
}

TEST(CommandLineTest, AWordThatIsNoneIsNamed) {
  const auto says = [](std::vector<std::string> words) {
    words.insert(words.begin(), ProgramFolder() + "/pargeter");
    const Outcome o = RunCommand(words);
    EXPECT_EQ(o.exit_code, 2);
    return o.err.substr(0, o.err.find('\n'));
  };
  EXPECT_EQ(says({"drive", "ad"}), "pargeter: pargeter drive has no command \"ad\"");
  EXPECT_EQ(says({"mont"}), "pargeter: pargeter has no command \"mont\"");
  EXPECT_EQ(says({"--nope"}), "pargeter: pargeter has no option \"--nope\"");
  EXPECT_EQ(says({"service"}), "pargeter: pargeter service needs a command");
  EXPECT_EQ(says({"drive", "add"}), "pargeter: DRIVE is required");
}

}  // namespace
}  // namespace pargeter::test
