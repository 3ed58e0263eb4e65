#include "net/oauth.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>

#include "base/digest.h"
#include "base/file.h"
#include "base/random.h"
#include "base/text.h"
#include "net/http_client.h"
#include "net/uri.h"

namespace pargeter::oauth {
namespace {

using Json = nlohmann::json;
using Fields = std::vector<std::pair<std::string, std::string>>;

constexpr std::size_t kLargestAnswer = 256 * 1024;
constexpr Duration kOverall(30000);
constexpr const char* kMetadata = "/.well-known/oauth-authorization-server";
constexpr const char* kDeviceType = "urn:ietf:params:oauth:grant-type:device_code";

Status CheckAddress(const std::string& url, std::string_view what) {
  const auto cut = url.find_first_of("?#");
  const auto at = ParseEndpoint(url.substr(0, cut));
  if (!at.ok())
    return Error(Code::kInvalid, fmt::format("{} is no address: {}", what, Printable(url)));
  const bool here = at->host == "localhost" || at->host == "::1" || at->host.rfind("127.", 0) == 0;
  if (at->scheme == "https" || here) return {};
  return Error(Code::kRefused, fmt::format("{} is not protected: {}", what, Printable(url)),
               "Tokens are sent over https only: use the https address.");
}

Result<HttpResponse> Send(HttpRequest request, const Client& client, const Cancel& cancel) {
  HttpClient http(client.http);
  request.max_body = kLargestAnswer;
  request.deadlines.overall = kOverall;
  request.cancel = cancel;
  return http.Do(request);
}

std::string Form(const Fields& fields) {
  std::string body;
  for (const auto& [name, value] : fields)
    if (!value.empty()) body += (body.empty() ? "" : "&") + name + "=" + PercentEncode(value);
  return body;
}

std::string TextIn(const Json& json, const char* key) {
  const auto it = json.find(key);
  return it != json.end() && it->is_string() ? it->get<std::string>() : "";
}
std::int64_t NumberIn(const Json& json, const char* key, std::int64_t otherwise) {
  const auto it = json.find(key);
  if (it == json.end() || !it->is_number()) return otherwise;
  const double n = it->get<double>();
  return n >= 0 && n < 1e10 ? static_cast<std::int64_t>(n) : otherwise;
}

struct Answered {
  Json json;
  std::string error;  // RFC 6749 section 5.2, "" if it is none
};

// Of an endpoint that answers in JSON, also when it refuses.
Result<Answered> Post(const std::string& url, const Fields& fields, const Client& client,
                      const Cancel& cancel) {
  HttpRequest request;
  request.method = "POST";
  request.url = url;
  request.headers = {{"content-type", "application/x-www-form-urlencoded"},
                     {"accept", "application/json"}};
  request.body = Form(fields);
  PG_ASSIGN(const HttpResponse response, Send(std::move(request), client, cancel));
  const int status = response.head.status;
  if (status >= 500 || status == 429)
    return Error(Code::kUnavailable,
                 fmt::format("the sign-in server {} has trouble ({})", Printable(url), status));
  Answered out;
  out.json = Json::parse(response.body, nullptr, false);
  if (status / 100 == 2 && response.body.empty()) return out;
  if (!out.json.is_object())
    return Error(Code::kInvalid,
                 fmt::format("{} does not answer like a sign-in server", Printable(url)));
  if (status / 100 != 2) {
    out.error = TextIn(out.json, "error");
    if (out.error.empty()) out.error = "refused";
  }
  return out;
}

Result<Tokens> TokensOf(const Answered& answer, const Tokens& before) {
  if (!answer.error.empty()) {
    if (answer.error == "invalid_grant")
      return Error(Code::kSignIn, "the grant has ended",
                   "Sign in again: pargeter account sign-in ACCOUNT");
    return Error(
        Code::kInvalid,
        fmt::format("the sign-in server refuses: {}", Printable(answer.error).substr(0, 100)),
        "Check the account's client id and scope.");
  }
  Tokens tokens;
  tokens.access = TextIn(answer.json, "access_token");
  tokens.refresh = TextIn(answer.json, "refresh_token");
  if (tokens.refresh.empty()) tokens.refresh = before.refresh;
  tokens.scope = TextIn(answer.json, "scope");
  if (tokens.scope.empty()) tokens.scope = before.scope;
  const std::int64_t seconds = NumberIn(answer.json, "expires_in", 0);
  tokens.lives = seconds * 1'000'000'000;
  if (seconds > 0) tokens.expires = SystemClock().Wall() + tokens.lives;
  const bool usable =
      !tokens.access.empty() && Lower(TextIn(answer.json, "token_type")) == "bearer";
  const auto plain = [](const std::string& s) {
    return std::all_of(s.begin(), s.end(), [](char c) { return c > ' ' && c < 0x7f; });
  };
  if (!usable || !plain(tokens.access) || !plain(tokens.refresh))
    return Error(Code::kInvalid, "the sign-in server gives no token that can be used");
  return tokens;
}

std::string Base64Url(std::string_view bytes) {
  std::string text = Base64(bytes);
  while (!text.empty() && text.back() == '=') text.pop_back();
  std::replace(text.begin(), text.end(), '+', '-');
  std::replace(text.begin(), text.end(), '/', '_');
  return text;
}

std::map<std::string, std::string> Query(std::string_view text) {
  std::map<std::string, std::string> out;
  for (const std::string& pair : Split(text, '&')) {
    const auto equals = pair.find('=');
    std::string value = equals == std::string::npos ? "" : pair.substr(equals + 1);
    std::replace(value.begin(), value.end(), '+', ' ');
    out.emplace(PercentDecode(pair.substr(0, equals)), PercentDecode(value));
  }
  return out;
}

}  // namespace

// ---- what is kept

std::string Pack(const Tokens& t) {
  return Json{{"access", t.access},
              {"refresh", t.refresh},
              {"scope", t.scope},
              {"expires", t.expires},
              {"lives", t.lives}}
      .dump();
}

Result<Tokens> Unpack(const std::string& text) {
  const Json json = Json::parse(text, nullptr, false);
  Tokens tokens;
  if (json.is_object()) {
    tokens.access = TextIn(json, "access");
    tokens.refresh = TextIn(json, "refresh");
    tokens.scope = TextIn(json, "scope");
    for (auto [key, out] : {std::pair("expires", &tokens.expires), {"lives", &tokens.lives}})
      if (const auto it = json.find(key); it != json.end() && it->is_number_integer())
        *out = it->get<Nanos>();
  }
  if (tokens.access.empty() && tokens.refresh.empty())
    return Error(Code::kSignIn, "nobody is signed in");
  return tokens;
}

// ---- who is asked

Result<Server> Discover(const std::string& issuer, const Client& client, const Cancel& cancel) {
  PG_TRY(CheckAddress(issuer, "the sign-in server's address"));
  PG_ASSIGN(const Endpoint at, ParseEndpoint(issuer));
  HttpRequest request;
  request.url = at.scheme + "://" + at.authority + kMetadata + at.path;
  request.headers = {{"accept", "application/json"}};
  const std::string url = request.url;
  PG_ASSIGN(const HttpResponse response, Send(std::move(request), client, cancel));
  const Json json = Json::parse(response.body, nullptr, false);
  if (response.head.status != 200 || !json.is_object())
    return Error(
        Code::kInvalid,
        fmt::format("{} does not say how to sign in ({})", Printable(url), response.head.status),
        "Check the address given with --issuer.");
  const auto trimmed = [](std::string s) {
    while (!s.empty() && s.back() == '/') s.pop_back();
    return s;
  };
  // section 3.3: else another server could pass itself off for this one
  if (trimmed(TextIn(json, "issuer")) != trimmed(issuer))
    return Error(Code::kInvalid, fmt::format("{} speaks for another server", Printable(url)));
  Server server;
  server.issuer = issuer;
  server.authorization = TextIn(json, "authorization_endpoint");
  server.token = TextIn(json, "token_endpoint");
  server.device = TextIn(json, "device_authorization_endpoint");
  server.revocation = TextIn(json, "revocation_endpoint");
  if (const auto it = json.find("scopes_supported"); it != json.end() && it->is_array())
    for (const Json& scope : *it)
      if (scope.is_string()) server.scopes.push_back(scope.get<std::string>());
  if (server.token.empty())
    return Error(Code::kInvalid, fmt::format("{} gives out no tokens", Printable(url)));
  for (const std::string* each :
       {&server.authorization, &server.token, &server.device, &server.revocation})
    if (!each->empty()) PG_TRY(CheckAddress(*each, "an address that the sign-in server names"));
  return server;
}

// ---- with a browser on this machine

Pkce NewPkce() {
  Pkce pkce;
  std::string bytes;
  for (int i = 0; i < 4; ++i) {
    const std::uint64_t bits = RandomBits();
    bytes.append(reinterpret_cast<const char*>(&bits), sizeof(bits));
  }
  pkce.verifier = Base64Url(bytes);
  pkce.challenge = Base64Url(Sha256(pkce.verifier));
  return pkce;
}

std::string AuthorizationUrl(const Server& server, const Client& client,
                             const std::string& redirect, const std::string& scope,
                             const std::string& state, const Pkce& pkce) {
  // without "prompt" some servers silently leave out the right to come back without the person
  const char mark = server.authorization.find('?') == std::string::npos ? '?' : '&';
  return server.authorization + mark +
         Form({{"response_type", "code"},
               {"client_id", client.id},
               {"redirect_uri", redirect},
               {"scope", scope},
               {"state", state},
               {"code_challenge", pkce.challenge},
               {"code_challenge_method", "S256"},
               {"prompt", "consent"}});
}

Result<Tokens> Redeem(const Server& server, const Client& client, const std::string& code,
                      const std::string& redirect, const Pkce& pkce, const Cancel& cancel) {
  PG_ASSIGN(const Answered answer, Post(server.token,
                                        {{"grant_type", "authorization_code"},
                                         {"code", code},
                                         {"redirect_uri", redirect},
                                         {"client_id", client.id},
                                         {"code_verifier", pkce.verifier}},
                                        client, cancel));
  return TokensOf(answer, {});
}

struct Loopback::Socket {
  Fd fd;
  int port = 0;
};
Loopback::Loopback(std::unique_ptr<Socket> socket) : socket_(std::move(socket)) {}
Loopback::Loopback(Loopback&&) noexcept = default;
Loopback::~Loopback() = default;

Result<Loopback> Loopback::Listen() {
  auto socket = std::make_unique<Socket>();
  socket->fd = Fd(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0));
  sockaddr_in at{};
  at.sin_family = AF_INET;
  at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t length = sizeof(at);
  if (::bind(socket->fd.get(), reinterpret_cast<sockaddr*>(&at), length) != 0 ||
      ::listen(socket->fd.get(), 8) != 0 ||
      ::getsockname(socket->fd.get(), reinterpret_cast<sockaddr*>(&at), &length) != 0)
    return FromErrno(errno, "cannot listen on this machine");
  socket->port = ntohs(at.sin_port);
  return Loopback(std::move(socket));
}

std::string Loopback::redirect() const {
  return fmt::format("http://127.0.0.1:{}/callback", socket_->port);
}

namespace {

// The first line of a request, or "".
std::string AskedOn(int fd) {
  std::string text;
  while (text.size() < 16384 && text.find("\r\n\r\n") == std::string::npos) {
    pollfd p{fd, POLLIN, 0};
    char buffer[4096];
    if (::poll(&p, 1, 5000) != 1) return "";
    const ssize_t n = ::recv(fd, buffer, sizeof(buffer), 0);
    if (n <= 0) return "";
    text.append(buffer, static_cast<std::size_t>(n));
  }
  return text.substr(0, text.find("\r\n"));
}

void Show(int fd, int status, std::string_view words) {
  const std::string page = fmt::format(
      "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Pargeter</title>"
      "<body style=\"font: 18px/1.5 sans-serif; max-width: 32em; margin: 4em auto\">"
      "<h1>Pargeter</h1><p>{}</p></body></html>\n",
      words);
  const std::string answer = fmt::format(
      "HTTP/1.1 {} OK\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: {}\r\n"
      "Cache-Control: no-store\r\nConnection: close\r\n\r\n{}",
      status, page.size(), page);
  const ssize_t sent = ::send(fd, answer.data(), answer.size(), MSG_NOSIGNAL);
  static_cast<void>(sent);  // who closed the page needs no answer
}

}  // namespace

Result<std::string> Loopback::Await(const std::string& state, Duration patience,
                                    const Cancel& cancel) {
  const Steady until = std::chrono::steady_clock::now() + patience;
  while (std::chrono::steady_clock::now() < until) {
    if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "the sign-in was given up");
    pollfd p{socket_->fd.get(), POLLIN, 0};
    if (::poll(&p, 1, 200) != 1) continue;
    const Fd fd(::accept4(socket_->fd.get(), nullptr, nullptr, SOCK_CLOEXEC));
    if (!fd) continue;
    const std::vector<std::string> line = Split(AskedOn(fd.get()), ' ');
    const auto mark = line.size() == 3 ? line[1].find('?') : std::string::npos;
    if (line.size() != 3 || line[0] != "GET" || line[1].substr(0, mark) != "/callback") {
      Show(fd.get(), 404, "There is nothing here.");
      continue;
    }
    const auto query = Query(mark == std::string::npos ? "" : line[1].substr(mark + 1));
    const auto given = [&](const char* name) {
      const auto it = query.find(name);
      return it == query.end() ? std::string() : it->second;
    };
    if (given("state") != state) {  // somebody else's, or an old one: not ours to answer
      Show(fd.get(), 400, "This is not the sign-in that is waited for.");
      continue;
    }
    if (const std::string error = given("error"); !error.empty()) {
      Show(fd.get(), 200, "It was not granted. You can close this page.");
      return Error(Code::kPermission,
                   fmt::format("it was not granted: {}", Printable(error).substr(0, 100)));
    }
    if (const std::string code = given("code"); !code.empty()) {
      Show(fd.get(), 200, "You are signed in. You can close this page.");
      return code;
    }
    Show(fd.get(), 400, "The answer of the sign-in server is incomplete.");
  }
  return Error(Code::kTimeout, "nobody signed in in time",
               "Start the sign-in again when you are at the browser.");
}

// ---- with a browser anywhere

Result<DeviceGrant> BeginDevice(const Server& server, const Client& client,
                                const std::string& scope, const Cancel& cancel) {
  if (server.device.empty())
    return Error(Code::kUnsupported, "this sign-in server gives no codes for other devices",
                 "Sign in with a browser on this machine.");
  PG_ASSIGN(const Answered answer,
            Post(server.device, {{"client_id", client.id}, {"scope", scope}}, client, cancel));
  if (!answer.error.empty())
    return Error(
        Code::kInvalid,
        fmt::format("the sign-in server refuses: {}", Printable(answer.error).substr(0, 100)),
        "Check the account's client id and scope.");
  DeviceGrant grant;
  grant.device_code = TextIn(answer.json, "device_code");
  grant.user_code = Printable(TextIn(answer.json, "user_code"));
  grant.address = Printable(TextIn(answer.json, "verification_uri"));
  grant.complete_address = Printable(TextIn(answer.json, "verification_uri_complete"));
  grant.interval =
      Duration(std::clamp<std::int64_t>(NumberIn(answer.json, "interval", 5), 1, 60) * 1000);
  grant.lasts =
      Duration(std::clamp<std::int64_t>(NumberIn(answer.json, "expires_in", 600), 1, 3600) * 1000);
  if (grant.device_code.empty() || grant.user_code.empty() || grant.address.empty())
    return Error(Code::kInvalid, "the sign-in server gives no code");
  return grant;
}

Result<Tokens> AwaitDevice(const Server& server, const Client& client, const DeviceGrant& grant,
                           const Cancel& cancel) {
  const Cancel token = cancel ? cancel : std::make_shared<CancelToken>();
  const Steady until = std::chrono::steady_clock::now() + grant.lasts;
  Duration pause = grant.interval;
  while (std::chrono::steady_clock::now() < until) {
    if (token->WaitFor(pause)) return Error(Code::kCancelled, "the sign-in was given up");
    const auto answer = Post(
        server.token,
        {{"grant_type", kDeviceType}, {"device_code", grant.device_code}, {"client_id", client.id}},
        client, cancel);
    if (!answer.ok()) {
      if (!MayRetry(answer.error().code)) return answer.error();
      pause = std::min(pause * 2, Duration(60000));  // section 3.5: a lost connection is no refusal
      continue;
    }
    if (answer->error == "authorization_pending") continue;
    if (answer->error == "slow_down") {
      pause += Duration(5000);
      continue;
    }
    if (answer->error == "access_denied") return Error(Code::kPermission, "it was not granted");
    if (answer->error == "expired_token") break;
    return TokensOf(*answer, {});
  }
  return Error(Code::kTimeout, "the code has lapsed", "Start the sign-in again.");
}

// ---- later

Result<Tokens> Refresh(const Server& server, const Client& client, const Tokens& tokens,
                       const Cancel& cancel) {
  PG_ASSIGN(const Answered answer, Post(server.token,
                                        {{"grant_type", "refresh_token"},
                                         {"refresh_token", tokens.refresh},
                                         {"client_id", client.id}},
                                        client, cancel));
  return TokensOf(answer, tokens);
}

Status Revoke(const Server& server, const Client& client, const Tokens& tokens,
              const Cancel& cancel) {
  if (server.revocation.empty())
    return Error(Code::kUnsupported, "this sign-in server takes no grant back",
                 "Revoke the grant in the account's settings at the provider.");
  for (const auto& [token, kind] :
       {std::pair(tokens.refresh, "refresh_token"), std::pair(tokens.access, "access_token")}) {
    if (token.empty()) continue;
    PG_ASSIGN(const Answered answer,
              Post(server.revocation,
                   {{"token", token}, {"token_type_hint", kind}, {"client_id", client.id}}, client,
                   cancel));
    if (!answer.error.empty())
      return Error(Code::kInvalid,
                   fmt::format("the sign-in server does not take the grant back: {}",
                               Printable(answer.error).substr(0, 100)));
  }
  return {};
}

bool Covers(const std::string& granted, const std::string& wanted) {
  const std::vector<std::string> have = Split(granted, ' ');
  for (const std::string& one : Split(wanted, ' '))
    if (!one.empty() && std::find(have.begin(), have.end(), one) == have.end()) return false;
  return true;
}

}  // namespace pargeter::oauth
