#include "provider/webdav/dav_xml.h"

#include <fmt/format.h>

#include <cstdlib>

#include "base/log.h"
#include "base/text.h"
#include "net/uri.h"
#include "provider/xml.h"

namespace pargeter::webdav {

using xml::Child;
using xml::Named;
using xml::Root;
using xml::Text;

namespace {

constexpr const char* kOpening = "<?xml version=\"1.0\" encoding=\"utf-8\"?>";
constexpr const char* kAttributes = "pargeter-attributes";
constexpr const char* kLink = "pargeter-link";

// "HTTP/1.1 404 Not Found"
int StatusIn(const std::string& line) {
  const auto space = line.find(' ');
  return space == std::string::npos ? 0 : std::atoi(line.c_str() + space + 1);
}

bool MayWrite(const pugi::xml_node& set) {
  for (const pugi::xml_node& privilege : set.children()) {
    for (const pugi::xml_node& one : privilege.children()) {
      if (Named(one, "all") || Named(one, "write") || Named(one, "write-content") ||
          Named(one, "bind"))
        return true;
    }
  }
  return false;
}

std::optional<std::uint64_t> Bytes(const pugi::xml_node& node) {
  const std::string text(Trim(node.child_value()));
  std::uint64_t value = 0;
  const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  return ec == std::errc() && end != text.data() ? std::optional(value) : std::nullopt;
}

// Some servers leave out the quotes, which conditions need (RFC 9110 section 8.8.3).
std::string QuotedEtag(std::string_view etag) {
  const bool quoted = etag.size() >= 2 && etag.back() == '"';
  return quoted || etag.empty() ? std::string(etag) : "\"" + std::string(etag) + "\"";
}

void TakeProperties(const pugi::xml_node& prop, Item* item) {
  for (const pugi::xml_node& p : prop.children()) {
    if (Named(p, "resourcetype")) {
      item->folder = !Child(p, "collection").empty();
    } else if (Named(p, "getcontentlength")) {
      item->size = Bytes(p).value_or(0);
    } else if (Named(p, "getlastmodified")) {
      item->modified = ParseHttpDate(p.child_value());
    } else if (Named(p, "getetag")) {
      item->etag = QuotedEtag(Trim(p.child_value()));
    } else if (Named(p, kAttributes)) {
      item->attributes = p.child_value();
    } else if (Named(p, kLink)) {
      item->link = p.child_value();
    } else if (Named(p, "supportedlock")) {
      for (const pugi::xml_node& entry : p.children())
        if (!Child(Child(entry, "lockscope"), "exclusive").empty()) item->locks = true;
    } else if (Named(p, "quota-used-bytes")) {
      item->quota_used = Bytes(p);
    } else if (Named(p, "quota-available-bytes")) {
      item->quota_available = Bytes(p);
    } else if (Named(p, "sync-token")) {
      item->sync_token = Trim(p.child_value());
    } else if (Named(p, "current-user-privilege-set")) {
      item->may_write = MayWrite(p);
    }
  }
}

}  // namespace

std::string PathOfHref(std::string_view href) {
  href = Trim(href);
  if (const auto scheme = href.find("://"); scheme != std::string_view::npos) {
    const auto slash = href.find('/', scheme + 3);
    href = slash == std::string_view::npos ? std::string_view("/") : href.substr(slash);
  }
  while (!href.empty() && href.back() == '/') href.remove_suffix(1);
  return PercentDecode(href);
}

Result<Multistatus> ParseMultistatus(std::string_view text) {
  pugi::xml_document document;
  PG_ASSIGN(const pugi::xml_node root, Root(document, text, "multistatus"));
  Multistatus out;
  for (const pugi::xml_node& response : root.children()) {
    if (Named(response, "sync-token")) out.sync_token = response.child_value();
    if (!Named(response, "response")) continue;
    Item item;
    const std::string href = Text(response, "href");
    if (Lower(href).find("%2f") != std::string::npos) {  // no file system can hold such a name
      Log(LogLevel::kWarning, "the server listed {}, whose name has a slash in it: left out",
          Printable(href));
      continue;
    }
    item.path = PathOfHref(href);
    const std::string status = Text(response, "status");
    if (!status.empty()) item.status = StatusIn(status);
    for (const pugi::xml_node& propstat : response.children()) {
      if (!Named(propstat, "propstat")) continue;
      const int answered = StatusIn(Text(propstat, "status"));
      const pugi::xml_node prop = Child(propstat, "prop");
      if (!Child(prop, kAttributes).empty() && (answered / 100 == 2 || answered == 404))
        item.attributes_answered = true;
      // of a change of properties the worst counts, of a question what is answered
      if (answered / 100 == 2)
        TakeProperties(prop, &item);
      else if (answered != 404)
        item.status = std::max(item.status, answered);
    }
    out.items.push_back(std::move(item));
  }
  return out;
}

namespace {
std::string Properties(std::string_view more) {
  return fmt::format(
      "<prop><resourcetype/><getcontentlength/><getlastmodified/><getetag/>"
      "<current-user-privilege-set/><p:{}/><p:{}/>{}</prop>",
      kAttributes, kLink, more);
}
}  // namespace

std::string PropfindBody(bool deep) {
  return fmt::format("{}<propfind xmlns=\"DAV:\" xmlns:p=\"urn:pargeter\">{}</propfind>", kOpening,
                     Properties(deep ? "<supportedlock/><quota-used-bytes/><quota-available-bytes/>"
                                       "<sync-token/>"
                                     : ""));
}

std::string ChangesBody(const std::string& since) {
  return fmt::format(
      "{}<sync-collection xmlns=\"DAV:\" xmlns:p=\"urn:pargeter\"><sync-token>{}</sync-token>"
      "<sync-level>infinite</sync-level>{}</sync-collection>",
      kOpening, xml::Escape(since), Properties(""));
}

std::string VersionsBody() {
  return fmt::format(
      "{}<version-tree xmlns=\"DAV:\"><prop><version-name/><getcontentlength/><getlastmodified/>"
      "<getetag/></prop></version-tree>",
      kOpening);
}

std::string PropertiesBody(const std::string& attributes, const std::string& link) {
  return fmt::format(
      "{0}<propertyupdate xmlns=\"DAV:\" xmlns:p=\"urn:pargeter\"><set><prop><p:{1}>{2}</p:{1}>"
      "</prop></set><{3}><prop><p:{4}>{5}</p:{4}></prop></{3}></propertyupdate>",
      kOpening, kAttributes, xml::Escape(attributes), link.empty() ? "remove" : "set", kLink,
      xml::Escape(link));
}

std::string LockBody(const std::string& owner) {
  return fmt::format(
      "{}<lockinfo xmlns=\"DAV:\"><lockscope><exclusive/></lockscope><locktype><write/></locktype>"
      "<owner>{}</owner></lockinfo>",
      kOpening, xml::Escape(owner));
}

}  // namespace pargeter::webdav
