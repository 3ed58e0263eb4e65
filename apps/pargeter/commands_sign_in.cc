// Grants: in the browser here, by a code elsewhere; and whom to trust on the way.
#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <thread>

#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "config/joining.h"
#include "config/secrets.h"
#include "control/client.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

struct SignIn {
  std::string name, access, scope;
  bool device = false, no_browser = false;
};

constexpr const char* kRead = "files.read";
constexpr const char* kWrite = "files.write";
constexpr const char* kStay = "offline_access";  // may come back without the person
constexpr Duration kSignInWithin(300000);

// What to ask for. A server that names its scopes is asked only for those.
std::string ScopeFor(const AccountSettings& account, const oauth::Server& server) {
  if (!account.scope.empty()) return account.scope;
  std::string out;
  for (const char* one : {kRead, account.read_only ? "" : kWrite, kStay}) {
    const bool known =
        server.scopes.empty() ||
        std::find(server.scopes.begin(), server.scopes.end(), one) != server.scopes.end();
    if (*one != 0 && known) out += (out.empty() ? "" : " ") + std::string(one);
  }
  return out;
}

// A browser, on its own; whether it opened shows soon enough.
void OpenBrowser(const std::string& url) {
  const char* const args[] = {"xdg-open", url.c_str(), nullptr};
  posix_spawn_file_actions_t quiet;
  posix_spawn_file_actions_init(&quiet);
  for (const int fd : {0, 1, 2})
    posix_spawn_file_actions_addopen(&quiet, fd, "/dev/null", O_RDWR, 0);
  pid_t pid = 0;
  if (::posix_spawnp(&pid, args[0], &quiet, nullptr, const_cast<char* const*>(args), environ) == 0)
    std::thread([pid] { ::waitpid(pid, nullptr, 0); }).detach();
  posix_spawn_file_actions_destroy(&quiet);
}

Result<oauth::Tokens> WithBrowser(const oauth::Server& server, const oauth::Client& client,
                                  const std::string& scope, bool open, World& world) {
  if (server.authorization.empty())
    return Error(Code::kUnsupported, "this sign-in server cannot be used with a browser",
                 "Use --device.");
  PG_ASSIGN(oauth::Loopback loopback, oauth::Loopback::Listen());
  const oauth::Pkce pkce = oauth::NewPkce();
  const std::string state = RandomName(16);
  const std::string url =
      oauth::AuthorizationUrl(server, client, loopback.redirect(), scope, state, pkce);
  world.Note("Open this address in a browser on this machine, and grant access there:\n  " + url);
  if (open) OpenBrowser(url);
  PG_ASSIGN(const std::string code, loopback.Await(state, kSignInWithin, nullptr));
  return oauth::Redeem(server, client, code, loopback.redirect(), pkce, nullptr);
}

Result<oauth::Tokens> WithDevice(const oauth::Server& server, const oauth::Client& client,
                                 const std::string& scope, World& world) {
  PG_ASSIGN(const oauth::DeviceGrant grant, oauth::BeginDevice(server, client, scope, nullptr));
  world.Note(fmt::format("On any device, open\n  {}\nand enter the code\n  {}\nIt is good for {}.",
                         grant.address, grant.user_code, FormatAge(grant.lasts)));
  if (!grant.complete_address.empty())
    world.Note("This address has the code in it:\n  " + grant.complete_address);
  return oauth::AwaitDevice(server, client, grant, nullptr);
}

Result<AccountSettings> WithGrants(const World& world, const std::string& name) {
  PG_ASSIGN(AccountSettings account, LoadAccount(world.paths, name));
  if (account.sign_in) return account;
  return Error(
      Code::kInvalid, fmt::format("the account {} has a key or a password, not a grant", name),
      account.kind == "webdav"
          ? fmt::format("Add one with: pargeter account add NAME --kind webdav --url {} --sign-in",
                        account.url)
          : "Only accounts of kind webdav have grants.");
}

Status RunSignIn(const SignIn& in, World& world) {
  PG_ASSIGN(AccountSettings account, WithGrants(world, in.name));
  if (!in.access.empty()) account.read_only = in.access == "read";
  if (!in.scope.empty()) account.scope = in.scope;
  PG_ASSIGN(const auto how, SignInOf(world, account));
  PG_ASSIGN(const oauth::Server server, oauth::Discover(how.issuer, how.client, nullptr));
  const std::string scope = ScopeFor(account, server);
  // without a screen a browser here is unlikely, and a code works everywhere
  const bool device = in.device || (!world.has_display && !in.no_browser && !server.device.empty());
  auto tokens =
      device ? WithDevice(server, how.client, scope, world)
             : WithBrowser(server, how.client, scope, world.has_display && !in.no_browser, world);
  if (!tokens.ok()) return tokens.error().Within(fmt::format("not signed in to {}", in.name));
  if (tokens->scope.empty()) tokens->scope = scope;
  if (!account.read_only && account.scope.empty() && scope.find(kWrite) != std::string::npos &&
      !oauth::Covers(tokens->scope, kWrite)) {
    account.read_only = true;
    world.Note("Note: only read access was granted: the account is read-only now.");
  }
  if (tokens->refresh.empty())
    world.Note("Note: the grant expires, and cannot be renewed without a new sign-in.");
  PG_TRY(SaveAccount(world.paths, account));
  PG_TRY(how.save(oauth::Pack(*tokens)));
  // what waits in mounted drives goes on at once
  for (const std::string& drive : DriveNames(world.paths)) {
    const auto settings = LoadDrive(world.paths, drive);
    if (settings.ok() && UsesAccount(*settings, in.name))
      Ignore(CallDrive(world.paths.SocketOf(drive), "refresh", Json::object(), Duration(10000)));
  }
  world.Say(fmt::format("Signed in to {}, for {}. Test it with: pargeter account test {}", in.name,
                        account.read_only ? "reading" : "reading and writing", in.name));
  if (world.json)
    world.PrintJson({{"account", in.name},
                     {"scope", JsonText(tokens->scope)},
                     {"access", account.read_only ? "read" : "write"}});
  return {};
}

// Taken back at the provider first: only then is it forgotten here.
Status RunSignOut(const std::string& name, bool only_here, World& world) {
  PG_ASSIGN(const AccountSettings account, WithGrants(world, name));
  PG_ASSIGN(const auto how, SignInOf(world, account));
  const auto stored = how.load();
  if (!stored.ok() && stored.error().code == Code::kSignIn) {
    world.Say(fmt::format("Nobody is signed in to {}.", name));
    if (world.json) world.PrintJson({{"account", name}, {"revoked", false}});
    return {};
  }
  if (!stored.ok()) return stored.error();
  if (!only_here) {
    const auto revoked = [&]() -> Status {
      PG_ASSIGN(const oauth::Tokens tokens, oauth::Unpack(*stored));
      PG_ASSIGN(const oauth::Server server, oauth::Discover(how.issuer, how.client, nullptr));
      return oauth::Revoke(server, how.client, tokens, nullptr);
    }();
    if (!revoked.ok()) {
      Error error = revoked.error().Within("still signed in");
      if (error.remedy.empty())
        error.remedy =
            "Try again later; or forget it here alone: --only-here (the grant stays good).";
      return error;
    }
  }
  PG_TRY(ForgetSecret(world.paths.SecretsFile(), name));
  world.Say(only_here
                ? fmt::format(
                      "The grant of {} is forgotten here; at the provider it is still valid.", name)
                : fmt::format("Signed out of {}: the grant is revoked at the provider.", name));
  if (world.json) world.PrintJson({{"account", name}, {"revoked", !only_here}});
  return {};
}

Status RunTrust(const std::string& name, const std::string& fingerprint, World& world) {
  PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, name));
  if (account.kind != "sftp")
    return Error(Code::kInvalid, fmt::format("the account {} has no host key", name),
                 "Only accounts of kind sftp have a host key.");
  PG_TRY(sftp::Trust(SshOf(world, account), fingerprint, OwnKnownHosts(world)));
  const std::string host =
      account.port == 22 ? account.host : fmt::format("{}:{}", account.host, account.port);
  world.Say(fmt::format("The host {} is trusted with the key {}.", host, fingerprint));
  if (world.json) world.PrintJson({{"account", name}, {"fingerprint", fingerprint}});
  return {};
}

}  // namespace

void AddSignInCommands(Command* group, Work* run) {
  auto in = std::make_shared<SignIn>();
  Command* cmd = group->Add(
      {.name = "sign-in",
       .summary = "sign in to an account: grant access in a browser, or by a code",
       .details =
           "Only accounts that were added with --sign-in have a grant. Without a display the "
           "program prints a code, which is entered in a browser on any other device.",
       .examples = {{"grant access in a browser", "pargeter account sign-in staff"},
                    {"grant access to read, by a code",
                     "pargeter account sign-in staff --device --access read"}}});
  cmd->Operand("ACCOUNT", &in->name, "an account that was added with --sign-in").Required();
  cmd->Flag("--device", &in->device, "sign in by a code that is entered on another device");
  cmd->Flag("--no-browser", &in->no_browser, "print the address, and do not open a browser");
  cmd->Option("--access", "ACCESS", &in->access, "access to ask for").OneOf({"read", "write"});
  cmd->Option("--scope", "WORDS", &in->scope, "OAuth scope to ask for, instead of the usual one");
  cmd->Does([=] { *run = [in](World& w) { return RunSignIn(*in, w); }; });

  auto name = std::make_shared<std::string>(), key = std::make_shared<std::string>();
  auto only_here = std::make_shared<bool>(false);
  cmd = group->Add({.name = "sign-out",
                    .summary = "sign out of an account: revoke the grant, then forget it",
                    .details =
                        "The grant is revoked at the provider first (RFC 7009). If that fails, the "
                        "grant is kept here, too, unless --only-here is given.",
                    .examples = {{"revoke the grant", "pargeter account sign-out staff"},
                                 {"forget it on this machine, and nowhere else",
                                  "pargeter account sign-out staff --only-here"}}});
  cmd->Operand("ACCOUNT", name.get(), "the account").Required();
  cmd->Flag("--only-here", only_here.get(),
            "forget the grant on this machine; at the provider it stays valid");
  cmd->Does([=] { *run = [=](World& w) { return RunSignOut(*name, *only_here, w); }; });

  cmd = group->Add(
      {.name = "trust",
       .summary = "trust the host key of an sftp account's server",
       .details = "Compare the fingerprint with the one that the server's administrator gave you. "
                  "`pargeter account test` prints the fingerprint that the server shows.",
       .examples = {{"trust a host key", "pargeter account trust coast SHA256:FINGERPRINT"},
                    {"check that the server is accepted now", "pargeter account test coast"}}});
  cmd->Operand("ACCOUNT", name.get(), "an account of kind sftp").Required();
  cmd->Operand("FINGERPRINT", key.get(), "SHA256:... as the server's administrator gave it")
      .Required();
  cmd->Does([=] { *run = [=](World& w) { return RunTrust(*name, *key, w); }; });
}

}  // namespace pargeter::app
