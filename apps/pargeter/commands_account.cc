#include <fmt/format.h>
#include <termios.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <iostream>

#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "config/joining.h"
#include "config/secrets.h"
#include "net/uri.h"
#include "provider/s3/s3_provider.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

struct Add {
  AccountSettings account;
  std::string secret_file, secret_env, secret_in, access = "write";
  std::string key_id_env, session_token_file, session_token_env, part_size;
  bool gives_secret() const { return !secret_file.empty() || !secret_env.empty(); }
  bool gives_token() const { return !session_token_file.empty() || !session_token_env.empty(); }
};

Result<std::string> Variable(const std::string& name) {
  const char* value = std::getenv(name.c_str());
  if (value == nullptr || *value == 0)
    return Error(Code::kInvalid, fmt::format("the variable {} is not set", Printable(name)));
  return std::string(Trim(value));
}

Result<std::string> AskSecret() {
  if (!::isatty(0) || !::isatty(2)) {
    return Error(Code::kInvalid, "no secret is given",
                 "Give it with --secret-file FILE or --secret-env VARIABLE.");
  }
  fmt::print(stderr, "Secret: ");
  termios shown{};
  ::tcgetattr(0, &shown);
  termios hidden = shown;
  hidden.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  ::tcsetattr(0, TCSAFLUSH, &hidden);
  std::string secret;
  std::getline(std::cin, secret);
  ::tcsetattr(0, TCSAFLUSH, &shown);
  fmt::print(stderr, "\n");
  if (secret.empty()) return Error(Code::kInvalid, "no secret was typed");
  return secret;
}

// From where the person said, or typed.
Result<std::string> GivenSecret(const Add& add) {
  if (!add.secret_file.empty()) return ReadSecretFile(add.secret_file);
  if (add.secret_env.empty()) return AskSecret();
  return Variable(add.secret_env);
}

// The secret as it is stored: of a temporary key with its session token behind a blank, which
// neither of them holds.
Result<std::string> WithToken(const Add& add, std::string secret) {
  if (!add.gives_token()) return secret;
  PG_ASSIGN(const std::string token, add.session_token_file.empty()
                                         ? Variable(add.session_token_env)
                                         : ReadSecretFile(add.session_token_file));
  return secret + " " + token;
}

Status TakeGiven(Add* add) {
  if (!add->key_id_env.empty()) {
    PG_ASSIGN(add->account.key_id, Variable(add->key_id_env));
  }
  if (add->part_size.empty()) return {};
  PG_ASSIGN(add->account.part_size, ParseSize(add->part_size));
  if (add->account.part_size >= s3::kSmallestPart && add->account.part_size <= 5 * kGiB) return {};
  return Error(Code::kInvalid,
               fmt::format("a part of {} is not possible", FormatSize(add->account.part_size)),
               "The smallest part is 5MiB, the largest 5GiB.");
}

// The files that an account names, as absolute paths; each must be there.
Status ResolveFiles(AccountSettings* account) {
  for (auto [file, what] : {std::pair(&account->ca_file, "certificate file"),
                            {&account->certificate, "client certificate"},
                            {&account->certificate_key, "client certificate's key"},
                            {&account->private_key, "key file"},
                            {&account->known_hosts, "file of known hosts"}}) {
    if (file->empty()) continue;
    char cwd[4096];
    *file = AbsolutePath(*file, ::getcwd(cwd, sizeof(cwd)) ? cwd : "/");
    if (::access(file->c_str(), R_OK) != 0)
      return Error(Code::kNotFound,
                   fmt::format("the {} {} cannot be read", what, Printable(*file)));
  }
  return {};
}

SecretIn PlaceOf(const std::string& name) {
  return name == "keyring" ? SecretIn::kKeyring : SecretIn::kFile;
}

// Each kind wants options of its own, and only those.
Status CheckKind(const AccountSettings& a) {
  struct Option {
    const char* name;
    bool given, wanted;
  };
  std::vector<Option> options;
  if (a.kind == "s3") {
    options = {
        {"--endpoint", !a.endpoint.empty(), true}, {"--key-id", !a.key_id.empty(), !a.anonymous},
        {"--url", !a.url.empty(), false},          {"--host", !a.host.empty(), false},
        {"--sign-in", a.sign_in, false},           {"--user", !a.user.empty(), false}};
  } else if (a.kind == "webdav") {
    options = {{"--url", !a.url.empty(), true},
               {"--user", !a.user.empty(), !a.sign_in},
               {"--host", !a.host.empty(), false},
               {"--endpoint", !a.endpoint.empty(), false},
               {"--key-id", !a.key_id.empty(), false}};
  } else if (a.kind == "sftp") {
    options = {{"--host", !a.host.empty(), true},          {"--user", !a.user.empty(), true},
               {"--url", !a.url.empty(), false},           {"--sign-in", a.sign_in, false},
               {"--endpoint", !a.endpoint.empty(), false}, {"--key-id", !a.key_id.empty(), false}};
  } else {
    return Error(Code::kInvalid, fmt::format("\"{}\" is no kind of account", Printable(a.kind)),
                 "Kinds: s3, webdav, sftp");
  }
  for (const Option& option : options) {
    if (option.given != option.wanted)
      return Error(Code::kInvalid,
                   fmt::format("an account of kind {} {} {}", a.kind,
                               option.wanted ? "needs" : "has no", option.name),
                   "See: pargeter account add --help");
  }
  if (a.kind == "sftp") return {};
  PG_TRY(ParseEndpoint(a.kind == "s3" ? a.endpoint : a.url));
  if (!a.issuer.empty()) PG_TRY(ParseEndpoint(a.issuer));
  return CheckProtected(a);
}

Status RunAdd(Add& add, World& world) {
  AccountSettings& account = add.account;
  PG_TRY(CheckName("account", account.name));
  PG_TRY(TakeGiven(&add));
  PG_TRY(CheckKind(account));
  if (add.gives_token() && account.kind != "s3")
    return Error(Code::kInvalid, "only an account of kind s3 has a session token");
  account.read_only = add.access == "read" || account.anonymous;
  PG_TRY(ResolveFiles(&account));
  const bool given = add.gives_secret();
  std::string secret;
  if (account.anonymous && (given || add.gives_token()))
    return Error(Code::kInvalid, "an account with --anonymous has no secret",
                 "Leave out --secret-file, --secret-env and the session token.");
  if (given && account.sign_in)
    return Error(Code::kInvalid, "an account with --sign-in needs no secret",
                 fmt::format("Sign in afterwards: pargeter account sign-in {}", account.name));
  // a key in a file or an agent may do without one
  if (!account.sign_in && !account.anonymous && (given || account.kind != "sftp")) {
    PG_ASSIGN(secret, GivenSecret(add));
    PG_ASSIGN(secret, WithToken(add, std::move(secret)));
  }
  PG_TRY(SaveAccount(world.paths, account));
  if (!secret.empty())
    PG_TRY(SaveSecret(world.paths.SecretsFile(), account.name, secret, PlaceOf(add.secret_in)));
  if (account.sign_in) {
    world.Say(fmt::format("Account {} is saved. Sign in with: pargeter account sign-in {}",
                          account.name, account.name));
    if (world.json) world.PrintJson({{"account", account.name}});
    return {};
  }
  world.Say(fmt::format("Account {} is saved. Test it with: pargeter account test {}", account.name,
                        account.name));
  if (world.json) world.PrintJson({{"account", account.name}});
  return {};
}

// A renewed key, another place for its secret, or how the store is reached.
Status RunChange(Add& change, World& world) {
  const std::string& name = change.account.name;
  const std::string file = world.paths.SecretsFile();
  PG_ASSIGN(AccountSettings account, LoadAccount(world.paths, name));
  PG_TRY(TakeGiven(&change));
  PG_TRY(ResolveFiles(&change.account));
  const bool given = change.gives_secret();
  bool others = false;
  const auto take = [&](auto AccountSettings::*what) {
    if (change.account.*what == AccountSettings{}.*what) return;
    account.*what = change.account.*what;
    others = true;
  };
  take(&AccountSettings::key_id);
  take(&AccountSettings::part_size);
  take(&AccountSettings::proxy);
  take(&AccountSettings::certificate);
  take(&AccountSettings::certificate_key);
  take(&AccountSettings::ca_file);
  if (!given && change.secret_in.empty() && !change.gives_token() && !others)
    return Error(Code::kInvalid, "nothing to change is named",
                 "See: pargeter account change --help");
  SecretIn place = PlaceOf(change.secret_in);
  if (change.secret_in.empty()) {
    const auto before = SecretPlace(file, name);
    if (!before.ok() && before.error().code != Code::kNotFound) return before.error();
    if (before.ok()) place = *before;
  }
  if (given || change.gives_token() || !change.secret_in.empty()) {
    auto secret = given ? GivenSecret(change) : LoadSecret(file, name);
    if (!secret.ok()) return secret.error();
    if (change.gives_token()) {
      PG_ASSIGN(secret, WithToken(change, secret->substr(0, secret->find(' '))));
    }
    PG_TRY(SaveSecret(file, name, *secret, place));
  }
  if (others) PG_TRY(SaveAccount(world.paths, account));
  world.Say(
      fmt::format("Account {} is changed. Mounted drives take it in with: pargeter refresh", name));
  if (world.json) world.PrintJson({{"account", name}});
  return {};
}

Json AccountJson(const AccountSettings& a) {
  Json json = {{"name", a.name}, {"kind", a.kind}, {"access", a.read_only ? "read" : "write"}};
  if (a.kind == "s3")
    json.update({{"endpoint", a.endpoint},
                 {"region", a.region},
                 {"key_id", a.key_id},
                 {"anonymous", a.anonymous}});
  else if (a.kind == "sftp")
    json.update({{"host", a.host}, {"port", a.port}, {"user", a.user}});
  else
    json.update({{"url", a.url}, {"user", a.user}, {"sign_in", a.sign_in}});
  return json;
}

std::string PlaceOf(const AccountSettings& a) {
  if (a.kind == "s3") return a.endpoint;
  return a.kind == "sftp" ? fmt::format("{}@{}:{}", a.user, a.host, a.port) : a.url;
}

Status RunListAccounts(World& world) {
  Json all = Json::array();
  for (const std::string& name : AccountNames(world.paths)) {
    PG_ASSIGN(const AccountSettings a, LoadAccount(world.paths, name));
    all.push_back(AccountJson(a));
    world.Say(fmt::format("{:<16} {:<7} {:<32} {}", a.name, a.kind, PlaceOf(a),
                          a.read_only ? "read" : "write"));
  }
  if (all.empty())
    world.Say("There are no accounts. Add one with: pargeter account add NAME --kind s3 ...");
  if (world.json) world.PrintJson({{"accounts", all}});
  return {};
}

Status RunShowAccount(const std::string& name, World& world) {
  PG_ASSIGN(const AccountSettings a, LoadAccount(world.paths, name));
  std::vector<std::string> used;
  for (const std::string& drive : DriveNames(world.paths)) {
    const auto settings = LoadDrive(world.paths, drive);
    if (settings.ok() && UsesAccount(*settings, name)) used.push_back(drive);
  }
  const auto place = SecretPlace(world.paths.SecretsFile(), name);
  const bool none = !place.ok() && place.error().code == Code::kNotFound;
  const std::string secret = a.anonymous                    ? "none: nothing is signed"
                             : none && a.sign_in            ? "nobody is signed in"
                             : none && a.kind == "sftp"     ? "none: the key alone, or an agent"
                             : !place.ok()                  ? place.error().what
                             : *place == SecretIn::kKeyring ? "in the keyring"
                             : a.sign_in                    ? "signed in"
                                                            : "stored";
  const std::string way =
      a.kind == "s3"
          ? fmt::format("endpoint  {}\nregion    {}\nkey id    {}", a.endpoint, a.region, a.key_id)
          : fmt::format("address   {}{}", PlaceOf(a),
                        a.user.empty() || a.kind == "sftp" ? "" : "\nuser      " + a.user);
  world.Say(fmt::format(
      "name      {}\nkind      {}\n{}\nsecret    {}\naccess    {}\ndrives    {}\nfile      {}",
      a.name, a.kind, way, secret, a.read_only ? "read" : "write",
      used.empty() ? "none" : fmt::format("{}", fmt::join(used, ", ")),
      world.paths.AccountFile(name)));
  if (world.json) {
    Json json = AccountJson(a);
    json["drives"] = used;
    json["secret_in"] = !place.ok() ? "" : *place == SecretIn::kKeyring ? "keyring" : "file";
    world.PrintJson(json);
  }
  return {};
}

Status RunTest(const std::string& name, const std::string& folder, World& world) {
  PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, name));
  PG_ASSIGN(const Store store, OpenStore(world, name, folder));
  const TestReport report = store.provider->Test(
      !account.read_only && (!folder.empty() || account.kind != "s3"), nullptr);
  Json steps = Json::array();
  for (const TestReport::Step& step : report.steps) {
    world.Say(
        fmt::format("{}  {:<8} {}", step.ok ? "ok  " : "FAIL", step.what, Printable(step.detail)));
    steps.push_back({{"step", step.what}, {"ok", step.ok}, {"detail", JsonText(step.detail)}});
  }
  if (world.json) world.PrintJson({{"account", name}, {"ok", !report.failure}, {"steps", steps}});
  if (report.failure && report.failure->remedy.empty() && account.kind != "s3" &&
      report.failure->code == Code::kNotFound && !folder.empty())
    return Error(
        Code::kNotFound, fmt::format("the account {} has no folder {}", name, Printable(folder)),
        fmt::format("Make it: pargeter account make-folder {} {}", name, Printable(folder)));
  if (report.failure)
    return report.failure->Within(fmt::format("the account {} does not work", name));
  world.Say(fmt::format("The account {} works.", name));
  return {};
}

Status RunBrowse(const std::string& name, const std::string& folder, World& world) {
  PG_ASSIGN(const Store store, OpenStore(world, name, folder));
  const auto entries = store.browser->Browse(folder, nullptr);
  const bool s3 = store.kind == "s3";
  if (!entries.ok()) {
    Error error = entries.error();
    if (s3 && error.code == Code::kPermission && folder.empty()) {
      error.remedy = fmt::format(
          "A key may use a bucket without listing all: pargeter account browse {} BUCKET", name);
    } else if (!s3 && error.code == Code::kNotFound) {
      error.remedy = folder.empty()
                         ? "Check the account's address: pargeter account show " + name
                         : fmt::format(
                               "See what is there: pargeter account browse {}; or make it: "
                               "pargeter account make-folder {} {}",
                               name, name, Printable(folder));
    }
    return error;
  }
  if (s3 && entries->empty() && folder.find('/') != std::string::npos) {
    return Error(Code::kNotFound, fmt::format("there is nothing under {}", Printable(folder)));
  }
  Json all = Json::array();
  for (const Entry& e : *entries) {
    if (e.marker && e.name.empty()) continue;
    const bool is_folder = e.kind == Kind::kFolder;
    world.Say(fmt::format("{:>10}  {}{}", is_folder ? "" : FormatSize(e.size), Printable(e.name),
                          is_folder ? "/" : ""));
    all.push_back({{"name", JsonText(e.name)},
                   {"kind", is_folder ? "folder" : "file"},
                   {"size", e.size},
                   {"modified", Rfc3339(e.modified)}});
  }
  if (all.empty())
    world.Say(!folder.empty() ? fmt::format("{} is empty.", Printable(folder))
              : s3            ? "There are no buckets."
                              : "The account's folder is empty.");
  if (world.json) world.PrintJson({{"folder", JsonText(folder)}, {"entries", all}});
  return {};
}

// A folder for a drive; on an object store a bucket, or a folder in one.
Status RunMakeFolder(const std::string& name, const std::string& folder, World& world) {
  PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, name));
  if (account.read_only)
    return Error(Code::kReadOnly, fmt::format("the account {} may only read", name),
                 "Use one that may write, or add it again with --access write.");
  std::string bucket, prefix;
  PG_TRY(SplitFolder(folder, &bucket, &prefix));
  if (bucket.empty()) return Error(Code::kInvalid, "no folder is named");
  const std::string path =
      bucket + (prefix.empty() ? "" : "/" + prefix.substr(0, prefix.size() - 1));
  if (account.kind == "s3") {
    PG_ASSIGN(const Store store, OpenStore(world, name, bucket));
    auto* s3 = dynamic_cast<s3::S3Provider*>(store.provider.get());
    const Status made = s3->MakeBucket(nullptr);
    // (it may be there already, and of somebody who does not let us make it)
    if (!made.ok() && !store.provider->List("", "", nullptr).ok()) return made;
    if (!prefix.empty())
      PG_TRY(store.provider->MakeFolder(prefix.substr(0, prefix.size() - 1), {}, nullptr));
  } else {
    PG_ASSIGN(const Store store, OpenStore(world, name, ""));
    PG_TRY(store.provider->MakeFolder(path, {}, nullptr));
  }
  world.Say(
      fmt::format("{} is there. Mount it with: pargeter drive add DRIVE --account {} --folder {} "
                  "--at DIR",
                  Printable(path), name, Printable(path)));
  if (world.json) world.PrintJson({{"account", name}, {"folder", JsonText(path)}});
  return {};
}

Status CheckUnused(const World& world, const std::string& name) {
  for (const std::string& drive : DriveNames(world.paths)) {
    const auto settings = LoadDrive(world.paths, drive);
    if (settings.ok() && UsesAccount(*settings, name)) {
      return Error(Code::kRefused, fmt::format("the drive {} uses the account {}", drive, name),
                   fmt::format("Remove it first: pargeter drive remove {}", drive));
    }
  }
  return {};
}

Status RunRemove(const std::string& name, World& world) {
  PG_TRY(LoadAccount(world.paths, name));
  PG_TRY(CheckUnused(world, name));
  PG_TRY(ForgetSecret(world.paths.SecretsFile(), name));
  PG_TRY(RemoveAccount(world.paths, name));
  world.Say(fmt::format(
      "Account {} is removed from this machine; nothing at the store was touched.", name));
  return {};
}

Status RunRenameAccount(const std::string& old_name, const std::string& new_name, World& world) {
  PG_TRY(CheckName("account", new_name));
  PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, old_name));
  if (LoadAccount(world.paths, new_name).ok()) {
    return Error(Code::kExists, fmt::format("there is an account {} already", new_name));
  }
  const auto place = SecretPlace(world.paths.SecretsFile(), old_name);
  if (!place.ok() && place.error().code != Code::kNotFound) return place.error();
  if (place.ok()) {
    PG_ASSIGN(const std::string secret, LoadSecret(world.paths.SecretsFile(), old_name));
    PG_TRY(SaveSecret(world.paths.SecretsFile(), new_name, secret, *place));
  }
  // the file itself moves, with what a person wrote in it; drives are pointed to it before
  PG_TRY(RealDisk().Rename(world.paths.AccountFile(old_name), world.paths.AccountFile(new_name)));
  for (const std::string& drive : DriveNames(world.paths)) {
    auto settings = LoadDrive(world.paths, drive);
    if (!settings.ok()) continue;
    if (settings->account == old_name) settings->account = new_name;
    for (auto* patterns : {&settings->join, &settings->except})
      for (std::string& pattern : *patterns)
        if (pattern.substr(0, pattern.find('/')) == old_name)
          pattern = new_name + pattern.substr(old_name.size());
    PG_TRY(SaveDrive(world.paths, *settings));
  }
  PG_TRY(ForgetSecret(world.paths.SecretsFile(), old_name));
  world.Say(fmt::format("Account {} is renamed to {}.", old_name, new_name));
  return {};
}

}  // namespace

namespace {

// The key or password, and how the store is reached: for a new account and for a changed one.
void AddSecretOptions(Command* to, Add* out) {
  to->Option("--key-id", "ID", &out->account.key_id, "s3: the public half of the key");
  to->Option("--key-id-env", "VARIABLE", &out->key_id_env,
             "s3: environment variable with the key id")
      .Excludes("--key-id");
  to->Option("--secret-file", "FILE", &out->secret_file,
             "file with the secret key, password or passphrase on its first line");
  to->Option("--secret-env", "VARIABLE", &out->secret_env, "environment variable with the secret");
  to->Option("--secret-in", "PLACE", &out->secret_in,
             "where the secret is kept, in a private file or in the desktop's keyring")
      .OneOf({"file", "keyring"});
  to->Option("--session-token-file", "FILE", &out->session_token_file,
             "s3: file with the session token of a temporary key");
  to->Option("--session-token-env", "VARIABLE", &out->session_token_env,
             "s3: environment variable with the session token");
  to->Option("--part-size", "SIZE", &out->part_size,
             "s3: size of the parts of a large upload, such as 8MiB; at least 5MiB");
  to->Option("--proxy", "URL", &out->account.proxy,
             "HTTP proxy, as http://HOST:PORT, instead of the one in https_proxy or http_proxy");
  to->Option("--certificate", "FILE", &out->account.certificate,
             "client certificate of this machine, a PEM file");
  to->Option("--certificate-key", "FILE", &out->account.certificate_key,
             "key of the client certificate, if it is not in the same file");
  to->Option("--ca-file", "FILE", &out->account.ca_file,
             "certificate authority of the store, a PEM file, instead of the system's");
}

void AddNewAccount(Command* group, Work* run) {
  auto add = std::make_shared<Add>();
  AccountSettings& a = add->account;
  Command* cmd = group->Add(
      {.name = "add",
       .summary = "add an account: the address and key of a store",
       .details =
           "The store is not contacted; `pargeter account test` does that. A secret that is not "
           "given by an option is asked for, if there is a terminal.\n\n"
           "An s3 account needs --endpoint and --key-id, or --anonymous. A webdav account needs "
           "--url, and --user or --sign-in. An sftp account needs --host and --user.",
       .examples = {{"an S3 bucket",
                     "pargeter account add museum --kind s3 --endpoint "
                     "https://objects.example.test --key-id fieldkey --secret-file key.txt"},
                    {"a WebDAV drive, with sign-in in a browser",
                     "pargeter account add staff --kind webdav --url "
                     "https://drive.example.test/dav --sign-in"},
                    {"an SFTP server, with a key file",
                     "pargeter account add coast --kind sftp --host files.example.test --user "
                     "curator --private-key ~/.ssh/id_ed25519"}}});
  cmd->Operand("ACCOUNT", &a.name, "name of the account, of your choice").Required();
  cmd->Option("--kind", "KIND", &a.kind, "protocol of the store")
      .OneOf({"s3", "webdav", "sftp"})
      .Required();
  cmd->Option("--access", "ACCESS", &add->access, "what the account is used for")
      .OneOf({"read", "write"})
      .ShowDefault();
  cmd->Option("--endpoint", "URL", &a.endpoint,
              "s3: address of the store, as https://HOST or http://HOST:PORT");
  cmd->Option("--region", "REGION", &a.region, "s3: region of the store").ShowDefault();
  cmd->Option("--address-style", "STYLE", &a.address_style,
              "s3: where the bucket's name stands, as HOST/BUCKET or BUCKET.HOST")
      .OneOf({"path", "host"})
      .ShowDefault();
  cmd->Flag("--anonymous", &a.anonymous, "s3: sign no request, for a public bucket; read-only");
  cmd->Option("--url", "URL", &a.url, "webdav: address of a folder of the store");
  cmd->Option("--user", "USER", &a.user, "webdav, sftp: user name");
  cmd->Flag("--sign-in", &a.sign_in,
            "webdav: grant access in a browser (OAuth 2.0) instead of a password");
  cmd->Option("--issuer", "URL", &a.issuer,
              "webdav: sign-in server, if it is not the host of the store");
  cmd->Option("--client-id", "ID", &a.client_id,
              "webdav: name of this program at the sign-in server")
      .ShowDefault();
  cmd->Option("--scope", "WORDS", &a.scope,
              "webdav: OAuth scope to ask for, instead of the usual one");
  cmd->Flag("--plain-http", &a.plain_http, "webdav: allow a password over unencrypted http");
  cmd->Option("--host", "HOST", &a.host, "sftp: name or address of the server");
  cmd->Option("--port", "PORT", &a.port, "sftp: port of the server").Within(1, 65535).ShowDefault();
  cmd->Option("--private-key", "FILE", &a.private_key,
              "sftp: private key file; without it a password or an agent is used");
  cmd->Option("--known-hosts", "FILE", &a.known_hosts,
              "sftp: file with host keys, instead of your own known_hosts");
  AddSecretOptions(cmd, add.get());
  cmd->Does([=] { *run = [add](World& w) { return RunAdd(*add, w); }; });

  auto change = std::make_shared<Add>();
  cmd = group->Add(
      {.name = "change",
       .summary = "change an account's key, where the secret is kept, or how the store is reached",
       .details = "Only the given options change. A mounted drive takes the change in with "
                  "`pargeter refresh`.",
       .examples = {{"use a renewed key",
                     "pargeter account change museum --key-id fieldkey --secret-file new-key.txt"},
                    {"trust the store's own certificate authority",
                     "pargeter account change museum --ca-file museum-ca.pem"}}});
  cmd->Operand("ACCOUNT", &change->account.name, "the account").Required();
  AddSecretOptions(cmd, change.get());
  cmd->Does([=] { *run = [change](World& w) { return RunChange(*change, w); }; });
}

}  // namespace

Command* AddAccountCommands(Command* app, Work* run) {
  Command* group = app->Add(
      {.name = "account", .summary = "add, test and change accounts: how to log in to a store"});
  AddNewAccount(group, run);
  group
      ->Add({.name = "list",
             .summary = "list all accounts",
             .examples = {{"list the accounts", "pargeter account list"},
                          {"list them for a script", "pargeter account list --json"}}})
      ->Does([=] { *run = RunListAccounts; });

  auto name = std::make_shared<std::string>();
  auto other = std::make_shared<std::string>();
  const auto named = [&](Texts texts) {
    Command* sub = group->Add(std::move(texts));
    sub->Operand("ACCOUNT", name.get(), "the account").Required();
    return sub;
  };
  named({.name = "show",
         .summary = "show one account: its settings, where its secret is, which drives use it",
         .examples = {{"show an account", "pargeter account show museum"},
                      {"find the drives that use it, in a script",
                       "pargeter account show museum --json"}}})
      ->Does([=] { *run = [name](World& w) { return RunShowAccount(*name, w); }; });
  Command* cmd = named(
      {.name = "test",
       .summary = "test an account: connect, sign in, list, and write a trial file",
       .details =
           "Each step is printed with its result. The first step that fails says what is wrong and "
           "what to do. The trial file is deleted again.",
       .examples = {
           {"test the address and the key", "pargeter account test museum"},
           {"test a bucket, with writing", "pargeter account test museum --folder herbarium"}}});
  cmd->Option("--folder", "FOLDER", other.get(),
              "folder to test; of an object store BUCKET[/PREFIX]");
  cmd->Does([=] { *run = [=](World& w) { return RunTest(*name, *other, w); }; });
  cmd =
      named({.name = "browse",
             .summary = "list the folders and files at the store of an account",
             .examples = {{"list the buckets, or the top folder", "pargeter account browse museum"},
                          {"list one folder", "pargeter account browse museum herbarium"}}});
  cmd->Operand("FOLDER", other.get(), "the folder; of an object store BUCKET[/PREFIX]");
  cmd->Does([=] { *run = [=](World& w) { return RunBrowse(*name, *other, w); }; });
  cmd = named({.name = "make-folder",
               .summary = "make a folder or a bucket at the store of an account",
               .examples = {{"make a bucket", "pargeter account make-folder museum seeds"},
                            {"make a folder in a bucket",
                             "pargeter account make-folder museum herbarium/loans"}}});
  cmd->Operand("FOLDER", other.get(), "the folder; of an object store BUCKET[/PREFIX]").Required();
  cmd->Does([=] { *run = [=](World& w) { return RunMakeFolder(*name, *other, w); }; });
  AddSignInCommands(group, run);
  cmd =
      named({.name = "rename",
             .summary = "rename an account; its drives go on using it",
             .examples = {{"give an account another name", "pargeter account rename spare reserve"},
                          {"check the new name", "pargeter account show reserve"}}});
  cmd->Operand("NEW", other.get(), "the new name").Required();
  cmd->Does([=] { *run = [=](World& w) { return RunRenameAccount(*name, *other, w); }; });
  named({.name = "remove",
         .summary = "remove an account and its secret from this machine",
         .details = "Nothing at the store changes. An account that a drive uses is not removed.",
         .examples = {{"see first which drives use it", "pargeter account show reserve"},
                      {"remove an account", "pargeter account remove reserve"}}})
      ->Does([=] { *run = [name](World& w) { return RunRemove(*name, w); }; });
  return group;
}

}  // namespace pargeter::app
