// A plan of steps for one or two drives, made from a seed, and the plain model that they are
// compared with. A plan that fails is made smaller and printed, so that it can be played again.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <optional>
#include <random>
#include <set>
#include <string>
#include <vector>

#include "base/error.h"
#include "index/index.h"

namespace pargeter::test {

struct Step {
  enum Kind {
    kWrite,
    kSyncedWrite,
    kPatch,
    kResize,
    kRead,
    kRemove,
    kMove,
    kMakeFolder,
    kRemoveFolder,
    kCheck,
    kFlush,
    kSyncFolder,
    kRefresh,
    kEvict,
    kRestart,
    kKill,      // at the n-th operation of the disk from here
    kPowerCut,  // the same, and what was not synced is torn
    kOffline,
    kOnline,
    kOutsidePut,
    kOutsideErase,
    kOutsideMove,
    kRelease,  // the deletions that are held back
    kDrop,
    kCopy,  // of `to`
    kPunch,
    kMode,
    kPlace,    // to be only here, always here, or as what it is in
    kHold,     // open for writing, until the next: what is patched there is so through it
    kRestore,  // one of the contents that the store has kept
    kSettle,   // one of the conflicts
    kNudge,    // what waits begins to go up at once, and nobody waits for it, or not for long
    kKinds
  };
  Kind kind = kRead;
  std::string path, to;
  std::uint64_t n = 0;  // size, offset or count
  int who = 0;          // which drive
  int serial = 0;       // makes its content its own
};
std::optional<Step::Kind> KindNamed(const std::string& name);  // as Describe says it
std::string Describe(const Step& step);
std::string Describe(const std::vector<Step>& plan);
// What a step makes of a file or folder.
Placement PlacementOf(const Step& step);
// The bytes that a step writes; they begin with a word that no other step has.
std::string ContentOf(const Step& step);
inline std::uint32_t ModeOf(const Step& step) {
  return 0600 | static_cast<std::uint32_t>(step.n % 0100);
}

using Weights = std::map<Step::Kind, int>;
std::vector<Step> MakePlan(std::uint64_t seed, int length, const Weights& weights, int drives = 1);
// With two drives: most of what one does to names the other does too, at about the same time.
std::vector<Step> WithEchoes(const std::vector<Step>& plan, std::uint64_t seed);
// A few files that are saved anew all the time, in the ways in which programs do that. `death`
// comes now and then, and where there are two drives, each looks at the store.
std::vector<Step> MakeSaves(std::uint64_t seed, int saves, Step::Kind death, int drives = 1);

// Paths to contents; folders end in "/". What a file system should do.
class PlainTree {
 public:
  std::map<std::string, std::string> files;
  std::map<std::string, std::uint32_t> modes;  // of files, where they are known
  // Does the step, or says why a file system refuses.
  Status Do(const Step& step);
  bool IsFolder(const std::string& path) const {
    return path.empty() || files.count(path + "/") > 0;
  }

 private:
  Status ParentOf(const std::string& path) const;
  bool Empty(const std::string& folder) const;
};

// May `got` be there when a change from `before` to `after` was interrupted? Each byte is from one
// of the two.
bool Between(const std::string* before, const std::string* after, const std::string& got);
// The first difference in words, or "".
std::string Difference(const std::map<std::string, std::string>& wanted,
                       const std::map<std::string, std::string>& got);

// Leaves out what the failure does not need. `fails` plays a plan; "": it went well.
std::vector<Step> Smaller(std::vector<Step> plan,
                          const std::function<std::string(const std::vector<Step>&)>& fails);

}  // namespace pargeter::test
