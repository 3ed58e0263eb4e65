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

// Before a folder is taken for empty, or a name for free, its listing must be known.
Status Refresher::EnsureListed(NodeId folder) {
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.GetFolder(folder));
    if (live->node.listed_at != 0 || live->node.there == There::kAbsent) return {};
  }
  return ListFolder(folder, ListWait::kAll, "");
}

bool Refresher::IsFresh(View& view, NodeId id) {
  const auto it = merge_.listed_(view).find(id);
  return it != merge_.listed_(view).end() &&
         options_.clock->Now() - it->second < limits_(view).fresh_for;
}

// Joins the listing that is under way, or begins one on a thread of its own.
Status Refresher::ListFolder(NodeId id, ListWait wait, const std::string& until_name,
                             Traffic traffic) {
  PG_TRY(store_->Check());
  const Steady deadline = options_.clock->Now() + options_.patience;
  bool probe_name = false;
  {
    View view(&tree_);
    PG_ASSIGN(Live * folder, view.GetFolder(id));
    // while a folder's move is under way its names stand in two places: not now
    const bool known = folder->node.listed_at != 0;
    const Steady moved_by = std::min(deadline, options_.clock->Now() + kMoveMayTake);
    while (!known && provenance_.MayBeElsewhere(view, folder->node, Steady::max())) {
      const Steady now = options_.clock->Now();
      if (now >= moved_by)
        return Error(Code::kBusy, "the folder's move is not done at the store yet");
      view.WaitUntil(std::min(moved_by, now + kLookAgain));
      if (stop_->cancelled()) return Error(Code::kCancelled, "the drive ends");
      PG_TRY(store_->Check());
      PG_ASSIGN(folder, view.GetFolder(id));
    }
    for (NodeId up = id; up != kRootId;) {
      PG_ASSIGN(Live * above, view.Get(up));
      if (above->node.there == There::kAbsent) return {};
      if (above->node.there == There::kElsewhere && known) return {};
      up = above->node.parent;
      if (up == kNoNode) return Error(Code::kNotFound, "the folder is gone");
    }
    std::shared_ptr<Listing>& slot = listings_(view)[id];
    if (!slot) {
      slot = std::make_shared<Listing>();
      slot->folder = id;
      slot->started = options_.clock->Now();
      slot->traffic = traffic;
      PG_ASSIGN(slot->key, view.FolderKey(id));
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
        PG_ASSIGN(Live * live, view.Find(id, until_name));
        if (live != nullptr) return {};
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
  return LookForKey(id, NameToKey(until_name));
}

// False: the system has no thread to give, and whoever asks must do it himself.
bool Refresher::BeginListing(const std::shared_ptr<Listing>& listing) {
  try {
    std::thread([this, listing] { RunListing(listing); }).detach();
    return true;
  } catch (const std::system_error&) {
    return false;
  }
}

// One name that is not known here, as the store has it, asked for by itself.
Status Refresher::LookForKey(NodeId id, const std::string& key) {
  std::string path;
  Steady asked;  // what was moved here since is newer than the answer
  {
    View view(&tree_);
    PG_ASSIGN(path, view.FolderKey(id));
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
  PG_ASSIGN(Live * folder, view.GetFolder(id));
  if (provenance_.MayBeElsewhere(view, folder->node, asked)) return merge_.MovedMeanwhile();
  PG_TRY(merge_.TakeOne(view, id, *entry, asked));
  return change.Commit();
}

// Of something that is known under a name which the store may take for the same.
Result<bool> Refresher::IsOtherSpelling(NodeId folder, const std::string& name,
                                        const Entry& entry) {
  View view(&tree_);
  PG_ASSIGN(const std::vector<std::string> names, view.index().NamesThere(folder, entry.version));
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
      outcome = listing->folder == kRootId ? LookForRules(page->entries) : Status();
      if (!outcome.ok()) break;
      outcome = merge_.TakePage(listing.get(), page->entries, page->may_write);
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
  --learning_(view);
  tree_.NotifyAll();
}

// Tells those who wait for it. True: mode and owner of the folder itself are to be learnt yet.
bool Refresher::CloseListing(Listing* listing, const Status& outcome) {
  View view(&tree_);
  if (listing->folder == kRootId || outcome.ok()) NoteAccess(view, outcome);
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
    merge_.listed_(view)[listing->folder] = listing->started;
    health_.ClearFault(listing->folder);
  }
  if (std::exchange(pins_changed_(view), false)) pins_.Wake();
  const bool learn = outcome.ok() && folder.ok() && !(*folder)->node.attributes_known;
  if (learn) ++learning_(view);
  listing->done = true;
  listings_(view).erase(listing->folder);
  tree_.NotifyAll();
  return learn;
}

// The rules for all machines stand in the drive's folder: they hold before its names are shown.
Status Refresher::LookForRules(const std::vector<Entry>& entries) {
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

// One node's version seems to have changed: look, and take what is there.
Status Refresher::LookAgain(NodeId id) {
  std::string path;
  Steady started;
  Node known;
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(id));
    known = live->node;
    if (live->node.gone() || live->node.there == There::kAbsent) return {};
    PG_ASSIGN(path, view.TherePath(live->node));
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
  PG_ASSIGN(Live * live, view.Get(id));
  if (provenance_.MayBeElsewhere(view, live->node, started)) return {};
  if (ours && live->node.version == known.version && !live->node.gone())
    return provenance_.AdoptVersion(view, live, *entry);  // whatever is done with it here meanwhile
  if (live->node.gone() || (live->node.dirty & kData) || live->writers > 0) return {};
  if (!entry.ok() || entry->kind == Kind::kFolder) {
    if (live->node.kind == NodeKind::kFolder) return {};
    Change change(&view);
    PG_TRY(merge_.VanishedThere(view, live, started));
    PG_TRY(change.Commit());
    return Error(Code::kStale, "the file was deleted at the store");
  }
  provenance_.acked_(view)[id] = options_.clock->Now();  // for a listing that is under way
  if (live->node.version == entry->version) return {};
  Change change(&view);  // with its former bytes, or not at all
  merge_.NewVersion(view, live, *entry);
  PG_TRY(view.Save(live));
  return change.Commit();
}

// What is kept for answers that are older than it.
void Refresher::ForgetOld(View& view) {
  const Steady now = options_.clock->Now();
  const auto forget = [](auto* map, Steady before) {
    for (auto it = map->begin(); it != map->end();)
      it = it->second < before ? map->erase(it) : std::next(it);
  };
  Steady oldest = now - kAnswersBy;
  if (feed_asked_(view)) oldest = std::min(oldest, *feed_asked_(view));
  for (const auto& [id, listing] : listings_(view)) oldest = std::min(oldest, listing->started);
  forget(&provenance_.acked_(view), oldest);
  forget(&provenance_.removed_(view), oldest);
  forget(&provenance_.just_copied_(view), oldest);
  forget(&provenance_.left_behind_(view), oldest);
  forget(&provenance_.copy_seen_(view), now - kWatchFor * 2);
  forget(&merge_.listed_(view), now - kWatchFor * 2);
}

// Folders that people looked at lately are looked at again, so that changes elsewhere show here.
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
      for (auto it = visited_(view).begin(); it != visited_(view).end();) {
        if (now - it->second > kWatchFor) {
          it = visited_(view).erase(it);
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

Status Refresher::Refresh() {
  PG_TRY(store_->TryNow());
  std::vector<NodeId> folders = {kRootId};
  {
    View view(&tree_);
    merge_.listed_(view).clear();
    for (const auto& [id, when] : visited_(view)) folders.push_back(id);
  }
  for (const NodeId id : folders) {
    const Status listed = ListFolder(id, ListWait::kAll, "");
    const bool gone = !listed.ok() && (listed.error().code == Code::kNotFound ||
                                       listed.error().code == Code::kStale);
    if (!listed.ok() && !gone) return listed;
  }
  RemoveLeftovers();
  View view(&tree_);
  RetryWaiting(view);
  return {};
}

void Refresher::NoteAccess(View& view, const Status& look) {
  const Code code = look.ok() ? Code::kInternal : look.error().code;
  if (code == Code::kNotFound || code == Code::kPermission || code == Code::kUntrusted ||
      code == Code::kSignIn)
    merge_.shut_out_(view) = true;
  else if (look.ok() && std::exchange(merge_.shut_out_(view), false))
    RetryWaiting(view);
}

// What kept it may have been mended.
void Refresher::RetryWaiting(View& view) {
  const auto waiting = view.index().Intents(0, 1 << 30);
  if (!waiting.ok()) return;  // each has its own next try
  for (const Node& node : *waiting) view.Push(node.id, node.intent, Duration(0));
}

// ---- fetch

// Every folder below that nobody has looked into yet is listed. One that cannot be keeps no other
// from it, and is the error in the end.
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
          if (folder.listed_at == 0 && folder.there != There::kAbsent) {
            if (tried.insert(folder.id).second) unknown.push_back(folder.id);
            return true;
          }
          PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
          return sums.unlisted > 0;
        },
        [](View&, const Node&) {}));
    if (unknown.empty()) return failed ? Status(*failed) : Status();
    PG_TRY(facts_.ForMany(unknown, [&](NodeId folder) -> Status {
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
