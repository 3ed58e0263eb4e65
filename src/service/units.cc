#include "service/units.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>

#include "base/file.h"
#include "base/text.h"

namespace pargeter {
namespace {

constexpr const char* kDropInName = "50-drive.conf";

constexpr const char* kCommon = R"([Unit]
Description=Pargeter drive %i
# After, not Wants: without a network a drive that is known is mounted all the same.
After=network-online.target
# A drive is needed for months: it is tried again for ever, but see RestartPreventExitStatus.
StartLimitIntervalSec=0
)";

constexpr const char* kService = R"(
[Service]
# Ready when the mount answers; fed while the mount and the index really answer.
Type=notify
NotifyAccess=main
WatchdogSec=90s
# A process that hangs or is stopped has nothing to say any more.
WatchdogSignal=SIGKILL
TimeoutStartSec=90s
# The drive asks for more while it uploads what waits (its own --stop-within).
TimeoutStopSec=90s
KillMode=mixed
Restart=on-failure
RestartSec=5s
# Wrong use, nothing of that name, refused to protect data, sign-in: no restart mends those.
RestartPreventExitStatus=2 3 4 6
UMask=0077
LimitNOFILE=524288
LimitCORE=0
KeyringMode=private
SyslogIdentifier=pargeter
)";

// Keys of our own section, which systemd passes over.
constexpr const char* kRecord = "[X-Pargeter]";

std::string PathWord(const std::string& path) {  // of a list of paths: quoted, no variables there
  std::string out = "\"";
  for (const char c : path) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '%') out += '%';
    out += c;
  }
  return out + "\"";
}

std::string CommandOf(const ServiceSpec& s, const std::string& words) {
  return fmt::format("{} --config-dir {} --state-dir {} {}", UnitQuote(s.program),
                     UnitQuote(s.config_dir), UnitQuote(s.state_dir), words);
}

// As tight as FUSE allows. Whatever gives a service a mount table of its own (ProtectSystem=,
// ProtectHome=, PrivateTmp=, PrivateDevices= and their like) is out: the mount would be seen by
// nobody else.
std::string Sandbox(const ServiceSpec& s) {
  if (s.scope == Scope::kUser) return "";
  std::string out =
      "DevicePolicy=closed\n"
      "DeviceAllow=/dev/fuse rw\n"
      "RuntimeDirectory=pargeter-%i\n"
      "RuntimeDirectoryMode=0700\n";
  if (s.user != "root") {
    // fusermount3 is set-uid: no NoNewPrivileges=, and none of the filters that imply it
    return out + "CapabilityBoundingSet=CAP_SYS_ADMIN CAP_SETUID CAP_SETGID CAP_DAC_READ_SEARCH\n";
  }
  return out +
         "NoNewPrivileges=yes\n"
         "CapabilityBoundingSet=CAP_SYS_ADMIN CAP_DAC_OVERRIDE CAP_DAC_READ_SEARCH CAP_CHOWN "
         "CAP_FOWNER CAP_KILL CAP_SYS_PTRACE CAP_SYS_RESOURCE\n"
         "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK\n"
         "RestrictNamespaces=yes\n"
         "RestrictRealtime=yes\n"
         "LockPersonality=yes\n"
         "MemoryDenyWriteExecute=yes\n"
         "SystemCallArchitectures=native\n"
         "SystemCallFilter=@system-service @mount\n"
         "SystemCallErrorNumber=EPERM\n";
}

std::optional<std::string> ValueOf(const std::string& text, const std::string& key) {
  bool ours = false;
  for (const std::string& line : Split(text, '\n')) {
    if (!line.empty() && line[0] == '[') ours = line == kRecord;
    if (ours && line.compare(0, key.size() + 1, key + "=") == 0) return line.substr(key.size() + 1);
  }
  return std::nullopt;
}

}  // namespace

std::string UnitName(const std::string& drive) { return "pargeter@" + drive + ".service"; }

std::string UnitQuote(const std::string& word) {
  std::string out = "\"";
  for (const char c : word) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '%' || c == '$') out += c;
    out += c;
  }
  return out + "\"";
}

std::string TemplateText(Scope scope) {
  const bool system = scope == Scope::kSystem;
  return fmt::format(
      "# \"pargeter service enable\" adds the part of one drive in a drop-in.\n{}{}{}"
      "\n[Install]\nWantedBy={}\n",
      kCommon,
      system ? "# Services that wait for network file systems find the drive mounted.\n"
               "Before=remote-fs.target\n"
             : "",
      kService, system ? "multi-user.target" : "default.target");
}

std::string DropInText(const ServiceSpec& s) {
  std::string out = fmt::format(
      "# Written by \"pargeter service enable {0}\". Changes of your own go beside it:\n"
      "#   systemctl{1} edit {2}\n",
      s.drive, s.scope == Scope::kUser ? " --user" : "", UnitName(s.drive));
  if (s.scope == Scope::kSystem) {
    const std::string above = std::filesystem::path(s.at).parent_path().string();
    out += fmt::format("[Unit]\nRequiresMountsFor={} {} {}\n\n", PathWord(s.config_dir),
                       PathWord(s.state_dir), PathWord(above));
  }
  out += fmt::format("[Service]\nExecStart={}\nExecReload={}\nExecStopPost=-{}\n",
                     CommandOf(s, "mount %i"), CommandOf(s, "refresh %i"),
                     CommandOf(s, "unmount %i --if-dead"));
  if (s.scope == Scope::kSystem) out += fmt::format("User={}\n", s.user);
  if (s.systemd_version >= 254) out += "RestartSteps=6\nRestartMaxDelaySec=5min\n";
  out += Sandbox(s);
  out += fmt::format("\n{}\nDrive={}\nConfigDir={}\nStateDir={}\nAt={}\nUser={}\nProgram={}\n",
                     kRecord, s.drive, s.config_dir, s.state_dir, s.at, s.user, s.program);
  return out;
}

std::optional<ServiceSpec> ParseDropIn(const std::string& text) {
  ServiceSpec s;
  const auto drive = ValueOf(text, "Drive"), config = ValueOf(text, "ConfigDir"),
             state = ValueOf(text, "StateDir");
  if (!drive || !config || !state) return std::nullopt;
  s.drive = *drive;
  s.config_dir = *config;
  s.state_dir = *state;
  s.at = ValueOf(text, "At").value_or("");
  s.user = ValueOf(text, "User").value_or("");
  s.program = ValueOf(text, "Program").value_or("");
  return s;
}

std::string UnitPlaces::Template() const { return folder + "/pargeter@.service"; }
std::string UnitPlaces::PackagedTemplate() const { return packaged + "/pargeter@.service"; }
std::string UnitPlaces::DropInFolder(const std::string& drive) const {
  return folder + "/" + UnitName(drive) + ".d";
}
std::string UnitPlaces::DropIn(const std::string& drive) const {
  return DropInFolder(drive) + "/" + kDropInName;
}
std::string UnitPlaces::WantsLink(const std::string& drive) const {
  return fmt::format("{}/{}.wants/{}", folder,
                     scope == Scope::kSystem ? "multi-user.target" : "default.target",
                     UnitName(drive));
}

UnitPlaces PlacesOf(Scope scope, const std::string& user_config) {
  UnitPlaces places;
  places.scope = scope;
  const bool system = scope == Scope::kSystem;
  places.folder = system ? "/etc/systemd/system" : user_config + "/systemd/user";
  places.packaged = system ? "/usr/lib/systemd/system" : "/usr/lib/systemd/user";
  return places;
}

std::vector<ServiceSpec> InstalledServices(const UnitPlaces& places) {
  std::vector<ServiceSpec> found;
  std::error_code ec;
  for (std::filesystem::directory_iterator it(places.folder, ec), end; !ec && it != end;
       it.increment(ec)) {
    const auto text = ReadFile(it->path().string() + "/" + kDropInName, 1 << 16);
    if (!text.ok()) continue;
    if (auto spec = ParseDropIn(*text)) {
      spec->scope = places.scope;
      found.push_back(std::move(*spec));
    }
  }
  std::sort(found.begin(), found.end(),
            [](const auto& a, const auto& b) { return a.drive < b.drive; });
  return found;
}

bool StartsByItself(const UnitPlaces& places, const std::string& drive) {
  struct stat info {};
  return ::lstat(places.WantsLink(drive).c_str(), &info) == 0;
}

}  // namespace pargeter
