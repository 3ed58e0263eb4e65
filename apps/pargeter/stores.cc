#include "stores.h"

#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cstdlib>

#include "base/file.h"
#include "base/text.h"
#include "config/secrets.h"
#include "control/client.h"
#include "drive_methods.h"
#include "provider/s3/s3_provider.h"
#include "provider/sftp/sftp_provider.h"
#include "provider/webdav/dav_provider.h"

namespace pargeter::app {

Status SplitFolder(const std::string& folder, std::string* bucket, std::string* prefix) {
  std::string_view rest = folder;
  while (!rest.empty() && rest.front() == '/') rest.remove_prefix(1);
  while (!rest.empty() && rest.back() == '/') rest.remove_suffix(1);
  const auto slash = rest.find('/');
  *bucket = std::string(rest.substr(0, slash));
  *prefix = slash == std::string_view::npos ? "" : std::string(rest.substr(slash + 1)) + "/";
  if (!IsUtf8(folder) || folder.size() > 900) {
    return Error(Code::kInvalid, "the folder's name is no UTF-8 or too long");
  }
  return {};
}

Result<std::string> SecretOf(const World& world, const std::string& account) {
  if (!world.credentials_dir.empty()) {
    const std::string file = world.credentials_dir + "/pargeter." + account;
    if (::access(file.c_str(), F_OK) == 0) return ReadSecretFile(file);
  }
  return LoadSecret(world.paths.SecretsFile(), account);
}

Status CheckProtected(const AccountSettings& account) {
  if (account.kind != "webdav" || account.plain_http) return {};
  PG_ASSIGN(const Endpoint at, ParseEndpoint(account.url));
  const bool stays_here =
      at.host == "localhost" || at.host == "::1" || at.host.rfind("127.", 0) == 0;
  if (at.scheme == "https" || stays_here) return {};
  return Error(Code::kRefused,
               fmt::format("the password for {} would go over the network unprotected",
                           Printable(account.url)),
               "Use its https address; or, if the network is to be trusted, allow it with "
               "--plain-http.");
}

namespace {

HttpOptions HttpOf(const AccountSettings& settings) {
  HttpOptions http;
  http.ca_file = settings.ca_file;
  http.certificate = settings.certificate;
  http.certificate_key = settings.certificate_key;
  http.proxy = settings.proxy;
  for (const char* name : {"no_proxy", "NO_PROXY"})
    if (const char* around = std::getenv(name); around != nullptr && settings.proxy.empty())
      http.no_proxy = around;
  return http;
}

RetryPolicy Patience() {
  RetryPolicy retry;
  retry.max_attempts = 4;
  retry.give_up_after = Duration(30000);
  return retry;
}

// `stored`: the secret, and of a temporary key the session token behind a blank.
s3::Credentials CredentialsOf(const AccountSettings& settings, const std::string& stored) {
  const auto blank = stored.find(' ');
  return {settings.anonymous ? "" : settings.key_id, stored.substr(0, blank), settings.region,
          blank == std::string::npos ? "" : stored.substr(blank + 1)};
}

Result<Store> OpenS3(const AccountSettings& settings, const std::string& secret,
                     const std::string& folder) {
  s3::S3Options options;
  PG_ASSIGN(options.wire.endpoint, ParseEndpoint(settings.endpoint));
  options.wire.credentials = CredentialsOf(settings, secret);
  options.wire.http = HttpOf(settings);
  options.wire.account = settings.name;
  if (settings.part_size > 0) {
    options.part_size = std::max(settings.part_size, s3::kSmallestPart);
    options.multipart_above = options.part_size;
  }
  options.wire.style =
      settings.address_style == "host" ? s3::AddressStyle::kHost : s3::AddressStyle::kPath;
  options.wire.retry = Patience();
  PG_TRY(SplitFolder(folder, &options.bucket, &options.prefix));
  auto provider = std::make_unique<s3::S3Provider>(std::move(options));
  Browser* browser = provider.get();
  return Store{std::move(provider), browser};
}

Result<Store> OpenDav(const World& world, const AccountSettings& settings,
                      const std::string& secret, const std::string& folder) {
  PG_TRY(CheckProtected(settings));
  webdav::DavOptions options;
  PG_ASSIGN(options.wire.base, ParseEndpoint(settings.url));
  options.wire.login = {settings.user, secret};
  if (settings.sign_in) {
    PG_ASSIGN(auto how, SignInOf(world, settings));
    const auto keeper = std::make_shared<oauth::TokenKeeper>(std::move(how));
    options.wire.bearer = [keeper](const std::string& refused, const Cancel& cancel) {
      return keeper->Access(refused, cancel);
    };
  }
  options.wire.http = HttpOf(settings);
  options.wire.account = settings.name;
  options.wire.retry = Patience();
  std::string first, rest;
  PG_TRY(SplitFolder(folder, &first, &rest));
  options.prefix = first.empty() ? "" : first + "/" + rest;
  auto provider = std::make_unique<webdav::DavProvider>(std::move(options));
  Browser* browser = provider.get();
  return Store{std::move(provider), browser};
}

Result<Store> OpenSftp(const World& world, const AccountSettings& settings,
                       const std::string& secret, const std::string& folder) {
  sftp::SftpOptions options;
  options.ssh = SshOf(world, settings);
  options.ssh.secret = secret;
  options.prefix = folder;
  if (!folder.empty() && folder.back() != '/') options.prefix += "/";
  auto provider = std::make_unique<sftp::SftpProvider>(std::move(options));
  Browser* browser = provider.get();
  return Store{std::move(provider), browser};
}

}  // namespace

std::string OwnKnownHosts(const World& world) { return world.paths.config_dir + "/known_hosts"; }

sftp::SshOptions SshOf(const World& world, const AccountSettings& account) {
  sftp::SshOptions ssh;
  ssh.account = account.name;
  ssh.host = account.host;
  ssh.port = account.port;
  ssh.user = account.user;
  ssh.private_key = account.private_key;
  ssh.agent = world.ssh_agent;
  ssh.known_hosts = account.known_hosts;
  if (ssh.known_hosts.empty() && !world.home.empty())
    ssh.known_hosts = world.home + "/.ssh/known_hosts";
  ssh.own_known_hosts = OwnKnownHosts(world);
  return ssh;
}

Result<oauth::TokenKeeper::Options> SignInOf(const World& world, const AccountSettings& account) {
  oauth::TokenKeeper::Options how;
  how.issuer = account.issuer;
  if (how.issuer.empty()) {
    PG_ASSIGN(const Endpoint at, ParseEndpoint(account.url));
    how.issuer = at.scheme + "://" + at.authority;
  }
  how.client = {account.client_id, HttpOf(account)};
  how.lock_file = world.paths.config_dir + "/accounts/" + account.name + ".lock";
  how.load = [file = world.paths.SecretsFile(), name = account.name]() -> Result<std::string> {
    auto stored = LoadSecret(file, name);
    if (!stored.ok() && stored.error().code == Code::kNotFound)
      return Error(Code::kSignIn, fmt::format("nobody is signed in to the account {}", name),
                   fmt::format("Sign in: pargeter account sign-in {}", name));
    return stored;
  };
  how.save = [file = world.paths.SecretsFile(), name = account.name](const std::string& tokens) {
    const auto place = SecretPlace(file, name);
    return SaveSecret(file, name, tokens, place.ok() ? *place : SecretIn::kFile);
  };
  return how;
}

// A key without a passphrase, or an agent, goes without one.
static Result<std::string> SecretFor(const World& world, const AccountSettings& settings) {
  auto stored = SecretOf(world, settings.name);
  const bool may_lack = settings.kind == "sftp";
  if (!stored.ok() && may_lack && stored.error().code == Code::kNotFound) return std::string();
  return stored;
}

Result<Store> OpenStore(const World& world, const std::string& account, const std::string& folder) {
  PG_ASSIGN(const AccountSettings settings, LoadAccount(world.paths, account));
  std::string secret;
  if (!settings.sign_in && !settings.anonymous) {
    PG_ASSIGN(secret, SecretFor(world, settings));
  }
  auto store = settings.kind == "sftp"     ? OpenSftp(world, settings, secret, folder)
               : settings.kind == "webdav" ? OpenDav(world, settings, secret, folder)
                                           : OpenS3(settings, secret, folder);
  if (store.ok()) store->kind = settings.kind;
  return store;
}

Result<bool> RenewSecret(const World& world, const std::string& account, Provider* provider) {
  PG_ASSIGN(const AccountSettings settings, LoadAccount(world.paths, account));
  if (settings.sign_in || settings.anonymous) return false;  // the first is looked for by itself
  PG_ASSIGN(const std::string secret, SecretFor(world, settings));
  if (auto* ssh = dynamic_cast<sftp::SftpProvider*>(provider)) return ssh->SetSecret(secret);
  if (auto* s3 = dynamic_cast<s3::S3Provider*>(provider))
    return s3->SetCredentials(CredentialsOf(settings, secret));
  if (auto* dav = dynamic_cast<webdav::DavProvider*>(provider))
    return dav->SetLogin({settings.user, secret});
  return false;
}

bool HasState(const World& world, const DriveSettings& d) {
  return ::access((world.paths.DriveState(d.name) + "/index.db").c_str(), F_OK) == 0;
}

DriveLimits LimitsOf(const DriveSettings& d) {
  DriveLimits limits;
  limits.cache_limit = d.cache_limit;
  limits.keep_free = d.keep_free;
  limits.fresh_for = d.fresh_for;
  limits.hold_files = d.hold_files;
  limits.hold_share = d.hold_share;
  limits.crawler_allowance = d.shy_allowance;
  if (d.shy_readers != "default") {
    limits.crawlers.clear();
    for (const std::string& name : Split(d.shy_readers, ','))
      if (!Trim(name).empty()) limits.crawlers.emplace_back(Trim(name));
  }
  return limits;
}

Result<std::unique_ptr<Drive>> OpenDrive(const World& world, const DriveSettings& settings,
                                         bool with_store) {
  std::unique_ptr<Provider> provider;
  bool read_only = settings.read_only;
  if (with_store) {
    PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, settings.account));
    read_only = read_only || account.read_only;
    PG_ASSIGN(Store store, OpenStore(world, settings.account, settings.folder));
    provider = std::move(store.provider);
  }
  DriveOptions options;
  options.name = settings.name;
  options.state_folder = world.paths.DriveState(settings.name);
  options.cache_folder =
      settings.cache_at.empty() ? options.state_folder + "/cache" : settings.cache_at;
  static_cast<DriveLimits&>(options) = LimitsOf(settings);
  options.read_only = read_only;
  options.shared = settings.share_with_all;
  options.passes_through = settings.mirrors();
  options.uid = ::geteuid();
  options.gid = ::getegid();
  char host[256] = "here";
  ::gethostname(host, sizeof(host) - 1);
  options.host = host;
  rlimit files{};
  if (::getrlimit(RLIMIT_NOFILE, &files) == 0)
    options.open_contents = std::min<std::size_t>(options.open_contents, files.rlim_cur / 8);
  const auto boot = ReadFile("/proc/sys/kernel/random/boot_id", 64);
  options.boot_id = boot.ok() ? std::string(Trim(*boot)) : "";
  return Drive::Open(std::move(options), std::move(provider));
}

namespace {

std::string PartsInWords(const World& world, const std::string& joined,
                         std::string DriveSettings::*what) {
  std::vector<std::string> words;
  for (const DriveSettings& part : PartsOf(world.paths, joined))
    words.push_back(Printable(part.*what));
  return words.empty() ? "none yet" : fmt::format("{}", fmt::join(words, ", "));
}

Result<Located> LocateAnywhere(const World& world, const std::string& path) {
  char cwd[4096];
  const std::string full = AbsolutePath(path, ::getcwd(cwd, sizeof(cwd)) ? cwd : "/");
  std::optional<Located> best;
  for (const std::string& name : DriveNames(world.paths)) {
    auto drive = LoadDrive(world.paths, name);
    if (!drive.ok()) continue;
    const std::string& at = drive->at;
    if (full != at && full.compare(0, at.size() + 1, at + "/") != 0) continue;
    if (best && best->drive.at.size() >= at.size()) continue;
    best = Located{*drive, full == at ? "" : full.substr(at.size() + 1)};
  }
  if (best) return *best;
  return Error(Code::kNotFound, fmt::format("{} is on no drive", Printable(full)),
               "See: pargeter drive list");
}

Error OnNoPart(const World& world, const Located& at) {
  const std::string folders = PartsInWords(world, at.drive.name, &DriveSettings::shown_as);
  if (at.path.empty())
    return Error(Code::kInvalid,
                 fmt::format("{} is the top of a joined drive, which only shows others",
                             Printable(at.drive.at)),
                 fmt::format("Name a file or folder in one of its folders: {}", folders));
  return Error(Code::kNotFound,
               fmt::format("{} is in none of the folders of the joined drive {}",
                           Printable(at.drive.at + "/" + at.path), at.drive.name),
               fmt::format("Its folders: {}", folders));
}

}  // namespace

Result<Located> Locate(const World& world, const std::string& path) {
  PG_ASSIGN(Located at, LocateAnywhere(world, path));
  if (!at.drive.join.empty()) return OnNoPart(world, at);
  return at;
}

Result<std::vector<Located>> LocateAll(const World& world, const std::string& path) {
  PG_ASSIGN(Located at, LocateAnywhere(world, path));
  if (at.drive.join.empty()) return std::vector<Located>{std::move(at)};
  if (!at.path.empty()) return OnNoPart(world, at);
  std::vector<Located> roots;
  for (DriveSettings& part : PartsOf(world.paths, at.drive.name))
    if (::access((world.paths.DriveState(part.name) + "/index.db").c_str(), F_OK) == 0)
      roots.push_back({std::move(part), "", true});
  return roots;
}

Result<std::vector<DriveSettings>> Meant(const World& world, const std::string& name,
                                         Joined joined) {
  std::vector<DriveSettings> all, out;
  if (name.empty()) {
    for (const std::string& each : DriveNames(world.paths)) {
      PG_ASSIGN(DriveSettings d, LoadDrive(world.paths, each));
      all.push_back(std::move(d));
    }
  } else {
    PG_ASSIGN(DriveSettings d, LoadDrive(world.paths, name));
    if (!d.join.empty()) all = PartsOf(world.paths, name);
    all.insert(all.begin(), std::move(d));
  }
  for (DriveSettings& d : all)
    if (d.join.empty() || joined == Joined::kItselfToo) out.push_back(std::move(d));
  return out;
}

Result<Talk> Talk::With(const World& world, const DriveSettings& drive, bool with_store) {
  if (!drive.join.empty())
    return Error(Code::kInvalid,
                 fmt::format("{} is a joined drive, and only shows others", drive.name),
                 fmt::format("Name one of its parts: {}",
                             PartsInWords(world, drive.name, &DriveSettings::name)));
  Talk talk;
  talk.socket_ = world.paths.SocketOf(drive.name);
  PG_ASSIGN(const std::optional<Json> running,
            CallDrive(talk.socket_, "status", Json::object(), Duration(30000)));
  if (running) return talk;
  if (::access((world.paths.DriveState(drive.name) + "/index.db").c_str(), F_OK) != 0) {
    return Error(
        Code::kNotFound,
        fmt::format("the drive {} was never mounted: nothing is known of its files", drive.name),
        fmt::format("Mount it: pargeter mount {}", drive.name));
  }
  PG_ASSIGN(talk.opened_, OpenDrive(world, drive, with_store));
  if (with_store) {
    talk.opened_->Start(nullptr);
    PG_TRY(talk.opened_->FirstContact());
  }
  return talk;
}

Result<Json> Talk::Ask(const std::string& method, const Json& params, Duration patience) {
  if (opened_) return AnswerMethod(opened_.get(), method, params);
  PG_ASSIGN(std::optional<Json> answer, CallDrive(socket_, method, params, patience));
  if (answer) return std::move(*answer);
  return Error(Code::kUnavailable, "the drive was unmounted meanwhile");
}

std::string ButHeld(const Json& answer) {
  const auto held = answer.value("held", std::uint64_t{0});
  if (held == 0) return "";
  return fmt::format("; {} held back",
                     held == 1 ? "1 deletion is" : fmt::format("{} deletions are", held));
}

Result<Json> AskDrive(const World& world, const DriveSettings& drive, const std::string& method,
                      const Json& params, Duration patience) {
  PG_ASSIGN(Talk talk, Talk::With(world, drive, false));
  return talk.Ask(method, params, patience);
}

}  // namespace pargeter::app
