#include "config/secrets.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include "base/file.h"
#include "base/text.h"
#include "config/toml_file.h"

namespace pargeter {
namespace {

Status CheckPrivate(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) return {};  // missing: nothing to protect yet
  if ((info.st_mode & 077) == 0) return {};
  return Error(
      Code::kPermission,
      fmt::format("{} can be read by other users (mode {:03o})", Printable(path),
                  info.st_mode & 0777),
      fmt::format("Take the keys in it as known to them; then: chmod 600 {}", Printable(path)));
}

}  // namespace

Result<std::string> LoadSecret(const std::string& path, const std::string& account) {
  PG_TRY(CheckPrivate(path));
  PG_ASSIGN(const TomlFile file, TomlFile::Load(path));
  PG_ASSIGN(const std::optional<std::string> secret, file.String(account, "secret"));
  if (!secret) {
    return Error(Code::kNotFound, fmt::format("no secret is stored for the account {}", account),
                 fmt::format("Add the account again with --secret-file."));
  }
  return *secret;
}

Status SaveSecret(const std::string& path, const std::string& account, const std::string& secret) {
  PG_TRY(CheckPrivate(path));
  PG_ASSIGN(TomlFile file, TomlFile::Load(path));
  PG_TRY(file.SetString(account, "secret", secret));
  return file.Save(0600);
}

Status ForgetSecret(const std::string& path, const std::string& account) {
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
