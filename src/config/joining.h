// Joined drives: one mount whose top level shows folders of several accounts. Which they are is
// said by patterns, ACCOUNT/FOLDER; "*" and "?" stand for letters within one part of FOLDER, so
// that "museum/team/*" means every library of the team, those to come too. Each folder found
// becomes a drive of its own, a part, with its own state and limits.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/error.h"
#include "config/settings.h"

namespace pargeter {

struct JoinPattern {
  std::string account;
  std::string folder;  // "": all of the account
};
// kInvalid: no account's name in front, or no folder that could be.
Result<JoinPattern> ParseJoin(std::string_view text);

// The accounts that a drive needs: its own, or those that it joins.
std::vector<std::string> AccountsOf(const DriveSettings& drive);
bool UsesAccount(const DriveSettings& drive, const std::string& account);

// A folder at a store, by its path there without slashes around it.
struct JoinSource {
  std::string account, folder;
  bool operator==(const JoinSource&) const = default;
};

// Names of the folders in a folder of the account.
using ListFolders = std::function<Result<std::vector<std::string>>(const std::string& folder)>;
// What matches, in order. Levels without a wildcard are taken as they are and not asked for.
Result<std::vector<JoinSource>> FindSources(const JoinPattern& pattern, const ListFolders& list);
// Is it one that these patterns mean?
bool IsJoined(const JoinSource& source, const std::vector<std::string>& join);
// `except` are patterns, too; one that names a folder above leaves out all that is in it.
bool IsLeftOut(const JoinSource& source, const std::vector<std::string>& except);

// The pattern that means just this folder, whatever letters its name has.
std::string PatternOf(const JoinSource& source);

// The settings of a new part: `known` are all parts of that drive, `taken` the names of all drives.
// Two folders of one name are told apart by their accounts.
DriveSettings NewPart(const DriveSettings& joined, const JoinSource& source,
                      const std::vector<DriveSettings>& known,
                      const std::vector<std::string>& taken);

}  // namespace pargeter
