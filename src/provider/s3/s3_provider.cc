#include "provider/s3/s3_provider.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <set>

#include "base/digest.h"
#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "provider/attributes.h"
#include "provider/range_sink.h"

namespace pargeter::s3 {
namespace {

constexpr const char* kMetaHeader = "x-amz-meta-pargeter";
constexpr const char* kLinkHeader = "x-amz-meta-pargeter-link";
const std::string kInBody = "body:";  // and the length of the target (never so in Base64)

}  // namespace

Entry EntryOfHead(const HttpHead& head, const std::string& path) {
  Entry entry;
  entry.name = NameIn(path);
  entry.version = PlainEtag(head.Get("etag"));
  entry.modified = ParseHttpDate(head.Get("last-modified").c_str());
  const std::string& length = head.Get("content-length");
  std::from_chars(length.data(), length.data() + length.size(), entry.size);
  entry.attributes = AttributesOf(head);
  entry.attributes_known = true;
  if (entry.attributes.symlink) entry.kind = Kind::kSymlink;
  return entry;
}

Fields MetadataOf(const Attributes& a) {
  const std::string packed = PackAttributes(a);
  Fields fields;
  if (!packed.empty()) fields.emplace_back(kMetaHeader, packed);
  if (a.symlink)
    fields.emplace_back(kLinkHeader, a.symlink->size() > kLongestInMetadata
                                         ? kInBody + std::to_string(a.symlink->size())
                                         : PackLink(*a.symlink));
  return fields;
}

bool IsOurs(const HttpHead& head) { return !head.Get(kMetaHeader).empty(); }

Attributes AttributesOf(const HttpHead& head) {
  Attributes a = UnpackAttributes(head.Get(kMetaHeader));
  const std::string target = UnpackLink(head.Get(kLinkHeader));
  if (!target.empty()) a.symlink = target;
  return a;
}

// What others said of an object that is copied, and a copy that says something new would drop.
Fields SaidByOthers(const HttpHead& head) {
  static const std::set<std::string> of_content = {
      "cache-control",       "content-disposition",
      "content-encoding",    "content-language",
      "content-type",        "expires",
      "x-amz-storage-class", "x-amz-website-redirect-location"};
  Fields said;
  for (const auto& [name, value] : head.headers) {
    const bool ours = name == kMetaHeader || name == kLinkHeader;
    if (!ours && (name.rfind("x-amz-meta-", 0) == 0 || of_content.count(name) > 0))
      said.emplace_back(name, value);
  }
  return said;
}

S3Provider::S3Provider(S3Options options) : options_(std::move(options)), wire_(options_.wire) {}

S3Provider::Learnt S3Provider::learnt() const {
  const Lock lock(mutex_);
  return learnt_;
}

void S3Provider::Learn(const std::function<void(Learnt&)>& change) {
  const Lock lock(mutex_);
  change(learnt_);
}

Capabilities S3Provider::Can() const {
  const Learnt l = learnt();
  Capabilities can;
  can.tells_writer = true;
  can.create = l.create;
  can.replace = l.replace;
  can.multipart_above = std::min(options_.multipart_above, l.largest_part);
  can.part_size = std::min(options_.part_size, l.largest_part);
  can.copies_in_parts_above = options_.single_copy_limit;
  return can;
}

Error S3Provider::LearnTooLarge(Error error, std::uint64_t size) {
  if (error.code != Code::kTooLarge || size <= kSmallestPart) return error;
  const std::uint64_t smaller = std::max(kSmallestPart, std::min(size, options_.part_size) / 2);
  Learn([&](Learnt& l) { l.largest_part = std::min(l.largest_part, smaller); });
  Log(LogLevel::kWarning, "{}; smaller parts are tried: {}", error.what, FormatSize(smaller));
  error.code = Code::kStoreFault;  // tried again soon, in those
  return error;
}

Call S3Provider::NewCall(std::string method, const std::string& path, std::string what,
                         const Cancel& cancel) const {
  Call call;
  call.method = std::move(method);
  call.bucket = options_.bucket;
  call.key = options_.prefix + path;
  call.what = fmt::format("cannot {} {}", what, Printable(path));
  call.cancel = cancel;
  return call;
}

Result<Listing> S3Provider::ListKeys(const std::string& prefix, bool deep, int max_keys,
                                     const std::string& next, const Cancel& cancel) {
  Call call = NewCall("GET", "", "list " + prefix, cancel);
  call.key.clear();
  call.what = fmt::format("cannot list {}", Printable(options_.bucket + "/" + prefix));
  call.query = {
      {"list-type", "2"}, {"encoding-type", "url"}, {"max-keys", std::to_string(max_keys)}};
  if (!prefix.empty()) call.query.emplace_back("prefix", prefix);
  if (!deep) call.query.emplace_back("delimiter", "/");
  if (!next.empty()) call.query.emplace_back("continuation-token", next);
  PG_ASSIGN(const HttpResponse response, wire_.Send(call));
  PG_ASSIGN(Listing listing, ParseListing(response.body));
  if (listing.keys.size() + listing.prefixes.size() > 10000) {
    return Error(Code::kDamaged, "the store sent a page of more names than was asked for");
  }
  return listing;
}

Result<ListPage> S3Provider::List(const std::string& folder, const std::string& next,
                                  const Cancel& cancel) {
  const std::string prefix = options_.prefix + folder;
  PG_ASSIGN(const Listing listing, ListKeys(prefix, false, 1000, next, cancel));
  ListPage page;
  page.next = listing.next_token;
  for (const ListedKey& key : listing.keys) {
    if (key.key.compare(0, prefix.size(), prefix) != 0) {
      Log(LogLevel::kWarning, "the store listed {}, which is not below {}: left out", key.key,
          prefix);
      continue;
    }
    Entry entry;
    entry.name = key.key.substr(prefix.size());
    entry.size = key.size;
    entry.modified = key.modified;
    entry.version = key.etag;
    if (entry.name.empty() && (key.size == 0 || folder.empty())) {
      if (folder.empty()) continue;
      entry.kind = Kind::kFolder;
      entry.marker = true;
    }
    page.entries.push_back(std::move(entry));
  }
  for (const std::string& common : listing.prefixes) {
    if (common.compare(0, prefix.size(), prefix) != 0 || common.size() <= prefix.size()) continue;
    Entry entry;
    entry.kind = Kind::kFolder;
    entry.name = common.substr(prefix.size(), common.size() - prefix.size() - 1);
    page.entries.push_back(std::move(entry));
  }
  return page;
}

Result<ListPage> S3Provider::ListDeep(const std::string& folder, const std::string& next,
                                      const Cancel& cancel) {
  const std::string prefix = options_.prefix + folder;
  PG_ASSIGN(const Listing listing, ListKeys(prefix, true, 1000, next, cancel));
  ListPage page;
  page.next = listing.next_token;
  for (const ListedKey& key : listing.keys) {
    if (key.key.compare(0, prefix.size(), prefix) != 0) continue;
    Entry entry;
    entry.name = key.key.substr(prefix.size());
    entry.size = key.size;
    entry.modified = key.modified;
    entry.version = key.etag;
    page.entries.push_back(std::move(entry));
  }
  return page;
}

Result<Entry> S3Provider::Look(const std::string& path, const Cancel& cancel) {
  if (!path.empty()) {
    const auto response = wire_.Send(NewCall("HEAD", path, "look at", cancel));
    if (response.ok()) {
      NoteVersion(response->head);
      Entry entry = EntryOfHead(response->head, path);
      const std::string& link = response->head.Get(kLinkHeader);
      if (link.rfind(kInBody, 0) == 0 && MayBeSymlink(entry.size)) {
        PG_ASSIGN(const HttpResponse body, wire_.Send(NewCall("GET", path, "look at", cancel)));
        std::size_t length = 0;
        std::from_chars(link.data() + kInBody.size(), link.data() + link.size(), length);
        const std::string target = TargetInBody(body.body, length);
        if (!target.empty()) entry.attributes.symlink = target;
        if (!target.empty()) entry.kind = Kind::kSymlink;
      }
      return entry;
    }
    if (response.error().code != Code::kNotFound) return response.error();
  }
  const std::string prefix = options_.prefix + (path.empty() ? "" : path + "/");
  PG_ASSIGN(const Listing listing, ListKeys(prefix, true, 1, "", cancel));
  Entry entry;
  entry.kind = Kind::kFolder;
  entry.name = NameIn(path);
  if (!listing.keys.empty() || path.empty()) {
    entry.marker = !listing.keys.empty() && listing.keys[0].key == prefix;
    return entry;
  }
  return Error(Code::kNotFound, fmt::format("there is no {}", Printable(path)));
}

Result<Entry> S3Provider::LookFolder(const std::string& path, const Cancel& cancel) {
  PG_ASSIGN(const HttpResponse marker, wire_.Send(NewCall("HEAD", path + "/", "look at", cancel)));
  Entry entry = EntryOfHead(marker.head, path);
  entry.kind = Kind::kFolder;
  entry.marker = true;
  return entry;
}

// ---- former versions, and links

Result<std::vector<Provider::Kept>> S3Provider::Versions(const std::string& path,
                                                         const Cancel& cancel) {
  const std::string key = options_.prefix + path;
  std::vector<Kept> out;
  std::string next_key, next_id;
  do {
    Call call = NewCall("GET", "", "list the versions of", cancel);
    call.key.clear();
    call.what = "cannot list the versions of " + Printable(path);
    call.query = {{"versions", ""}, {"prefix", key}, {"encoding-type", "url"}};
    if (!next_key.empty()) {
      call.query.emplace_back("key-marker", next_key);
      if (!next_id.empty()) call.query.emplace_back("version-id-marker", next_id);
    }
    PG_ASSIGN(const HttpResponse response, wire_.Send(call));
    PG_ASSIGN(const VersionPage page, ParseVersions(response.body));
    bool past = false;  // names that only begin alike come after all of its own
    for (const ListedVersion& v : page.versions) {
      past = past || v.key.key != key;
      if (v.key.key == key) out.push_back({v.id, v.key.size, v.key.modified, v.latest});
    }
    if (page.next_key == next_key && page.next_id == next_id) break;
    next_key = past ? "" : page.next_key;
    next_id = page.next_id;
  } while (!next_key.empty());
  if (out.empty()) return Error(Code::kNotFound, "the store has nothing of " + Printable(path));
  if (out.size() == 1 && (out[0].id.empty() || out[0].id == "null"))
    return Error(Code::kUnsupported, "this bucket keeps no former versions",
                 "An administrator can turn on versioning for the bucket; files written afterwards "
                 "then have versions.");
  return out;
}

Status S3Provider::ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                            const Cancel& cancel) {
  RangeSink whole([&](const HttpHead& head) { return EntryOfHead(head, path); }, "", 0, ~0ull >> 1,
                  false, sink);
  Call call = NewCall("GET", path, "read a former version of", cancel);
  call.query = {{"versionId", id}};
  call.sink = &whole;
  PG_TRY(wire_.Send(call));
  return whole.Check();
}

Result<Provider::Address> S3Provider::Link(const std::string& path, Duration lasts) {
  constexpr Duration kLongest(7 * 24 * 3600'000ll);
  if (lasts.count() == 0) lasts = kLongest;
  if (lasts > kLongest)
    return Error(Code::kInvalid, "a link to this store lasts for 7 days at most", "Give --for 7d.");
  return Address{wire_.Presigned(options_.bucket, options_.prefix + path, lasts), lasts, true};
}

void S3Provider::AddIfMatch(const std::string& version, Fields* headers) const {
  const std::string quote = learnt().unquoted_if_match ? "" : "\"";
  headers->emplace_back("if-match", quote + version + quote);
}

Status S3Provider::Guarded(const std::string& path, const Precondition& only_if, Guard create,
                           Guard replace, Fields* headers, const Cancel& cancel) {
  using Want = Precondition::Want;
  if (only_if.want == Want::kAnything) return {};
  const bool absent = only_if.want == Want::kNothingThere;
  if ((absent ? create : replace) == Guard::kAtomic) {
    if (headers == nullptr) return {};
    if (absent) {
      headers->emplace_back("if-none-match", "*");
    } else {
      AddIfMatch(only_if.version, headers);
    }
    return {};
  }
  const auto there = wire_.Send(NewCall("HEAD", path, "look at", cancel));
  if (!there.ok() && there.error().code != Code::kNotFound) return there.error();
  const Error changed(Code::kChanged,
                      fmt::format("{} was changed at the store meanwhile", Printable(path)));
  if (absent) return there.ok() ? Status(changed) : Status();
  if (!there.ok() || PlainEtag(there->head.Get("etag")) != only_if.version) return changed;
  return {};
}

Result<Entry> S3Provider::Copy(const std::string& from, const std::string& version,
                               std::uint64_t size, const std::string& to,
                               const Attributes* attributes, const Precondition& only_if,
                               const Cancel& cancel) {
  const bool in_parts = size > options_.single_copy_limit;
  Fields said;  // the store carries it over by itself otherwise
  if (in_parts || attributes != nullptr) {
    PG_ASSIGN(const HttpResponse original, wire_.Send(NewCall("HEAD", from, "look at", cancel)));
    if (!version.empty() && PlainEtag(original.head.Get("etag")) != version) {
      return Error(Code::kChanged, fmt::format("{} was changed meanwhile", Printable(from)));
    }
    said = SaidByOthers(original.head);
    const Attributes own = attributes ? *attributes : AttributesOf(original.head);
    for (auto& field : MetadataOf(own)) said.push_back(std::move(field));
  }
  if (in_parts) return CopyByParts(from, version, size, to, std::move(said), only_if, cancel);
  Call call = NewCall("PUT", to, "copy to", cancel);
  call.slow_answer = true;
  const Guard guard = learnt().copy_target;
  PG_TRY(Guarded(to, only_if, guard, Guard::kCheckFirst, &call.headers, cancel));
  call.headers.emplace_back(
      "x-amz-copy-source",
      PercentEncode(options_.bucket + "/" + options_.prefix + from, KeepSlash::kYes));
  if (!version.empty()) {
    call.headers.emplace_back("x-amz-copy-source-if-match", "\"" + version + "\"");
  }
  if (attributes != nullptr) {
    call.headers.emplace_back("x-amz-metadata-directive", "REPLACE");
    for (auto& field : said) call.headers.push_back(std::move(field));
  }
  PG_ASSIGN(const HttpResponse response, wire_.Send(call));
  PG_ASSIGN(std::string etag, ParseEtagResult(response.body, "CopyObjectResult"));
  Entry entry;
  entry.name = NameIn(to);
  entry.size = size;
  entry.version = etag;
  // Some stores ignore the condition on the source: a plain version must come out unchanged.
  if (LooksLikeMd5(version) && LooksLikeMd5(etag) && learnt().etag_is_md5 == Learnt::kYes &&
      etag != version && !IsSealed(response.head)) {
    const auto original = wire_.Send(NewCall("HEAD", from, "look at", cancel));
    if (!original.ok() || !IsSealed(original->head))
      return Error(Code::kChanged,
                   fmt::format("{} was changed while it was copied", Printable(from)));
  }
  if (!etag.empty()) return entry;
  auto there = Look(to, cancel);
  if (!there.ok() && there.error().code == Code::kNotFound) return NotDone(to);
  return there;
}

Status S3Provider::Remove(const std::string& path, const Precondition& only_if,
                          const Cancel& cancel) {
  const bool this_version = only_if.want == Precondition::Want::kThisVersion;
  if (this_version && !only_if.seen_just_now) {
    const auto there = wire_.Send(NewCall("HEAD", path, "look at", cancel));
    if (!there.ok() && there.error().code == Code::kNotFound) return {};
    if (!there.ok()) return there.error();
    if (PlainEtag(there->head.Get("etag")) != only_if.version) {
      return Error(Code::kChanged,
                   fmt::format("{} was changed at the store meanwhile", Printable(path)));
    }
  }
  Call call = NewCall("DELETE", path, "delete", cancel);
  // many stores ignore it here; on those that do not, nothing can come between the look and this
  if (this_version && learnt().replace == Guard::kAtomic)
    AddIfMatch(only_if.version, &call.headers);
  const auto gone = wire_.Send(call);
  if (!gone.ok() && gone.error().code != Code::kNotFound) return gone.error();
  return {};
}

Result<std::vector<std::pair<std::string, Error>>> S3Provider::RemoveMany(
    const std::vector<Removal>& removals, const Cancel& cancel) {
  std::vector<std::pair<std::string, Error>> failed;
  std::vector<std::string> keys;
  for (const auto& [path, version] : removals) {
    // XML 1.0 cannot say some bytes: those keys go one by one
    const std::string key = options_.prefix + path;
    const bool sayable = IsUtf8(key) && std::all_of(key.begin(), key.end(), [](char c) {
                           const auto b = static_cast<unsigned char>(c);
                           return b >= 0x20 || b == '\t' || b == '\n' || b == '\r';
                         });
    if (sayable) {
      keys.push_back(key);
    } else if (const Status one = Remove(
                   path,
                   version.empty() ? Precondition::Anything() : Precondition::StillIs(version),
                   cancel);
               !one.ok()) {
      failed.emplace_back(path, one.error());
    }
  }
  for (std::size_t at = 0; at < keys.size(); at += 1000) {
    const std::vector<std::string> some(
        keys.begin() + static_cast<long>(at),
        keys.begin() + static_cast<long>(std::min(at + 1000, keys.size())));
    Call call = NewCall("POST", "", "delete objects in", cancel);
    call.key.clear();
    call.query = {{"delete", ""}};
    call.body = DeleteDocument(some);
    call.slow_answer = true;
    call.headers.emplace_back("content-md5", Base64(Md5(call.body)));
    call.headers.emplace_back("content-type", "application/xml");
    PG_ASSIGN(const HttpResponse response, wire_.Send(call));
    PG_ASSIGN(auto refused, ParseDeleteResult(response.body));
    for (auto& [key, error] : refused) {
      if (error.code == Code::kNotFound || key.size() < options_.prefix.size()) continue;
      failed.emplace_back(key.substr(options_.prefix.size()), error);
    }
  }
  return failed;
}

Status S3Provider::Ping(Duration patience, const Cancel& cancel) {
  Call call;
  call.method = "HEAD";
  call.bucket = options_.bucket;
  call.what = "cannot reach the store";
  call.once = patience;
  call.cancel = cancel;
  const auto answer = wire_.Send(call);
  if (answer.ok()) return {};
  const Code code = answer.error().code;
  // whoever refuses is there
  return code == Code::kUnavailable || code == Code::kTimeout ? Status(answer.error()) : Status();
}

Status S3Provider::MakeBucket(const Cancel& cancel) {
  Call call = NewCall("PUT", "", "make the bucket " + options_.bucket, cancel);
  call.key.clear();
  const std::string& region = options_.wire.credentials.region;
  if (region != "us-east-1")
    call.body = "<CreateBucketConfiguration><LocationConstraint>" + region +
                "</LocationConstraint></CreateBucketConfiguration>";
  PG_TRY(wire_.Send(call));
  return {};
}

Status S3Provider::MakeFolder(const std::string& path, const Attributes& attributes,
                              const Cancel& cancel) {
  Call call = NewCall("PUT", path + "/", "make the folder", cancel);
  call.headers = MetadataOf(attributes);
  call.headers.emplace_back("content-type", "application/x-directory");
  PG_TRY(wire_.Send(call));
  return {};
}

Status S3Provider::RemoveFolder(const std::string& path, const Cancel& cancel) {
  return Remove(path + "/", Precondition::Anything(), cancel);
}

}  // namespace pargeter::s3
