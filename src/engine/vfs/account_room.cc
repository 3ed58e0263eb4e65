// AccountRoom: how much room the account has (RFC 4331, where the store says it), as far as it is
// known here: looked at once a minute at most, and when it seems to have run out.
#include "engine/vfs/account_room.h"

#include <algorithm>

#include "base/units.h"

namespace pargeter {

namespace {
constexpr Duration kLooksFull(5000);  // then it is looked at again after so long
}  // namespace

Result<std::optional<Quota>> AccountRoom::AccountSpace(Duration max_age) {
  {
    const Lock lock(account_mutex_);
    if (!account_.offered) return std::optional<Quota>();
    if (account_.known && options_.clock->Now() - account_.at < max_age) return account_.known;
  }
  const auto got =
      store_->Ask(Traffic::kForeground, [&](const Call& c) { return store_->SpaceOfAccount(c); });
  if (got.ok()) {
    const Lock lock(account_mutex_);
    account_.offered = got->has_value();
    account_.known = *got;
    account_.at = options_.clock->Now();
  }
  if (got.ok()) PG_TRY(CountAccount(kNoNode, 0));
  const Lock lock(account_mutex_);
  if (!got.ok() && !account_.known) return got.error();
  return account_.known;
}

// What is left of the account when all that waits is up, but for `id`, which is to end at `end`.
Result<bool> AccountRoom::CountAccount(NodeId id, std::uint64_t end) {
  std::uint64_t waiting = 0;
  {
    View view(&tree_);
    PG_ASSIGN(waiting, view.index().PendingGrowth(id));
    if (id != kNoNode) {
      PG_ASSIGN(const Inode* inode, view.Get(id));
      const std::uint64_t there =
          inode->node.remote.place == RemotePlace::kNone ? 0 : inode->node.remote.size;
      waiting += end - std::min(end, there);
    }
  }
  const Lock lock(account_mutex_);
  if (!account_.known) return true;
  const std::uint64_t available = account_.known->available;
  account_.left = available - std::min(available, waiting);
  return waiting <= available;
}

// Before a file grows to `end`: what cannot be uploaded is better refused now.
Status AccountRoom::CheckAccount(NodeId id, std::uint64_t end) {
  {
    const Lock lock(account_mutex_);
    if (!account_.known) return {};
  }
  std::uint64_t more = 0;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(id));
    const Node& node = inode->node;
    if (node.effective == Placement::kLocal) return {};
    const std::uint64_t before =
        std::max(node.size, node.remote.place == RemotePlace::kNone ? 0 : node.remote.size);
    if (end <= before) return {};
    more = end - before;
  }
  {
    const Lock lock(account_mutex_);
    if (more <= account_.left) {
      account_.left -= more;
      return {};
    }
  }
  // counted on the way it seems to be full: what was cut or deleted meanwhile is not in that
  Ignore(AccountSpace(kLooksFull));
  PG_ASSIGN(const bool fits, CountAccount(id, end));
  if (fits) return {};
  return Error(Code::kOverQuota, "the account has no room for " + FormatSize(more) + " more",
               "Free space in the account, or keep the file out of it with a rule: local.");
}

}  // namespace pargeter
