// S3Provider: how bytes go up, whole and in parts.
#include <fmt/format.h>

#include <algorithm>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "provider/s3/s3_provider.h"

namespace pargeter::s3 {
namespace {

constexpr std::size_t kHashChunk = 256u << 10;

class SourceBody : public BodySource {
 public:
  explicit SourceBody(WriteSource* source) : source_(source) {}
  std::uint64_t Size() const override { return source_->Size(); }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    return source_->Read(data, size, offset);
  }

 private:
  WriteSource* source_;
};

// The MD5 of [offset, offset + size), raw.
Result<std::string> Md5Of(WriteSource* source, std::uint64_t offset, std::uint64_t size) {
  Md5Stream md5;
  std::string buffer(static_cast<std::size_t>(std::min<std::uint64_t>(kHashChunk, size)), '\0');
  for (std::uint64_t at = 0; at < size;) {
    const auto want = static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size(), size - at));
    PG_ASSIGN(const std::size_t n, source->Read(buffer.data(), want, offset + at));
    if (n == 0) return Error(Code::kIo, "the local file is shorter than it should be");
    md5.Update(std::string_view(buffer.data(), n));
    at += n;
  }
  return md5.Finish();
}

}  // namespace

std::string NameIn(const std::string& path) { return path.substr(path.rfind('/') + 1); }

Result<Entry> S3Provider::Write(const std::string& path, WriteSource* source,
                                const Attributes& attributes, const Precondition& only_if,
                                const Cancel& cancel) {
  PG_ASSIGN(const std::string md5, Md5Of(source, 0, source->Size()));
  Call call = NewCall("PUT", path, "write", cancel);
  const Learnt l = learnt();
  PG_TRY(Guarded(path, only_if, l.create, l.replace, &call.headers, cancel));
  call.headers.emplace_back("content-md5", Base64(md5));
  call.headers.emplace_back("content-type", "application/octet-stream");
  for (auto& field : MetadataOf(attributes)) call.headers.push_back(std::move(field));
  SourceBody body(source);
  call.source = &body;
  const auto response = wire_.Send(call);
  if (!response.ok()) {
    // an answer lost on its way makes the repeated request meet our own object
    if (response.error().code == Code::kChanged) {
      const auto there = Look(path, cancel);
      if (there.ok() && there->size == source->Size() && there->version == Hex(md5)) return there;
    }
    return LearnTooLarge(response.error(), source->Size());
  }
  Entry entry;
  entry.name = NameIn(path);
  entry.size = source->Size();
  entry.version = PlainEtag(response->head.Get("etag"));
  entry.attributes = attributes;
  entry.attributes_known = true;
  if (entry.version == Hex(md5)) {
    SawEtag(entry.version, Hex(md5));
    return entry;
  }
  // Not our digest: what does the store say that it holds?
  const bool sealed = IsSealed(response->head);
  const auto looked = Look(path, cancel);
  if (!looked.ok() && looked.error().code == Code::kNotFound) return NotDone(path);
  if (!looked.ok()) return looked.error();
  const Entry& there = *looked;
  if (there.size != source->Size() ||
      (learnt().etag_is_md5 == Learnt::kYes && !sealed && there.version != Hex(md5))) {
    return Error(Code::kDamaged, fmt::format("the store acknowledged {} but holds something else",
                                             Printable(path)));
  }
  if (!sealed) SawEtag(there.version, Hex(md5));
  return there;
}

Result<PartedUpload> S3Provider::BeginParts(const std::string& path, const Attributes& attributes,
                                            const Cancel& cancel) {
  Fields said = MetadataOf(attributes);
  said.emplace_back("content-type", "application/octet-stream");
  return BeginPartsOf(path, std::move(said), cancel);
}

Result<PartedUpload> S3Provider::BeginPartsOf(const std::string& path, Fields said,
                                              const Cancel& cancel) {
  Call call = NewCall("POST", path, "begin the upload of", cancel);
  call.query = {{"uploads", ""}};
  call.headers = std::move(said);
  PG_ASSIGN(const HttpResponse response, wire_.Send(call));
  PG_ASSIGN(std::string id, ParseUploadId(response.body));
  return PartedUpload{path, std::move(id)};
}

Result<UploadedPart> S3Provider::WritePart(const PartedUpload& upload, int number,
                                           WriteSource* part, const Cancel& cancel) {
  PG_ASSIGN(const std::string md5, Md5Of(part, 0, part->Size()));
  Call call = NewCall("PUT", upload.path, fmt::format("write part {} of", number), cancel);
  call.query = {{"partNumber", std::to_string(number)}, {"uploadId", upload.id}};
  call.headers = {{"content-md5", Base64(md5)}};
  SourceBody body(part);
  call.source = &body;
  const auto response = wire_.Send(call);
  if (!response.ok()) return LearnTooLarge(response.error(), part->Size());
  UploadedPart done{number, part->Size(), PlainEtag(response->head.Get("etag"))};
  if (done.tag != Hex(md5) && learnt().etag_is_md5 == Learnt::kYes && !IsSealed(response->head)) {
    return Error(Code::kDamaged,
                 fmt::format("the store acknowledged part {} of {} with another digest", number,
                             Printable(upload.path)));
  }
  return done;
}

Result<std::vector<UploadedPart>> S3Provider::ListParts(const PartedUpload& upload,
                                                        const Cancel& cancel) {
  std::vector<UploadedPart> parts;
  for (int marker = 0;;) {
    Call call = NewCall("GET", upload.path, "list the parts of", cancel);
    call.query = {{"uploadId", upload.id}};
    if (marker > 0) call.query.emplace_back("part-number-marker", std::to_string(marker));
    PG_ASSIGN(const HttpResponse response, wire_.Send(call));
    PG_ASSIGN(const PartPage page, ParseParts(response.body));
    parts.insert(parts.end(), page.parts.begin(), page.parts.end());
    if (page.next_marker <= marker || parts.size() > 10000) return parts;
    marker = page.next_marker;
  }
}

Result<Entry> S3Provider::CompleteParts(const PartedUpload& upload,
                                        const std::vector<UploadedPart>& parts,
                                        const Precondition& only_if, const Cancel& cancel) {
  // Real stores ignore conditions here: look first, always.
  PG_TRY(Guarded(upload.path, only_if, Guard::kCheckFirst, Guard::kCheckFirst, nullptr, cancel));
  Call call = NewCall("POST", upload.path, "finish the upload of", cancel);
  call.query = {{"uploadId", upload.id}};
  call.body = CompleteDocument(parts);
  call.headers = {{"content-type", "application/xml"}};
  call.slow_answer = true;
  PG_ASSIGN(const HttpResponse response, wire_.Send(call));
  PG_ASSIGN(const std::string etag,
            ParseEtagResult(response.body, "CompleteMultipartUploadResult"));
  const auto there = Look(upload.path, cancel);
  if (!there.ok() && there.error().code == Code::kNotFound) return NotDone(upload.path);
  if (!there.ok()) return there.error();
  if (!etag.empty() && there->version != etag) {
    return Error(Code::kChanged, fmt::format("{} was changed meanwhile", Printable(upload.path)));
  }
  return there;
}

Status S3Provider::AbortParts(const PartedUpload& upload, const Cancel& cancel) {
  Call call = NewCall("DELETE", upload.path, "abort the upload of", cancel);
  call.query = {{"uploadId", upload.id}};
  const auto gone = wire_.Send(call);
  if (!gone.ok() && gone.error().code != Code::kNotFound) return gone.error();
  return {};
}

Result<std::vector<PartedUpload>> S3Provider::ListUploads(const Cancel& cancel) {
  std::vector<PartedUpload> uploads;
  std::string key, id;
  for (int pages = 0; pages < 100; ++pages) {
    Call call = NewCall("GET", "", "list the uploads in", cancel);
    call.key.clear();
    call.query = {{"uploads", ""}, {"encoding-type", "url"}};
    if (!options_.prefix.empty()) call.query.emplace_back("prefix", options_.prefix);
    if (!key.empty()) call.query.emplace_back("key-marker", key);
    if (!id.empty()) call.query.emplace_back("upload-id-marker", id);
    PG_ASSIGN(const HttpResponse response, wire_.Send(call));
    PG_ASSIGN(const UploadPage page, ParseUploads(response.body));
    for (const auto& [full, upload_id] : page.uploads) {
      if (full.compare(0, options_.prefix.size(), options_.prefix) != 0) continue;
      uploads.push_back({full.substr(options_.prefix.size()), upload_id});
    }
    if (page.next_key.empty()) break;
    key = page.next_key;
    id = page.next_id;
  }
  return uploads;
}

Result<Entry> S3Provider::CopyByParts(const std::string& from, const std::string& version,
                                      std::uint64_t size, const std::string& to, Fields said,
                                      const Precondition& only_if, const Cancel& cancel) {
  const std::uint64_t part_size =
      std::max(std::min<std::uint64_t>(options_.single_copy_limit, 1ull << 30), size / 9000 + 1);
  PG_ASSIGN(const PartedUpload upload, BeginPartsOf(to, std::move(said), cancel));
  std::vector<UploadedPart> parts;
  Status failed;
  for (std::uint64_t at = 0; at < size && failed.ok(); at += part_size) {
    const int number = static_cast<int>(parts.size()) + 1;
    Call call = NewCall("PUT", to, fmt::format("copy part {} to", number), cancel);
    call.query = {{"partNumber", std::to_string(number)}, {"uploadId", upload.id}};
    call.headers = {
        {"x-amz-copy-source",
         PercentEncode(options_.bucket + "/" + options_.prefix + from, KeepSlash::kYes)},
        {"x-amz-copy-source-if-match", "\"" + version + "\""},
        {"x-amz-copy-source-range",
         fmt::format("bytes={}-{}", at, std::min(at + part_size, size) - 1)}};
    call.slow_answer = true;
    const auto response = wire_.Send(call);
    if (!response.ok()) {
      failed = response.error();
      break;
    }
    const auto etag = ParseEtagResult(response->body, "CopyPartResult");
    if (!etag.ok()) {
      failed = etag.error();
      break;
    }
    parts.push_back({number, std::min(part_size, size - at), *etag});
  }
  if (failed.ok()) {
    auto done = CompleteParts(upload, parts, only_if, cancel);
    if (done.ok()) return done;
    failed = done.error();
  }
  Ignore(AbortParts(upload, nullptr));
  return failed.error();
}

Result<bool> S3Provider::HoldsContent(const std::string&, const Entry& entry, WriteSource* source,
                                      const Cancel&) {
  if (entry.size != source->Size()) return false;
  const auto check = CheckOf(entry.version, entry.size);
  return check && JudgeAll(check.get(), source) == ContentCheck::Verdict::kRight;
}

}  // namespace pargeter::s3
