// When each folder was last listed, in this run. If a folder's listing is distrusted while a newer
// one is under way, the answer of that one does not count: it was asked for too early. Guarded by
// its owner.
#pragma once

#include <algorithm>
#include <optional>
#include <unordered_map>

#include "base/clock.h"
#include "index/index.h"

namespace pargeter {

class ListingAges {
 public:
  // When the listing that counts was begun. Nothing: there is none.
  std::optional<Steady> When(NodeId folder) const {
    const auto it = ages_.find(folder);
    if (it == ages_.end() || it->second.listed < std::max(it->second.distrusted, all_distrusted_))
      return {};
    return it->second.listed;
  }
  void Note(NodeId folder, Steady begun) { ages_[folder].listed = begun; }
  // The next visitor of the folder waits for a listing that begins from now on.
  void Distrust(NodeId folder, Steady now) { ages_[folder].distrusted = now; }
  void DistrustAll(Steady now) { all_distrusted_ = now; }
  void ForgetBefore(Steady moment) {
    std::erase_if(ages_, [&](const auto& one) {
      return std::max(one.second.listed, one.second.distrusted) < moment;
    });
  }

 private:
  struct Age {
    Steady listed = Steady::min(), distrusted = Steady::min();
  };
  std::unordered_map<NodeId, Age> ages_;
  Steady all_distrusted_ = Steady::min();
};

}  // namespace pargeter
