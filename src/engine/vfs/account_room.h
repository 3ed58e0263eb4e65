// How much room the account has, as far as the store says so.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class AccountRoom : public Component {
 public:
  explicit AccountRoom(Context* context) : Component(context) {}

  // What the account holds and still takes, not older than `max_age`; nothing if the store does not
  // say. May ask the store.
  Result<std::optional<Quota>> AccountSpace(Duration max_age);
  Status CheckAccount(NodeId id, std::uint64_t end);

 private:
  Result<bool> CountAccount(NodeId id, std::uint64_t end);

  Mutex account_mutex_;
  struct Account {
    bool offered = true;  // the store says how much room there is
    std::optional<Quota> known;
    std::uint64_t left = 0;  // bytes that may be written yet
    Steady at{};
  };
  Account account_ GUARDED_BY(account_mutex_);
};

}  // namespace pargeter
