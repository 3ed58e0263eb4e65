#include "config/paths.h"

#include <fmt/format.h>

#include <filesystem>

#include "base/digest.h"
#include "base/text.h"

namespace pargeter {

std::string Paths::AccountFile(const std::string& name) const {
  return config_dir + "/accounts/" + name + ".toml";
}
std::string Paths::DriveFile(const std::string& name) const {
  return config_dir + "/drives/" + name + ".toml";
}
std::string Paths::SecretsFile() const { return config_dir + "/secrets.toml"; }
std::string Paths::DriveState(const std::string& drive) const {
  return state_dir + "/drives/" + drive;
}
std::string Paths::OwnSocketOf(const std::string& drive) const {
  return runtime_dir + "/" + drive + ".sock";
}
std::string Paths::SocketLinkOf(const std::string& drive) const {
  return DriveState(drive) + "/control";
}
std::string Paths::SocketOf(const std::string& drive) const {
  std::error_code ec;
  const auto target = std::filesystem::read_symlink(SocketLinkOf(drive), ec);
  return ec ? OwnSocketOf(drive) : target.string();
}

Result<Paths> ResolvePaths(const std::function<std::string(const char*)>& lookup, bool is_root,
                           unsigned uid, const std::string& config_override,
                           const std::string& state_override) {
  const std::string home = lookup("HOME");
  const auto place = [&](const char* variable, const char* below_home,
                         const char* system) -> std::string {
    const std::string base = lookup(variable);
    if (!base.empty() && base[0] == '/') return base + "/pargeter";
    if (is_root) return system;
    return home.empty() ? "" : home + below_home + "/pargeter";
  };
  Paths paths;
  paths.config_dir = config_override.empty() ? place("XDG_CONFIG_HOME", "/.config", "/etc/pargeter")
                                             : config_override;
  paths.state_dir = state_override.empty()
                        ? place("XDG_STATE_HOME", "/.local/state", "/var/lib/pargeter")
                        : state_override;
  if (paths.config_dir.empty() || paths.state_dir.empty()) {
    return Error(Code::kInvalid, "no home folder is known: HOME is not set",
                 "Set HOME, or give --config-dir and --state-dir.");
  }
  // what a service manager has made for this very process comes first
  paths.runtime_dir = lookup("RUNTIME_DIRECTORY");
  paths.runtime_dir = paths.runtime_dir.substr(0, paths.runtime_dir.find(':'));
  if (!paths.runtime_dir.empty()) return paths;
  const std::string runtime = lookup("XDG_RUNTIME_DIR");
  if (!state_override.empty()) {
    // Sockets of a state folder given by hand must not meet those of another, and a socket's path
    // must stay short (108 bytes): so a short name made from the folder's.
    const std::string tag = Hex(Sha256(paths.state_dir)).substr(0, 12);
    const std::string base = !runtime.empty() ? runtime + "/pargeter"
                             : is_root        ? std::string("/run/pargeter")
                                              : fmt::format("/tmp/pargeter-{}", uid);
    paths.runtime_dir = base + "/" + tag;
  } else if (!runtime.empty() && runtime[0] == '/') {
    paths.runtime_dir = runtime + "/pargeter";
  } else {
    paths.runtime_dir = is_root ? "/run/pargeter" : fmt::format("/tmp/pargeter-{}", uid);
  }
  return paths;
}

std::string AbsolutePath(const std::string& path, const std::string& cwd) {
  std::filesystem::path full(path);
  if (full.is_relative()) full = std::filesystem::path(cwd) / full;
  std::string normal = full.lexically_normal().string();
  while (normal.size() > 1 && normal.back() == '/') normal.pop_back();
  return normal;
}

}  // namespace pargeter
