#include "provider/webdav/dav_wire.h"

#include <fmt/format.h>

#include "base/text.h"

namespace pargeter::webdav {

Wire::Wire(WireOptions options)
    : options_(std::move(options)),
      session_({options_.http, options_.retry, options_.clock, options_.account}) {
  SetLogin(options_.login);
}

bool Wire::SetLogin(Login login) {
  const Lock lock(mutex_);
  const bool differs = login.user != login_.user || login.password != login_.password;
  login_ = std::move(login);
  return differs;
}

std::string Wire::UrlOf(const std::string& path) const {
  return options_.base.scheme + "://" + options_.base.authority + options_.base.path + "/" +
         PercentEncode(path, KeepSlash::kYes);
}

std::string Wire::UrlOfTarget(const std::string& target) const {
  return options_.base.scheme + "://" + options_.base.authority + target;
}

Result<HttpRequest> Wire::Made(const Call& call, const std::string& refused, std::string* token) {
  HttpRequest request;
  request.method = call.method;
  request.url = !call.target.empty() ? UrlOfTarget(call.target)
                : !call.root_path.empty()
                    ? UrlOfTarget(PercentEncode(call.root_path, KeepSlash::kYes))
                    : UrlOf(call.path);
  request.headers = call.headers;
  if (!call.to.empty()) request.headers.emplace_back("destination", UrlOf(call.to));
  if (!call.body.empty())
    request.headers.emplace_back("content-type", call.method == "POST"
                                                     ? "application/x-www-form-urlencoded"
                                                     : "application/xml");
  if (options_.bearer) {
    PG_ASSIGN(*token, options_.bearer(refused, call.cancel));
    request.headers.emplace_back("authorization", "Bearer " + *token);
  } else {
    const Lock lock(mutex_);
    if (!login_.user.empty())
      request.headers.emplace_back("authorization",
                                   "Basic " + Base64(login_.user + ":" + login_.password));
  }
  request.body = call.body;
  request.source = call.source;
  request.sink = call.sink;
  request.deadlines = options_.deadlines;
  if (call.source != nullptr || call.method == "COPY" || call.method == "MOVE")
    request.deadlines.stall = Duration(300000);  // the server may think long before it answers
  return request;
}

Result<HttpResponse> Wire::Send(const Call& call) {
  if (call.status != nullptr) *call.status = 0;
  int status = 0;
  const auto judge = [&](const HttpResponse& response) {
    status = response.head.status;
    if (call.status != nullptr) *call.status = response.head.status;
    return ErrorOf(response, call.what);
  };
  std::string token, refused;
  const auto send = [&] {
    return session_.Send([&] { return Made(call, refused, &token); }, judge, call.once,
                         call.cancel);
  };
  auto response = send();
  if (!response.ok() && status == 401 && options_.bearer) {
    refused = token;  // lapsed early, or revoked: another may be taken
    status = 0;
    response = send();
  }
  if (response.ok() && call.status != nullptr) *call.status = response->head.status;
  return response;
}

Error ErrorOf(const HttpResponse& response, std::string_view what) {
  const std::string& asks = response.head.Get("www-authenticate");
  if (response.head.status == 401 && Lower(asks).rfind("bearer", 0) == 0)
    return Error(Code::kSignIn, fmt::format("{}: sign-in needed", what),
                 "Sign in: pargeter account sign-in ACCOUNT");
  if (response.head.status == 403 && asks.find("insufficient_scope") != std::string::npos)
    return Error(Code::kPermission, fmt::format("{}: the grant does not reach so far", what),
                 "Sign in again, with: pargeter account sign-in ACCOUNT --access write");
  struct Row {
    int status;
    Code code;
    std::string_view why, remedy;
  };
  static constexpr Row kRows[] = {
      {400, Code::kInvalid, "the server does not understand the request",
       "Check that the address is a WebDAV folder's and not, say, a web page's."},
      {401, Code::kSignIn, "the server refuses the user name or the password",
       "Give it anew: pargeter account change ACCOUNT --secret-file FILE"},
      {403, Code::kPermission, "the server does not allow it",
       "Ask for the right to do this, or use another account."},
      {404, Code::kNotFound, "it is not there", ""},
      {405, Code::kUnsupported, "the server cannot do that there",
       "Check that the address is a WebDAV folder's and not, say, a web page's."},
      {407, Code::kSignIn, "a proxy on the way wants a password", "Check the proxy's settings."},
      {408, Code::kStoreFault, "the server waited too long for our bytes", ""},
      {409, Code::kChanged, "the folder that it is in is not there", ""},
      {410, Code::kNotFound, "it is gone", ""},
      {412, Code::kChanged, "another version is there", ""},
      {413, Code::kTooLarge, "the file is larger than the server takes in one request",
       "Have the server's limit on request bodies raised; what waits here is kept and tried "
       "again."},
      {414, Code::kNameTooLong, "the name is too long for the server", ""},
      {416, Code::kChanged, "the file is shorter than it was", ""},
      {422, Code::kInvalid, "the server does not accept it", ""},
      {423, Code::kBusy, "somebody has locked it there", ""},
      {424, Code::kPermission, "the server does not allow all that belongs to it", ""},
      {429, Code::kThrottled, "the server asks to slow down", ""},
      {501, Code::kUnsupported, "the server cannot do that", ""},
      {503, Code::kThrottled, "the server is too busy", ""},
      {507, Code::kOverQuota, "the account is full",
       "Free space in the account; what waits here is kept and tried again."},
  };
  const int status = response.head.status;
  if (status / 100 == 3) {
    const std::string to = Printable(response.head.Get("location")).substr(0, 300);
    return Error(
        Code::kInvalid,
        fmt::format("{}: the server sends us elsewhere{}", what, to.empty() ? "" : ", to " + to),
        "If that address is to be trusted, add the account with it.");
  }
  for (const Row& row : kRows) {
    if (row.status == status)
      return Error(row.code, fmt::format("{}: {}", what, row.why), std::string(row.remedy));
  }
  return Error(status >= 500 ? Code::kStoreFault : Code::kInvalid,
               fmt::format("{}: the server answers {}", what, status));
}

}  // namespace pargeter::webdav
