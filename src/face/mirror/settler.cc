#include "face/mirror/settler.h"

#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"

namespace pargeter {

namespace {

constexpr std::size_t kMostAtOnce = 1000;           // files that are fetched before a sync
constexpr std::uint64_t kBytesAtOnce = 256 * kMiB;  // or so many bytes
constexpr std::uint64_t kRoomLeft = 16 * kMiB;      // on the disk

HereNode HereOf(const Node& node) {
  HereNode here;
  here.id = node.id;
  here.parent = node.parent;
  here.name = node.name;
  here.kind = node.kind;
  here.generation = node.generation;
  here.size = node.size;
  here.ours = node.dirty & kData;
  here.hidden = node.effective == Placement::kHide || node.effective == Placement::kThin;
  if (node.attributes_known) here.mode = node.mode & 0777;
  here.mtime = node.mtime;
  here.target = node.target;
  return here;
}

std::string Below(const std::string& folder, const std::string& name) {
  return folder.empty() ? name : folder + "/" + name;
}

bool IsMove(StepKind kind) { return kind <= StepKind::kForget; }
bool IsFetchOfFile(const Step& step) {
  return step.kind == StepKind::kFetch && step.here.kind == NodeKind::kFile;
}
bool IsTransfer(StepKind kind) {
  return kind == StepKind::kCompare || kind == StepKind::kCreateHere ||
         kind == StepKind::kReplaceHere || kind == StepKind::kFetch;
}

// Somebody else was there between; a new plan sees what is there now.
bool IsOvertaken(Code code) {
  return code == Code::kChanged || code == Code::kStale || code == Code::kExists ||
         code == Code::kNotFound || code == Code::kNotEmpty;
}

}  // namespace

// ---- what the plan asks

std::optional<HereNode> Settler::NodeOf(NodeId id) {
  const auto state = drive_.State(id);
  if (!state.ok() || state->node.gone()) return {};
  return HereOf(state->node);
}

bool Settler::HasRecord(NodeId id) {
  const auto record = records_.Get(id);
  return record.ok() && *record;
}

std::optional<Record> Settler::MovedFrom(const Fingerprint& print) {
  const auto same = records_.FindInode(print.device, print.inode);
  if (!same.ok()) return {};
  for (const Record& record : *same) {
    if (!record.print.IsSameFile(print)) continue;
    const auto path = records_.PathOf(record.id);
    if (!path.ok()) continue;
    const auto there = directory_.Look(*path);
    // (if another file has that name by now, its bytes are taken as new ones of the record's)
    if (there.ok() && !*there) return record;
  }
  return {};
}

// ---- a pass

Status Settler::FindPlaced() {
  PG_ASSIGN(const std::vector<Record> placing, records_.Placing());
  for (const Record& record : placing) {
    const auto above = records_.PathOf(record.parent);
    if (above.ok()) {
      PG_ASSIGN(const auto there, directory_.Look(Below(*above, record.name)));
      if (there && there->print.HasSameTimes(record.print)) {
        Record placed = record;
        placed.print = there->print;
        PG_TRY(records_.Save(placed));
      }
    }
    PG_TRY(records_.PlacingDone(record.id));
  }
  return {};
}

Result<std::optional<FolderViews>> Settler::Gather(NodeId folder, const std::string& path) {
  FolderViews views;
  views.id = folder;
  // Before its first listing a folder seems empty: what is on the disk would seem new.
  const auto self = drive_.State(folder);
  if (!self.ok()) return std::optional<FolderViews>();
  if (self->node.listed_at == 0 && self->node.remote.place != RemotePlace::kNone)
    return std::optional(std::move(views));
  if (watch_ != nullptr) {
    const Status watched = watch_->Watch(path);
    if (!watched.ok() && watched.error().code == Code::kTooMany) NoteProblem(path, watched);
  }
  auto disk = directory_.List(path);
  if (!disk.ok() && (disk.error().code == Code::kNotFound || disk.error().code == Code::kNotFolder))
    return std::optional<FolderViews>();
  if (!disk.ok()) {  // one folder that cannot be read does not stop the others
    NoteProblem(path, disk.status());
    return std::optional(FolderViews{folder, {}, {}, {}});
  }
  views.disk = std::move(*disk);
  PG_ASSIGN(views.records, records_.Children(folder));
  const auto here = drive_.ListStates(folder);
  if (!here.ok()) return std::optional<FolderViews>();
  for (const NodeState& state : *here) {
    views.here.push_back(HereOf(state.node));
    if (folder != kRootId || state.node.name != Directory::kOwnFolder) continue;
    views.here.pop_back();
    NoteProblem(state.node.name,
                Error(Code::kExists, "left out: the mirror's own folder has that name"));
  }
  return std::optional(std::move(views));
}

Result<std::vector<Settler::Work>> Settler::PlanAll(const std::set<NodeId>& folders,
                                                    PassResult* result) {
  std::vector<Work> works;
  for (const NodeId folder : folders) {
    if (options_.stop->cancelled()) return Error(Code::kCancelled, "the mirror ends");
    const auto path = records_.PathOf(folder);
    if (!path.ok()) continue;  // it is looked at when the directory has it
    PG_ASSIGN(const auto views, Gather(folder, *path));
    if (!views) {
      PG_ASSIGN(const auto record, records_.Get(folder));
      if (record && folders.count(record->parent) == 0) result->again.insert(record->parent);
      continue;
    }
    for (Step& step : PlanFolder(*views, this)) works.push_back({folder, *path, std::move(step)});
  }
  // A record whose file has another name now is no record of a missing file.
  std::set<NodeId> moved;
  for (const Work& work : works) {
    const auto& record = work.step.record;
    if (record && (record->parent != work.folder || record->name != work.step.name))
      moved.insert(record->id);
  }
  std::erase_if(works, [&](const Work& work) {
    return moved.count(work.step.id) > 0 &&
           (work.step.kind == StepKind::kForget || work.step.kind == StepKind::kRemoveHere);
  });
  std::stable_sort(works.begin(), works.end(),
                   [](const Work& a, const Work& b) { return a.step.kind < b.step.kind; });
  return works;
}

Result<PassResult> Settler::Pass(const std::set<NodeId>& folders) {
  PG_TRY(directory_.Check());
  PassResult result;
  PG_ASSIGN(std::vector<Work> works, PlanAll(folders, &result));
  // (a directory that was taken away meanwhile looks as if all in it were deleted)
  PG_TRY(directory_.Check());
  const bool moves = !works.empty() && IsMove(works.front().step.kind);
  if (moves) {  // what seems new or missing may be what moves
    std::erase_if(works, [](const Work& work) { return !IsMove(work.step.kind); });
    result.again.insert(folders.begin(), folders.end());
  }
  std::vector<Work> transfers, fetches;
  for (const Work& work : works) {
    if (IsFetchOfFile(work.step))
      fetches.push_back(work);
    else if (IsTransfer(work.step.kind))
      transfers.push_back(work);
  }
  std::erase_if(works, [](const Work& work) { return IsTransfer(work.step.kind); });
  const auto begin = std::find_if(works.begin(), works.end(), [](const Work& work) {
    return work.step.kind > StepKind::kFetch;
  });
  for (auto it = works.begin(); it != begin; ++it) Take(*it, &result);
  ForEach(transfers.size(), [&](std::size_t i) { Take(transfers[i], &result); });
  FetchAll(fetches, &result);
  if (options_.stop->cancelled()) return Error(Code::kCancelled, "the mirror ends");
  for (auto it = begin; it != works.end(); ++it) Take(*it, &result);
  result.steps = works.size() + transfers.size() + fetches.size();
  return result;
}

// By several threads.
void Settler::ForEach(std::size_t count, const std::function<void(std::size_t)>& each) const {
  std::atomic<std::size_t> next{0};
  const auto run = [&] {
    for (std::size_t i = next++; i < count && !options_.stop->cancelled(); i = next++) each(i);
  };
  std::vector<std::thread> threads;
  const std::size_t most = std::min<std::size_t>(count, options_.workers);
  for (std::size_t i = 1; i < most; ++i) {
    try {
      threads.emplace_back(run);
    } catch (const std::system_error&) {
      break;  // fewer do
    }
  }
  run();
  for (std::thread& thread : threads) thread.join();
}

void Settler::Take(const Work& work, PassResult* result) {
  PassResult own;
  const Status taken = TakeStep(work, &own);
  {
    const Lock lock(mutex_);
    result->again.insert(own.again.begin(), own.again.end());
    result->later.insert(own.later.begin(), own.later.end());
  }
  NoteOutcome(work, taken, result);
}

void Settler::NoteOutcome(const Work& work, const Status& taken, PassResult* result) {
  const std::string path = work.PathOfName();
  const Lock lock(mutex_);
  if (taken.ok()) {
    if (work.step.kind != StepKind::kLeaveOut) problems_.erase(path);
    return;
  }
  const Code code = taken.error().code;
  result->later.insert(work.folder);
  if (IsOvertaken(code) || code == Code::kBusy || code == Code::kCancelled) return;
  if (std::exchange(problems_[path], taken.error().what) == taken.error().what) return;
  LogAbout(LogLevel::kWarning, {path, NameOf(code)}, "{}: {}", Printable(path), taken.error().what);
}

Status Settler::TakeStep(const Work& work, PassResult* result) {
  switch (work.step.kind) {
    case StepKind::kMoveHere:
      return MoveHere(work, result);
    case StepKind::kMoveOnDisk:
      return MoveOnDisk(work, result);
    case StepKind::kKeepBeside:
      return KeepBeside(work);
    case StepKind::kForget:
      return Forget(work.step.id);
    case StepKind::kMakeFolderHere:
      return MakeFolderHere(work, result);
    case StepKind::kMakeFolderOnDisk:
      return MakeFolderOnDisk(work, result);
    case StepKind::kCompare:
      return Compare(work, result);
    case StepKind::kCreateHere:
      return CreateHere(work, "");
    case StepKind::kReplaceHere:
      return ReplaceHere(work);
    case StepKind::kFetch:
      return FetchSymlink(work);  // (files: FetchAll)
    case StepKind::kSetHere:
      return SetHere(work);
    case StepKind::kSetOnDisk:
      return SetOnDisk(work);
    case StepKind::kRemoveHere:
      return RemoveHere(work, result);
    case StepKind::kTakeOut:
      return TakeOut(work, result);
    case StepKind::kLeaveOut:
      NoteProblem(work.PathOfName(), Error(Code::kUnsupported,
                                           "left out: only files, folders and symbolic links of "
                                           "this file system are kept at a store"));
      return {};
  }
  return {};
}

void Settler::NoteProblem(const std::string& path, const Status& status) {
  const Lock lock(mutex_);
  problems_[path] = status.error().what;
}

std::map<std::string, std::string> Settler::Problems() const {
  const Lock lock(mutex_);
  return problems_;
}

// ---- names

Status Settler::SaveRecord(Record record, const Fingerprint& found) {
  if (found.HasSameTimes(record.print)) {  // else it has new bytes, and the next plan sees them
    const std::uint32_t mode = record.print.mode;
    record.print = found;
    record.print.mode = mode;
  }
  return records_.Save(record);
}

Status Settler::AddBelow(NodeId folder, std::set<NodeId>* to) {
  to->insert(folder);
  PG_ASSIGN(const std::vector<Record> children, records_.Children(folder));
  for (const Record& child : children)
    if (child.print.kind == DiskKind::kFolder) PG_TRY(AddBelow(child.id, to));
  return {};
}

Status Settler::MoveHere(const Work& work, PassResult* result) {
  Record record = *work.step.record;
  const std::optional<HereNode> node = NodeOf(record.id);
  PG_ASSIGN(const auto known, records_.Get(record.id));
  if (!node || !known || node->parent != known->parent || node->name != known->name ||
      known->parent != record.parent || known->name != record.name)
    return Error(Code::kChanged, "an earlier step has moved it");
  PG_ASSIGN(const auto replaced, records_.Find(work.folder, work.step.name));
  if (replaced && !IsAsRecorded(*replaced)) {  // the program did not know that version
    PG_TRY(Forget(replaced->id));
    return Error(Code::kChanged, "the replaced file has changed at the store");
  }
  PG_TRY(drive_.Rename(record.parent, record.name, work.folder, work.step.name,
                       replaced ? Drive::Replace::kYes : Drive::Replace::kNo));
  if (replaced) PG_TRY(Forget(replaced->id));
  result->again.insert(record.parent);
  record.parent = work.folder;
  record.name = work.step.name;
  PG_TRY(SaveRecord(record, work.step.disk.print));
  if (record.print.kind == DiskKind::kFolder) return AddBelow(record.id, &result->again);
  return {};
}

bool Settler::IsAsRecorded(const Record& record) {
  const std::optional<HereNode> node = NodeOf(record.id);
  return !node || node->ours || node->kind != NodeKind::kFile ||
         node->generation == record.generation;
}

Status Settler::MoveOnDisk(const Work& work, PassResult* result) {
  const HereNode& here = work.step.here;
  PG_ASSIGN(auto record, records_.Get(here.id));
  if (!record || (record->parent == here.parent && record->name == here.name)) return {};
  PG_ASSIGN(const std::string from, records_.PathOf(here.id));
  const auto above = records_.PathOf(here.parent);
  if (!above.ok()) {  // its folder comes first
    result->later.insert(here.parent);
    return Error(Code::kBusy, "the folder is not here yet");
  }
  const std::string to = Below(*above, here.name);
  PG_ASSIGN(const auto taken, directory_.Look(to));
  PG_ASSIGN(auto other, records_.Find(here.parent, here.name));
  result->again.insert({record->parent, here.parent});
  if (taken && !other) return Error(Code::kChanged, "another file has the name");
  if (taken) {  // the other one has its turn from where this one was
    PG_TRY(directory_.Exchange(from, to));
    PG_TRY(records_.Drop(other->id));
    other->parent = record->parent;
    other->name = record->name;
  } else {
    PG_TRY(directory_.Move(from, to));
  }
  record->parent = here.parent;
  record->name = here.name;
  PG_ASSIGN(const auto moved, directory_.Look(to));
  PG_TRY(SaveRecord(*record, moved ? moved->print : record->print));
  if (taken) {
    PG_ASSIGN(const auto exchanged, directory_.Look(from));
    PG_TRY(SaveRecord(*other, exchanged ? exchanged->print : other->print));
  }
  if (record->print.kind == DiskKind::kFolder) PG_TRY(AddBelow(record->id, &result->again));
  return {};
}

Status Settler::KeepBeside(const Work& work) {
  PG_ASSIGN(const std::string name, drive_.ConflictName(work.folder, work.step.name));
  PG_TRY(directory_.Move(work.PathOfName(), Below(work.path, name)));
  if (work.step.record) PG_TRY(Forget(work.step.record->id));
  LogAbout(LogLevel::kWarning, {work.PathOfName(), "conflict"},
           "{} was changed here and at the store: ours is kept as {}", Printable(work.PathOfName()),
           Printable(name));
  if (work.step.disk.print.kind != DiskKind::kFile) return {};
  Work beside = work;
  beside.step.name = name;
  beside.step.disk.name = name;
  return CreateHere(beside, work.step.name);
}

Status Settler::Forget(NodeId id) {
  PG_ASSIGN(const std::vector<Record> children, records_.Children(id));
  for (const Record& child : children) PG_TRY(Forget(child.id));
  return records_.Drop(id);
}

Status Settler::MakeFolderHere(const Work& work, PassResult* result) {
  const Fingerprint& print = work.step.disk.print;
  const DriveOptions& options = drive_.options();
  PG_ASSIGN(const Attr made,
            drive_.MakeFolder(work.folder, work.step.name, print.mode, options.uid, options.gid));
  drive_.Forget(made.id, 1);
  PG_TRY(records_.Save({made.id, work.folder, work.step.name, print, 0, {}}));
  result->again.insert(made.id);
  return {};
}

Status Settler::MakeFolderOnDisk(const Work& work, PassResult* result) {
  const HereNode& here = work.step.here;
  PG_TRY(directory_.MakeFolder(work.PathOfName(), here.mode.value_or(0755)));
  PG_ASSIGN(const auto made, directory_.Look(work.PathOfName()));
  if (!made) return Error(Code::kChanged, "the folder is gone again");
  PG_TRY(records_.Save({here.id, work.folder, work.step.name, made->print, 0, {}}));
  result->again.insert(here.id);
  return {};
}

// ---- bytes

std::string Settler::NewStagingName() {
  return fmt::format("{}/{}", options_.staging_folder, ++staged_);
}

Status Settler::Compare(const Work& work, PassResult* result) {
  const HereNode& here = work.step.here;
  PG_ASSIGN(const bool equal, IsEqual(work));
  if (!equal) return KeepBeside(work);
  PG_TRY(records_.Save(
      {here.id, work.folder, work.step.name, work.step.disk.print, here.generation, here.target}));
  if (here.kind == NodeKind::kFolder) result->again.insert(here.id);
  return {};
}

Result<bool> Settler::IsEqual(const Work& work) {
  const HereNode& here = work.step.here;
  if (here.kind == NodeKind::kFolder) return true;
  if (here.kind == NodeKind::kSymlink) return here.target == work.step.disk.target;
  if (here.size != work.step.disk.print.size) return false;
  PG_ASSIGN(const Fd fd, directory_.OpenFile(work.PathOfName()));
  const auto digest = drive_.CompareWithVersion(here.id, fd.get());
  if (digest.ok() && *digest) return **digest;
  PG_ASSIGN(const Drive::Opened opened, drive_.OpenKnown(here.id));
  const auto equal =
      HasBytes(fd.get(), here.size, [&](char* data, std::size_t size, std::uint64_t offset) {
        return drive_.Read(opened.file, data, size, offset);
      });
  drive_.Release(opened.file);
  return equal;
}

Status Settler::CreateHere(const Work& work, const std::string& conflicts_with) {
  const std::string path = work.PathOfName();
  const DiskEntry& disk = work.step.disk;
  const DriveOptions& options = drive_.options();
  if (disk.print.kind == DiskKind::kSymlink) {
    PG_ASSIGN(const Attr made, drive_.MakeSymlink(work.folder, work.step.name, disk.target,
                                                  options.uid, options.gid));
    drive_.Forget(made.id, 1);
    return records_.Save({made.id, work.folder, work.step.name, disk.print, 0, disk.target});
  }
  PG_ASSIGN(const StagedCopy copy, StageCopyOf(directory_, path, NewStagingName(), options_.quiet));
  const auto made = drive_.CreateFrom(work.folder, work.step.name, copy.file, conflicts_with);
  if (!made.ok()) {
    Ignore(RealDisk().Remove(copy.file.path));
    return made.error();
  }
  return records_.Save(
      {made->node.id, work.folder, work.step.name, copy.print, made->node.generation, {}});
}

Status Settler::ReplaceHere(const Work& work) {
  const HereNode& here = work.step.here;
  if (here.kind == NodeKind::kSymlink) {  // a link with another target is another link
    PG_TRY(drive_.Unlink(work.folder, work.step.name));
    PG_TRY(records_.Drop(here.id));
    return CreateHere(work, "");
  }
  PG_ASSIGN(const StagedCopy copy,
            StageCopyOf(directory_, work.PathOfName(), NewStagingName(), options_.quiet));
  const auto generation = drive_.ReplaceContent(here.id, here.generation, copy.file);
  if (!generation.ok()) {
    Ignore(RealDisk().Remove(copy.file.path));
    return generation.error();
  }
  PG_TRY(records_.Save({here.id, work.folder, work.step.name, copy.print, *generation, {}}));
  if (here.mode != copy.print.mode) {
    PG_TRY(drive_.SetAttr(here.id, {.mode = copy.print.mode}, nullptr).status());
  }
  return {};
}

Status Settler::FetchSymlink(const Work& work) {
  const HereNode& here = work.step.here;
  const std::string path = work.PathOfName();
  if (work.step.record) PG_TRY(directory_.TakeOut(path, work.step.record->print));
  PG_TRY(directory_.MakeSymlink(here.target, path, here.mtime));
  PG_ASSIGN(const auto made, directory_.Look(path));
  if (!made) return Error(Code::kChanged, "the link is gone again");
  return records_.Save(
      {here.id, work.folder, work.step.name, made->print, here.generation, here.target});
}

void Settler::FetchAll(const std::vector<Work>& works, PassResult* result) {
  for (std::size_t begin = 0; begin < works.size() && !options_.stop->cancelled();) {
    std::size_t end = begin;
    for (std::uint64_t bytes = 0;
         end < works.size() && end - begin < kMostAtOnce && (bytes == 0 || bytes < kBytesAtOnce);
         ++end)
      bytes += works[end].step.here.size;
    std::vector<std::optional<Fetched>> fetched(end - begin);
    ForEach(fetched.size(), [&](std::size_t i) {
      auto one = FetchBytes(works[begin + i]);
      if (one.ok())
        fetched[i] = std::move(*one);
      else
        NoteOutcome(works[begin + i], one.status(), result);
    });
    const Status synced = directory_.Sync();
    ForEach(fetched.size(), [&](std::size_t i) {
      if (!fetched[i]) return;
      const Work& work = works[begin + i];
      const Status placed = synced.ok() ? PlaceFetched(work, *fetched[i]) : synced;
      if (!placed.ok()) directory_.DropFile(fetched[i]->file);
      NoteOutcome(work, placed, result);
    });
    begin = end;
  }
}

Result<Settler::Fetched> Settler::FetchBytes(const Work& work) {
  const HereNode& here = work.step.here;
  PG_ASSIGN(const std::uint64_t room, directory_.FreeBytes());
  if (room < here.size + kRoomLeft)
    return Error(Code::kNoSpace, fmt::format("the disk has no room for {}", FormatSize(here.size)));
  PG_ASSIGN(const Drive::Opened opened, drive_.OpenKnown(here.id));
  auto file = directory_.BeginFile();
  std::uint64_t at = 0;
  Status read = file.status();
  std::string piece(static_cast<std::size_t>(std::min<std::uint64_t>(here.size + 1, kMiB)), '\0');
  while (read.ok()) {
    const auto n = drive_.Read(opened.file, piece.data(), piece.size(), at);
    if (!n.ok()) read = n.error();
    if (!n.ok() || *n == 0) break;
    read = RealDisk().WriteAt(file->fd.get(), std::string_view(piece).substr(0, *n), at);
    at += *n;
    if (options_.stop->cancelled()) read = Error(Code::kCancelled, "the mirror ends");
  }
  drive_.Release(opened.file);
  const auto now = NodeOf(here.id);
  if (read.ok() && (!now || now->generation != here.generation || at != now->size))
    read = Error(Code::kStale, "the file has another content by now");
  const std::uint32_t known = work.step.record ? work.step.record->print.mode : 0644;
  auto print = read.ok() ? directory_.EndFile(*file, now->mode.value_or(known), now->mtime)
                         : Result<Fingerprint>(read.error());
  if (!print.ok()) {
    if (file.ok()) directory_.DropFile(*file);
    return print.error();
  }
  file->fd.Reset();
  return Fetched{std::move(*file),
                 {here.id, work.folder, work.step.name, *print, here.generation, {}}};
}

Status Settler::PlaceFetched(const Work& work, const Fetched& fetched) {
  PG_TRY(records_.NotePlacing(fetched.record));
  const std::string path = work.PathOfName();
  PG_TRY(work.step.record ? directory_.PlaceOver(fetched.file, path, work.step.record->print)
                          : directory_.PlaceNew(fetched.file, path));
  PG_ASSIGN(const auto there, directory_.Look(path));
  PG_TRY(SaveRecord(fetched.record, there ? there->print : fetched.record.print));
  return records_.PlacingDone(work.step.here.id);
}

Status Settler::SetHere(const Work& work) {
  const std::uint32_t mode = work.step.disk.print.mode;
  if (mode != work.step.record->print.mode) {
    PG_TRY(drive_.SetAttr(work.step.id, {.mode = mode}, nullptr).status());
  }
  Record record = *work.step.record;
  record.print = work.step.disk.print;
  return records_.Save(record);
}

Status Settler::SetOnDisk(const Work& work) {
  const std::string path = work.PathOfName();
  PG_TRY(directory_.SetMode(path, *work.step.here.mode));
  PG_ASSIGN(const auto there, directory_.Look(path));
  Record record = *work.step.record;
  record.print.mode = *work.step.here.mode;
  return SaveRecord(record, there ? there->print : record.print);
}

// ---- removals

Status Settler::RemoveHere(const Work& work, PassResult* result) {
  const auto state = drive_.State(work.step.id);
  if (!state.ok()) return Forget(work.step.id);
  // Transfers may have taken long since the plan.
  PG_ASSIGN(const auto back, directory_.Look(work.PathOfName()));
  if ((back && back->print.kind == work.step.record->print.kind) ||
      !IsAsRecorded(*work.step.record))
    return Error(Code::kChanged, "the file has come back, or has changed at the store");
  bool all = true;
  PG_TRY(RemoveTreeHere(work.folder, state->node, &all));
  if (!all) result->again.insert(work.folder);
  return {};
}

// A file that came to the folder from the store since, and was never in the directory, stays, with
// the folders that it is in: they have no record then, and come back.
Status Settler::RemoveTreeHere(NodeId parent, const Node& node, bool* all) {
  if (node.kind != NodeKind::kFolder) {
    PG_TRY(drive_.Unlink(parent, node.name));
    return records_.Drop(node.id);
  }
  bool empty = true;
  PG_ASSIGN(const std::vector<NodeState> children, drive_.ListStates(node.id));
  for (const NodeState& child : children) {
    PG_ASSIGN(const auto record, records_.Get(child.node.id));
    const bool same =
        record &&
        (child.node.kind == NodeKind::kFolder || (child.node.dirty & kData) ||
         child.node.generation == record->generation || child.node.kind == NodeKind::kSymlink);
    if (!same) {
      empty = false;
      if (record) PG_TRY(records_.Drop(child.node.id));
      continue;
    }
    PG_TRY(RemoveTreeHere(node.id, child.node, &empty));
  }
  if (!empty) *all = false;
  PG_TRY(records_.Drop(node.id));
  return empty ? drive_.RemoveFolder(parent, node.name) : Status();
}

Status Settler::TakeOut(const Work& work, PassResult* result) {
  const Record& record = *work.step.record;
  result->again.insert(work.folder);  // for what is left of a folder
  if (record.print.kind == DiskKind::kFolder) return TakeOutTree(record.id, work.PathOfName());
  Fingerprint known = work.step.disk.print;  // (its mode may be another than the record's)
  if (!known.HasSameTimes(record.print)) return Error(Code::kChanged, "the file was changed");
  PG_TRY(directory_.TakeOut(work.PathOfName(), known));
  return records_.Drop(record.id);
}

// A new or changed file in the folder stays, and becomes new at the store with its folder.
Status Settler::TakeOutTree(NodeId folder, const std::string& path) {
  const auto disk = directory_.List(path);
  if (!disk.ok() && disk.error().code != Code::kNotFound) return disk.error();
  if (disk.ok()) {
    for (const DiskEntry& entry : *disk) {
      PG_ASSIGN(const auto record, records_.Find(folder, entry.name));
      if (!record) continue;
      if (const auto node = NodeOf(record->id); node && !node->hidden) continue;
      const std::string inside = Below(path, entry.name);
      if (entry.print.kind == DiskKind::kFolder) {
        PG_TRY(TakeOutTree(record->id, inside));
      } else if (entry.print.HasSameTimes(record->print)) {
        PG_TRY(directory_.TakeOut(inside, entry.print));
      }
    }
  }
  PG_TRY(Forget(folder));
  const Status removed = directory_.RemoveEmptyFolder(path);
  if (!removed.ok() && removed.error().code != Code::kNotEmpty) return removed;
  return {};
}

}  // namespace pargeter
