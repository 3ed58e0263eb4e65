#include "config/settings.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/file.h"
#include "base/text.h"
#include "base/units.h"
#include "config/toml_file.h"

namespace pargeter {
namespace {

Error NoSuch(std::string_view kind, const std::string& name, const std::vector<std::string>& have) {
  std::string remedy = fmt::format("There are no {}s yet; see: pargeter {} add --help", kind, kind);
  if (!have.empty()) remedy = fmt::format("There is: {}", fmt::join(have, ", "));
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

// Reads `key` into `out` if the file has it.
Status Take(const TomlFile& file, std::string_view key, std::string* out) {
  PG_ASSIGN(std::optional<std::string> value, file.String("", key));
  if (value) *out = *value;
  return {};
}

// Sets `key` unless it already has that value; an empty value removes it.
Status Put(TomlFile* file, std::string_view key, const std::string& value) {
  PG_ASSIGN(const std::optional<std::string> now, file->String("", key));
  if (now.value_or("") == value) return {};
  return value.empty() ? file->Remove("", key) : file->SetString("", key, value);
}

Status PutBool(TomlFile* file, std::string_view key, bool value) {
  PG_ASSIGN(const std::optional<bool> now, file->Bool("", key));
  if (now.value_or(false) == value) return {};
  return value ? file->SetBool("", key, true) : file->Remove("", key);
}

// A size that survives being written and read again.
std::string ExactSize(std::uint64_t bytes) {
  if (bytes != 0 && bytes % kGiB == 0) return fmt::format("{}GiB", bytes / kGiB);
  if (bytes != 0 && bytes % kMiB == 0) return fmt::format("{}MiB", bytes / kMiB);
  return fmt::format("{}", bytes);
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
  PG_TRY(Take(file, "kind", &account.kind));
  PG_TRY(Take(file, "endpoint", &account.endpoint));
  PG_TRY(Take(file, "region", &account.region));
  PG_TRY(Take(file, "key_id", &account.key_id));
  PG_TRY(Take(file, "ca_file", &account.ca_file));
  PG_TRY(Take(file, "address_style", &account.address_style));
  PG_TRY(Take(file, "url", &account.url));
  PG_TRY(Take(file, "user", &account.user));
  PG_ASSIGN(const std::optional<bool> sign_in, file.Bool("", "sign_in"));
  account.sign_in = sign_in.value_or(false);
  PG_TRY(Take(file, "issuer", &account.issuer));
  PG_TRY(Take(file, "client_id", &account.client_id));
  PG_TRY(Take(file, "scope", &account.scope));
  PG_TRY(Take(file, "host", &account.host));
  PG_TRY(Take(file, "private_key", &account.private_key));
  PG_TRY(Take(file, "known_hosts", &account.known_hosts));
  PG_ASSIGN(const std::optional<double> port, file.Number("", "port"));
  account.port = static_cast<int>(std::clamp(port.value_or(22), 0.0, 65535.0));
  PG_ASSIGN(const std::optional<bool> plain_http, file.Bool("", "plain_http"));
  account.plain_http = plain_http.value_or(false);
  std::string access = "write";
  PG_TRY(Take(file, "access", &access));
  account.read_only = access == "read";
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
  PG_TRY(Take(file, "account", &drive.account));
  PG_TRY(Take(file, "folder", &drive.folder));
  PG_TRY(Take(file, "at", &drive.at));
  PG_TRY(Take(file, "mode", &drive.mode));
  PG_TRY(Take(file, "label", &drive.label));
  PG_TRY(Take(file, "cache_at", &drive.cache_at));
  PG_ASSIGN(const std::optional<bool> read_only, file.Bool("", "read_only"));
  drive.read_only = read_only.value_or(false);
  std::string share_with = "owner";
  PG_TRY(Take(file, "share_with", &share_with));
  if (share_with != "owner" && share_with != "all")
    return Error(Code::kInvalid, fmt::format("{}: share_with must be owner or all", file.path()));
  drive.share_with_all = share_with == "all";
  PG_ASSIGN(const std::optional<double> hold_files, file.Number("", "hold_files"));
  PG_ASSIGN(const std::optional<double> hold_share, file.Number("", "hold_share"));
  drive.hold_files = static_cast<std::uint64_t>(std::max(0.0, hold_files.value_or(1000)));
  drive.hold_share = hold_share.value_or(drive.hold_share);
  std::string text;
  PG_TRY(Take(file, "cache_limit", &text));
  if (!text.empty()) {
    const auto size = ParseSize(text);
    if (!size.ok()) return size.error().Within(file.path() + ": cache_limit");
    drive.cache_limit = *size;
  }
  PG_TRY(Take(file, "shy_readers", &drive.shy_readers));
  text.clear();
  PG_TRY(Take(file, "shy_allowance", &text));
  if (!text.empty()) {
    const auto size = ParseSize(text);
    if (!size.ok()) return size.error().Within(file.path() + ": shy_allowance");
    drive.shy_allowance = *size;
  }
  PG_ASSIGN(const std::optional<double> keep_free, file.Number("", "keep_free"));
  drive.keep_free = keep_free.value_or(drive.keep_free);
  text.clear();
  PG_TRY(Take(file, "fresh_for", &text));
  if (!text.empty()) {
    const auto span = ParseDuration(text);
    if (!span.ok()) return span.error().Within(file.path() + ": fresh_for");
    drive.fresh_for = *span;
  }
  text.clear();
  PG_TRY(Take(file, "stop_within", &text));
  if (!text.empty()) {
    const auto span = ParseDuration(text);
    if (!span.ok()) return span.error().Within(file.path() + ": stop_within");
    drive.stop_within = *span;
  }
  if (drive.account.empty() || drive.at.empty() || drive.at[0] != '/') {
    return Error(Code::kInvalid,
                 fmt::format("{}: account and at (an absolute path) must be set", file.path()));
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
  PG_TRY(Put(&file, "kind", account.kind));
  const bool s3 = account.kind == "s3";
  PG_TRY(Put(&file, "endpoint", s3 ? account.endpoint : ""));
  PG_TRY(Put(&file, "region", s3 ? account.region : ""));
  PG_TRY(Put(&file, "key_id", s3 ? account.key_id : ""));
  PG_TRY(Put(&file, "url", account.url));
  PG_TRY(Put(&file, "user", account.user));
  PG_TRY(PutBool(&file, "plain_http", account.plain_http));
  PG_TRY(PutBool(&file, "sign_in", account.sign_in));
  PG_TRY(Put(&file, "issuer", account.issuer));
  PG_TRY(Put(&file, "client_id", account.sign_in ? account.client_id : ""));
  PG_TRY(Put(&file, "scope", account.scope));
  PG_TRY(Put(&file, "host", account.host));
  PG_TRY(Put(&file, "private_key", account.private_key));
  PG_TRY(Put(&file, "known_hosts", account.known_hosts));
  PG_ASSIGN(const std::optional<double> port, file.Number("", "port"));
  if (port.value_or(22) != account.port) PG_TRY(file.SetNumber("", "port", account.port));
  PG_TRY(Put(&file, "ca_file", account.ca_file));
  PG_TRY(Put(&file, "address_style", account.address_style == "path" ? "" : account.address_style));
  PG_TRY(Put(&file, "access", account.read_only ? "read" : "write"));
  return file.Save(0600);
}

Status SaveDrive(const Paths& paths, const DriveSettings& drive) {
  PG_TRY(CheckName("drive", drive.name));
  PG_TRY(MakeFolders(paths.config_dir + "/drives"));
  PG_ASSIGN(TomlFile file, TomlFile::Load(paths.DriveFile(drive.name)));
  const DriveSettings defaults;
  PG_TRY(Put(&file, "account", drive.account));
  PG_TRY(Put(&file, "folder", drive.folder));
  PG_TRY(Put(&file, "at", drive.at));
  PG_TRY(Put(&file, "mode", drive.mode));
  PG_TRY(PutBool(&file, "read_only", drive.read_only));
  PG_TRY(Put(&file, "label", drive.label));
  PG_TRY(Put(&file, "share_with", drive.share_with_all ? "all" : ""));
  PG_ASSIGN(const std::optional<double> hold_files, file.Number("", "hold_files"));
  if (hold_files.value_or(1000) != static_cast<double>(drive.hold_files))
    PG_TRY(file.SetNumber("", "hold_files", static_cast<double>(drive.hold_files)));
  PG_ASSIGN(const std::optional<double> hold_share, file.Number("", "hold_share"));
  if (hold_share.value_or(defaults.hold_share) != drive.hold_share)
    PG_TRY(file.SetNumber("", "hold_share", drive.hold_share));
  PG_TRY(Put(&file, "cache_limit", ExactSize(drive.cache_limit)));
  PG_TRY(Put(&file, "cache_at", drive.cache_at));
  PG_ASSIGN(const std::optional<double> keep_free, file.Number("", "keep_free"));
  if (keep_free.value_or(defaults.keep_free) != drive.keep_free) {
    PG_TRY(file.SetNumber("", "keep_free", drive.keep_free));
  }
  PG_ASSIGN(const std::optional<std::string> shy, file.String("", "shy_readers"));
  if (shy || drive.shy_readers != defaults.shy_readers)
    PG_TRY(file.SetString("", "shy_readers", drive.shy_readers));
  PG_ASSIGN(const std::optional<std::string> allowance, file.String("", "shy_allowance"));
  if (allowance || drive.shy_allowance != defaults.shy_allowance)
    PG_TRY(Put(&file, "shy_allowance", ExactSize(drive.shy_allowance)));
  PG_ASSIGN(const std::optional<std::string> fresh, file.String("", "fresh_for"));
  if (fresh || drive.fresh_for != defaults.fresh_for) {
    PG_TRY(Put(&file, "fresh_for", fmt::format("{}ms", drive.fresh_for.count())));
  }
  PG_ASSIGN(const std::optional<std::string> stop, file.String("", "stop_within"));
  if (stop || drive.stop_within != defaults.stop_within) {
    PG_TRY(Put(&file, "stop_within", fmt::format("{}s", drive.stop_within.count() / 1000)));
  }
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

}  // namespace pargeter
