// Signing in, against the simulated drive's own sign-in server.
#include "net/oauth.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <thread>

#include "net/http_client.h"
#include "net/token_keeper.h"
#include "net/uri.h"
#include "support/peers.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

using oauth::Client;
using oauth::Tokens;

const Client kClient{"pargeter", {}};
constexpr const char* kScope = "files.read files.write offline_access";

// Plain requests, as a browser makes them.
HttpResponse Ask(const std::string& method, const std::string& url, const std::string& body = "") {
  HttpClient http({});
  HttpRequest request;
  request.method = method;
  request.url = url;
  request.body = body;
  const auto answer = http.Do(request);
  EXPECT_TRUE(answer.ok()) << url;
  return answer.ok() ? *answer : HttpResponse();
}

class OAuthTest : public testing::Test {
 protected:
  void Begin(const std::vector<std::string>& more = {"--token-life", "3600s"}) {
    std::vector<std::string> words = {"--grants-only"};
    words.insert(words.end(), more.begin(), more.end());
    peer_ = StartDriveStandin("drive", words);
    const auto found = oauth::Discover(peer_.endpoint, kClient, nullptr);
    ASSERT_TRUE(found.ok()) << found.error().what;
    server_ = *found;
  }
  void Decide(const std::string& user_code, const char* answer) {
    Ask("POST", peer_.endpoint + "/-/oauth/code",
        "user_code=" + user_code + "&person=curator&answer=" + answer);
  }
  Tokens Granted(const std::string& scope = kScope) {
    const auto grant = oauth::BeginDevice(server_, kClient, scope, nullptr);
    EXPECT_TRUE(grant.ok());
    Decide(grant->user_code, "grant");
    const auto tokens = oauth::AwaitDevice(server_, kClient, *grant, nullptr);
    EXPECT_TRUE(tokens.ok()) << tokens.error().what;
    return *tokens;
  }
  Status List(const std::string& token) {
    webdav::DavOptions options = DavOptionsFor(peer_, "");
    options.wire.bearer = [token](const std::string&, const Cancel&) {
      return Result<std::string>(token);
    };
    const auto listed = webdav::DavProvider(options).List("", "", nullptr);
    return listed.status();
  }
  // What is stored, as the secrets file would have it.
  oauth::TokenKeeper::Options Store() {
    return {peer_.endpoint, kClient, folder_ / "lock",
            [this]() -> Result<std::string> {
              const Lock lock(mutex_);
              return stored_;
            },
            [this](const std::string& text) -> Status {
              const Lock lock(mutex_);
              if (disk_full_) return Error(Code::kIo, "the disk is full");
              stored_ = text;
              return {};
            }};
  }
  std::size_t Refreshes() {
    const auto log = ReadLog(peer_);
    return static_cast<std::size_t>(std::count_if(
        log.begin(), log.end(), [](const Logged& l) { return l.key == "-/oauth/token"; }));
  }

  Peer peer_;
  oauth::Server server_;
  TemporaryFolder folder_;
  Mutex mutex_;
  std::string stored_;
  bool disk_full_ = false;
};

TEST_F(OAuthTest, ACodeOnAnotherDeviceLetsUsIn) {
  Begin();
  EXPECT_EQ(List("nonsense").error().code, Code::kSignIn);
  const Tokens tokens = Granted();
  EXPECT_TRUE(List(tokens.access).ok());
  EXPECT_TRUE(oauth::Covers(tokens.scope, "files.write files.read"));
  EXPECT_GT(tokens.expires, SystemClock().Wall());
  const auto again = oauth::Unpack(oauth::Pack(tokens));
  ASSERT_TRUE(again.ok());
  EXPECT_EQ(again->refresh, tokens.refresh);
  EXPECT_EQ(again->expires, tokens.expires);
  // less is granted than was asked for
  EXPECT_FALSE(oauth::Covers(Granted("files.read unheard.of").scope, "files.write"));
  const auto refused = oauth::BeginDevice(server_, kClient, kScope, nullptr);
  Decide(refused->user_code, "deny");
  EXPECT_EQ(oauth::AwaitDevice(server_, kClient, *refused, nullptr).error().code,
            Code::kPermission);
}

TEST_F(OAuthTest, TheBrowserComesBackToThisMachineAlone) {
  Begin();
  auto loopback = oauth::Loopback::Listen();
  ASSERT_TRUE(loopback.ok());
  const oauth::Pkce pkce = oauth::NewPkce();
  EXPECT_EQ(pkce.verifier.size(), 43u);
  EXPECT_EQ(pkce.challenge.size(), 43u);
  const std::string url =
      oauth::AuthorizationUrl(server_, kClient, loopback->redirect(), kScope, "the-state", pkce);
  std::thread browser([&] {
    EXPECT_THAT(Ask("GET", url).body, HasSubstr("read and change"));
    Ask("GET", loopback->redirect() + "?state=another&code=stolen");  // is not taken
    Ask("GET", loopback->redirect().substr(0, loopback->redirect().rfind('/')) + "/favicon.ico");
    const HttpResponse decided =
        Ask("POST", peer_.endpoint + "/-/oauth/authorize",
            url.substr(url.find('?') + 1) + "&person=curator&answer=grant");
    EXPECT_EQ(decided.head.status, 302);
    EXPECT_THAT(Ask("GET", decided.head.Get("location")).body, HasSubstr("signed in"));
  });
  const auto code = loopback->Await("the-state", Duration(20000), nullptr);
  browser.join();
  ASSERT_TRUE(code.ok()) << code.error().what;
  // without the verifier a code is worth nothing, and one that was used neither
  EXPECT_EQ(oauth::Redeem(server_, kClient, *code, loopback->redirect(), oauth::NewPkce(), nullptr)
                .error()
                .code,
            Code::kSignIn);
  EXPECT_FALSE(oauth::Redeem(server_, kClient, *code, loopback->redirect(), pkce, nullptr).ok());
  EXPECT_EQ(loopback->Await("the-state", Duration(300), nullptr).error().code, Code::kTimeout);
}

TEST_F(OAuthTest, ManyWhoWantATokenRefreshItOnce) {
  Begin({"--token-life", "6s"});
  stored_ = oauth::Pack(Granted());
  oauth::TokenKeeper here(Store()), elsewhere(Store());  // two processes, say
  const auto first = here.Access("", nullptr);
  ASSERT_TRUE(first.ok());
  Refreshes();
  // it was not taken, although it had not lapsed
  std::atomic<int> good{0};
  std::vector<std::thread> threads;
  for (int i = 0; i < 16; ++i)
    threads.emplace_back([&, i] {
      const auto token = (i % 2 ? here : elsewhere).Access(*first, nullptr);
      if (token.ok() && *token != *first) ++good;
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(good, 16);
  EXPECT_EQ(Refreshes(), 1u);
  EXPECT_TRUE(List(*here.Access("", nullptr)).ok());
  // and before it lapses
  EXPECT_TRUE(Eventually(
      [&] {
        return *here.Access("", nullptr) != *elsewhere.Access("", nullptr) || Refreshes() > 0;
      },
      10));
  EXPECT_TRUE(List(*here.Access("", nullptr)).ok());
}

TEST_F(OAuthTest, AGrantThatHasEndedIsSaidSoOnceAndANewOneIsFound) {
  Begin();
  stored_ = oauth::Pack(Granted());
  oauth::TokenKeeper keeper(Store());
  const std::string token = *keeper.Access("", nullptr);
  ASSERT_TRUE(oauth::Revoke(server_, kClient, *oauth::Unpack(stored_), nullptr).ok());
  EXPECT_EQ(List(token).error().code, Code::kSignIn);
  const auto ended = keeper.Access(token, nullptr);
  ASSERT_FALSE(ended.ok());
  EXPECT_EQ(ended.error().code, Code::kSignIn);
  EXPECT_THAT(ended.error().what, HasSubstr("sign-in needed"));
  EXPECT_THAT(ended.error().what, Not(HasSubstr(token)));
  Refreshes();
  EXPECT_FALSE(keeper.Access(token, nullptr).ok());
  EXPECT_EQ(Refreshes(), 0u);  // nobody asks again with what has ended
  {
    const std::string fresh = oauth::Pack(Granted());
    const Lock lock(mutex_);
    stored_ = fresh;
  }
  EXPECT_TRUE(keeper.Access(token, nullptr).ok());
}

TEST_F(OAuthTest, ACodeThatHasLapsedIsSaidSo) {
  Begin();
  const auto grant = oauth::BeginDevice(server_, kClient, kScope, nullptr);
  ASSERT_TRUE(grant.ok());
  Ask("POST", peer_.endpoint + "/-/control/end-codes", "");
  const auto late = oauth::AwaitDevice(server_, kClient, *grant, nullptr);
  ASSERT_FALSE(late.ok());
  EXPECT_EQ(late.error().code, Code::kTimeout);
  EXPECT_NE(late.error().remedy, "");
}

// RFC 9700, section 4.14: whoever uses an old one may have stolen it, so the server ends the grant.
TEST_F(OAuthTest, ATokenThatIsUsedTwiceEndsTheGrantAndThatIsSaid) {
  Begin();
  const Tokens first = Granted();
  stored_ = oauth::Pack(first);
  oauth::TokenKeeper keeper(Store());
  const auto fresh = keeper.Access(first.access, nullptr);  // renewed, and the old one is spent
  ASSERT_TRUE(fresh.ok());
  EXPECT_EQ(oauth::Refresh(server_, kClient, first, nullptr).error().code, Code::kSignIn);
  EXPECT_EQ(List(*fresh).error().code, Code::kSignIn);
  const auto ended = keeper.Access(*fresh, nullptr);
  ASSERT_FALSE(ended.ok());
  EXPECT_THAT(ended.error().what, HasSubstr("sign-in needed"));
}

TEST_F(OAuthTest, WhatCannotBeStoredIsNotUsed) {
  Begin();
  stored_ = oauth::Pack(Granted());
  oauth::TokenKeeper keeper(Store());
  const std::string token = *keeper.Access("", nullptr);
  disk_full_ = true;
  EXPECT_EQ(keeper.Access(token, nullptr).error().code, Code::kIo);
}

TEST_F(OAuthTest, WhoIsNoSignInServerIsToldApart) {
  Begin();
  EXPECT_EQ(oauth::Discover(peer_.endpoint + "/office", kClient, nullptr).error().code,
            Code::kInvalid);
  EXPECT_EQ(oauth::Discover("http://drive.example.test", kClient, nullptr).error().code,
            Code::kRefused);
  EXPECT_EQ(oauth::Discover("http://127.0.0.1:1", kClient, nullptr).error().code,
            Code::kUnavailable);
  oauth::Server away = server_;
  away.token = "http://127.0.0.1:1/token";
  EXPECT_EQ(oauth::Refresh(away, kClient, Granted(), nullptr).error().code, Code::kUnavailable);
  away.revocation.clear();
  EXPECT_EQ(oauth::Revoke(away, kClient, Granted(), nullptr).error().code, Code::kUnsupported);
  for (const char* bad : {"", "{}", "[1]", "{\"access\": 3}", "nonsense"})
    EXPECT_EQ(oauth::Unpack(bad).error().code, Code::kSignIn) << bad;
}

}  // namespace
}  // namespace pargeter::test
