// What is particular to WebDAV: its documents, and how faults and strange servers are met.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "provider/paths.h"
#include "provider/webdav/dav_provider.h"
#include "provider/webdav/dav_xml.h"
#include "support/peers.h"
#include "support/text_body.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

TEST(DavXmlTest, AnswersOfManySpellings) {
  const auto parsed = webdav::ParseMultistatus(
      "<?xml version='1.0'?><multistatus xmlns='DAV:' xmlns:q='urn:pargeter'>"
      "<response><href>http://here:80/dav/a%20b%c3%a4/</href><propstat><prop><resourcetype>"
      "<collection/></resourcetype></prop><status>HTTP/1.1 200 OK</status></propstat></response>"
      "<response><href>/dav/a b%C3%A4/f</href><propstat><prop><getetag>W/\"x\"</getetag>"
      "<getcontentlength> 17 </getcontentlength><resourcetype/>"
      "<getlastmodified>Sun, 01 Mar 2026 09:30:00 GMT</getlastmodified><q:pargeter-attributes>m=640"
      "</q:pargeter-attributes><lockdiscovery><activelock><lockroot><href>/dav/elsewhere</href>"
      "</lockroot></activelock></lockdiscovery><current-user-privilege-set><privilege><read/>"
      "</privilege></current-user-privilege-set></prop><status>HTTP/1.1 200 OK</status></propstat>"
      "<propstat><prop><q:pargeter-link/></prop><status>HTTP/1.1 404 Not Found</status></propstat>"
      "</response><response><href>/dav/gone</href><status>HTTP/1.1 404 Not "
      "Found</status></response>"
      "<sync-token>urn:7</sync-token></multistatus>");
  ASSERT_TRUE(parsed.ok()) << parsed.error().what;
  ASSERT_EQ(parsed->items.size(), 3u);
  EXPECT_EQ(parsed->items[0].path, "/dav/a bä");
  EXPECT_TRUE(parsed->items[0].folder);
  const webdav::Item& file = parsed->items[1];
  EXPECT_EQ(file.path, "/dav/a bä/f");
  EXPECT_EQ(file.size, 17u);
  EXPECT_EQ(file.etag, "W/\"x\"");
  EXPECT_EQ(file.attributes, "m=640");
  EXPECT_TRUE(file.attributes_answered);
  EXPECT_EQ(file.modified, ParseHttpDate("Sun, 01 Mar 2026 09:30:00 GMT"));
  EXPECT_EQ(file.may_write, false);
  EXPECT_EQ(parsed->items[2].status, 404);
  EXPECT_EQ(parsed->sync_token, "urn:7");
  EXPECT_FALSE(webdav::ParseMultistatus("<html><body>sign in</body></html>").ok());
}

// No file system can hold such a name, and decoded it would be another thing's path.
TEST(DavXmlTest, ASlashWithinANameIsNoPath) {
  const auto parsed = webdav::ParseMultistatus(
      "<multistatus xmlns='DAV:'><response><href>/dav/a%2F</href></response>"
      "<response><href>/dav/b%2fc</href></response><response><href>http://here/%2F</href></"
      "response>"
      "<response><href>/dav/d%252F/</href></response></multistatus>");
  ASSERT_TRUE(parsed.ok()) << parsed.error().what;
  ASSERT_EQ(parsed->items.size(), 1u);
  EXPECT_EQ(parsed->items[0].path, "/dav/d%2F");
}

TEST(DavPathTest, OnlyWhatAServerCanKeepIsSaid) {
  for (const char* good : {"a", "a/b", "a/b/", "..a", "a b%41"}) EXPECT_TRUE(Sayable(good));
  for (const char* bad : {".", "..", "a//b", "/a", "a/../b", "a/./", "//"})
    EXPECT_FALSE(Sayable(bad)) << bad;
  EXPECT_FALSE(Sayable(std::string("a\0b", 3)));
}

class DavFaultTest : public testing::TestWithParam<const char*> {
 protected:
  DavFaultTest() : peer_(StartDriveStandin("drive", Switches())) {
    store_ = Open();
    EXPECT_TRUE(store_->Probe(nullptr).ok());
  }
  static std::vector<std::string> Switches() {
    const std::string more = GetParam();
    return more.empty() ? std::vector<std::string>() : std::vector<std::string>{more};
  }
  std::unique_ptr<webdav::DavProvider> Open(const std::string& prefix = "") {
    webdav::DavOptions options = DavOptionsFor(peer_, prefix);
    options.wire.retry.first_delay = Duration(5);
    options.wire.retry.max_delay = Duration(20);
    return std::make_unique<webdav::DavProvider>(options);
  }
  Result<Entry> Put(const std::string& path, const std::string& text,
                    const Precondition& only_if = Precondition::Anything()) {
    TextSource source(text);
    Attributes a;
    a.origin = "isle.7";
    return store_->Write(path, &source, a, only_if, nullptr);
  }
  Result<std::string> Get(const std::string& path, const std::string& version = "") {
    TextSink sink;
    const Status read = store_->Read(path, version, 0, 1 << 30, &sink, nullptr);
    return read.ok() ? Result<std::string>(sink.text) : read.error();
  }
  std::vector<std::string> Names() {
    std::vector<std::string> names;
    const auto page = store_->List("", "", nullptr);
    EXPECT_TRUE(page.ok());
    if (!page.ok()) return names;
    for (const Entry& e : page->entries) names.push_back(e.name);
    return names;
  }
  Peer peer_;
  std::unique_ptr<webdav::DavProvider> store_;
};

TEST_P(DavFaultTest, PassingFaultsAreTriedAgain) {
  for (const char* fault : {"status=503,nth=1,retry-after=0", "status=500,nth=1", "reset,nth=1",
                            "status=429,nth=1,retry-after=0", "cut,method=PROPFIND,nth=1"}) {
    SetFault(peer_, fault);
    const auto put = Put("f", fault);
    ASSERT_TRUE(put.ok()) << fault << ": " << put.error().what;
    EXPECT_EQ(*Get("f", put->version), fault);
    SetFault(peer_, "");
  }
  SetFault(peer_, "cut,method=GET,nth=1");
  EXPECT_EQ(Get("f")->substr(0, 3), "cut");
}

TEST_P(DavFaultTest, WhatCannotBeDoneSaysWhyAndChangesNothing) {
  ASSERT_TRUE(Put("f", "as it was").ok());
  const std::vector<std::pair<int, Code>> answers = {
      {401, Code::kSignIn},    {403, Code::kPermission}, {423, Code::kBusy},
      {507, Code::kOverQuota}, {412, Code::kChanged},    {413, Code::kTooLarge},
      {301, Code::kInvalid}};
  for (const auto& [status, code] : answers) {
    SetFault(peer_, "method=PUT,status=" + std::to_string(status));
    const auto refused = Put("f", "other words");
    ASSERT_FALSE(refused.ok()) << status;
    EXPECT_EQ(refused.error().code, code) << status << ": " << refused.error().what;
    EXPECT_THAT(refused.error().what, HasSubstr("cannot write f"));
    SetFault(peer_, "");
  }
  EXPECT_EQ(*Get("f"), "as it was");
  EXPECT_EQ(Names(), std::vector<std::string>{"f"});
}

TEST_P(DavFaultTest, AVersionThatIsGoneIsNeverMixedWithAnother) {
  const auto first = Put("f", std::string(100000, '1'));
  ASSERT_TRUE(first.ok());
  ASSERT_TRUE(Put("f", std::string(100001, '2')).ok());
  EXPECT_EQ(Get("f", first->version).error().code, Code::kChanged);
  SetFault(peer_, "cut,method=GET");
  EXPECT_EQ(Get("f").error().code, Code::kDamaged);
}

TEST_P(DavFaultTest, AFolderThatIsGoneIsAnErrorNotAnEmptyOne) {
  ASSERT_TRUE(store_->MakeFolder("library", {}, nullptr).ok());
  auto inside = Open("library/");
  ASSERT_TRUE(inside->List("", "", nullptr).ok());
  ASSERT_TRUE(store_->RemoveFolder("library", nullptr).ok());
  EXPECT_EQ(inside->List("", "", nullptr).error().code, Code::kNotFound);
}

TEST_P(DavFaultTest, APageInsteadOfAnAnswerIsRecognised) {
  // an ordinary web server: it has pages, and knows no folders
  Peer page = StartStandin();
  webdav::DavOptions options = DavOptionsFor(peer_, "");
  options.wire.base = *ParseEndpoint(page.endpoint);
  const auto listed = webdav::DavProvider(options).List("", "", nullptr);
  ASSERT_FALSE(listed.ok());
  EXPECT_FALSE(listed.error().remedy.empty()) << listed.error().what;
}

INSTANTIATE_TEST_SUITE_P(Servers, DavFaultTest, testing::Values("", "--silent-put", "--tagless"),
                         [](const auto& with) {
                           const std::string name = with.param;
                           return name.empty()          ? "plain"
                                  : name == "--tagless" ? "tagless"
                                                        : "silent";
                         });

TEST(DavLockTest, WhereNoConditionIsHeededALockKeepsOthersOut) {
  const Peer peer = StartDriveStandin("drive", {"--tagless"});
  webdav::DavProvider store(DavOptionsFor(peer, ""));
  ASSERT_TRUE(store.Probe(nullptr).ok());
  TextSource one("one"), three("three");
  const auto first = store.Write("f", &one, {}, Precondition::Absent(), nullptr);
  ASSERT_TRUE(first.ok());
  ReadLog(peer);
  ASSERT_TRUE(store.Write("f", &three, {}, Precondition::Is(first->version), nullptr).ok());
  std::string order;
  for (const Logged& line : ReadLog(peer))
    if (line.method == "LOCK" || line.method == "MOVE" || line.method == "UNLOCK")
      order += line.method + " ";
  EXPECT_EQ(order, "LOCK MOVE UNLOCK ");
  // it is given back also when the condition does not hold, and another's is respected
  EXPECT_EQ(store.Write("f", &one, {}, Precondition::Is(first->version), nullptr).error().code,
            Code::kChanged);
  SetFault(peer, "method=LOCK,status=423");
  const auto now = store.Look("f", nullptr);
  EXPECT_EQ(store.Write("f", &one, {}, Precondition::Is(now->version), nullptr).error().code,
            Code::kBusy);
  SetFault(peer, "");
  EXPECT_TRUE(store.Write("f", &one, {}, Precondition::Is(now->version), nullptr).ok());
}

TEST(DavQuotaTest, AFullAccountSaysSoAndKeepsWhatIsThere) {
  const Peer peer = StartDriveStandin("drive", {"--quota", "100KiB"});
  webdav::DavProvider store(DavOptionsFor(peer, ""));
  ASSERT_TRUE(store.Probe(nullptr).ok());
  TextSource fits(std::string(60000, 'f')), does_not(std::string(60000, 'n'));
  ASSERT_TRUE(store.Write("a", &fits, {}, Precondition::Absent(), nullptr).ok());
  const auto full = store.Write("b", &does_not, {}, Precondition::Absent(), nullptr);
  ASSERT_FALSE(full.ok());
  EXPECT_EQ(full.error().code, Code::kOverQuota);
  const auto space = store.SpaceOfAccount(nullptr);
  ASSERT_TRUE(space.ok() && space->has_value());
  EXPECT_EQ((*space)->used, 60000u);
  EXPECT_EQ((*space)->available, 100u * 1024 - 60000);
  EXPECT_EQ(store.List("", "", nullptr)->entries.size(), 1u);
}

}  // namespace
}  // namespace pargeter::test
