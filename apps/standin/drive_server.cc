#include "drive_server.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <ctime>
#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "net/uri.h"
#include "provider/webdav/dav_xml.h"
#include "provider/xml.h"

namespace pargeter::standin {
namespace {

using Json = nlohmann::json;
constexpr const char* kBucket = "drive";
constexpr const char* kVersions = "-/versions/";

std::string HttpDate(Nanos t) {
  const time_t seconds = static_cast<time_t>(t / 1'000'000'000);
  tm parts{};
  gmtime_r(&seconds, &parts);
  char buffer[64];
  std::strftime(buffer, sizeof(buffer), "%a, %d %b %Y %H:%M:%S GMT", &parts);
  return buffer;
}

bool IsFolder(const std::string& key) { return key.empty() || key.back() == '/'; }
std::string Above(const std::string& key) {  // the folder that it is in, "" for the top
  const auto slash = key.find_last_of('/', key.empty() ? 0 : key.size() - 2);
  return slash == std::string::npos || key.size() < 2 ? "" : key.substr(0, slash + 1);
}
std::string Quoted(const std::string& etag) { return "\"" + etag + "\""; }

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

// A property by its namespace and name.
using Property = std::pair<std::string, std::string>;

struct Refusal {
  int status;
  std::string words;
};

}  // namespace

class DriveServer::Impl {
 public:
  Impl(DriveServerOptions options, ObjectStore* store, Faults* faults)
      : options_(std::move(options)),
        store_(*store),
        faults_(*faults),
        libraries_(options_.libraries),
        spelling_(options_.fold_names),
        oauth_({options_.libraries ? Libraries::People() : std::vector<std::string>{options_.user},
                options_.token_life}),
        host_(options_.http, store, [this](const HttpAsk& ask) { return Answer(ask); }) {
    store_.MakeBucket(kBucket);
    for (const std::string& kept : libraries_.Kept())
      for (auto slash = kept.find('/'); slash != std::string::npos;
           slash = kept.find('/', slash + 1))
        if (const std::string key = kept.substr(0, slash + 1); !store_.Get(kBucket, key))
          Ignore(store_.Put(kBucket, key, {std::make_shared<Body>(), NewTag(), Now(), {}}, {}));
    for (const auto& [key, object] : Below("")) spelling_.Made(key);
    if (!options_.request_log.empty()) {
      log_ = std::fopen(options_.request_log.c_str(), "a");
      if (log_ != nullptr) std::setvbuf(log_, nullptr, _IOLBF, 1u << 16);
    }
  }
  ~Impl() {
    if (log_ != nullptr) std::fclose(log_);
  }
  Result<int> Start() { return host_.Start(); }

 private:
  struct Call {
    const HttpAsk& http;
    std::string key;    // of what the address names; a folder's ends in "/" if there is one
    std::string shown;  // the address, as this person sees it
    std::string person;
    bool granted = true;    // may write at all: neither a guest nor a narrow grant
    bool may_write = true;  // there
    bool shelf = false;     // holds libraries, nothing else
    bool bearer = false;
  };

  // ---- one request

  HttpAnswer Answer(const HttpAsk& ask) {
    if (ask.raw_path.rfind("/-/control/", 0) == 0 || ask.raw_path == "/-/faults")
      return Control(ask);
    if (options_.latency.count() > 0) std::this_thread::sleep_for(options_.latency);
    Call call{ask, PathOf(ask.raw_path), "", "", true, true, false, false};
    const Plan plan = faults_.Meet(ask.method, call.key);
    if (plan.stall) std::this_thread::sleep_for(Duration(plan.stall->amount));
    HttpAnswer answer;
    if (plan.reset || faults_.Away()) {
      answer.drop = true;
    } else if (plan.status) {
      answer = Refuse({plan.status->status, "made on purpose"});
      if (plan.status->retry_after >= 0)
        answer.headers.emplace_back("Retry-After", std::to_string(plan.status->retry_after));
    } else if (OAuthServer::Serves(ask.raw_path)) {
      answer = oauth_.Answer(ask);
    } else if (call.key.rfind(Shares::kShared, 0) == 0) {
      answer = ShowShared(call);
    } else {
      answer = SignIn(&call) ? Dispatch(call) : AskWho(call.bearer);
    }
    answer.headers.emplace_back("Date", HttpDate(Now()));
    answer.cut = plan.cut.has_value();
    answer.corrupt = plan.corrupt.has_value();
    if (plan.wrong_etag)
      for (auto& [name, value] : answer.headers)
        if (name == "ETag") value = "\"0-wrong\"";
    Record(ask, call.key, answer);
    return answer;
  }

  HttpAnswer Control(const HttpAsk& ask) {
    if (ask.method == "DELETE") {
      faults_.Clear();
      return Text(200, "ok\n");
    }
    if (ask.raw_path == "/-/control/end-grants") {
      oauth_.EndAll();
      return Text(200, "ok\n");
    }
    if (ask.raw_path == "/-/control/end-codes") {
      oauth_.EndCodes();
      return Text(200, "ok\n");
    }
    if (ask.raw_path == "/-/control/role") {  // PERSON ROLE LIBRARY
      const std::vector<std::string> words = Split(ask.body->bytes, ' ');
      if (words.size() < 3) return Text(400, "PERSON none|read|write LIBRARY\n");
      const Role role = words[1] == "write"  ? Role::kWrite
                        : words[1] == "read" ? Role::kRead
                                             : Role::kNone;
      const std::string library = ask.body->bytes.substr(words[0].size() + words[1].size() + 2);
      return Text(libraries_.SetRole(words[0], library + "/", role) ? 200 : 404, "\n");
    }
    const auto fault = ParseFault(ask.body->bytes);
    if (!fault.ok()) return Text(400, fault.error().what + "\n");
    faults_.Add(*fault);
    return Text(200, "ok\n");
  }

  bool SignIn(Call* call) {
    const std::string given = call->http.Header("authorization");
    call->bearer = options_.grants_only || given.rfind("Bearer ", 0) == 0;
    if (call->bearer) {
      const auto bearer = oauth_.Check(given.substr(std::min<std::size_t>(7, given.size())));
      if (!bearer) return false;
      call->person = bearer->person;
      call->granted = bearer->may_write;
      return true;
    }
    const auto is = [&](const std::string& user, const std::string& password) {
      if (user.empty() || given != "Basic " + Base64(user + ":" + password)) return false;
      call->person = user;
      return true;
    };
    if (is(options_.user, options_.password)) return true;
    if (options_.libraries)
      for (const std::string& person : Libraries::People())
        if (is(person, options_.password)) return true;
    call->granted = false;
    return is(options_.guest_user, options_.guest_password);
  }
  static HttpAnswer AskWho(bool bearer) {
    HttpAnswer answer = Text(401, "who are you?\n");
    answer.headers.emplace_back("WWW-Authenticate",
                                bearer ? "Bearer realm=\"drive\", error=\"invalid_token\""
                                       : "Basic realm=\"drive\", charset=\"UTF-8\"");
    return answer;
  }

  HttpAnswer Dispatch(Call& call) {
    const std::string& method = call.http.method;
    static const std::set<std::string> reading = {"GET", "HEAD", "OPTIONS", "PROPFIND", "REPORT"};
    const Lock lock(mutex_);
    if (call.key.rfind(kVersions, 0) == 0) return GetVersion(call);
    for (const char* place : {Shares::kPages, Shares::kAsk})
      if (call.key.rfind(place, 0) == 0) return PageOrShare(call, place);
    if (!Enter(&call, call.key)) return Refuse({404, "nothing there"});
    if (!call.may_write && reading.count(method) == 0) {
      HttpAnswer answer = Refuse({403, "only reading is allowed there"});
      if (!call.granted && call.bearer)
        answer.headers.emplace_back("WWW-Authenticate", "Bearer error=\"insufficient_scope\"");
      return answer;
    }
    if (method == "OPTIONS") {
      HttpAnswer answer = Text(200, "");
      answer.headers.emplace_back("DAV", "1, 2");
      return answer;
    }
    if (options_.strict_paths && method != "GET" && method != "HEAD" && LeadsThroughFile(call))
      return Refuse({400, "no such path can be"});
    if (reading.count(method) == 0 || method == "GET") {
      if (auto refusal = CheckConditions(call)) return Refuse(*refusal);
    }
    if (method == "GET" || method == "HEAD") return Get(call);
    if (method == "PROPFIND") return Propfind(call);
    if (method == "REPORT") return Report(call);
    if (method == "UNLOCK") return Unlock(call);
    if (auto refusal = CheckLock(call, call.key)) return Refuse(*refusal);
    if (method == "PUT") return Put(call);
    if (method == "DELETE") return Delete(call);
    if (method == "MKCOL") return MakeFolder(call);
    if (method == "MOVE" || method == "COPY") return MoveOrCopy(call);
    if (method == "PROPPATCH") return Proppatch(call);
    if (method == "LOCK") return TakeLock(call);
    return Refuse({405, method});
  }

  // ---- names

  static std::string PathOf(const std::string& raw_path) {
    std::string path = PercentDecode(raw_path);
    while (!path.empty() && path.front() == '/') path.erase(0, 1);
    return path;
  }
  // Of a file its path, of a folder that is there its path with a slash.
  std::string KeyOf(const std::string& asked) const {
    const std::string path = spelling_.Actual(asked);
    if (IsFolder(path)) return path;
    return store_.Get(kBucket, path + "/") ? path + "/" : path;
  }
  // What the address means to this person; false: nothing.
  bool Enter(Call* call, std::string shown) const {
    const Libraries::Place place = libraries_.Find(call->person, shown);
    call->shelf = place.shelf;
    call->may_write = call->granted && place.role == Role::kWrite && !place.shelf;
    call->key = place.shelf ? place.key : KeyOf(place.key);
    call->shown = std::move(shown);
    return place.role != Role::kNone || (options_.libraries && call->shown.empty());
  }
  std::string KeyOfHref(const Call& call, const std::string& href) const {
    const std::string path = webdav::PathOfHref(href);
    return KeyOf(libraries_.Find(call.person, path.empty() ? "" : path.substr(1)).key);
  }
  std::optional<Object> Find(const std::string& key) const {
    if (key.empty()) return Object{std::make_shared<Body>(), "top", 0, {}};
    return store_.Get(kBucket, key);
  }
  void Keep(const std::string& key, Object object) {
    Changed(key);
    spelling_.Made(key);
    Ignore(store_.Put(kBucket, key, std::move(object), {}));
  }
  void Drop(const std::string& key) {
    Changed(key);
    spelling_.Gone(key);
    Ignore(store_.Delete(kBucket, key, {}));
  }
  void Changed(const std::string& key) { changed_[key] = ++last_change_; }
  std::vector<std::pair<std::string, Object>> Below(const std::string& folder) const {
    std::vector<std::pair<std::string, Object>> out;
    ListRequest list;
    list.prefix = folder;
    for (;;) {
      ListAnswer page = store_.List(kBucket, list);
      for (auto& each : page.keys) out.push_back(std::move(each));
      if (page.next_after.empty()) return out;
      list.after = page.next_after;
    }
  }
  std::string Href(const Call& call, const std::string& key) const {
    return "/" + PercentEncode(libraries_.Shown(call.person, key), KeepSlash::kYes);
  }
  std::string NewTag() { return fmt::format("{:x}-{}", ++last_tag_, RandomName(4)); }
  Nanos Now() const { return SystemClock().Wall() + faults_.Skew(); }

  // ---- conditions and locks

  std::optional<Refusal> CheckConditions(const Call& call) const {
    const auto there = IsFolder(call.key) ? std::nullopt : Find(call.key);
    const std::string only = call.http.Header("if-match"), none = call.http.Header("if-none-match");
    const Refusal refused{412, "the condition does not hold"};
    if (options_.tagless) return std::nullopt;
    if (none == "*" && (there || (IsFolder(call.key) && Find(call.key)))) return refused;
    if (!only.empty() && (!there || (only != "*" && only != Quoted(there->etag)))) return refused;
    const std::string condition = call.http.Header("if");
    if (!condition.empty() && !Holds(call, condition)) return refused;
    return std::nullopt;
  }

  // RFC 4918 section 10.4: one list that is true is enough.
  bool Holds(const Call& call, const std::string& condition) const {
    std::string key = call.key;
    for (std::size_t at = 0; at < condition.size();) {
      if (condition[at] == '<') {
        const auto end = condition.find('>', at);
        key = KeyOfHref(call, condition.substr(at + 1, end - at - 1));
        at = end == std::string::npos ? condition.size() : end + 1;
      } else if (condition[at] == '(') {
        const auto end = condition.find(')', at);
        if (end == std::string::npos) return false;
        if (AllHold(key, condition.substr(at + 1, end - at - 1))) return true;
        at = end + 1;
      } else {
        ++at;
      }
    }
    return false;
  }
  bool AllHold(const std::string& key, std::string_view list) const {
    const auto there = IsFolder(key) ? std::nullopt : Find(key);
    const auto lock = locks_.find(key);
    while (!list.empty()) {
      const char open = list.front();
      const auto end = open == '[' ? list.find(']') : open == '<' ? list.find('>') : 0;
      if (end == std::string_view::npos) return false;
      const std::string inner(list.substr(1, end > 0 ? end - 1 : 0));
      if (open == '[' && (!there || inner != Quoted(there->etag))) return false;
      if (open == '<' && (lock == locks_.end() || lock->second != inner)) return false;
      list.remove_prefix(end + 1);
    }
    return true;
  }

  bool LeadsThroughFile(const Call& call) const {
    std::string to = call.http.Header("destination");
    if (!to.empty()) to = KeyOfHref(call, to);
    if (!to.empty() && IsFolder(call.key) && !IsFolder(to)) to += "/";
    for (const std::string& path : {call.key, to}) {
      for (auto end = path.find('/'); end != std::string::npos; end = path.find('/', end + 1))
        if (end > 0 && Find(path.substr(0, end))) return true;
    }
    return false;
  }
  std::optional<Refusal> CheckLock(const Call& call, const std::string& key) const {
    const auto lock = locks_.find(key);
    if (lock == locks_.end() || call.http.Header("if").find(lock->second) != std::string::npos)
      return std::nullopt;
    return Refusal{423, "it is locked"};
  }
  HttpAnswer TakeLock(const Call& call) {
    if (!Find(call.key)) return Refuse({404, "nothing there"});  // no empty files for locks' sake
    const std::string token = "urn:uuid:" + RandomName(16);
    locks_[call.key] = token;
    HttpAnswer answer =
        Xml(200, fmt::format("<prop xmlns=\"DAV:\"><lockdiscovery><activelock><locktype><write/>"
                             "</locktype><lockscope><exclusive/></lockscope><depth>0</depth>"
                             "<timeout>Second-600</timeout><locktoken><href>{}</href></locktoken>"
                             "</activelock></lockdiscovery></prop>",
                             token));
    answer.headers.emplace_back("Lock-Token", "<" + token + ">");
    return answer;
  }
  HttpAnswer Unlock(const Call& call) {
    const auto lock = locks_.find(call.key);
    if (lock == locks_.end() || call.http.Header("lock-token") != "<" + lock->second + ">")
      return Refuse({409, "no such lock"});
    locks_.erase(lock);
    return Text(204, "");
  }

  // ---- files

  // A file's page, or a share of it: also for those who may only read it.
  HttpAnswer PageOrShare(Call& call, const std::string& place) REQUIRES(mutex_) {
    if (!Enter(&call, call.key.substr(place.size()))) return Refuse({404, "nothing there"});
    const auto object = call.shelf || IsFolder(call.key) ? std::nullopt : Find(call.key);
    if (!object) return Refuse({404, "no file there"});
    if (place == Shares::kPages) return Shares::PageOf(call.shown, *object);
    if (call.http.method != "POST") return Refuse({405, "POST"});
    return shares_.Add(call.http.body->bytes, call.key, call.shown, Now());
  }
  HttpAnswer ShowShared(const Call& call) {
    const Lock lock(mutex_);
    const auto shared = shares_.Find(call.key, Now());
    const auto object = shared ? Find(shared->key) : std::nullopt;
    if (!object) return Shares::OverPage();
    return shared->bytes ? Serve(call, *object) : Shares::SharedPage(call.key, *shared, *object);
  }

  HttpAnswer Get(const Call& call) const {
    const auto object = Find(call.key);
    if (call.shelf) return Text(200, "a shelf\n");
    if (!object) return Refuse({404, "nothing there"});
    if (IsFolder(call.key)) return Text(200, "a folder\n");
    HttpAnswer answer = Serve(call, *object);
    answer.headers.emplace_back("Link", Shares::LinksOf(call.shown));
    return answer;
  }
  HttpAnswer Serve(const Call& call, const Object& found) const {
    const Object* object = &found;
    HttpAnswer answer;
    answer.headers.emplace_back("Last-Modified", HttpDate(object->modified));
    if (!options_.tagless) answer.headers.emplace_back("ETag", Quoted(object->etag));
    answer.file = object->body;
    answer.size = object->body->size;
    const std::string range = call.http.Header("range");
    std::uint64_t first = 0, last = 0;
    if (std::sscanf(range.c_str(), "bytes=%lu-%lu", &first, &last) != 2) return answer;
    if (first >= object->body->size) return Refuse({416, "beyond the end"});
    last = std::min(last, object->body->size - 1);
    answer.status = 206;
    answer.begin = first;
    answer.size = last - first + 1;
    answer.headers.emplace_back("Content-Range",
                                fmt::format("bytes {}-{}/{}", first, last, object->body->size));
    return answer;
  }

  std::uint64_t Used() const {
    std::uint64_t used = 0;
    for (const auto& [key, object] : Below("")) used += object.body->size;
    return used;
  }

  HttpAnswer Put(const Call& call) {
    if (IsFolder(call.key)) return Refuse({405, "a folder is there"});
    if (!Find(Above(call.key))) return Refuse({409, "the folder is missing"});
    const auto before = Find(call.key);
    if (options_.quota > 0) {
      const std::uint64_t old = before ? before->body->size : 0;
      if (Used() - old + call.http.body->size > options_.quota)
        return Refuse({507, "the account is full"});
    }
    Object object{call.http.body, NewTag(), Now(), {}};
    if (before) object.metadata = before->metadata;
    if (before) former_[call.key].push_back(*before);
    Changed(call.key);
    spelling_.Made(call.key);
    if (!store_.Put(kBucket, call.key, object, {}).ok()) return Refuse({500, "cannot store it"});
    HttpAnswer answer = Text(before ? 204 : 201, "");
    if (!options_.tagless && !options_.silent_put)
      answer.headers.emplace_back("ETag", Quoted(object.etag));
    return answer;
  }

  HttpAnswer Delete(const Call& call) {
    if (call.key.empty() || call.key == libraries_.Find(call.person, "personal").key)
      return Refuse({403, "the top stays"});
    if (!Find(call.key)) return Refuse({404, "nothing there"});
    Erase(call.key);
    return Text(204, "");
  }
  void Erase(const std::string& key) {
    if (IsFolder(key))
      for (const auto& [below, object] : Below(key)) Drop(below);
    Drop(key);
    locks_.erase(key);
  }

  HttpAnswer MakeFolder(const Call& call) {
    const std::string key = IsFolder(call.key) ? call.key : call.key + "/";
    if (Find(key) || Find(key.substr(0, key.size() - 1))) return Refuse({405, "the name is taken"});
    if (!Find(Above(key))) return Refuse({409, "the folder above is missing"});
    Keep(key, {std::make_shared<Body>(), NewTag(), Now(), {}});
    return Text(201, "");
  }

  HttpAnswer MoveOrCopy(const Call& call) {
    const bool move = call.http.method == "MOVE";
    const bool folder = IsFolder(call.key);
    if (!Find(call.key) || call.key.empty()) return Refuse({404, "nothing there"});
    std::string to = webdav::PathOfHref(call.http.Header("destination"));
    if (to.size() < 2) return Refuse({400, "no destination"});
    const Libraries::Place place = libraries_.Find(call.person, to.substr(1));
    if (place.role != Role::kWrite) return Refuse({403, "only reading is allowed there"});
    const std::string taken = KeyOf(place.key);
    if (taken == call.key)  // RFC 4918, 9.9.4
      return Refuse({call.http.Header("overwrite") == "F" ? 412 : 403, "it is there already"});
    to = spelling_.Actual(Above(place.key)) + place.key.substr(Above(place.key).size()) +
         (folder ? "/" : "");
    if (!Find(Above(to))) return Refuse({409, "the folder above is missing"});
    if (folder && to.compare(0, call.key.size(), call.key) == 0)
      return Refuse({403, "a folder cannot go into itself"});
    const bool there = Find(taken).has_value();
    if (there && call.http.Header("overwrite") == "F") return Refuse({412, "the name is taken"});
    if (auto refusal = CheckLock(call, taken)) return Refuse(*refusal);
    if (there) Erase(taken);
    auto going = folder ? Below(call.key) : std::vector<std::pair<std::string, Object>>();
    if (!folder) going.emplace_back(call.key, *Find(call.key));
    for (auto& [key, object] : going) {
      if (!move) {
        object.etag = NewTag();
        object.modified = Now();
      }
      const std::string target = to + key.substr(call.key.size());
      Keep(target, object);
      if (!move) continue;
      Drop(key);
      if (const auto old = former_.extract(key); !old.empty()) former_[target] = old.mapped();
    }
    return Text(there ? 204 : 201, "");
  }

  // ---- properties

  HttpAnswer Propfind(const Call& call) const {
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
        const ListAnswer page = store_.List(kBucket, list);
        for (const auto& [key, object] : page.keys)
          if (key != call.key) Describe(call, key, object, wanted, &out);
        for (const std::string& key : page.prefixes) Describe(call, key, *Find(key), wanted, &out);
        if (page.next_after.empty()) break;
        list.after = page.next_after;
      }
    }
    return Xml(207, out + "</D:multistatus>");
  }

  static std::vector<Property> PropertiesIn(const pugi::xml_node& root) {
    std::vector<Property> wanted;
    for (const pugi::xml_node& p : xml::Child(root, "prop").children())
      wanted.emplace_back(NamespaceOf(p), LocalName(p));
    return wanted;
  }

  HttpAnswer ShowShelf(const Call& call, const std::vector<Property>& wanted, bool deep) const {
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

  // RFC 6578: what changed below a folder since a token, and the next token. RFC 3253 section 3.7:
  // the former versions of a file.
  HttpAnswer Report(const Call& call) const {
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
  std::string TokenStart() const { return "urn:museum-drive:" + run_ + ":"; }

  HttpAnswer VersionTree(const Call& call, const std::vector<Property>& wanted) const {
    const auto now = Find(call.key);
    if (!now || IsFolder(call.key)) return Refuse({404, "nothing there"});
    std::string out = "<D:multistatus xmlns:D=\"DAV:\">";
    std::vector<Object> all;
    if (const auto it = former_.find(call.key); it != former_.end()) all = it->second;
    all.push_back(*now);
    for (std::size_t i = 0; i < all.size(); ++i)
      DescribeAt(call,
                 "/" + std::string(kVersions) + std::to_string(i + 1) + "/" +
                     PercentEncode(libraries_.Shown(call.person, call.key), KeepSlash::kYes),
                 call.key, all[i], wanted, &out, std::to_string(i + 1));
    return Xml(207, out + "</D:multistatus>");
  }
  HttpAnswer GetVersion(Call& call) const {
    if (call.http.method != "GET" && call.http.method != "HEAD")
      return Refuse({405, "versions stay"});
    const std::string rest = call.key.substr(std::string(kVersions).size());
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

  void Describe(const Call& call, const std::string& key, const Object& object,
                const std::vector<Property>& wanted, std::string* out) const {
    DescribeAt(call, Href(call, key), key, object, wanted, out);
  }
  void DescribeAt(const Call& call, const std::string& href, const std::string& key,
                  const Object& object, const std::vector<Property>& wanted, std::string* out,
                  const std::string& version = "") const {
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

  bool MayWrite(const Call& call, const std::string& key) const {
    if (!options_.libraries) return call.may_write;
    const std::string shown = call.shelf ? key : libraries_.Shown(call.person, key);
    const Libraries::Place place = libraries_.Find(call.person, shown);
    return call.granted && !place.shelf && place.role == Role::kWrite;
  }

  std::optional<std::string> ValueOf(const Call& call, const std::string& key, const Object& object,
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
    if (p.second == "getetag" && !options_.tagless) return xml::Escape(Quoted(object.etag));
    if (p.second == "supportedlock")
      return "<D:lockentry><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/>"
             "</D:locktype></D:lockentry>";
    return std::nullopt;
  }

  HttpAnswer Proppatch(const Call& call) {
    auto object = Find(call.key);
    if (!object) return Refuse({404, "nothing there"});
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
    return Xml(207, "<D:multistatus xmlns:D=\"DAV:\"><D:response><D:href>" + Href(call, call.key) +
                        "</D:href><D:propstat><D:prop>" + names +
                        "</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
                        "</D:multistatus>");
  }

  // ---- answers

  static HttpAnswer Text(int status, std::string text) {
    HttpAnswer answer;
    answer.status = status;
    answer.text = std::move(text);
    return answer;
  }
  static HttpAnswer Refuse(const Refusal& refusal) {
    return Text(refusal.status, refusal.words + "\n");
  }
  static HttpAnswer Xml(int status, const std::string& text) {
    HttpAnswer answer = Text(status, "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n" + text);
    answer.headers.emplace_back("Content-Type", "application/xml; charset=utf-8");
    return answer;
  }

  void Record(const HttpAsk& ask, const std::string& key, const HttpAnswer& answer) {
    if (log_ == nullptr) return;
    const Json line{{"time", Rfc3339(SystemClock().Wall())},
                    {"method", ask.method},
                    {"key", key},
                    {"query", ask.Header("depth")},
                    {"status", answer.drop ? 0 : answer.status},
                    {"in", ask.bytes_in},
                    {"out", ask.method == "HEAD" ? 0 : answer.Length()},
                    {"copy", ask.method == "COPY"}};
    const std::string text = line.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
    const Lock lock(log_mutex_);
    std::fwrite(text.data(), 1, text.size(), log_);
  }

  const DriveServerOptions options_;
  ObjectStore& store_;
  Faults& faults_;
  Libraries libraries_;
  Spelling spelling_;
  Shares shares_ GUARDED_BY(mutex_);
  OAuthServer oauth_;
  Mutex mutex_;  // one change at a time: a condition holds until it is acted on
  std::map<std::string, std::string> locks_;
  std::uint64_t last_tag_ = 0;
  std::map<std::string, std::uint64_t> changed_;  // key -> number of its last change
  std::uint64_t last_change_ = 0;
  const std::string run_ = RandomName(4);              // tokens of another run mean nothing
  std::map<std::string, std::vector<Object>> former_;  // versions that were written over
  Mutex log_mutex_;
  std::FILE* log_ = nullptr;
  HttpHost host_;
};

DriveServer::DriveServer(DriveServerOptions options, ObjectStore* store, Faults* faults)
    : impl_(std::make_unique<Impl>(std::move(options), store, faults)) {}
DriveServer::~DriveServer() = default;
Result<int> DriveServer::Start() { return impl_->Start(); }

}  // namespace pargeter::standin
