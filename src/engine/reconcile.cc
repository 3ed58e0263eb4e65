// Engine: what has to happen at the store for one node, and its files' uploads. Planned under the
// tree lock, done without it, committed under it again.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <ctime>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/engine.h"
#include "engine/job.h"
#include "engine/sent.h"
#include "engine/tree/naming.h"
#include "provider/attributes.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr int kPartsAtOnce = 4;
}  // namespace

Result<Engine::Outcome> Engine::Reconcile(Job* job) {
  PG_TRY(EnsureProbed(job->call));
  PG_TRY(LearnBeforeSending(*job));
  bool comes_down = false;
  {
    View view(&tree_);
    auto live = view.Get(job->id);
    if (!live.ok()) return Outcome::kDone;
    Node& waiting = (*live)->node;
    if (waiting.intent == 0) return Outcome::kDone;
    if (MayStay(waiting)) {
      waiting.intent = 0;
      PG_TRY(view.Save(*live));
      return Outcome::kDone;
    }
    comes_down = waiting.effective == Placement::kLocal && !waiting.gone() &&
                 waiting.kind == NodeKind::kFile && waiting.there != There::kAbsent &&
                 waiting.tried_parent == kNoNode && waiting.upload.empty();
    if (!comes_down) PG_TRY(PlanJob(view, job));
  }
  if (comes_down) return BringDown(job);
  if (job->postponed) return job->behind != kNoNode ? Outcome::kParked : Outcome::kAgain;
  if (!job->tried_path.empty()) return TakeBack(job);
  const Node& node = job->node;
  if (HasParts(node.upload) && (node.gone() || !(node.dirty & kData))) {
    // begun for bytes that nobody wants up any more
    PG_TRY(EndParts(node.upload, job->call));
    // (of what is deleted they may have been put together before that, and nobody heard of it)
    PG_TRY(JournalParts(node.id, node.gone() ? WithAnything(node) : ""));
    return Outcome::kAgain;
  }
  if (node.gone()) return RemoveThere(job);
  const bool moved = node.there == There::kElsewhere;
  if (node.there != There::kAbsent && !moved && node.dirty == kClean && node.copy_of.empty())
    return Settle(job->id);
  if (node.kind == NodeKind::kFolder) return moved ? MoveFolder(job) : SendFolder(job);
  if (!node.copy_of.empty()) return CopyFile(job);
  // out of the way of its own new name: as it is, and from there with its new bytes
  if (job->aside && moved && store_->Can().moves_files) return CopyFile(job);
  if ((node.dirty & kData) || node.there == There::kAbsent) return UploadFile(job);
  return CopyFile(job);
}

// Nothing differs any more.
Result<Engine::Outcome> Engine::Settle(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  const Node& node = live->node;
  if (node.gone() || node.there == There::kAbsent || node.there == There::kElsewhere ||
      node.dirty != kClean || node.tried_parent != kNoNode)
    return Outcome::kAgain;  // changed meanwhile
  live->node.intent = 0;
  PG_TRY(view.Save(live));
  return Outcome::kDone;
}

Status Engine::EnsureProbed(const Call& call) {
  PG_ASSIGN(const auto found, store_->EnsureProbed(call));
  if (!found) return {};
  View view(&tree_);
  return view.index().SetMeta(Mark::kProbeResult, *found);
}

Result<Engine::Outcome> Engine::UploadFile(Job* job) {
  const Steady deadline = options_.clock->Now() + std::chrono::hours(1);
  if (job->content) {
    // parts that were never read here come from the version that was changed
    const Status whole =
        EnsurePresent(job->content, {0, job->size}, {0, 0}, deadline, Traffic::kUpload);
    if (!whole.ok() && whole.error().code == Code::kStale) return BaseIsGone(job);
    if (!whole.ok()) return whole.error().Within("cannot complete " + Printable(job->path));
    PG_TRY(SyncBeforeSending(job));
  }
  auto entry = SendContent(job);
  if (!entry.ok()) {
    if (entry.error().code == Code::kChanged) return Conflict(job);
    return entry.error();
  }
  job->parts_ended = true;
  if (job->content) Ignore(Carry(job->content, Place::kCache));
  const Status committed =
      CommitUpload(job, *entry, job->begun_with_others ? Sent::kBytesAlone : Sent::kBytes);
  if (job->content) DropCarried(job->content.get());
  PG_TRY(committed);
  return job->begun_with_others ? Outcome::kAgain : Outcome::kDone;
}

// Bytes of the version that was changed are part of what waits now, and may be needed when the
// store has only ours any more: not even a power cut may take them then. And of a file that was
// synced once the store gets nothing that the disk has not: so whatever the store has got of it, it
// is no more than what is here after a power cut (MendPending).
Status Engine::SyncBeforeSending(Job* job) {
  Content* content = job->content.get();
  bool later = false;  // than what was synced
  if (job->node.dirty & kSynced) {
    View view(&tree_);
    PG_ASSIGN(const Live* live, view.Get(job->id));
    later = live->synced_generation != job->node.generation;
  }
  bool unsaved = false;
  {
    const Lock lock(content->mu);
    const bool nothing_of_former = content->source.size == 0;
    if (nothing_of_former && !later) return {};
    unsaved = content->unsaved;
    PG_TRY(options_.disk->SyncData(content->fd.get()));
  }
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(job->id));
  if (live->content.get() != content) return {};
  if (unsaved) PG_TRY(SaveContent(view, live, content));
  return view.Sync();
}

// The version that was changed here was replaced at the store before all of it was read: nobody has
// those bytes any more. What was written here is not lost with them: they become zeros, and it goes
// up as a conflict like any other.
Result<Engine::Outcome> Engine::BaseIsGone(Job* job) {
  job->delay = Duration(100);
  if (!job->there_path.empty()) {
    PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(job->there_path, job->call));
    if (there && there->version == job->node.version)
      return Error(Code::kStoreFault,
                   fmt::format("the store lists the version of {} that was changed here, and does "
                               "not give its bytes",
                               Printable(job->there_path)),
                   "The change is safe on this disk; the former version is asked for again.");
    // by an upload of ours, perhaps, and nobody learnt of it
    if (there && job->there_path == job->path) {
      PG_ASSIGN(const bool ours, MadeBy(*job, *there));
      if (ours) return Conflict(job);
    }
  }
  // moved to its new place, and nobody learnt of it: it has all of its bytes there
  if (job->node.tried_parent == job->parent && job->node.tried_name == job->key) {
    PG_ASSIGN(const std::optional<Entry> made, store_->LookIfThere(job->path, job->call));
    if (made) {
      PG_ASSIGN(const bool went, WentThere(*job, *made));
      if (went) return Conflict(job);
    }
  }
  PG_ASSIGN(const bool along, WentAlong(*job));
  if (along) return Outcome::kAgain;
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Content* content = job->content.get();
  if (live->content.get() != content || live->node.version != job->node.version)
    return Outcome::kAgain;
  {
    const Lock lock(content->mu);
    PG_TRY(options_.disk->Truncate(content->fd.get(), content->size));  // a file may end in a hole
    for (const Range& gap : content->present.Missing({0, content->size})) content->AddHole(gap);
    content->source.size = 0;
  }
  const std::string warning = fmt::format(
      "{} was replaced at the store before all of it was here: in the copy kept of it, what was "
      "neither read nor written here is zeros",
      Printable(job->path));
  health_.Warn(warning);
  Log(LogLevel::kWarning, "{}", warning);
  PG_TRY(SaveContent(view, live, content));
  return Outcome::kAgain;
}

// Or is it where it came with a folder that moved, and nobody learnt of that? It is read from
// there.
Result<bool> Engine::WentAlong(const Job& job) {
  std::optional<std::string> path;
  {
    View view(&tree_);
    PG_ASSIGN(path, PathInDoubt(view, job.node));
  }
  if (!path) return false;
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(*path, job.call));
  if (!there || there->version != job.node.version) return false;
  const Lock lock(job.content->mu);
  job.content->source.path = *path;
  return true;
}

Result<Entry> Engine::SendContent(Job* job) {
  const Capabilities can = store_->Can();
  const bool told = can.tells_writer && SignTells(job->node, job->Place());
  if (can.multipart_above > 0 && job->size > can.multipart_above) return SendParts(job);
  PG_TRY(EndParts(job->node.upload, job->call));  // of when it was larger
  TextSource link(SymlinkBody(job->node.target));
  ContentSource content(job->content, 0, job->size, options_.disk);
  WriteSource* body = &content;
  if (job->node.kind == NodeKind::kSymlink) body = &link;
  const auto journal = [&](const std::string& digest) {
    return JournalSent(*job, BytesMark(body->Size(), digest));
  };
  SentSource sent(body, journal);
  if (!told && body->Size() == 0) PG_TRY(journal(Md5("")));
  return store_->Write(job->path, told ? body : &sent, job->attributes, job->only_if, job->call);
}

Status Engine::JournalSent(const Job& job, const std::string& mark) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(job.id));
  const std::uint64_t now = live->node.generation;
  if (now != job.node.generation && now != live->upload_of)
    return Error(Code::kCancelled, "it was changed while it went up");
  live->node.upload = WithSent(job.node.upload, job.Place(), mark);
  PG_TRY(view.Save(live));
  return (live->node.dirty & kSynced) ? view.Sync() : Status();
}

Status Engine::JournalParts(NodeId id, const std::string& upload) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  live->node.upload = upload;
  return view.Save(live);
}

// Before one is begun whose id may never be heard: not even a power cut leaves one at the store
// that nobody ends. `path` as for EndParts.
Status Engine::JournalUnknownParts(NodeId id, const std::string& path) {
  PG_TRY(JournalParts(id, "?\n" + path));
  View view(&tree_);
  return view.Sync();
}

// Ends what is journalled of an upload in parts: "MARK:SIZE:ID" and its path in two lines, or "?"
// and the path where it is not known whether it was begun, nor under which id; all below a path
// that ends in "/".
Status Engine::EndParts(const std::string& journalled, const Call& call) {
  if (!HasParts(journalled)) return {};
  const auto end = journalled.find('\n');
  const std::string path = journalled.substr(end + 1);
  if (journalled[0] != '?') {
    const auto colon = journalled.find(':', journalled.find(':') + 1);
    return store_->AbortParts({path, journalled.substr(colon + 1, end - colon - 1)}, call);
  }
  PG_ASSIGN(const std::vector<PartedUpload> uploads, store_->ListUploads(call));
  const bool below = path.back() == '/';
  for (const PartedUpload& upload : uploads) {
    if (below ? upload.path.compare(0, path.size(), path) == 0 : upload.path == path)
      PG_TRY(store_->AbortParts(upload, call));
  }
  return {};
}

// In parts, several at once. The upload's id is journalled, so that the next start goes on with the
// parts that are there, or ends it; with it, which attributes it was begun with.
Result<Entry> Engine::SendParts(Job* job) {
  const std::uint64_t part_size = std::max(store_->Can().part_size, job->size / 9000 + 1);
  const int count = static_cast<int>((job->size + part_size - 1) / part_size);
  PartedUpload upload{job->path, ""};
  std::vector<UploadedPart> parts(static_cast<std::size_t>(count));
  const std::string of = fmt::format("{}-", job->node.generation),
                    attributes = Hex(Md5(PackAttributes(job->attributes))),
                    in = fmt::format(":{}:", part_size);
  const std::string& known = job->node.upload;
  if (!known.empty()) {
    const auto colon = known.find(':', known.find(':') + 1), end = known.find('\n');
    const PartedUpload former{known.substr(end + 1), known.substr(colon + 1, end - colon - 1)};
    if (known.compare(0, of.size(), of) == 0 && former.path == job->path &&
        known.compare(std::min(known.size(), of.size() + attributes.size()), in.size(), in) == 0) {
      const auto there = store_->ListParts(former, job->call);
      if (there.ok()) {
        upload = former;
        job->begun_with_others = known.compare(of.size(), attributes.size(), attributes) != 0;
        for (const UploadedPart& part : *there) {
          if (part.number >= 1 && part.number <= count)
            parts[static_cast<std::size_t>(part.number - 1)] = part;
        }
      }
    }
    if (upload.id.empty()) PG_TRY(EndParts(known, job->call));
  }
  if (upload.id.empty()) {
    PG_TRY(JournalUnknownParts(job->id, job->path));
    PG_ASSIGN(upload, store_->BeginParts(job->path, job->attributes, job->call));
    PG_TRY(JournalParts(job->id, of + attributes + in + upload.id + "\n" + upload.path));
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
      Ignore(JournalParts(job->id, ""));
  }
  return *failed;
}

// A move takes those along that are there, and an upload that was cut off after its bytes had none:
// the others go up afterwards.
void Engine::NoteAttributesSent(const Job& job, Sent how, Node* node) {
  if (how == Sent::kBytes || how == Sent::kBytesAlone) node->attributes_known = true;
  const bool same = SameAttributes(*node, job.node);
  const bool sent =
      how == Sent::kBytes || (how == Sent::kCopy && (job.node.dirty & kAttributes) != 0);
  if (how == Sent::kBytesAlone)
    node->dirty |= kAttributes;
  else if (same && sent)
    node->dirty &= ~(kAttributes | kOwn);
}

// The store has acknowledged exactly what `job` sent.
Status Engine::CommitUpload(Job* job, const Entry& entry, Sent how) {
  View view(&tree_);
  Change change(&view);
  PG_ASSIGN(Live * live, view.Get(job->id));
  Node& node = live->node;
  node.version = entry.version;
  node.there_size = entry.size;
  if (job->parts_ended || !HasParts(node.upload)) node.upload.clear();
  node.tried_parent = kNoNode;
  node.tried_name.clear();
  if (node.generation == job->node.generation) {
    node.copy_of.clear();
    node.copy_version.clear();
    std::erase_if(copy_sources_(view), [&](const auto& copy) { return copy.second == job->id; });
  }
  node.error.clear();
  node.attempts = 0;
  if (node.gone()) {
    node.there = There::kElsewhere;
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
  }
  acked_(view)[node.id] = options_.clock->Now();
  PG_TRY(AboveIsThere(view, *job));
  health_.NoteSignedIn();
  if (how == Sent::kMove)  // a listing that began before may still show it
    removed_(view)[{job->node.there_parent, job->node.there_name}] = options_.clock->Now();
  else
    PG_TRY(LeaveOldPlace(view, *job, how));
  DropOccupant(view, job);
  bool thin = false, given_up = false;
  bool same_bytes = node.generation == job->node.generation;
  if (live->content) {
    const Lock lock(live->content->mu);
    same_bytes = same_bytes && live->content->about_to_change == 0;
  }
  // what only moved had its former bytes
  if (how == Sent::kMove && (node.dirty & kData) != 0) same_bytes = false;
  if (live->content && !same_bytes) {
    // changed here since: what is not here of what it stands on is there now, as what was sent
    const Lock lock(live->content->mu);
    live->content->source.path = job->path;
    live->content->source.version = entry.version;
  }
  NoteAttributesSent(*job, how, &node);
  if (same_bytes && !node.gone()) {
    view.promises_unsynced() = view.promises_unsynced() || (node.dirty & kSynced);
    node.dirty &= ~kAllData;
    view.acks_unsynced() = true;
    if (live->content) {
      // still open for writing: the next write begins anew, so it may go back to the cache
      const Lock lock(live->content->mu);
      if (live->content->place == Place::kPending) {
        given_up =
            !blocks_->OneDisk() && !live->content->carried && !live->content->present.empty();
        if (!given_up) PG_TRY(MoveContent(live->content.get(), Place::kCache));
      }
      live->content->source = {job->path, entry.version, entry.size};
      // as cache it counts whole: nobody looks for its holes any more
      budget_->Count(live->content->hollow.Bytes());
      live->content->hollow.Clear();
      node.on_disk = given_up ? 0 : live->content->present.Bytes();
      if (given_up) PG_TRY(view.index().DropPresence(node.id));
    }
    const bool settled =
        node.there != There::kElsewhere && node.dirty == kClean && node.upload.empty();
    if (settled) {
      node.intent = 0;
      if (node.effective == Placement::kThin) thin = true;
    } else {
      view.Push(node.id, node.intent);
    }
  } else {
    view.Push(node.id, node.intent);
  }
  PG_TRY(view.Save(live));
  if (thin) {
    job->content.reset();
    DropIfUnused(view, live);
  }
  PG_TRY(change.Commit());
  if (job->aside) PG_TRY(view.Sync());  // before what is at its old place goes
  if (given_up && live->content) GiveUpBytes(view, live);
  view.EmitHappened("here", job->node.there == There::kElsewhere ? "moved" : "uploaded", job->path,
                    FormatSize(entry.size));
  Log(LogLevel::kInfo, "uploaded {} ({} bytes)", job->path, entry.size);
  return {};
}

Status Engine::AboveIsThere(View& view, const Job& job) {
  for (const Job::Above& one : job.above) {
    auto found = view.Get(one.id);
    if (!found.ok() && found.error().code == Code::kStale) {
      // removed here before the store had it: it has it now, and what is in it has its place there
      Node again;
      again.id = one.id;
      again.kind = NodeKind::kFolder;
      again.there = There::kElsewhere;
      again.there_parent = one.parent;
      again.there_name = one.key;
      again.mtime = again.ctime = options_.clock->Wall();
      PG_TRY(view.index().Insert(&again));
      found = view.Get(one.id);
      PG_TRY(found);
      PG_TRY(view.AddIntent(*found));
      acked_(view)[one.id] = options_.clock->Now();
      continue;
    }
    if (!found.ok() || (*found)->node.there != There::kAbsent) continue;
    Node& folder = (*found)->node;
    if (folder.gone()) {
      folder.there = There::kElsewhere;
      folder.there_parent = one.parent;
      folder.there_name = one.key;
      if (folder.intent == 0) PG_TRY(view.AddIntent(*found));
    } else {
      SetThere(&folder, one.parent, one.key);
      folder.dirty |= kAttributes;  // they did not come with it
      // nobody else can have put anything in before it was there
      if (folder.listed_at == 0) folder.listed_at = options_.clock->Wall();
    }
    if (folder.tried_parent == one.parent && folder.tried_name == one.key) {
      folder.tried_parent = kNoNode;
      folder.tried_name.clear();
    }
    acked_(view)[folder.id] = options_.clock->Now();
    PG_TRY(view.Save(*found));
  }
  return {};
}

// It is at its new place. What is left at the old one is a deletion of its own, journalled with the
// move: so it is done once, whatever happens between.
Status Engine::LeaveOldPlace(View& view, const Job& job, Sent how) {
  if (job.node.there != There::kElsewhere || job.there_path == job.path) return {};
  Node old;
  old.kind = job.node.kind;
  old.there = There::kElsewhere;
  old.there_parent = job.node.there_parent;
  old.there_name = job.node.there_name;
  old.version = job.node.version;
  old.size = old.there_size = job.node.there_size;
  old.mtime = old.ctime = job.node.mtime;
  old.target = OriginOf(job.id);
  old.dirty = job.node.dirty & kUnsure;
  if (SentTo(job.node.upload, PlaceThere(job.node))) old.upload = job.node.upload;
  old.intent = view.index().NextIntent();
  old.intent_since = options_.clock->FileTime();
  PG_TRY(view.index().Insert(&old));
  view.Touch(old.id);
  if (how == Sent::kCopy || how == Sent::kCopyBefore) left_by_(view).emplace(job.id, old.id);
  acked_(view)[old.id] = options_.clock->Now();  // a listing that began before may not have it
  // a copy has just checked what stands there
  if (how == Sent::kCopy) just_copied_(view)[old.id] = options_.clock->Now();
  view.Push(old.id, old.intent, Duration(0));
  return {};
}

void Engine::DropOccupant(View& view, Job* job) {
  if (job->occupant == kNoNode) return;
  if (const auto occupant = view.Get(job->occupant); occupant.ok())
    DropThere(view, *occupant, job->path);
}

// The store has it no more, something else is there.
void Engine::DropThere(View& view, Live* gone, const std::string& path) {
  const NodeId id = gone->node.id;
  if (gone->opens + gone->old_opens == 0) {
    DropContent(view, gone);
    Ignore(view.index().Delete(id));
    left_behind_(view)[{id, path}] = options_.clock->Now();
    view.inodes().erase(id);
    return;
  }
  gone->node.there = There::kAbsent;
  gone->node.intent = 0;
  Ignore(view.Save(gone));
}

}  // namespace pargeter
