// What the simulated cloud drive tells of files and folders: properties, changes, former versions.
// versions.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/text.h"
#include "drive_impl.h"
#include "http_date.h"
#include "net/uri.h"
#include "provider/xml.h"

namespace pargeter::standin {
namespace {

// The namespace of a node, as its prefix or its default declares it.
std::string NamespaceOf(pugi::xml_node node) {
  const std::string name = node.name();
  const auto colon = name.find(':');
  const std::string wanted =
      colon == std::string::npos ? "xmlns" : "xmlns:" + name.substr(0, colon);
  for (; node; node = node.parent())
    if (const auto declared = node.attribute(wanted.c_str())) return declared.value();
  return "";
}
std::string LocalName(const pugi::xml_node& node) {
  const std::string name = node.name();
  return name.substr(name.find(':') + 1);  // npos + 1 is 0
}

}  // namespace

HttpAnswer DriveServer::Impl::Propfind(const Call& call) const {
  if (!call.shelf && !Find(call.key)) return Refuse({404, "nothing there"});
  const std::string depth = call.http.Header("depth");
  if (depth != "0" && depth != "1") return Refuse({403, "one level at a time"});
  std::vector<Property> wanted;
  if (call.http.body->size > 0) {
    pugi::xml_document document;
    const auto root = xml::Root(document, call.http.body->bytes, "propfind");
    if (!root.ok()) return Refuse({400, "no propfind"});
    wanted = PropertiesIn(*root);
  }
  if (call.shelf) return ShowShelf(call, wanted, depth == "1");
  std::string out = "<D:multistatus xmlns:D=\"DAV:\">";
  Describe(call, call.key, *Find(call.key), wanted, &out);
  if (depth == "1" && IsFolder(call.key)) {
    ListRequest list;
    list.prefix = call.key;
    list.delimiter = "/";
    for (;;) {
      const ListAnswer page = store_.List(kDriveBucket, list);
      for (const auto& [key, object] : page.keys)
        if (key != call.key) Describe(call, key, object, wanted, &out);
      for (const std::string& key : page.prefixes) Describe(call, key, *Find(key), wanted, &out);
      if (page.next_after.empty()) break;
      list.after = page.next_after;
    }
  }
  return Xml(207, out + "</D:multistatus>");
}

std::vector<Property> DriveServer::Impl::PropertiesIn(const pugi::xml_node& root) {
  std::vector<Property> wanted;
  for (const pugi::xml_node& p : xml::Child(root, "prop").children())
    wanted.emplace_back(NamespaceOf(p), LocalName(p));
  return wanted;
}

HttpAnswer DriveServer::Impl::ShowShelf(const Call& call, const std::vector<Property>& wanted,
                                        bool deep) const {
  const Object folder{std::make_shared<Body>(), "shelf", 0, {}};
  std::string out = "<D:multistatus xmlns:D=\"DAV:\">";
  const std::string at = IsFolder(call.shown) ? call.shown : call.shown + "/";
  DescribeAt(call, "/" + PercentEncode(at, KeepSlash::kYes), at, folder, wanted, &out);
  if (deep)
    for (const std::string& name : libraries_.OnShelf(call.person, at)) {
      const std::string shown = at + name + "/";
      DescribeAt(call, "/" + PercentEncode(shown, KeepSlash::kYes), shown, folder, wanted, &out);
    }
  return Xml(207, out + "</D:multistatus>");
}

HttpAnswer DriveServer::Impl::Report(const Call& call) const {
  pugi::xml_document document;
  if (const auto root = xml::Root(document, call.http.body->bytes, "version-tree"); root.ok())
    return VersionTree(call, PropertiesIn(*root));
  const auto root = xml::Root(document, call.http.body->bytes, "sync-collection");
  if (!root.ok()) return Refuse({403, "no such report"});
  if (!Find(call.key) || !IsFolder(call.key)) return Refuse({404, "nothing there"});
  const std::string token = xml::Text(*root, "sync-token");
  std::uint64_t since = 0;
  const std::string begin = TokenStart();
  if (options_.no_changes) return Refuse({403, "no such report"});
  if (token.rfind(begin, 0) != 0 ||
      (since = std::strtoull(token.c_str() + begin.size(), nullptr, 10)) > last_change_) {
    HttpAnswer answer = Xml(403, "<D:error xmlns:D=\"DAV:\"><D:valid-sync-token/></D:error>");
    return answer;
  }
  const std::vector<Property> wanted = PropertiesIn(*root);
  std::vector<std::pair<std::uint64_t, std::string>> order;
  for (const auto& [key, when] : changed_)
    if (when > since && key.compare(0, call.key.size(), call.key) == 0 && key != call.key)
      order.emplace_back(when, key);
  std::sort(order.begin(), order.end());
  constexpr std::size_t kMost = 500;  // in one answer
  std::uint64_t reached = last_change_;
  std::string out = "<D:multistatus xmlns:D=\"DAV:\">";
  if (order.size() > kMost) {
    order.resize(kMost);
    reached = order.back().first;
    out += "<D:response><D:href>" + Href(call, call.key) +
           "</D:href><D:status>HTTP/1.1 507 Insufficient Storage</D:status></D:response>";
  }
  for (const auto& [when, key] : order) {
    if (const auto object = Find(key))
      Describe(call, key, *object, wanted, &out);
    else
      out += "<D:response><D:href>" + Href(call, key) +
             "</D:href><D:status>HTTP/1.1 404 Not Found</D:status></D:response>";
  }
  return Xml(207, out + "<D:sync-token>" + begin + std::to_string(reached) +
                      "</D:sync-token></D:multistatus>");
}

HttpAnswer DriveServer::Impl::VersionTree(const Call& call,
                                          const std::vector<Property>& wanted) const {
  const auto now = Find(call.key);
  if (!now || IsFolder(call.key)) return Refuse({404, "nothing there"});
  std::string out = "<D:multistatus xmlns:D=\"DAV:\">";
  std::vector<Object> all;
  if (const auto it = former_.find(call.key); it != former_.end()) all = it->second;
  all.push_back(*now);
  for (std::size_t i = 0; i < all.size(); ++i)
    DescribeAt(call,
               "/" + std::string(kDriveVersions) + std::to_string(i + 1) + "/" +
                   PercentEncode(libraries_.Shown(call.person, call.key), KeepSlash::kYes),
               call.key, all[i], wanted, &out, std::to_string(i + 1));
  return Xml(207, out + "</D:multistatus>");
}

HttpAnswer DriveServer::Impl::GetVersion(Call& call) const {
  if (call.http.method != "GET" && call.http.method != "HEAD")
    return Refuse({405, "versions stay"});
  const std::string rest = call.key.substr(std::string(kDriveVersions).size());
  const auto slash = rest.find('/');
  const std::size_t number = std::strtoull(rest.c_str(), nullptr, 10);
  if (slash == std::string::npos || !Enter(&call, rest.substr(slash + 1)))
    return Refuse({404, "nothing there"});
  const auto it = former_.find(call.key);
  const std::size_t old = it == former_.end() ? 0 : it->second.size();
  const auto now = Find(call.key);
  if (number == 0 || number > old + 1 || !now) return Refuse({404, "nothing there"});
  return Serve(call, number <= old ? it->second[number - 1] : *now);
}

void DriveServer::Impl::Describe(const Call& call, const std::string& key, const Object& object,
                                 const std::vector<Property>& wanted, std::string* out) const {
  DescribeAt(call, Href(call, key), key, object, wanted, out);
}

void DriveServer::Impl::DescribeAt(const Call& call, const std::string& href,
                                   const std::string& key, const Object& object,
                                   const std::vector<Property>& wanted, std::string* out,
                                   const std::string& version) const {
  std::string have, lack;
  for (const Property& p : wanted) {
    auto value = ValueOf(call, key, object, p);
    if (!version.empty() && p == Property("DAV:", "version-name")) value = version;
    const std::string open =
        p.first == "DAV:" ? "D:" + p.second
                          : fmt::format("x:{} xmlns:x=\"{}\"", p.second, xml::Escape(p.first));
    const std::string close = (p.first == "DAV:" ? "D:" : "x:") + p.second;
    if (value)
      have += fmt::format("<{}>{}</{}>", open, *value, close);
    else
      lack += fmt::format("<{}/>", open);
  }
  *out += "<D:response><D:href>" + href + "</D:href><D:propstat><D:prop>" + have +
          "</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat>";
  if (!lack.empty())
    *out += "<D:propstat><D:prop>" + lack +
            "</D:prop><D:status>HTTP/1.1 404 Not Found</D:status></D:propstat>";
  *out += "</D:response>";
}

bool DriveServer::Impl::MayWrite(const Call& call, const std::string& key) const {
  if (!options_.libraries) return call.may_write;
  const std::string shown = call.shelf ? key : libraries_.Shown(call.person, key);
  const Libraries::Place place = libraries_.Find(call.person, shown);
  return call.granted && !place.shelf && place.role == Role::kWrite;
}

std::optional<std::string> DriveServer::Impl::ValueOf(const Call& call, const std::string& key,
                                                      const Object& object,
                                                      const Property& p) const {
  const bool folder = IsFolder(key);
  if (p.first != "DAV:") {
    const auto kept = object.metadata.find(p.first + " " + p.second);
    if (kept == object.metadata.end()) return std::nullopt;
    return xml::Escape(kept->second);
  }
  if (p.second == "resourcetype") return folder ? "<D:collection/>" : "";
  if (p.second == "getlastmodified") return HttpDate(object.modified);
  if (p.second == "current-user-privilege-set")
    return std::string("<D:privilege><D:read/></D:privilege>") +
           (MayWrite(call, key) ? "<D:privilege><D:write/></D:privilege>" : "");
  if (p.second == "sync-token" && folder && !options_.no_changes && !call.shelf)
    return TokenStart() + std::to_string(last_change_);
  if (options_.quota > 0 && p.second == "quota-used-bytes") return std::to_string(Used());
  if (options_.quota > 0 && p.second == "quota-available-bytes")
    return std::to_string(options_.quota - std::min(options_.quota, Used()));
  if (folder) return std::nullopt;
  if (p.second == "getcontentlength") return std::to_string(object.body->size);
  if (p.second == "getetag" && !options_.tagless && !options_.untagged_listings)
    return xml::Escape(options_.unquoted_tags ? object.etag : Quoted(object.etag));
  if (p.second == "supportedlock")
    return "<D:lockentry><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/>"
           "</D:locktype></D:lockentry>";
  return std::nullopt;
}

HttpAnswer DriveServer::Impl::Proppatch(const Call& call) {
  auto object = Find(call.key);
  if (!object) return Refuse({404, "nothing there"});
  if (options_.no_properties) return Refuse({405, "no properties are kept"});
  pugi::xml_document document;
  const auto root = xml::Root(document, call.http.body->bytes, "propertyupdate");
  if (!root.ok()) return Refuse({400, "no propertyupdate"});
  std::string names;
  for (const pugi::xml_node& change : root->children()) {
    for (const pugi::xml_node& p : xml::Child(change, "prop").children()) {
      const std::string space = NamespaceOf(p);
      const std::string name = space + " " + LocalName(p);
      if (space == "DAV:") return Refuse({403, "live properties are the server's"});
      if (xml::Named(change, "set"))
        object->metadata[name] = p.child_value();
      else
        object->metadata.erase(name);
      names += fmt::format("<x:{} xmlns:x=\"{}\"/>", LocalName(p), xml::Escape(space));
    }
  }
  Keep(call.key, *object);
  if (options_.terse_properties) return Text(204, "");
  return Xml(207, "<D:multistatus xmlns:D=\"DAV:\"><D:response><D:href>" + Href(call, call.key) +
                      "</D:href><D:propstat><D:prop>" + names +
                      "</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
                      "</D:multistatus>");
}

}  // namespace pargeter::standin
