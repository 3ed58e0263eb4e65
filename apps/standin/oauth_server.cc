#include "oauth_server.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/digest.h"
#include "base/random.h"
#include "base/text.h"
#include "net/uri.h"
#include "pages.h"
#include "provider/xml.h"

namespace pargeter::standin {
namespace {

using Json = nlohmann::json;
constexpr const char* kWellKnown = "/.well-known/oauth-authorization-server";
constexpr const char* kScopes[] = {"files.read", "files.write", "offline_access"};

std::map<std::string, std::string> FormIn(const std::string& body) {
  std::map<std::string, std::string> out;
  for (const std::string& pair : Split(body, '&')) {
    const auto equals = pair.find('=');
    std::string value = equals == std::string::npos ? "" : pair.substr(equals + 1);
    std::replace(value.begin(), value.end(), '+', ' ');
    out[PercentDecode(pair.substr(0, equals))] = PercentDecode(value);
  }
  return out;
}

std::string In(const std::map<std::string, std::string>& fields, const std::string& name) {
  const auto it = fields.find(name);
  return it == fields.end() ? "" : it->second;
}

HttpAnswer JsonAnswer(int status, const Json& json) {
  HttpAnswer answer;
  answer.status = status;
  answer.text = json.dump();
  answer.headers = {{"Content-Type", "application/json"}, {"Cache-Control", "no-store"}};
  return answer;
}
HttpAnswer Refuse(const char* error) { return JsonAnswer(400, {{"error", error}}); }

std::string Base64Url(std::string_view bytes) {
  std::string text = Base64(bytes);
  while (!text.empty() && text.back() == '=') text.pop_back();
  std::replace(text.begin(), text.end(), '+', '-');
  std::replace(text.begin(), text.end(), '/', '_');
  return text;
}

bool IsLoopback(const std::string& redirect) {
  return redirect.rfind("http://127.0.0.1:", 0) == 0 || redirect.rfind("http://[::1]:", 0) == 0;
}

bool Has(const std::string& scope, const std::string& one) {
  const auto all = Split(scope, ' ');
  return std::find(all.begin(), all.end(), one) != all.end();
}

}  // namespace

bool OAuthServer::Serves(const std::string& path) {
  return path == kWellKnown || path.rfind("/-/oauth/", 0) == 0;
}

HttpAnswer OAuthServer::Answer(const HttpAsk& ask) {
  const std::string& path = ask.raw_path;
  const bool post = ask.method == "POST";
  const Fields form = post ? FormIn(ask.body->bytes) : Fields();
  if (path == kWellKnown) return Metadata(ask);
  if (path == "/-/oauth/authorize") return post ? Decide(form) : AskPerson(ask.query, path);
  if (path == "/-/oauth/code") return post ? DecideDevice(form) : AskPerson(ask.query, path);
  if (path == "/-/oauth/device" && post) return BeginDevice(ask, form);
  if (path == "/-/oauth/token" && post) return Token(form);
  if (path == "/-/oauth/revoke" && post) return Revoke(form);
  return Page(404, "<h1>There is nothing here</h1>");
}

HttpAnswer OAuthServer::Metadata(const HttpAsk& ask) const {
  const std::string base = "http://" + ask.Header("host"), at = base + "/-/oauth/";
  return JsonAnswer(200, {{"issuer", base},
                          {"authorization_endpoint", at + "authorize"},
                          {"token_endpoint", at + "token"},
                          {"device_authorization_endpoint", at + "device"},
                          {"revocation_endpoint", at + "revoke"},
                          {"scopes_supported", kScopes},
                          {"response_types_supported", {"code"}},
                          {"code_challenge_methods_supported", {"S256"}}});
}

// The page on which a person says yes or no.
HttpAnswer OAuthServer::AskPerson(const Fields& fields, const std::string& to) const {
  const bool device = to == "/-/oauth/code";
  if (!device &&
      (In(fields, "response_type") != "code" || !IsLoopback(In(fields, "redirect_uri")) ||
       In(fields, "code_challenge_method") != "S256" || In(fields, "client_id").empty()))
    return Page(400,
                "<h1>This request is not understood</h1>"
                "<p>A program on this machine made it. Nothing was granted.</p>");
  std::string hidden;
  for (const auto& [name, value] : fields)
    if (!device || name != "user_code")
      hidden += fmt::format("<input type=\"hidden\" name=\"{}\" value=\"{}\">", xml::Escape(name),
                            xml::Escape(value));
  std::string who;
  for (const std::string& person : options_.people)
    who += fmt::format("<label><input type=\"radio\" name=\"person\" value=\"{0}\"{1}> {0}</label>",
                       xml::Escape(person), person == options_.people.front() ? " checked" : "");
  const std::string scope = In(fields, "scope");
  const std::string wish =
      device ? fmt::format(
                   "<p>Enter the code that the other device shows.</p><p><input type=\"text\" "
                   "name=\"user_code\" value=\"{}\"></p>",
                   xml::Escape(In(fields, "user_code")))
             : fmt::format("<p>The program <b>{}</b> wants to <b>{}</b> your files.</p>",
                           xml::Escape(In(fields, "client_id")),
                           Has(scope, "files.write") ? "read and change" : "read");
  return Page(200,
              fmt::format("<h1>Museum drive</h1><form method=\"post\" action=\"{}\">{}{}"
                          "<p>You are</p>{}<button name=\"answer\" value=\"grant\">Grant</button>"
                          "<button name=\"answer\" value=\"deny\">Refuse</button></form>",
                          to, hidden, wish, who));
}

int OAuthServer::NewGrant(const Fields& fields) {
  const int number = static_cast<int>(grants_.size()) + 1;
  std::string scope;
  for (const char* one : kScopes)  // unknown ones are left out
    if (Has(In(fields, "scope"), one)) scope += (scope.empty() ? "" : " ") + std::string(one);
  grants_[number] = {In(fields, "person"), scope, In(fields, "client_id"), "", false};
  return number;
}

HttpAnswer OAuthServer::Decide(const Fields& fields) {
  const std::string redirect = In(fields, "redirect_uri");
  if (!IsLoopback(redirect)) return Page(400, "<h1>This request is not understood</h1>");
  std::string back = redirect + "?state=" + PercentEncode(In(fields, "state"));
  if (In(fields, "answer") != "grant") {
    back += "&error=access_denied";
  } else {
    const Lock lock(mutex_);
    const std::string code = RandomName(16);
    codes_[code] = {NewGrant(fields), In(fields, "code_challenge"), redirect, false};
    back += "&code=" + code;
  }
  HttpAnswer answer = Page(302, "<p>Back to the program.</p>");
  answer.headers.emplace_back("Location", back);
  return answer;
}

HttpAnswer OAuthServer::BeginDevice(const HttpAsk& ask, const Fields& fields) {
  const Lock lock(mutex_);
  const std::string code = RandomName(16);
  std::string user_code = RandomName(4);
  std::transform(user_code.begin(), user_code.end(), user_code.begin(), ::toupper);
  user_code.insert(4, "-");
  devices_[code] = {user_code, In(fields, "client_id"), In(fields, "scope"), 0, false, {}};
  const std::string page = "http://" + ask.Header("host") + "/-/oauth/code";
  return JsonAnswer(
      200, {{"device_code", code},
            {"user_code", user_code},
            {"verification_uri", page},
            {"verification_uri_complete", page + "?user_code=" + user_code},
            {"expires_in", 600},
            {"interval", std::max<std::int64_t>(1, options_.device_interval.count() / 1000)}});
}

HttpAnswer OAuthServer::DecideDevice(const Fields& fields) {
  const Lock lock(mutex_);
  for (auto& [code, device] : devices_) {
    if (device.user_code != In(fields, "user_code") || device.grant != 0 || device.denied) continue;
    device.denied = In(fields, "answer") != "grant";
    Fields whole = fields;
    whole["scope"] = device.scope;
    whole["client_id"] = device.client;
    if (!device.denied) device.grant = NewGrant(whole);
    return Page(200, device.denied ? "<h1>Refused</h1><p>Nothing was granted.</p>"
                                   : "<h1>Granted</h1><p>The other device goes on by itself.</p>");
  }
  return Page(400, "<h1>No such code</h1><p>Look at it once more; it may have lapsed.</p>");
}

HttpAnswer OAuthServer::Token(const Fields& fields) {
  const Lock lock(mutex_);
  const std::string type = In(fields, "grant_type");
  if (type == "authorization_code") {
    const auto code = codes_.find(In(fields, "code"));
    if (code == codes_.end()) return Refuse("invalid_grant");
    Code& c = code->second;
    const bool good = !c.used && c.redirect == In(fields, "redirect_uri") &&
                      Base64Url(Sha256(In(fields, "code_verifier"))) == c.challenge;
    if (!good) grants_[c.grant].ended = true;
    c.used = true;
    return good ? Issue(c.grant) : Refuse("invalid_grant");
  }
  if (type == "urn:ietf:params:oauth:grant-type:device_code") {
    const auto device = devices_.find(In(fields, "device_code"));
    if (device == devices_.end()) return Refuse("expired_token");
    Device& d = device->second;
    if (d.denied) return Refuse("access_denied");
    const Steady now = std::chrono::steady_clock::now();
    const bool soon = now - d.last_poll < options_.device_interval * 9 / 10;
    d.last_poll = now;
    if (d.grant == 0) return Refuse(soon ? "slow_down" : "authorization_pending");
    const int grant = d.grant;
    devices_.erase(device);
    return Issue(grant);
  }
  if (type != "refresh_token") return Refuse("unsupported_grant_type");
  const auto refresh = refreshes_.find(In(fields, "refresh_token"));
  if (refresh == refreshes_.end()) return Refuse("invalid_grant");
  Grant& grant = grants_[refresh->second];
  if (grant.refresh != refresh->first) grant.ended = true;  // used before: somebody has copied it
  return grant.ended ? Refuse("invalid_grant") : Issue(refresh->second);
}

HttpAnswer OAuthServer::Issue(int number) {
  Grant& grant = grants_[number];
  if (grant.ended) return Refuse("invalid_grant");
  const std::string access = RandomName(24);
  access_[access] = {number, std::chrono::steady_clock::now() + options_.token_life};
  Json json{{"access_token", access},
            {"token_type", "Bearer"},
            {"expires_in", options_.token_life.count() / 1000},
            {"scope", grant.scope}};
  if (Has(grant.scope, "offline_access")) {
    grant.refresh = RandomName(24);
    refreshes_[grant.refresh] = number;
    json["refresh_token"] = grant.refresh;
  }
  return JsonAnswer(200, json);
}

HttpAnswer OAuthServer::Revoke(const Fields& fields) {
  const Lock lock(mutex_);
  const std::string token = In(fields, "token");
  if (const auto it = refreshes_.find(token); it != refreshes_.end())
    grants_[it->second].ended = true;
  if (const auto it = access_.find(token); it != access_.end())
    grants_[it->second.first].ended = true;
  return JsonAnswer(200, Json::object());
}

std::optional<Bearer> OAuthServer::Check(const std::string& token) {
  const Lock lock(mutex_);
  const auto it = access_.find(token);
  if (it == access_.end() || it->second.second < std::chrono::steady_clock::now())
    return std::nullopt;
  const Grant& grant = grants_[it->second.first];
  if (grant.ended || !Has(grant.scope, "files.read")) return std::nullopt;
  return Bearer{grant.person, Has(grant.scope, "files.write")};
}

void OAuthServer::EndCodes() {
  const Lock lock(mutex_);
  devices_.clear();
}

void OAuthServer::EndAll() {
  const Lock lock(mutex_);
  for (auto& [number, grant] : grants_) grant.ended = true;
}

}  // namespace pargeter::standin
