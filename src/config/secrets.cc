#include "config/secrets.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <chrono>
#include <thread>

#include "base/clock.h"
#include "base/file.h"
#include "base/text.h"
#include "config/keyring.h"
#include "config/toml_file.h"

namespace pargeter {
namespace {

Status CheckPrivate(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) return {};  // missing: nothing to protect yet
  if ((info.st_mode & 077) == 0) return {};
  return Error(Code::kPermission,
               fmt::format("{} can be read by other users (mode {:03o})", Printable(path),
                           info.st_mode & 0777),
               fmt::format("Renew the keys in it, since others may know them; then: chmod 600 {}",
                           Printable(path)));
}

// One at a time among processes: each writes the whole file.
Result<Fd> LockSecrets(const std::string& path) {
  const Steady until = std::chrono::steady_clock::now() + std::chrono::seconds(10);
  for (;;) {
    auto lock = LockFile(path + ".lock");
    if (lock.ok() || lock.error().code != Code::kBusy) return lock;
    if (std::chrono::steady_clock::now() >= until) return lock.error().Within("the secrets file");
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
}

}  // namespace

Result<SecretIn> SecretPlace(const std::string& path, const std::string& account) {
  PG_TRY(CheckPrivate(path));
  PG_ASSIGN(const TomlFile file, TomlFile::Load(path));
  PG_ASSIGN(const std::optional<std::string> place, file.String(account, "secret_in"));
  if (place == "keyring") return SecretIn::kKeyring;
  PG_ASSIGN(const std::optional<std::string> secret, file.String(account, "secret"));
  if (secret) return SecretIn::kFile;
  return Error(Code::kNotFound, fmt::format("no secret is stored for the account {}", account),
               fmt::format("Store it: pargeter account change {} --secret-file FILE", account));
}

Result<std::string> LoadSecret(const std::string& path, const std::string& account) {
  PG_ASSIGN(const SecretIn place, SecretPlace(path, account));
  if (place == SecretIn::kKeyring) return Keyring(path, account).Load();
  PG_ASSIGN(const TomlFile file, TomlFile::Load(path));
  const auto secret = file.String(account, "secret");
  if (!secret.ok()) return secret.error();
  return secret->value_or("");
}

Status SaveSecret(const std::string& path, const std::string& account, const std::string& secret,
                  SecretIn place) {
  PG_ASSIGN(const Fd lock, LockSecrets(path));
  const auto before = SecretPlace(path, account);
  if (!before.ok() && before.error().code != Code::kNotFound) return before.error();
  PG_ASSIGN(TomlFile file, TomlFile::Load(path));
  if (place == SecretIn::kKeyring) {
    PG_TRY(Keyring(path, account).Save(secret));
    PG_TRY(file.Remove(account, "secret"));
    PG_TRY(file.SetString(account, "secret_in", "keyring"));
    return file.Save(0600);
  }
  PG_TRY(file.Remove(account, "secret_in"));
  PG_TRY(file.SetString(account, "secret", secret));
  PG_TRY(file.Save(0600));
  if (before.ok() && *before == SecretIn::kKeyring) return Keyring(path, account).Forget();
  return {};
}

Status ForgetSecret(const std::string& path, const std::string& account) {
  PG_ASSIGN(const Fd lock, LockSecrets(path));
  const auto place = SecretPlace(path, account);
  if (place.ok() && *place == SecretIn::kKeyring) PG_TRY(Keyring(path, account).Forget());
  PG_ASSIGN(TomlFile file, TomlFile::Load(path));
  if (file.text().empty()) return {};
  PG_TRY(file.RemoveSection(account));
  return file.Save(0600);
}

Result<std::string> ReadSecretFile(const std::string& path) {
  Result<std::string> text = ReadFile(path, 65536);
  if (!text.ok()) return text.error().Within("the secret file");
  const std::string secret(Trim(Split(*text, '\n').front()));
  if (secret.empty()) {
    return Error(Code::kInvalid, fmt::format("the secret file {} is empty", Printable(path)),
                 "Put the secret on its first line.");
  }
  return secret;
}

}  // namespace pargeter
