// Planner: what has to happen for one node next. All under the tree lock. (What it has to wait for:
// blockers.cc.)
#include "engine/sync/planner.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/text.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/policy/deletion_guard.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/held_folders.h"
#include "engine/sync/job.h"

namespace pargeter {

namespace {
// A file held open for writing goes up after such a rest (IsBeingWritten).
constexpr Duration kOpenRest(30000), kShortRest(1000), kMostPatience(3600'000);

constexpr std::uint64_t kPatienceFor = 64 * kMiB;  // as long again for each

constexpr Duration kDoubtLasts(200), kLongestLocalWait(2000);

constexpr std::uint64_t kAnywhere = ~0ull;
}  // namespace

Status Planner::PlanJob(View& view, Job* job) {
  PG_ASSIGN(Live * live, view.Get(job->id));
  const auto wait = [job](Duration delay, std::string why) {
    job->postponed = true;
    job->delay = delay;
    job->longest = std::max(delay, kLongestLocalWait);
    job->why = std::move(why);
  };
  job->node = live->node;
  const Node& node = job->node;
  if (node.there != There::kAbsent) {
    PG_ASSIGN(job->there_path, view.TherePath(node));
  }
  if (node.gone() && live->opens + live->old_opens > 0) {  // whoever has it open may still read it
    wait(Duration(1000), "a program has the deleted file open");
    return {};
  }
  if (guard_.IsHeld(view, node) && !IsToBeTakenBack(node) && !HasParts(node.upload)) {
    job->for_person = true;
    wait(Duration(3600'000), "the deletion is held back");
    return {};
  }
  if (node.gone() && node.kind != NodeKind::kFolder && guard_.UntilCounted(view).count() > 0) {
    wait(guard_.UntilCounted(view), "deletions are counted before any of them is sent");
    return {};
  }
  bool goes = provenance_.Goes(node);
  PG_ASSIGN(const std::optional<Blocker> blocker, BlockerOf(view, node));
  if (blocker && blocker->why == Blocker::Why::kDoubt) {  // only for a while: it looks again
    wait(kDoubtLasts, "the outcome of a folder's move above it is not known yet");
    return {};
  }
  if (IsToBeTakenBack(node)) {
    if (!blocker) return PlanTakingBack(view, job, live);
    job->postponed = true;
    job->behind = blocker->id;
    return {};
  }
  if (blocker) {
    // (a deleted folder waits until what moves out of it is out)
    const bool stays = node.gone() && node.kind == NodeKind::kFolder;
    PG_ASSIGN(job->aside, stays ? Result<bool>(false) : WaitsForItself(view, node.id, *blocker));
    if (!job->aside) {
      job->postponed = true;
      job->behind = blocker->id;
      return NoteWaiting(view, live, blocker->id);
    }
  }
  if (respelled_(view).count(node.id) > 0) {
    const bool in_the_way = provenance_.Goes(node) && node.there == There::kElsewhere &&
                            node.there_parent == node.parent &&
                            node.there_name != provenance_.AsideName(node.id);
    if (in_the_way)
      job->aside = true;
    else
      respelled_(view).erase(node.id);
  }
  if (IsBeingWritten(live)) {
    wait(std::min(Duration(1000), options_.open_patience), "a program is writing the file");
    return {};
  }
  if (goes && !job->aside && node.there == There::kAbsent) {
    PG_ASSIGN(const std::optional<Node> held, held_.HeldFolderAt(view, node));
    if (held) {
      PG_TRY(held_.TakePlace(view, live, *held));
      job->node = live->node;
      PG_ASSIGN(job->there_path, view.TherePath(node));
      goes = false;
    }
  }
  return BeginStep(view, job, live, goes);
}

// Nothing is in the way: the step is under way from here on. `goes`: to a new place at the store,
// which is written down before anything is made there.
Status Planner::BeginStep(View& view, Job* job, Live* live, bool goes) {
  const Node& node = job->node;
  live->upload = job->call.cancel;  // under way: whoever wants its place waits
  live->upload_of = node.generation;
  live->upload_end = kAnywhere;
  live->held_since = {};
  if (node.gone()) return {};
  PG_TRY(PlanPlace(view, job, live));
  // (nobody waits for an empty beginning)
  if (job->content && node.copy_of.empty() && job->size > 0) live->upload_end = job->size;
  if (!goes) return {};
  if (node.tried_parent == job->parent && node.tried_name == job->key) return {};
  if (node.tried_parent != kNoNode) return PlanTakingBack(view, job, live);
  job->first_try = true;
  live->node.tried_parent = job->parent;
  live->node.tried_name = job->key;
  // what stands under a name that nobody sees is not forgotten, not even in a power cut
  job->sync_first = job->aside;
  return view.Save(live);
}

// What waits for a person says so.
Status Planner::NoteWaiting(View& view, Live* live, NodeId behind) {
  PG_ASSIGN(const Live* other, view.Get(behind));
  if (!guard_.IsHeld(view, other->node)) return {};
  std::string why = fmt::format("the store has {} there, whose deletion is held back",
                                other->node.kind == NodeKind::kFolder ? "a folder" : "a file");
  if (live->node.error == why) return {};
  live->node.error = std::move(why);
  return view.Save(live);
}

// Held open for writing, and without the rest in which it would go up. After a while a short one
// will do, and then none: what is written behind that which goes up, as to a log, lets it. It goes
// up as a whole each time: a large one is waited for longer.
bool Planner::IsBeingWritten(Live* live) const {
  const Node& node = live->node;
  // (whoever has a copy made is waiting for it)
  if (node.gone() || !node.copy_of.empty() || live->writers == 0) return false;
  const Steady now = options_.clock->Now();
  if (live->held_since == Steady{}) live->held_since = now;
  const auto times = 1 + static_cast<std::int64_t>(node.size / kPatienceFor);
  const Duration patience = std::min(options_.open_patience * times, kMostPatience);
  const auto held = now - live->held_since;
  const Duration rest = held < patience       ? kOpenRest
                        : held < 2 * patience ? kShortRest
                                              : Duration(0);
  return now - live->last_write < rest;
}

// It was tried, or has been, where it is not meant to be any more.
bool Planner::IsToBeTakenBack(const Node& node) const {
  const bool on_its_way =
      provenance_.Goes(node) &&
      ((node.tried_parent == node.parent && node.tried_name == KeyPart(node)) ||
       (node.tried_parent == kRootId && node.tried_name == provenance_.AsideName(node.id)));
  return node.tried_parent != kNoNode && !on_its_way;
}

// Where the node goes, what is there now, and what goes with it.
Status Planner::PlanPlace(View& view, Job* job, Live* live) {
  const Node& node = live->node;
  if (job->aside) {
    job->parent = kRootId;
    job->key = job->path = provenance_.AsideName(node.id);
    job->only_if = Precondition::Anything();  // nobody else uses that name
  } else {
    job->parent = node.parent;
    job->key = KeyPart(node);
    PG_ASSIGN(const std::string folder, view.FolderKey(node.parent));
    job->path = folder + job->key;
    for (NodeId up = node.parent; up != kRootId;) {
      PG_ASSIGN(const Live* above, view.Get(up));
      const Node& one = above->node;
      const NodeId in = one.remote_parent();
      job->above.push_back({one.id, in, ThereName(one)});
      up = in;
    }
    job->only_if = node.there == There::kSame || node.there == There::kSpelled
                       ? Precondition::Is(node.version)
                       : Precondition::Absent();
    PG_ASSIGN(std::optional<Node> other,
              view.index().FindThere(node.parent, job->key, node.kind == NodeKind::kFolder));
    if (other && other->id != node.id && other->gone()) {
      job->occupant = other->id;
      job->only_if = Precondition::Is(other->version);
    }
  }
  Attributes& a = job->attributes;
  a.mode = node.mode;
  a.mtime = node.mtime;
  if (node.uid >= 0) a.uid = static_cast<std::uint32_t>(node.uid);
  if (node.gid >= 0) a.gid = static_cast<std::uint32_t>(node.gid);
  if (node.kind == NodeKind::kSymlink) a.symlink = node.target;
  a.origin = provenance_.OriginOf(node.id);
  job->size = node.kind == NodeKind::kSymlink ? 0 : node.size;
  if (node.kind == NodeKind::kFile && (node.dirty & kData)) {
    PG_ASSIGN(job->content, contents_.ContentOf(view, live));
    const Lock lock(job->content->mu);
    job->content->same_until = job->content->about_to_change > 0 ? 0 : ~0ull;
  }
  return {};
}

// A former attempt at another place may have come to something: that goes first.
Status Planner::PlanTakingBack(View& view, Job* job, Live* live) {
  Node& node = live->node;
  const auto folder = view.FolderKey(node.tried_parent);
  if (folder.ok()) {
    job->tried_path = *folder + node.tried_name;
    return {};
  }
  node.tried_parent = kNoNode;  // its folder is gone from the store, and what was tried with it
  node.tried_name.clear();
  job->postponed = true;
  return view.Save(live);
}

// Of what a move has left behind: the path of what moved, if that only got another spelling.
std::string Planner::SpelledNow(View& view, const Node& left) {
  if (!left.name.empty()) return "";
  const auto moved = view.Get(provenance_.WrittenBy(left.target));
  if (!moved.ok()) return "";
  const Node& node = (*moved)->node;
  if (node.there == There::kAbsent) return "";
  const bool elsewhere = node.there == There::kElsewhere;
  const NodeId folder = elsewhere ? node.there_parent : node.parent;
  if (folder != left.there_parent || !DifferInSpelling(ThereName(node), left.there_name)) return "";
  const auto path = view.TherePath(node);
  return path.ok() ? *path : "";
}

}  // namespace pargeter
