// Uploads in parts to the simulated store.
#include <fmt/format.h>

#include <algorithm>
#include <pugixml.hpp>

#include "base/digest.h"
#include "base/text.h"
#include "provider/s3/s3_xml.h"
#include "s3_impl.h"

namespace pargeter::standin {

void S3Server::Impl::PutPart(const Request& request, const Ask& ask,
                             std::shared_ptr<const Body> body, std::string md5,
                             Response& response) {
  const int number = std::atoi(ask.Value("partNumber").c_str());
  if (number < 1 || number > 10000)
    return Refuse(response, ask, {400, "InvalidArgument", "part number"});
  const bool copy = request.has_header("x-amz-copy-source");
  if (copy) {
    std::string source = request.get_header_value("x-amz-copy-source");
    if (!source.empty() && source[0] == '/') source.erase(0, 1);
    const auto slash = source.find('/');
    const auto object = store_.Get(source.substr(0, slash), source.substr(slash + 1));
    if (!object) return Refuse(response, ask, {404, "NoSuchKey", "no such source"});
    std::uint64_t first = 0, last = object->body->size - 1;
    std::sscanf(request.get_header_value("x-amz-copy-source-range").c_str(), "bytes=%lu-%lu",
                &first, &last);
    ObjectStore::Writer writer(&store_);
    Md5Stream digest;
    for (std::uint64_t at = first; at <= last; at += 4u << 20) {
      auto piece = ReadBody(*object->body, at, std::min<std::uint64_t>(4u << 20, last - at + 1));
      if (!piece.ok() || !writer.Append(*piece).ok())
        return Refuse(response, ask, {500, "InternalError", "disk"});
      digest.Update(*piece);
    }
    body = *writer.Finish();
    md5 = digest.Finish();
  }
  if (!store_.PutPart(ask.Value("uploadId"), number, {body, md5})) {
    return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
  }
  if (copy) {
    return SendXml(response, "<CopyPartResult><ETag>\"" + Hex(md5) + "\"</ETag></CopyPartResult>");
  }
  response.set_header("ETag", "\"" + Hex(md5) + "\"");
  response.status = 200;
}

void S3Server::Impl::ListParts(const Ask& ask, Response& response) {
  const auto upload = store_.FindUpload(ask.Value("uploadId"));
  if (!upload) return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
  std::string xml = "<ListPartsResult>";
  for (const auto& [number, part] : upload->parts) {
    xml += fmt::format("<Part><PartNumber>{}</PartNumber><ETag>\"{}\"</ETag><Size>{}</Size></Part>",
                       number, Hex(part.md5), part.body->size);
  }
  SendXml(response, xml + "<IsTruncated>false</IsTruncated></ListPartsResult>");
}

void S3Server::Impl::ListUploads(const Ask& ask, Response& response) {
  std::string xml = "<ListMultipartUploadsResult>";
  const std::string prefix = ask.Value("prefix");
  for (const auto& [id, upload] : store_.Uploads()) {
    if (upload.bucket != ask.bucket || upload.key.compare(0, prefix.size(), prefix) != 0) continue;
    xml += "<Upload><Key>" + Xml(upload.key) + "</Key><UploadId>" + id + "</UploadId></Upload>";
  }
  SendXml(response, xml + "<IsTruncated>false</IsTruncated></ListMultipartUploadsResult>");
}

void S3Server::Impl::Complete(const Ask& ask, const std::shared_ptr<const Body>& body,
                              Response& response) {
  const std::string id = ask.Value("uploadId");
  const auto upload = store_.FindUpload(id);
  if (!upload) return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
  pugi::xml_document document;
  if (!document.load_buffer(body->bytes.data(), body->bytes.size())) {
    return Refuse(response, ask, {400, "MalformedXML", "no XML"});
  }
  std::vector<std::shared_ptr<const Body>> bodies;
  std::string digests;
  int last = 0;
  for (const auto& node : document.document_element().children("Part")) {
    const int number = node.child("PartNumber").text().as_int();
    const auto part = upload->parts.find(number);
    if (number <= last) return Refuse(response, ask, {400, "InvalidPartOrder", "out of order"});
    if (part == upload->parts.end() ||
        PlainEtag(node.child_value("ETag")) != Hex(part->second.md5)) {
      return Refuse(response, ask, {400, "InvalidPart", "no such part"});
    }
    last = number;
    bodies.push_back(part->second.body);
    digests += part->second.md5;
  }
  if (bodies.empty()) return Refuse(response, ask, {400, "MalformedXML", "no parts"});
  auto joined = store_.Join(bodies);
  if (!joined.ok()) return Refuse(response, ask, {500, "InternalError", joined.error().what});
  const std::string etag = fmt::format("{}-{}", Hex(Md5(digests)), bodies.size());
  KeepFormer(ask.bucket, ask.key);
  Ignore(store_.Put(ask.bucket, ask.key, Stored(*joined, etag, Now(), upload->metadata), {}));
  store_.DropUpload(id);
  SendXml(response, "<CompleteMultipartUploadResult><ETag>\"" + etag +
                        "\"</ETag></CompleteMultipartUploadResult>");
}

void S3Server::Impl::DropUpload(const Ask& ask, Response& response) {
  const bool known = store_.FindUpload(ask.Value("uploadId")).has_value();
  store_.DropUpload(ask.Value("uploadId"));
  if (!known) return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
  response.status = 204;
}

}  // namespace pargeter::standin
