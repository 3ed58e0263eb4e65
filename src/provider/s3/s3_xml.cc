#include "provider/s3/s3_xml.h"

#include <fmt/format.h>

#include "base/text.h"
#include "net/uri.h"
#include "provider/xml.h"

namespace pargeter::s3 {

using xml::Child;
using xml::Escape;
using xml::Named;
using xml::NumberIn;
using xml::Root;
using xml::Text;

Result<Listing> ParseListing(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "ListBucketResult"));
  const bool encoded = Text(root, "EncodingType") == "url";
  const auto decode = [&](std::string name) { return encoded ? PercentDecode(name) : name; };
  Listing listing;
  for (const pugi::xml_node& node : root.children()) {
    if (Named(node, "Contents")) {
      ListedKey key;
      key.key = decode(Text(node, "Key"));
      key.size = NumberIn<std::uint64_t>(node, "Size");
      key.modified = ParseRfc3339(Text(node, "LastModified").c_str());
      key.etag = PlainEtag(Text(node, "ETag"));
      listing.keys.push_back(std::move(key));
    } else if (Named(node, "CommonPrefixes")) {
      listing.prefixes.push_back(decode(Text(node, "Prefix")));
    }
  }
  if (Text(root, "IsTruncated") == "true") {
    listing.next_token = Text(root, "NextContinuationToken");
    if (listing.next_token.empty()) {
      return Error(Code::kDamaged, "the store's listing says that it goes on but not where");
    }
  }
  return listing;
}

Result<VersionPage> ParseVersions(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "ListVersionsResult"));
  const bool encoded = Text(root, "EncodingType") == "url";
  const auto decode = [&](std::string name) { return encoded ? PercentDecode(name) : name; };
  VersionPage page;
  for (const pugi::xml_node& node : root.children()) {
    if (!Named(node, "Version")) continue;  // a marker of a deletion has no bytes
    ListedVersion version;
    version.key.key = decode(Text(node, "Key"));
    version.key.size = NumberIn<std::uint64_t>(node, "Size");
    version.key.modified = ParseRfc3339(Text(node, "LastModified").c_str());
    version.id = Text(node, "VersionId");
    version.latest = Text(node, "IsLatest") == "true";
    page.versions.push_back(std::move(version));
  }
  if (Text(root, "IsTruncated") == "true") {
    page.next_key = decode(Text(root, "NextKeyMarker"));
    page.next_id = Text(root, "NextVersionIdMarker");
  }
  return page;
}

ErrorDocument ParseError(std::string_view text) {
  ErrorDocument out;
  pugi::xml_document document;
  const auto root = Root(document, text, "Error");
  if (!root.ok()) return out;
  out.code = Text(*root, "Code");
  out.message = Printable(Text(*root, "Message")).substr(0, 300);
  out.region = Printable(Text(*root, "Region")).substr(0, 64);
  return out;
}

Result<std::vector<std::string>> ParseBuckets(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "ListAllMyBucketsResult"));
  std::vector<std::string> names;
  for (const pugi::xml_node& node : Child(root, "Buckets").children()) {
    if (Named(node, "Bucket")) names.push_back(Text(node, "Name"));
  }
  return names;
}

Result<std::string> ParseUploadId(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "InitiateMultipartUploadResult"));
  const std::string id = Text(root, "UploadId");
  if (id.empty()) return Error(Code::kDamaged, "the store began an upload without naming it");
  return id;
}

Result<PartPage> ParseParts(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "ListPartsResult"));
  PartPage page;
  for (const pugi::xml_node& node : root.children()) {
    if (!Named(node, "Part")) continue;
    page.parts.push_back({NumberIn<int>(node, "PartNumber"), NumberIn<std::uint64_t>(node, "Size"),
                          PlainEtag(Text(node, "ETag"))});
  }
  if (Text(root, "IsTruncated") == "true")
    page.next_marker = NumberIn<int>(root, "NextPartNumberMarker");
  return page;
}

Result<UploadPage> ParseUploads(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "ListMultipartUploadsResult"));
  const bool encoded = Text(root, "EncodingType") == "url";
  const auto decode = [&](std::string name) { return encoded ? PercentDecode(name) : name; };
  UploadPage page;
  for (const pugi::xml_node& node : root.children()) {
    if (Named(node, "Upload")) {
      page.uploads.emplace_back(decode(Text(node, "Key")), Text(node, "UploadId"));
    }
  }
  if (Text(root, "IsTruncated") == "true") {
    page.next_key = decode(Text(root, "NextKeyMarker"));
    page.next_id = Text(root, "NextUploadIdMarker");
  }
  return page;
}

Result<std::string> ParseEtagResult(std::string_view text, std::string_view root_name) {
  const ErrorDocument error = ParseError(text);
  if (!error.code.empty()) return ErrorOf(200, error, "the store could not finish");
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, root_name));
  return PlainEtag(Text(root, "ETag"));
}

Result<std::vector<std::pair<std::string, Error>>> ParseDeleteResult(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "DeleteResult"));
  std::vector<std::pair<std::string, Error>> failed;
  for (const pugi::xml_node& node : root.children()) {
    if (!Named(node, "Error")) continue;
    const ErrorDocument error{Text(node, "Code"), Printable(Text(node, "Message")), ""};
    failed.emplace_back(Text(node, "Key"), ErrorOf(200, error, "the store did not delete it"));
  }
  return failed;
}

std::string CompleteDocument(const std::vector<UploadedPart>& parts) {
  std::string out = "<CompleteMultipartUpload>";
  for (const UploadedPart& part : parts) {
    out += fmt::format("<Part><PartNumber>{}</PartNumber><ETag>\"{}\"</ETag></Part>", part.number,
                       part.tag);
  }
  return out + "</CompleteMultipartUpload>";
}

std::string DeleteDocument(const std::vector<std::string>& keys) {
  std::string out = "<Delete><Quiet>true</Quiet>";
  for (const std::string& key : keys) {
    out += "<Object><Key>" + Escape(key) + "</Key></Object>";
  }
  return out + "</Delete>";
}

Error ErrorOf(int status, const ErrorDocument& document, std::string_view what) {
  struct Row {
    std::string_view code;
    Code maps_to;
    std::string_view why;
    std::string_view remedy;
  };
  static constexpr Row kRows[] = {
      {"NoSuchKey", Code::kNotFound, "there is no such object", ""},
      {"NoSuchUpload", Code::kNotFound, "the upload in parts is no longer known", ""},
      {"NoSuchBucket", Code::kNotFound, "there is no such bucket",
       "Check the bucket's name with: pargeter account browse ACCOUNT"},
      {"AccessDenied", Code::kPermission, "the store does not allow it",
       "Give the key the right to do this, or use another account."},
      {"SignatureDoesNotMatch", Code::kSignIn, "the secret does not fit the key id",
       "Give both anew: pargeter account change ACCOUNT --key-id ID --secret-file FILE"},
      {"InvalidAccessKeyId", Code::kSignIn, "the store does not know the key id",
       "Give it anew: pargeter account change ACCOUNT --key-id ID --secret-file FILE"},
      {"InvalidToken", Code::kSignIn, "the store does not take the session token",
       "Give a new one: pargeter account change ACCOUNT --session-token-file FILE"},
      {"ExpiredToken", Code::kSignIn, "the session token has lapsed",
       "Give a new key: pargeter account change ACCOUNT --key-id ID --secret-file FILE "
       "--session-token-file FILE"},
      {"RequestTimeTooSkewed", Code::kSignIn,
       "this machine's clock and the store's differ too much",
       "Set this machine's clock (timedatectl set-ntp true) and try again."},
      {"PreconditionFailed", Code::kChanged, "another version is there", ""},
      {"ConditionalRequestConflict", Code::kChanged, "another upload was under way", ""},
      {"BadDigest", Code::kDamaged, "the bytes were damaged on their way", ""},
      {"XAmzContentSHA256Mismatch", Code::kDamaged, "the bytes were damaged on their way", ""},
      {"InvalidRange", Code::kChanged, "the object is shorter than it was", ""},
      {"InvalidPart", Code::kChanged, "a part of the upload is no longer there", ""},
      {"SlowDown", Code::kThrottled, "the store asks to slow down", ""},
      {"ServiceUnavailable", Code::kThrottled, "the store is too busy", ""},
      {"InternalError", Code::kStoreFault, "the store had an inner error", ""},
      {"RequestTimeout", Code::kStoreFault, "the store waited too long for our bytes", ""},
      {"NotImplemented", Code::kUnsupported, "the store cannot do that", ""},
      {"KeyTooLongError", Code::kNameTooLong, "the name is too long for the store", ""},
      {"InvalidObjectName", Code::kInvalid, "the store does not accept that name", ""},
      {"EntityTooLarge", Code::kTooLarge, "it is larger than the store takes in one request",
       "Set smaller parts: pargeter account change ACCOUNT --part-size 5MiB"},
      {"QuotaExceeded", Code::kOverQuota, "the account is full", ""},
  };
  const std::string words = document.message.empty() ? "" : " (" + document.message + ")";
  for (const Row& row : kRows) {
    if (row.code == document.code) {
      return Error(row.maps_to, fmt::format("{}: {}{}", what, row.why, words),
                   std::string(row.remedy));
    }
  }
  if (document.code == "AuthorizationHeaderMalformed" || document.code == "PermanentRedirect" ||
      status == 301 || status == 307) {
    return Error(
        Code::kInvalid, fmt::format("{}: the store wants another region or address{}", what, words),
        document.region.empty() ? "Set the region or the endpoint that the store names."
                                : "Add the account again with --region " + document.region);
  }
  Code code = Code::kInternal;
  switch (status) {
    case 400:
      code = Code::kInvalid;
      break;
    case 401:
      code = Code::kSignIn;
      break;
    case 403:
      code = Code::kPermission;
      break;
    case 404:
      code = Code::kNotFound;
      break;
    case 405:
    case 501:
      code = Code::kUnsupported;
      break;
    case 408:
    case 500:
    case 502:
    case 504:
      code = Code::kStoreFault;
      break;
    case 409:
    case 412:
      code = Code::kChanged;
      break;
    case 413:
      return ErrorOf(status, {"EntityTooLarge", "", ""}, what);
    case 416:
      code = Code::kChanged;
      break;
    case 429:
    case 503:
      code = Code::kThrottled;
      break;
    case 507:
      code = Code::kOverQuota;
      break;
    default:
      code = status >= 500 ? Code::kStoreFault : Code::kInvalid;
  }
  return Error(code,
               fmt::format("{}: HTTP {}{}{}", what, status,
                           document.code.empty() ? "" : " " + Printable(document.code), words));
}

}  // namespace pargeter::s3
