// Drives as services of a real systemd, on a machine that can be rebooted and crashed
// (tests/servers/boot). Skipped, and said so, where such a machine cannot be made.
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <functional>

#include "base/text.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

const char* kStandinUnit = R"(
[Service]
ExecStart=/usr/local/bin/pargeter-standin objects --listen 127.0.0.1:9000 --key-id isle --secret-file /var/standin/secret --bucket herbarium --data /var/standin/data --request-log /var/standin/log
[Install]
WantedBy=multi-user.target
)";

class ServiceTest : public testing::Test {
 protected:
  static std::string Rig() { return std::string(PARGETER_SOURCE_FOLDER) + "/tests/servers/boot"; }
  static Outcome Boot(std::vector<std::string> words, int seconds = 90,
                      const std::string& input = "") {
    words.insert(words.begin(), Rig());
    return RunCommand(words, input, seconds, {{"BOOT_DIR", *folder_}});
  }
  static Outcome Root(const std::string& line, int seconds = 90) {
    return Boot({"run", "sh", "-c", line}, seconds);
  }
  static Outcome As(const std::string& user, const std::string& line, int seconds = 150) {
    return Boot({"as", user, "sh", "-c", "cd; " + line}, seconds);
  }
  static void SetUpTestSuite() {
    // not below TMPDIR, which may lie in memory or on an overlay
    folder_ = new std::string("/var/tmp/pargeter-boot-" + std::to_string(::getpid()));
    able_ = Boot({"able"}).exit_code == 0;
    if (!able_) return;
    const Outcome up = Boot({"up"}, 100);
    ASSERT_EQ(up.exit_code, 0) << up.err;
    for (const char* program : {"pargeter", "pargeter-standin"}) {
      const std::string to = std::string("/usr/local/bin/") + program;
      ASSERT_EQ(Boot({"run", "sh", "-c", "cat > " + to + " && chmod 755 " + to}, 60,
                     ReadAll(ProgramFolder() + "/" + program))
                    .exit_code,
                0);
    }
    const Outcome made = Root(fmt::format(
        "set -e; useradd -m anna; useradd -m bert; mkdir -p /var/standin; printf isle > "
        "/var/standin/secret; for u in anna bert; do install -m 600 -o $u "
        "/var/standin/secret /home/$u/secret; done; printf '%s' '{}' > "
        "/etc/systemd/system/standin.service; systemctl daemon-reload; systemctl "
        "enable --now standin",
        kStandinUnit));
    ASSERT_EQ(made.exit_code, 0) << made.err;
    AddDrive("anna");
    AddDrive("bert");
  }
  static void TearDownTestSuite() {
    if (able_) Boot({"down"});
    delete folder_;
  }
  void SetUp() override {
    if (!able_)
      GTEST_SKIP() << "no systemd of our own can be booted here (tests/servers/boot able)";
  }
  void TearDown() override {
    if (!able_) return;
    Root("systemctl start standin");
    for (const char* user : {"anna", "bert"})
      As(user, "pargeter service disable sheets; pargeter unmount sheets --now");
    Root("pargeter service disable sheets --system");
    for (const char* user : {"anna", "bert"}) Root(std::string("loginctl disable-linger ") + user);
  }
  static void AddDrive(const std::string& user) {
    const Outcome added = As(
        user, fmt::format("pargeter account add museum --kind s3 --endpoint http://127.0.0.1:9000 "
                          "--key-id isle --secret-file ~/secret && pargeter drive add sheets "
                          "--account museum --folder herbarium/{} --at ~/sheets",
                          user));
    ASSERT_EQ(added.exit_code, 0) << added.err;
  }
  static std::string AtTheStore(const std::string& user, const std::string& path) {
    // past every mount: a second state, which knows nothing
    const Outcome out =
        As(user, fmt::format("rm -rf ~/other; mkdir -p ~/other/at; D='pargeter "
                             "--state-dir '$HOME/other/state; cp -r ~/.config/pargeter "
                             "~/other/config; sed -i \"s#^at = .*#at = "
                             "\\\"$HOME/other/at\\\"#\" ~/other/config/drives/*; $D "
                             "--config-dir ~/other/config mount sheets --detach "
                             ">&2; cat ~/other/at/{}; $D --config-dir "
                             "~/other/config unmount sheets >&2",
                             path));
    return out.out;
  }
  static std::string Pid(const std::string& user) {
    return As(user, "pargeter status --json | sed -n 's/.*\"pid\": \\([0-9]*\\).*/\\1/p'").out;
  }
  static bool Soon(const std::function<bool()>& true_now, int seconds = 40) {
    return Eventually(true_now, seconds);
  }

  static std::string* folder_;
  static bool able_;
};
std::string* ServiceTest::folder_ = nullptr;
bool ServiceTest::able_ = false;

TEST_F(ServiceTest, AUsersServiceComesBackAfterACrashAndUploadsWhatWaited) {
  Root("loginctl enable-linger anna");
  const Outcome enabled = As("anna", "pargeter service enable sheets --now");
  ASSERT_EQ(enabled.exit_code, 0) << enabled.err;
  EXPECT_THAT(enabled.out, HasSubstr("at boot")) << enabled.out;
  EXPECT_THAT(As("anna", "pargeter status").out, HasSubstr("starts   at boot"));
  Root("systemctl disable --now standin");
  const Outcome wrote = As("anna",
                           "echo pressed > sheets/leaf && sync -f sheets/leaf; pargeter "
                           "status --json");
  EXPECT_THAT(wrote.out, HasSubstr("\"files\": 1")) << wrote.out << wrote.err;
  ASSERT_EQ(Boot({"crash"}, 120).exit_code, 0);
  // no store, and yet it is mounted, with what waits
  EXPECT_TRUE(Soon([] { return As("anna", "cat sheets/leaf").out == "pressed\n"; }));
  EXPECT_THAT(As("anna", "pargeter status").out, HasSubstr("OFFLINE"));
  EXPECT_THAT(Root("journalctl -q -o cat PARGETER_DRIVE=sheets PARGETER_ACCOUNT=museum "
                   "PARGETER_CODE=unavailable")
                  .out,
              HasSubstr("offline"));
  Root("systemctl enable --now standin");
  EXPECT_EQ(As("anna", "pargeter flush sheets --timeout 60s").exit_code, 0);
  EXPECT_EQ(AtTheStore("anna", "leaf"), "pressed\n");
}

TEST_F(ServiceTest, TheMachinesServiceTakesOverAUsersStateAndComesBackAfterAReboot) {
  ASSERT_EQ(As("anna", "pargeter service enable sheets --now").exit_code, 0);
  Root("systemctl stop standin");
  ASSERT_EQ(As("anna", "echo waits > sheets/waits").exit_code, 0);
  const Outcome enabled = Root("pargeter service enable sheets --system --as anna --now", 200);
  ASSERT_EQ(enabled.exit_code, 0) << enabled.err;
  EXPECT_THAT(enabled.out, HasSubstr("as anna")) << enabled.out;
  EXPECT_EQ(As("anna", "cat sheets/waits").out, "waits\n");
  EXPECT_THAT(As("anna", "ls .config/systemd/user/").out, Not(HasSubstr("pargeter")));
  EXPECT_EQ(Root("stat -c %U /home/anna/sheets/waits").out, "") << "root looks into a user's mount";
  ASSERT_EQ(Boot({"reboot"}, 120).exit_code, 0);
  EXPECT_TRUE(Soon([] { return As("anna", "cat sheets/waits").out == "waits\n"; }));
  const Outcome status = As("anna", "pargeter status");
  EXPECT_THAT(status.out, HasSubstr("as a service")) << status.out;
  EXPECT_THAT(status.out, HasSubstr("at boot")) << status.out;
  EXPECT_EQ(As("anna", "pargeter flush sheets --timeout 60s").exit_code, 0);
  EXPECT_EQ(AtTheStore("anna", "waits"), "waits\n");
}

TEST_F(ServiceTest, RootsServiceIsClosedInAndTakesItsSecretFromACredential) {
  const Outcome enabled = Root(
      "pargeter account add museum --kind s3 --endpoint http://127.0.0.1:9000 --key-id isle "
      "--secret-file /var/standin/secret && pargeter drive add sheets --account museum --folder "
      "herbarium/root --at /srv/sheets --share-with all && pargeter service enable sheets --now",
      150);
  ASSERT_EQ(enabled.exit_code, 0) << enabled.err;
  ASSERT_EQ(Root("echo fern > /srv/sheets/one && pargeter flush sheets").exit_code, 0);
  EXPECT_EQ(As("anna", "cat /srv/sheets/one").out, "fern\n");
  EXPECT_NE(As("anna", "echo x > /srv/sheets/one").exit_code, 0);
  EXPECT_THAT(Root("systemctl show pargeter@sheets").out, HasSubstr("NoNewPrivileges=yes"));
  const Outcome restarted = Root(
      "D=/etc/systemd/system/pargeter@sheets.service.d; systemd-creds encrypt "
      "--name=pargeter.museum /var/standin/secret /etc/pargeter/museum.cred; printf "
      "'[Service]\nLoadCredentialEncrypted=pargeter.museum:/etc/pargeter/museum.cred\n' > "
      "$D/60-secret.conf; rm /etc/pargeter/secrets.toml; systemctl daemon-reload; pargeter service "
      "restart sheets && cat /srv/sheets/one && pargeter drive change sheets --cache-limit 1GiB && "
      "systemctl reload pargeter@sheets && pargeter status; rm $D/60-secret.conf",
      150);
  EXPECT_EQ(restarted.out.substr(restarted.out.find("fern")).substr(0, 5), "fern\n")
      << restarted.err;
  EXPECT_THAT(restarted.out, HasSubstr("of 1.0 GiB")) << restarted.out << restarted.err;
}

TEST_F(ServiceTest, KilledItComesBackAndOpenFilesFailCleanly) {
  ASSERT_EQ(As("anna", "pargeter service enable sheets --now").exit_code, 0);
  const std::string pid = Pid("anna");
  const Outcome open =
      As("anna", "echo x > sheets/held; exec 9< sheets/held; kill -9 " + std::string(Trim(pid)) +
                     "; while kill -0 " + std::string(Trim(pid)) +
                     " 2>/dev/null; do :; done; timeout 10 cat <&9; echo code $?");
  EXPECT_THAT(open.out, HasSubstr("code 1")) << open.out << open.err;
  EXPECT_TRUE(Soon([] { return As("anna", "cat sheets/held").out == "x\n"; }));
  EXPECT_NE(Pid("anna"), pid);
}

TEST_F(ServiceTest, TheWatchdogCatchesAProcessThatIsStopped) {
  ASSERT_EQ(As("anna",
               "pargeter service enable sheets && mkdir -p "
               ".config/systemd/user/pargeter@sheets.service.d && printf "
               "'[Service]\\nWatchdogSec=3\\n' > "
               ".config/systemd/user/pargeter@sheets.service.d/60-own.conf && systemctl "
               "--user daemon-reload && pargeter service start sheets")
                .exit_code,
            0);
  const std::string pid = Pid("anna");
  As("anna", "kill -STOP " + pid);
  EXPECT_TRUE(Soon([&] {
    const Outcome now = As("anna", "timeout 5 ls sheets >/dev/null && pargeter status --json");
    return now.exit_code == 0 && Pid("anna") != pid;
  }));
  As("anna", "rm .config/systemd/user/pargeter@sheets.service.d/60-own.conf");
}

TEST_F(ServiceTest, ABrokenConfigurationIsSaidAndNotTriedForEver) {
  As("anna", "chmod 644 .config/pargeter/secrets.toml");
  const Outcome open = As("anna", "pargeter service enable sheets");
  EXPECT_EQ(open.exit_code, 6) << open.err;
  EXPECT_THAT(open.err, HasSubstr("can be read by other users")) << open.err;
  As("anna", "chmod 600 .config/pargeter/secrets.toml");
  ASSERT_EQ(As("anna", "pargeter service enable sheets --now").exit_code, 0);
  As("anna", "mv .config/pargeter/accounts/museum.toml museum.toml");
  const Outcome failed = As("anna", "pargeter service restart sheets");
  EXPECT_EQ(failed.exit_code, 3) << failed.err;
  EXPECT_THAT(failed.err, HasSubstr("museum")) << failed.err;
  EXPECT_THAT(As("anna", "pargeter service status").out, HasSubstr("FAILED"));
  EXPECT_EQ(As("anna", "systemctl --user show -p NRestarts --value pargeter@sheets").out, "0\n");
  As("anna", "mv museum.toml .config/pargeter/accounts/museum.toml");
}

TEST_F(ServiceTest, ANewerProgramTakesOverWithWhatWaits) {
  ASSERT_EQ(As("anna", "pargeter service enable sheets --now").exit_code, 0);
  Root("systemctl stop standin");
  ASSERT_EQ(As("anna", "echo pressed > sheets/upgraded").exit_code, 0);
  // as a package does: a new file under the old name
  ASSERT_EQ(Root("cd /usr/local/bin; cp pargeter new && mv new pargeter").exit_code, 0);
  const std::string status = As("anna", "pargeter status").out;
  EXPECT_THAT(status, HasSubstr("program  was replaced")) << status;
  EXPECT_EQ(As("anna", "cat sheets/upgraded").out, "pressed\n");
  EXPECT_EQ(As("anna", "pargeter service stop sheets").exit_code, 0);
  EXPECT_EQ(As("anna", "pargeter service start sheets").exit_code, 0);
  EXPECT_THAT(As("anna", "pargeter status").out, Not(HasSubstr("program  was")));
  Root("systemctl start standin");
  EXPECT_EQ(As("anna", "pargeter flush sheets --timeout 60s").exit_code, 0);
  EXPECT_EQ(AtTheStore("anna", "upgraded"), "pressed\n");
}

TEST_F(ServiceTest, TwoUsersHaveADriveEach) {
  for (const char* user : {"anna", "bert"}) {
    ASSERT_EQ(
        As(user, "pargeter service enable sheets --now && echo $USER > sheets/whose").exit_code, 0);
  }
  EXPECT_EQ(As("anna", "ls ~bert/sheets").exit_code, 2);
  EXPECT_NE(As("bert", "cat sheets/whose").exit_code, 1);
  EXPECT_THAT(As("anna", "pargeter service status --json").out, Not(HasSubstr("bert")));
}

TEST_F(ServiceTest, DisabledItLeavesNothingBehind) {
  ASSERT_EQ(As("anna", "pargeter service enable sheets --now").exit_code, 0);
  const Outcome disabled = As("anna", "pargeter service disable sheets");
  ASSERT_EQ(disabled.exit_code, 0) << disabled.err;
  EXPECT_EQ(As("anna",
               "find .config/systemd -name '*pargeter*'; grep fuse.pargeter /proc/mounts; "
               "pgrep -u anna pargeter; find $XDG_RUNTIME_DIR -name '*.sock' -path "
               "'*pargeter*'; find .local/state/pargeter -name control")
                .out,
            "");
  EXPECT_EQ(As("anna", "pargeter service start sheets").exit_code, 3);
}

TEST_F(ServiceTest, StoppedInALongUploadItSaysWhatIsLeft) {
  ASSERT_EQ(As("anna",
               "pargeter drive change sheets --stop-within 2s && pargeter service enable "
               "sheets --now")
                .exit_code,
            0);
  Root("curl -s -X POST -d 'stall=8000,method=PUT' http://127.0.0.1:9000/-/faults");
  As("anna", "echo long > sheets/long");
  const Outcome stopped = As("anna", "pargeter service stop sheets");
  EXPECT_EQ(stopped.exit_code, 0) << stopped.err;
  const Outcome log = As("anna", "pargeter service log sheets");
  EXPECT_THAT(log.out, HasSubstr("not at the store yet")) << log.out << log.err;
  Root("curl -s -X DELETE http://127.0.0.1:9000/-/faults");
  ASSERT_EQ(As("anna", "pargeter service start sheets").exit_code, 0);
  EXPECT_EQ(As("anna", "pargeter flush sheets --timeout 60s").exit_code, 0);
  EXPECT_EQ(AtTheStore("anna", "long"), "long\n");
}

}  // namespace
}  // namespace pargeter::test
