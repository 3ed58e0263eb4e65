// The secrets file: one section per account, mode 0600. A file that others may read is refused
// rather than used, since its content must be taken as known to them.
#pragma once

#include <string>

#include "base/error.h"

namespace pargeter {

enum class SecretIn { kFile, kKeyring };

// Where the account's secret is; kNotFound if it has none, kPermission if the file is open to
// others. With kKeyring the file only says so; see config/keyring.h.
Result<SecretIn> SecretPlace(const std::string& secrets_file, const std::string& account);
Result<std::string> LoadSecret(const std::string& secrets_file, const std::string& account);
// Takes it away from the other place, where it was there.
Status SaveSecret(const std::string& secrets_file, const std::string& account,
                  const std::string& secret, SecretIn place = SecretIn::kFile);
Status ForgetSecret(const std::string& secrets_file, const std::string& account);

// The first line of a file that a person gives a secret in; surrounding blanks are dropped.
Result<std::string> ReadSecretFile(const std::string& path);

}  // namespace pargeter
