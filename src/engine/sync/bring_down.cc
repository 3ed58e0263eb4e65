// Uploader: a file that is local from now on is fetched wholly, and then deleted at the store.
#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/provenance.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/committer.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/sync/evidence.h"
#include "engine/sync/job.h"
#include "engine/sync/send_log.h"
#include "engine/sync/uploader.h"

namespace pargeter {

// What a listing did not tell must not be overwritten by what was shown meanwhile, nor go with what
// `leaves` the store.
Status Uploader::LearnBeforeSending(const Job& job, bool leaves) {
  std::string path;
  bool folder = false;
  {
    View view(&tree_);
    const auto live = view.Get(job.id);
    if (!live.ok()) return {};
    const Node& node = (*live)->node;
    const bool sends = (leaves || (node.dirty & (kData | kAttributes)) != 0) && !node.gone();
    if (!sends || node.attributes_known || node.there == There::kAbsent) return {};
    PG_ASSIGN(path, view.TherePath(node));
    folder = node.kind == NodeKind::kFolder;
  }
  const Steady asked = options_.clock->Now();
  const auto entry = refresher_.LookAt(folder, path, job.call);
  if (entry.ok()) return refresher_.LearnAttributes(job.id, *entry, asked);
  return entry.error().code == Code::kNotFound ? Status() : Status(entry.error());
}

// A file that is to be only here: all of its bytes come down, and are on the disk for good, before
// the store is told to delete it.
Result<Outcome> Uploader::BringDown(Job* job) {
  std::shared_ptr<Content> content;
  const Node& node = job->node;
  {
    View view(&tree_);
    PG_ASSIGN(Live * live, view.Get(job->id));
    if (live->writers > 0) {
      job->delay = Duration(1000);
      return Outcome::kAgain;
    }
    PG_ASSIGN(content, contents_.ContentOf(view, live));
    job->node = live->node;
  }
  const Steady deadline = options_.clock->Now() + std::chrono::hours(1);
  const Status whole =
      fetcher_.EnsurePresent(content, {0, node.size}, {0, 0}, deadline, Traffic::kUpload);
  if (!whole.ok()) {
    if (whole.error().code != Code::kStale) return whole.error().Within("cannot be kept local");
    Ignore(refresher_.LookAgain(job->id));
    return Outcome::kAgain;
  }
  PG_TRY(LearnBeforeSending(*job, true));  // a read has told, unless all was here
  // As after a write and an fsync: from here on the bytes wait on this disk, and are promised,
  // whatever becomes of the rest of this step.
  const auto file = std::make_shared<OpenFile>();
  file->id = job->id;
  file->content = content;
  { PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(file)); }
  PG_TRY(contents_.FlushContent(file, true));
  PG_TRY(RecordLocal(*job, content));
  PG_TRY(tree_.Sync());
  return Outcome::kDone;
}

// It was not placed otherwise since the step was planned, and all of it is on the disk.
bool Uploader::IsStillComingDown(const Live& live, const Job& job,
                                 const std::shared_ptr<Content>& content) {
  const Node& now = live.node;
  return now.effective == Placement::kLocal && !now.gone() && now.kind == NodeKind::kFile &&
         now.version == job.node.version && live.content == content &&
         now.generation == live.synced_generation;
}

// All of it is on the disk for good: it is local from now on, and what the store has is to go.
Status Uploader::RecordLocal(const Job& job, const std::shared_ptr<Content>& content) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job.id));
  if (!IsStillComingDown(*live, job, content))
    return Error(Code::kStale, "it was changed meanwhile");
  Node& now = live->node;
  {
    const Lock lock(content->mu);
    if (content->place != BlockStore::Place::kPending || !content->present.Covers({0, now.size}))
      return Error(Code::kStale, "it was changed meanwhile");
    content->source = {};
  }
  Job left;
  left.id = now.id;
  left.node = now;
  if (now.there != There::kElsewhere) {
    left.node.there_parent = now.parent;
    left.node.there_name = ThereName(now);
  }
  left.node.there = There::kElsewhere;
  PG_ASSIGN(left.there_path, view.TherePath(now));
  now.there = There::kAbsent;
  now.there_parent = kNoNode;
  now.there_name.clear();
  now.version.clear();
  now.there_size = 0;
  now.dirty |= kData;
  now.intent = 0;
  now.error.clear();
  PG_TRY(committer_.LeaveOldPlace(view, left, SentAs::kBytes));
  PG_TRY(contents_.SaveContent(view, live, content.get()));
  return change.Commit();
}

}  // namespace pargeter
