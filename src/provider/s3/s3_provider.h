// The Provider for S3-compatible object stores: REST, Signature Version 4. What a store can do is
// probed or learnt from its answers, never assumed from its name.
#pragma once

#include <functional>
#include <set>
#include <string>

#include "base/mutex.h"
#include "provider/provider.h"
#include "provider/s3/s3_wire.h"

namespace pargeter {
class RangeSink;
}

namespace pargeter::s3 {

struct S3Options {
  WireOptions wire;
  std::string bucket;
  std::string prefix;  // "" or ending in "/"
  std::uint64_t multipart_above = 32ull << 20;
  std::uint64_t part_size = 16ull << 20;  // at least kSmallestPart
  std::uint64_t single_copy_limit = 5ull << 30;
};

// Stores refuse a smaller part, unless it is the last.
inline constexpr std::uint64_t kSmallestPart = 5ull << 20;

class S3Provider : public Provider, public Browser {
 public:
  explicit S3Provider(S3Options options);

  // From the next request on; false if they are what it has.
  bool SetCredentials(Credentials credentials) {
    return wire_.SetCredentials(std::move(credentials));
  }
  // Makes the bucket. kExists, kPermission: it is there, or of somebody else.
  Status MakeBucket(const Cancel& cancel);
  Capabilities Can() const override;
  Result<ListPage> List(const std::string& folder, const std::string& next,
                        const Cancel& cancel) override;
  Result<ListPage> ListDeep(const std::string& folder, const std::string& next,
                            const Cancel& cancel) override;
  Result<Entry> Look(const std::string& path, const Cancel& cancel) override;
  Status Read(const std::string& path, const std::string& version, std::uint64_t offset,
              std::uint64_t size, ReadSink* sink, const Cancel& cancel) override;
  Result<Entry> Write(const std::string& path, WriteSource* source, const Attributes& attributes,
                      const Precondition& only_if, const Cancel& cancel) override;
  Result<PartedUpload> BeginParts(const std::string& path, const Attributes& attributes,
                                  const Cancel& cancel) override;
  Result<UploadedPart> WritePart(const PartedUpload& upload, int number, WriteSource* part,
                                 const Cancel& cancel) override;
  Result<std::vector<UploadedPart>> ListParts(const PartedUpload& upload,
                                              const Cancel& cancel) override;
  Result<Entry> CompleteParts(const PartedUpload& upload, const std::vector<UploadedPart>& parts,
                              const Precondition& only_if, const Cancel& cancel) override;
  Status AbortParts(const PartedUpload& upload, const Cancel& cancel) override;
  Result<std::vector<PartedUpload>> ListUploads(const Cancel& cancel) override;
  Result<Entry> Copy(const std::string& from, const std::string& version, std::uint64_t size,
                     const std::string& to, const Attributes* attributes,
                     const Precondition& only_if, const Cancel& cancel) override;
  Result<std::vector<Kept>> Versions(const std::string& path, const Cancel& cancel) override;
  Status ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                  const Cancel& cancel) override;
  Result<Address> Link(const std::string& path, Duration lasts) override;
  Status Remove(const std::string& path, const Precondition& only_if,
                const Cancel& cancel) override;
  Result<std::vector<std::pair<std::string, Error>>> RemoveMany(
      const std::vector<Removal>& removals, const Cancel& cancel) override;
  Result<Entry> LookFolder(const std::string& path, const Cancel& cancel) override;
  Status MakeFolder(const std::string& path, const Attributes& attributes,
                    const Cancel& cancel) override;
  Status RemoveFolder(const std::string& path, const Cancel& cancel) override;
  Status Probe(const Cancel& cancel) override;
  std::string ProbeResult() const override;
  void AdoptProbeResult(const std::string& result) override;
  Status Ping(Duration patience, const Cancel& cancel) override;
  Steady LastSign() const override { return wire_.LastSign(); }
  bool TellsContent(const std::string& version) const override;
  std::unique_ptr<ContentCheck> CheckOf(const std::string& version, std::uint64_t size) override;
  TestReport Test(bool may_write, const Cancel& cancel) override;
  Result<bool> HoldsContent(const std::string& path, const Entry& entry, WriteSource* source,
                            const Cancel& cancel) override;

  Result<std::vector<Entry>> Browse(const std::string& folder, const Cancel& cancel) override;

 private:
  TestReport TestFolder(bool may_write, const Cancel& cancel);
  // What probing and answers taught us of this store.
  struct Learnt {
    Guard create = Guard::kUnknown;
    Guard replace = Guard::kUnknown;
    Guard copy_target = Guard::kUnknown;
    bool unquoted_if_match = false;      // the store matches a version only without its quotes
    std::uint64_t largest_part = ~0ull;  // bytes; larger bodies were refused
    enum { kMaybe, kYes, kNo } etag_is_md5 = kMaybe;
  };

  Call NewCall(std::string method, const std::string& path, std::string what,
               const Cancel& cancel) const;
  Learnt learnt() const EXCLUDES(mutex_);
  void Learn(const std::function<void(Learnt&)>& change) EXCLUDES(mutex_);
  bool NoteVersion(const HttpHead& head) EXCLUDES(mutex_);  // is it sealed?
  bool IsOfKnownParts(const std::string& version) const EXCLUDES(mutex_);
  // Of what came in parts, as this program sends them: the size of each; 0: one that is not known.
  std::uint64_t PartSizeOf(const std::string& version, std::uint64_t size) const;
  // After a refusal: smaller parts from now on, where there are any. The error to give then.
  Error LearnTooLarge(Error error, std::uint64_t size) EXCLUDES(mutex_);
  void SawEtag(const std::string& etag, const std::string& md5_hex);
  Status GetRange(const std::string& path, const std::string& version,
                  std::pair<std::uint64_t, std::uint64_t> bytes, RangeSink* sink,
                  const Cancel& cancel);
  Result<std::string> Md5There(const std::string& path, const std::string& version,
                               std::uint64_t size, const Cancel& cancel);
  bool HasNoDigests(const std::string& path, const std::string& version, std::uint64_t size,
                    const std::string& md5, const Cancel& cancel);
  void AddIfMatch(const std::string& version, Fields* headers) const;
  // Adds the headers that guard `only_if`, or looks first where the store cannot.
  Status Guarded(const std::string& path, const Precondition& only_if, Guard create, Guard replace,
                 Fields* headers, const Cancel& cancel);
  Result<std::string> ProbePut(const std::string& path, const char* header,
                               const std::string& value, const Cancel& cancel);
  Result<Entry> CopyByParts(const std::string& from, const std::string& version, std::uint64_t size,
                            const std::string& to, Fields said, const Precondition& only_if,
                            const Cancel& cancel);
  Result<PartedUpload> BeginPartsOf(const std::string& path, Fields said, const Cancel& cancel);
  Result<Listing> ListKeys(const std::string& prefix, bool deep, int max_keys,
                           const std::string& next, const Cancel& cancel);

  const S3Options options_;
  Wire wire_;
  mutable Mutex mutex_;
  Learnt learnt_ GUARDED_BY(mutex_);
  // Versions that were seen of late: encrypted ones, and what this program sent in parts.
  std::set<std::string> sealed_ GUARDED_BY(mutex_), sent_by_us_ GUARDED_BY(mutex_);
};

Entry EntryOfHead(const HttpHead& head, const std::string& path);
bool LooksLikeMd5(const std::string& etag);
// Is it encrypted with a key of a key service, or of who asks? Its version is no digest then.
bool IsSealed(const HttpHead& head);
bool IsOurs(const HttpHead& head);  // does it carry attributes as this program writes them?
std::string NameIn(const std::string& path);  // the last part

// Attributes as user metadata, small on purpose: stores fail oddly with much of it.
Fields MetadataOf(const Attributes& attributes);
Attributes AttributesOf(const HttpHead& head);

}  // namespace pargeter::s3
