// What only stores of flat keys have to do.
#include <algorithm>

#include "conformance.h"

namespace pargeter::test {
namespace {

class S3ConformanceTest : public ConformanceTest {};

TEST_P(S3ConformanceTest, DotsAndDoubledSlashesAreParts) {
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

TEST_P(S3ConformanceTest, TheLongestKeyWorks) {
  const std::string room(1024 - prefix_.size() - 1 - 200, 'e');
  const std::string path = std::string(200, 'a') + "/" + room;
  ASSERT_OK(Put(path, "long"));
  EXPECT_EQ(*Get(path), "long");
  EXPECT_FALSE(Put(path + "xx", "too long").ok());
}

TEST_P(S3ConformanceTest, ANameMayBeKeyAndPrefixAtOnce) {
  ASSERT_OK(Put("both", "file"));
  ASSERT_OK(Put("both/inner", "inner"));
  const auto listed = ListAll("");
  EXPECT_EQ(listed.count("both"), 1u);
  EXPECT_EQ(listed.count("both/"), 1u);
}

TEST_P(S3ConformanceTest, FoldersLiveByMarkersAndByContent) {
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

TEST_P(S3ConformanceTest, ListingsComeInPages) {
  for (int i = 0; i < 1020; ++i) ASSERT_OK(Put("many/n" + std::to_string(i), ""));
  const auto page = provider_->List("many/", "", nullptr);
  ASSERT_OK(page);
  EXPECT_FALSE(page->next.empty());
}

TEST_P(S3ConformanceTest, AnUploadInPartsIsResumedAndAborted) {
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
  EXPECT_TRUE(*provider_->HoldsContent("big", *done, &source, nullptr));

  auto second = provider_->BeginParts("big2", {}, nullptr);
  ASSERT_OK(second);
  ASSERT_OK(provider_->AbortParts(*second, nullptr));
  EXPECT_EQ(provider_->ListParts(*second, nullptr).error().code, Code::kNotFound);
}

TEST_P(S3ConformanceTest, ALargeCopyGoesByParts) {
  s3::S3Options options = OptionsFor(peer(), prefix_);
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

// What another program said of its object is not ours to drop.
TEST_P(S3ConformanceTest, NewAttributesLeaveWhatOthersSaidOfIt) {
  s3::S3Options options = OptionsFor(peer(), prefix_);
  s3::Wire wire(options.wire);
  const s3::Fields said = {{"content-type", "image/jpeg"},
                           {"cache-control", "max-age=60"},
                           {"content-disposition", "attachment; filename=\"fern.jpg\""},
                           {"x-amz-meta-collector", "J. Marrow"}};
  s3::Call put;
  put.method = "PUT";
  put.bucket = options.bucket;
  put.key = options.prefix + "scan.jpg";
  put.headers = said;
  put.body = Bytes(6u << 20);
  ASSERT_OK(wire.Send(put));
  const auto expect_said = [&](const std::string& path, std::optional<std::uint32_t> mode) {
    s3::Call look = put;
    look.method = "HEAD";
    look.key = options.prefix + path;
    look.headers.clear();
    look.body.clear();
    const auto head = wire.Send(look);
    ASSERT_OK(head);
    for (const auto& [name, value] : said) EXPECT_EQ(head->head.Get(name), value) << path << name;
    EXPECT_EQ(provider_->Look(path, nullptr)->attributes.mode, mode);
  };
  const auto original = provider_->Look("scan.jpg", nullptr);
  ASSERT_OK(original);
  options.single_copy_limit = 5u << 20;
  s3::S3Provider in_parts(options);
  ASSERT_OK(in_parts.Copy("scan.jpg", original->version, original->size, "moved.jpg", nullptr,
                          Precondition::Absent(), nullptr));
  expect_said("moved.jpg", std::nullopt);
  Attributes a;
  for (const std::uint32_t mode : {0600u, 0640u}) {  // the second replaces ours too
    a.mode = mode;
    const auto there = provider_->Look("scan.jpg", nullptr);
    ASSERT_OK(there);
    ASSERT_OK(provider_->Copy("scan.jpg", there->version, there->size, "scan.jpg", &a,
                              Precondition::Anything(), nullptr));
    expect_said("scan.jpg", mode);
  }
}

TEST_P(S3ConformanceTest, WrongKeysAreToldApartFromWrongBuckets) {
  s3::S3Options options = OptionsFor(peer(), "");
  options.wire.credentials.secret = "wrong";
  EXPECT_EQ(s3::S3Provider(options).List("", "", nullptr).error().code, Code::kSignIn);
  options = OptionsFor(peer(), "");
  options.bucket = "no-such-bucket-" + RandomName(4);
  EXPECT_EQ(s3::S3Provider(options).List("", "", nullptr).error().code, Code::kNotFound);
}

TEST_P(S3ConformanceTest, HostStyleAddressesWork) {
  s3::S3Options options = OptionsFor(peer(), prefix_);
  const auto colon = peer().endpoint.rfind(':');
  options.wire.endpoint = *ParseEndpoint("http://localhost" + peer().endpoint.substr(colon));
  options.wire.style = s3::AddressStyle::kHost;
  s3::S3Provider host_style(options);
  TextSource source("by host");
  ASSERT_OK(host_style.Write("h/x y", &source, {}, Precondition::Anything(), nullptr));
  EXPECT_EQ(*Get("h/x y"), "by host");
}

INSTANTIATE_TEST_SUITE_P(Stores, S3ConformanceTest, testing::ValuesIn(PeersOf("s3")),
                         [](const auto& peer) { return Peers()[peer.param].name; });

}  // namespace
}  // namespace pargeter::test
