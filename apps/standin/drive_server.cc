#include "drive_server.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
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
        host_(options_.http, store, [this](const HttpAsk& ask) { return Answer(ask); }) {
    store_.MakeBucket(kBucket);
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
    std::string key;  // of what the address names; a folder's ends in "/" if there is one
    bool may_write = true;
  };

  // ---- one request

  HttpAnswer Answer(const HttpAsk& ask) {
    if (ask.raw_path == "/-/faults") return Control(ask);
    if (options_.latency.count() > 0) std::this_thread::sleep_for(options_.latency);
    Call call{ask, KeyOf(ask.raw_path)};
    const Plan plan = faults_.Meet(ask.method, call.key);
    if (plan.stall) std::this_thread::sleep_for(Duration(plan.stall->amount));
    HttpAnswer answer;
    if (plan.reset || faults_.Away()) {
      answer.drop = true;
    } else if (plan.status) {
      answer = Refuse({plan.status->status, "made on purpose"});
      if (plan.status->retry_after >= 0)
        answer.headers.emplace_back("Retry-After", std::to_string(plan.status->retry_after));
    } else {
      answer = SignIn(&call) ? Dispatch(call) : AskWho();
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
    const auto fault = ParseFault(ask.body->bytes);
    if (!fault.ok()) return Text(400, fault.error().what + "\n");
    faults_.Add(*fault);
    return Text(200, "ok\n");
  }

  bool SignIn(Call* call) const {
    const std::string given = call->http.Header("authorization");
    const auto is = [&](const std::string& user, const std::string& password) {
      return !user.empty() && given == "Basic " + Base64(user + ":" + password);
    };
    if (is(options_.user, options_.password)) return true;
    call->may_write = false;
    return is(options_.guest_user, options_.guest_password);
  }
  static HttpAnswer AskWho() {
    HttpAnswer answer = Text(401, "who are you?\n");
    answer.headers.emplace_back("WWW-Authenticate", "Basic realm=\"drive\", charset=\"UTF-8\"");
    return answer;
  }

  HttpAnswer Dispatch(const Call& call) {
    const std::string& method = call.http.method;
    static const std::set<std::string> reading = {"GET", "HEAD", "OPTIONS", "PROPFIND"};
    if (!call.may_write && reading.count(method) == 0)
      return Refuse({403, "this account may only read"});
    const Lock lock(mutex_);
    if (method == "OPTIONS") {
      HttpAnswer answer = Text(200, "");
      answer.headers.emplace_back("DAV", "1, 2");
      return answer;
    }
    if (reading.count(method) == 0 || method == "GET") {
      if (auto refusal = CheckConditions(call)) return Refuse(*refusal);
    }
    if (method == "GET" || method == "HEAD") return Get(call);
    if (method == "PROPFIND") return Propfind(call);
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

  // Of a file its path, of a folder that is there its path with a slash.
  std::string KeyOf(const std::string& raw_path) const {
    std::string path = PercentDecode(raw_path);
    while (!path.empty() && path.front() == '/') path.erase(0, 1);
    if (IsFolder(path)) return path;
    return store_.Get(kBucket, path + "/") ? path + "/" : path;
  }
  std::optional<Object> Find(const std::string& key) const {
    if (key.empty()) return Object{std::make_shared<Body>(), "top", 0, {}};
    return store_.Get(kBucket, key);
  }
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
  static std::string Href(const std::string& key) {
    return "/" + PercentEncode(key, KeepSlash::kYes);
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
        key = KeyOf(PercentEncode(webdav::PathOfHref(condition.substr(at + 1, end - at - 1)),
                                  KeepSlash::kYes));
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

  HttpAnswer Get(const Call& call) const {
    const auto object = Find(call.key);
    if (!object) return Refuse({404, "nothing there"});
    if (IsFolder(call.key)) return Text(200, "a folder\n");
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
    if (!store_.Put(kBucket, call.key, object, {}).ok()) return Refuse({500, "cannot store it"});
    HttpAnswer answer = Text(before ? 204 : 201, "");
    if (!options_.tagless && !options_.silent_put)
      answer.headers.emplace_back("ETag", Quoted(object.etag));
    return answer;
  }

  HttpAnswer Delete(const Call& call) {
    if (call.key.empty()) return Refuse({403, "the top stays"});
    if (!Find(call.key)) return Refuse({404, "nothing there"});
    Erase(call.key);
    return Text(204, "");
  }
  void Erase(const std::string& key) {
    if (IsFolder(key))
      for (const auto& [below, object] : Below(key)) Ignore(store_.Delete(kBucket, below, {}));
    Ignore(store_.Delete(kBucket, key, {}));
    locks_.erase(key);
  }

  HttpAnswer MakeFolder(const Call& call) {
    const std::string key = IsFolder(call.key) ? call.key : call.key + "/";
    if (Find(key) || Find(key.substr(0, key.size() - 1))) return Refuse({405, "the name is taken"});
    if (!Find(Above(key))) return Refuse({409, "the folder above is missing"});
    Ignore(store_.Put(kBucket, key, {std::make_shared<Body>(), NewTag(), Now(), {}}, {}));
    return Text(201, "");
  }

  HttpAnswer MoveOrCopy(const Call& call) {
    const bool move = call.http.method == "MOVE";
    const bool folder = IsFolder(call.key);
    if (!Find(call.key) || call.key.empty()) return Refuse({404, "nothing there"});
    std::string to = webdav::PathOfHref(call.http.Header("destination"));
    if (to.size() < 2) return Refuse({400, "no destination"});
    const std::string taken = KeyOf(PercentEncode(to, KeepSlash::kYes));
    to = to.substr(1) + (folder ? "/" : "");
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
      Ignore(store_.Put(kBucket, to + key.substr(call.key.size()), object, {}));
      if (move) Ignore(store_.Delete(kBucket, key, {}));
    }
    return Text(there ? 204 : 201, "");
  }

  // ---- properties

  HttpAnswer Propfind(const Call& call) const {
    if (!Find(call.key)) return Refuse({404, "nothing there"});
    const std::string depth = call.http.Header("depth");
    if (depth != "0" && depth != "1") return Refuse({403, "one level at a time"});
    std::vector<Property> wanted;
    pugi::xml_document document;
    if (call.http.body->size > 0) {
      const auto root = xml::Root(document, call.http.body->bytes, "propfind");
      if (!root.ok()) return Refuse({400, "no propfind"});
      for (const pugi::xml_node& p : xml::Child(*root, "prop").children())
        wanted.emplace_back(NamespaceOf(p), LocalName(p));
    }
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

  void Describe(const Call& call, const std::string& key, const Object& object,
                const std::vector<Property>& wanted, std::string* out) const {
    std::string have, lack;
    for (const Property& p : wanted) {
      const auto value = ValueOf(call, key, object, p);
      const std::string open =
          p.first == "DAV:" ? "D:" + p.second
                            : fmt::format("x:{} xmlns:x=\"{}\"", p.second, xml::Escape(p.first));
      const std::string close = (p.first == "DAV:" ? "D:" : "x:") + p.second;
      if (value)
        have += fmt::format("<{}>{}</{}>", open, *value, close);
      else
        lack += fmt::format("<{}/>", open);
    }
    *out += "<D:response><D:href>" + Href(key) + "</D:href><D:propstat><D:prop>" + have +
            "</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat>";
    if (!lack.empty())
      *out += "<D:propstat><D:prop>" + lack +
              "</D:prop><D:status>HTTP/1.1 404 Not Found</D:status></D:propstat>";
    *out += "</D:response>";
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
             (call.may_write ? "<D:privilege><D:write/></D:privilege>" : "");
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
    Ignore(store_.Put(kBucket, call.key, *object, {}));
    return Xml(207, "<D:multistatus xmlns:D=\"DAV:\"><D:response><D:href>" + Href(call.key) +
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
  Mutex mutex_;  // one change at a time: a condition holds until it is acted on
  std::map<std::string, std::string> locks_;
  std::uint64_t last_tag_ = 0;
  Mutex log_mutex_;
  std::FILE* log_ = nullptr;
  HttpHost host_;
};

DriveServer::DriveServer(DriveServerOptions options, ObjectStore* store, Faults* faults)
    : impl_(std::make_unique<Impl>(std::move(options), store, faults)) {}
DriveServer::~DriveServer() = default;
Result<int> DriveServer::Start() { return impl_->Start(); }

}  // namespace pargeter::standin
