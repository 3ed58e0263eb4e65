// The desktop's secret service (the org.freedesktop.secrets interface on the session bus).
#pragma once

#include <string>

#include "base/error.h"

namespace pargeter {

// The secret of one account of one secrets file. Each call waits 30 seconds at most: a locked
// keyring may ask its owner for a password. kUnavailable: there is no such service in this session,
// or it stayed locked; kNotFound: it holds no such secret.
class Keyring {
 public:
  Keyring(std::string secrets_file, std::string account)
      : file_(std::move(secrets_file)), account_(std::move(account)) {}
  Result<std::string> Load() const;
  Status Save(const std::string& secret) const;
  Status Forget() const;

 private:
  const std::string file_, account_;
};

}  // namespace pargeter
