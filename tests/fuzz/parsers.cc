#include "fuzz/parsers.h"

#include <cstdio>
#include <cstdlib>

#include "base/clock.h"
#include "base/text.h"
#include "base/units.h"
#include "cache/range_set.h"
#include "config/toml_file.h"
#include "control/rpc.h"
#include "engine/api/naming.h"
#include "engine/api/residency.h"
#include "net/oauth.h"
#include "net/uri.h"
#include "net/web_link.h"
#include "provider/attributes.h"
#include "provider/s3/s3_provider.h"
#include "provider/s3/s3_xml.h"
#include "provider/sftp/sftp_wire.h"
#include "provider/webdav/dav_xml.h"

namespace pargeter::test {
namespace {

void Promise(bool held, const char* what) {
  if (held) return;
  std::fprintf(stderr, "broken promise: %s\n", what);
  std::abort();
}

void Xml(std::string_view data) {
  const auto listing = s3::ParseListing(data);
  if (listing.ok())
    Promise(listing->keys.size() + listing->prefixes.size() <= 10000, "a page is bounded");
  s3::ParseError(data);
  Ignore(s3::ParseBuckets(data));
  Ignore(s3::ParseUploadId(data));
  Ignore(s3::ParseParts(data));
  Ignore(s3::ParseUploads(data));
  Ignore(s3::ParseVersions(data));
  Ignore(s3::ParseEtagResult(data, "CopyObjectResult"));
  Ignore(s3::ParseDeleteResult(data));
  if (const auto answer = webdav::ParseMultistatus(data); answer.ok()) {
    for (const webdav::Item& item : answer->items) {
      Promise(item.path.empty() || item.path.back() != '/', "a path has no slash at its end");
      UnpackAttributes(item.attributes);
      Promise(UnpackLink(item.link).find('\0') == std::string::npos, "a link has no NUL");
    }
  }
}

void JsonMessage(std::string_view data) {
  const std::string line(data);
  const auto request = ParseRequest(line);
  if (request.ok()) {
    const auto again = ParseRequest(RequestLine(1, request->method, request->params));
    Promise(again.ok() && again->method == request->method, "a request survives being said again");
  }
  Ignore(ParseAnswer(line));
  if (const auto tokens = oauth::Unpack(line); tokens.ok())
    Promise(oauth::Unpack(oauth::Pack(*tokens)).ok(), "tokens survive being kept");
  if (const auto rules = ParseSharedRules(line); rules.ok()) {
    const auto again = ParseSharedRules(WriteSharedRules(*rules));
    Promise(again.ok() && again->size() == rules->size(), "rules survive being written again");
  }
  Promise(IsUtf8(JsonText(data)), "JSON text is UTF-8");
}

void Toml(std::string_view data) {
  auto file = TomlFile::Parse(std::string(data), "fuzz.toml");
  if (!file.ok()) return;
  Ignore(file->String("", "kind"));
  for (const std::string& section : file->Sections()) file->Keys(section);
  const auto before = file->Keys("");
  if (!file->SetString("", "label", data.substr(0, 40)).ok()) return;
  const auto label = file->String("", "label");
  Promise(label.ok() && label->has_value() && **label == data.substr(0, 40),
          "what was set is read");
  const auto again = TomlFile::Parse(file->text(), "fuzz.toml");
  Promise(again.ok(), "a changed file is still TOML");
  Promise(again->Keys("").size() >= before.size(), "other keys stay");
  if (file->Remove("", "label").ok()) Promise(!file->Has("", "label"), "what was removed is gone");
  for (const std::string& section : file->Sections()) {
    if (!file->RemoveSection(section).ok()) continue;
    for (const std::string& left : file->Sections())
      Promise(left != section, "a section that was removed is gone");
  }
}

void Headers(std::string_view data) {
  HttpHead head;
  const std::string value(data);
  for (const char* name :
       {"x-amz-meta-pargeter", "x-amz-meta-pargeter-link", "etag", "retry-after"})
    head.headers.emplace_back(name, value);
  for (const std::string& part : Split(value, '\n')) {
    const auto colon = part.find(':');
    if (colon != std::string::npos)
      head.headers.emplace_back(part.substr(0, colon), part.substr(colon + 1));
  }
  const Attributes a = s3::AttributesOf(head);
  Promise(!a.mode || *a.mode <= 07777, "a mode has permission bits only");
  Promise(!a.symlink || a.symlink->find('\0') == std::string::npos, "a link's target has no NUL");
  Promise(a.origin.size() <= 64, "an origin is short");
  PlainEtag(data);
  const Endpoint server{"https", "drive.test", "drive.test", ""};
  for (const WebLink& link : ParseWebLinks(data)) {
    const std::string target = LocalTarget(link.target, server);
    Promise(target.empty() || (target[0] == '/' && target.find('\n') == std::string::npos),
            "a target is a path of the server in one line");
  }
  ParseHttpDate(value.c_str());
  ParseRfc3339(value.c_str());
  Ignore(ParseSize(value));
  Ignore(ParseDuration(value));
  Ignore(ParseEndpoint(value));
  Base64Decode(value);
}

void Names(std::string_view data) {
  const std::string key(data.substr(0, 1024));
  if (key.find('/') == std::string::npos) {
    const std::string name = KeyToName(key);
    Promise(!name.empty() && name != "." && name != "..", "a name stays in its folder");
    Promise(name.find('/') == std::string::npos && name.find('\0') == std::string::npos,
            "a name is one the file system can hold");
    Promise(NameToKey(name) == key, "a name leads back to its key");
    Promise(ShortenName(name).size() <= kMaxName, "a shown name fits");
  }
  const RangeSet set = RangeSet::Parse(data);
  Promise(RangeSet::Parse(set.Serialize()).All() == set.All(), "ranges survive being written down");
  Printable(data);
}

// What comes over SFTP.
void Packets(std::string_view data) {
  if (const auto names = sftp::ReadNames(data); names.ok())
    Promise(names->size() <= data.size() / 12, "no more names than bytes for them");
  sftp::Reader in(data);
  sftp::ReadAttributes(&in);
  Promise(in.left() <= data.size(), "a reader never goes past the end");
  sftp::Reader status(data);
  const std::uint32_t number = status.U32();
  const Error error = sftp::ErrorOfStatus(number, status.Text(), "x");
  Promise(!error.what.empty() && error.what.size() < 400, "a refusal is a sentence");
}

}  // namespace

const std::map<std::string, std::function<void(std::string_view)>>& Parsers() {
  static const std::map<std::string, std::function<void(std::string_view)>> all = {
      {"xml", Xml},         {"json", JsonMessage}, {"toml", Toml},
      {"headers", Headers}, {"names", Names},      {"packets", Packets}};
  return all;
}

}  // namespace pargeter::test
