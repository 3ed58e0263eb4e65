// Objects and listings of the simulated store.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>

#include <algorithm>
#include <pugixml.hpp>
#include <set>

#include "base/digest.h"
#include "base/text.h"
#include "http_date.h"
#include "net/uri.h"
#include "provider/s3/s3_xml.h"
#include "s3_impl.h"

namespace pargeter::standin {
namespace {

// A mapped file for as long as an answer needs it.
struct Mapping {
  const char* data = nullptr;
  std::size_t size = 0;
  std::shared_ptr<const Body> body;
  ~Mapping() {
    if (data != nullptr) ::munmap(const_cast<char*>(data), size);
  }
};

}  // namespace

void S3Server::Impl::KeepFormer(const std::string& bucket, const std::string& key) {
  if (!options_.versions) return;
  const auto before = store_.Get(bucket, key);
  const Lock lock(former_mutex_);
  if (before) former_[bucket + "/" + key].push_back(*before);
}

std::vector<Object> S3Server::Impl::FormerOf(const std::string& bucket, const std::string& key) {
  const Lock lock(former_mutex_);
  const auto it = former_.find(bucket + "/" + key);
  return it == former_.end() ? std::vector<Object>() : it->second;
}

void S3Server::Impl::ListVersions(const Ask& ask, Response& response) {
  ListRequest list;
  list.prefix = ask.Value("prefix");
  std::string xml = "<ListVersionsResult><EncodingType>url</EncodingType>";
  for (const auto& [key, object] : store_.List(ask.bucket, list).keys) {
    std::vector<Object> all = FormerOf(ask.bucket, key);
    all.push_back(object);
    for (std::size_t i = all.size(); i > 0; --i)
      xml += fmt::format(
          "<Version><Key>{}</Key><VersionId>{}</VersionId><IsLatest>{}</IsLatest>"
          "<LastModified>{}</LastModified><Size>{}</Size></Version>",
          PercentEncode(key), options_.versions ? fmt::format("v{}", i) : "null",
          i == all.size() ? "true" : "false", Iso(all[i - 1].modified), all[i - 1].body->size);
  }
  SendXml(response, xml + "<IsTruncated>false</IsTruncated></ListVersionsResult>");
}

Object S3Server::Impl::Stored(std::shared_ptr<const Body> body, std::string etag, Nanos now,
                              std::map<std::string, std::string> metadata) {
  return Object{std::move(body), std::move(etag), now, std::move(metadata)};
}

bool S3Server::Impl::IsSaidOfContent(const std::string& header) {
  static const std::set<std::string> all = {"cache-control",    "content-disposition",
                                            "content-encoding", "content-language",
                                            "content-type",     "expires",
                                            kEncryption};
  return all.count(header) > 0;
}

std::map<std::string, std::string> S3Server::Impl::MetadataIn(const Request& request) {
  std::map<std::string, std::string> metadata;
  for (const auto& [name, value] : request.headers) {
    const std::string lower = Lower(name);
    if (lower.compare(0, 11, "x-amz-meta-") == 0 || IsSaidOfContent(lower)) metadata[lower] = value;
  }
  return metadata;
}

Condition S3Server::Impl::ConditionIn(const Request& request) {
  Condition condition;
  condition.if_none_match = request.get_header_value("If-None-Match") == "*";
  if (request.has_header("If-Match")) {
    condition.if_match = PlainEtag(request.get_header_value("If-Match"));
  }
  return condition;
}

void S3Server::Impl::ListBuckets(Response& response) {
  std::string xml = "<ListAllMyBucketsResult><Buckets>";
  for (const std::string& name : store_.Buckets())
    xml += "<Bucket><Name>" + Xml(name) + "</Name></Bucket>";
  SendXml(response, xml + "</Buckets></ListAllMyBucketsResult>");
}

void S3Server::Impl::List(const Ask& ask, Response& response) {
  ListRequest list;
  list.prefix = ask.Value("prefix");
  list.delimiter = ask.Value("delimiter");
  const std::string token = ask.Value("continuation-token");
  list.after = token.empty() ? ask.Value("start-after") : PercentDecode(token);
  const std::string max = ask.Value("max-keys");
  if (!max.empty()) list.max_keys = std::clamp(std::atoi(max.c_str()), 0, 1000);
  const bool encode = ask.Value("encoding-type") == "url";
  const auto spell = [&](const std::string& key) { return encode ? PercentEncode(key) : Xml(key); };
  const ListAnswer answer = store_.List(ask.bucket, list);
  std::string xml = "<ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Name>" +
                    Xml(ask.bucket) + "</Name>";
  if (encode) xml += "<EncodingType>url</EncodingType>";
  xml += fmt::format("<KeyCount>{}</KeyCount><MaxKeys>{}</MaxKeys>",
                     answer.keys.size() + answer.prefixes.size(), list.max_keys);
  for (const auto& [key, object] : answer.keys) {
    xml += "<Contents><Key>" + spell(key) + "</Key><LastModified>" + Iso(object.modified) +
           "</LastModified><ETag>&quot;" + object.etag + "&quot;</ETag><Size>" +
           std::to_string(object.body->size) + "</Size></Contents>";
  }
  for (const std::string& prefix : answer.prefixes) {
    xml += "<CommonPrefixes><Prefix>" + spell(prefix) + "</Prefix></CommonPrefixes>";
  }
  xml += fmt::format("<IsTruncated>{}</IsTruncated>", answer.next_after.empty() ? "false" : "true");
  if (!answer.next_after.empty()) {
    xml +=
        "<NextContinuationToken>" + PercentEncode(answer.next_after) + "</NextContinuationToken>";
  }
  SendXml(response, xml + "</ListBucketResult>");
}

void S3Server::Impl::GetObject(const Request& request, const Ask& ask, Response& response) {
  auto object = store_.Get(ask.bucket, ask.key);
  if (const std::string id = ask.Value("versionId"); object && !id.empty() && id != "null") {
    const std::vector<Object> former = FormerOf(ask.bucket, ask.key);
    const std::size_t number = std::strtoull(id.c_str() + 1, nullptr, 10);
    if (number == 0 || number > former.size() + 1)
      object.reset();
    else if (number <= former.size())
      object = former[number - 1];
  }
  if (!object) return Refuse(response, ask, {404, "NoSuchKey", "no such key"});
  const std::string if_match = PlainEtag(request.get_header_value("If-Match"));
  if (!if_match.empty() && if_match != "*" && if_match != object->etag) {
    return Refuse(response, ask, {412, "PreconditionFailed", "another version is there"});
  }
  if (PlainEtag(request.get_header_value("If-None-Match")) == object->etag) {
    response.status = 304;
    return;
  }
  std::uint64_t offset = 0, size = object->body->size;
  response.status = 200;
  const std::string range = request.get_header_value("Range");
  std::uint64_t first = 0, last = 0;
  const int found = std::sscanf(range.c_str(), "bytes=%lu-%lu", &first, &last);
  if (found >= 1) {
    if (first >= size) return Refuse(response, ask, {416, "InvalidRange", "past the end"});
    if (found == 1 || last >= size) last = size - 1;
    offset = first;
    response.set_header("Content-Range", fmt::format("bytes {}-{}/{}", first, last, size));
    size = last - first + 1;
    response.status = 206;
  }
  for (const auto& [name, value] : object->metadata) {
    if (name != "content-type") response.set_header(name, value);
  }
  response.set_header("ETag", "\"" + object->etag + "\"");
  response.set_header("Last-Modified", HttpDate(object->modified));
  response.set_header("Accept-Ranges", "bytes");
  SendBody(*object, offset, size, ask, response);
}

void S3Server::Impl::SendBody(const Object& object, std::uint64_t offset, std::uint64_t size,
                              const Ask& ask, Response& response) {
  const auto said = object.metadata.find("content-type");
  const std::string type =
      said == object.metadata.end() ? "application/octet-stream" : said->second;
  if (size == 0) {
    response.set_content("", type);
    return;
  }
  auto mapping = std::make_shared<Mapping>();
  mapping->body = object.body;
  if (!object.body->file.empty()) {
    const Fd fd(::open(object.body->file.c_str(), O_RDONLY | O_CLOEXEC));
    void* at =
        fd ? ::mmap(nullptr, object.body->size, PROT_READ, MAP_SHARED, fd.get(), 0) : MAP_FAILED;
    if (at == MAP_FAILED) return Refuse(response, ask, {500, "InternalError", "body lost"});
    mapping->data = static_cast<const char*>(at);
    mapping->size = object.body->size;
  }
  const bool cut = ask.plan.cut.has_value(), corrupt = ask.plan.corrupt.has_value();
  response.set_content_provider(size, type,
                                [this, mapping, offset, size, cut, corrupt](
                                    std::size_t at, std::size_t length, httplib::DataSink& sink) {
                                  length = std::min<std::size_t>(length, 1u << 20);
                                  if (cut && at + length > size / 2) return false;
                                  Pace(length);
                                  if (mapping->data != nullptr && !corrupt)
                                    return sink.write(mapping->data + offset + at, length);
                                  auto piece = ReadBody(*mapping->body, offset + at, length);
                                  if (!piece.ok()) return false;
                                  if (corrupt && at == 0) (*piece)[piece->size() / 2] ^= 0x20;
                                  return sink.write(piece->data(), piece->size());
                                });
}

void S3Server::Impl::CopyObject(const Request& request, const Ask& ask, Response& response) {
  std::string source = request.get_header_value("x-amz-copy-source");
  if (!source.empty() && source[0] == '/') source.erase(0, 1);
  const auto slash = source.find('/');
  const auto object = store_.Get(source.substr(0, slash),
                                 slash == std::string::npos ? "" : source.substr(slash + 1));
  if (!object) return Refuse(response, ask, {404, "NoSuchKey", "no such source"});
  const std::string want = PlainEtag(request.get_header_value("x-amz-copy-source-if-match"));
  if (!want.empty() && want != object->etag) {
    return Refuse(response, ask, {412, "PreconditionFailed", "the source was changed"});
  }
  Object copy = *object;
  copy.modified = Now();
  if (copy.etag.find('-') != std::string::npos) copy.etag = Hex(Md5(copy.etag + source));
  if (request.get_header_value("x-amz-metadata-directive") == "REPLACE")
    copy.metadata = MetadataIn(request);
  copy.metadata.erase(kEncryption);  // as the bucket has it now
  const bool sealed = options_.etags == "sealed";
  if (sealed) copy.metadata[kEncryption] = "aws:kms";
  if (sealed) response.set_header(kEncryption, "aws:kms");
  if (sealed || object->metadata.count(kEncryption) > 0) {
    const auto all = ReadBody(*object->body, 0, object->body->size);
    if (!all.ok()) return Refuse(response, ask, {500, "InternalError", "disk"});
    copy.etag = Hex(Md5(sealed ? "sealed" + Hex(Md5(*all)) + ask.key : *all));
  }
  if (!store_.Put(ask.bucket, ask.key, copy, ConditionIn(request)).ok()) {
    return Refuse(response, ask, {412, "PreconditionFailed", "the target is there"});
  }
  SendXml(response, "<CopyObjectResult><ETag>\"" + copy.etag + "\"</ETag><LastModified>" +
                        Iso(copy.modified) + "</LastModified></CopyObjectResult>");
}

void S3Server::Impl::DeleteMany(const Ask& ask, const std::shared_ptr<const Body>& body,
                                Response& response) {
  const auto text = ReadBody(*body, 0, body->size);
  pugi::xml_document document;
  if (!text.ok() || !document.load_buffer(text->data(), text->size(),
                                          pugi::parse_default | pugi::parse_ws_pcdata_single)) {
    return Refuse(response, ask, {400, "MalformedXML", "no XML"});
  }
  int count = 0;
  for (const auto& node : document.document_element().children("Object")) {
    if (++count > 1000) return Refuse(response, ask, {400, "MalformedXML", "over 1000 keys"});
    Ignore(store_.Delete(ask.bucket, node.child_value("Key"), {}));
  }
  SendXml(response, "<DeleteResult></DeleteResult>");
}

void S3Server::Impl::PutObject(const Request& request, const Ask& ask,
                               const std::shared_ptr<const Body>& body, const std::string& md5,
                               Response& response) {
  Object object = Stored(body, Hex(md5), Now(), MetadataIn(request));
  if (options_.etags == "sealed") object.metadata[kEncryption] = "aws:kms";
  const bool sealed = object.metadata.count(kEncryption) > 0;
  if (sealed) response.set_header(kEncryption, object.metadata[kEncryption]);
  if (sealed || options_.etags == "opaque") object.etag = Hex(Md5("sealed" + object.etag));
  KeepFormer(ask.bucket, ask.key);
  const Status put = store_.Put(ask.bucket, ask.key, object, ConditionIn(request));
  if (!put.ok())
    return Refuse(response, ask, {412, "PreconditionFailed", "the condition does not hold"});
  response.set_header("ETag", "\"" + object.etag + "\"");
  response.status = 200;
}

}  // namespace pargeter::standin
