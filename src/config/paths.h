// Where things live, by the XDG base directory specification; root has the system's places.
#pragma once

#include <functional>
#include <string>

#include "base/error.h"

namespace pargeter {

struct Paths {
  std::string config_dir;   // pargeter.toml, accounts/, drives/, secrets.toml
  std::string state_dir;    // drives/NAME/: index, pending data, cache
  std::string runtime_dir;  // control sockets

  std::string AccountFile(const std::string& name) const;
  std::string DriveFile(const std::string& name) const;
  std::string SecretsFile() const;
  std::string DriveState(const std::string& drive) const;
  // Where a drive's control socket is made by this process; and where it is, wherever the process
  // that runs the drive was started: a link in the drive's state says so.
  std::string OwnSocketOf(const std::string& drive) const;
  std::string SocketLinkOf(const std::string& drive) const;
  std::string SocketOf(const std::string& drive) const;
};

// `lookup` gives the value of an environment variable, "" if unset. Empty overrides mean "by the
// rules". kInvalid if no home folder is known.
Result<Paths> ResolvePaths(const std::function<std::string(const char*)>& lookup, bool is_root,
                           unsigned uid, const std::string& config_override,
                           const std::string& state_override);

// An absolute path without ".", ".." or doubled slashes; a relative one is taken from `cwd`.
std::string AbsolutePath(const std::string& path, const std::string& cwd);

}  // namespace pargeter
