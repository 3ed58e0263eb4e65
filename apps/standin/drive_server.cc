// The simulated cloud drive: what comes in, who it is from, who answers it, and the log of
// requests.
#include "drive_server.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "base/text.h"
#include "drive_impl.h"
#include "http_date.h"
#include "net/uri.h"
#include "provider/webdav/dav_xml.h"
#include "provider/xml.h"

namespace pargeter::standin {

using Json = nlohmann::json;

DriveServer::Impl::Impl(DriveServerOptions options, ObjectStore* store, Faults* faults)
    : options_(std::move(options)),
      store_(*store),
      faults_(*faults),
      libraries_(options_.libraries),
      spelling_(options_.fold_names),
      oauth_({options_.libraries ? Libraries::People() : std::vector<std::string>{options_.user},
              options_.token_life}),
      host_(options_.http, store, [this](const HttpAsk& ask) { return Answer(ask); }) {
  store_.MakeBucket(kDriveBucket);
  for (const std::string& kept : libraries_.Kept())
    for (auto slash = kept.find('/'); slash != std::string::npos; slash = kept.find('/', slash + 1))
      if (const std::string key = kept.substr(0, slash + 1); !store_.Get(kDriveBucket, key))
        Ignore(store_.Put(kDriveBucket, key, {std::make_shared<Body>(), NewTag(), Now(), {}}, {}));
  for (const auto& [key, object] : Below("")) spelling_.Made(key);
  if (!options_.request_log.empty()) {
    log_ = std::fopen(options_.request_log.c_str(), "a");
    if (log_ != nullptr) std::setvbuf(log_, nullptr, _IOLBF, 1u << 16);
  }
}

DriveServer::Impl::~Impl() {
  if (log_ != nullptr) std::fclose(log_);
}

HttpAnswer DriveServer::Impl::Answer(const HttpAsk& ask) {
  if (ask.raw_path.rfind("/-/control/", 0) == 0 || ask.raw_path == "/-/faults") return Control(ask);
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
  } else if (plan.lie) {
    answer = Text(ask.method == "PUT" || ask.method == "MKCOL" ? 201 : 204, "");
  } else if (plan.inside) {
    answer = Xml(207, Inside(ask, static_cast<int>(plan.inside->amount)));
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

HttpAnswer DriveServer::Impl::Control(const HttpAsk& ask) {
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

bool DriveServer::Impl::SignIn(Call* call) {
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

HttpAnswer DriveServer::Impl::AskWho(bool bearer) {
  HttpAnswer answer = Text(401, "who are you?\n");
  answer.headers.emplace_back("WWW-Authenticate",
                              bearer ? "Bearer realm=\"drive\", error=\"invalid_token\""
                                     : "Basic realm=\"drive\", charset=\"UTF-8\"");
  return answer;
}

HttpAnswer DriveServer::Impl::Dispatch(Call& call) {
  const std::string& method = call.http.method;
  static const std::set<std::string> reading = {"GET", "HEAD", "OPTIONS", "PROPFIND", "REPORT"};
  const Lock lock(mutex_);
  if (call.key.rfind(kDriveVersions, 0) == 0) return GetVersion(call);
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

std::string DriveServer::Impl::PathOf(const std::string& raw_path) {
  std::string path = PercentDecode(raw_path);
  while (!path.empty() && path.front() == '/') path.erase(0, 1);
  return path;
}

std::string DriveServer::Impl::KeyOf(const std::string& asked) const {
  const std::string path = spelling_.Actual(asked);
  if (IsFolder(path)) return path;
  return store_.Get(kDriveBucket, path + "/") ? path + "/" : path;
}

bool DriveServer::Impl::Enter(Call* call, std::string shown) const {
  const Libraries::Place place = libraries_.Find(call->person, shown);
  call->shelf = place.shelf;
  call->may_write = call->granted && place.role == Role::kWrite && !place.shelf;
  call->key = place.shelf ? place.key : KeyOf(place.key);
  call->shown = std::move(shown);
  return place.role != Role::kNone || (options_.libraries && call->shown.empty());
}

std::string DriveServer::Impl::KeyOfHref(const Call& call, const std::string& href) const {
  const std::string path = webdav::PathOfHref(href);
  return KeyOf(libraries_.Find(call.person, path.empty() ? "" : path.substr(1)).key);
}

std::optional<Object> DriveServer::Impl::Find(const std::string& key) const {
  if (key.empty()) return Object{std::make_shared<Body>(), "top", 0, {}};
  return store_.Get(kDriveBucket, key);
}

void DriveServer::Impl::Keep(const std::string& key, Object object) {
  Changed(key);
  spelling_.Made(key);
  Ignore(store_.Put(kDriveBucket, key, std::move(object), {}));
}

void DriveServer::Impl::Drop(const std::string& key) {
  Changed(key);
  spelling_.Gone(key);
  Ignore(store_.Delete(kDriveBucket, key, {}));
}

std::vector<std::pair<std::string, Object>> DriveServer::Impl::Below(
    const std::string& folder) const {
  std::vector<std::pair<std::string, Object>> out;
  ListRequest list;
  list.prefix = folder;
  for (;;) {
    ListAnswer page = store_.List(kDriveBucket, list);
    for (auto& each : page.keys) out.push_back(std::move(each));
    if (page.next_after.empty()) return out;
    list.after = page.next_after;
  }
}

std::string DriveServer::Impl::Href(const Call& call, const std::string& key) const {
  return "/" + PercentEncode(libraries_.Shown(call.person, key), KeepSlash::kYes);
}

HttpAnswer DriveServer::Impl::Text(int status, std::string text) {
  HttpAnswer answer;
  answer.status = status;
  answer.text = std::move(text);
  return answer;
}

HttpAnswer DriveServer::Impl::Refuse(const DriveRefusal& refusal) {
  return Text(refusal.status, refusal.words + "\n");
}

HttpAnswer DriveServer::Impl::Xml(int status, const std::string& text) {
  HttpAnswer answer = Text(status, "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n" + text);
  answer.headers.emplace_back("Content-Type", "application/xml; charset=utf-8");
  return answer;
}

std::string DriveServer::Impl::Inside(const HttpAsk& ask, int status) {
  const std::string response =
      status == 0 ? ""
                  : fmt::format(
                        "<D:response><D:href>{}</D:href><D:status>HTTP/1.1 {} On Purpose"
                        "</D:status></D:response>",
                        xml::Escape(ask.raw_path), status);
  return "<D:multistatus xmlns:D=\"DAV:\">" + response + "</D:multistatus>";
}

void DriveServer::Impl::Record(const HttpAsk& ask, const std::string& key,
                               const HttpAnswer& answer) {
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

DriveServer::DriveServer(DriveServerOptions options, ObjectStore* store, Faults* faults)
    : impl_(std::make_unique<Impl>(std::move(options), store, faults)) {}
DriveServer::~DriveServer() = default;
Result<int> DriveServer::Start() { return impl_->Start(); }

}  // namespace pargeter::standin
