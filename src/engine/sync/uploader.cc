// Uploader: what has to happen at the store for one node, and its files' uploads. Planned under the
// tree lock, done without it, committed under it again.
#include "engine/sync/uploader.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <ctime>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
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
#include "provider/attributes.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr int kPartsAtOnce = 4;
}  // namespace

Result<Outcome> Uploader::UploadFile(Job* job) {
  const Steady deadline = options_.clock->Now() + kFetchWithin;
  if (job->content) {
    // parts that were never read here come from the version that was changed
    const Status whole =
        fetcher_.EnsurePresent(job->content, {0, job->size}, {0, 0}, deadline, Traffic::kUpload);
    if (!whole.ok() && whole.error().code == Code::kStale) return BaseIsGone(job);
    if (!whole.ok()) return whole.error().Within("cannot complete " + Printable(job->path));
    PG_TRY(SyncBeforeSending(job));
  }
  auto entry = SendContent(job);
  if (!entry.ok()) {
    if (entry.error().code == Code::kChanged) return resolver_.Conflict(job);
    return entry.error();
  }
  job->parts_ended = true;
  if (job->content) Ignore(contents_.StageCopy(job->content, Place::kCache));
  const Status committed = committer_.CommitUpload(
      job, *entry,
      job->begun_with_others ? UploadMethod::kBytesWithoutAttributes : UploadMethod::kBytes);
  if (job->content) contents_.DropStagedCopy(job->content.get());
  PG_TRY(committed);
  return job->begun_with_others ? Outcome::Again() : Outcome::Done();
}

// Bytes of the version that was changed are part of what waits now, and may be needed when the
// store has only ours any more: not even a power cut may take them then. And of a file that was
// synced once the store gets nothing that the disk has not: so whatever the store has got of it, it
// is no more than what is here after a power cut (MendPending).
Status Uploader::SyncBeforeSending(Job* job) {
  Content* content = job->content.get();
  bool later = false;  // than what was synced
  if (job->node.dirty & kSynced) {
    View view(&tree_);
    PG_ASSIGN(const Inode* inode, view.Get(job->id));
    later = inode->synced_generation != job->node.generation;
  }
  bool unsaved = false;
  int fd = -1;
  {
    const Lock lock(content->mu);
    const bool nothing_of_former = content->base.size == 0;
    if (nothing_of_former && !later) return {};
    unsaved = content->unsaved;
    fd = content->BeginUse();
  }
  const Status synced = options_.disk->SyncData(fd);
  {
    const Lock lock(content->mu);
    content->EndUse();
  }
  PG_TRY(synced);
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(job->id));
    if (inode->content.get() != content) return {};
    if (unsaved) PG_TRY(contents_.SaveContent(view, inode, content));
  }
  return tree_.Sync();
}

// The version that was changed here was replaced at the store before all of it was read: nobody has
// those bytes any more. What was written here is not lost with them: they become zeros, and it goes
// up as a conflict like any other.
Result<Outcome> Uploader::BaseIsGone(Job* job) {
  if (!job->there_path.empty()) {
    PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(job->there_path, job->call));
    if (there && there->version == job->node.remote.version)
      return Error(Code::kStoreFault,
                   fmt::format("the store lists the version of {} that was changed here, and does "
                               "not give its bytes",
                               Printable(job->there_path)),
                   "The change is safe on this disk; the former version is asked for again.");
    // by an upload of ours, perhaps, and nobody learnt of it
    if (there && job->there_path == job->path) {
      PG_ASSIGN(const bool ours, evidence_.IsMadeByAttempt(*job, *there));
      if (ours) return resolver_.Conflict(job);
    }
  }
  // moved to its new place, and nobody learnt of it: it has all of its bytes there
  if (job->node.attempt.parent == job->parent && job->node.attempt.name == job->key) {
    PG_ASSIGN(const std::optional<Entry> made, store_->LookIfThere(job->path, job->call));
    if (made) {
      PG_ASSIGN(const bool went, evidence_.HasMovedTo(*job, *made));
      if (went) return resolver_.Conflict(job);
    }
  }
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(job->id));
  Content* content = job->content.get();
  if (inode->content.get() != content || inode->node.remote.version != job->node.remote.version)
    return Outcome::Again(kSoon);
  {
    const Lock lock(content->mu);
    PG_TRY(options_.disk->Truncate(content->fd.get(), content->size));  // a file may end in a hole
    for (const Range& gap : content->present.Missing({0, content->size})) content->AddHole(gap);
    content->base.size = 0;
  }
  const std::string warning = fmt::format(
      "{} was replaced at the store before all of it was here: in the copy kept of it, what was "
      "neither read nor written here is zeros",
      Printable(job->path));
  health_.Warn(warning);
  Log(LogLevel::kWarning, "{}", warning);
  PG_TRY(contents_.SaveContent(view, inode, content));
  return Outcome::Again(kSoon);
}

Result<Entry> Uploader::SendContent(Job* job) {
  const Capabilities can = store_->Can();
  const bool told = can.tells_writer && provenance_.OriginIsConclusive(job->node, job->Place());
  if (can.multipart_above > 0 && job->size > can.multipart_above) return SendParts(job);
  PG_TRY(send_log_.AbortMultipart(job->node.upload_log, job->call));  // of when it was larger
  TextSource link(SymlinkBody(job->node.target));
  ContentSource content(job->content, 0, job->size, options_.disk);
  WriteSource* body = &content;
  if (job->node.kind == NodeKind::kSymlink) body = &link;
  const auto journal = [&](const std::string& digest) {
    return send_log_.JournalSent(*job, BytesMark(body->Size(), digest));
  };
  SentSource sent(body, journal);
  if (!told && body->Size() == 0) PG_TRY(journal(Md5("")));
  return store_->Write(job->path, told ? body : &sent, job->attributes, job->only_if, job->call);
}

Result<Entry> Uploader::SendParts(Job* job) {
  const std::uint64_t part_size = std::max(store_->Can().part_size, job->size / 9000 + 1);
  const int count = static_cast<int>((job->size + part_size - 1) / part_size);
  PartedUpload upload{job->path, ""};
  std::vector<UploadedPart> parts(static_cast<std::size_t>(count));
  MultipartNote note{.path = job->path,
                     .id = "",
                     .generation = job->node.generation,
                     .part_size = part_size,
                     .attributes = Hex(Md5(PackAttributes(job->attributes)))};
  if (const MultipartNote* known = job->node.upload_log.multipart()) {
    if (known->path == note.path && known->generation == note.generation &&
        known->part_size == note.part_size) {
      const PartedUpload former{known->path, known->id};
      const auto there = store_->ListParts(former, job->call);
      if (there.ok()) {
        upload = former;
        job->begun_with_others = known->attributes != note.attributes;
        for (const UploadedPart& part : *there) {
          if (part.number >= 1 && part.number <= count)
            parts[static_cast<std::size_t>(part.number - 1)] = part;
        }
      }
    }
    if (upload.id.empty()) PG_TRY(send_log_.AbortMultipart(job->node.upload_log, job->call));
  }
  if (upload.id.empty()) {
    PG_TRY(send_log_.JournalUnknownMultipart(job->id, job->path));
    PG_ASSIGN(upload, store_->BeginParts(job->path, job->attributes, job->call));
    note.id = upload.id;
    PG_TRY(send_log_.JournalMultipart(job->id, UploadLog(note)));
  }
  std::atomic<int> next{0};
  Mutex mutex;
  std::optional<Error> failed;
  const auto work = [&] {
    for (int i = next++; i < count; i = next++) {
      UploadedPart& part = parts[static_cast<std::size_t>(i)];
      const std::uint64_t base = static_cast<std::uint64_t>(i) * part_size;
      const std::uint64_t size = std::min(part_size, job->size - base);
      ContentSource source(job->content, base, size, options_.disk);
      Entry stored;
      stored.size = part.size;
      stored.version = part.tag;
      const auto held = part.number == 0
                            ? Result<bool>(false)
                            : store_->HoldsContent(job->path, stored, &source, job->call);
      if (held.ok() && *held) continue;
      {
        const Lock lock(mutex);
        if (failed) return;
      }
      auto done = store_->WritePart(upload, i + 1, &source, job->call);
      if (done.ok()) {
        part = *done;
      } else {
        const Lock lock(mutex);
        if (!failed) failed = done.error();
      }
    }
  };
  WorkTogether(static_cast<std::size_t>(std::min(kPartsAtOnce, count)), work);
  if (!failed) {
    auto done = store_->CompleteParts(upload, parts, job->only_if, job->call);
    if (done.ok()) return done;
    failed = done.error();
  }
  // parts that went up stay for the next attempt, unless there will be none like this
  if (failed->code == Code::kCancelled && stop_->cancelled()) return *failed;
  if (!MayRetry(failed->code)) {
    if (store_->AbortParts(upload, {nullptr, Traffic::kUpload}).ok())
      Ignore(send_log_.JournalMultipart(job->id, UploadLog()));
  }
  return *failed;
}

}  // namespace pargeter
