// Drive: what has to happen at the store for one node, and its files' uploads. Planned under the
// tree lock, done without it, committed under it again.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <ctime>
#include <thread>

#include "base/log.h"
#include "base/text.h"
#include "engine/drive.h"
#include "engine/job.h"
#include "engine/naming.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr Duration kOpenQuiet(30000);  // a file held open for writing goes up after so long a rest
constexpr int kPartsAtOnce = 4;
}  // namespace

Result<Drive::Outcome> Drive::Reconcile(Job* job) {
  PG_TRY(EnsureProbed(job->cancel));
  {
    const Lock tree(tree_mutex_);
    auto live = Get(job->id);
    if (!live.ok()) return Outcome::kDone;
    if ((*live)->node.intent == 0) return Outcome::kDone;
    PG_TRY(PlanJob(job));
  }
  if (job->postponed) return job->behind != kNoNode ? Outcome::kParked : Outcome::kAgain;
  const Node& node = job->node;
  if (node.gone()) return RemoveThere(job);
  const bool moved = node.there == There::kElsewhere;
  if (node.kind == NodeKind::kFolder) return moved ? MoveFolder(job) : SendFolder(job);
  if (!node.copy_of.empty()) return CopyFile(job);
  if ((node.dirty & kData) || node.there == There::kAbsent) return UploadFile(job);
  if (moved || (node.dirty & kAttributes)) return CopyFile(job);
  // nothing differs any more
  const Lock tree(tree_mutex_);
  PG_ASSIGN(Live * live, Get(job->id));
  live->node.intent = 0;
  PG_TRY(Save(live));
  return Outcome::kDone;
}

// Once for each store: how far it guards conditions. The others wait for the first; the lock is
// for nothing else.
Status Drive::EnsureProbed(const Cancel& cancel) {
  const Lock one(probe_mutex_);
  if (provider_->Can().create != Guard::kUnknown) return {};
  PG_TRY(provider_->Probe(cancel));
  const Lock tree(tree_mutex_);
  return index_->SetMeta("probe", provider_->ProbeResult());
}

Status Drive::PlanJob(Job* job) {
  PG_ASSIGN(Live * live, Get(job->id));
  const auto wait = [job](Duration delay) {
    job->postponed = true;
    job->delay = delay;
  };
  job->node = live->node;
  const Node& node = job->node;
  if (node.there != There::kAbsent) {
    PG_ASSIGN(job->there_path, TherePath(node));
  }
  if (node.gone() && live->opens + live->old_opens > 0) {  // whoever has it open may still read it
    wait(Duration(1000));
    return {};
  }
  if (node.gone() && node.there != There::kAbsent) {
    // the node that takes this one's place at the store overwrites it there; and a copy may need it
    PG_ASSIGN(Live * heir, Find(node.there_parent, KeyToName(node.there_name)));
    const bool replaced = heir != nullptr && heir->node.intent != 0 &&
                          heir->node.there != There::kSame &&
                          heir->node.kind != NodeKind::kFolder && node.kind != NodeKind::kFolder;
    if (replaced) {
      job->postponed = true;
      job->behind = heir->node.id;
      return {};
    }
  }
  const auto copies = copy_sources_.equal_range(job->there_path);
  for (auto it = copies.first; it != copies.second; ++it) {
    if (it->second == node.id) continue;
    job->postponed = true;
    job->behind = it->second;
    return {};
  }
  // a move of a folder above runs first
  for (NodeId up = node.gone() ? node.there_parent : node.parent; up != kRootId && up != kNoNode;) {
    PG_ASSIGN(Live * above, Get(up));
    if (above->node.there == There::kElsewhere && !above->node.gone()) {
      job->postponed = true;
      job->behind = up;
      return {};
    }
    up = above->node.gone() ? above->node.there_parent : above->node.parent;
  }
  if (node.gone()) {
    if (node.kind == NodeKind::kFolder) {
      PG_ASSIGN(const bool waiting, index_->HasThereChildren(node.id));
      if (waiting) wait(Duration(300));  // what was in it goes first
    }
    return {};
  }
  if (live->writers > 0 && options_.clock->Now() - live->last_write < kOpenQuiet) {
    wait(Duration(1000));
    return {};
  }
  return PlanPlace(job, live);
}

// Where the node goes, what is there now, and what goes with it.
Status Drive::PlanPlace(Job* job, Live* live) {
  const Node& node = live->node;
  job->parent = node.parent;
  job->key = KeyPart(node);
  PG_ASSIGN(const std::string folder, FolderKey(node.parent));
  job->path = folder + job->key;
  if (node.there == There::kSame || node.there == There::kSpelled) {
    job->only_if = Precondition::Is(node.version);
  } else {
    job->only_if = Precondition::Absent();
    PG_ASSIGN(std::optional<Node> other,
              index_->FindThere(node.parent, job->key, node.kind == NodeKind::kFolder));
    if (other && other->id != node.id) {
      if (other->gone()) {
        job->occupant = other->id;
        job->only_if = Precondition::Is(other->version);
      } else if (other->intent != 0) {  // it has to move away first
        PG_ASSIGN(Live * mover, Get(other->id));
        PG_ASSIGN(std::optional<Node> cycle,
                  index_->FindThere(mover->node.parent, KeyPart(mover->node), false));
        if (!cycle || cycle->id != node.id) {
          job->postponed = true;
          job->behind = other->id;
          return {};
        }
        // two files that change places: this one leaves over a name of its own
        job->path = std::string(kScratchPrefix) + fmt::format("swap-{}", node.id);
        job->parent = kRootId;
        job->key = job->path;
      }
    }
  }
  Attributes& a = job->attributes;
  a.mode = node.mode;
  a.mtime = node.mtime;
  if (node.uid >= 0) a.uid = static_cast<std::uint32_t>(node.uid);
  if (node.gid >= 0) a.gid = static_cast<std::uint32_t>(node.gid);
  if (node.kind == NodeKind::kSymlink) a.symlink = node.target;
  job->size = node.kind == NodeKind::kSymlink ? 0 : node.size;
  if (node.kind == NodeKind::kFile && (node.dirty & kData)) {
    PG_ASSIGN(job->content, ContentOf(live));
  }
  live->upload = job->cancel;
  return {};
}

Result<Drive::Outcome> Drive::UploadFile(Job* job) {
  const Steady deadline = options_.clock->Now() + std::chrono::hours(1);
  if (job->content) {
    // parts that were never read here come from the version that was changed
    const Status whole = EnsurePresent(job->content, {0, job->size}, {0, 0}, deadline);
    if (!whole.ok()) return whole.error().Within("cannot complete " + Printable(job->path));
  }
  auto entry = SendContent(job);
  if (!entry.ok()) {
    if (entry.error().code == Code::kChanged) return Conflict(job);
    return entry.error();
  }
  PG_TRY(CommitUpload(job, *entry));
  if (job->node.there == There::kElsewhere && job->there_path != job->path) {
    // changed and moved: the old place goes, unless somebody changed it
    const Status gone =
        provider_->Remove(job->there_path, Precondition::Is(job->node.version), job->cancel);
    if (!gone.ok() && gone.error().code != Code::kChanged)
      Log(LogLevel::kWarning, "{}", gone.error().what);
    const Lock tree(tree_mutex_);
    removed_[{job->node.there_parent, job->node.there_name}] = options_.clock->Now();
  }
  return Outcome::kDone;
}

Result<Entry> Drive::SendContent(Job* job) {
  const Capabilities can = provider_->Can();
  if (can.multipart_above > 0 && job->size > can.multipart_above) return SendParts(job);
  if (job->node.kind == NodeKind::kSymlink) {
    TextSource body(SymlinkBody(job->node.target));
    return provider_->Write(job->path, &body, job->attributes, job->only_if, job->cancel);
  }
  ContentSource source(job->content, 0, job->size, options_.disk);
  return provider_->Write(job->path, &source, job->attributes, job->only_if, job->cancel);
}

// In parts, several at once. The upload's id is journalled, so that the next start goes on with the
// parts that are there, or ends it.
Result<Entry> Drive::SendParts(Job* job) {
  const std::uint64_t part_size = std::max(provider_->Can().part_size, job->size / 9000 + 1);
  const int count = static_cast<int>((job->size + part_size - 1) / part_size);
  PartedUpload upload{job->path, ""};
  std::vector<UploadedPart> parts(static_cast<std::size_t>(count));
  const std::string mark = fmt::format("{}:{}:", job->node.generation, part_size);
  const std::string& known = job->node.upload;
  if (!known.empty()) {
    const auto colon = known.find(':', known.find(':') + 1), end = known.find('\n');
    const PartedUpload former{known.substr(end + 1), known.substr(colon + 1, end - colon - 1)};
    if (known.compare(0, mark.size(), mark) == 0 && former.path == job->path) {
      const auto there = provider_->ListParts(former, job->cancel);
      if (there.ok()) {
        upload = former;
        for (const UploadedPart& part : *there) {
          if (part.number >= 1 && part.number <= count)
            parts[static_cast<std::size_t>(part.number - 1)] = part;
        }
      }
    }
    if (upload.id.empty()) Ignore(provider_->AbortParts(former, job->cancel));
  }
  if (upload.id.empty()) {
    PG_ASSIGN(upload, provider_->BeginParts(job->path, job->attributes, job->cancel));
    const Lock tree(tree_mutex_);
    PG_ASSIGN(Live * live, Get(job->id));
    live->node.upload = mark + upload.id + "\n" + upload.path;
    PG_TRY(Save(live));
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
      if (part.number != 0 && provider_->HoldsContent(stored, &source)) continue;
      {
        const Lock lock(mutex);
        if (failed) return;
      }
      auto done = provider_->WritePart(upload, i + 1, &source, job->cancel);
      if (done.ok()) {
        part = *done;
      } else {
        const Lock lock(mutex);
        if (!failed) failed = done.error();
      }
    }
  };
  std::vector<std::thread> helpers;
  for (int i = 1; i < std::min(kPartsAtOnce, count); ++i) helpers.emplace_back(work);
  work();
  for (std::thread& helper : helpers) helper.join();
  if (!failed) {
    auto done = provider_->CompleteParts(upload, parts, job->only_if, job->cancel);
    if (done.ok()) return done;
    failed = done.error();
  }
  // parts that went up stay for the next attempt, unless there will be none like this
  if (failed->code == Code::kCancelled && stop_->cancelled()) return *failed;
  if (!MayRetry(failed->code)) {
    Ignore(provider_->AbortParts(upload, nullptr));
    const Lock tree(tree_mutex_);
    auto live = Get(job->id);
    if (live.ok()) {
      (*live)->node.upload.clear();
      Ignore(Save(*live));
    }
  }
  return *failed;
}

// The store has acknowledged exactly what `job` sent.
Status Drive::CommitUpload(Job* job, const Entry& entry) {
  const Lock tree(tree_mutex_);
  Transaction transaction = index_->Begin();
  PG_ASSIGN(Live * live, Get(job->id));
  Node& node = live->node;
  node.version = entry.version;
  node.there_size = entry.size;
  node.upload.clear();
  node.copy_version.clear();
  node.error.clear();
  node.attempts = 0;
  if (node.gone()) {
    node.there = There::kElsewhere;
    node.there_parent = job->parent;
    node.there_name = job->key;
  } else {
    SetThere(&node, job->parent, job->key);
  }
  acked_[node.id] = options_.clock->Now();
  DropOccupant(job);
  const bool same_bytes = node.generation == job->node.generation;
  const bool same_attributes = node.mode == job->node.mode && node.mtime == job->node.mtime &&
                               node.uid == job->node.uid && node.gid == job->node.gid;
  if (same_attributes) node.dirty &= ~kAttributes;
  if (same_bytes && !node.gone()) {
    node.dirty &= ~kData;
    if (live->content) {
      // still open for writing: the next write begins anew, so it may go back to the cache
      const Lock lock(live->content->mu);
      if (live->content->place == Place::kPending) {
        PG_TRY(blocks_->Move(node.id, Place::kPending, Place::kCache, &live->content->fd));
        live->content->place = Place::kCache;
      }
      live->content->source = {job->path, entry.version, entry.size};
      node.on_disk = live->content->present.Bytes();
    }
    const bool settled = node.there != There::kElsewhere && node.dirty == kClean;
    if (settled) {
      node.intent = 0;
    } else {
      Enqueue(node.id, node.intent, options_.quiet);
    }
  } else {
    Enqueue(node.id, node.intent, options_.quiet);
  }
  PG_TRY(Save(live));
  PG_TRY(transaction.Commit());
  Log(LogLevel::kInfo, "uploaded {} ({} bytes)", job->path, entry.size);
  return {};
}

void Drive::DropOccupant(Job* job) {
  if (job->occupant == kNoNode) return;
  auto occupant = Get(job->occupant);
  if (!occupant.ok()) return;
  if ((*occupant)->opens + (*occupant)->old_opens == 0) {
    DropContent(*occupant);
    Ignore(index_->Delete(job->occupant));
    live_.erase(job->occupant);
    return;
  }
  Node& node = (*occupant)->node;
  node.there = There::kAbsent;
  node.intent = 0;
  Ignore(Save(*occupant));
}

// The store has something else than we knew at the place where this node goes.
Result<Drive::Outcome> Drive::Conflict(Job* job) {
  const auto there = provider_->Look(job->path, job->cancel);
  if (!there.ok() && there.error().code != Code::kNotFound) return there.error();
  if (there.ok() && there->kind != Kind::kFolder && job->node.kind == NodeKind::kFile &&
      job->content) {
    ContentSource source(job->content, 0, job->size, options_.disk);
    if (provider_->HoldsContent(*there, &source)) {
      // our own upload, whose answer was lost, or the same bytes from another side
      PG_TRY(CommitUpload(job, *there));
      return Outcome::kDone;
    }
  }
  const Lock tree(tree_mutex_);
  Transaction transaction = index_->Begin();
  PG_ASSIGN(Live * live, Get(job->id));
  Node& node = live->node;
  job->delay = Duration(100);
  const bool at_its_place = node.there == There::kSame || node.there == There::kSpelled;
  if (!there.ok() || there->kind == Kind::kFolder) {
    if (at_its_place) {  // deleted there, changed here: ours comes back
      node.there = There::kAbsent;
      node.there_parent = kNoNode;
      node.there_name.clear();
      node.version.clear();
    }
    DropOccupant(job);
    PG_TRY(Save(live));
    PG_TRY(transaction.Commit());
    return Outcome::kAgain;
  }
  // Changed on both sides: theirs keeps the name, ours stands beside it.
  const NodeId parent = node.parent;
  const std::string name = node.name;
  PG_TRY(KeepBeside(live));
  Node theirs;
  theirs.parent = parent;
  theirs.name = name;
  theirs.kind = there->attributes.symlink ? NodeKind::kSymlink : NodeKind::kFile;
  theirs.target = there->attributes.symlink.value_or("");
  theirs.there = There::kSame;
  if (NameToKey(name) != job->key) SetThere(&theirs, parent, job->key);
  theirs.version = there->version;
  theirs.size = theirs.there_size = there->size;
  theirs.mode = there->attributes.mode.value_or(0644);
  theirs.mtime = theirs.ctime = there->attributes.mtime.value_or(there->modified);
  theirs.attributes_known = true;
  DropOccupant(job);
  PG_TRY(index_->Insert(&theirs));
  PG_TRY(transaction.Commit());
  Log(LogLevel::kWarning, "{} was changed here and at the store: ours is kept as {}", name,
      live->node.name);
  Tell([parent, name](ChangeListener* l) { l->NameChanged(parent, name); });
  return Outcome::kAgain;
}

Status Drive::KeepBeside(Live* live) {
  Node& node = live->node;
  const time_t seconds = static_cast<time_t>(options_.clock->Wall() / 1'000'000'000);
  tm t{};
  gmtime_r(&seconds, &t);
  const std::string stamp = fmt::format("{:04}-{:02}-{:02} {:02}.{:02}.{:02}", t.tm_year + 1900,
                                        t.tm_mon + 1, t.tm_mday, t.tm_hour, t.tm_min, t.tm_sec);
  for (int copy = 1;; ++copy) {
    std::string name = ConflictName(node.name, options_.host,
                                    copy == 1 ? stamp : fmt::format("{} {}", stamp, copy));
    PG_ASSIGN(Live * taken, Find(node.parent, name));
    if (taken != nullptr) continue;
    node.name = std::move(name);
    break;
  }
  const bool at_its_place = node.there == There::kSame || node.there == There::kSpelled;
  if (at_its_place) {
    node.there = There::kAbsent;
    node.there_parent = kNoNode;
    node.there_name.clear();
    node.version.clear();
  }
  node.conflict = true;
  Tell([parent = node.parent, name = node.name](ChangeListener* l) {
    l->NameChanged(parent, name);
  });
  return Save(live);
}

}  // namespace pargeter
