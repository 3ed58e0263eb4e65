#include "config/joining.h"

#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>

#include "base/text.h"

namespace pargeter {
namespace {

std::string Bare(std::string_view folder) {
  while (!folder.empty() && folder.front() == '/') folder.remove_prefix(1);
  while (!folder.empty() && folder.back() == '/') folder.remove_suffix(1);
  return std::string(folder);
}

bool HasWildcard(const std::string& part) {
  return part.find_first_of("*?[\\") != std::string::npos;
}

// What a store names its folders is to be a folder's name here.
bool CanBeShown(const std::string& name) {
  return !name.empty() && name != "." && name != ".." && name.size() <= 255 && IsUtf8(name) &&
         name.find('/') == std::string::npos && name.find('\0') == std::string::npos;
}

std::string Within(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

// A name for `wish` that is not in `taken`.
template <typename Taken>
std::string Free(const std::string& wish, const Taken& taken) {
  if (!taken(wish)) return wish;
  for (int n = 2;; ++n) {
    std::string next = fmt::format("{}-{}", wish, n);
    if (!taken(next)) return next;
  }
}

// Letters that a drive's name may have; others are shown as dashes.
std::string AsDriveName(const std::string& text) {
  std::string name;
  for (const char c : text) {
    const bool fine = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                      c == '.' || c == '_' || c == '-';
    if (fine || name.empty() || name.back() != '-') name += fine ? c : '-';
  }
  while (name.size() > 1 && name.back() == '-') name.pop_back();
  return name;
}

bool AnyMatches(const JoinSource& source, const std::vector<std::string>& patterns, int flags) {
  return std::any_of(patterns.begin(), patterns.end(), [&](const std::string& text) {
    const auto pattern = ParseJoin(text);
    if (!pattern.ok() || pattern->account != source.account) return false;
    if (pattern->folder.empty()) return flags != 0 || source.folder.empty();
    return ::fnmatch(pattern->folder.c_str(), source.folder.c_str(),
                     FNM_PATHNAME | FNM_PERIOD | flags) == 0;
  });
}

}  // namespace

Result<JoinPattern> ParseJoin(std::string_view text) {
  const auto slash = text.find('/');
  JoinPattern pattern{std::string(text.substr(0, slash)),
                      slash == std::string_view::npos ? "" : Bare(text.substr(slash))};
  const Error bad(Code::kInvalid, fmt::format("\"{}\" does not say what to join", Printable(text)),
                  "Give ACCOUNT/FOLDER, where * stands for any name: 'museum/team/*'.");
  if (!CheckName("account", pattern.account).ok() || !IsUtf8(text) || text.size() > 900) return bad;
  if (pattern.folder.empty()) return pattern;
  for (const std::string& part : Split(pattern.folder, '/'))
    if (part.empty() || part == "." || part == "..") return bad;
  return pattern;
}

std::vector<std::string> AccountsOf(const DriveSettings& drive) {
  if (drive.join.empty()) return {drive.account};
  std::vector<std::string> accounts;
  for (const std::string& text : drive.join) {
    const std::string account = text.substr(0, text.find('/'));
    if (std::find(accounts.begin(), accounts.end(), account) == accounts.end())
      accounts.push_back(account);
  }
  return accounts;
}

bool UsesAccount(const DriveSettings& drive, const std::string& account) {
  const auto accounts = AccountsOf(drive);
  return std::find(accounts.begin(), accounts.end(), account) != accounts.end();
}

Result<std::vector<JoinSource>> FindSources(const JoinPattern& pattern, const ListFolders& list) {
  std::vector<std::string> folders = {""};
  if (pattern.folder.empty()) return std::vector<JoinSource>{{pattern.account, ""}};
  for (const std::string& part : Split(pattern.folder, '/')) {
    std::vector<std::string> next;
    for (const std::string& folder : folders) {
      if (!HasWildcard(part)) {
        next.push_back(Within(folder, part));
        continue;
      }
      PG_ASSIGN(std::vector<std::string> names, list(folder));
      std::sort(names.begin(), names.end());
      for (const std::string& name : names)
        if (CanBeShown(name) && ::fnmatch(part.c_str(), name.c_str(), FNM_PERIOD) == 0)
          next.push_back(Within(folder, name));
    }
    folders = std::move(next);
  }
  std::vector<JoinSource> sources;
  for (std::string& folder : folders) sources.push_back({pattern.account, std::move(folder)});
  return sources;
}

bool IsJoined(const JoinSource& source, const std::vector<std::string>& join) {
  return AnyMatches(source, join, 0);
}

bool IsLeftOut(const JoinSource& source, const std::vector<std::string>& except) {
  return AnyMatches(source, except, FNM_LEADING_DIR);
}

std::string PatternOf(const JoinSource& source) {
  std::string pattern = source.account;
  if (!source.folder.empty()) pattern += '/';
  for (const char c : source.folder) {
    if (std::string_view("*?[\\").find(c) != std::string_view::npos) pattern += '\\';
    pattern += c;
  }
  return pattern;
}

DriveSettings NewPart(const DriveSettings& joined, const JoinSource& source,
                      const std::vector<DriveSettings>& known,
                      const std::vector<std::string>& taken) {
  DriveSettings part = joined;
  part.join.clear();
  part.except.clear();
  part.part_of = joined.name;
  part.label = "";
  part.account = source.account;
  part.folder = source.folder;
  const auto is_shown = [&](const std::string& name) {
    return std::any_of(known.begin(), known.end(),
                       [&](const DriveSettings& other) { return other.shown_as == name; });
  };
  const std::string last = source.folder.substr(source.folder.rfind('/') + 1);
  part.shown_as = last.empty() ? source.account : last;
  if (is_shown(part.shown_as))
    part.shown_as = Free(fmt::format("{} ({})", part.shown_as, source.account), is_shown);
  const std::string wish =
      fmt::format("{}.{}", joined.name, AsDriveName(part.shown_as)).substr(0, 60);
  part.name = Free(wish, [&](const std::string& name) {
    return std::find(taken.begin(), taken.end(), name) != taken.end();
  });
  part.at = joined.at + "/" + part.shown_as;
  if (!joined.cache_at.empty()) part.cache_at = joined.cache_at + "/" + part.name;
  return part;
}

}  // namespace pargeter
