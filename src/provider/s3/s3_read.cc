// Reading, and what the version of an object says of its bytes: most stores name the MD5 of what
// came in one piece.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "provider/range_sink.h"
#include "provider/s3/s3_provider.h"

namespace pargeter::s3 {
namespace {

constexpr std::uint64_t kLargestSample = kMiB;
constexpr std::size_t kVersionsKnown = 1000;
constexpr int kAttempts = 4;

class Collected : public ReadSink {
 public:
  Status Begin(const Entry&) override {
    bytes.clear();
    return {};
  }
  Status Write(std::string_view data) override {
    bytes += data;
    return {};
  }
  std::string bytes;
};

// 0: its version does not tell.
std::uint64_t PartsIn(const std::string& version) {
  if (version.size() < 34 || version[32] != '-' || !LooksLikeMd5(version.substr(0, 32))) return 0;
  return std::strtoull(version.c_str() + 33, nullptr, 10);
}

}  // namespace

bool LooksLikeMd5(const std::string& etag) {
  return etag.size() == 32 && etag.find_first_not_of("0123456789abcdef") == std::string::npos;
}

bool IsSealed(const HttpHead& head) {
  return head.Get("x-amz-server-side-encryption").compare(0, 7, "aws:kms") == 0 ||
         !head.Get("x-amz-server-side-encryption-customer-algorithm").empty();
}

Status S3Provider::Read(const std::string& path, const std::string& version, std::uint64_t offset,
                        std::uint64_t size, ReadSink* sink, const Cancel& cancel) {
  if (size == 0) return {};
  std::string last_md5;
  for (int attempt = 1;; ++attempt) {
    const Learnt l = learnt();
    const bool check = LooksLikeMd5(version) && l.etag_is_md5 != Learnt::kNo && offset == 0;
    bool sealed = false;
    const auto describe = [&](const HttpHead& head) {
      sealed = NoteVersion(head);
      return EntryOfHead(head, path);
    };
    RangeSink range(describe, version, offset, size, check, sink);
    PG_TRY(GetRange(path, version, {offset, offset + size}, &range, cancel));
    Status good = range.Check();
    const std::string md5 = good.ok() && !sealed ? range.WholeMd5() : "";
    if (!md5.empty() && md5 != version) {
      // damaged on the way, or a store whose versions are no digests
      if (l.etag_is_md5 == Learnt::kMaybe && md5 == last_md5 &&
          HasNoDigests(path, version, size, md5, cancel)) {
        Learn([](Learnt& k) { k.etag_is_md5 = Learnt::kNo; });
        return {};
      }
      last_md5 = md5;
      good = Error(Code::kDamaged, fmt::format("cannot read {}: its bytes do not have the store's "
                                               "digest",
                                               Printable(path)));
    } else if (!md5.empty()) {
      Learn([](Learnt& k) { k.etag_is_md5 = Learnt::kYes; });
    }
    if (good.ok() || attempt >= kAttempts) return good;
    Log(LogLevel::kWarning, "{}; reading it again", good.error().what);
  }
}

Status S3Provider::GetRange(const std::string& path, const std::string& version,
                            std::pair<std::uint64_t, std::uint64_t> bytes, RangeSink* sink,
                            const Cancel& cancel) {
  Call call = NewCall("GET", path, "read", cancel);
  call.headers.emplace_back("range", fmt::format("bytes={}-{}", bytes.first, bytes.second - 1));
  if (!version.empty()) call.headers.emplace_back("if-match", "\"" + version + "\"");
  call.sink = sink;
  PG_TRY(wire_.Send(call));
  return {};
}

// In two pieces.
Result<std::string> S3Provider::Md5There(const std::string& path, const std::string& version,
                                         std::uint64_t size, const Cancel& cancel) {
  Md5Stream md5;
  for (const auto& [from, to] :
       {std::pair(std::uint64_t{0}, size / 2), std::pair(size / 2, size)}) {
    if (from == to) continue;
    Collected piece;
    bool sealed = false;
    const auto describe = [&](const HttpHead& head) {
      sealed = NoteVersion(head);
      return EntryOfHead(head, path);
    };
    RangeSink range(describe, version, from, to - from, false, &piece);
    PG_TRY(GetRange(path, version, {from, to}, &range, cancel));
    PG_TRY(range.Check());
    if (sealed) return Error(Code::kUnsupported, "its version is no digest");
    md5.Update(piece.bytes);
  }
  return Hex(md5.Finish());
}

// Nothing is known of the store, and it has sent the same bytes twice, of another digest than the
// version. What is damaged on its way differs when it comes in other pieces; and if the object
// itself is damaged, another one has its digest.
bool S3Provider::HasNoDigests(const std::string& path, const std::string& version,
                              std::uint64_t size, const std::string& md5, const Cancel& cancel) {
  const auto again = Md5There(path, version, size, cancel);
  if (!again.ok() || *again != md5) return false;
  const auto listing = ListKeys(options_.prefix, true, 1000, "", cancel);
  if (!listing.ok()) return false;
  const ListedKey* other = nullptr;
  for (const ListedKey& key : listing->keys) {
    if (!LooksLikeMd5(key.etag) || key.etag == version || key.size > kLargestSample ||
        key.key.compare(0, options_.prefix.size(), options_.prefix) != 0)
      continue;
    if (other == nullptr || key.size < other->size) other = &key;
  }
  if (other == nullptr) return true;
  const auto theirs =
      Md5There(other->key.substr(options_.prefix.size()), other->etag, other->size, cancel);
  if (!theirs.ok()) return false;
  SawEtag(other->etag, *theirs);
  return learnt().etag_is_md5 == Learnt::kNo;
}

void S3Provider::SawEtag(const std::string& etag, const std::string& md5_hex) {
  if (!LooksLikeMd5(etag)) return;
  const bool same = etag == md5_hex;
  Learn([&](Learnt& k) {
    if (same) k.etag_is_md5 = Learnt::kYes;
    if (!same && k.etag_is_md5 == Learnt::kMaybe) k.etag_is_md5 = Learnt::kNo;
  });
}

bool S3Provider::NoteVersion(const HttpHead& head) {
  const std::string version = PlainEtag(head.Get("etag"));
  const bool sealed = IsSealed(head);
  if (!sealed && (LooksLikeMd5(version) || !IsOurs(head))) return false;
  const Lock lock(mutex_);
  std::set<std::string>& known = sealed ? sealed_ : sent_by_us_;
  if (known.size() >= kVersionsKnown) known.clear();
  known.insert(version);
  return sealed;
}

// A file that came as one part is that; of what others sent only the number of parts is known.
bool S3Provider::IsOfKnownParts(const std::string& version) const {
  if (LooksLikeMd5(version) || PartsIn(version) == 1) return true;
  const Lock lock(mutex_);
  return sent_by_us_.count(version) > 0;
}

std::uint64_t S3Provider::PartSizeOf(const std::string& version, std::uint64_t size) const {
  const std::uint64_t parts = PartsIn(version);
  if (parts == 0 || size == 0) return 0;
  if (parts == 1) return size;
  const std::uint64_t ours = options_.part_size;
  return parts == (size + ours - 1) / ours ? ours : 0;
}

std::unique_ptr<ContentCheck> S3Provider::CheckOf(const std::string& version, std::uint64_t size) {
  // The MD5 of all, or that of the parts' MD5s and how many they are.
  class Md5Check : public ContentCheck {
   public:
    Md5Check(S3Provider* store, std::string version, std::uint64_t part_size)
        : store_(*store), version_(std::move(version)), part_size_(part_size) {}
    void Add(std::string_view piece) override {
      while (!piece.empty()) {
        const std::size_t n =
            part_size_ == 0 ? piece.size() : std::min(piece.size(), part_size_ - in_part_);
        md5_.Update(piece.substr(0, n));
        piece.remove_prefix(n);
        in_part_ += n;
        if (in_part_ == part_size_) EndPart();
      }
    }
    Verdict Judge() override {
      if (digest_.empty()) digest_ = Digest();
      if (digest_ != version_)
        return store_.IsOfKnownParts(version_) ? Verdict::kWrong : Verdict::kUnknown;
      if (part_size_ == 0) store_.Learn([](Learnt& k) { k.etag_is_md5 = Learnt::kYes; });
      return Verdict::kRight;
    }

   private:
    std::string Digest() {
      if (part_size_ == 0) return Hex(md5_.Finish());
      if (in_part_ > 0) EndPart();
      return fmt::format("{}-{}", Hex(Md5(digests_)), digests_.size() / 16);
    }
    void EndPart() {
      digests_ += md5_.Finish();
      md5_.Reset();
      in_part_ = 0;
    }
    S3Provider& store_;
    const std::string version_;
    const std::uint64_t part_size_;
    std::uint64_t in_part_ = 0;
    std::string digests_, digest_;
    Md5Stream md5_;
  };
  const std::uint64_t part_size = PartSizeOf(version, size);
  if ((part_size == 0 && !LooksLikeMd5(version)) || learnt().etag_is_md5 == Learnt::kNo)
    return nullptr;
  const Lock lock(mutex_);
  if (sealed_.count(version) > 0) return nullptr;
  return std::make_unique<Md5Check>(this, version, part_size);
}

bool S3Provider::TellsContent(const std::string& version) const { return LooksLikeMd5(version); }

}  // namespace pargeter::s3
