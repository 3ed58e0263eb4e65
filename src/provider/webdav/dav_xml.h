// The XML documents of WebDAV, RFC 4918 section 14, read defensively: they come from outside.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/clock.h"
#include "base/error.h"

namespace pargeter::webdav {

// One response of a multistatus.
struct Item {
  std::string path;  // of its href, decoded, without host and trailing slash
  int status = 200;  // of the item itself; 404: what a listing of changes says is gone
  bool folder = false;
  std::uint64_t size = 0;  // bytes
  Nanos modified = 0;      // by the server's clock, mostly in whole seconds
  std::string etag;        // with quotes and weak mark, as a condition wants it; "": it has none
  std::string attributes, link;                              // our own properties
  bool attributes_answered = false;                          // the server said whether it has them
  bool locks = false;                                        // exclusive write locks are offered
  std::optional<std::uint64_t> quota_used, quota_available;  // RFC 4331, bytes
  std::optional<bool> may_write;                             // RFC 3744 section 5.5
  std::string sync_token;                                    // RFC 6578 section 4
};
struct Multistatus {
  std::vector<Item> items;
  std::string sync_token;  // RFC 6578
};
// Leaves out what has a slash within its name, and says so in the log.
Result<Multistatus> ParseMultistatus(std::string_view text);

// The path of a reference as a server writes it: absolute or with a host, escaped as it likes.
std::string PathOfHref(std::string_view href);

// Bodies. `deep` properties are those that only a single item is asked for.
std::string PropfindBody(bool deep);
std::string ChangesBody(const std::string& since);  // a sync-collection report, at any depth
std::string VersionsBody();                         // a version-tree report
std::string PropertiesBody(const std::string& attributes, const std::string& link);
std::string LockBody(const std::string& owner);

}  // namespace pargeter::webdav
