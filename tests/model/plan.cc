#include "model/plan.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace pargeter::test {
namespace {

constexpr const char* kNames[Step::kKinds] = {
    "write",   "synced-write", "patch",         "resize",       "read",      "remove",
    "move",    "folder",       "rmdir",         "check",        "flush",     "sync-folder",
    "refresh", "evict",        "restart",       "kill",         "power-cut", "offline",
    "online",  "outside-put",  "outside-erase", "outside-move", "release",   "drop",
    "copy",    "punch",        "mode",          "place",        "hold",      "restore",
    "settle",  "nudge"};

}  // namespace

std::optional<Step::Kind> KindNamed(const std::string& name) {
  for (int kind = 0; kind < Step::kKinds; ++kind)
    if (name == kNames[kind]) return static_cast<Step::Kind>(kind);
  return std::nullopt;
}
std::string Describe(const Step& step) {
  return fmt::format("{}:{} {}{}{} n={} #{}", step.who, kNames[step.kind], step.path,
                     step.to.empty() ? "" : " -> ", step.to, step.n, step.serial);
}
std::string Describe(const std::vector<Step>& plan) {
  std::string out;
  for (const Step& step : plan) out += "  " + Describe(step) + "\n";
  return out;
}

Placement PlacementOf(const Step& step) {
  constexpr Placement kAll[] = {Placement::kLocal, Placement::kLocal, Placement::kPin,
                                Placement::kThin, Placement::kNone};
  return kAll[step.n % std::size(kAll)];
}

std::string ContentOf(const Step& step) {
  std::string out = fmt::format("<{}.{}>", step.who, step.serial);
  const std::string filler = fmt::format("{:04}", step.serial % 10000);
  while (out.size() < step.n) out += filler;
  return out;
}

std::vector<Step> MakePlan(std::uint64_t seed, int length, const Weights& weights, int drives) {
  std::mt19937_64 dice(seed);
  std::vector<Step::Kind> kinds;
  for (const auto& [kind, weight] : weights) kinds.insert(kinds.end(), weight, kind);
  static const std::vector<std::string> folders = {"", "d0/", "d1/", "d0/e/"};
  const auto file = [&] { return folders[dice() % 4] + "f" + std::to_string(dice() % 4); };
  const auto folder = [&] {
    static const std::vector<std::string> some = {"d0", "d1", "d0/e", "d1/e", "f3"};
    return some[dice() % some.size()];
  };
  std::vector<Step> plan;
  for (int i = 0; i < length; ++i) {
    Step step;
    step.kind = kinds[dice() % kinds.size()];
    step.who = static_cast<int>(dice() % static_cast<std::uint64_t>(drives));
    step.serial = i + 1;
    step.path = file();
    const std::uint64_t scale = dice() % 10;
    step.n = scale < 6 ? dice() % 100 : scale < 9 ? dice() % 20000 : dice() % 300000;
    switch (step.kind) {
      case Step::kMove:
      case Step::kOutsideMove: {
        const bool whole = dice() % 3 == 0;
        if (whole) step.path = folder();
        step.to = whole ? folder() : file();
        break;
      }
      case Step::kMakeFolder:
      case Step::kRemoveFolder:
        step.path = folder();
        break;
      case Step::kCopy:
        step.to = file();
        break;
      case Step::kPlace:
        if (dice() % 2 == 0) step.path = folder();
        break;
      case Step::kKill:
      case Step::kPowerCut:
        step.n = 1 + dice() % 60;
        break;
      default:
        break;
    }
    plan.push_back(std::move(step));
  }
  return plan;
}

std::vector<Step> WithEchoes(const std::vector<Step>& plan, std::uint64_t seed) {
  std::mt19937_64 dice(seed);
  std::vector<Step> out;
  std::multimap<std::size_t, Step> echoes;  // by the step that they come after
  for (std::size_t i = 0; i < plan.size(); ++i) {
    const Step& step = plan[i];
    out.push_back(step);
    const bool of_names = step.kind == Step::kMove || step.kind == Step::kRemove ||
                          step.kind == Step::kMakeFolder || step.kind == Step::kRemoveFolder;
    if (of_names && dice() % 3 != 0) {
      Step echo = step;
      echo.who = 1 - step.who;
      echoes.emplace(i + dice() % 4, std::move(echo));
    }
    const auto [first, last] = echoes.equal_range(i);
    for (auto it = first; it != last; ++it) out.push_back(it->second);
  }
  return out;
}

std::vector<Step> MakeSaves(std::uint64_t seed, int saves, Step::Kind death, int drives) {
  std::mt19937_64 dice(seed);
  std::vector<Step> plan;
  int who = 0;
  const auto add = [&](Step::Kind kind, const std::string& path, const std::string& to = "") {
    const std::uint64_t scale = dice() % 10;
    const std::uint64_t n = scale < 6 ? dice() % 100 : scale < 9 ? dice() % 20000 : dice() % 300000;
    plan.push_back({kind, path, to, n, who, static_cast<int>(plan.size()) + 1});
  };
  const auto maybe = [&](std::uint64_t one_in, Step::Kind kind) {
    if (dice() % one_in != 0) return;
    add(kind, "");
    if (kind == death) plan.back().n = 1 + dice() % 60;
  };
  for (int i = 0; i < saves; ++i) {
    static const std::vector<std::string> files = {"f0", "d0/f1", "d0/e/f2"};
    const std::string file = files[dice() % 10 < 7 ? 0 : dice() % 3], other = file + ".new";
    const auto write = dice() % 3 == 0 ? Step::kSyncedWrite : Step::kWrite;
    if (drives > 1) {
      who = static_cast<int>(dice() % static_cast<std::uint64_t>(drives));
      maybe(3, Step::kRefresh);
    }
    const auto way = dice() % 10;
    if (way < 6) {            // beside it, and into its place
      if (dice() % 4 == 0) {  // a draft first
        add(Step::kWrite, other);
        maybe(2, Step::kFlush);
      }
      add(write, other);
      maybe(6, Step::kNudge);
      maybe(12, death);
      add(Step::kMove, other, file);
    } else if (way < 8) {
      add(write, file);
    } else if (way < 9) {
      add(Step::kPatch, file);
    } else {  // the former one stays beside it for a while
      add(Step::kMove, file, file + "~");
      add(write, file);
      maybe(2, Step::kNudge);
      add(Step::kRemove, file + "~");
    }
    maybe(2, Step::kNudge);
    maybe(6, Step::kSyncFolder);
    maybe(10, Step::kFlush);
    maybe(20, Step::kRestart);
    maybe(20, Step::kEvict);
    maybe(8, death);
  }
  return plan;
}

Status PlainTree::ParentOf(const std::string& path) const {
  const auto slash = path.rfind('/');
  if (slash == std::string::npos) return {};
  const std::string parent = path.substr(0, slash);
  PG_TRY(ParentOf(parent));
  if (IsFolder(parent)) return {};
  if (files.count(parent) > 0) return Error(Code::kNotFolder, "a file is above");
  return Error(Code::kNotFound, "nothing is above");
}
bool PlainTree::Empty(const std::string& folder) const {
  const auto next = files.upper_bound(folder + "/");
  return next == files.end() || next->first.compare(0, folder.size() + 1, folder + "/") != 0;
}

Status PlainTree::Do(const Step& s) {
  PG_TRY(ParentOf(s.path));
  const auto it = files.find(s.path);
  const bool there = it != files.end(), folder = IsFolder(s.path);
  const Error missing(Code::kNotFound, "nothing there"), is_folder(Code::kIsFolder, "a folder");
  switch (s.kind) {
    case Step::kWrite:
    case Step::kSyncedWrite:
      if (folder) return is_folder;
      if (!there) modes[s.path] = 0644;
      files[s.path] = ContentOf(s);
      return {};
    case Step::kMode:
      if (folder) return is_folder;
      if (!there) return missing;
      modes[s.path] = ModeOf(s);
      return {};
    case Step::kCopy: {
      if (IsFolder(s.to)) return is_folder;
      const auto from = files.find(s.to);
      if (from == files.end()) return missing;
      if (folder) return is_folder;
      if (!there) modes[s.path] = 0644;
      const std::string text = from->second;
      files[s.path] = text;
      return {};
    }
    case Step::kPatch: {
      if (folder) return is_folder;
      if (!there) return missing;
      const std::string text = ContentOf(s);
      const std::size_t at = s.n % 5000;
      if (it->second.size() < at + text.size()) it->second.resize(at + text.size(), '\0');
      it->second.replace(at, text.size(), text);
      return {};
    }
    case Step::kPunch: {
      if (folder) return is_folder;
      if (!there) return missing;
      const std::size_t begin = std::min<std::size_t>(s.n % 5000, it->second.size());
      const std::size_t end =
          std::min<std::size_t>(begin + std::max<std::size_t>(1, s.n), it->second.size());
      it->second.replace(begin, end - begin, end - begin, '\0');
      return {};
    }
    case Step::kResize:
      if (folder) return is_folder;
      if (!there) return missing;
      it->second.resize(s.n, '\0');
      return {};
    case Step::kRemove:
      if (folder) return is_folder;
      if (!there) return missing;
      files.erase(it);
      modes.erase(s.path);
      return {};
    case Step::kMakeFolder:
      if (folder || there) return Error(Code::kExists, "taken");
      files[s.path + "/"] = "";
      return {};
    case Step::kRemoveFolder:
      if (there) return Error(Code::kNotFolder, "a file");
      if (!folder) return missing;
      if (!Empty(s.path)) return Error(Code::kNotEmpty, "not empty");
      files.erase(s.path + "/");
      return {};
    case Step::kMove: {
      if (!there && !folder) {
        PG_TRY(ParentOf(s.to));
        return missing;
      }
      PG_TRY(ParentOf(s.to));
      if (s.path == s.to) return {};
      if (folder && s.to.compare(0, s.path.size() + 1, s.path + "/") == 0)
        return Error(Code::kInvalid, "into itself");
      if (IsFolder(s.to)) {
        if (!folder) return is_folder;
        if (!Empty(s.to)) return Error(Code::kNotEmpty, "not empty");
        files.erase(s.to + "/");
      } else if (files.count(s.to) > 0) {
        if (folder) return Error(Code::kNotFolder, "a file");
        files.erase(s.to);
        modes.erase(s.to);
      }
      std::map<std::string, std::string> moved;
      for (auto at = files.begin(); at != files.end();) {
        const bool inside =
            at->first == s.path || at->first.compare(0, s.path.size() + 1, s.path + "/") == 0;
        if (inside) {
          const std::string to = s.to + at->first.substr(s.path.size());
          moved[to] = at->second;
          if (auto mode = modes.extract(at->first)) modes[to] = mode.mapped();
        }
        at = inside ? files.erase(at) : std::next(at);
      }
      files.merge(moved);
      return {};
    }
    default:
      return {};
  }
}

bool Between(const std::string* before, const std::string* after, const std::string& got) {
  const std::string none;
  const std::string& b = before ? *before : none;
  const std::string& a = after ? *after : none;
  if (got.size() > std::max(a.size(), b.size())) return false;
  for (std::size_t i = 0; i < got.size(); ++i) {
    const bool from_before = i < b.size() && got[i] == b[i];
    const bool from_after = i < a.size() && got[i] == a[i];
    if (!from_before && !from_after) return false;
  }
  return true;
}

std::string FirstDifference(const std::string& got, const std::string& wanted) {
  std::size_t at = 0;
  while (at < got.size() && at < wanted.size() && got[at] == wanted[at]) ++at;
  return fmt::format("{} on ('{}' instead of '{}')", at, Printable(got.substr(at, 12)),
                     Printable(wanted.substr(std::min(at, wanted.size()), 12)));
}

std::string Difference(const std::map<std::string, std::string>& wanted,
                       const std::map<std::string, std::string>& got) {
  const auto shown = [](const std::string& s) {
    return fmt::format("{} bytes '{}'", s.size(), s.substr(0, 24));
  };
  for (const auto& [path, content] : wanted) {
    const auto it = got.find(path);
    if (it == got.end()) return fmt::format("{} is missing ({})", path, shown(content));
    if (it->second != content)
      return fmt::format("{} is {} instead of {}, from byte {}", path, shown(it->second),
                         shown(content), FirstDifference(it->second, content));
  }
  for (const auto& [path, content] : got) {
    if (wanted.count(path) == 0) return fmt::format("{} is too much ({})", path, shown(content));
  }
  return "";
}

std::vector<Step> Smaller(std::vector<Step> plan,
                          const std::function<std::string(const std::vector<Step>&)>& fails) {
  int left = 300;
  for (std::size_t chunk = plan.size() / 2; chunk > 0; chunk /= 2) {
    for (std::size_t at = 0; at < plan.size() && left > 0;) {
      std::vector<Step> shorter = plan;
      shorter.erase(shorter.begin() + static_cast<long>(at),
                    shorter.begin() + static_cast<long>(std::min(plan.size(), at + chunk)));
      bool still = false;
      for (int i = 0; i < 2 && !still && left > 0; ++i, --left) still = !fails(shorter).empty();
      if (still)
        plan = std::move(shorter);
      else
        at += chunk;
    }
  }
  return plan;
}

}  // namespace pargeter::test
