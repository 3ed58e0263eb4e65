#include "provider/webdav/dav_provider.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "net/web_link.h"
#include "provider/attributes.h"
#include "provider/paths.h"
#include "provider/trial.h"

namespace pargeter::webdav {
namespace {

constexpr std::string_view kShareRelation = "urn:x-pargeter:share";  // docs/stores.md

constexpr const char* kFolderVersion = "folder";

// Changes of one resource, for which a multistatus (207) means that not all of it was done.
bool IsChange(std::string_view method) {
  return method == "PUT" || method == "DELETE" || method == "COPY" || method == "MOVE";
}

// RFC 4918 sections 9.6.1, 9.8.5 and 9.9.4: what a multistatus says of the change. Without a word
// on any resource the change is taken for not done.
Status OutcomeInside(const HttpResponse& response, std::string_view what, int* status) {
  const auto parsed = ParseMultistatus(response.body);
  if (!parsed.ok()) return parsed.error().Within(std::string(what));
  constexpr int kDependency = 424;  // failed since another one did: that one says why
  int worst = 0;
  for (const Item& item : parsed->items) {
    if (item.status / 100 == 2) {
      worst = std::max(worst, item.status);
    } else if (worst / 100 <= 2 || worst == kDependency) {
      worst = item.status;
    }
  }
  if (worst / 100 == 2) return {};
  if (worst < 300)
    return Error(Code::kStoreFault, fmt::format("{}: the server does not say that it did", what));
  HttpResponse inner;
  inner.head.status = *status = worst;
  return ErrorOf(inner, what);
}

}  // namespace

DavProvider::DavProvider(DavOptions options) : options_(std::move(options)), wire_(options_.wire) {}

DavProvider::Learnt DavProvider::learnt() const {
  const Lock lock(mutex_);
  return learnt_;
}

Capabilities DavProvider::Can() const {
  const Learnt l = learnt();
  Capabilities can;
  can.real_folders = true;
  if (!l.probed) return can;
  const bool directly = WritesDirectly(l);
  can.holds_links = can.keeps_attributes = l.properties;
  can.tells_writer = !directly && l.properties;
  can.moves_folders = l.move_absent;
  can.moves_files = l.move_absent && l.move_keeps && (l.properties_keep || !l.properties);
  can.create = directly || l.move_absent ? Guard::kAtomic : Guard::kCheckFirst;
  can.replace = directly || l.move_version ? Guard::kAtomic : Guard::kCheckFirst;
  return can;
}

Call DavProvider::NewCall(std::string method, const std::string& path, std::string_view what,
                          const Cancel& cancel) const {
  Call call;
  call.method = std::move(method);
  call.path = options_.prefix + path;
  const std::string name = path.empty() ? wire_.UrlOf(options_.prefix) : path;
  call.what = fmt::format("cannot {} {}", what, Printable(name));
  call.cancel = cancel;
  return call;
}

// Some servers call it nonsense (400), or forbidden (403), when a path leads through a file:
// nothing is there then, nor can be.
Result<HttpResponse> DavProvider::Send(const Call& call) {
  int status = 0;
  Call asked = call;
  if (asked.status == nullptr) asked.status = &status;
  auto answer = wire_.Send(asked);
  if (answer.ok() && answer->head.status == 207 && IsChange(call.method)) {
    const Status inside = OutcomeInside(*answer, call.what, asked.status);
    if (!inside.ok()) return inside.error();
  }
  if (answer.ok() || (*asked.status != 400 && *asked.status != 403)) return answer;
  for (const std::string& path : {call.path, call.to}) {
    PG_ASSIGN(const std::string file, FileOnTheWay(path, call.cancel));
    if (file.empty()) continue;
    const bool makes = call.method == "PUT" || call.method == "MKCOL" || path == call.to;
    return Error(makes ? Code::kChanged : Code::kNotFound,
                 fmt::format("{}: {} is a file there, not a folder", call.what, Printable(file)));
  }
  return answer;
}

// The part of a path, relative to the base, that is a file and is to be a folder; "": there is
// none.
Result<std::string> DavProvider::FileOnTheWay(const std::string& path, const Cancel& cancel) {
  for (auto slash = path.find('/', options_.prefix.size()); slash != std::string::npos;
       slash = path.find('/', slash + 1)) {
    const std::string part = path.substr(options_.prefix.size(), slash - options_.prefix.size());
    const auto there = ItemAt(part, cancel);
    if (!there.ok() && !MayRetry(there.error().code)) return std::string();
    if (!there.ok()) return there.error();
    if (!there->folder) return part;
  }
  return std::string();
}

// ---- looking

Result<Multistatus> DavProvider::Propfind(const std::string& path, int depth, bool deep,
                                          const Cancel& cancel) {
  if (!Sayable(path)) return Error(Code::kNotFound, "there can be no " + Printable(path));
  Call call = NewCall("PROPFIND", path, depth == 0 ? "look at" : "list", cancel);
  call.headers = {{"depth", std::to_string(depth)}};
  call.body = PropfindBody(deep);
  int status = 0;
  call.status = &status;
  auto response = Send(call);
  if (!response.ok() && status / 100 == 3 && !IsFolderPath(call.path)) {
    call.path += "/";  // some servers want it for folders, and say so by a redirection
    response = Send(call);
  }
  if (!response.ok()) return response.error();
  auto parsed = ParseMultistatus(response->body);
  if (!parsed.ok()) return parsed.error().Within(call.what);
  return parsed;
}

Result<Item> DavProvider::ItemAt(const std::string& path, const Cancel& cancel, bool deep) {
  PG_ASSIGN(Multistatus answer, Propfind(path, 0, deep || path.empty(), cancel));
  if (answer.items.size() != 1 || answer.items[0].status / 100 != 2) {
    const int status = answer.items.empty() ? 0 : answer.items[0].status;
    if (status == 404) return Error(Code::kNotFound, "there is no " + Printable(path));
    return Error(status == 403 || status == 401 ? Code::kPermission : Code::kDamaged,
                 fmt::format("the server does not say what {} is", Printable(path)));
  }
  return std::move(answer.items[0]);
}

Entry DavProvider::EntryOf(const Item& item, const std::string& name) const {
  Entry entry;
  entry.name = name;
  entry.modified = item.modified;
  entry.attributes_known = item.attributes_answered || item.folder;
  entry.attributes = UnpackAttributes(item.attributes);
  entry.may_write = item.may_write.value_or(true);
  if (item.folder) {
    entry.kind = Kind::kFolder;
    entry.marker = true;
    entry.version = kFolderVersion;
    return entry;
  }
  entry.size = item.size;
  entry.version = item.etag.empty() ? DatedVersion(item.modified, item.size) : PlainEtag(item.etag);
  if (const std::string target = UnpackLink(item.link); !target.empty()) {
    entry.attributes.symlink = target;
    entry.kind = Kind::kSymlink;
  }
  return entry;
}

Result<ListPage> DavProvider::List(const std::string& folder, const std::string&,
                                   const Cancel& cancel) {
  auto page = ListOnly(folder, cancel);
  // the drive's own folder must not seem to have become empty
  if (!page.ok() && page.error().code == Code::kNotFound && !folder.empty()) return ListPage();
  return page;
}

Result<ListPage> DavProvider::ListOnly(const std::string& folder, const Cancel& cancel) {
  PG_ASSIGN(const Multistatus answer, Propfind(folder, 1, false, cancel));
  const std::string own = PathOfHref(wire_.UrlOf(options_.prefix + folder));
  ListPage page;
  for (const Item& item : answer.items) {
    if (item.path == own) {
      if (!item.folder)
        return Error(Code::kNotFolder,
                     fmt::format("{} is no folder there",
                                 Printable(folder.empty() ? wire_.UrlOf(options_.prefix) : folder)),
                     "Check the account's address and the folder: account browse shows them.");
      page.may_write = item.may_write.value_or(true);
      continue;
    }
    const bool below = item.path.compare(0, own.size() + 1, own + "/") == 0;
    const std::string name = below ? item.path.substr(own.size() + 1) : "";
    if (name.empty() || name.find('/') != std::string::npos || !Sayable(name)) {
      Log(LogLevel::kWarning, "the server listed {}, which is not in {}: left out",
          Printable(item.path), Printable(own));
      continue;
    }
    if (item.status / 100 != 2) {
      Log(LogLevel::kWarning, "the server does not say what {} is ({}): left out",
          Printable(item.path), item.status);
      continue;
    }
    page.entries.push_back(EntryOf(item, name));
  }
  return page;
}

// `next` is the folders that are still to be listed, relative to `folder`, each after a NUL.
Result<ListPage> DavProvider::ListDeep(const std::string& folder, const std::string& next,
                                       const Cancel& cancel) {
  const auto cut = next.rfind('\0');
  const std::string below = next.empty() ? "" : next.substr(cut + 1);
  ListPage page;
  page.next = next.empty() ? "" : next.substr(0, cut);
  auto entries = ListOnly(folder + below, cancel);
  if (!entries.ok())
    return entries.error().code == Code::kNotFound || entries.error().code == Code::kNotFolder
               ? Result<ListPage>(std::move(page))
               : entries.error();
  if (below.empty() && !folder.empty()) {
    Entry self;  // as a store of flat keys has it
    self.version = kFolderVersion;
    page.entries.push_back(std::move(self));
  }
  for (Entry& entry : entries->entries) {
    entry.name.insert(0, below);
    if (entry.kind == Kind::kFolder) {
      entry.name += "/";
      page.next += std::string(1, '\0') + entry.name;
      entry.kind = Kind::kFile;
    }
    page.entries.push_back(std::move(entry));
  }
  return page;
}

Result<Entry> DavProvider::Look(const std::string& path, const Cancel& cancel) {
  PG_ASSIGN(const Item item, ItemAt(path, cancel));
  return EntryOf(item, NameIn(path));
}

// ---- what the server does

const std::vector<std::pair<const char*, bool DavProvider::Learnt::*>>& DavProvider::Flags() {
  static const std::vector<std::pair<const char*, bool Learnt::*>> flags = {
      {"put-absent", &Learnt::put_absent},
      {"put-version", &Learnt::put_version},
      {"put-tells", &Learnt::put_tells},
      {"move-absent", &Learnt::move_absent},
      {"move-version", &Learnt::move_version},
      {"move-keeps", &Learnt::move_keeps},
      {"delete-version", &Learnt::delete_version},
      {"properties", &Learnt::properties},
      {"properties-keep", &Learnt::properties_keep},
      {"locks", &Learnt::locks}};
  return flags;
}

Status DavProvider::Probe(const Cancel& cancel) {
  const std::string name = std::string(kScratchPrefix) + RandomName();
  Learnt found;
  const Status tried = Try(name + "a", name + "b", &found, cancel);
  for (const char* each : {"a", "b"}) Ignore(Send(NewCall("DELETE", name + each, "", cancel)));
  PG_TRY(tried);
  found.probed = true;
  const Lock lock(mutex_);
  learnt_ = found;
  return {};
}

// With two files of its own: is each condition heeded when it does not hold?
Status DavProvider::Try(const std::string& a, const std::string& b, Learnt* found,
                        const Cancel& cancel) {
  int status = 0;
  const auto send = [&](const char* method, const std::string& path, Headers headers,
                        std::string body = {}) {
    Call call = NewCall(method, path, "", cancel);
    call.what = "cannot write a trial file";
    call.headers = std::move(headers);
    call.body = std::move(body);
    call.status = &status;
    return Send(call);
  };
  const auto passing = [&](const Result<HttpResponse>& r) {
    return !r.ok() && (MayRetry(r.error().code) || r.error().code == Code::kCancelled ||
                       r.error().code == Code::kSignIn);
  };
  PG_ASSIGN(const HttpResponse made, send("PUT", a, {}, "one"));
  PG_ASSIGN(Item item, ItemAt(a, cancel, true));
  const std::string told = made.head.Get("etag");
  found->put_tells = !told.empty() && PlainEtag(told) == PlainEtag(item.etag);
  found->locks = item.locks;

  PG_TRY(SetProperties(a, a, UnpackAttributes("m=640"), "", cancel));
  PG_ASSIGN(const Item again, ItemAt(a, cancel));
  found->properties = again.attributes == "m=640";
  found->properties_keep = PlainEtag(again.etag) == PlainEtag(item.etag);

  const std::string wrong = "\"0-not-its-tag\"";
  struct Trial {
    const char* method;
    std::string path;
    Headers headers;
    bool Learnt::*flag;
  };
  const Headers to = {{"destination", wire_.UrlOf(options_.prefix + b)}};
  PG_TRY(send("PUT", b, {}, "two"));
  std::vector<Trial> trials = {
      {"PUT", a, {{"if-none-match", "*"}}, &Learnt::put_absent},
      {"PUT", a, {{"if-match", wrong}}, &Learnt::put_version},
      {"DELETE", a, {{"if-match", wrong}}, &Learnt::delete_version},
      {"MOVE", a, {to[0], {"overwrite", "F"}}, &Learnt::move_absent},
      {"MOVE",
       a,
       {to[0], {"overwrite", "T"}, {"if", fmt::format("<{}> ([{}])", to[0].second, wrong)}},
       &Learnt::move_version}};
  for (const Trial& trial : trials) {
    const auto outcome = send(trial.method, trial.path, trial.headers,
                              trial.method == std::string("PUT") ? "three" : "");
    if (passing(outcome)) return outcome.error();
    found->*trial.flag = status == 412;
    if (outcome.ok()) PG_TRY(send("PUT", a, {}, "one"));
  }
  if (item.etag.empty()) found->put_version = found->delete_version = found->move_version = false;
  PG_ASSIGN(item, ItemAt(a, cancel));
  auto moved = Result<HttpResponse>(Error(Code::kChanged, "not tried"));
  if (found->move_version) {  // and does one that holds let it through?
    PG_ASSIGN(const Item target, ItemAt(b, cancel));
    const std::string right = fmt::format("<{}> ([{}])", to[0].second, target.etag);
    moved = send("MOVE", a, {to[0], {"overwrite", "T"}, {"if", right}});
    if (passing(moved)) return moved.error();
    found->move_version = moved.ok() || status == 400;
  }
  if (!moved.ok()) moved = send("MOVE", a, {to[0], {"overwrite", "T"}});
  if (!moved.ok()) return passing(moved) ? Status(moved.error()) : Status();
  PG_ASSIGN(const Item there, ItemAt(b, cancel));
  found->move_keeps = !item.etag.empty() && PlainEtag(there.etag) == PlainEtag(item.etag);
  return {};
}

std::string DavProvider::ProbeResult() const {
  const Learnt l = learnt();
  if (!l.probed) return "";
  std::string words = "webdav";
  for (const auto& [name, flag] : Flags())
    if (l.*flag) words += std::string(" ") + name;
  return words;
}

void DavProvider::AdoptProbeResult(const std::string& result) {
  const std::vector<std::string> words = Split(result, ' ');
  if (words.empty() || words[0] != "webdav") return;
  const Lock lock(mutex_);
  learnt_.probed = true;
  for (const auto& [name, flag] : Flags())
    learnt_.*flag = std::find(words.begin(), words.end(), name) != words.end();
}

Status DavProvider::Ping(Duration patience, const Cancel& cancel) {
  Call call = NewCall("OPTIONS", "", "reach", cancel);
  call.once = patience;
  const auto answer = Send(call);
  if (answer.ok()) return {};
  const Code code = answer.error().code;
  // whoever refuses is there
  return code == Code::kUnavailable || code == Code::kTimeout ? Status(answer.error()) : Status();
}

Result<std::vector<Entry>> DavProvider::Browse(const std::string& folder, const Cancel& cancel) {
  std::string at = folder;
  if (!at.empty() && at.back() != '/') at += "/";
  PG_ASSIGN(ListPage page, List(at == options_.prefix ? "" : at, "", cancel));
  return std::move(page.entries);
}

// ---- former versions (RFC 3253 section 3.7), and links

Result<std::vector<Provider::Kept>> DavProvider::Versions(const std::string& path,
                                                          const Cancel& cancel) {
  Call call = NewCall("REPORT", path, "list the versions of", cancel);
  call.headers = {{"depth", "0"}};
  call.body = VersionsBody();
  int status = 0;
  call.status = &status;
  const auto response = Send(call);
  if (!response.ok() && (status == 403 || status == 405 || status == 415 || status == 501 ||
                         status == 400 || status == 409))
    return Error(Code::kUnsupported, "this server keeps no former versions, or does not say");
  if (!response.ok()) return response.error();
  PG_ASSIGN(const Multistatus answer, ParseMultistatus(response->body));
  PG_ASSIGN(const Item now, ItemAt(path, cancel));
  std::vector<Kept> out;
  for (const Item& item : answer.items) {
    if (item.status / 100 != 2 || item.path.empty()) continue;
    const bool current = !item.etag.empty() && PlainEtag(item.etag) == PlainEtag(now.etag);
    out.insert(out.begin(), {item.path, item.size, item.modified, current});
  }
  if (out.empty()) return Error(Code::kUnsupported, "this server keeps no former versions");
  std::stable_sort(out.begin(), out.end(),
                   [](const Kept& a, const Kept& b) { return a.modified > b.modified; });
  return out;
}

// Links and shares that the server offers, by Link headers (RFC 8288): its page for people, and
// where to ask for a share.
Result<Provider::Address> DavProvider::Link(const std::string& path, Duration lasts) {
  Call call = NewCall("HEAD", path, "see what is offered for", nullptr);
  const bool shared = lasts.count() > 0;
  if (!shared) call.once = Duration(5000);  // its own address will do
  const auto looked = Send(call);
  if (!looked.ok() && shared) return looked.error();
  std::string page, share;
  for (const WebLink& link :
       looked.ok() ? ParseWebLinks(looked->head.Get("link")) : std::vector<WebLink>()) {
    const std::string target = LocalTarget(link.target, wire_.base());
    if (link.Is("alternate") && link.type == "text/html" && page.empty()) page = target;
    if (link.Is(kShareRelation) && share.empty()) share = target;
  }
  if (!shared)
    return Address{page.empty() ? wire_.UrlOf(options_.prefix + path) : wire_.UrlOfTarget(page),
                   Duration(0), false};
  if (share.empty())
    return Error(Code::kUnsupported, "this server offers no links that are limited in time",
                 "Without --for the file's own address is printed, for users of the server.");
  return AskForShare(share, path, lasts);
}

Result<Provider::Address> DavProvider::AskForShare(const std::string& target,
                                                   const std::string& path, Duration lasts) {
  Call call = NewCall("POST", path, "share", nullptr);
  call.target = target;
  call.once = Duration(30000);  // a second attempt might make a second one
  call.body = fmt::format("seconds={}", lasts.count() / 1000);
  PG_ASSIGN(const HttpResponse response, Send(call));
  const std::string made = LocalTarget(response.head.Get("location"), wire_.base());
  if (made.empty())
    return Error(Code::kStoreFault,
                 fmt::format("the server does not say where {} is shared", Printable(path)));
  return Address{wire_.UrlOfTarget(made), lasts, true};
}

// ---- changes: RFC 6578

Result<std::string> DavProvider::FeedStart(const Cancel& cancel) {
  PG_ASSIGN(const Item top, ItemAt("", cancel));
  if (!top.sync_token.empty()) return top.sync_token;
  return Error(Code::kUnsupported, "this server does not tell what changed");
}

Result<Changes> DavProvider::ChangesSince(const std::string& moment, const Cancel& cancel) {
  Call call = NewCall("REPORT", "", "see what changed in", cancel);
  call.headers = {{"depth", "0"}};
  call.body = ChangesBody(moment);
  int status = 0;
  call.status = &status;
  const auto response = Send(call);
  if (!response.ok()) {
    const Code code = response.error().code;
    const bool refused = status / 100 == 4 && code != Code::kSignIn && code != Code::kThrottled;
    // a moment that it has forgotten: some answer 500 to that
    if (refused || status == 500) return Error(Code::kStale, response.error().what);
    return response.error();
  }
  PG_ASSIGN(const Multistatus answer, ParseMultistatus(response->body));
  if (answer.sync_token.empty()) return Error(Code::kStale, call.what + ": no moment is named");
  const std::string own = PathOfHref(wire_.UrlOf(options_.prefix));
  Changes changes;
  changes.next = answer.sync_token;
  for (const Item& item : answer.items) {
    if (item.path == own) {
      changes.more = changes.more || item.status == 507;
      continue;
    }
    const bool below = item.path.compare(0, own.size() + 1, own + "/") == 0;
    std::string path = below ? item.path.substr(own.size() + 1) : "";
    if (path.empty() || !Sayable(path)) continue;
    Changes::One one;
    if (item.status / 100 == 2)
      one.entry = EntryOf(item, NameIn(path));
    else if (item.status != 404)
      continue;
    one.path = std::move(path);
    changes.all.push_back(std::move(one));
  }
  return changes;
}

Result<std::optional<Quota>> DavProvider::SpaceOfAccount(const Cancel& cancel) {
  PG_ASSIGN(const Item top, ItemAt("", cancel));
  if (!top.quota_available) return std::optional<Quota>();
  return std::optional(Quota{top.quota_used.value_or(0), *top.quota_available});
}

TestReport DavProvider::Test(bool may_write, const Cancel& cancel) {
  TestReport report;
  const auto listed = List("", "", cancel);
  if (!report.Add("list", listed.status(), "the folder can be listed")) return report;
  if (const auto ahead = wire_.Ahead()) {
    report.CompareClocks(*ahead);
    report.Add("clock", {}, report.clock.empty() ? "agrees with the store's" : report.clock);
  }
  if (!may_write) return report;
  if (!listed->may_write) {
    report.Add("write", {},
               "this folder may only be read; name one that a drive is to write to: --folder");
    return report;
  }
  if (const Status probed = Probe(cancel); !probed.ok()) {
    report.Add("write", probed, "");
    return report;
  }
  const Capabilities can = Can();
  const bool atomic = can.create == Guard::kAtomic && can.replace == Guard::kAtomic;
  TryFile(this, atomic ? kGuarded : kNotGuarded, cancel, &report);
  if (!report.failure && !can.holds_links)
    report.Add("links", {},
               "the server keeps no properties: modes, times and symbolic links stay here");
  return report;
}

}  // namespace pargeter::webdav
