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

namespace {
constexpr Duration kSoon(100);  // until the next look at a place that changes
}  // namespace

Result<Outcome> ConflictResolver::GoAside(Job* job) {
  const bool folder = job->node.kind == NodeKind::kFolder;
  if (folder ? !store_->Can().moves_folders : !store_->Can().moves_files)
    return Error(Code::kPermission,
                 fmt::format("the store takes {} and {} for one name", Printable(job->there_path),
                             Printable(job->path)),
                 "Give it a name that differs in more than case.");
  View view(&tree_);
  planner_.respelled_(view).insert(job->id);
  job->delay = Duration(0);
  return Outcome::kAgain;
}

// Whose is what stands at the place where this node goes? Asked step by step: each answer that
// costs a request is sought only if those before it do not decide.
Result<ConflictResolver::Standing> ConflictResolver::Classify(Job* job,
                                                              const std::optional<Entry>& there) {
  if (!there) return Standing::kNothing;
  const Node& node = job->node;
  const bool folder = there->kind == Kind::kFolder;
  if (node.there == There::kElsewhere && !job->aside) {
    PG_ASSIGN(const bool itself, evidence_.IsItself(*job, job->path));
    if (itself) return Standing::kItself;
  }
  if (!folder && node.kind == NodeKind::kFile && job->content) {
    ContentSource source(job->content, 0, job->size, options_.disk);
    PG_ASSIGN(const bool held, store_->HoldsContent(job->path, *there, &source, job->call));
    if (held) return Standing::kSameBytes;
  }
  // what is here must be all that is wanted: nothing may be needed of what stands there
  const bool whole = node.there == There::kAbsent || node.there == There::kElsewhere ||
                     (job->content != nullptr && (node.dirty & kData) != 0);
  if (!folder && whole) {
    PG_ASSIGN(const bool late, evidence_.IsLate(*job, *there));
    if (late) return Standing::kLate;
  }
  PG_ASSIGN(const bool ours, IsOurs(*job, *there));
  if (ours) return Standing::kOurs;
  PG_ASSIGN(const bool occupants, IsOccupants(*job, *there));
  if (occupants) return Standing::kOccupants;
  return folder ? Standing::kFolder : Standing::kTheirs;
}

// What we sent, copied or moved there before, with a lost answer.
Result<bool> ConflictResolver::IsOurs(const Job& job, const Entry& there) {
  PG_ASSIGN(const bool sent, provenance_.WasSent(job.node, job.Place(), job.path, there, job.call));
  if (sent) return evidence_.IsWhatIsKnown(job, there);
  const bool tried = job.node.tried_parent == job.parent && job.node.tried_name == job.key;
  if (!tried && there.attributes.origin != provenance_.OriginOf(job.id)) return false;
  PG_ASSIGN(const bool made, evidence_.MadeBy(job, there));
  if (made || !tried) return made;
  return evidence_.WentThere(job, there);
}

// What the node whose place this is, and which is deleted or moved here, sent there before.
Result<bool> ConflictResolver::IsOccupants(const Job& job, const Entry& there) {
  if (job.occupant == kNoNode) return false;
  std::optional<Node> occupant;
  {
    View view(&tree_);
    if (const auto live = view.Get(job.occupant); live.ok()) occupant = (*live)->node;
  }
  if (!occupant) return false;
  PG_ASSIGN(const bool sent,
            provenance_.WasSent(*occupant, job.Place(), job.path, there, job.call));
  return sent || (there.attributes.origin == provenance_.WriterOf(*occupant) &&
                  provenance_.SignTells(*occupant, job.Place()));
}

// The store has something else than we knew at the place where this node goes.
Result<Outcome> ConflictResolver::Conflict(Job* job) {
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(job->path, job->call));
  PG_ASSIGN(const Standing standing, Classify(job, there));
  switch (standing) {
    case Standing::kItself:
      return GoAside(job);
    case Standing::kSameBytes:
      return AdoptSameBytes(job, *there);
    case Standing::kLate: {
      job->delay = kSoon;
      const Status gone = store_->Remove(job->path, Precondition::Is(there->version), job->call);
      if (!gone.ok() && gone.error().code != Code::kChanged) return gone.error();
      return Outcome::kAgain;
    }
    default:
      break;
  }
  job->delay = kSoon;
  if (!there && provenance_.Goes(job->node)) {
    PG_ASSIGN(const bool meets, MeetsFile(*job));
    if (meets) return Outcome::kAgain;
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  const Node& node = live->node;
  if (standing == Standing::kOurs) {
    PG_TRY(AdoptOurs(view, job, live, *there));
    PG_TRY(change.Commit());
    return Outcome::kAgain;
  }
  // moved or deleted here meanwhile: what stands there is in nobody's way any more
  if (node.gone() || node.parent != job->parent || KeyPart(node) != job->key)
    return Outcome::kAgain;
  PG_TRY(Resolve(view, job, live, standing, there));
  PG_TRY(change.Commit());
  return Outcome::kAgain;
}

// Our own upload, whose answer was lost, or the same bytes from another side.
Result<Outcome> ConflictResolver::AdoptSameBytes(Job* job, const Entry& there) {
  const Attributes& a = there.attributes;
  const bool with_attributes =
      (store_->Can().tells_writer || a.origin == provenance_.OriginOf(job->id)) &&
      a.mode == job->attributes.mode && a.uid == job->attributes.uid &&
      a.gid == job->attributes.gid && a.mtime == job->attributes.mtime;
  PG_TRY(
      committer_.CommitUpload(job, there, with_attributes ? SentAs::kBytes : SentAs::kBytesAlone));
  return with_attributes ? Outcome::kDone : Outcome::kAgain;
}

// It was changed here once more since: the step goes on from there.
Status ConflictResolver::AdoptOurs(View& view, Job* job, Live* live, const Entry& there) {
  Node& node = live->node;
  node.version = there.version;
  node.there_size = there.size;
  SetThere(&node, job->parent, job->key);
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  if (!HasParts(node.upload)) node.upload.clear();
  if (live->content) {
    const Lock lock(live->content->mu);
    live->content->source.path = job->path;
    live->content->source.version = there.version;
  }
  provenance_.acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(committer_.LeaveOldPlace(view, *job, SentAs::kCopyBefore));
  committer_.DropOccupant(view, job);
  return view.Save(live);
}

// What becomes of the node that is still to go there.
Status ConflictResolver::Resolve(View& view, Job* job, Live* live, Standing standing,
                                 const std::optional<Entry>& there) {
  Node& node = live->node;
  if (standing == Standing::kOccupants) {
    const auto occupant = view.Get(job->occupant);
    if (occupant.ok()) {  // it was deleted or moved here all the same
      (*occupant)->node.version = there->version;
      return view.Save(*occupant);
    }
    standing = there->kind == Kind::kFolder ? Standing::kFolder : Standing::kTheirs;
  }
  if (standing == Standing::kFolder && store_->Can().real_folders) {
    PG_TRY(KeepBeside(view, live));  // no file can have that name while it is there
    committer_.DropOccupant(view, job);
    merge_.listed_(view).erase(job->parent);  // who looks there sees it
    NoteConflict(view, job->path, node);
    return {};
  }
  if (standing == Standing::kNothing || standing == Standing::kFolder) {
    // deleted there, changed here: ours comes back
    if (node.there == There::kSame || node.there == There::kSpelled) ForgetThere(&node);
    committer_.DropOccupant(view, job);
    return view.Save(live);
  }
  return StandBeside(view, job, live, *there);
}

// Changed on both sides: theirs keeps the name, ours stands beside it.
Status ConflictResolver::StandBeside(View& view, Job* job, Live* live, const Entry& there) {
  Node& node = live->node;
  if (job->first_try) {  // and was refused: nothing of it is there
    node.tried_parent = kNoNode;
    node.tried_name.clear();
  }
  const NodeId parent = node.parent;
  const std::string name = node.name;
  PG_TRY(KeepBeside(view, live));
  PG_ASSIGN(const std::optional<Node> known, view.index().FindThere(parent, job->key, false));
  Node theirs;
  theirs.parent = parent;
  theirs.name = name;
  theirs.kind = there.attributes.symlink ? NodeKind::kSymlink : NodeKind::kFile;
  theirs.target = there.attributes.symlink.value_or("");
  theirs.there = There::kSame;
  if (NameToKey(name) != job->key) SetThere(&theirs, parent, job->key);
  theirs.version = there.version;
  theirs.size = theirs.there_size = there.size;
  theirs.mode = there.attributes.mode.value_or(0644);
  theirs.mtime = theirs.ctime = there.attributes.mtime.value_or(there.modified);
  theirs.attributes_known = true;
  committer_.DropOccupant(view, job);
  if (!known || known->gone()) {  // else it is shown already, as a file beside a folder
    PG_TRY(placement_.Inherit(view, &theirs));
    PG_TRY(view.index().Insert(&theirs));
    view.Touch(theirs.id);
    provenance_.acked_(view)[theirs.id] = options_.clock->Now();
  }
  NoteConflict(view, job->path, node);
  return {};
}

// On a store that has one thing at a path, of a step that was refused: have others given a file the
// name of a folder of ours that it is of, or goes into? Nothing can be in that while it is there:
// the step is planned again.
Result<bool> ConflictResolver::MeetsFile(const Job& job) {
  if (!store_->Can().real_folders || job.aside) return false;
  std::vector<std::pair<NodeId, std::string>> way;  // of folders, the innermost first
  const Steady asked = options_.clock->Now();
  {
    View view(&tree_);
    if (job.node.kind == NodeKind::kFolder) way.emplace_back(job.id, job.path);
    for (NodeId up = job.parent; up != kRootId && up != kNoNode;) {
      PG_ASSIGN(const std::string key, view.FolderKey(up));
      way.emplace_back(up, key.substr(0, key.size() - 1));
      PG_ASSIGN(const Live* live, view.Get(up));
      const Node& node = live->node;
      up = node.remote_parent();
    }
  }
  std::reverse(way.begin(), way.end());
  for (const auto& [folder, path] : way) {
    PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(path, job.call));
    if (!there) break;
    if (there->kind != Kind::kFile) continue;
    PG_TRY(GivesWay(folder, path, asked));
    return true;
  }
  View view(&tree_);
  const auto above = view.FolderKey(job.parent);
  return !above.ok() || *above + job.key != job.path;  // it has just been kept beside, for another
}

// A file of others is at `path`, where the folder is, or goes: it is there no more, or stands
// beside that.
Status ConflictResolver::GivesWay(NodeId folder, const std::string& path, Steady asked) {
  View view(&tree_);
  Change change(&view);
  const auto found = view.Get(folder);
  if (!found.ok() || (*found)->node.gone()) return {};
  Live* live = *found;
  const NodeId parent = live->node.parent;
  merge_.listed_(view).erase(parent);  // who looks there sees theirs
  if (live->node.there != There::kAbsent) {
    PG_ASSIGN(const std::string known, view.TherePath(live->node));
    if (known == path) {
      if (!provenance_.MayBeElsewhere(view, live->node, asked))
        PG_TRY(merge_.VanishedThere(view, live, asked));
      return change.Commit();
    }
  }
  PG_ASSIGN(const std::string above, view.FolderKey(parent));
  if (above + KeyPart(live->node) != path) return {};  // moved here meanwhile
  PG_TRY(KeepBeside(view, live));
  const std::string name = live->node.beside, marked = BesideFolder(name);
  PG_ASSIGN(Live * theirs, view.Find(parent, marked));
  if (theirs != nullptr && theirs->node.there_name == NameToKey(name)) {  // no folder has it now
    theirs->node.name = name;
    SetThere(&theirs->node, parent, NameToKey(name));
    PG_TRY(view.Save(theirs));
    view.Emit(Event::NameChanged(parent, marked));
  }
  NoteConflict(view, path, live->node);
  PG_TRY(change.Commit());
  return {};
}

void ConflictResolver::NoteConflict(View& view, const std::string& path, const Node& kept) {
  view.EmitHappened("here", "conflict", path, "kept as " + kept.name);
  LogAbout(LogLevel::kWarning, {path, "conflict"},
           "{} was changed here and at the store: ours is kept as {}", kept.beside, kept.name);
  view.Emit(Event::NameChanged(kept.parent, kept.beside));
}

// A moved folder met another of its name: `path` below it is `kept` there now.
Status ConflictResolver::NameKept(View& view, NodeId folder, const std::string& path,
                                  const std::string& kept, const std::string& version) {
  Live* live = nullptr;
  for (const std::string& part : Split(path, '/')) {
    PG_ASSIGN(live, view.Find(folder, KeyToName(part)));
    if (live == nullptr) return {};
    folder = live->node.id;
  }
  Node& node = live->node;
  if (node.there != There::kSame || (node.kind == NodeKind::kFolder) != version.empty()) return {};
  if (node.kind != NodeKind::kFolder && node.version != version)
    return {};  // another's, put where the folder was
  const std::string old = node.name;
  const std::string name = KeyToName(kept.substr(kept.rfind('/') + 1));
  PG_ASSIGN(Live * taken, view.Find(node.parent, name));
  if (taken != nullptr && taken != live) {  // one of the same second, that the store has not yet
    PG_ASSIGN(taken->node.name, facts_.NameBeside(view, node.parent, old));
    PG_TRY(view.Save(taken));
    view.Emit(Event::NameChanged(node.parent, name));
  }
  node.beside = old;
  node.name = name;
  node.conflict = true;
  view.Emit(Event::NameChanged(node.parent, old));
  return view.Save(live);
}

Status ConflictResolver::KeepBeside(View& view, Live* live) {
  Node& node = live->node;
  PG_ASSIGN(std::string name, facts_.NameBeside(view, node.parent, node.name));
  node.beside = std::exchange(node.name, std::move(name));
  const bool at_its_place = node.there == There::kSame || node.there == There::kSpelled;
  if (at_its_place) {
    node.there = There::kAbsent;
    node.there_parent = kNoNode;
    node.there_name.clear();
    node.version.clear();
  }
  node.conflict = true;
  if (!HasParts(node.upload)) node.upload.clear();
  view.Emit(Event::NameChanged(node.parent, node.name));
  return view.Save(live);
}

}  // namespace pargeter
