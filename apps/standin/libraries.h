// Who sees which part of the simulated drive, and where: each person a library of their own, what
// others share with them, and those of teams, each with a role.
//
// Thread-safe.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/mutex.h"

namespace pargeter::standin {

enum class Role { kNone, kRead, kWrite };

class Libraries {
 public:
  // `apart`: the three people and their libraries; else one tree for all, to be written by all.
  explicit Libraries(bool apart);
  struct Place {
    std::string key;          // where it is kept
    Role role = Role::kNone;  // kNone: this person sees nothing there
    bool shelf = false;       // a folder that only holds libraries
  };
  // `shown`: a path as the person sees it.
  Place Find(const std::string& person, const std::string& shown) const EXCLUDES(mutex_);
  std::string Shown(const std::string& person, const std::string& key) const EXCLUDES(mutex_);
  // What stands on a shelf: names of libraries and further shelves.
  std::vector<std::string> OnShelf(const std::string& person, const std::string& shown) const
      EXCLUDES(mutex_);
  bool SetRole(const std::string& person, const std::string& shown, Role role) EXCLUDES(mutex_);
  std::vector<std::string> Kept() const EXCLUDES(mutex_);  // the libraries' own folders
  static std::vector<std::string> People();

 private:
  struct Share {
    std::string person, shown, kept;  // both end in "/"
    Role role;
  };
  const bool apart_;
  mutable Mutex mutex_;
  std::vector<Share> shares_ GUARDED_BY(mutex_);
};

}  // namespace pargeter::standin
