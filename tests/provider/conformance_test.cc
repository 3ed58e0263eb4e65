// The contract of Provider, run against every store at hand: the stand-in always, real servers
// where PARGETER_PEERS names them.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>

#include "base/digest.h"
#include "base/random.h"
#include "base/text.h"
#include "support/peers.h"
#include "support/text_body.h"

namespace pargeter::test {
namespace {

const std::vector<Peer>& Peers() {
  static const std::vector<Peer> peers = AllPeers();
  return peers;
}

class ConformanceTest : public testing::TestWithParam<std::size_t> {
 protected:
  ConformanceTest() : prefix_("conformance-" + RandomName(4) + "/") {
    s3::S3Options options = OptionsFor(Peers()[GetParam()], prefix_);
    options.part_size = 5u << 20;
    options.multipart_above = 5u << 20;
    provider_ = std::make_unique<s3::S3Provider>(options);
    EXPECT_TRUE(provider_->Probe(nullptr).ok());
  }
  ~ConformanceTest() override {
    std::vector<Provider::Removal> all;
    for (std::string next;;) {
      const auto page = provider_->ListDeep("", next, nullptr);
      if (!page.ok()) break;
      for (const Entry& e : page->entries) all.push_back({e.name, ""});
      next = page->next;
      if (next.empty()) break;
    }
    const auto failed = provider_->RemoveMany(all, nullptr);
    EXPECT_TRUE(failed.ok() && failed->empty());
  }

  Result<Entry> Put(const std::string& path, const std::string& text,
                    const Precondition& only_if = Precondition::Anything(),
                    const Attributes& a = {}) {
    TextSource source(text);
    return provider_->Write(path, &source, a, only_if, nullptr);
  }
  Result<std::string> Get(const std::string& path, const std::string& version = "",
                          std::uint64_t offset = 0, std::uint64_t size = 1u << 30) {
    TextSink sink;
    const Status s = provider_->Read(path, version, offset, size, &sink, nullptr);
    if (!s.ok()) return s.error();
    return sink.text;
  }
  std::map<std::string, Entry> ListAll(const std::string& folder) {
    std::map<std::string, Entry> all;
    for (std::string next;;) {
      const auto page = provider_->List(folder, next, nullptr);
      EXPECT_TRUE(page.ok()) << page.error().what;
      if (!page.ok()) return all;
      for (const Entry& e : page->entries) {
        all[(e.marker ? "(marker)" : "") + e.name + (e.kind == Kind::kFolder ? "/" : "")] = e;
      }
      next = page->next;
      if (next.empty()) return all;
    }
  }
  static std::string Bytes(std::size_t n) {
    std::string s(n, '\0');
    for (std::size_t i = 0; i < n; ++i) s[i] = static_cast<char>((i * 2654435761u) >> 13);
    return s;
  }

  const std::string prefix_;
  std::unique_ptr<s3::S3Provider> provider_;
};

#define ASSERT_OK(expr)                        \
  do {                                         \
    const auto& ok_ = (expr);                  \
    ASSERT_TRUE(ok_.ok()) << ok_.error().what; \
  } while (false)

TEST_P(ConformanceTest, WhatIsWrittenIsReadBackWhole) {
  for (const std::size_t size : {0u, 1u, 4096u, 300000u}) {
    const auto put = Put("a.bin", Bytes(size));
    ASSERT_OK(put);
    EXPECT_FALSE(put->version.empty());
    const auto got = Get("a.bin", put->version);
    ASSERT_TRUE(got.ok() || size == 0) << got.error().what;
    if (size > 0) {
      EXPECT_EQ(*got, Bytes(size));
    }
    const auto look = provider_->Look("a.bin", nullptr);
    ASSERT_OK(look);
    EXPECT_EQ(look->size, size);
    EXPECT_EQ(look->version, put->version);
    EXPECT_GT(look->modified, 0);
  }
}

TEST_P(ConformanceTest, ARangeIsExactlyThatRange) {
  const std::string all = Bytes(100000);
  const auto put = Put("r", all);
  ASSERT_OK(put);
  EXPECT_EQ(*Get("r", put->version, 0, 10), all.substr(0, 10));
  EXPECT_EQ(*Get("r", put->version, 50000, 4096), all.substr(50000, 4096));
  EXPECT_EQ(*Get("r", put->version, 99990, 100), all.substr(99990));
  EXPECT_EQ(Get("r", put->version, 200000, 10).error().code, Code::kChanged);
}

TEST_P(ConformanceTest, ReadingAnotherVersionIsRefused) {
  const auto first = Put("v", "first");
  ASSERT_OK(first);
  ASSERT_OK(Put("v", "second"));
  EXPECT_EQ(Get("v", first->version).error().code, Code::kChanged);
  EXPECT_EQ(Get("nothing-here").error().code, Code::kNotFound);
}

TEST_P(ConformanceTest, APreconditionKeepsWhatOthersWrote) {
  const auto first = Put("p", "one", Precondition::Absent());
  ASSERT_OK(first);
  EXPECT_EQ(Put("p", "two", Precondition::Absent()).error().code, Code::kChanged);
  const auto second = Put("p", "two", Precondition::Is(first->version));
  ASSERT_OK(second);
  EXPECT_EQ(Put("p", "three", Precondition::Is(first->version)).error().code, Code::kChanged);
  EXPECT_EQ(*Get("p"), "two");
  EXPECT_EQ(provider_->Remove("p", Precondition::Is(first->version), nullptr).error().code,
            Code::kChanged);
  ASSERT_OK(provider_->Remove("p", Precondition::Is(second->version), nullptr));
  ASSERT_OK(provider_->Remove("p", Precondition::StillIs(second->version), nullptr));
  ASSERT_OK(provider_->Remove("p", Precondition::Anything(), nullptr));
  EXPECT_EQ(Put("p", "x", Precondition::Is("0123456789abcdef0123456789abcdef")).error().code,
            Code::kChanged);
}

TEST_P(ConformanceTest, AttributesTravelWithTheFile) {
  Attributes a;
  a.mode = 0754;
  a.mtime = 1234567890123456789;
  a.uid = 1000;
  a.symlink = "../wo anders/Ä%41";
  ASSERT_OK(Put("meta", "", Precondition::Anything(), a));
  const auto look = provider_->Look("meta", nullptr);
  ASSERT_OK(look);
  EXPECT_EQ(look->attributes.mode, a.mode);
  EXPECT_EQ(look->attributes.mtime, a.mtime);
  EXPECT_EQ(look->attributes.uid, a.uid);
  EXPECT_EQ(look->attributes.symlink, a.symlink);
  EXPECT_EQ(look->kind, Kind::kSymlink);
}

TEST_P(ConformanceTest, StrangeKeysComeBackAsTheyAre) {
  std::vector<std::string> names = {
      "with space", "Ünïcödé-日本", "100%",    "a+b",         "q?x=1&y",
      "semi;colon", "hash#",        "tick'\"", "back\\slash", "star*",
      "{x2E}",      "~tilde",       "a=b,c",   "new\nline",   std::string(200, 'k')};
  for (const std::string& name : names) ASSERT_OK(Put("odd/" + name, name));
  const auto listed = ListAll("odd/");
  for (const std::string& name : names) {
    EXPECT_EQ(listed.count(name), 1u) << name;
    const auto got = Get("odd/" + name);
    ASSERT_OK(got);
    EXPECT_EQ(*got, name);
  }
  EXPECT_EQ(listed.size(), names.size());
  const auto failed = provider_->RemoveMany(
      {{"odd/with space", ""}, {"odd/tick'\"", ""}, {"odd/new\nline", ""}}, nullptr);
  ASSERT_OK(failed);
  EXPECT_TRUE(failed->empty());
  EXPECT_EQ(ListAll("odd/").size(), names.size() - 3);
}

TEST_P(ConformanceTest, DotsAndDoubledSlashesAreParts) {
  const std::vector<std::string> paths = {"d/./x", "d/../y", "d//z", "d/w/", "/lead"};
  for (const std::string& path : paths) {
    ASSERT_OK(Put(path, path));
    const auto got = Get(path);
    ASSERT_OK(got);
    EXPECT_EQ(*got, path);
  }
  const auto listed = ListAll("d/");
  EXPECT_EQ(listed.count("./"), 1u);
  EXPECT_EQ(listed.count("../"), 1u);
  EXPECT_EQ(listed.count("/"), 1u);
  EXPECT_EQ(listed.count("w/"), 1u);
  EXPECT_EQ(ListAll("/").count("lead"), 1u);
  EXPECT_EQ(ListAll("d/w/").count(""), 1u) << "a folder marker with content is a file of no name";
}

TEST_P(ConformanceTest, TheLongestKeyWorks) {
  const std::string room(1024 - prefix_.size() - 1 - 200, 'e');
  const std::string path = std::string(200, 'a') + "/" + room;
  ASSERT_OK(Put(path, "long"));
  EXPECT_EQ(*Get(path), "long");
  EXPECT_FALSE(Put(path + "xx", "too long").ok());
}

TEST_P(ConformanceTest, ANameMayBeKeyAndPrefixAtOnce) {
  ASSERT_OK(Put("both", "file"));
  ASSERT_OK(Put("both/inner", "inner"));
  const auto listed = ListAll("");
  EXPECT_EQ(listed.count("both"), 1u);
  EXPECT_EQ(listed.count("both/"), 1u);
}

TEST_P(ConformanceTest, FoldersLiveByMarkersAndByContent) {
  ASSERT_OK(provider_->MakeFolder("empty", {}, nullptr));
  ASSERT_OK(Put("full/x", "x"));
  auto listed = ListAll("");
  EXPECT_EQ(listed.count("empty/"), 1u);
  EXPECT_EQ(listed.count("full/"), 1u);
  EXPECT_EQ(ListAll("empty/").count("(marker)/"), 1u);
  EXPECT_EQ(ListAll("full/").count("(marker)/"), 0u);
  EXPECT_TRUE(provider_->Look("empty", nullptr)->marker);
  EXPECT_EQ(provider_->Look("full", nullptr)->kind, Kind::kFolder);
  ASSERT_OK(provider_->RemoveFolder("empty", nullptr));
  EXPECT_EQ(ListAll("").count("empty/"), 0u);
  EXPECT_EQ(provider_->Look("empty", nullptr).error().code, Code::kNotFound);
}

TEST_P(ConformanceTest, ListingsPageThroughEverything) {
  std::vector<std::string> paths;
  for (int i = 0; i < 1020; ++i) paths.push_back("many/n" + std::to_string(i));
  for (const std::string& path : paths) ASSERT_OK(Put(path, ""));
  const auto page = provider_->List("many/", "", nullptr);
  ASSERT_OK(page);
  EXPECT_FALSE(page->next.empty());
  EXPECT_EQ(ListAll("many/").size(), paths.size());
  std::vector<Provider::Removal> removals;
  for (const std::string& path : paths) removals.push_back({path, ""});
  const auto failed = provider_->RemoveMany(removals, nullptr);
  ASSERT_OK(failed);
  EXPECT_TRUE(failed->empty());
  EXPECT_TRUE(ListAll("many/").empty());
}

TEST_P(ConformanceTest, AnUploadInPartsIsResumedAndAborted) {
  const std::string all = Bytes((12u << 20) + 17);
  const std::size_t part = 5u << 20;
  Attributes a;
  a.mode = 0640;
  auto upload = provider_->BeginParts("big", a, nullptr);
  ASSERT_OK(upload);
  std::vector<UploadedPart> parts(3);
  for (const int number : {2, 1}) {
    TextSource source(all.substr((number - 1) * part, part));
    const auto done = provider_->WritePart(*upload, number, &source, nullptr);
    ASSERT_OK(done);
    parts[number - 1] = *done;
  }
  const auto pending = provider_->ListUploads(nullptr);
  ASSERT_OK(pending);
  EXPECT_EQ(std::count_if(pending->begin(), pending->end(),
                          [&](const auto& u) { return u.id == upload->id; }),
            1);
  const auto there = provider_->ListParts(*upload, nullptr);
  ASSERT_OK(there);
  ASSERT_EQ(there->size(), 2u);
  EXPECT_EQ((*there)[0].tag, parts[0].tag);
  TextSource last(all.substr(2 * part));
  const auto third = provider_->WritePart(*upload, 3, &last, nullptr);
  ASSERT_OK(third);
  parts[2] = *third;
  const auto done = provider_->CompleteParts(*upload, parts, Precondition::Absent(), nullptr);
  ASSERT_OK(done);
  EXPECT_EQ(done->size, all.size());
  EXPECT_FALSE(done->version.empty());
  EXPECT_EQ(done->attributes.mode, a.mode);
  EXPECT_EQ(*Get("big", done->version), all);
  TextSource source(all);
  EXPECT_TRUE(provider_->HoldsContent(*done, &source));

  auto second = provider_->BeginParts("big2", {}, nullptr);
  ASSERT_OK(second);
  ASSERT_OK(provider_->AbortParts(*second, nullptr));
  EXPECT_EQ(provider_->ListParts(*second, nullptr).error().code, Code::kNotFound);
}

TEST_P(ConformanceTest, CopiesAreMadeByTheStore) {
  Attributes a;
  a.mode = 0600;
  const auto original = Put("c1", "content", Precondition::Anything(), a);
  ASSERT_OK(original);
  const auto copy =
      provider_->Copy("c1", original->version, 7, "c2", nullptr, Precondition::Absent(), nullptr);
  ASSERT_OK(copy);
  EXPECT_EQ(*Get("c2", copy->version), "content");
  EXPECT_EQ(provider_->Look("c2", nullptr)->attributes.mode, a.mode);
  Attributes b;
  b.mode = 0644;
  ASSERT_OK(provider_->Copy("c1", original->version, 7, "c3", &b, Precondition::Absent(), nullptr));
  EXPECT_EQ(provider_->Look("c3", nullptr)->attributes.mode, b.mode);
  EXPECT_EQ(
      provider_->Copy("c1", original->version, 7, "c2", nullptr, Precondition::Absent(), nullptr)
          .error()
          .code,
      Code::kChanged);
  const auto odd = Put("c %41+&Ü", "odd");
  ASSERT_OK(odd);
  ASSERT_OK(
      provider_->Copy("c %41+&Ü", odd->version, 3, "c5", nullptr, Precondition::Absent(), nullptr));
  EXPECT_EQ(*Get("c5"), "odd");
  ASSERT_OK(Put("c1", "changed"));
  EXPECT_EQ(
      provider_->Copy("c1", original->version, 7, "c4", nullptr, Precondition::Absent(), nullptr)
          .error()
          .code,
      Code::kChanged);
}

TEST_P(ConformanceTest, ALargeCopyGoesByParts) {
  s3::S3Options options = OptionsFor(Peers()[GetParam()], prefix_);
  options.single_copy_limit = 6u << 20;
  s3::S3Provider small_limit(options);
  const std::string all = Bytes(14u << 20);
  const auto original = Put("large", all);
  ASSERT_OK(original);
  const auto copy = small_limit.Copy("large", original->version, all.size(), "large2", nullptr,
                                     Precondition::Absent(), nullptr);
  ASSERT_OK(copy);
  EXPECT_EQ(*Get("large2", copy->version), all);
}

TEST_P(ConformanceTest, WrongKeysAreToldApartFromWrongBuckets) {
  s3::S3Options options = OptionsFor(Peers()[GetParam()], "");
  options.wire.credentials.secret = "wrong";
  EXPECT_EQ(s3::S3Provider(options).List("", "", nullptr).error().code, Code::kSignIn);
  options = OptionsFor(Peers()[GetParam()], "");
  options.bucket = "no-such-bucket-" + RandomName(4);
  EXPECT_EQ(s3::S3Provider(options).List("", "", nullptr).error().code, Code::kNotFound);
}

TEST_P(ConformanceTest, HostStyleAddressesWork) {
  s3::S3Options options = OptionsFor(Peers()[GetParam()], prefix_);
  const auto colon = Peers()[GetParam()].endpoint.rfind(':');
  options.wire.endpoint =
      *ParseEndpoint("http://localhost" + Peers()[GetParam()].endpoint.substr(colon));
  options.wire.style = s3::AddressStyle::kHost;
  s3::S3Provider host_style(options);
  TextSource source("by host");
  ASSERT_OK(host_style.Write("h/x y", &source, {}, Precondition::Anything(), nullptr));
  EXPECT_EQ(*Get("h/x y"), "by host");
}

INSTANTIATE_TEST_SUITE_P(Stores, ConformanceTest, testing::Range(std::size_t{0}, Peers().size()),
                         [](const auto& peer) { return Peers()[peer.param].name; });

}  // namespace
}  // namespace pargeter::test
