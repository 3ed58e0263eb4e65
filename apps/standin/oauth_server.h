// The simulated drive's own sign-in server: OAuth 2.0 with PKCE, device codes, rotating refresh
// tokens, revocation, and plain pages on which a person grants access. All in memory.
//
// Thread-safe.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/mutex.h"
#include "http_host.h"

namespace pargeter::standin {

struct OAuthOptions {
  std::vector<std::string> people;  // who may grant
  Duration token_life{3600000};     // of access tokens
  Duration device_interval{1000};   // between two polls
};

struct Bearer {
  std::string person;
  bool may_write = false;
};

class OAuthServer {
 public:
  explicit OAuthServer(OAuthOptions options) : options_(std::move(options)) {}
  static bool Serves(const std::string& path);
  HttpAnswer Answer(const HttpAsk& ask) EXCLUDES(mutex_);
  std::optional<Bearer> Check(const std::string& access_token) EXCLUDES(mutex_);
  void EndAll() EXCLUDES(mutex_);    // every grant, as if each had been revoked
  void EndCodes() EXCLUDES(mutex_);  // those for other devices, as if their time were over

 private:
  using Fields = std::map<std::string, std::string>;
  struct Grant {
    std::string person, scope, client;
    std::string refresh;  // the one that is good
    bool ended = false;
  };
  struct Code {
    int grant = 0;
    std::string challenge, redirect;
    bool used = false;
  };
  struct Device {
    std::string user_code, client, scope;
    int grant = 0;  // 0: not granted yet
    bool denied = false;
    Steady last_poll{};
  };
  HttpAnswer Metadata(const HttpAsk& ask) const;
  HttpAnswer AskPerson(const Fields& fields, const std::string& to) const;
  HttpAnswer Decide(const Fields& fields) EXCLUDES(mutex_);
  HttpAnswer DecideDevice(const Fields& fields) EXCLUDES(mutex_);
  HttpAnswer BeginDevice(const HttpAsk& ask, const Fields& fields) EXCLUDES(mutex_);
  HttpAnswer Token(const Fields& fields) EXCLUDES(mutex_);
  HttpAnswer Issue(int grant) REQUIRES(mutex_);
  HttpAnswer Revoke(const Fields& fields) EXCLUDES(mutex_);
  int NewGrant(const Fields& fields) REQUIRES(mutex_);

  const OAuthOptions options_;
  Mutex mutex_;
  std::map<int, Grant> grants_ GUARDED_BY(mutex_);
  std::map<std::string, Code> codes_ GUARDED_BY(mutex_);
  std::map<std::string, Device> devices_ GUARDED_BY(mutex_);                 // by device code
  std::map<std::string, int> refreshes_ GUARDED_BY(mutex_);                  // used ones too
  std::map<std::string, std::pair<int, Steady>> access_ GUARDED_BY(mutex_);  // grant, lapses
};

}  // namespace pargeter::standin
