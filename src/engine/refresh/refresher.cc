// Refresher: who asks the store for a folder's listing, and when.
#include "engine/refresh/refresher.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <system_error>
#include <thread>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/remote_merge.h"

namespace pargeter {

namespace {
constexpr std::size_t kManyVisited = 64;

constexpr Duration kWatchFor(300000);  // after the last visit

constexpr Duration kAnswersBy(120000);  // to one request, with all its attempts

constexpr int kSlowly = 6;  // rounds between two folders that nobody visits

constexpr Duration kMoveMayTake(
    30000);  // of a folder that was never listed: who asks waits so long

constexpr Duration kLookAgain(250);  // whether the store is still there

constexpr Duration kKnownMayTake(3000);  // a listing of a folder that is known

constexpr Nanos kOldListing = 600ll * 1'000'000'000;

}  // namespace

Status Refresher::EnsureListed(NodeId folder) {
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.GetFolder(folder));
    if (inode->node.listed_at != 0 || inode->node.remote.place == RemotePlace::kNone) return {};
  }
  return ListFolder(folder, ListWait::kAll, "");
}

bool Refresher::IsFresh(View& view, NodeId id) {
  const std::optional<Steady> listed = merge_.listing_ages_(view).When(id);
  return listed && options_.clock->Now() - *listed < limits_(view).fresh_for;
}

Status Refresher::ListFolder(NodeId id, ListWait wait, const std::string& until_name,
                             Traffic traffic) {
  PG_TRY(store_->Check());
  const Steady deadline = options_.clock->Now() + options_.patience;
  bool probe_name = false;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * folder, view.GetFolder(id));
    // while a folder's move is under way its names stand in two places: not now
    const bool known = folder->node.listed_at != 0;
    const Steady moved_by = std::min(deadline, options_.clock->Now() + kMoveMayTake);
    while (!known && provenance_.AbsenceIsInconclusive(view, folder->node, Steady::max())) {
      const Steady now = options_.clock->Now();
      if (now >= moved_by)
        return Error(Code::kBusy, "the folder's move is not done at the store yet");
      view.WaitUntil(std::min(moved_by, now + kLookAgain));
      if (stop_->cancelled()) return Error(Code::kCancelled, "the drive ends");
      PG_TRY(store_->Check());
      PG_ASSIGN(folder, view.GetFolder(id));
    }
    for (NodeId up = id; up != kRootId;) {
      PG_ASSIGN(Inode * above, view.Get(up));
      if (above->node.remote.place == RemotePlace::kNone) return {};
      if (above->node.remote.place == RemotePlace::kMoved && known) return {};
      up = above->node.parent;
      if (up == kNoNode) return Error(Code::kNotFound, "the folder is gone");
    }
    std::shared_ptr<Listing>& slot = listings_(view)[id];
    if (!slot) {
      slot = std::make_shared<Listing>();
      slot->folder = id;
      slot->started = options_.clock->Now();
      slot->traffic = traffic;
      PG_ASSIGN(slot->key, view.RemotePrefix(id));
      if (!BeginListing(slot)) {
        const auto here = slot;
        view.Unlock();
        RunListing(here);
        view.Relock();
        return here->error ? Status(*here->error) : Status();
      }
    }
    const std::shared_ptr<Listing> listing = slot;
    if (wait == ListWait::kNo) return {};
    // a known folder is shown as it is known when the store is slow: one waits for that, not each
    const Steady patience = known ? std::min(deadline, listing->started + kKnownMayTake) : deadline;
    while (!listing->done && !(wait == ListWait::kFirstPage && listing->first_page)) {
      if (!until_name.empty()) {
        PG_ASSIGN(Inode * inode, view.Find(id, until_name));
        if (inode != nullptr) return {};
        if (listing->first_page) {  // a large folder: ask for the one name instead of waiting
          probe_name = true;
          break;
        }
      }
      if (!view.WaitUntil(patience) && options_.clock->Now() >= patience) {
        return Error(Code::kTimeout, "the folder's listing did not come in time");
      }
    }
    if (!probe_name) return listing->error ? Status(*listing->error) : Status();
  }
  return LookupRemote(id, NameToKey(until_name));
}

bool Refresher::BeginListing(const std::shared_ptr<Listing>& listing) {
  try {
    std::thread([this, listing] { RunListing(listing); }).detach();
    return true;
  } catch (const std::system_error&) {
    return false;
  }
}

Status Refresher::LookupRemote(NodeId id, const std::string& key) {
  std::string path;
  Steady asked;  // what was moved here since is newer than the answer
  {
    View view(&tree_);
    PG_ASSIGN(path, view.RemotePrefix(id));
    path += key;
    asked = options_.clock->Now();
  }
  const auto entry =
      store_->Ask(Traffic::kForeground, [&](const Call& c) { return store_->Look(path, c); });
  if (!entry.ok()) return entry.error().code == Code::kNotFound ? Status() : Status(entry.error());
  PG_ASSIGN(const bool spelled, IsOtherSpelling(id, KeyToName(key), *entry));
  if (spelled) return ListFolder(id, ListWait::kAll, "");  // that one tells what it is called
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * folder, view.GetFolder(id));
  if (provenance_.AbsenceIsInconclusive(view, folder->node, asked)) return merge_.MovedMeanwhile();
  PG_TRY(merge_.MergeOne(view, id, *entry, asked));
  return change.Commit();
}

Result<bool> Refresher::IsOtherSpelling(NodeId folder, const std::string& name,
                                        const Entry& entry) {
  View view(&tree_);
  PG_ASSIGN(const std::vector<std::string> names, view.index().RemoteNames(folder, entry.version));
  return std::any_of(names.begin(), names.end(), [&](const std::string& other) {
    return DifferInSpelling(KeyToName(other), name);
  });
}

void Refresher::RunListing(const std::shared_ptr<Listing>& listing) {
  Status outcome;
  for (std::string next; outcome.ok();) {
    auto page = store_->Ask(listing->traffic,
                            [&](const Call& c) { return store_->List(listing->key, next, c); });
    if (page.ok()) {
      outcome = listing->folder == kRootId ? FindSharedRules(page->entries) : Status();
      if (!outcome.ok()) break;
      outcome = merge_.MergePage(listing.get(), page->entries, page->may_write);
      if (!outcome.ok()) break;
      if (page->next.empty()) {
        outcome = merge_.EndListing(listing.get());
        break;
      }
      if (page->next == next) {
        outcome = Error(Code::kDamaged, "the store's listing goes round in a circle");
        break;
      }
      next = page->next;
      View view(&tree_);
      listing->first_page = true;  // and more to come
      tree_.NotifyAll();
    } else {
      outcome = page.error();
    }
  }
  if (!CloseListing(listing.get(), outcome)) return;
  LearnFolder(listing->folder, listing->key);  // nobody waits for that, but the end
  View view(&tree_);
  --attribute_reads_(view);
  tree_.NotifyAll();
}

bool Refresher::CloseListing(Listing* listing, const Status& outcome) {
  View view(&tree_);
  if (listing->folder == kRootId || outcome.ok()) OnAccessResult(view, outcome);
  const auto folder = view.Get(listing->folder);
  if (!outcome.ok() && outcome.error().code == Code::kBusy) {
    // known: shown as it is known
    if (!folder.ok() || (*folder)->node.listed_at == 0) listing->error = outcome.error();
  } else if (!outcome.ok()) {
    listing->error = outcome.error();
    if (outcome.error().code != Code::kCancelled) {
      health_.NoteFault(listing->folder, outcome.error());
      LogAbout(LogLevel::kWarning, {listing->key, NameOf(outcome.error().code)}, "{}",
               outcome.error().what);
    }
  } else {
    merge_.listing_ages_(view).Note(listing->folder, listing->started);
    health_.ClearFault(listing->folder);
  }
  if (std::exchange(pins_changed_(view), false)) pins_.Wake();
  const bool learn = outcome.ok() && folder.ok() && !(*folder)->node.attributes_known;
  if (learn) ++attribute_reads_(view);
  listing->done = true;
  listings_(view).erase(listing->folder);
  tree_.NotifyAll();
  return learn;
}

Status Refresher::FindSharedRules(const std::vector<Entry>& entries) {
  for (const Entry& entry : entries) {
    if (entry.name != kRulesName) continue;
    const Status taken = placement_.TakeSharedRules(entry.version);
    if (taken.ok() ||
        (taken.error().code != Code::kDamaged && taken.error().code != Code::kRefused))
      return taken;
    // as they were: a mount must not depend on what anybody may write there
    View view(&tree_);
    health_.Warn(taken.error().what);
    LogAbout(LogLevel::kError, {kRulesName, NameOf(taken.error().code)}, "{}", taken.error().what);
  }
  return {};
}

void Refresher::RemoveLeftovers() {
  std::map<std::string, Leftover> due;
  {
    View view(&tree_);
    const Steady now = options_.clock->Now();
    for (auto it = merge_.leftovers_(view).begin(); it != merge_.leftovers_(view).end();)
      if (auto one = it++; now - one->second.seen >= options_.leftover_for)
        due.insert(merge_.leftovers_(view).extract(one));
  }
  for (const auto& [path, left] : due) {
    const Status removed =
        store_->Remove(path, Precondition::Is(left.version), Call{stop_, Traffic::kHousekeeping});
    // if not, it is seen again
    if (removed.ok()) Log(LogLevel::kInfo, "removed {}, which was left behind", Printable(path));
  }
}

Status Refresher::Revalidate(NodeId id) {
  std::string path;
  Steady started;
  Node known;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(id));
    known = inode->node;
    if (inode->node.gone() || inode->node.remote.place == RemotePlace::kNone) return {};
    PG_ASSIGN(path, view.RemotePath(inode->node));
    started = options_.clock->Now();
  }
  const auto entry =
      store_->Ask(Traffic::kForeground, [&](const Call& c) { return store_->Look(path, c); });
  if (!entry.ok() && entry.error().code != Code::kNotFound) return entry.error();
  bool ours = false;
  if (entry.ok()) {
    PG_ASSIGN(ours, provenance_.OnlyAttributesDiffer(known, path, *entry,
                                                     Call{stop_, Traffic::kForeground}));
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  if (provenance_.AbsenceIsInconclusive(view, inode->node, started)) return {};
  if (ours && inode->node.remote.version == known.remote.version && !inode->node.gone())
    return provenance_.AdoptVersion(view, inode,
                                    *entry);  // whatever is done with it here meanwhile
  if (inode->node.gone() || (inode->node.dirty & kData) || inode->writers > 0) return {};
  if (!entry.ok() || entry->kind == Kind::kFolder) {
    if (inode->node.kind == NodeKind::kFolder) return {};
    Change change(&view);
    PG_TRY(merge_.RemoteDeleted(view, inode, started));
    PG_TRY(change.Commit());
    return Error(Code::kStale, "the file was deleted at the store");
  }
  provenance_.recent(view).NoteChanged(id);  // for a listing that is under way
  if (inode->node.remote.version == entry->version) return {};
  Change change(&view);  // with its former bytes, or not at all
  merge_.NewVersion(view, inode, *entry);
  PG_TRY(view.Save(inode));
  return change.Commit();
}

void Refresher::ForgetOld(View& view) {
  const Steady now = options_.clock->Now();
  Steady oldest = now - kAnswersBy;
  if (feed_asked_(view)) oldest = std::min(oldest, *feed_asked_(view));
  for (const auto& [id, listing] : listings_(view)) oldest = std::min(oldest, listing->started);
  provenance_.recent(view).ForgetBefore(oldest, now - kWatchFor * 2);
  merge_.listing_ages_(view).ForgetBefore(now - kWatchFor * 2);
}

void Refresher::WatchLoop() {
  for (int round = 1; !stop_->WaitFor(options_.watch_every); ++round) {
    spare_->Tend();
    contents_.SavePresenceOfAll();
    contents_.SaveWritten();
    bool changed = false;
    {
      View view(&tree_);
      changed = contents_.cache_changed_(view);
      if (!view.used().empty()) contents_.SaveUses(view);
      view.Trim();
    }
    Ignore(tree_.UnlinkDeleted());
    if (const std::uint64_t missing = budget_->Short(); missing > 0) contents_.FreeUnused(missing);
    if (changed && round % 6 == 0) contents_.SyncEverything();
    std::vector<NodeId> due;
    {
      View view(&tree_);
      const Steady now = options_.clock->Now();
      for (auto it = visited_at_(view).begin(); it != visited_at_(view).end();) {
        if (now - it->second > kWatchFor) {
          it = visited_at_(view).erase(it);
        } else {
          if (!IsFresh(view, it->first) && due.size() < kManyVisited) due.push_back(it->first);
          ++it;
        }
      }
      ForgetOld(view);
    }
    if (store_->Check().ok()) {
      Ignore(placement_.FollowMoves());
      RemoveLeftovers();
    }
    if (has_feed_) continue;  // the store says what changed
    if (round % kSlowly == 0 && due.empty()) {
      View view(&tree_);
      const auto oldest = view.index().LongestUnlisted(options_.clock->Wall() - kOldListing);
      if (oldest.ok() && *oldest != kNoNode) due.push_back(*oldest);
    }
    for (const NodeId id : due) {
      if (stop_->cancelled()) return;
      Ignore(ListFolder(id, ListWait::kAll, "", Traffic::kHousekeeping));
    }
  }
}

Status Refresher::ListAnew(NodeId id) {
  PG_TRY(ListFolder(id, ListWait::kAll, ""));
  {
    View view(&tree_);
    if (merge_.listing_ages_(view).When(id)) return {};
  }
  return ListFolder(id, ListWait::kAll, "");  // the first was under way before
}

Status Refresher::Refresh() {
  PG_TRY(store_->TryNow());
  std::vector<NodeId> folders = {kRootId};
  {
    View view(&tree_);
    merge_.listing_ages_(view).DistrustAll(options_.clock->Now());
    for (const auto& [id, when] : visited_at_(view)) folders.push_back(id);
  }
  for (const NodeId id : folders) {
    const Status listed = ListAnew(id);
    const bool gone = !listed.ok() && (listed.error().code == Code::kNotFound ||
                                       listed.error().code == Code::kStale);
    if (!listed.ok() && !gone) return listed;
  }
  RemoveLeftovers();
  View view(&tree_);
  RetryWaiting(view);
  return {};
}

void Refresher::OnAccessResult(View& view, const Status& look) {
  const Code code = look.ok() ? Code::kInternal : look.error().code;
  if (code == Code::kNotFound || code == Code::kPermission || code == Code::kUntrusted ||
      code == Code::kSignIn)
    merge_.shut_out_(view) = true;
  else if (look.ok() && std::exchange(merge_.shut_out_(view), false))
    RetryWaiting(view);
}

void Refresher::RetryWaiting(View& view) {
  const auto waiting = view.index().PendingNodes(0, 1 << 30);
  if (!waiting.ok()) return;  // each has its own next try
  for (const Node& node : *waiting) view.Push(node.id, node.pending.seq, Duration(0));
}

// ---- fetch

Status Refresher::ListBelow(NodeId id, const Cancel& cancel) {
  std::set<NodeId> tried;
  Mutex mutex;
  std::optional<Error> failed;
  for (;;) {
    std::vector<NodeId> unknown;
    PG_TRY(facts_.Walk(
        id,
        [&](View& view, const Node& folder) -> Result<bool> {
          if (folder.effective == Placement::kHide) return false;
          if (folder.listed_at == 0 && folder.remote.place != RemotePlace::kNone) {
            if (tried.insert(folder.id).second) unknown.push_back(folder.id);
            return true;
          }
          PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
          return sums.unlisted > 0;
        },
        [](View&, const Node&) {}));
    if (unknown.empty()) return failed ? Status(*failed) : Status();
    PG_TRY(facts_.ParallelForEach(unknown, [&](NodeId folder) -> Status {
      if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "it was called off");
      const Status listed = ListFolder(folder, ListWait::kAll, "", Traffic::kPrefetch);
      if (listed.ok() || listed.error().code == Code::kNotFound ||
          listed.error().code == Code::kStale)
        return {};
      if (MeetsAll(listed.error())) return listed;
      const Lock lock(mutex);
      if (!failed) failed = listed.error();
      return {};
    }));
  }
}

}  // namespace pargeter
