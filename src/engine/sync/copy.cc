// Uploader: copies and moves that the store makes by itself, and folders. (Of folders that go
// object by object: folder_moves.cc.)
#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/sync/committer.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/sync/evidence.h"
#include "engine/sync/job.h"
#include "engine/sync/send_log.h"
#include "engine/sync/uploader.h"

namespace pargeter {

namespace {
constexpr Duration kHeldOpen(5000);
}  // namespace

Result<Outcome> Uploader::CopyFile(Job* job) {
  const Node& node = job->node;
  const bool copy_of = !node.copy.path.empty();
  const std::string from = copy_of ? node.copy.path : job->there_path;
  const std::string version = copy_of ? node.copy.version : node.remote.version;
  const bool move = !copy_of && from != job->path;
  const bool attributes = copy_of || !move || (node.dirty & kAttributes);
  const Precondition only_if = from == job->path ? Precondition::Anything() : job->only_if;
  const bool in_one = move && store_->Can().moves_files;
  UploadMethod how = in_one ? UploadMethod::kMove
                     : move ? UploadMethod::kCopy
                            : UploadMethod::kBytes;
  const std::uint64_t size = copy_of ? node.size : node.remote.size;
  PG_TRY(send_log_.AbortMultipart(node.upload_log, job->call));
  const bool in_parts = !in_one && send_log_.CopiedInParts(size);
  if (in_parts) PG_TRY(send_log_.JournalUnknownMultipart(job->id, job->path));
  // it may be made though nobody learns of it: its time tells it then
  const bool here = from == job->path;
  const bool told =
      store_->Can().tells_writer && provenance_.OriginIsConclusive(node, job->Place());
  if ((here || (copy_of && !told)) && !in_parts && job->attributes.mtime)
    PG_TRY(send_log_.JournalSent(*job, TimeMark(size, *job->attributes.mtime)));
  auto entry = in_one ? store_->MoveFile(from, version, job->path, only_if, job->call)
                      : store_->Copy(from, version, size, job->path,
                                     attributes ? &job->attributes : nullptr, only_if, job->call);
  if (!entry.ok() && in_parts) {
    if (MayRetry(entry.error().code)) return entry.error();
    PG_TRY(send_log_.AbortMultipart(UploadLog(MultipartNote{.path = job->path}), job->call));
  }
  job->parts_ended = true;
  if (!entry.ok() && move && !job->aside && MayBeAliasOfSelf(entry.error().code)) {
    PG_ASSIGN(const bool itself, evidence_.IsAliasOfSelf(*job, job->path));
    if (itself) return resolver_.MoveViaTempName(job);
  }
  if (!entry.ok() &&
      (entry.error().code == Code::kChanged || entry.error().code == Code::kNotFound)) {
    PG_ASSIGN(std::optional<Entry> target, store_->LookIfThere(job->path, job->call));
    bool made = false;
    if (move && target) {
      PG_ASSIGN(made, evidence_.IsEarlierCopy(*job, from, entry.error().code, *target));
    }
    if (!made) return ResolveRefusedCopy(job, from, version);
    entry = std::move(*target);  // made by a former attempt, whose answer was lost
    if (!in_one) how = UploadMethod::kEarlierCopy;
  }
  if (!entry.ok()) return entry.error();
  PG_TRY(committer_.CommitUpload(job, *entry, how));
  return Outcome::Done();
}

Result<Outcome> Uploader::ResolveRefusedCopy(Job* job, const std::string& from,
                                             const std::string& version) {
  const Node& node = job->node;
  const bool copy_of = !node.copy.path.empty();
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
      PG_TRY(fetcher_.EnsurePresent(job->content, {0, job->size}, {0, 0},
                                    options_.clock->Now() + kFetchWithin, Traffic::kUpload));
    return resolver_.Conflict(job);
  }
  if (copy_of) {
    // the original was replaced before it was copied, and nobody was told that it was
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(job->id));
    if (inode->node.generation == node.generation) PG_TRY(contents_.DiscardCopy(view, inode));
    return Outcome::Again();
  }
  bool ours = false;
  if (source) {
    PG_ASSIGN(ours, provenance_.OnlyAttributesDiffer(node, from, *source, job->call));
  }
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  if (ours && inode->node.remote.version == version) {  // whatever is done with it here meanwhile
    PG_TRY(provenance_.AdoptVersion(view, inode, *source));
    PG_TRY(change.Commit());
    return Outcome::Again(kSoon);
  }
  // about to be written here: looked at again now and then
  if (inode->writers > 0)
    return Outcome::Again(std::min(kHeldOpen, options_.open_patience),
                          "a program is writing the file");
  // written here since it was planned: then it is no mere move any more
  if (inode->node.generation != node.generation) return Outcome::Again(kSoon);
  // deleted here since: that was of the version that was seen, and not of this one
  if (inode->node.gone()) return Outcome::Again(kSoon);
  if (source) {
    merge_.NewVersion(view, inode, *source);  // changed there, moved here: the new version moves
    PG_TRY(view.Save(inode));
    PG_TRY(change.Commit());
    return Outcome::Again(kSoon);
  }
  inode->node.pending.seq = 0;  // deleted there, moved here: nothing of ours is lost with it
  PG_TRY(merge_.RemoteDeleted(view, inode, options_.clock->Now()));
  PG_TRY(change.Commit());
  return Outcome::Done();
}

}  // namespace pargeter
