#include "face/stream/mount_point.h"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "base/file.h"
#include "base/log.h"
#include "base/text.h"

namespace pargeter {
namespace {

// mountinfo writes blanks and the like as \NNN.
std::string Unescape(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\\' && i + 3 < text.size()) {
      out += static_cast<char>(std::stoi(text.substr(i + 1, 3), nullptr, 8));
      i += 3;
    } else {
      out += text[i];
    }
  }
  return out;
}

bool Below(const std::string& path, const std::string& top) {
  return path == top || path.compare(0, top.size() + 1, top + "/") == 0;
}

std::string LinkTarget(const std::filesystem::path& link) {
  char buffer[4096];
  const ssize_t n = ::readlink(link.c_str(), buffer, sizeof(buffer));
  return n > 0 ? std::string(buffer, static_cast<std::size_t>(n)) : "";
}

int RunFusermount(const std::string& path, bool lazy) {
  const pid_t pid = ::fork();
  if (pid == 0) {
    const int null = ::open("/dev/null", O_RDWR);
    ::dup2(null, 1);
    ::dup2(null, 2);
    if (lazy) ::execlp("fusermount3", "fusermount3", "-u", "-z", "--", path.c_str(), nullptr);
    ::execlp("fusermount3", "fusermount3", "-u", "--", path.c_str(), nullptr);
    ::_exit(127);
  }
  int status = 0;
  while (pid > 0 && ::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  return pid > 0 && WIFEXITED(status) ? WEXITSTATUS(status) : 127;
}

}  // namespace

std::vector<MountEntry> ListMounts() {
  std::vector<MountEntry> mounts;
  std::ifstream file("/proc/self/mountinfo");
  for (std::string line; std::getline(file, line);) {
    std::istringstream words(line);
    std::string id, parent, device, root, path, word, type, source;
    words >> id >> parent >> device >> root >> path;
    while (words >> word && word != "-") {
    }
    words >> type >> source;
    mounts.push_back({Unescape(path), type, Unescape(source), device});
  }
  return mounts;
}

Status CheckFuse() {
  struct stat info {};
  if (::stat("/dev/fuse", &info) != 0) {
    return Error(Code::kUnsupported, "this machine has no /dev/fuse",
                 "Load the kernel's module (modprobe fuse), or give the container that device.");
  }
  const Fd fd(::open("/dev/fuse", O_RDWR | O_CLOEXEC));
  if (!fd) {
    return Error(
        Code::kPermission, fmt::format("/dev/fuse may not be used: {}", std::strerror(errno)),
        "Ask the administrator for the right to use FUSE (the device's usual mode is 0666).");
  }
  return {};
}

Status PrepareMountPoint(const std::string& path) {
  const std::string shown = Printable(path);
  for (const MountEntry& mount : ListMounts()) {
    if (mount.path != path) continue;
    // the kernel may still remember the root's attributes, but never answers this one by itself
    struct statvfs info {};
    const bool dead =
        mount.type == "fuse.pargeter" && ::statvfs(path.c_str(), &info) != 0 && errno == ENOTCONN;
    if (!dead) {
      return Error(Code::kBusy,
                   fmt::format("{} is a mount already ({} of type {})", shown,
                               Printable(mount.source), mount.type),
                   "Unmount it first, or choose another folder.");
    }
    Log(LogLevel::kWarning, "taking away a dead mount that a crash left at {}", path);
    PG_TRY(UnmountAt(path, Detach::kNow));
    break;
  }
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) {
    if (errno == ENOENT) {
      return Error(Code::kNotFound, fmt::format("the mount point {} does not exist", shown),
                   fmt::format("Make it: mkdir -p {}", shown));
    }
    return FromErrno(errno, "cannot look at the mount point " + shown);
  }
  if (!S_ISDIR(info.st_mode)) {
    return Error(Code::kNotFolder, fmt::format("the mount point {} is not a folder", shown));
  }
  if (::access(path.c_str(), W_OK | X_OK) != 0) {
    return Error(Code::kPermission,
                 fmt::format("the mount point {} is not writable for this user", shown),
                 "Choose a folder of your own, or change its owner.");
  }
  std::error_code ec;
  if (std::filesystem::directory_iterator(path, ec) != std::filesystem::directory_iterator()) {
    return Error(
        Code::kNotEmpty,
        fmt::format("the mount point {} has files in it, which the mount would hide", shown),
        "Move them away, or choose an empty folder.");
  }
  if (ec) return FromErrno(ec.value(), "cannot read the mount point " + shown);
  return {};
}

std::vector<std::string> HoldersOf(const std::string& path) {
  namespace fs = std::filesystem;
  std::vector<std::string> holders;
  std::error_code ec;
  for (const auto& process : fs::directory_iterator("/proc", ec)) {
    const std::string pid = process.path().filename().string();
    if (pid.find_first_not_of("0123456789") != std::string::npos ||
        pid == std::to_string(::getpid()))
      continue;
    bool holds = Below(LinkTarget(process.path() / "cwd"), path) ||
                 Below(LinkTarget(process.path() / "root"), path);
    std::error_code none;
    for (fs::directory_iterator fd(process.path() / "fd", none), end; !holds && !none && fd != end;
         fd.increment(none)) {
      holds = Below(LinkTarget(fd->path()), path);
    }
    if (!holds) {
      std::ifstream maps(process.path() / "maps");
      for (std::string line; !holds && std::getline(maps, line);) {
        const auto slash = line.find('/');
        holds = slash != std::string::npos && Below(line.substr(slash), path);
      }
    }
    if (!holds) continue;
    std::ifstream comm(process.path() / "comm");
    std::string name;
    std::getline(comm, name);
    holders.push_back(fmt::format("{} ({})", pid, Printable(name)));
  }
  return holders;
}

Status UnmountAt(const std::string& path, Detach how) {
  const bool lazy = how == Detach::kNow;
  if (::geteuid() == 0) {
    if (::umount2(path.c_str(), lazy ? MNT_DETACH : 0) == 0 || errno == EINVAL) return {};
    if (errno != EBUSY) return FromErrno(errno, "cannot unmount " + Printable(path));
  } else {
    if (RunFusermount(path, lazy) == 0) return {};
    const auto mounts = ListMounts();
    if (std::none_of(mounts.begin(), mounts.end(),
                     [&](const MountEntry& m) { return m.path == path; }))
      return {};
  }
  const std::vector<std::string> holders = HoldersOf(path);
  return Error(
      Code::kBusy,
      fmt::format("{} is in use{}", Printable(path),
                  holders.empty() ? "" : fmt::format(" by process {}", fmt::join(holders, ", "))),
      "Close what is open there, or unmount with --now.");
}

}  // namespace pargeter
