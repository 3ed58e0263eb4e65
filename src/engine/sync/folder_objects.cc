// FolderMover: a folder that the store cannot move in one request goes object by object. And how
// what the store copied is told from what others have.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <utility>

#include "base/digest.h"
#include "base/text.h"
#include "base/threads.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/committer.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/sync/evidence.h"
#include "engine/sync/folder_mover.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"
#include "engine/sync/planner.h"
#include "engine/sync/rollback.h"
#include "engine/sync/send_log.h"

namespace pargeter {

// ---- there

Status FolderMover::CopySubtree(Job* job) {
  PG_ASSIGN(const std::vector<Entry> objects, evidence_.AllBelow(job->there_path, job->call));
  if (job->occupant != kNoNode) {
    for (const Entry& one : objects) job->came.insert(one.name);
  }
  if (std::any_of(objects.begin(), objects.end(),
                  [this](const Entry& one) { return send_log_.CopiedInParts(one.size); }))
    PG_TRY(send_log_.JournalUnknownMultipart(job->id, job->path + "/"));
  const bool made = store_->Can().real_folders;
  if (made) PG_TRY(MakeFoldersBelow(job, objects));
  std::atomic<std::size_t> at{0};
  Mutex mutex;
  std::optional<Error> failed;
  const auto work = [&] {
    for (std::size_t i = at++; i < objects.size(); i = at++) {
      if (made && IsFolder(objects[i]) && !objects[i].name.empty()) continue;
      const Status brought = CopyObject(job, objects[i], &mutex);
      if (brought.ok()) continue;
      const Lock lock(mutex);
      if (!failed) failed = brought.error();
      return;
    }
  };
  WorkTogether(std::min<std::size_t>(16, objects.size()), work);
  if (failed) return *failed;
  for (auto it = objects.rbegin(); it != objects.rend(); ++it) {  // emptied, under their old names
    if (!IsFolder(*it) || it->name.empty()) continue;
    const std::string path = it->name.substr(0, it->name.size() - 1);
    if (NewName(*job, path) == path) continue;
    PG_TRY(store_->RemoveFolder(job->there_path + "/" + path, job->call));
  }
  return {};
}

Status FolderMover::MakeFoldersBelow(Job* job, const std::vector<Entry>& objects) {
  for (const Entry& object : objects) {
    if (!IsFolder(object) || object.name.empty()) continue;
    const std::string path = object.name.substr(0, object.name.size() - 1);
    const std::string to = job->path + "/" + NewName(*job, path);
    const Status made = store_->MakeFolder(to, object.attributes, job->call);
    if (made.ok()) continue;
    if (made.error().code != Code::kChanged) return made;
    PG_ASSIGN(const Entry there, store_->Look(to, job->call));
    if (there.kind == Kind::kFolder) continue;
    const std::string kept = RemoteConflictName(path);
    job->kept.push_back({path, kept, ""});
    PG_TRY(store_->MakeFolder(job->path + "/" + NewName(*job, path), object.attributes, job->call));
  }
  return {};
}

std::string FolderMover::NewName(const Job& job, const std::string& path) {
  std::string name = path;
  for (const auto& [from, kept, version] : job.kept) {  // the outer ones first
    if (!version.empty() || (path + "/").compare(0, from.size() + 1, from + "/") != 0) continue;
    const auto part = from.rfind('/') + 1;  // 0 where there is none
    const auto at = name.size() - (path.size() - part);
    name.replace(at, from.size() - part, kept.substr(kept.rfind('/') + 1));
  }
  return name;
}

std::string FolderMover::RemoteConflictName(const std::string& path) const {
  const auto slash = path.rfind('/') + 1;  // 0 where there is none
  return path.substr(0, slash) +
         NameToKey(ConflictName(KeyToName(path.substr(slash)), options_.host, facts_.Stamp()));
}

Result<bool> FolderMover::IsSameObject(const Job& job, const Entry& object, const std::string& from,
                                       const Entry& there, const std::string& to) {
  const auto left = job.left.find(object.name);
  if (left != job.left.end() && left->second == std::pair(there.version, object.version))
    return true;
  const std::string below = job.path + "/";
  PG_ASSIGN(const bool copy,
            evidence_.IsCopy(job, below, from, object.version, object.size, there));
  if (copy || job.first_try) return copy;
  return evidence_.IsCopy(job, below, to, there.version, there.size, object);
}

Status FolderMover::CopyObject(Job* job, const Entry& object, Mutex* mutex) {
  const std::string from = job->there_path + "/" + object.name;
  const bool moves = store_->Can().moves_files && !IsFolder(object);
  const auto came = [&](const Entry& there) {
    const Lock lock(*mutex);
    job->ForgetKeptFile(object.name);  // what was in its way before is there no more
    if (there.version != object.version) job->copied[object.name] = {object.version, there.version};
  };
  const std::string name = [&] {
    const Lock lock(*mutex);
    return NewName(*job, object.name);
  }();
  const std::string to = job->path + "/" + name;
  const auto standing = job->standing.find(object.name);
  // (a folder's object has no content, but its mode and owner: ours come along)
  const Precondition only_if = IsFolder(object) ? Precondition::Anything()
                               : standing == job->standing.end()
                                   ? Precondition::Absent()
                                   : Precondition::Is(standing->second);
  const auto done = SendObject(*job, object, to, only_if);
  if (done.ok()) {
    came(*done);
    if (moves || name == object.name) return {};
    return store_->Remove(from, Precondition::Is(object.version), job->call);
  }
  if (!IsGone(done.error().code)) return done.error();
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(to, job->call));
  if (there && IsFolder(object)) return {};
  // a file that moves cannot be there while it is here, however alike the two look
  if (there && (!moves || done.error().code == Code::kNotFound)) {
    PG_ASSIGN(const bool same, IsSameObject(*job, object, from, *there, to));
    if (same) {
      came(*there);
      return {};
    }
  }
  // others deleted it or moved it away, or changed it: looked at again
  if (done.error().code == Code::kNotFound) return {};
  if (!there) return Error(Code::kStale, done.error().what);
  return CopyObjectAsConflict(job, object, name, mutex);
}

Status FolderMover::CopyObjectAsConflict(Job* job, const Entry& object, const std::string& name,
                                         Mutex* mutex) {
  const std::string from = job->there_path + "/" + object.name;
  const std::string kept = [&] {
    // written down before it is tried: if that fails, the next attempt has to know
    const Lock lock(*mutex);
    if (const Kept* former = job->KeptFile(object.name)) return former->name;
    job->kept.push_back({object.name, RemoteConflictName(name), object.version});
    return job->kept.back().name;
  }();
  const std::string to = job->path + "/" + kept;
  auto done = SendObject(*job, object, to, Precondition::Absent());
  if (!done.ok() && done.error().code == Code::kChanged && !store_->Can().moves_files) {
    const auto there = store_->Look(to, job->call);
    bool before = false;
    if (there.ok()) {
      PG_ASSIGN(before,
                evidence_.IsCopy(*job, job->path + "/", from, object.version, object.size, *there));
    }
    if (before) done = *there;
  }
  if (!done.ok()) {
    const Lock lock(*mutex);
    if (IsGone(done.error().code)) job->ForgetKeptFile(object.name);
    return done.error();
  }
  {
    const Lock lock(*mutex);
    job->KeptFile(object.name)->version = done->version;
    if (done->version != object.version) job->copied[object.name] = {object.version, done->version};
  }
  if (store_->Can().moves_files) return {};
  return store_->Remove(from, Precondition::Is(object.version), job->call);
}

Result<Entry> FolderMover::SendObject(const Job& job, const Entry& object, const std::string& to,
                                      const Precondition& only_if) {
  const std::string from = job.there_path + "/" + object.name;
  if (store_->Can().moves_files && !IsFolder(object))
    return store_->MoveFile(from, object.version, to, only_if, job.call);
  return store_->Copy(from, object.version, object.size, to, nullptr, only_if, job.call);
}

Status FolderMover::AdoptCopies(View& view, NodeId folder, const Copies& copied) {
  for (const auto& [path, versions] : copied) {
    PG_ASSIGN(const auto known, evidence_.FindRemoteFile(view, folder, path));
    if (!known || known->remote.version != versions.first) continue;
    PG_ASSIGN(Inode * inode, view.Get(known->id));
    inode->node.remote.version = versions.second;
    if (inode->content) {
      const Lock lock(inode->content->mu);
      if (inode->content->base.version == versions.first)
        inode->content->base.version = versions.second;
    }
    PG_TRY(view.Save(inode));
  }
  return {};
}

Status FolderMover::NoteArrivals(Job* job) {
  if (job->standing.empty() || !store_->Can().moves_files) return {};
  PG_ASSIGN(const std::vector<Entry> now, evidence_.AllBelow(job->path, job->call));
  std::set<std::string> still;
  for (const Entry& one : now) {
    const auto it = job->standing.find(one.name);
    if (it != job->standing.end() && it->second == one.version) still.insert(one.name);
  }
  View view(&tree_);
  for (const auto& [path, version] : job->standing) {
    PG_ASSIGN(const auto ours, evidence_.FindRemoteFile(view, job->id, path));
    if (ours || still.count(path) == 0) job->came.insert(path);
  }
  return {};
}

}  // namespace pargeter
