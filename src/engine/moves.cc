// Engine: copies and moves that the store makes by itself, and folders. (Of folders that go object
// by object: folder_moves.cc.)
#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "engine/engine.h"
#include "engine/job.h"
#include "engine/sent.h"
#include "engine/tree/naming.h"

namespace pargeter {

namespace {
constexpr Duration kHeldOpen(5000);
constexpr Duration kAloneWithin(600'000), kAloneAgain(200);  // for a folder's move
}  // namespace

bool Engine::CopiedInParts(std::uint64_t size) const {
  const std::uint64_t above = store_->Can().copies_in_parts_above;
  return above > 0 && size > above;
}

// A move, a copy of another file, or new attributes: the store copies, no bytes come through here.
Result<Engine::Outcome> Engine::CopyFile(Job* job) {
  const Node& node = job->node;
  const bool copy_of = !node.copy_of.empty();
  const std::string from = copy_of ? node.copy_of : job->there_path;
  const std::string version = copy_of ? node.copy_version : node.version;
  const bool move = !copy_of && from != job->path;
  const bool attributes = copy_of || !move || (node.dirty & kAttributes);
  const Precondition only_if = from == job->path ? Precondition::Anything() : job->only_if;
  const bool in_one = move && store_->Can().moves_files;
  Sent how = in_one ? Sent::kMove : move ? Sent::kCopy : Sent::kBytes;
  const std::uint64_t size = copy_of ? node.size : node.there_size;
  PG_TRY(EndParts(node.upload, job->call));
  const bool in_parts = !in_one && CopiedInParts(size);
  if (in_parts) PG_TRY(JournalUnknownParts(job->id, job->path));
  // it may be made though nobody learns of it: its time tells it then
  const bool here = from == job->path;
  const bool told = store_->Can().tells_writer && SignTells(node, job->Place());
  if ((here || (copy_of && !told)) && !in_parts && job->attributes.mtime)
    PG_TRY(JournalSent(*job, TimeMark(size, *job->attributes.mtime)));
  auto entry = in_one ? store_->MoveFile(from, version, job->path, only_if, job->call)
                      : store_->Copy(from, version, size, job->path,
                                     attributes ? &job->attributes : nullptr, only_if, job->call);
  if (!entry.ok() && in_parts) {
    if (MayRetry(entry.error().code)) return entry.error();
    PG_TRY(EndParts("?\n" + job->path, job->call));
  }
  job->parts_ended = true;
  if (!entry.ok() && move && !job->aside && MayBeItself(entry.error().code)) {
    PG_ASSIGN(const bool itself, IsItself(*job, job->path));
    if (itself) return GoAside(job);
  }
  if (!entry.ok() &&
      (entry.error().code == Code::kChanged || entry.error().code == Code::kNotFound)) {
    PG_ASSIGN(std::optional<Entry> target, store_->LookIfThere(job->path, job->call));
    bool made = false;
    if (move && target) {
      PG_ASSIGN(made, MadeBefore(*job, from, entry.error().code, *target));
    }
    if (!made) return ResolveRefusedCopy(job, from, version);
    entry = std::move(*target);  // made by a former attempt, whose answer was lost
    if (!in_one) how = Sent::kCopyBefore;
  }
  if (!entry.ok()) return entry.error();
  PG_TRY(CommitUpload(job, *entry, how));
  return Outcome::kDone;
}

// The store refused to copy `version` of `from`, since the original or the target is another one
// than planned, and the target is not our own copy.
Result<Engine::Outcome> Engine::ResolveRefusedCopy(Job* job, const std::string& from,
                                                   const std::string& version) {
  const Node& node = job->node;
  const bool copy_of = !node.copy_of.empty();
  PG_ASSIGN(std::optional<Entry> source, store_->LookIfThere(from, job->call));
  if (source && source->kind == Kind::kFolder) source.reset();
  if (source && source->version == version) {
    if (from == job->path && !copy_of)  // it was away for a moment; nothing here is newer
      return Error(
          Code::kStoreFault,
          fmt::format("the store says of {} now one version and now another", Printable(from)));
    // The original is unchanged, so the store refused because of the target. The target may be
    // our own copy, made by a request whose answer was lost: Conflict compares its bytes with
    // those of the original, which have to be here for that.
    if (copy_of)
      PG_TRY(EnsurePresent(job->content, {0, job->size}, {0, 0},
                           options_.clock->Now() + std::chrono::hours(1), Traffic::kUpload));
    return Conflict(job);
  }
  if (copy_of) {
    // the original was replaced before it was copied, and nobody was told that it was
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(job->id));
    if (live->node.generation == node.generation) PG_TRY(GiveUpCopy(view, live));
    return Outcome::kAgain;
  }
  bool ours = false;
  if (source) {
    PG_ASSIGN(ours, OnlyAttributesDiffer(node, from, *source, job->call));
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  job->delay = Duration(100);
  if (ours && live->node.version == version) {  // whatever is done with it here meanwhile
    PG_TRY(AdoptVersion(view, live, *source));
    PG_TRY(change.Commit());
    return Outcome::kAgain;
  }
  // about to be written here: looked at again now and then
  if (live->writers > 0) job->delay = std::min(kHeldOpen, options_.open_patience);
  // written here since it was planned, or about to be: then it is no mere move any more
  if (live->node.generation != node.generation || live->writers > 0) return Outcome::kAgain;
  // deleted here since: that was of the version that was seen, and not of this one
  if (live->node.gone()) return Outcome::kAgain;
  if (source) {
    NewVersion(view, live, *source);  // changed there, moved here: the new version moves
    PG_TRY(view.Save(live));
    PG_TRY(change.Commit());
    return Outcome::kAgain;
  }
  live->node.intent = 0;  // deleted there, moved here: nothing of ours is lost with it
  PG_TRY(VanishedThere(view, live, options_.clock->Now()));
  PG_TRY(change.Commit());
  return Outcome::kDone;
}

// Was what stands at the new place brought there by a former attempt? Others may have put another
// file at the old one since.
Result<bool> Engine::MadeBefore(const Job& job, const std::string& from, Code refused,
                                const Entry& target) {
  const std::string& version = job.node.version;
  if (store_->Can().moves_files && refused != Code::kNotFound) {
    if (target.version != version) return false;
    PG_ASSIGN(const std::optional<Entry> source, store_->LookIfThere(from, job.call));
    if (source && source->version == version) return false;  // it is still there
  }
  return IsCopy(job, "", from, version, job.node.there_size, target);
}

// What stands there is what we knew, with attributes that we sent, and nobody learnt that they
// came.
Result<bool> Engine::OnlyAttributesDiffer(const Node& node, const std::string& path,
                                          const Entry& there, const Call& call) {
  // (that it is of this node is not enough: a power cut may have taken the memory of an upload)
  if (!(node.dirty & kAttributes) || there.size != node.there_size) return false;
  // other bytes, though as many and of the same second
  if (there.version != node.version && store_->TellsContent(node.version) &&
      store_->TellsContent(there.version))
    return false;
  PG_ASSIGN(const bool sent, WasSent(node, PlaceThere(node), path, there, call));
  if (!sent || !there.attributes.origin.empty()) return sent;
  // nobody says whose it is: compared, if all of it is here
  std::shared_ptr<Content> content;
  {
    View view(&tree_);
    const auto live = view.Get(node.id);
    if (!live.ok() || (*live)->node.kind != NodeKind::kFile) return sent;
    PG_ASSIGN(content, ContentOf(view, *live));
    const Lock lock(content->mu);
    const bool same = content->place == BlockStore::Place::kCache && !content->written &&
                      content->source.version == node.version;
    if (!same || !content->present.Missing({0, there.size}).empty()) return sent;
  }
  HereSource source(content, there.size, options_.disk);
  return store_->HoldsContent(path, there, &source, call);
}

// Its bytes are those that are here, and all that is to be sent still is.
Status Engine::AdoptVersion(View& view, Live* live, const Entry& there) {
  live->node.version = there.version;
  if (live->content) {
    const Lock lock(live->content->mu);
    live->content->source.version = there.version;
  }
  acked_(view)[live->node.id] = options_.clock->Now();
  return view.Save(live);
}

Result<Engine::Outcome> Engine::SendFolder(Job* job) {
  const Status made = store_->MakeFolder(job->path, job->attributes, job->call);
  if (!made.ok()) {
    if (made.error().code != Code::kChanged) return made.error();
    PG_ASSIGN(const bool meets, MeetsFile(*job));
    if (!meets) return made.error();
    job->delay = Duration(100);
    return Outcome::kAgain;
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Node& node = live->node;
  const bool is_new = node.there == There::kAbsent;
  node.marker = node.attributes_known = true;
  node.error.clear();
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  if (SameAttributes(node, job->node)) node.dirty &= ~(kAttributes | kOwn);
  if (node.gone()) {
    node.there = There::kElsewhere;
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
    // nobody else can have put anything in before it was there
    if (is_new && node.listed_at == 0) node.listed_at = options_.clock->Wall();
  }
  acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(AboveIsThere(view, *job));
  if (job->occupant != kNoNode) PG_TRY(TakeOver(view, job->id, job->occupant, job->came));
  if (!node.gone() && node.there != There::kElsewhere && node.dirty == kClean) node.intent = 0;
  PG_TRY(view.Save(live));
  PG_TRY(change.Commit());
  return node.intent == 0 ? Outcome::kDone : Outcome::kAgain;
}

// In one request where the store has such a one. Else every object below the old name is brought to
// the new one, then the folder's place is changed, then what was copied goes. Begun again after a
// crash it finds what is left to do: copies are the same copies, and the folder's place changes
// only when all is done.
Result<Engine::Outcome> Engine::MoveFolder(Job* job) {
  // what is on its way into the folder would be left at its former place
  const Outbox::Alone alone(&outbox_, job->id, options_.clock->Now() + kAloneWithin);
  if (!alone) {
    job->delay = kAloneAgain;
    job->longest = kAloneAgain * 10;
    job->why = "other changes are under way, and the folder moves alone";
    return Outcome::kAgain;
  }
  bool unsure = false;
  {
    // others may have changed what was planned before they were done
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(job->id));
    if (live->node.there != There::kElsewhere || live->node.gone()) return Outcome::kAgain;
    Job fresh;
    fresh.id = job->id;
    fresh.call = job->call;
    *job = std::move(fresh);
    PG_TRY(PlanJob(view, job));
    if (job->postponed) return job->behind != kNoNode ? Outcome::kParked : Outcome::kAgain;
    PG_ASSIGN(unsure, WasTriedBelow(view, job->id));
    if (job->occupant != kNoNode) PG_TRY(HeldBelow(view, job->occupant, "", &job->standing));
    if (const auto it = kept_below_(view).find(job->id); it != kept_below_(view).end())
      job->kept = it->second;
    if (const auto it = copied_below_(view).find(job->id); it != copied_below_(view).end())
      job->left = it->second;
  }
  if (!job->tried_path.empty()) return TakeBack(job);
  if (unsure && MayBeLate(job)) return Outcome::kAgain;
  bool whole = false;  // in one request, with all that is in it
  Status moved = Error(Code::kChanged, "");
  if (store_->Can().moves_folders) {
    moved = store_->MoveFolder(job->there_path, job->path, job->call);
    whole = moved.ok();
  }
  if (!whole && !job->aside && MayBeItself(moved.error().code)) {
    PG_ASSIGN(const bool itself, IsItself(*job, job->path));
    if (itself) return GoAside(job);
  }
  // something is in the way: ours goes beside it; or others deleted it: nothing is to be moved
  if (!whole && moved.error().code != Code::kChanged && moved.error().code != Code::kNotFound)
    return moved.error();
  if (!whole) {
    PG_ASSIGN(const bool meets, MeetsFile(*job));
    job->delay = Duration(100);
    if (meets) return Outcome::kAgain;
    const Status brought = BringBelow(job);
    {
      View view(&tree_);
      kept_below_(view)[job->id] = job->kept;
    }
    PG_TRY(brought);
  }
  if (job->occupant != kNoNode) PG_TRY(SeeWhatCame(job));

  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Node& node = live->node;
  if (job->occupant != kNoNode) PG_TRY(TakeOver(view, job->id, job->occupant, job->came));
  removed_(view)[{node.there_parent, node.there_name}] = options_.clock->Now();
  not_there_(view).erase(job->id);
  // from here on the folder is at its new place, and what is at the old one is taken back
  node.tried_parent = whole ? kNoNode : node.there_parent;
  node.tried_name = whole ? "" : node.there_name;
  if (node.gone()) {
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
  }
  acked_(view)[node.id] = options_.clock->Now();
  // what was there, or is said there by what was deleted here and is held back, is not ours
  if (!whole && (store_->Can().real_folders || job->occupant != kNoNode)) node.dirty |= kAttributes;
  PG_TRY(AboveIsThere(view, *job));
  PG_TRY(view.Save(live));
  PG_TRY(TakeCopies(view, node.id, job->copied));
  if (!whole && !job->copied.empty()) copied_below_(view)[node.id] = std::move(job->copied);
  if (whole) job->kept.clear();  // what a former attempt named so is gone
  for (auto one = job->kept.rbegin(); one != job->kept.rend(); ++one)
    PG_TRY(NameKept(view, node.id, one->path, one->name, one->version));
  kept_below_(view).erase(node.id);
  ReadOnFromNewPlaces(view);
  listed_(view).clear();
  PG_TRY(change.Commit());
  // before anything comes to its former place: moved once more after a power cut, it would take
  // that along
  PG_TRY(view.Sync());
  tree_.NotifyAll();
  job->delay = Duration(0);
  return Outcome::kAgain;
}

// What is open, after a folder has moved.
void Engine::ReadOnFromNewPlaces(View& view) {
  for (auto& [id, other] : view.inodes()) {
    if (!other->content || other->node.there == There::kAbsent || other->node.gone()) continue;
    auto path = view.TherePath(other->node);
    const Lock lock(other->content->mu);
    if (path.ok() && other->node.copy_of.empty()) other->content->source.path = *path;
  }
}

// Something in it may have been sent by a request without an answer, and may come yet.
Result<bool> Engine::WasTriedBelow(View& view, NodeId folder) {
  PG_ASSIGN(const std::vector<NodeId> above, view.index().TriedIn());
  for (NodeId up : above) {
    while (up != kNoNode && up != kRootId && up != folder) {
      const auto live = view.Get(up);
      up = live.ok() ? (*live)->node.parent : kNoNode;
    }
    if (up == folder) return true;
  }
  return false;
}

}  // namespace pargeter
