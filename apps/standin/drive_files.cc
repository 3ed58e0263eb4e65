// Files, folders, conditions and locks of the simulated cloud drive.
#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>

#include "base/text.h"
#include "drive_impl.h"
#include "http_date.h"
#include "net/uri.h"
#include "provider/webdav/dav_xml.h"

namespace pargeter::standin {

std::optional<DriveRefusal> DriveServer::Impl::CheckConditions(const Call& call) const {
  const auto there = IsFolder(call.key) ? std::nullopt : Find(call.key);
  const std::string only = call.http.Header("if-match"), none = call.http.Header("if-none-match");
  const DriveRefusal refused{412, "the condition does not hold"};
  const std::string condition = call.http.Header("if");
  if (options_.refuse_conditions && condition.find('[') != std::string::npos &&
      Holds(call, condition))
    return DriveRefusal{400, "no condition is understood"};
  if (options_.unquoted_tags && condition.find('[') != std::string::npos &&
      condition.find("[\"") == std::string::npos && condition.find("[W/\"") == std::string::npos)
    return DriveRefusal{400, "that is no entity tag"};
  if (options_.tagless || options_.untagged_listings) return std::nullopt;
  if (none == "*" && (there || (IsFolder(call.key) && Find(call.key)))) return refused;
  if (!only.empty() && (!there || (only != "*" && only != Quoted(there->etag)))) return refused;
  if (!condition.empty() && !Holds(call, condition)) return refused;
  return std::nullopt;
}

bool DriveServer::Impl::Holds(const Call& call, const std::string& condition) const {
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

bool DriveServer::Impl::AllHold(const std::string& key, std::string_view list) const {
  const auto there = IsFolder(key) ? std::nullopt : Find(key);
  const auto lock = LockOn(key);
  while (!list.empty()) {
    const char open = list.front();
    const auto end = open == '[' ? list.find(']') : open == '<' ? list.find('>') : 0;
    if (end == std::string_view::npos) return false;
    const std::string inner(list.substr(1, end > 0 ? end - 1 : 0));
    if (open == '[' && (!there || inner != Quoted(there->etag))) return false;
    if (open == '<' && lock != inner) return false;
    list.remove_prefix(end + 1);
  }
  return true;
}

bool DriveServer::Impl::LeadsThroughFile(const Call& call) const {
  std::string to = call.http.Header("destination");
  if (!to.empty()) to = KeyOfHref(call, to);
  if (!to.empty() && IsFolder(call.key) && !IsFolder(to)) to += "/";
  for (const std::string& path : {call.key, to}) {
    for (auto end = path.find('/'); end != std::string::npos; end = path.find('/', end + 1))
      if (end > 0 && Find(path.substr(0, end))) return true;
  }
  return false;
}

std::optional<std::string> DriveServer::Impl::LockOn(const std::string& key) const {
  const auto lock = locks_.find(key);
  if (lock == locks_.end() || SystemClock().Now() >= lock->second.until) return std::nullopt;
  return lock->second.token;
}

std::optional<DriveRefusal> DriveServer::Impl::CheckLock(const Call& call,
                                                         const std::string& key) const {
  const auto lock = LockOn(key);
  if (!lock || call.http.Header("if").find(*lock) != std::string::npos) return std::nullopt;
  return DriveRefusal{423, "it is locked"};
}

HttpAnswer DriveServer::Impl::TakeLock(const Call& call) {
  if (!Find(call.key)) return Refuse({404, "nothing there"});  // no empty files for locks' sake
  const std::string token = "urn:uuid:" + RandomName(16);
  const std::string wanted = call.http.Header("timeout");  // "Second-20", RFC 4918 section 10.7
  const long asked = wanted.rfind("Second-", 0) == 0 ? std::atol(wanted.c_str() + 7) : 600;
  const long seconds = std::clamp(asked, 1L, 600L);
  locks_[call.key] = {token, SystemClock().Now() + std::chrono::seconds(seconds)};
  HttpAnswer answer =
      Xml(200, fmt::format("<prop xmlns=\"DAV:\"><lockdiscovery><activelock><locktype><write/>"
                           "</locktype><lockscope><exclusive/></lockscope><depth>0</depth>"
                           "<timeout>Second-{}</timeout><locktoken><href>{}</href></locktoken>"
                           "</activelock></lockdiscovery></prop>",
                           seconds, token));
  answer.headers.emplace_back("Lock-Token", "<" + token + ">");
  return answer;
}

HttpAnswer DriveServer::Impl::Unlock(const Call& call) {
  const auto lock = LockOn(call.key);
  if (!lock || call.http.Header("lock-token") != "<" + *lock + ">")
    return Refuse({409, "no such lock"});
  locks_.erase(call.key);
  return Text(204, "");
}

HttpAnswer DriveServer::Impl::PageOrShare(Call& call, const std::string& place) {
  if (!Enter(&call, call.key.substr(place.size()))) return Refuse({404, "nothing there"});
  const auto object = call.shelf || IsFolder(call.key) ? std::nullopt : Find(call.key);
  if (!object) return Refuse({404, "no file there"});
  if (place == Shares::kPages) return Shares::PageOf(call.shown, *object);
  if (call.http.method != "POST") return Refuse({405, "POST"});
  return shares_.Add(call.http.body->bytes, call.key, call.shown, Now());
}

HttpAnswer DriveServer::Impl::ShowShared(const Call& call) {
  const Lock lock(mutex_);
  const auto shared = shares_.Find(call.key, Now());
  const auto object = shared ? Find(shared->key) : std::nullopt;
  if (!object) return Shares::OverPage();
  return shared->bytes ? Serve(call, *object) : Shares::SharedPage(call.key, *shared, *object);
}

HttpAnswer DriveServer::Impl::Get(const Call& call) const {
  const auto object = Find(call.key);
  if (call.shelf) return Text(200, "a shelf\n");
  if (!object) return Refuse({404, "nothing there"});
  if (IsFolder(call.key)) return Text(200, "a folder\n");
  HttpAnswer answer = Serve(call, *object);
  answer.headers.emplace_back("Link", Shares::LinksOf(call.shown));
  return answer;
}

bool DriveServer::Impl::IsBare(const std::string& key) const {
  const std::string& end = options_.bare_reads_of;
  return options_.bare_reads ||
         (!end.empty() && key.size() >= end.size() && key.substr(key.size() - end.size()) == end);
}

HttpAnswer DriveServer::Impl::Serve(const Call& call, const Object& found) const {
  const Object* object = &found;
  HttpAnswer answer;
  const bool bare = IsBare(call.key);
  if (!bare) answer.headers.emplace_back("Last-Modified", HttpDate(object->modified));
  if (!options_.tagless && !bare) answer.headers.emplace_back("ETag", Quoted(object->etag));
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
  answer.headers.emplace_back(
      "Content-Range", fmt::format("bytes {}-{}/{}", first, last,
                                   options_.bare_reads ? "*" : std::to_string(object->body->size)));
  return answer;
}

std::uint64_t DriveServer::Impl::Used() const {
  std::uint64_t used = 0;
  for (const auto& [key, object] : Below("")) used += object.body->size;
  return used;
}

HttpAnswer DriveServer::Impl::Put(const Call& call) {
  if (IsFolder(call.key)) return Refuse({405, "a folder is there"});
  if (!Find(Above(call.key))) return Refuse({409, "the folder is missing"});
  if (options_.largest_body > 0 && call.http.body->size > options_.largest_body)
    return Refuse({413, "that is too much at once"});
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
  if (!store_.Put(kDriveBucket, call.key, object, {}).ok()) return Refuse({500, "cannot store it"});
  HttpAnswer answer = Text(before ? 204 : 201, "");
  if (!options_.tagless && !options_.silent_put)
    answer.headers.emplace_back("ETag", Quoted(object.etag));
  return answer;
}

HttpAnswer DriveServer::Impl::Delete(const Call& call) {
  if (call.key.empty() || call.key == libraries_.Find(call.person, "personal").key)
    return Refuse({403, "the top stays"});
  if (!Find(call.key)) return Refuse({404, "nothing there"});
  Erase(call.key);
  return Text(204, "");
}

void DriveServer::Impl::Erase(const std::string& key) {
  if (IsFolder(key))
    for (const auto& [below, object] : Below(key)) Drop(below);
  Drop(key);
  locks_.erase(key);
}

HttpAnswer DriveServer::Impl::MakeFolder(const Call& call) {
  const std::string key = IsFolder(call.key) ? call.key : call.key + "/";
  if (Find(key) || Find(key.substr(0, key.size() - 1))) return Refuse({405, "the name is taken"});
  if (!Find(Above(key))) return Refuse({409, "the folder above is missing"});
  Keep(key, {std::make_shared<Body>(), NewTag(), Now(), {}});
  return Text(201, "");
}

HttpAnswer DriveServer::Impl::MoveOrCopy(const Call& call) {
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

}  // namespace pargeter::standin
