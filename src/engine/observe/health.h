// What is wrong with a drive, for `status`: the worst of what is known just now. Thread-safe; a
// leaf lock.
#pragma once

#include <string>
#include <utility>

#include "base/error.h"
#include "base/mutex.h"
#include "index/index.h"

namespace pargeter {

class Health {
 public:
  // A request for the node `id` failed. That the store cannot be reached is said apart, while it
  // lasts (LinkState).
  void NoteFault(NodeId id, const Error& error) {
    if (error.code == Code::kUnavailable) return;
    const Lock lock(mutex_);
    if (error.code == Code::kSignIn) {
      sign_in_ = error.what;
      return;
    }
    fault_ = error.what;
    fault_of_ = id;
  }
  // One for that node went well, or the node is gone.
  void ClearFault(NodeId id) {
    const Lock lock(mutex_);
    if (fault_of_ == id) fault_.clear();
  }
  void NoteSignedIn() {
    const Lock lock(mutex_);
    sign_in_.clear();
  }
  // Why not all that is pinned is here; "": it is, or is on its way.
  void SetPinFault(std::string why) {
    const Lock lock(mutex_);
    pins_ = std::move(why);
  }
  // Something that a person should know, until there is another such thing. False: it was said.
  bool Warn(std::string what) {
    const Lock lock(mutex_);
    if (what == warning_) return false;
    warning_ = std::move(what);
    return true;
  }
  // The one to show, "" if all is well: what a person must mend first, before what may pass.
  std::string Worst() const {
    const Lock lock(mutex_);
    if (!sign_in_.empty()) return sign_in_;
    if (!pins_.empty()) return pins_;
    return !fault_.empty() ? fault_ : warning_;
  }

 private:
  mutable Mutex mutex_;
  std::string sign_in_ GUARDED_BY(mutex_);
  std::string pins_ GUARDED_BY(mutex_);
  std::string fault_ GUARDED_BY(mutex_);
  NodeId fault_of_ GUARDED_BY(mutex_) = kNoNode;
  std::string warning_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
