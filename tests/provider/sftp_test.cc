// The SFTP provider's packets, and what only it has to do at a real server.
#include <gmock/gmock.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <atomic>
#include <filesystem>
#include <thread>

#include "conformance.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

using sftp::FileAttributes;
using sftp::Reader;
using sftp::Writer;

TEST(SftpPacketTest, NumbersAndTextComeBackAsTheyWere) {
  Writer out;
  out.U8(7).U32(0xdeadbeef).U64(1ull << 40).Text("Ä sheet").Text("");
  Reader in(out.bytes());
  EXPECT_EQ(in.U8(), 7);
  EXPECT_EQ(in.U32(), 0xdeadbeef);
  EXPECT_EQ(in.U64(), 1ull << 40);
  EXPECT_EQ(in.Text(), "Ä sheet");
  EXPECT_EQ(in.Text(), "");
  EXPECT_TRUE(in.good());
  EXPECT_EQ(in.left(), 0u);
  EXPECT_EQ(in.U32(), 0u);
  EXPECT_FALSE(in.good());
}

TEST(SftpPacketTest, ANamesAnswerThatBreaksOffAnywhereIsRefused) {
  Writer out;
  out.U32(2);
  for (const char* name : {"one", "two"}) {
    out.Text(name).Text("a line for people");
    out.U32(1 | 2 | 4 | 8 | 0x80000000).U64(5).U32(1).U32(2).U32(0100644).U32(3).U32(4);
    out.U32(1).Text("more@example.test").Text("x");
  }
  const std::string whole = out.bytes();
  const auto names = sftp::ReadNames(whole);
  ASSERT_TRUE(names.ok());
  ASSERT_EQ(names->size(), 2u);
  EXPECT_EQ((*names)[1].name, "two");
  EXPECT_EQ((*names)[1].attributes.size, 5u);
  EXPECT_EQ((*names)[1].attributes.mtime, 4u);
  EXPECT_TRUE((*names)[1].attributes.IsFile());
  for (std::size_t cut = 0; cut < whole.size(); ++cut)
    EXPECT_FALSE(sftp::ReadNames(whole.substr(0, cut)).ok()) << cut;
  EXPECT_FALSE(sftp::ReadNames("\xff\xff\xff\xff").ok());
}

TEST(SftpPacketTest, AStatusSaysWhatToDo) {
  EXPECT_EQ(sftp::ErrorOfStatus(2, "", "x").code, Code::kNotFound);
  EXPECT_EQ(sftp::ErrorOfStatus(3, "", "x").code, Code::kPermission);
  EXPECT_EQ(sftp::ErrorOfStatus(4, "Failure", "cannot write a").what,
            "cannot write a: the server could not do it");
  EXPECT_EQ(sftp::ErrorOfStatus(77, "", "x").code, Code::kStoreFault);
}

TEST(SftpReachTest, WhoGivesUpWaitsForNobodySilent) {
  // a port that takes connections and never says a word
  const int fd = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in at{};
  at.sin_family = AF_INET;
  at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof(at);
  ASSERT_EQ(::bind(fd, reinterpret_cast<sockaddr*>(&at), size), 0);
  ASSERT_EQ(::listen(fd, 8), 0);
  ASSERT_EQ(::getsockname(fd, reinterpret_cast<sockaddr*>(&at), &size), 0);
  sftp::SftpOptions options;
  options.ssh.host = "127.0.0.1";
  options.ssh.port = ntohs(at.sin_port);
  options.ssh.user = "curator";
  sftp::SftpProvider silent(options);
  const auto cancel = std::make_shared<CancelToken>();
  const auto begun = std::chrono::steady_clock::now();
  std::vector<std::thread> threads;
  std::atomic<int> given_up{0};
  for (int i = 0; i < 4; ++i)
    threads.emplace_back([&] {
      if (silent.List("", "", cancel).error().code == Code::kCancelled) ++given_up;
    });
  EXPECT_FALSE(sftp::Greet("127.0.0.1", options.ssh.port, Duration(300)).ok());
  cancel->Cancel();
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(given_up, 4);
  EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(8));
  ::close(fd);
}

class SftpConformanceTest : public ConformanceTest {
 protected:
  sftp::SftpProvider& sftp() { return static_cast<sftp::SftpProvider&>(*provider_); }
};
GTEST_ALLOW_UNINSTANTIATED_PARAMETERIZED_TEST(SftpConformanceTest);

TEST_P(SftpConformanceTest, AFileIsNeverPutOverAFolder) {
  ASSERT_OK(Put("d/inner", "inner"));
  const auto f = Put("f", "f");
  ASSERT_OK(f);
  EXPECT_FALSE(Put("d", "file", Precondition::Anything()).ok());
  EXPECT_FALSE(Put("d", "file", Precondition::Absent()).ok());
  EXPECT_FALSE(provider_->MoveFile("f", f->version, "d", Precondition::Anything(), nullptr).ok());
  EXPECT_FALSE(provider_->Remove("d", Precondition::Anything(), nullptr).ok());
  EXPECT_EQ(*Get("d/inner"), "inner");
}

TEST_P(SftpConformanceTest, LargeFilesGoBothWaysAndListingsTellAll) {
  const std::string body = Bytes(9'000'001);
  Attributes a;
  a.mode = 0640;
  a.mtime = 1'600'000'000'000'000'000;
  const auto put = Put("large", body, Precondition::Absent(), a);
  ASSERT_OK(put);
  EXPECT_EQ(*Get("large", put->version), body);
  EXPECT_EQ(*Get("large", put->version, 4'000'000, 3), body.substr(4'000'000, 3));
  const auto listed = ListAll("");
  ASSERT_EQ(listed.count("large"), 1u);
  EXPECT_EQ(listed.at("large").version, put->version);
  EXPECT_EQ(listed.at("large").attributes.mode, a.mode);
  EXPECT_EQ(listed.at("large").attributes.mtime, a.mtime);
  const auto copy = provider_->Copy("large", put->version, body.size(), "copy", nullptr,
                                    Precondition::Absent(), nullptr);
  ASSERT_OK(copy);
  EXPECT_EQ(*Get("copy", copy->version), body);
  EXPECT_EQ(ListAll("").size(), 2u) << "something was left behind";
}

TEST_P(SftpConformanceTest, AnUnknownHostIsRefusedWithItsFingerprintAndMayBeTrusted) {
  sftp::SftpOptions options = SftpOptionsFor(peer(), "");
  const TemporaryFolder folder;
  options.ssh.known_hosts = folder / "known";
  const auto refused = sftp::SftpProvider(options).List("", "", nullptr);
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kUntrusted);
  const auto at = refused.error().what.find("SHA256:");
  ASSERT_NE(at, std::string::npos) << refused.error().what;
  EXPECT_THAT(refused.error().remedy, HasSubstr("account trust"));
  EXPECT_FALSE(sftp::Trust(options.ssh, "SHA256:another", options.ssh.known_hosts).ok());
  ASSERT_OK(sftp::Trust(options.ssh, refused.error().what.substr(at), options.ssh.known_hosts));
  EXPECT_TRUE(sftp::SftpProvider(options).List("", "", nullptr).ok());
}

TEST_P(SftpConformanceTest, WhoIsNotLetInIsToldSo) {
  sftp::SftpOptions options = SftpOptionsFor(peer(), "");
  options.ssh.private_key.clear();
  options.ssh.secret = "wrong";
  EXPECT_EQ(sftp::SftpProvider(options).List("", "", nullptr).error().code, Code::kSignIn);
  options.ssh.private_key = "/nowhere/key";
  EXPECT_EQ(sftp::SftpProvider(options).List("", "", nullptr).error().code, Code::kSignIn);
  options = SftpOptionsFor(peer(), "no such folder/");
  EXPECT_EQ(sftp::SftpProvider(options).List("", "", nullptr).error().code, Code::kNotFound);
  options.ssh.port = 1;
  EXPECT_EQ(sftp::SftpProvider(options).List("", "", nullptr).error().code, Code::kUnavailable);
  EXPECT_FALSE(sftp::Greet("127.0.0.1", 1, Duration(500)).ok());
  EXPECT_TRUE(sftp::Greet("127.0.0.1", peer().port, Duration(2000)).ok());
}

TEST_P(SftpConformanceTest, ManyAtOnceAndOneGivenUpDisturbNobody) {
  const std::string body = Bytes(300'000);
  ASSERT_OK(Put("many", body));
  std::atomic<int> good{0};
  std::vector<std::thread> threads;
  for (int i = 0; i < 16; ++i)
    threads.emplace_back([&, i] {
      const auto cancel = std::make_shared<CancelToken>();
      if (i % 4 == 0) cancel->Cancel();
      TextSink sink;
      const Status read = provider_->Read("many", "", 0, body.size(), &sink, cancel);
      if (read.ok() ? sink.text == body : i % 4 == 0 && read.error().code == Code::kCancelled)
        ++good;
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(good, 16);
}

INSTANTIATE_TEST_SUITE_P(Stores, SftpConformanceTest, testing::ValuesIn(PeersOf("sftp")),
                         [](const auto& peer) { return Peers()[peer.param].name; });

}  // namespace
}  // namespace pargeter::test
