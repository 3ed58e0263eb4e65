#include "net/token_keeper.h"

#include <algorithm>

namespace pargeter::oauth {
namespace {
constexpr Duration kLockWithin(60000);
constexpr Duration kLockEvery(50);

Error SignInNeeded() {
  return Error(Code::kSignIn, "sign-in needed: the grant has ended",
               "Sign in again: pargeter account sign-in ACCOUNT");
}
}  // namespace

bool TokenKeeper::IsGood(const Tokens& tokens, const std::string& refused) const {
  if (tokens.access.empty() || tokens.access == refused) return false;
  const Nanos ahead = std::min<Nanos>(options_.before.count() * 1'000'000, tokens.lives / 2);
  return tokens.expires == 0 || tokens.expires - options_.clock->Wall() > ahead;
}

Result<std::string> TokenKeeper::Access(const std::string& refused, const Cancel& cancel) {
  {
    Lock lock(mutex_);
    if (IsGood(tokens_, refused)) return tokens_.access;
    if (renewing_) {
      const Steady until = std::chrono::steady_clock::now() + kLockWithin;
      while (renewing_ && std::chrono::steady_clock::now() < until) {
        if (cancel && cancel->cancelled())
          return Error(Code::kCancelled, "the request was given up");
        renewed_.WaitUntil(mutex_, std::chrono::steady_clock::now() + Duration(200));
      }
      if (failed_) return *failed_;
      if (!tokens_.access.empty() && tokens_.access != refused) return tokens_.access;
    }
    renewing_ = true;
  }
  auto renewed = Renew(refused, cancel);
  const Lock lock(mutex_);
  renewing_ = false;
  renewed_.NotifyAll();
  failed_.reset();
  if (!renewed.ok()) {
    failed_ = renewed.error();
    return renewed.error();
  }
  tokens_ = *renewed;
  return tokens_.access;
}

Result<Fd> TokenKeeper::LockAmongProcesses(const Cancel& cancel) {
  const Steady until = std::chrono::steady_clock::now() + kLockWithin;
  const Cancel token = cancel ? cancel : std::make_shared<CancelToken>();
  for (;;) {
    auto lock = LockFile(options_.lock_file);
    if (lock.ok() || lock.error().code != Code::kBusy) return lock;
    if (std::chrono::steady_clock::now() >= until)
      return Error(Code::kTimeout, "another process has been signing in for too long");
    if (token->WaitFor(kLockEvery)) return Error(Code::kCancelled, "the request was given up");
  }
}

// What others stored meanwhile is as good; else the refresh token is used, once.
Result<Tokens> TokenKeeper::Renew(const std::string& refused, const Cancel& cancel) {
  PG_ASSIGN(const Fd lock, LockAmongProcesses(cancel));
  PG_ASSIGN(const std::string stored, options_.load());
  PG_ASSIGN(const Tokens before, Unpack(stored));
  if (IsGood(before, refused)) return before;
  std::optional<Server> server;
  {
    const Lock own(mutex_);
    if (before.refresh.empty() || before.refresh == ended_) return SignInNeeded();
    server = server_;
  }
  if (!server) {
    PG_ASSIGN(server, Discover(options_.issuer, options_.client, cancel));
  }
  auto fresh = Refresh(*server, options_.client, before, cancel);
  const Lock own(mutex_);
  server_ = server;
  if (!fresh.ok()) {
    if (fresh.error().code != Code::kSignIn) return fresh.error();
    ended_ = before.refresh;
    return SignInNeeded();
  }
  PG_TRY(options_.save(Pack(*fresh)));
  return fresh;
}

}  // namespace pargeter::oauth
