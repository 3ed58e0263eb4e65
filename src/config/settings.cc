#include "config/settings.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <functional>
#include <optional>
#include <variant>

#include "base/file.h"
#include "base/text.h"
#include "base/units.h"
#include "config/toml_file.h"

namespace pargeter {
namespace {

Error NoSuch(std::string_view kind, const std::string& name, const std::vector<std::string>& have) {
  std::string remedy = fmt::format("There are no {}s yet; see: pargeter {} add --help", kind, kind);
  if (!have.empty()) remedy = fmt::format("Known names: {}", fmt::join(have, ", "));
  return Error(Code::kNotFound, fmt::format("no {} is called \"{}\"", kind, Printable(name)),
               remedy);
}

std::vector<std::string> NamesIn(const std::string& folder) {
  std::vector<std::string> names;
  std::error_code ec;
  for (std::filesystem::directory_iterator it(folder, ec), end; !ec && it != end;
       it.increment(ec)) {
    if (it->path().extension() == ".toml" && CheckName("", it->path().stem().string()).ok()) {
      names.push_back(it->path().stem().string());
    }
  }
  std::sort(names.begin(), names.end());
  return names;
}

bool Missing(const std::string& path) {
  std::error_code ec;
  return !std::filesystem::exists(path, ec);
}

// A size that survives being written and read again.
std::string ExactSize(std::uint64_t bytes) {
  if (bytes != 0 && bytes % kGiB == 0) return fmt::format("{}GiB", bytes / kGiB);
  if (bytes != 0 && bytes % kMiB == 0) return fmt::format("{}MiB", bytes / kMiB);
  return fmt::format("{}", bytes);
}

// ---- one key of a settings file, by what kind of thing it holds

template <typename S>
struct Bytes {
  std::uint64_t S::*member;
};
template <typename S>
struct Words {  // a yes or no that is written as one of two words
  bool S::*member;
  const char *no, *yes;
};
template <typename S>
using Member = std::variant<std::string S::*, bool S::*, double S::*, int S::*, std::uint64_t S::*,
                            Duration S::*, std::vector<std::string> S::*, Bytes<S>, Words<S>>;
using Value = std::variant<std::string, bool, double, std::vector<std::string>>;

template <typename S>
struct Key {
  const char* name;
  Member<S> member;
  const char* summary;
  bool written = false;          // also where it is as it would be without
  const char* called = nullptr;  // by people, when it changes
  bool at_mount = false;         // takes effect only then
};

template <typename... F>
struct Cases : F... {
  using F::operator()...;
};
template <typename... F>
Cases(F...) -> Cases<F...>;

std::string SpanText(Duration span) {
  return span.count() % 1000 == 0 ? fmt::format("{}s", span.count() / 1000)
                                  : fmt::format("{}ms", span.count());
}

template <typename S>
Value ValueOf(const S& from, const Member<S>& member) {
  return std::visit(
      Cases{[&](std::string S::*m) -> Value { return from.*m; },
            [&](bool S::*m) -> Value { return from.*m; },
            [&](double S::*m) -> Value { return from.*m; },
            [&](int S::*m) -> Value { return static_cast<double>(from.*m); },
            [&](std::uint64_t S::*m) -> Value { return static_cast<double>(from.*m); },
            [&](Duration S::*m) -> Value { return SpanText(from.*m); },
            [&](std::vector<std::string> S::*m) -> Value { return from.*m; },
            [&](Bytes<S> m) -> Value { return ExactSize(from.*m.member); },
            [&](Words<S> m) -> Value { return std::string(from.*m.member ? m.yes : m.no); }},
      member);
}

// Takes what the file says of this key; nothing if it says nothing.
template <typename S>
Status Take(const TomlFile& file, const Key<S>& key, S* to) {
  const auto text = [&](const auto& use) -> Status {
    PG_ASSIGN(const std::optional<std::string> said, file.String("", key.name));
    return said ? use(*said) : Status();
  };
  const auto number = [&](const auto& use) -> Status {
    PG_ASSIGN(const std::optional<double> said, file.Number("", key.name));
    if (said) use(*said);
    return {};
  };
  const auto bad = [&](const Error& error) {
    return error.Within(fmt::format("{}: {}", file.path(), key.name));
  };
  return std::visit(
      Cases{[&](std::string S::*m) {
              return text([&](const std::string& said) {
                to->*m = said;
                return Status();
              });
            },
            [&](bool S::*m) -> Status {
              PG_ASSIGN(const std::optional<bool> said, file.Bool("", key.name));
              if (said) to->*m = *said;
              return {};
            },
            [&](double S::*m) { return number([&](double said) { to->*m = said; }); },
            [&](int S::*m) {
              return number(
                  [&](double said) { to->*m = static_cast<int>(std::clamp(said, 0.0, 65535.0)); });
            },
            [&](std::uint64_t S::*m) {
              return number([&](double said) {
                to->*m = static_cast<std::uint64_t>(std::clamp(said, 0.0, 1e15));
              });
            },
            [&](Duration S::*m) {
              return text([&](const std::string& said) -> Status {
                const auto span = ParseDuration(said);
                if (!span.ok()) return bad(span.error());
                to->*m = *span;
                return {};
              });
            },
            [&](std::vector<std::string> S::*m) -> Status {
              PG_ASSIGN(const auto said, file.Strings("", key.name));
              if (said) to->*m = *said;
              return {};
            },
            [&](Bytes<S> m) {
              return text([&](const std::string& said) -> Status {
                const auto size = ParseSize(said);
                if (!size.ok()) return bad(size.error());
                to->*m.member = *size;
                return {};
              });
            },
            [&](Words<S> m) {
              return text([&](const std::string& said) -> Status {
                if (said != m.no && said != m.yes)
                  return Error(Code::kInvalid, fmt::format("{}: {} must be {} or {}", file.path(),
                                                           key.name, m.no, m.yes));
                to->*m.member = said == m.yes;
                return {};
              });
            }},
      key.member);
}

// Makes the file say `from`, where it does not; `without` is what it means where it says nothing.
template <typename S>
Status Put(TomlFile* file, const Key<S>& key, const S& from, const S& without) {
  S now = without;
  PG_TRY(Take(*file, key, &now));
  const Value wanted = ValueOf(from, key.member), fallback = ValueOf(without, key.member);
  const bool by_default = wanted == fallback;
  const bool empty =
      std::holds_alternative<std::string>(wanted) && std::get<std::string>(wanted).empty();
  const bool is_said = file->Has("", key.name);
  if (by_default && (!key.written || empty))
    return is_said && ValueOf(now, key.member) != wanted ? file->Remove("", key.name) : Status();
  if (is_said && ValueOf(now, key.member) == wanted) return {};
  return std::visit(
      Cases{[&](const std::string& text) { return file->SetString("", key.name, text); },
            [&](bool flag) { return file->SetBool("", key.name, flag); },
            [&](double number) { return file->SetNumber("", key.name, number); },
            [&](const std::vector<std::string>& list) {
              return file->SetStrings("", key.name, list);
            }},
      wanted);
}

template <typename S>
Status TakeAll(const TomlFile& file, const std::vector<Key<S>>& keys, S* to) {
  for (const Key<S>& key : keys) PG_TRY(Take(file, key, to));
  return {};
}
template <typename S>
Status PutAll(TomlFile* file, const std::vector<Key<S>>& keys, const S& from, const S& without) {
  for (const Key<S>& key : keys) PG_TRY(Put(file, key, from, without));
  return {};
}

const std::vector<Key<AccountSettings>>& AccountKeys() {
  using A = AccountSettings;
  static const std::vector<Key<A>> keys = {
      {"kind", &A::kind, "protocol of the store: `s3`, `webdav` or `sftp`", true},
      {"endpoint", &A::endpoint,
       "s3: address of the store, as `https://HOST` or `http://HOST:PORT`"},
      {"region", &A::region, "s3: region of the store"},
      {"key_id", &A::key_id, "s3: public half of the key; the secret half is in `secrets.toml`"},
      {"url", &A::url, "webdav: address of the folder that the account opens"},
      {"user", &A::user, "webdav, sftp: user name"},
      {"plain_http", &A::plain_http, "webdav: `true` allows a password over unencrypted http"},
      {"sign_in", &A::sign_in, "webdav: `true` uses a grant (OAuth 2.0) instead of a password"},
      {"issuer", &A::issuer, "webdav: address of the sign-in server; empty: the host of the store"},
      {"client_id", &A::client_id, "webdav: name of this program at the sign-in server"},
      {"scope", &A::scope,
       "webdav: OAuth scope to ask for; empty: `files.read`, `files.write`, `offline_access`"},
      {"host", &A::host, "sftp: name or address of the server"},
      {"port", &A::port, "sftp: port of the server"},
      {"private_key", &A::private_key,
       "sftp: path of the private key; empty: a password or an agent"},
      {"known_hosts", &A::known_hosts,
       "sftp: path of a file with host keys; empty: `~/.ssh/known_hosts`"},
      {"anonymous", &A::anonymous, "s3: `true` signs no request; the account is then read-only"},
      {"part_size", Bytes<A>{&A::part_size},
       "s3: size of the parts of a large upload; 0: chosen by the size of the file"},
      {"ca_file", &A::ca_file,
       "path of a PEM file with the store's certificate authority; empty: the system's"},
      {"proxy", &A::proxy,
       "HTTP proxy, as `http://HOST:PORT`; empty: `https_proxy` and `http_proxy`"},
      {"certificate", &A::certificate,
       "path of a PEM file with the client certificate of this machine"},
      {"certificate_key", &A::certificate_key,
       "path of a PEM file with its key; empty: in the same file"},
      {"address_style", &A::address_style,
       "s3: where the bucket's name stands: `path` (HOST/BUCKET) or `host` (BUCKET.HOST)"},
      {"access", Words<A>{&A::read_only, "write", "read"},
       "`write`, or `read`: every change is refused on this machine", true},
  };
  return keys;
}

const std::vector<Key<DriveSettings>>& DriveKeys() {
  using D = DriveSettings;
  static const std::vector<Key<D>> keys = {
      {"join", &D::join, "patterns ACCOUNT/FOLDER of the folders that a joined drive shows", false,
       "what is joined"},
      {"except", &D::except,
       "patterns ACCOUNT/FOLDER of the folders that a joined drive leaves out", false,
       "what is left out"},
      {"part_of", &D::part_of, "of a part: name of the joined drive; written by the program"},
      {"shown_as", &D::shown_as,
       "of a part: name of its folder in the joined drive; written by the program"},
      {"account", &D::account, "name of the account; not with `join`", true, "account", true},
      {"folder", &D::folder,
       "folder at the store: s3 BUCKET[/PREFIX]; webdav and sftp any folder; empty: the top", true,
       "folder", true},
      {"at", &D::at, "absolute path of the directory where the drive appears", false, "at", true},
      {"mode", &D::mode,
       "`stream`: all names at once, bytes when they are read; `mirror`: a plain directory with "
       "all "
       "files, kept the same as the store",
       false, "mode", true},
      {"read_only", &D::read_only, "`true` refuses changes through the mount", false, "read-only",
       true},
      {"label", &D::label, "description for people", false, "label"},
      {"share_with", Words<D>{&D::share_with_all, "owner", "all"},
       "who sees the mount: `owner`, or `all` users as permissions allow", false, "shared with",
       true},
      {"hold_files", &D::hold_files,
       "deletions within a minute that are held back, if they are also `hold_share` of the drive; "
       "0: never",
       false, "holding back deletions"},
      {"hold_share", &D::hold_share, "share of the drive, 0 to 1; see `hold_files`", false,
       "holding back deletions"},
      {"cache_limit", Bytes<D>{&D::cache_limit},
       "most bytes of the cache; changes that wait for upload are not counted", false,
       "cache limit"},
      {"cache_at", &D::cache_at, "path of the cache; empty: in the drive's state", false,
       "cache place", true},
      {"keep_free", &D::keep_free, "share of the disk that the cache leaves free, 0 to 0.95", false,
       "share to keep free"},
      {"shy_readers", &D::shy_readers,
       "programs that get no whole files from the store, apart by commas; `none`; `default`: "
       "common indexers, thumbnailers and scanners",
       false, "shy readers"},
      {"shy_allowance", Bytes<D>{&D::shy_allowance}, "bytes of each file that those programs get",
       false, "shy readers"},
      {"fresh_for", &D::fresh_for, "age of a listing after which an open asks the store again",
       false, "age of listings"},
      {"stop_within", &D::stop_within, "longest wait for uploads when the mount ends", false,
       "wait at the end"},
  };
  return keys;
}

// What a drive's settings are where its file says nothing: of a part, those of what it belongs to.
Result<DriveSettings> Without(const Paths& paths, const DriveSettings& drive) {
  if (drive.part_of.empty()) return DriveSettings{};
  if (drive.part_of == drive.name)
    return Error(Code::kInvalid, fmt::format("{} cannot be a part of itself", drive.name));
  PG_ASSIGN(DriveSettings d, LoadDrive(paths, drive.part_of));
  if (d.join.empty())
    return Error(Code::kInvalid,
                 fmt::format("{}: {} is no joined drive", paths.DriveFile(drive.name), d.name));
  if (drive.shown_as.empty() || drive.shown_as.find('/') != std::string::npos ||
      drive.shown_as == "." || drive.shown_as == "..")
    return Error(Code::kInvalid,
                 fmt::format("{}: shown_as is no name of a folder", paths.DriveFile(drive.name)));
  d.at += "/" + drive.shown_as;
  if (!d.cache_at.empty()) d.cache_at += "/" + drive.name;
  d.name = d.account = d.folder = d.label = "";
  d.join.clear();
  d.except.clear();
  return d;
}

Status RemoveFile(const std::string& path) { return RealDisk().Remove(path); }

}  // namespace

Status CheckName(std::string_view kind, std::string_view name) {
  const auto alnum = [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
  };
  const bool fine = !name.empty() && name.size() <= 64 && alnum(name[0]) &&
                    std::all_of(name.begin(), name.end(), [&](char c) {
                      return alnum(c) || c == '.' || c == '_' || c == '-';
                    });
  if (fine) return {};
  return Error(Code::kInvalid,
               fmt::format("\"{}\" cannot be the name of {} {}", Printable(name),
                           kind == "account" ? "an" : "a", kind),
               "Use up to 64 letters, digits, dots, dashes and underscores, starting with a "
               "letter or digit.");
}

Result<AccountSettings> LoadAccount(const Paths& paths, const std::string& name) {
  PG_TRY(CheckName("account", name));
  if (Missing(paths.AccountFile(name))) return NoSuch("account", name, AccountNames(paths));
  PG_ASSIGN(const TomlFile file, TomlFile::Load(paths.AccountFile(name)));
  AccountSettings account;
  account.name = name;
  PG_TRY(TakeAll(file, AccountKeys(), &account));
  if (account.kind != "s3" && account.kind != "webdav" && account.kind != "sftp") {
    return Error(Code::kInvalid, fmt::format("{}: kind must be s3, webdav or sftp", file.path()));
  }
  if (account.address_style != "path" && account.address_style != "host") {
    return Error(Code::kInvalid,
                 fmt::format("{}: address_style must be path or host", file.path()));
  }
  return account;
}

Result<DriveSettings> LoadDrive(const Paths& paths, const std::string& name) {
  PG_TRY(CheckName("drive", name));
  if (Missing(paths.DriveFile(name))) return NoSuch("drive", name, DriveNames(paths));
  PG_ASSIGN(const TomlFile file, TomlFile::Load(paths.DriveFile(name)));
  DriveSettings drive;
  drive.name = name;
  PG_TRY(TakeAll(file, DriveKeys(), &drive));
  if (!drive.part_of.empty()) {
    PG_ASSIGN(DriveSettings part, Without(paths, drive));
    part.name = name;
    PG_TRY(TakeAll(file, DriveKeys(), &part));
    drive = std::move(part);
  }
  if ((drive.account.empty() && drive.join.empty()) || drive.at.empty() || drive.at[0] != '/') {
    return Error(
        Code::kInvalid,
        fmt::format("{}: account (or join) and at (an absolute path) must be set", file.path()));
  }
  if (drive.keep_free < 0 || drive.keep_free > 0.95) {
    return Error(Code::kInvalid,
                 fmt::format("{}: keep_free must be between 0 and 0.95", file.path()));
  }
  return drive;
}

Status SaveAccount(const Paths& paths, const AccountSettings& account) {
  PG_TRY(CheckName("account", account.name));
  PG_TRY(MakeFolders(paths.config_dir + "/accounts"));
  PG_ASSIGN(TomlFile file, TomlFile::Load(paths.AccountFile(account.name)));
  PG_TRY(PutAll(&file, AccountKeys(), account, AccountSettings{}));
  return file.Save(0600);
}

Status SaveDrive(const Paths& paths, const DriveSettings& drive) {
  PG_TRY(CheckName("drive", drive.name));
  PG_TRY(MakeFolders(paths.config_dir + "/drives"));
  PG_ASSIGN(TomlFile file, TomlFile::Load(paths.DriveFile(drive.name)));
  PG_ASSIGN(DriveSettings without, Without(paths, drive));
  // a part says itself where it belongs
  if (!drive.part_of.empty()) without.part_of = without.shown_as = "";
  PG_TRY(PutAll(&file, DriveKeys(), drive, without));
  return file.Save(0600);
}

Status RemoveAccount(const Paths& paths, const std::string& name) {
  return RemoveFile(paths.AccountFile(name));
}
Status RemoveDrive(const Paths& paths, const std::string& name) {
  return RemoveFile(paths.DriveFile(name));
}
std::vector<std::string> AccountNames(const Paths& paths) {
  return NamesIn(paths.config_dir + "/accounts");
}
std::vector<std::string> DriveNames(const Paths& paths) {
  return NamesIn(paths.config_dir + "/drives");
}

std::vector<DriveSettings> PartsOf(const Paths& paths, const std::string& joined) {
  std::vector<DriveSettings> parts;
  for (const std::string& name : DriveNames(paths)) {
    auto drive = LoadDrive(paths, name);
    if (drive.ok() && drive->part_of == joined) parts.push_back(std::move(*drive));
  }
  return parts;
}

std::vector<SettingDifference> Differences(const DriveSettings& a, const DriveSettings& b) {
  std::vector<SettingDifference> out;
  for (const Key<DriveSettings>& key : DriveKeys()) {
    if (key.called == nullptr || ValueOf(a, key.member) == ValueOf(b, key.member)) continue;
    if (out.empty() || out.back().what != key.called) out.push_back({key.called, key.at_mount});
  }
  return out;
}

void TakeLive(DriveSettings* was, const DriveSettings& now) {
  for (const Key<DriveSettings>& key : DriveKeys()) {
    if (key.called == nullptr || key.at_mount) continue;
    std::visit(Cases{[&](auto DriveSettings::*m) { was->*m = now.*m; },
                     [&](Bytes<DriveSettings> m) { was->*m.member = now.*m.member; },
                     [&](Words<DriveSettings> m) { was->*m.member = now.*m.member; }},
               key.member);
  }
}

namespace {

// How a value is written, and what it is without the key.
template <typename S>
std::pair<std::string, std::string> TypeAndDefault(const Key<S>& key) {
  const S without;
  const auto quoted = [](const std::string& text) {
    return text.empty() ? "empty" : "`\"" + text + "\"`";
  };
  return std::visit(
      Cases{[&](std::string S::*m) {
              return std::pair<std::string, std::string>("text", quoted(without.*m));
            },
            [&](bool S::*m) {
              return std::pair<std::string, std::string>("true or false",
                                                         without.*m ? "true" : "false");
            },
            [&](double S::*m) {
              return std::pair<std::string, std::string>("number", fmt::format("{}", without.*m));
            },
            [&](int S::*m) {
              return std::pair<std::string, std::string>("number", fmt::format("{}", without.*m));
            },
            [&](std::uint64_t S::*m) {
              return std::pair<std::string, std::string>("number", fmt::format("{}", without.*m));
            },
            [&](Duration S::*m) {
              return std::pair<std::string, std::string>("time, such as `\"5s\"`, `\"2m\"`",
                                                         quoted(SpanText(without.*m)));
            },
            [&](std::vector<std::string> S::*) {
              return std::pair<std::string, std::string>("list of texts", "empty");
            },
            [&](Bytes<S> m) {
              return std::pair<std::string, std::string>("size, such as `\"8MiB\"`",
                                                         quoted(ExactSize(without.*m.member)));
            },
            [&](Words<S> m) {
              return std::pair<std::string, std::string>(
                  fmt::format("`\"{}\"` or `\"{}\"`", m.no, m.yes),
                  quoted(without.*m.member ? m.yes : m.no));
            }},
      key.member);
}

template <typename S>
std::vector<SettingText> Described(const std::vector<Key<S>>& keys,
                                   const std::function<std::string(const Key<S>&)>& effect) {
  std::vector<SettingText> out;
  for (const Key<S>& key : keys) {
    const auto [type, fallback] = TypeAndDefault(key);
    out.push_back({key.name, type, fallback, key.summary, effect(key)});
  }
  return out;
}

}  // namespace

std::vector<SettingText> DescribeAccountSettings() {
  return Described<AccountSettings>(AccountKeys(),
                                    [](const Key<AccountSettings>& key) -> std::string {
                                      const std::string_view name = key.name;
                                      if (name == "user") return "a refresh; sftp: a new mount";
                                      return name == "key_id" ? "a refresh" : "a new mount";
                                    });
}

std::vector<SettingText> DescribeDriveSettings() {
  return Described<DriveSettings>(DriveKeys(), [](const Key<DriveSettings>& key) -> std::string {
    const std::string_view name = key.name;
    if (name == "account" || name == "folder") return "removing and adding the drive";
    return key.called == nullptr || key.at_mount ? "a new mount" : "a refresh";
  });
}

}  // namespace pargeter
