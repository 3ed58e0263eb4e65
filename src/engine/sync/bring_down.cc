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

Status Uploader::ReadAttributesBeforeSending(const Job& job, bool leaves) {
  std::string path;
  bool folder = false;
  {
    View view(&tree_);
    const auto inode = view.Get(job.id);
    if (!inode.ok()) return {};
    const Node& node = (*inode)->node;
    const bool sends = (leaves || (node.dirty & (kData | kAttributes)) != 0) && !node.gone();
    if (!sends || node.attributes_known || node.remote.place == RemotePlace::kNone) return {};
    PG_ASSIGN(path, view.RemotePath(node));
    folder = node.kind == NodeKind::kFolder;
  }
  const Steady asked = options_.clock->Now();
  const auto entry = refresher_.LookAt(folder, path, job.call);
  if (entry.ok()) return refresher_.LearnAttributes(job.id, *entry, asked);
  return entry.error().code == Code::kNotFound ? Status() : Status(entry.error());
}

Result<Outcome> Uploader::MakeLocalOnly(Job* job) {
  std::shared_ptr<Content> content;
  const Node& node = job->node;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(job->id));
    if (inode->writers > 0) {
      return Outcome::Again(kWhileOpen, "a program is writing the file");
    }
    PG_ASSIGN(content, contents_.OpenContent(view, inode));
    job->node = inode->node;
  }
  const Steady deadline = options_.clock->Now() + kFetchWithin;
  const Status whole =
      fetcher_.EnsurePresent(content, {0, node.size}, {0, 0}, deadline, Traffic::kUpload);
  if (!whole.ok()) {
    if (whole.error().code != Code::kStale) return whole.error().Within("cannot be kept local");
    Ignore(refresher_.Revalidate(job->id));
    return Outcome::Again();
  }
  PG_TRY(ReadAttributesBeforeSending(*job, true));  // a read has told, unless all was here
  // As after a write and an fsync: from here on the bytes wait on this disk, and are promised,
  // whatever becomes of the rest of this step.
  const auto file = std::make_shared<OpenFile>();
  file->id = job->id;
  file->content = content;
  { PG_ASSIGN(const WritingMark mark, contents_.BeginWriting(file)); }
  PG_TRY(contents_.FlushContent(file, true));
  PG_TRY(RecordLocal(*job, content));
  PG_TRY(tree_.Sync());
  return Outcome::Done();
}

bool Uploader::IsAsPlanned(const Inode& inode, const Job& job,
                           const std::shared_ptr<Content>& content) {
  const Node& now = inode.node;
  return now.effective == Placement::kLocal && !now.gone() && now.kind == NodeKind::kFile &&
         now.remote.version == job.node.remote.version && inode.content == content &&
         now.generation == inode.synced_generation;
}

Status Uploader::RecordLocal(const Job& job, const std::shared_ptr<Content>& content) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Get(job.id));
  if (!IsAsPlanned(*inode, job, content)) return Error(Code::kStale, "it was changed meanwhile");
  Node& now = inode->node;
  {
    const Lock lock(content->mu);
    if (content->place != BlockStore::Place::kPending || !content->present.Covers({0, now.size}))
      return Error(Code::kStale, "it was changed meanwhile");
    content->base = {};
  }
  Job left;
  left.id = now.id;
  left.node = now;
  if (now.remote.place != RemotePlace::kMoved) {
    left.node.remote.parent = now.parent;
    left.node.remote.name = RemoteName(now);
  }
  left.node.remote.place = RemotePlace::kMoved;
  PG_ASSIGN(left.there_path, view.RemotePath(now));
  ForgetRemote(&now);
  now.remote.size = 0;
  now.dirty |= kData;
  now.pending.seq = 0;
  now.pending.error.clear();
  PG_TRY(committer_.AddTombstone(view, left, UploadMethod::kBytes));
  PG_TRY(contents_.SaveContent(view, inode, content.get()));
  return change.Commit();
}

}  // namespace pargeter
