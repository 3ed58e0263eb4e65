// OAuth 2.0 for programs on a person's machine: metadata (RFC 8414), the authorization code with
// PKCE over a loopback address (RFC 6749, 7636, 8252), the device grant (RFC 8628), refreshing and
// revoking (RFC 7009). The client is a public one: it has an id and no secret.
//
// Calls block, with deadlines, and may be given up by a Cancel. Addresses must be https, or on this
// machine. No error ever quotes a token or a code.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "net/cancel.h"
#include "net/http_client.h"

namespace pargeter::oauth {

struct Server {
  std::string issuer, authorization, token, device, revocation;  // addresses; "": not offered
  std::vector<std::string> scopes;                               // that it names; none: it does not
};

struct Client {
  std::string id;
  HttpOptions http;
};

// What was granted, as it is kept in the secrets store.
struct Tokens {
  std::string access, refresh, scope;
  Nanos expires = 0;  // of the access token; 0: the server did not say
  Nanos lives = 0;    // how long it was good for when it came
};
std::string Pack(const Tokens& tokens);
Result<Tokens> Unpack(const std::string& text);  // kSignIn if it is none

// kInvalid if `issuer` has no such metadata, or it is another's.
Result<Server> Discover(const std::string& issuer, const Client& client, const Cancel& cancel);

// ---- with a browser on this machine

struct Pkce {
  std::string verifier, challenge;  // challenge: S256
};
Pkce NewPkce();
std::string AuthorizationUrl(const Server& server, const Client& client,
                             const std::string& redirect, const std::string& scope,
                             const std::string& state, const Pkce& pkce);
Result<Tokens> Redeem(const Server& server, const Client& client, const std::string& code,
                      const std::string& redirect, const Pkce& pkce, const Cancel& cancel);

// Waits on a port of 127.0.0.1 for the browser to come back.
class Loopback {
 public:
  static Result<Loopback> Listen();
  Loopback(Loopback&&) noexcept;
  ~Loopback();
  std::string redirect() const;  // http://127.0.0.1:PORT/callback
  // The code, once a request with this state came; kPermission: refused there. Shows the browser a
  // page that says how it ended.
  Result<std::string> Await(const std::string& state, Duration patience, const Cancel& cancel);

 private:
  struct Socket;
  explicit Loopback(std::unique_ptr<Socket> socket);
  std::unique_ptr<Socket> socket_;
};

// ---- with a browser anywhere

struct DeviceGrant {
  std::string device_code, user_code, address, complete_address;
  Duration interval{5000};
  Duration lasts{0};
};
Result<DeviceGrant> BeginDevice(const Server& server, const Client& client,
                                const std::string& scope, const Cancel& cancel);
// Asks as often as the server says until it is granted; kPermission: refused; kTimeout: it lapsed.
Result<Tokens> AwaitDevice(const Server& server, const Client& client, const DeviceGrant& grant,
                           const Cancel& cancel);

// ---- later

// kSignIn: the grant has ended (revoked, lapsed, or the token was used before).
Result<Tokens> Refresh(const Server& server, const Client& client, const Tokens& tokens,
                       const Cancel& cancel);
// Of a server that offers none: kUnsupported.
Status Revoke(const Server& server, const Client& client, const Tokens& tokens,
              const Cancel& cancel);

bool Covers(const std::string& granted, const std::string& wanted);  // lists of scopes

}  // namespace pargeter::oauth
