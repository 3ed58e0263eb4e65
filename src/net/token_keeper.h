// The access token of one account, kept valid: refreshed before it lapses, by one thread of one
// process, however many want it; what a refresh brings is stored before it is used. A second
// refresh with the same token ends the grant at many servers.
//
// Thread-safe. Calls may ask the sign-in server, with its deadlines.
#pragma once

#include <functional>
#include <optional>
#include <set>
#include <string>

#include "base/file.h"
#include "base/mutex.h"
#include "net/oauth.h"

namespace pargeter::oauth {

class TokenKeeper {
 public:
  struct Options {
    std::string issuer;
    Client client;
    std::string lock_file;  // other processes that refresh for this account wait for it
    std::function<Result<std::string>()> load;       // what is stored: Pack's
    std::function<Status(const std::string&)> save;  // durably
    const Clock* clock = &SystemClock();
    Duration before{30000};  // so long before it lapses it is refreshed, or half its time
  };
  explicit TokenKeeper(Options options) : options_(std::move(options)) {}

  // A token that has not lapsed. `refused`: the store did not take that one, although it had not.
  // kSignIn: the grant has ended, or nobody is signed in; once somebody is, the next call finds it.
  Result<std::string> Access(const std::string& refused, const Cancel& cancel);

 private:
  bool IsGood(const Tokens& tokens, const std::string& refused) const;
  Result<Tokens> Renew(const std::string& refused, const Cancel& cancel);
  Result<Fd> LockAmongProcesses(const Cancel& cancel);

  const Options options_;
  Mutex mutex_;
  CondVar renewed_;
  bool renewing_ GUARDED_BY(mutex_) = false;
  Tokens tokens_ GUARDED_BY(mutex_);
  std::optional<Error> failed_ GUARDED_BY(mutex_);  // of the last attempt
  std::string ended_ GUARDED_BY(mutex_);            // a refresh token whose grant has ended
  std::optional<Server> server_ GUARDED_BY(mutex_);
};

}  // namespace pargeter::oauth
