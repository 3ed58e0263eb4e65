// ConflictResolver: changed here and at the store. Nothing is overwritten: theirs keeps the name,
// ours stands beside it until somebody decides.
#include "engine/sync/conflict_resolver.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <ctime>
#include <utility>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/committer.h"
#include "engine/sync/evidence.h"
#include "engine/sync/job.h"
#include "engine/sync/planner.h"

namespace pargeter {

namespace {}  // namespace

Result<Outcome> ConflictResolver::MoveViaTempName(Job* job) {
  const bool folder = job->node.kind == NodeKind::kFolder;
  if (folder ? !store_->Can().moves_folders : !store_->Can().moves_files)
    return Error(Code::kPermission,
                 fmt::format("the store takes {} and {} for one name", Printable(job->there_path),
                             Printable(job->path)),
                 "Give it a name that differs in more than case.");
  View view(&tree_);
  planner_.needs_temp_name_(view).insert(job->id);
  return Outcome::Again();
}

Result<ConflictResolver::Standing> ConflictResolver::Classify(Job* job,
                                                              const std::optional<Entry>& there) {
  if (!there) return Standing::kNothing;
  const Node& node = job->node;
  const bool folder = there->kind == Kind::kFolder;
  if (node.remote.place == RemotePlace::kMoved && !job->aside) {
    PG_ASSIGN(const bool itself, evidence_.IsAliasOfSelf(*job, job->path));
    if (itself) return Standing::kItself;
  }
  if (!folder && node.kind == NodeKind::kFile && job->content) {
    ContentSource source(job->content, 0, job->size, options_.disk);
    PG_ASSIGN(const bool held, store_->HoldsContent(job->path, *there, &source, job->call));
    if (held) return Standing::kSameBytes;
  }
  // what is here must be all that is wanted: nothing may be needed of what stands there
  const bool whole = node.remote.place == RemotePlace::kNone ||
                     node.remote.place == RemotePlace::kMoved ||
                     (job->content != nullptr && (node.dirty & kData) != 0);
  if (!folder && whole) {
    PG_ASSIGN(const bool late, evidence_.IsAbandonedWrite(*job, *there));
    if (late) return Standing::kLate;
  }
  PG_ASSIGN(const bool ours, IsOurs(*job, *there));
  if (ours) return Standing::kOurs;
  PG_ASSIGN(const bool occupants, IsOccupants(*job, *there));
  if (occupants) return Standing::kOccupants;
  return folder ? Standing::kFolder : Standing::kTheirs;
}

Result<bool> ConflictResolver::IsOurs(const Job& job, const Entry& there) {
  PG_ASSIGN(const bool sent, provenance_.WasSent(job.node, job.Place(), job.path, there, job.call));
  if (sent) return evidence_.MatchesKnownVersion(job, there);
  const bool tried = job.node.attempt.parent == job.parent && job.node.attempt.name == job.key;
  if (!tried && there.attributes.origin != provenance_.OriginOf(job.id)) return false;
  PG_ASSIGN(const bool made, evidence_.IsMadeByAttempt(job, there));
  if (made || !tried) return made;
  return evidence_.HasMovedTo(job, there);
}

Result<bool> ConflictResolver::IsOccupants(const Job& job, const Entry& there) {
  if (job.occupant == kNoNode) return false;
  std::optional<Node> occupant;
  {
    View view(&tree_);
    if (const auto inode = view.Get(job.occupant); inode.ok()) occupant = (*inode)->node;
  }
  if (!occupant) return false;
  PG_ASSIGN(const bool sent,
            provenance_.WasSent(*occupant, job.Place(), job.path, there, job.call));
  return sent || (there.attributes.origin == provenance_.WriterOf(*occupant) &&
                  provenance_.OriginIsConclusive(*occupant, job.Place()));
}

Result<Outcome> ConflictResolver::Conflict(Job* job) {
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(job->path, job->call));
  PG_ASSIGN(const Standing standing, Classify(job, there));
  switch (standing) {
    case Standing::kItself:
      return MoveViaTempName(job);
    case Standing::kSameBytes:
      return AdoptSameBytes(job, *there);
    case Standing::kLate: {
      const Status gone = store_->Remove(job->path, Precondition::Is(there->version), job->call);
      if (!gone.ok() && gone.error().code != Code::kChanged) return gone.error();
      return Outcome::Again(kSoon);
    }
    default:
      break;
  }
  if (!there && provenance_.NeedsRemotePlace(job->node)) {
    PG_ASSIGN(const bool meets, FindForeignFileOnPath(*job));
    if (meets) return Outcome::Again(kSoon);
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  const Node& node = inode->node;
  if (standing == Standing::kOurs) {
    PG_TRY(AdoptOurs(view, job, inode, *there));
    PG_TRY(change.Commit());
    return Outcome::Again(kSoon);
  }
  // moved or deleted here meanwhile: what stands there is in nobody's way any more
  if (node.gone() || node.parent != job->parent || KeyPart(node) != job->key)
    return Outcome::Again(kSoon);
  PG_TRY(Resolve(view, job, inode, standing, there));
  PG_TRY(change.Commit());
  return Outcome::Again(kSoon);
}

Result<Outcome> ConflictResolver::AdoptSameBytes(Job* job, const Entry& there) {
  const Attributes& a = there.attributes;
  const bool with_attributes =
      (store_->Can().tells_writer || a.origin == provenance_.OriginOf(job->id)) &&
      a.mode == job->attributes.mode && a.uid == job->attributes.uid &&
      a.gid == job->attributes.gid && a.mtime == job->attributes.mtime;
  PG_TRY(committer_.CommitUpload(
      job, there, with_attributes ? UploadMethod::kBytes : UploadMethod::kBytesWithoutAttributes));
  return with_attributes ? Outcome::Done() : Outcome::Again();
}

Status ConflictResolver::AdoptOurs(View& view, Job* job, Inode* inode, const Entry& there) {
  Node& node = inode->node;
  node.remote.version = there.version;
  node.remote.size = there.size;
  SetRemote(&node, job->parent, job->key);
  node.attempt = {};
  node.upload_log.ForgetSent();
  if (inode->content) {
    const Lock lock(inode->content->mu);
    inode->content->base.version = there.version;
  }
  provenance_.recent(view).NoteChanged(node.id);
  PG_TRY(committer_.AddTombstone(view, *job, UploadMethod::kEarlierCopy));
  committer_.DropOccupant(view, job);
  return view.Save(inode);
}

Status ConflictResolver::Resolve(View& view, Job* job, Inode* inode, Standing standing,
                                 const std::optional<Entry>& there) {
  Node& node = inode->node;
  if (standing == Standing::kOccupants) {
    const auto occupant = view.Get(job->occupant);
    if (occupant.ok()) {  // it was deleted or moved here all the same
      (*occupant)->node.remote.version = there->version;
      return view.Save(*occupant);
    }
    standing = there->kind == Kind::kFolder ? Standing::kFolder : Standing::kTheirs;
  }
  if (standing == Standing::kFolder && store_->Can().real_folders) {
    PG_TRY(RenameToConflictCopy(view, inode));  // no file can have that name while it is there
    committer_.DropOccupant(view, job);
    merge_.listing_ages_(view).Distrust(job->parent,
                                        options_.clock->Now());  // who looks there sees it
    NoteConflict(view, job->path, node);
    return {};
  }
  if (standing == Standing::kNothing || standing == Standing::kFolder) {
    // deleted there, changed here: ours comes back
    if (node.remote.place == RemotePlace::kSame || node.remote.place == RemotePlace::kEncoded)
      ForgetRemote(&node);
    committer_.DropOccupant(view, job);
    return view.Save(inode);
  }
  return KeepBothFiles(view, job, inode, *there);
}

Status ConflictResolver::KeepBothFiles(View& view, Job* job, Inode* inode, const Entry& there) {
  Node& node = inode->node;
  if (job->first_try) {  // and was refused: nothing of it is there
    node.attempt = {};
  }
  const NodeId parent = node.parent;
  const std::string name = node.name;
  PG_TRY(RenameToConflictCopy(view, inode));
  PG_ASSIGN(const std::optional<Node> known, view.index().FindRemote(parent, job->key, false));
  Node theirs;
  theirs.parent = parent;
  theirs.name = name;
  theirs.kind = there.attributes.symlink ? NodeKind::kSymlink : NodeKind::kFile;
  theirs.target = there.attributes.symlink.value_or("");
  theirs.remote.place = RemotePlace::kSame;
  if (NameToKey(name) != job->key) SetRemote(&theirs, parent, job->key);
  theirs.remote.version = there.version;
  theirs.size = theirs.remote.size = there.size;
  theirs.mode = there.attributes.mode.value_or(0644);
  theirs.mtime = theirs.ctime = there.attributes.mtime.value_or(there.modified);
  theirs.attributes_known = true;
  committer_.DropOccupant(view, job);
  if (!known || known->gone()) {  // else it is shown already, as a file beside a folder
    PG_TRY(placement_.Inherit(view, &theirs));
    PG_TRY(view.index().Insert(&theirs));
    view.Touch(theirs.id);
    provenance_.recent(view).NoteChanged(theirs.id);
  }
  NoteConflict(view, job->path, node);
  return {};
}

Result<bool> ConflictResolver::FindForeignFileOnPath(const Job& job) {
  if (!store_->Can().real_folders || job.aside) return false;
  std::vector<std::pair<NodeId, std::string>> way;  // of folders, the innermost first
  const Steady asked = options_.clock->Now();
  {
    View view(&tree_);
    if (job.node.kind == NodeKind::kFolder) way.emplace_back(job.id, job.path);
    for (NodeId up = job.parent; up != kRootId && up != kNoNode;) {
      PG_ASSIGN(const std::string key, view.RemotePrefix(up));
      way.emplace_back(up, key.substr(0, key.size() - 1));
      PG_ASSIGN(const Inode* inode, view.Get(up));
      const Node& node = inode->node;
      up = node.remote_parent();
    }
  }
  std::reverse(way.begin(), way.end());
  for (const auto& [folder, path] : way) {
    PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(path, job.call));
    if (!there) break;
    if (there->kind != Kind::kFile) continue;
    PG_TRY(YieldName(folder, path, asked));
    return true;
  }
  View view(&tree_);
  const auto above = view.RemotePrefix(job.parent);
  return !above.ok() || *above + job.key != job.path;  // it has just been kept beside, for another
}

Status ConflictResolver::YieldName(NodeId folder, const std::string& path, Steady asked) {
  View view(&tree_);
  Change change(&view);
  const auto found = view.Get(folder);
  if (!found.ok() || (*found)->node.gone()) return {};
  Inode* inode = *found;
  const NodeId parent = inode->node.parent;
  merge_.listing_ages_(view).Distrust(parent,
                                      options_.clock->Now());  // who looks there sees theirs
  if (inode->node.remote.place != RemotePlace::kNone) {
    PG_ASSIGN(const std::string known, view.RemotePath(inode->node));
    if (known == path) {
      if (!provenance_.AbsenceIsInconclusive(view, inode->node, asked))
        PG_TRY(merge_.RemoteDeleted(view, inode, asked));
      return change.Commit();
    }
  }
  PG_ASSIGN(const std::string above, view.RemotePrefix(parent));
  if (above + KeyPart(inode->node) != path) return {};  // moved here meanwhile
  PG_TRY(RenameToConflictCopy(view, inode));
  const std::string name = inode->node.conflict_copy.original_name, marked = BesideFolder(name);
  PG_ASSIGN(Inode * theirs, view.Find(parent, marked));
  if (theirs != nullptr && theirs->node.remote.name == NameToKey(name)) {  // no folder has it now
    theirs->node.name = name;
    SetRemote(&theirs->node, parent, NameToKey(name));
    PG_TRY(view.Save(theirs));
    view.Emit(Event::NameChanged(parent, marked));
  }
  NoteConflict(view, path, inode->node);
  PG_TRY(change.Commit());
  return {};
}

void ConflictResolver::NoteConflict(View& view, const std::string& path, const Node& kept) {
  view.EmitHappened("here", "conflict", path, "kept as " + kept.name);
  LogAbout(LogLevel::kWarning, {path, "conflict"},
           "{} was changed here and at the store: ours is kept as {}",
           kept.conflict_copy.original_name, kept.name);
  view.Emit(Event::NameChanged(kept.parent, kept.conflict_copy.original_name));
}

Status ConflictResolver::NameKept(View& view, NodeId folder, const std::string& path,
                                  const std::string& kept, const std::string& version) {
  Inode* inode = nullptr;
  for (const std::string& part : Split(path, '/')) {
    PG_ASSIGN(inode, view.Find(folder, KeyToName(part)));
    if (inode == nullptr) return {};
    folder = inode->node.id;
  }
  Node& node = inode->node;
  if (node.remote.place != RemotePlace::kSame ||
      (node.kind == NodeKind::kFolder) != version.empty())
    return {};
  if (node.kind != NodeKind::kFolder && node.remote.version != version)
    return {};  // another's, put where the folder was
  const std::string old = node.name;
  const std::string name = KeyToName(kept.substr(kept.rfind('/') + 1));
  PG_ASSIGN(Inode * taken, view.Find(node.parent, name));
  if (taken != nullptr && taken != inode) {  // one of the same second, that the store has not yet
    PG_ASSIGN(taken->node.name, facts_.ConflictCopyName(view, node.parent, old));
    PG_TRY(view.Save(taken));
    view.Emit(Event::NameChanged(node.parent, name));
  }
  node.conflict_copy.original_name = old;
  node.name = name;
  node.conflict_copy.unsettled = true;
  view.Emit(Event::NameChanged(node.parent, old));
  return view.Save(inode);
}

Status ConflictResolver::RenameToConflictCopy(View& view, Inode* inode) {
  Node& node = inode->node;
  PG_ASSIGN(std::string name, facts_.ConflictCopyName(view, node.parent, node.name));
  node.conflict_copy.original_name = std::exchange(node.name, std::move(name));
  const bool at_its_place =
      node.remote.place == RemotePlace::kSame || node.remote.place == RemotePlace::kEncoded;
  if (at_its_place) {
    ForgetRemote(&node);
  }
  node.conflict_copy.unsettled = true;
  node.upload_log.ForgetSent();
  view.Emit(Event::NameChanged(node.parent, node.name));
  return view.Save(inode);
}

}  // namespace pargeter
