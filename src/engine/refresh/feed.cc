// Refresher: what changed at the store, told by the store: one request for each look, seconds apart
// while somebody works here, minutes apart while nobody does. Where a store tells nothing, the
// folders that people look at are listed again (refresher.cc), and slowly all others.
#include <algorithm>
#include <map>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"

namespace pargeter {

namespace {
constexpr Duration kBusy(60000);  // so long after a visit somebody works here

constexpr Duration kLookIdle(120000);  // at most between two looks

constexpr int kMostRestarts = 3;  // a store that forgets each moment has no feed

std::string FolderOf(const std::string& path) {
  return path.find('/') == std::string::npos ? "" : path.substr(0, path.rfind('/'));
}
}  // namespace

void Refresher::FeedLoop() {
  std::string moment;
  {
    View view(&tree_);
    const auto kept = view.index().Meta(Mark::kFeedCursor);
    if (kept.ok()) moment = *kept;
  }
  const Duration busy = options_.feed_pause;  // between two looks then
  Duration pause = busy / 4;
  for (int restarts = 0; !stop_->WaitFor(pause);) {
    if (!store_->Check().ok()) {  // seldom, so that a machine without a network may rest
      pause = std::min(pause * 2, busy * 5);
      continue;
    }
    const auto looked = ReadFeed(&moment);
    {
      View view(&tree_);
      feed_asked_(view).reset();
      OnAccessResult(view, looked.status());
    }
    if (!looked.ok() && looked.error().code == Code::kUnsupported) {
      has_feed_ = false;
      return;
    }
    if (!looked.ok() && looked.error().code == Code::kStale) {
      if (++restarts >= kMostRestarts) {
        has_feed_ = false;
        return;
      }
      moment.clear();
      View view(&tree_);
      merge_.listing_ages_(view).DistrustAll(
          options_.clock->Now());  // what was known may have changed unseen
    }
    if (looked.ok()) {
      has_feed_ = true;
      if (*looked > 0) restarts = 0;
    }
    pause = IsBusy() || (looked.ok() && *looked > 0)
                ? busy
                : std::min(kLookIdle, pause * 3 / 2 + busy / 2);
  }
}

bool Refresher::IsBusy() {
  View view(&tree_);
  const Steady now = options_.clock->Now();
  return std::any_of(visited_at_(view).begin(), visited_at_(view).end(),
                     [&](const auto& visit) { return now - visit.second < kBusy; });
}

Result<std::size_t> Refresher::ReadFeed(std::string* moment) {
  if (moment->empty()) {
    PG_ASSIGN(*moment, store_->Ask(Traffic::kHousekeeping,
                                   [&](const Call& c) { return store_->FeedStart(c); }));
    View view(&tree_);
    PG_TRY(view.index().SetMeta(Mark::kFeedCursor, *moment));
    return std::size_t{0};
  }
  std::size_t count = 0;
  for (bool more = true; more;) {
    const Steady started = options_.clock->Now();
    {
      View view(&tree_);
      feed_asked_(view) = started;
    }
    PG_ASSIGN(const Changes changes, store_->Ask(Traffic::kHousekeeping, [&](const Call& c) {
      return store_->ChangesSince(*moment, c);
    }));
    count += changes.all.size();
    PG_TRY(MergeChanges(changes, started));
    more = changes.more && changes.next != *moment;
    if (changes.next == *moment) continue;
    *moment = changes.next;
    View view(&tree_);
    PG_TRY(view.index().SetMeta(Mark::kFeedCursor, *moment));
  }
  return count;
}

Status Refresher::MergeChanges(const Changes& changes, Steady started) {
  std::vector<NodeId> doubtful;
  std::vector<std::pair<NodeId, std::string>> unseen;
  for (const Changes::One& one : changes.all)
    if (one.path == kRulesName && one.entry) PG_TRY(FindSharedRules({*one.entry}));
  {
    View view(&tree_);
    view.Trim();
    Change change(&view);
    std::map<std::string, std::vector<NodeId>> left;  // by version: files that are gone somewhere
    for (const Changes::One& one : changes.all) {
      if (one.entry) continue;
      PG_ASSIGN(const NodeId folder, facts_.FolderThere(view, FolderOf(one.path)));
      if (folder == kNoNode) continue;
      PG_ASSIGN(const auto node,
                facts_.NodeThere(view, folder, one.path.substr(one.path.rfind('/') + 1), false));
      if (node && !node->gone() && node->pending.seq == 0 && node->size > 0 &&
          !provenance_.AbsenceIsInconclusive(view, *node, started))
        left[node->remote.version].push_back(node->id);
    }
    for (const Changes::One& one : changes.all) {
      if (!one.entry) continue;
      PG_ASSIGN(const NodeId folder, facts_.FolderThere(view, FolderOf(one.path)));
      if (folder == kNoNode) continue;
      PG_ASSIGN(const bool half_way, guard_.FolderComesOver(view, folder));
      if (half_way) continue;  // perhaps a step of ours; all of it is looked at once that is done
      PG_ASSIGN(const bool missed, merge_.WasMissing(view, folder, *one.entry, started));
      if (missed)
        unseen.emplace_back(folder, one.entry->name);
      else
        PG_TRY(merge_.MergeChanged(view, folder, *one.entry, started, &left, &doubtful));
    }
    for (auto one = changes.all.rbegin(); one != changes.all.rend(); ++one) {
      if (one->entry) continue;
      PG_ASSIGN(const NodeId folder, facts_.FolderThere(view, FolderOf(one->path)));
      if (folder == kNoNode) continue;
      const std::string key = one->path.substr(one->path.rfind('/') + 1);
      for (const bool is_folder : {false, true}) {
        PG_ASSIGN(const auto node, facts_.NodeThere(view, folder, key, is_folder));
        if (!node || provenance_.AbsenceIsInconclusive(view, *node, started)) continue;
        PG_ASSIGN(Inode * inode, view.Get(node->id));
        PG_TRY(merge_.RemoteDeleted(view, inode, started));
        provenance_.recent(view).NoteGone(folder, key);
      }
    }
    PG_TRY(change.Commit());
    tree_.NotifyAll();
    if (std::exchange(pins_changed_(view), false)) pins_.Wake();
  }
  for (const NodeId id : doubtful) Ignore(Revalidate(id));  // changed here just then
  for (const auto& [folder, key] : unseen) {
    const Status looked = LookupRemote(folder, key);
    // it is not told of again: the folder's next visitor waits for a listing
    View view(&tree_);
    if (!looked.ok()) merge_.listing_ages_(view).Distrust(folder, options_.clock->Now());
  }
  return {};
}

}  // namespace pargeter
