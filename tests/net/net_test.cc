#include <arpa/inet.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/socket.h>

#include <atomic>
#include <future>
#include <thread>

#include "base/file.h"
#include "base/log.h"
#include "base/text.h"
#include "net/http_client.h"
#include "net/retry.h"
#include "net/uri.h"
#include "net/web_link.h"
#include "support/peers.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

TEST(RetryTest, GrowsWithJitterAndEnds) {
  const RetryPolicy policy;
  const Error lost(Code::kUnavailable, "lost");
  EXPECT_EQ(NextTry(policy, lost, 1, Duration(0), 0.0)->count(), 100);
  EXPECT_EQ(NextTry(policy, lost, 1, Duration(0), 0.999)->count(), 199);
  EXPECT_GT(NextTry(policy, lost, 4, Duration(0), 0.0)->count(),
            NextTry(policy, lost, 3, Duration(0), 0.0)->count());
  EXPECT_FALSE(NextTry(policy, lost, policy.max_attempts, Duration(0), 0.5));
  EXPECT_FALSE(NextTry(policy, lost, 1, policy.give_up_after, 0.5));
}

TEST(RetryTest, HonoursWhatTheStoreAskedForUnlessItIsTooLong) {
  const RetryPolicy policy;
  Error slow(Code::kThrottled, "slow down");
  slow.retry_after_ms = 7000;
  EXPECT_EQ(NextTry(policy, slow, 1, Duration(0), 0.5)->count(), 7000);
  slow.retry_after_ms = 3600000;
  EXPECT_FALSE(NextTry(policy, slow, 1, Duration(0), 0.5));
}

TEST(RetryTest, WhatWillNotChangeIsNotRepeated) {
  EXPECT_FALSE(NextTry({}, Error(Code::kPermission, ""), 1, Duration(0), 0.5));
  EXPECT_FALSE(NextTry({}, Error(Code::kChanged, ""), 1, Duration(0), 0.5));
}

TEST(UriTest, EncodingIsReversible) {
  std::string all;
  for (int i = 0; i < 256; ++i) all += static_cast<char>(i);
  EXPECT_EQ(PercentDecode(PercentEncode(all)), all);
  EXPECT_EQ(PercentEncode("a/b c+~", KeepSlash::kYes), "a/b%20c%2B~");
  EXPECT_EQ(PercentDecode("%zz%4"), "%zz%4");
}

TEST(UriTest, EndpointsAreChecked) {
  const auto good = ParseEndpoint("https://store.example:9443/base/");
  ASSERT_TRUE(good.ok());
  EXPECT_EQ(good->authority, "store.example:9443");
  EXPECT_EQ(good->path, "/base");
  EXPECT_EQ(ParseEndpoint("http://[::1]:80")->host, "::1");
  for (const char* bad : {"", "store", "ftp://x", "http://", "http://u:p@x", "http://x:99999",
                          "http://x:y", "http://x?q"}) {
    EXPECT_EQ(ParseEndpoint(bad).error().code, Code::kInvalid) << bad;
  }
}

TEST(HttpClientTest, RefusedAndUnknownHostsAreUnavailable) {
  HttpClient client({});
  HttpRequest request;
  request.url = "http://127.0.0.1:1/";
  EXPECT_EQ(client.Do(request).error().code, Code::kUnavailable);
  request.url = "http://no-such-host.invalid/";
  const auto unknown = client.Do(request);
  EXPECT_EQ(unknown.error().code, Code::kUnavailable);
  EXPECT_THAT(unknown.error().what, HasSubstr("name is not found"));
}

TEST(HttpClientTest, AStalledServerIsGivenUp) {
  const Peer peer = StartStandin();
  SetFault(peer, "stall=20000");
  HttpClient client({});
  HttpRequest request;
  request.url = peer.endpoint + "/herbarium";
  request.deadlines.stall = Duration(1000);
  const auto start = std::chrono::steady_clock::now();
  EXPECT_EQ(client.Do(request).error().code, Code::kTimeout);
  EXPECT_LT(std::chrono::steady_clock::now() - start, std::chrono::seconds(10));
  peer.process->Signal(SIGKILL);
}

TEST(CancelTest, AForgottenHookRunsNoMore) {
  CancelToken token;
  std::promise<void> running, go_on;
  std::atomic<bool> ran{false};
  const int hook = token.OnCancel([&] {
    running.set_value();
    go_on.get_future().wait();
    ran = true;
  });
  auto canceller = std::async(std::launch::async, [&] { token.Cancel(); });
  running.get_future().wait();
  auto forgetting = std::async(std::launch::async, [&] {
    token.Forget(hook);
    return ran.load();
  });
  forgetting.wait_for(std::chrono::milliseconds(100));
  go_on.set_value();
  EXPECT_TRUE(forgetting.get());
  canceller.get();
  EXPECT_EQ(token.OnCancel([] {}), 0);
  token.Forget(0);
}

TEST(HttpClientTest, CancellingEndsAWait) {
  const Fd nobody(::socket(AF_INET, SOCK_STREAM, 0));  // who listens and never answers
  sockaddr_in at{};
  socklen_t size = sizeof at;
  at.sin_family = AF_INET;
  at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  ASSERT_EQ(::bind(nobody.get(), reinterpret_cast<sockaddr*>(&at), size), 0);
  ASSERT_EQ(::listen(nobody.get(), 1), 0);
  ASSERT_EQ(::getsockname(nobody.get(), reinterpret_cast<sockaddr*>(&at), &size), 0);
  HttpClient client({});
  HttpRequest request;
  request.url = "http://127.0.0.1:" + std::to_string(ntohs(at.sin_port));
  // also if it comes while the request is being handed over
  for (int round = 0; round < 3000; ++round) {
    request.cancel = std::make_shared<CancelToken>();
    std::atomic<bool> begun{false};
    auto other = std::async(std::launch::async, [&] {
      while (!begun) std::this_thread::yield();
      for (std::atomic<int> wait = 0; wait < round % 1000; ++wait) {
      }
      request.cancel->Cancel();
    });
    begun = true;
    const auto outcome = client.Do(request);
    ASSERT_FALSE(outcome.ok()) << "round " << round;
    ASSERT_EQ(outcome.error().code, Code::kCancelled) << "round " << round;
  }
}

TEST(HttpClientTest, ConnectionsAreKeptAndFaultsOfOneDoNotReachTheNext) {
  const Peer peer = StartStandin();
  HttpClient client({});
  HttpRequest request;
  request.url = peer.endpoint + "/herbarium";
  for (int i = 0; i < 5; ++i) EXPECT_EQ(client.Do(request)->head.status, 403);  // not signed
  // a kept connection that turns out to be dead is tried once more by libcurl itself
  SetFault(peer, "reset,times=2");
  const auto lost = client.Do(request);
  ASSERT_FALSE(lost.ok());
  EXPECT_EQ(lost.error().code, Code::kUnavailable);
  EXPECT_EQ(client.Do(request)->head.status, 403);
}

TEST(HttpClientTest, CertificatesAreVerifiedAndAPrivateAuthorityIsAccepted) {
  TemporaryFolder folder;
  const Outcome made =
      RunCommand({"openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout",
                  folder / "key.pem", "-out", folder / "cert.pem", "-days", "2", "-subj",
                  "/CN=localhost", "-addext", "subjectAltName=IP:127.0.0.1"});
  ASSERT_EQ(made.exit_code, 0) << made.err;
  const Peer peer =
      StartStandin({"--tls-certificate", folder / "cert.pem", "--tls-key", folder / "key.pem"});
  HttpRequest request;
  request.url = peer.endpoint + "/herbarium";
  HttpClient trusting_nobody({});
  const auto refused = trusting_nobody.Do(request);
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kUntrusted);
  EXPECT_THAT(refused.error().remedy, HasSubstr("--ca-file"));
  HttpOptions options;
  options.ca_file = folder / "cert.pem";
  HttpClient trusting(options);
  EXPECT_EQ(trusting.Do(request)->head.status, 403);
}

// A server that answers one request with what it was asked: enough to be a proxy of plain http.
class OneAnswer {
 public:
  OneAnswer() : listener_(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof(at);
    EXPECT_EQ(::bind(listener_.get(), reinterpret_cast<sockaddr*>(&at), size), 0);
    EXPECT_EQ(::listen(listener_.get(), 1), 0);
    ::getsockname(listener_.get(), reinterpret_cast<sockaddr*>(&at), &size);
    port_ = ntohs(at.sin_port);
    thread_ = std::thread([this] {
      const Fd client(::accept(listener_.get(), nullptr, nullptr));
      char buffer[4096];
      const ssize_t n = ::recv(client.get(), buffer, sizeof(buffer), 0);
      if (n > 0) asked_.assign(buffer, static_cast<std::size_t>(n));
      const std::string answer = "HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n";
      EXPECT_GT(::send(client.get(), answer.data(), answer.size(), MSG_NOSIGNAL), 0);
    });
  }
  std::string Address() const { return "http://127.0.0.1:" + std::to_string(port_); }
  std::string Asked() {  // after the request
    thread_.join();
    return asked_.substr(0, asked_.find('\r'));
  }

 private:
  Fd listener_;
  int port_ = 0;
  std::thread thread_;
  std::string asked_;
};

TEST(HttpClientTest, AProxyThatIsNamedIsGoneThrough) {
  OneAnswer proxy;
  HttpOptions options;
  options.proxy = proxy.Address();
  HttpClient client(options);
  HttpRequest request;
  request.url = "http://store.example.test/herbarium";
  const auto answer = client.Do(request);
  ASSERT_TRUE(answer.ok()) << answer.error().what;
  EXPECT_EQ(answer->head.status, 204);
  EXPECT_EQ(proxy.Asked(), "GET http://store.example.test/herbarium HTTP/1.1");
}

TEST(HttpClientTest, AProxyOfTheEnvironmentIsGoneThroughUnlessTheHostIsExcepted) {
  OneAnswer proxy;
  ::setenv("http_proxy", proxy.Address().c_str(), 1);
  HttpOptions around;
  around.no_proxy = "store.example.test";
  HttpRequest request;
  request.url = "http://store.example.test/herbarium";
  EXPECT_FALSE(HttpClient(around).Do(request).ok()) << "the name is none";
  EXPECT_TRUE(HttpClient({}).Do(request).ok());
  ::unsetenv("http_proxy");
  EXPECT_EQ(proxy.Asked(), "GET http://store.example.test/herbarium HTTP/1.1");
}

TEST(HttpClientTest, ACertificateProvesThisMachineWhereItIsAskedFor) {
  TemporaryFolder folder;
  for (const std::string name : {"server", "client"}) {
    const Outcome made =
        RunCommand({"openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout",
                    folder / (name + "-key.pem"), "-out", folder / (name + ".pem"), "-days", "2",
                    "-subj", "/CN=" + name, "-addext", "subjectAltName=IP:127.0.0.1"});
    ASSERT_EQ(made.exit_code, 0) << made.err;
  }
  const int port = 20000 + static_cast<int>(::getpid()) % 20000;
  Background server({"openssl", "s_server", "-accept", "127.0.0.1:" + std::to_string(port), "-cert",
                     folder / "server.pem", "-key", folder / "server-key.pem", "-CAfile",
                     folder / "client.pem", "-Verify", "1", "-verify_return_error", "-www"});
  HttpRequest request;
  request.url = "https://127.0.0.1:" + std::to_string(port) + "/";
  HttpOptions options;
  options.ca_file = folder / "server.pem";
  ASSERT_TRUE(Eventually([&] {
    HttpOptions known = options;
    known.certificate = folder / "client.pem";
    known.certificate_key = folder / "client-key.pem";
    const auto answer = HttpClient(known).Do(request);
    return answer.ok() && answer->head.status == 200;
  }));
  EXPECT_FALSE(HttpClient(options).Do(request).ok()) << "without one nobody is let in";
  options.certificate = folder / "server-key.pem";  // a key, and no certificate
  const auto wrong = HttpClient(options).Do(request);
  ASSERT_FALSE(wrong.ok());
  EXPECT_EQ(wrong.error().code, Code::kInvalid) << wrong.error().what;
}

// RFC 8288, section 3.
TEST(WebLinkTest, WhatCanBeUnderstoodIsTaken) {
  const auto links = ParseWebLinks(
      "</page/a,b;c>; REL=\"Alternate next\"; type=text/html; title=\"a \\\"b\\\", <c>\" , "
      "<https://drive.test/-/s?p=%2F>;rel=urn:x-pargeter:share; rel=other,<broken");
  ASSERT_EQ(links.size(), 2u);
  EXPECT_EQ(links[0].target, "/page/a,b;c");
  EXPECT_TRUE(links[0].Is("alternate") && links[0].Is("next"));
  EXPECT_EQ(links[0].type, "text/html");
  EXPECT_EQ(links[1].rels, std::vector<std::string>{"urn:x-pargeter:share"});
  EXPECT_TRUE(ParseWebLinks("").empty());
  EXPECT_TRUE(ParseWebLinks("<a b>; rel=x").empty());
}

TEST(WebLinkTest, OnlyWhatIsAtThisServerIsItsOwn) {
  const Endpoint server = *ParseEndpoint("https://drive.test:8443/dav");
  EXPECT_EQ(LocalTarget("/-/s?p=1", server), "/-/s?p=1");
  EXPECT_EQ(LocalTarget("https://drive.test:8443/-/s", server), "/-/s");
  for (const char* elsewhere :
       {"//evil.test/x", "https://drive.test:84430/x", "https://drive.test:8443.evil.test/",
        "http://drive.test:8443/x", "page", "", "/", "javascript:alert(1)"})
    EXPECT_EQ(LocalTarget(elsewhere, server), "") << elsewhere;
}

}  // namespace
}  // namespace pargeter::test
