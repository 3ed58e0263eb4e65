// Most stores name a file's version by its digest, and what comes damaged is told by that: also by
// who knows nothing of the store yet, and also where some versions are no digests.
#include <gtest/gtest.h>

#include <filesystem>

#include "provider/s3/s3_provider.h"
#include "support/peers.h"
#include "support/process.h"
#include "support/text_body.h"

namespace pargeter::test {
namespace {

class S3DigestTest : public testing::Test {
 protected:
  void Start(std::vector<std::string> more = {}) {
    more.insert(more.end(), {"--data", data_ / "store"});
    peer_.reset();
    peer_ = std::make_unique<Peer>(StartStandin(more));
  }
  // One that knows nothing of it.
  std::unique_ptr<s3::S3Provider> Open() {
    s3::S3Options options = OptionsFor(*peer_, "f/");
    options.wire.retry.first_delay = Duration(5);
    return std::make_unique<s3::S3Provider>(options);
  }
  std::string Put(const std::string& path, const std::string& text) {
    TextSource source(text);
    const auto put = Open()->Write(path, &source, {}, Precondition::Anything(), nullptr);
    EXPECT_TRUE(put.ok()) << put.error().what;
    return put.ok() ? put->version : "";
  }
  void PutSealed(const std::string& path, const std::string& text) {
    s3::Call call;
    call.method = "PUT";
    call.bucket = peer_->bucket;
    call.key = "f/" + path;
    call.headers = {{"x-amz-server-side-encryption", "aws:kms"}};
    call.body = text;
    ASSERT_TRUE(s3::Wire(OptionsFor(*peer_, "").wire).Send(call).ok());
  }
  void ExpectRead(s3::S3Provider* store, const std::string& path, const std::string& text) {
    const auto there = store->Look(path, nullptr);
    ASSERT_TRUE(there.ok());
    TextSink sink;
    const Status read = store->Read(path, there->version, 0, text.size(), &sink, nullptr);
    EXPECT_TRUE(read.ok()) << read.error().what;
    EXPECT_EQ(sink.text, text);
  }
  void ExpectCopied(s3::S3Provider* store, const std::string& path, const std::string& text) {
    const auto there = store->Look(path, nullptr);
    ASSERT_TRUE(there.ok());
    const auto copy = store->Copy(path, there->version, text.size(), path + " copy", nullptr,
                                  Precondition::Anything(), nullptr);
    ASSERT_TRUE(copy.ok()) << copy.error().what;
    ExpectRead(store, path + " copy", text);
  }
  void ExpectDamaged(const std::string& path, std::uint64_t size) {
    const auto store = Open();
    const auto there = store->Look(path, nullptr);
    ASSERT_TRUE(there.ok());
    TextSink sink;
    const Status read = store->Read(path, there->version, 0, size, &sink, nullptr);
    ASSERT_FALSE(read.ok());
    EXPECT_EQ(read.error().code, Code::kDamaged);
  }
  const TemporaryFolder data_;
  std::unique_ptr<Peer> peer_;
};

TEST_F(S3DigestTest, DamageOnTheWayIsToldByWhoKnowsNothing) {
  Start();
  Put("leaf", std::string(3000, 'l'));
  SetFault(*peer_, "corrupt,method=GET");
  ExpectDamaged("leaf", 3000);
  Put("other", "o");
  ExpectDamaged("leaf", 3000);
  SetFault(*peer_, "");
  ExpectRead(Open().get(), "leaf", std::string(3000, 'l'));
}

TEST_F(S3DigestTest, DamageAtTheStoreIsToldByAnotherFile) {
  Start();
  const std::string text(300000, 'r');
  Put("rotten", text);
  Put("sound", "s");
  peer_.reset();
  for (const auto& body : std::filesystem::directory_iterator(data_ / "store/bodies"))
    if (ReadAll(body.path()) == text) WriteAll(body.path(), "R" + text.substr(1));
  Start();
  ExpectDamaged("rotten", text.size());
  ExpectRead(Open().get(), "sound", "s");
}

TEST_F(S3DigestTest, AStoreWithoutDigestsIsReadAllTheSame) {
  Start({"--etags", "opaque"});
  Put("leaf", std::string(3000, 'l'));
  ExpectRead(Open().get(), "leaf", std::string(3000, 'l'));
  Put("other", "o");
  ExpectRead(Open().get(), "leaf", std::string(3000, 'l'));
  const auto store = Open();
  ExpectRead(store.get(), "other", "o");
  ExpectRead(store.get(), "leaf", std::string(3000, 'l'));
}

// Whoever sealed some of them, or had the store do that from some day on.
TEST_F(S3DigestTest, SealedFilesAreReadWrittenAndCopiedAmongOthers) {
  Start();
  Put("plain", "p");
  PutSealed("sealed", "secret");
  const auto store = Open();
  ExpectRead(store.get(), "plain", "p");
  ExpectRead(store.get(), "sealed", "secret");
  ExpectCopied(store.get(), "sealed", "secret");
  SetFault(*peer_, "corrupt,method=GET");
  ExpectDamaged("plain", 1);
  SetFault(*peer_, "");
  Start({"--etags", "sealed"});
  const auto later = Open();
  ExpectRead(later.get(), "plain", "p");
  ExpectCopied(later.get(), "plain", "p");
  TextSource source("new");
  const auto put = later->Write("new", &source, {}, Precondition::Anything(), nullptr);
  ASSERT_TRUE(put.ok()) << put.error().what;
  ExpectRead(later.get(), "new", "new");
}

class S3PartsDigestTest : public S3DigestTest {
 protected:
  S3PartsDigestTest() {
    for (int i = 0; text_.size() < 250000; ++i) text_ += std::to_string(i) + " ";
    Start();
    options_ = OptionsFor(*peer_, "f/");
    options_.part_size = 100000;
  }
  // Its version.
  std::string PutInParts(std::size_t size, const Attributes& attributes) {
    s3::S3Provider store(options_);
    const auto upload = store.BeginParts("map", attributes, nullptr);
    std::vector<UploadedPart> parts;
    for (std::size_t at = 0; upload.ok() && at < text_.size(); at += size) {
      TextSource source(text_.substr(at, size));
      const auto part =
          store.WritePart(*upload, static_cast<int>(parts.size()) + 1, &source, nullptr);
      if (part.ok()) parts.push_back(*part);
    }
    const auto done = store.CompleteParts(*upload, parts, Precondition::Anything(), nullptr);
    EXPECT_TRUE(done.ok()) << done.error().what;
    return done.ok() ? done->version : "";
  }
  static ContentCheck::Verdict Judged(s3::S3Provider* store, const std::string& version,
                                      const std::string& text, std::size_t piece) {
    const auto check = store->CheckOf(version, text.size());
    if (!check) return ContentCheck::Verdict::kUnknown;
    for (std::size_t at = 0; at < text.size(); at += piece) check->Add(text.substr(at, piece));
    return check->Judge();
  }
  using Verdict = ContentCheck::Verdict;
  s3::S3Options options_;
  std::string text_;
};

TEST_F(S3PartsDigestTest, ItIsTakenPartByPart) {
  Attributes attributes;
  attributes.mode = 0640;
  const std::string version = PutInParts(100000, attributes);
  s3::S3Provider store(options_);
  ASSERT_TRUE(store.Look("map", nullptr).ok());
  std::string wrong = text_;
  wrong[123456] ^= 1;
  for (const std::size_t piece : {std::size_t{1000}, std::size_t{99999}, text_.size()}) {
    EXPECT_EQ(Judged(&store, version, text_, piece), Verdict::kRight) << piece;
    EXPECT_EQ(Judged(&store, version, wrong, piece), Verdict::kWrong) << piece;
  }
  options_.part_size = 200000;
  EXPECT_EQ(s3::S3Provider(options_).CheckOf(version, text_.size()), nullptr);
}

// As many parts as this program would have made of it, but larger ones.
TEST_F(S3PartsDigestTest, OfTheirPartsOnlyTheNumberIsKnown) {
  const std::string version = PutInParts(120000, {});
  s3::S3Provider store(options_);
  ASSERT_NE(store.CheckOf(version, text_.size()), nullptr);
  ASSERT_TRUE(store.Look("map", nullptr).ok());
  EXPECT_EQ(Judged(&store, version, text_, 1000), Verdict::kUnknown);
  TextSource source(text_);
  EXPECT_FALSE(*store.HoldsContent("map", *store.Look("map", nullptr), &source, nullptr));
}

}  // namespace
}  // namespace pargeter::test
