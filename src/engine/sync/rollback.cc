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
#include "engine/sync/evidence.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "engine/sync/send_log.h"

namespace pargeter {

Result<Outcome> Rollback::RollBackAttempt(Job* job) {
  const Node& node = job->node;
  PG_ASSIGN(const bool itself, evidence_.IsAliasOfSelf(*job, job->tried_path));
  if (itself) {
    // nothing came of it
  } else if (node.kind == NodeKind::kFolder) {
    PG_TRY(RollBackFolder(job));
  } else {
    PG_ASSIGN(const bool undone, RollBackFile(job));
    if (!undone) {
      if (const auto wait = evidence_.WaitForAttempt(job->id)) return *wait;
      PG_TRY(store_->DropUnfinished(job->tried_path, provenance_.OriginOf(job->id), job->call));
    }
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  if (job->made && !inode->node.copy.path.empty()) return Outcome::Again();  // changed meanwhile
  if (job->made || (job->went_on && inode->node.remote.version == job->node.remote.version))
    return AdoptAttempt(view, job, inode);
  // a listing that began before this may still show it there, and miss it where it is
  provenance_.recent(view).NoteGone(inode->node.attempt.parent, inode->node.attempt.name);
  provenance_.recent(view).NoteChanged(job->id);
  provenance_.recent(view).NoteAbandonedWrite(job->id, job->tried_path);
  provenance_.recent(view).ForgetAttempt(job->id);
  evidence_.copied_objects_(view).erase(job->id);
  evidence_.conflict_copies_(view).erase(job->id);
  const std::string place = PlaceIdIn(inode->node.attempt.parent, inode->node.attempt.name);
  inode->node.upload_log.ForgetSentTo(place);
  inode->node.attempt = {};
  PG_TRY(view.Save(inode));
  return Outcome::Again();
}

Result<Outcome> Rollback::AdoptAttempt(View& view, Job* job, Inode* inode) {
  Change change(&view);
  Node& node = inode->node;
  PG_TRY(view.Get(node.attempt.parent));  // (gone meanwhile: planned anew)
  if (job->made) {
    PG_ASSIGN(const auto former,
              view.index().FindRemote(node.attempt.parent, node.attempt.name, false));
    if (former && former->gone() && former->id != node.id) {
      PG_ASSIGN(Inode * replaced, view.Get(former->id));
      held_.DropRemote(view, replaced, job->tried_path);
    }
    node.remote.version = job->made->version;
    node.remote.size = job->made->size;
    node.dirty &= ~kAttemptHadData;
    node.upload_log.ForgetSent();
  } else {
    provenance_.recent(view).NoteGone(node);
  }
  provenance_.recent(view).ForgetAttempt(job->id);
  node.remote.place = RemotePlace::kMoved;
  node.remote.parent = std::exchange(node.attempt.parent, kNoNode);
  node.remote.name = std::exchange(node.attempt.name, {});
  provenance_.recent(view).NoteChanged(job->id);
  if (inode->content && job->made) {
    const Lock lock(inode->content->mu);
    inode->content->base.version = job->made->version;
  }
  PG_TRY(view.Save(inode));
  PG_TRY(change.Commit());
  return Outcome::Again();
}

Result<bool> Rollback::RollBackFile(Job* planned) {
  const Job& job = *planned;
  for (int round = 0; round < 3; ++round) {  // a store may say another version once, wrongly
    PG_ASSIGN(const std::optional<Entry> made, store_->LookIfThere(job.tried_path, job.call));
    if (!made) return false;
    PG_ASSIGN(const bool moved, evidence_.HasMovedTo(job, *made));
    if (moved) {
      const auto back = store_->MoveFile(job.tried_path, made->version, job.there_path,
                                         Precondition::Absent(), job.call);
      if (!back.ok() && back.error().code != Code::kChanged) return back.error();
      planned->went_on = !back.ok();  // others have put something where it was
      return true;
    }
    PG_ASSIGN(const bool ours, evidence_.IsMadeByAttempt(job, *made));
    if (!ours) return false;
    PG_ASSIGN(const bool all, evidence_.IsOnlyVersionAtStore(job));
    if (all) {
      planned->made = *made;
      return true;
    }
    PG_ASSIGN(const bool only, evidence_.IsOnlyCopy(job, *made));
    if (only) {  // another version than is known here, or one that is deleted here, just stays
      planned->went_on = !job.node.gone() && made->version == job.node.remote.version;
      return true;
    }
    // (a copy says who wrote its original, and not who had it made)
    const bool sent = made->attributes.origin == provenance_.OriginOf(job.id) &&
                      (job.node.dirty & (kData | kAttemptHadData)) &&
                      made->version != job.node.remote.version;
    if (!sent && evidence_.CopyMayBeForeign(job.id)) return false;
    const Status gone = store_->Remove(job.tried_path, Precondition::Is(made->version), job.call);
    if (gone.ok()) return true;
    if (gone.error().code != Code::kChanged) return gone.error();
  }
  return false;
}

Status Rollback::RollBackFolder(Job* job) {
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
    if (const auto it = evidence_.copied_objects_(view).find(job->id);
        it != evidence_.copied_objects_(view).end())
      copied = it->second;
    if (const auto it = evidence_.conflict_copies_(view).find(job->id);
        it != evidence_.conflict_copies_(view).end())
      job->kept = it->second;
  }
  if (store_->Can().moves_files)
    PG_TRY(RollBackMoved(*job, made));
  else
    PG_TRY(RollBackConflictCopies(*job, made));
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
      PG_TRY(send_log_.AbortMultipart(job->node.upload_log, job->call));
      PG_TRY(send_log_.JournalUnknownMultipart(job->id, below));
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

Status Rollback::RollBackMoved(const Job& job, const std::vector<Entry>& made) {
  for (const Entry& one : made) {
    if (IsFolder(one)) continue;
    const std::string former = FormerName(job, one.name);
    {
      View view(&tree_);
      PG_ASSIGN(const auto known, evidence_.FindRemoteFile(view, job.id, former));
      if (!known || known->remote.version != one.version) continue;
    }
    const auto back =
        store_->MoveFile(job.tried_path + "/" + one.name, one.version,
                         job.there_path + "/" + former, Precondition::Absent(), job.call);
    if (!back.ok() && !IsGone(back.error().code)) return back.error();
  }
  return {};
}

Status Rollback::RollBackConflictCopies(const Job& job, const std::vector<Entry>& made) {
  const std::string below = job.there_path + "/";
  for (const Entry& one : made) {
    const std::string former = FormerName(job, one.name);
    if (former == one.name || IsFolder(one)) continue;
    if (send_log_.CopiedInParts(one.size)) PG_TRY(send_log_.JournalUnknownMultipart(job.id, below));
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
