// The ways into a store as people have them, by the built program; and the cache limit of a machine
// that only writes.
#include <gmock/gmock.h>

#include <chrono>
#include <nlohmann/json.hpp>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

class AccountsTest : public testing::Test {
 protected:
  void Begin(const std::vector<std::string>& more) {
    peer_ = StartStandin(more);
    machine_ = std::make_unique<Machine>(peer_);
    WriteAll(machine_->Home("key.txt"), peer_.secret + "\n");
  }
  Outcome Add(const std::string& name, std::vector<std::string> more) {
    more.insert(more.begin(),
                {"account", "add", name, "--kind", "s3", "--endpoint", peer_.endpoint});
    return machine_->Pargeter(more);
  }
  Outcome Test(const std::string& name) {
    return machine_->Pargeter({"account", "test", name, "--folder", "herbarium"});
  }
  Peer peer_;
  std::unique_ptr<Machine> machine_;
};

TEST_F(AccountsTest, ABucketThatIsOpenToAllIsReadWithoutAKey) {
  Begin({"--public-bucket", "herbarium"});
  ASSERT_TRUE(OtherClient(peer_).Put("sheet", "pressed"));
  EXPECT_EQ(Add("open", {"--anonymous", "--secret-file", machine_->Home("key.txt")}).exit_code, 2);
  ASSERT_EQ(Add("open", {"--anonymous"}).exit_code, 0);
  const Outcome works = Test("open");
  EXPECT_EQ(works.exit_code, 0) << works.err;
  EXPECT_THAT(works.out, Not(HasSubstr("trial"))) << "nothing is written";
  const Outcome seen = machine_->Pargeter({"account", "browse", "open", "herbarium"});
  EXPECT_THAT(seen.out, HasSubstr("sheet")) << seen.err;
  EXPECT_EQ(machine_->Pargeter({"account", "make-folder", "open", "herbarium/x"}).exit_code, 6);
}

TEST_F(AccountsTest, ATemporaryKeyHasASessionTokenThatMayBeRenewed) {
  Begin({"--session-token", "for-today"});
  WriteAll(machine_->Home("token.txt"), "of-yesterday\n");
  ASSERT_EQ(Add("brief", {"--key-id", peer_.key_id, "--secret-file", machine_->Home("key.txt"),
                          "--session-token-file", machine_->Home("token.txt")})
                .exit_code,
            0);
  const Outcome old = Test("brief");
  EXPECT_EQ(old.exit_code, 6) << old.out << old.err;
  EXPECT_THAT(old.err, HasSubstr("account change brief --session-token-file")) << old.err;
  WriteAll(machine_->Home("token.txt"), "for-today\n");
  ASSERT_EQ(machine_
                ->Pargeter({"account", "change", "brief", "--session-token-file",
                            machine_->Home("token.txt")})
                .exit_code,
            0);
  EXPECT_EQ(Test("brief").exit_code, 0);
}

TEST_F(AccountsTest, AnUntrustedCertificateIsNoAcceptedKey) {
  TemporaryFolder folder;
  const Outcome made =
      RunCommand({"openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout",
                  folder / "key.pem", "-out", folder / "cert.pem", "-days", "2", "-subj",
                  "/CN=localhost", "-addext", "subjectAltName=IP:127.0.0.1"});
  ASSERT_EQ(made.exit_code, 0) << made.err;
  Begin({"--tls-certificate", folder / "cert.pem", "--tls-key", folder / "key.pem"});
  const std::vector<std::string> key = {"--key-id", peer_.key_id, "--secret-file",
                                        machine_->Home("key.txt")};
  ASSERT_EQ(Add("doubtful", key).exit_code, 0);
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"account", "test", "doubtful"},
        {"account", "browse", "doubtful"}}) {
    const Outcome refused = machine_->Pargeter(words);
    EXPECT_EQ(refused.exit_code, 6) << refused.out;
    EXPECT_THAT(refused.out, Not(HasSubstr("accepted"))) << refused.out;
    EXPECT_THAT(refused.err, HasSubstr("certificate is not trusted")) << refused.err;
    EXPECT_THAT(refused.err, HasSubstr("--ca-file")) << refused.err;
  }
  ASSERT_EQ(machine_->Pargeter({"account", "change", "doubtful", "--ca-file", folder / "cert.pem"})
                .exit_code,
            0);
  EXPECT_EQ(machine_->Pargeter({"account", "test", "doubtful"}).exit_code, 0);
}

TEST_F(AccountsTest, AFolderForADriveIsMadeAtTheStore) {
  Begin({});
  ASSERT_EQ(Add("museum", {"--key-id", peer_.key_id, "--secret-file", machine_->Home("key.txt")})
                .exit_code,
            0);
  EXPECT_EQ(machine_->Pargeter({"account", "test", "museum", "--folder", "loans"}).exit_code, 3);
  for (int i = 0; i < 2; ++i) {  // again: it is there
    const Outcome made = machine_->Pargeter({"account", "make-folder", "museum", "loans/2026"});
    EXPECT_EQ(made.exit_code, 0) << made.err;
  }
  EXPECT_EQ(machine_->Pargeter({"account", "test", "museum", "--folder", "loans"}).exit_code, 0);
  EXPECT_THAT(machine_->Pargeter({"account", "browse", "museum", "loans"}).out, HasSubstr("2026/"));
}

class BodyLimitTest : public OnAMount {
 protected:
  void SetUp() override {
    OnAMount::SetUp();
    if (machine_) machine_ = std::make_unique<Machine>(StartStandin({"--largest-body", "6MiB"}));
  }
};

// Parts of the usual size are refused; smaller ones are tried by themselves.
TEST_F(BodyLimitTest, WhatIsTooLargeForOneRequestGoesUpInSmallerParts) {
  machine_->AddDrive("herbarium/sheets");
  machine_->Mount();
  ASSERT_EQ(machine_->Shell("head -c 20000000 /dev/urandom > scan").exit_code, 0);
  const Outcome flushed = machine_->Pargeter({"flush", "sheets", "--timeout", "50s"});
  EXPECT_EQ(flushed.exit_code, 0) << flushed.err;
  EXPECT_EQ(OtherClient(machine_->peer(), "sheets/").Get("scan").size(), 20000000u);
}

class WriteOnlyTest : public OnAMount {};

// A backup target: half a minute in which nothing is read.
TEST_F(WriteOnlyTest, ItsCacheStaysWithinTheLimit) {
  constexpr std::uint64_t kLimit = 16u << 20;
  machine_->AddDrive("herbarium/backup", {"--cache-limit", "16MiB"});
  machine_->Mount();
  const auto cache = [&] {
    const Outcome o = machine_->Pargeter({"status", "sheets", "--json"});
    return nlohmann::json::parse(o.out)["drives"][0]["cache"];
  };
  const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(30);
  for (int i = 0; std::chrono::steady_clock::now() < end; ++i) {
    ASSERT_EQ(machine_->Shell("head -c 3000000 /dev/zero > f" + std::to_string(i)).exit_code, 0);
    if (i % 4 != 3) continue;
    ASSERT_EQ(machine_->Pargeter({"flush", "sheets", "--timeout", "30s"}).exit_code, 0);
    EXPECT_TRUE(Eventually([&] {
      const auto now = cache();
      return now["bytes"].get<std::uint64_t>() - now["waiting_bytes"].get<std::uint64_t>() <=
             kLimit;
    })) << i
        << ": " << cache();
  }
  EXPECT_GT(cache()["bytes"].get<std::uint64_t>(), kLimit / 2) << "no more goes than has to";
}

}  // namespace
}  // namespace pargeter::test
