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

constexpr Duration kDoubtLasts(200), kLongestLocalWait(2000), kHeldFor(3600'000);

constexpr std::uint64_t kAnywhere = ~0ull;
}  // namespace

Result<std::optional<Outcome>> Planner::PlanJob(View& view, Job* job) {
  using Wait = std::optional<Outcome>;
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  const auto wait = [](Duration delay, std::string why) {
    return Wait(Outcome::Again(delay, std::move(why), std::max(delay, kLongestLocalWait)));
  };
  job->node = inode->node;
  const Node& node = job->node;
  if (node.remote.place != RemotePlace::kNone) {
    PG_ASSIGN(job->there_path, view.RemotePath(node));
  }
  if (node.gone() &&
      inode->opens + inode->detached_opens > 0) {  // whoever has it open may still read it
    return wait(kWhileOpen, "a program has the deleted file open");
  }
  if (guard_.IsHeld(view, node) && !HasStaleAttempt(node) && !node.upload_log.multipart()) {
    Outcome held = Outcome::Again(kHeldFor, "the deletion is held back", kHeldFor);
    held.refusal = Error(Code::kRefused, held.why, "See: pargeter queue");
    return Wait(held);
  }
  if (node.gone() && node.kind != NodeKind::kFolder && guard_.WaitBeforeSending(view).count() > 0) {
    return wait(guard_.WaitBeforeSending(view), "deletions are counted before any of them is sent");
  }
  bool goes = provenance_.NeedsRemotePlace(node);
  PG_ASSIGN(const std::optional<Blocker> blocker, BlockerOf(view, node));
  if (blocker && blocker->why == Blocker::Why::kDoubt) {  // only for a while: it looks again
    return wait(kDoubtLasts, "the outcome of a folder's move above it is not known yet");
  }
  if (HasStaleAttempt(node)) {
    if (!blocker) return PlanRollback(view, job, inode);
    return Wait(Outcome::Behind(blocker->id));
  }
  if (blocker) {
    // (a deleted folder waits until what moves out of it is out)
    const bool stays = node.gone() && node.kind == NodeKind::kFolder;
    PG_ASSIGN(job->aside, stays ? Result<bool>(false) : WaitsForItself(view, node.id, *blocker));
    if (!job->aside) {
      PG_TRY(RecordWait(view, inode, blocker->id));
      return Wait(Outcome::Behind(blocker->id));
    }
  }
  if (needs_temp_name_(view).count(node.id) > 0) {
    const bool in_the_way =
        provenance_.NeedsRemotePlace(node) && node.remote.place == RemotePlace::kMoved &&
        node.remote.parent == node.parent && node.remote.name != provenance_.TempName(node.id);
    if (in_the_way)
      job->aside = true;
    else
      needs_temp_name_(view).erase(node.id);
  }
  if (IsBeingWritten(inode)) {
    return wait(std::min(kWhileOpen, options_.open_patience), "a program is writing the file");
  }
  if (goes && !job->aside && node.remote.place == RemotePlace::kNone) {
    PG_ASSIGN(const std::optional<Node> held, held_.HeldFolderAt(view, node));
    if (held) {
      PG_TRY(held_.ReplaceHeldFolder(view, inode, *held));
      job->node = inode->node;
      PG_ASSIGN(job->there_path, view.RemotePath(node));
      goes = false;
    }
  }
  return BeginStep(view, job, inode, goes);
}

Result<std::optional<Outcome>> Planner::BeginStep(View& view, Job* job, Inode* inode, bool goes) {
  const std::optional<Outcome> nothing;
  const Node& node = job->node;
  inode->upload = job->call.cancel;  // under way: whoever wants its place waits
  inode->sent_generation = node.generation;
  inode->sent_prefix = kAnywhere;
  inode->held_since = {};
  if (node.gone()) return nothing;
  PG_TRY(PlanPlace(view, job, inode));
  // (nobody waits for an empty beginning)
  if (job->content && node.copy.path.empty() && job->size > 0) inode->sent_prefix = job->size;
  if (!goes) return nothing;
  if (node.attempt == Attempt{job->parent, job->key}) return nothing;
  if (node.attempt.parent != kNoNode) return PlanRollback(view, job, inode);
  job->first_try = true;
  inode->node.attempt = {job->parent, job->key};
  // what stands under a name that nobody sees is not forgotten, not even in a power cut
  job->sync_first = job->aside;
  PG_TRY(view.Save(inode));
  return nothing;
}

Status Planner::RecordWait(View& view, Inode* inode, NodeId behind) {
  PG_ASSIGN(const Inode* other, view.Get(behind));
  if (!guard_.IsHeld(view, other->node)) return {};
  std::string why = fmt::format("the store has {} there, whose deletion is held back",
                                other->node.kind == NodeKind::kFolder ? "a folder" : "a file");
  if (inode->node.pending.error == why) return {};
  inode->node.pending.error = std::move(why);
  return view.Save(inode);
}

bool Planner::IsBeingWritten(Inode* inode) const {
  const Node& node = inode->node;
  // (whoever has a copy made is waiting for it)
  if (node.gone() || !node.copy.path.empty() || inode->writers == 0) return false;
  const Steady now = options_.clock->Now();
  if (inode->held_since == Steady{}) inode->held_since = now;
  const auto times = 1 + static_cast<std::int64_t>(node.size / kPatienceFor);
  const Duration patience = std::min(options_.open_patience * times, kMostPatience);
  const auto held = now - inode->held_since;
  const Duration rest = held < patience       ? kOpenRest
                        : held < 2 * patience ? kShortRest
                                              : Duration(0);
  return now - inode->last_write < rest;
}

bool Planner::HasStaleAttempt(const Node& node) const {
  const bool on_its_way =
      provenance_.NeedsRemotePlace(node) &&
      ((node.attempt.parent == node.parent && node.attempt.name == KeyPart(node)) ||
       (node.attempt.parent == kRootId && node.attempt.name == provenance_.TempName(node.id)));
  return node.attempt.parent != kNoNode && !on_its_way;
}

Status Planner::PlanPlace(View& view, Job* job, Inode* inode) {
  const Node& node = inode->node;
  if (job->aside) {
    job->parent = kRootId;
    job->key = job->path = provenance_.TempName(node.id);
    job->only_if = Precondition::Anything();  // nobody else uses that name
  } else {
    job->parent = node.parent;
    job->key = KeyPart(node);
    PG_ASSIGN(const std::string folder, view.RemotePrefix(node.parent));
    job->path = folder + job->key;
    for (NodeId up = node.parent; up != kRootId;) {
      PG_ASSIGN(const Inode* above, view.Get(up));
      const Node& one = above->node;
      const NodeId in = one.remote_parent();
      job->above.push_back({one.id, in, RemoteName(one)});
      up = in;
    }
    job->only_if =
        node.remote.place == RemotePlace::kSame || node.remote.place == RemotePlace::kEncoded
            ? Precondition::Is(node.remote.version)
            : Precondition::Absent();
    PG_ASSIGN(std::optional<Node> other,
              view.index().FindRemote(node.parent, job->key, node.kind == NodeKind::kFolder));
    if (other && other->id != node.id && other->gone()) {
      job->occupant = other->id;
      job->only_if = Precondition::Is(other->remote.version);
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
    PG_ASSIGN(job->content, contents_.OpenContent(view, inode));
    const Lock lock(job->content->mu);
    job->content->stable_prefix = job->content->about_to_change > 0 ? 0 : ~0ull;
  }
  return {};
}

Result<std::optional<Outcome>> Planner::PlanRollback(View& view, Job* job, Inode* inode) {
  Node& node = inode->node;
  const auto folder = view.RemotePrefix(node.attempt.parent);
  if (folder.ok()) {
    job->tried_path = *folder + node.attempt.name;
    return std::optional<Outcome>();
  }
  node.attempt = {};  // its folder is gone from the store, and the attempt with it
  PG_TRY(view.Save(inode));
  return std::optional(Outcome::Again());
}

std::string Planner::SpelledNow(View& view, const Node& left) {
  if (!left.name.empty()) return "";
  const auto moved = view.Get(provenance_.WrittenBy(left.target));
  if (!moved.ok()) return "";
  const Node& node = (*moved)->node;
  if (node.remote.place == RemotePlace::kNone) return "";
  const bool elsewhere = node.remote.place == RemotePlace::kMoved;
  const NodeId folder = elsewhere ? node.remote.parent : node.parent;
  if (folder != left.remote.parent || !DifferInSpelling(RemoteName(node), left.remote.name))
    return "";
  const auto path = view.RemotePath(node);
  return path.ok() ? *path : "";
}

}  // namespace pargeter
