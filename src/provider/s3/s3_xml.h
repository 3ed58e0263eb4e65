// The XML documents of the S3 protocol, read defensively: they come from outside. A document that
// is not well-formed, nests deeply or lacks its root is kDamaged. No external or internal entity
// beyond the five predefined ones is ever expanded.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "net/http_client.h"
#include "provider/provider.h"

namespace pargeter::s3 {

struct ListedKey {
  std::string key;
  std::uint64_t size = 0;
  Nanos modified = 0;
  std::string etag;
};
struct Listing {
  std::vector<ListedKey> keys;
  std::vector<std::string> prefixes;
  std::string next_token;  // "" = complete
};
Result<Listing> ParseListing(std::string_view xml);

struct ListedVersion {
  ListedKey key;
  std::string id;
  bool latest = false;
};
struct VersionPage {
  std::vector<ListedVersion> versions;
  std::string next_key, next_id;  // "" = complete
};
Result<VersionPage> ParseVersions(std::string_view xml);

struct ErrorDocument {
  std::string code, message, region;
};
// An answer that is no error document gives empty fields.
ErrorDocument ParseError(std::string_view xml);

Result<std::vector<std::string>> ParseBuckets(std::string_view xml);
Result<std::string> ParseUploadId(std::string_view xml);
struct PartPage {
  std::vector<UploadedPart> parts;
  int next_marker = 0;  // 0 = complete
};
Result<PartPage> ParseParts(std::string_view xml);
struct UploadPage {
  std::vector<std::pair<std::string, std::string>> uploads;  // key, upload id
  std::string next_key, next_id;                             // "" = complete
};
Result<UploadPage> ParseUploads(std::string_view xml);
// CompleteMultipartUpload and CopyObject answer 200 and may still carry an error: `etag` or error.
Result<std::string> ParseEtagResult(std::string_view xml, std::string_view root);
// The keys that DeleteObjects could not delete.
Result<std::vector<std::pair<std::string, Error>>> ParseDeleteResult(std::string_view xml);

std::string CompleteDocument(const std::vector<UploadedPart>& parts);
std::string DeleteDocument(const std::vector<std::string>& keys);

// The error of a refused request, by its code where it gives one and by its status otherwise.
Error ErrorOf(int status, const ErrorDocument& document, std::string_view what);

}  // namespace pargeter::s3
