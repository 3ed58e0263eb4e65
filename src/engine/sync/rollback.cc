// Rollback: former attempts at other places are undone, or gone on from.
#include "engine/sync/rollback.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <utility>

#include "base/digest.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/committer.h"
#include "engine/sync/evidence.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "engine/sync/send_log.h"

namespace pargeter {

// Without the lock: deletes what a former attempt made, if it did.
Result<Outcome> Rollback::TakeBack(Job* job) {
  const Node& node = job->node;
  PG_ASSIGN(const bool itself, evidence_.IsItself(*job, job->tried_path));
  if (itself) {
    // nothing came of it
  } else if (node.kind == NodeKind::kFolder) {
    PG_TRY(TakeBackFolder(job));
  } else {
    PG_ASSIGN(const bool undone, TakeBackFile(job));
    if (!undone && evidence_.MayBeLate(job)) return Outcome::kAgain;
    if (!undone)
      PG_TRY(store_->DropUnfinished(job->tried_path, provenance_.OriginOf(job->id), job->call));
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(job->id));
  if (job->made && !live->node.copy_of.empty()) return Outcome::kAgain;  // changed meanwhile
  if (job->made || (job->went_on && live->node.version == job->node.version))
    return GoesOnFrom(view, job, live);
  // a listing that began before this may still show it there, and miss it where it is
  provenance_.removed_(view)[{live->node.tried_parent, live->node.tried_name}] =
      options_.clock->Now();
  provenance_.acked_(view)[job->id] = options_.clock->Now();
  provenance_.left_behind_(view)[{job->id, job->tried_path}] = options_.clock->Now();
  provenance_.not_there_(view).erase(job->id);
  provenance_.copy_seen_(view).erase(job->id);
  evidence_.copied_below_(view).erase(job->id);
  evidence_.kept_below_(view).erase(job->id);
  const std::string place = PlaceIn(live->node.tried_parent, live->node.tried_name);
  live->node.upload = WithoutSent(live->node.upload, place);
  live->node.tried_parent = kNoNode;
  live->node.tried_name.clear();
  PG_TRY(view.Save(live));
  return Outcome::kAgain;
}

// The store has it where a former attempt brought it.
Result<Outcome> Rollback::GoesOnFrom(View& view, Job* job, Live* live) {
  Change change(&view);
  Node& node = live->node;
  PG_TRY(view.Get(node.tried_parent));  // (gone meanwhile: planned anew)
  if (job->made) {
    PG_ASSIGN(const auto former, view.index().FindThere(node.tried_parent, node.tried_name, false));
    if (former && former->gone() && former->id != node.id) {
      PG_ASSIGN(Live * replaced, view.Get(former->id));
      held_.DropThere(view, replaced, job->tried_path);
    }
    node.version = job->made->version;
    node.there_size = job->made->size;
    node.dirty &= ~kTriedData;
    if (!HasParts(node.upload)) node.upload.clear();
  } else {
    provenance_.removed_(view)[{node.there_parent, node.there_name}] = options_.clock->Now();
  }
  provenance_.not_there_(view).erase(job->id);
  provenance_.copy_seen_(view).erase(job->id);
  node.there = There::kElsewhere;
  node.there_parent = std::exchange(node.tried_parent, kNoNode);
  node.there_name = std::exchange(node.tried_name, {});
  provenance_.acked_(view)[job->id] = options_.clock->Now();
  if (live->content) {
    const Lock lock(live->content->mu);
    live->content->source.path = job->tried_path;
    if (job->made) live->content->source.version = job->made->version;
  }
  PG_TRY(view.Save(live));
  if (node.kind == NodeKind::kFolder) committer_.ReadOnFromNewPlaces(view);
  PG_TRY(change.Commit());
  return Outcome::kAgain;
}

// False: what stands there is not of that attempt, or nothing does.
Result<bool> Rollback::TakeBackFile(Job* planned) {
  const Job& job = *planned;
  for (int round = 0; round < 3; ++round) {  // a store may say another version once, wrongly
    PG_ASSIGN(const std::optional<Entry> made, store_->LookIfThere(job.tried_path, job.call));
    if (!made) return false;
    PG_ASSIGN(const bool moved, evidence_.WentThere(job, *made));
    if (moved) {
      const auto back = store_->MoveFile(job.tried_path, made->version, job.there_path,
                                         Precondition::Absent(), job.call);
      if (!back.ok() && back.error().code != Code::kChanged) return back.error();
      planned->went_on = !back.ok();  // others have put something where it was
      return true;
    }
    PG_ASSIGN(const bool ours, evidence_.MadeBy(job, *made));
    if (!ours) return false;
    PG_ASSIGN(const bool all, evidence_.IsAllTheStoreHas(job));
    if (all) {
      planned->made = *made;
      return true;
    }
    PG_ASSIGN(const bool only, evidence_.IsAllThereIs(job, *made));
    if (only) {  // another version than is known here, or one that is deleted here, just stays
      planned->went_on = !job.node.gone() && made->version == job.node.version;
      return true;
    }
    // (a copy says who wrote its original, and not who had it made)
    const bool sent = made->attributes.origin == provenance_.OriginOf(job.id) &&
                      (job.node.dirty & (kData | kTriedData)) && made->version != job.node.version;
    if (!sent && evidence_.MayBeAnothers(job.id)) return false;
    const Status gone = store_->Remove(job.tried_path, Precondition::Is(made->version), job.call);
    if (gone.ok()) return true;
    if (gone.error().code != Code::kChanged) return gone.error();
  }
  return false;
}

// A folder that was being made is an object of its own; one that was being moved has copies of what
// is still at its former place.
Status Rollback::TakeBackFolder(Job* job) {
  PG_ASSIGN(const std::vector<Entry> made, evidence_.AllBelow(job->tried_path, job->call));
  if (made.empty()) return {};
  if (store_->Can().moves_folders && !job->there_path.empty()) {
    // moved whole, and nobody learnt of it: it goes back the same way
    PG_ASSIGN(const bool left, evidence_.IsFolderAt(job->there_path, job->call));
    if (!left) {
      const Status back = store_->MoveFolder(job->tried_path, job->there_path, job->call);
      if (!back.ok() && back.error().code != Code::kChanged) return back;
      job->went_on = !back.ok();  // others have put something where it was
      return {};
    }
  }
  if (job->there_path.empty()) {
    if (made.size() == 1 && made[0].name.empty())
      return store_->RemoveFolder(job->tried_path, job->call);
    return {};
  }
  Copies copied;
  {
    View view(&tree_);
    if (const auto it = evidence_.copied_below_(view).find(job->id);
        it != evidence_.copied_below_(view).end())
      copied = it->second;
    if (const auto it = evidence_.kept_below_(view).find(job->id);
        it != evidence_.kept_below_(view).end())
      job->kept = it->second;
  }
  if (store_->Can().moves_files)
    PG_TRY(TakeBackMoved(*job, made));
  else
    PG_TRY(TakeBackKept(*job, made));
  PG_ASSIGN(std::vector<Entry> there, evidence_.AllBelow(job->there_path, job->call));
  std::map<std::string, Entry> others;
  for (Entry& entry : there) others[entry.name] = std::move(entry);
  const std::string below = job->tried_path + "/";
  bool journalled = false;
  std::vector<Provider::Removal> copies;
  for (const Entry& entry : made) {
    if (store_->Can().moves_files && !IsFolder(entry)) continue;  // it was not copied
    const auto it = others.find(entry.name);
    if (it == others.end() || it->second.size != entry.size) continue;
    const Entry& other = it->second;
    const auto known = copied.find(entry.name);
    bool same = entry.version == other.version ||
                (known != copied.end() && known->second == std::pair(entry.version, other.version));
    const std::string here = below + entry.name, elsewhere = job->there_path + "/" + entry.name;
    if (!same && send_log_.CopiedInParts(entry.size) && !std::exchange(journalled, true)) {
      PG_TRY(send_log_.EndParts(job->node.upload, job->call));
      PG_TRY(send_log_.JournalUnknownParts(job->id, below));
    }
    if (!same) {  // before a restart, perhaps: either may be the original
      PG_ASSIGN(same, evidence_.IsCopy(*job, below, here, entry.version, entry.size, other));
    }
    if (!same) {
      PG_ASSIGN(same, evidence_.IsCopy(*job, below, elsewhere, other.version, other.size, entry));
    }
    if (same) copies.push_back({here, entry.version});
  }
  if (copies.empty()) return {};
  PG_ASSIGN(const auto left, store_->RemoveMany(copies, job->call));
  return OutcomeOf(left);
}

// Files that had come to the new place already, and are known here by their versions.
Status Rollback::TakeBackMoved(const Job& job, const std::vector<Entry>& made) {
  for (const Entry& one : made) {
    if (IsFolder(one)) continue;
    const std::string former = FormerName(job, one.name);
    {
      View view(&tree_);
      PG_ASSIGN(const auto known, evidence_.FileThere(view, job.id, former));
      if (!known || known->version != one.version) continue;
    }
    const auto back =
        store_->MoveFile(job.tried_path + "/" + one.name, one.version,
                         job.there_path + "/" + former, Precondition::Absent(), job.call);
    if (!back.ok() && !IsGone(back.error().code)) return back.error();
  }
  return {};
}

// Where files are copied, the original of one that got a name beside another's went at once.
Status Rollback::TakeBackKept(const Job& job, const std::vector<Entry>& made) {
  const std::string below = job.there_path + "/";
  for (const Entry& one : made) {
    const std::string former = FormerName(job, one.name);
    if (former == one.name || IsFolder(one)) continue;
    if (send_log_.CopiedInParts(one.size)) PG_TRY(send_log_.JournalUnknownParts(job.id, below));
    const std::string from = job.tried_path + "/" + one.name;
    const auto back = store_->Copy(from, one.version, one.size, below + former, nullptr,
                                   Precondition::Absent(), job.call);
    if (!back.ok() && !IsGone(back.error().code)) return back.error();
    if (!back.ok() && back.error().code == Code::kChanged) {  // there already?
      PG_ASSIGN(const Entry there, store_->Look(below + former, job.call));
      PG_ASSIGN(const bool same, evidence_.IsCopy(job, below, from, one.version, one.size, there));
      if (!same) continue;
    }
    if (!back.ok() && back.error().code == Code::kNotFound) continue;
    PG_TRY(store_->Remove(from, Precondition::Is(one.version), job.call));
  }
  return {};
}

// What was called so, where a part of its path got another name beside others'.
std::string Rollback::FormerName(const Job& job, const std::string& name) {
  const auto last = [](const std::string& path) { return path.substr(path.rfind('/') + 1); };
  std::string former;
  for (std::string& part : Split(name, '/')) {
    for (const Kept& one : job.kept)
      if (part == last(one.name)) part = last(one.path);
    former += (former.empty() ? "" : "/") + part;
  }
  return former;
}

}  // namespace pargeter
