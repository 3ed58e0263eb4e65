// What only servers with real folders have to do.
#include "conformance.h"

namespace pargeter::test {
namespace {

class DavConformanceTest : public ConformanceTest {
 protected:
  webdav::DavOptions Options() { return DavOptionsFor(peer(), prefix_); }
};

TEST_P(DavConformanceTest, NamesThatNoFolderCanHoldAreRefused) {
  for (const std::string path : {"d/./x", "d/../y", "d//z", "/lead", "d/w/", ".."}) {
    EXPECT_EQ(Put(path, "x").error().code, Code::kInvalid) << path;
    const auto got = Get(path);
    EXPECT_FALSE(got.ok()) << path;
  }
  EXPECT_TRUE(ListAll("").empty());
}

TEST_P(DavConformanceTest, AFileIsNeverPutOverAFolder) {
  ASSERT_OK(Put("d/inner", "inner"));
  ASSERT_OK(Put("f", "f"));
  EXPECT_FALSE(Put("d", "file", Precondition::Anything()).ok());
  EXPECT_FALSE(Put("d", "file", Precondition::Absent()).ok());
  EXPECT_FALSE(Put("d", "file", Precondition::Is("1-2")).ok());
  const auto f = provider_->Look("f", nullptr);
  EXPECT_FALSE(
      provider_->Copy("f", f->version, 1, "d", nullptr, Precondition::Anything(), nullptr).ok());
  EXPECT_FALSE(provider_->Remove("d", Precondition::Anything(), nullptr).ok());
  EXPECT_EQ(*Get("d/inner"), "inner");
}

TEST_P(DavConformanceTest, AFreshVersionIsAsGoodAsAnOldOne) {
  // servers call tags weak for a second after a write; nothing may depend on waiting it out
  std::string version = Put("w", "0", Precondition::Absent())->version;
  for (int i = 2; i < 6; ++i) {
    const auto put =
        Put("w", std::string(static_cast<std::size_t>(i), 'w'), Precondition::Is(version));
    ASSERT_OK(put);
    EXPECT_NE(put->version, version);
    version = put->version;
    EXPECT_EQ(provider_->Look("w", nullptr)->version, version);
    EXPECT_EQ(Get("w", version)->size(), static_cast<std::size_t>(i));
  }
  ASSERT_OK(provider_->Remove("w", Precondition::Is(version), nullptr));
}

TEST_P(DavConformanceTest, ListingsCarryAttributes) {
  if (!provider_->Can().keeps_attributes) GTEST_SKIP() << "this server keeps no attributes";
  Attributes a;
  a.mode = 0640;
  a.symlink = "elsewhere";
  ASSERT_OK(Put("link", SymlinkBody("elsewhere"), Precondition::Absent(), a));
  const auto listed = ListAll("");
  ASSERT_EQ(listed.count("link"), 1u);
  EXPECT_TRUE(listed.at("link").attributes_known);
  EXPECT_EQ(listed.at("link").attributes.symlink, a.symlink);
  EXPECT_EQ(listed.at("link").attributes.mode, a.mode);
}

TEST_P(DavConformanceTest, NothingIsLeftOfWhatWasRefused) {
  ASSERT_OK(Put("d/p", "one"));
  EXPECT_EQ(Put("d/p", "two", Precondition::Absent()).error().code, Code::kChanged);
  EXPECT_EQ(Put("d/p", "two", Precondition::Is("1-2")).error().code, Code::kChanged);
  EXPECT_EQ(ListAll("d/").size(), 1u);
}

TEST_P(DavConformanceTest, AWrongPasswordIsToldApartFromAWrongFolder) {
  webdav::DavOptions options = Options();
  options.wire.login.password = "wrong";
  EXPECT_EQ(webdav::DavProvider(options).List("", "", nullptr).error().code, Code::kSignIn);
  options = Options();
  options.prefix += "no such folder/";
  webdav::DavProvider nowhere(options);
  EXPECT_EQ(nowhere.List("", "", nullptr).error().code, Code::kNotFound);
  TextSource source("x");
  EXPECT_FALSE(nowhere.Write("f", &source, {}, Precondition::Absent(), nullptr).ok())
      << "a drive's folder that is gone is not made anew";
}

TEST_P(DavConformanceTest, WhatProbingFoundIsKept) {
  webdav::DavProvider other(Options());
  EXPECT_EQ(other.Can().create, Guard::kUnknown);
  other.AdoptProbeResult(provider_->ProbeResult());
  EXPECT_EQ(other.ProbeResult(), provider_->ProbeResult());
  EXPECT_EQ(other.Can().create, provider_->Can().create);
}

GTEST_ALLOW_UNINSTANTIATED_PARAMETERIZED_TEST(DavConformanceTest);
INSTANTIATE_TEST_SUITE_P(Stores, DavConformanceTest, testing::ValuesIn(PeersOf("webdav")),
                         [](const auto& peer) { return Peers()[peer.param].name; });

}  // namespace
}  // namespace pargeter::test
