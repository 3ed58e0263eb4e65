// The secrets file: one section per account, mode 0600. A file that others may read is refused
// rather than used, since its content must be taken as known to them.
#pragma once

#include <string>

#include "base/error.h"

namespace pargeter {

// kNotFound if the account has none; kPermission if the file is open to others.
Result<std::string> LoadSecret(const std::string& secrets_file, const std::string& account);
Status SaveSecret(const std::string& secrets_file, const std::string& account,
                  const std::string& secret);
Status ForgetSecret(const std::string& secrets_file, const std::string& account);

// The first line of a file that a person gives a secret in; surrounding blanks are dropped.
Result<std::string> ReadSecretFile(const std::string& path);

}  // namespace pargeter
