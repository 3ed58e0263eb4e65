// Engine: a folder that the store cannot move in one request goes object by object. And how what
// the store copied is told from what others have.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <utility>

#include "base/digest.h"
#include "base/text.h"
#include "base/threads.h"
#include "engine/engine.h"
#include "engine/job.h"
#include "engine/tree/naming.h"

namespace pargeter {

namespace {

bool IsFolder(const Entry& entry) { return entry.name.empty() || entry.name.back() == '/'; }

// That file is not there, or not in that version.
bool IsGone(Code code) { return code == Code::kNotFound || code == Code::kChanged; }

}  // namespace

// ---- copies

bool Engine::MayBeCopy(const std::string& version, std::uint64_t size, const Entry& copy) const {
  if (copy.kind == Kind::kFolder || copy.size != size) return false;
  return copy.version == version || !store_->TellsContent(version);
}

// Most versions are digests of the content, and a copy has its original's. Of the others only the
// store knows: it copies it once more, and the copies are compared.
Result<bool> Engine::IsCopy(const Job& job, const std::string& below, const std::string& from,
                            const std::string& version, std::uint64_t size, const Entry& copy) {
  if (!MayBeCopy(version, size, copy)) return false;
  if (copy.version == version) return true;
  if (store_->Can().moves_files) return false;  // each copy is a version of its own
  const Call& call = job.call;
  const std::string scratch = below + std::string(kScratchPrefix) + "same-" +
                              Hex(Md5(from + "\n" + version + "\n" + own_id_));
  if (CopiedInParts(size) && below.empty()) {
    PG_TRY(EndParts(job.node.upload, call));
    PG_TRY(JournalUnknownParts(job.id, scratch));
  }
  const auto again =
      store_->Copy(from, version, size, scratch, nullptr, Precondition::Anything(), call);
  if (!again.ok()) {
    if (IsGone(again.error().code)) return false;
    return again.error();
  }
  PG_TRY(store_->Remove(scratch, Precondition::Anything(), call));
  return again->version == copy.version && again->size == copy.size;
}

Result<std::vector<Entry>> Engine::AllBelow(const std::string& folder, const Call& call) {
  std::vector<Entry> all;
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, store_->ListDeep(folder + "/", next, call));
    all.insert(all.end(), page.entries.begin(), page.entries.end());
    next = page.next;
    if (next.empty()) return all;
  }
}

// ---- there

// Every object below the folder's old place comes to the new one. Where something else stands there
// already, ours gets a name beside it.
Status Engine::BringBelow(Job* job) {
  PG_ASSIGN(const std::vector<Entry> objects, AllBelow(job->there_path, job->call));
  if (job->occupant != kNoNode) {
    for (const Entry& one : objects) job->came.insert(one.name);
  }
  if (std::any_of(objects.begin(), objects.end(),
                  [this](const Entry& one) { return CopiedInParts(one.size); }))
    PG_TRY(JournalUnknownParts(job->id, job->path + "/"));
  const bool made = store_->Can().real_folders;
  if (made) PG_TRY(MakeFoldersBelow(job, objects));
  std::atomic<std::size_t> at{0};
  Mutex mutex;
  std::optional<Error> failed;
  const auto work = [&] {
    for (std::size_t i = at++; i < objects.size(); i = at++) {
      if (made && IsFolder(objects[i]) && !objects[i].name.empty()) continue;
      const Status brought = Bring(job, objects[i], &mutex);
      if (brought.ok()) continue;
      const Lock lock(mutex);
      if (!failed) failed = brought.error();
      return;
    }
  };
  WorkTogether(std::min<std::size_t>(16, objects.size()), work);
  if (failed) return *failed;
  for (auto it = objects.rbegin(); it != objects.rend(); ++it) {  // emptied, under their old names
    if (!IsFolder(*it) || it->name.empty()) continue;
    const std::string path = it->name.substr(0, it->name.size() - 1);
    if (NewName(*job, path) == path) continue;
    PG_TRY(store_->RemoveFolder(job->there_path + "/" + path, job->call));
  }
  return {};
}

// Where others have given a file the name of one of them, ours stands beside that.
Status Engine::MakeFoldersBelow(Job* job, const std::vector<Entry>& objects) {
  for (const Entry& object : objects) {
    if (!IsFolder(object) || object.name.empty()) continue;
    const std::string path = object.name.substr(0, object.name.size() - 1);
    const std::string to = job->path + "/" + NewName(*job, path);
    const Status made = store_->MakeFolder(to, object.attributes, job->call);
    if (made.ok()) continue;
    if (made.error().code != Code::kChanged) return made;
    PG_ASSIGN(const Entry there, store_->Look(to, job->call));
    if (there.kind == Kind::kFolder) continue;
    const std::string kept = BesideThere(path);
    job->kept.push_back({path, kept, ""});
    PG_TRY(store_->MakeFolder(job->path + "/" + NewName(*job, path), object.attributes, job->call));
  }
  return {};
}

// Of a path below a moved folder: another part, where a folder of it is kept beside a file.
std::string Engine::NewName(const Job& job, const std::string& path) {
  std::string name = path;
  for (const auto& [from, kept, version] : job.kept) {  // the outer ones first
    if (!version.empty() || (path + "/").compare(0, from.size() + 1, from + "/") != 0) continue;
    const auto part = from.rfind('/') + 1;  // 0 where there is none
    const auto at = name.size() - (path.size() - part);
    name.replace(at, from.size() - part, kept.substr(kept.rfind('/') + 1));
  }
  return name;
}

std::string Engine::BesideThere(const std::string& path) const {
  const auto slash = path.rfind('/') + 1;  // 0 where there is none
  return path.substr(0, slash) +
         NameToKey(ConflictName(KeyToName(path.substr(slash)), options_.host, Stamp()));
}

// Does what stands at the new place come from a former attempt, or is it what a move away from
// there has left, and the object its copy?
Result<bool> Engine::AreSame(const Job& job, const Entry& object, const std::string& from,
                             const Entry& there, const std::string& to) {
  const auto left = job.left.find(object.name);
  if (left != job.left.end() && left->second == std::pair(there.version, object.version))
    return true;
  const std::string below = job.path + "/";
  PG_ASSIGN(const bool copy, IsCopy(job, below, from, object.version, object.size, there));
  if (copy || job.first_try) return copy;
  return IsCopy(job, below, to, there.version, there.size, object);
}

// One of them; `mutex` guards what the job learns.
Status Engine::Bring(Job* job, const Entry& object, Mutex* mutex) {
  const std::string from = job->there_path + "/" + object.name;
  const bool moves = store_->Can().moves_files && !IsFolder(object);
  const auto came = [&](const Entry& there) {
    const Lock lock(*mutex);
    job->ForgetKeptFile(object.name);  // what was in its way before is there no more
    if (there.version != object.version) job->copied[object.name] = {object.version, there.version};
  };
  const std::string name = [&] {
    const Lock lock(*mutex);
    return NewName(*job, object.name);
  }();
  const std::string to = job->path + "/" + name;
  const auto standing = job->standing.find(object.name);
  // (a folder's object has no content, but its mode and owner: ours come along)
  const Precondition only_if = IsFolder(object) ? Precondition::Anything()
                               : standing == job->standing.end()
                                   ? Precondition::Absent()
                                   : Precondition::Is(standing->second);
  const auto done = SendBelow(*job, object, to, only_if);
  if (done.ok()) {
    came(*done);
    if (moves || name == object.name) return {};
    return store_->Remove(from, Precondition::Is(object.version), job->call);
  }
  if (!IsGone(done.error().code)) return done.error();
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(to, job->call));
  if (there && IsFolder(object)) return {};
  // a file that moves cannot be there while it is here, however alike the two look
  if (there && (!moves || done.error().code == Code::kNotFound)) {
    PG_ASSIGN(const bool same, AreSame(*job, object, from, *there, to));
    if (same) {
      came(*there);
      return {};
    }
  }
  // others deleted it or moved it away, or changed it: looked at again
  if (done.error().code == Code::kNotFound) return {};
  if (!there) return Error(Code::kStale, done.error().what);
  return BringBeside(job, object, name, mutex);
}

// What others have at its place keeps that. `name`: what it would be called below the folder.
Status Engine::BringBeside(Job* job, const Entry& object, const std::string& name, Mutex* mutex) {
  const std::string from = job->there_path + "/" + object.name;
  const std::string kept = [&] {
    // written down before it is tried: if that fails, the next attempt has to know
    const Lock lock(*mutex);
    if (const Kept* former = job->KeptFile(object.name)) return former->name;
    job->kept.push_back({object.name, BesideThere(name), object.version});
    return job->kept.back().name;
  }();
  const std::string to = job->path + "/" + kept;
  auto done = SendBelow(*job, object, to, Precondition::Absent());
  if (!done.ok() && done.error().code == Code::kChanged && !store_->Can().moves_files) {
    const auto there = store_->Look(to, job->call);
    bool before = false;
    if (there.ok()) {
      PG_ASSIGN(before, IsCopy(*job, job->path + "/", from, object.version, object.size, *there));
    }
    if (before) done = *there;
  }
  if (!done.ok()) {
    const Lock lock(*mutex);
    if (IsGone(done.error().code)) job->ForgetKeptFile(object.name);
    return done.error();
  }
  {
    const Lock lock(*mutex);
    job->KeptFile(object.name)->version = done->version;
    if (done->version != object.version) job->copied[object.name] = {object.version, done->version};
  }
  if (store_->Can().moves_files) return {};
  return store_->Remove(from, Precondition::Is(object.version), job->call);
}

// One of them in one request, moved where that can be, else copied.
Result<Entry> Engine::SendBelow(const Job& job, const Entry& object, const std::string& to,
                                const Precondition& only_if) {
  const std::string from = job.there_path + "/" + object.name;
  if (store_->Can().moves_files && !IsFolder(object))
    return store_->MoveFile(from, object.version, to, only_if, job.call);
  return store_->Copy(from, object.version, object.size, to, nullptr, only_if, job.call);
}

// The file that the store has there below the folder, if that is known.
Result<std::optional<Node>> Engine::FileThere(View& view, NodeId folder, const std::string& path) {
  std::vector<std::string> parts = Split(path, '/');
  const std::string name = std::move(parts.back());
  parts.pop_back();
  for (const std::string& part : parts) {
    PG_ASSIGN(const auto next, NodeThere(view, folder, part, true));
    if (!next) return std::optional<Node>();
    folder = next->id;
  }
  return NodeThere(view, folder, name, false);
}

// What is known of the originals is true of their copies.
Status Engine::TakeCopies(View& view, NodeId folder, const Copies& copied) {
  for (const auto& [path, versions] : copied) {
    PG_ASSIGN(const auto known, FileThere(view, folder, path));
    if (!known || known->version != versions.first) continue;
    PG_ASSIGN(Live * live, view.Get(known->id));
    live->node.version = versions.second;
    if (live->content) {
      const Lock lock(live->content->mu);
      if (live->content->source.version == versions.first)
        live->content->source.version = versions.second;
    }
    PG_TRY(view.Save(live));
  }
  return {};
}

// Of what is held back in the folder whose place it takes, that which is there no more as it was:
// moved over, now or by a former attempt. Where one of ours goes, its place is not the held one's
// any more, even if they look alike.
Status Engine::SeeWhatCame(Job* job) {
  if (job->standing.empty() || !store_->Can().moves_files) return {};
  PG_ASSIGN(const std::vector<Entry> now, AllBelow(job->path, job->call));
  std::set<std::string> still;
  for (const Entry& one : now) {
    const auto it = job->standing.find(one.name);
    if (it != job->standing.end() && it->second == one.version) still.insert(one.name);
  }
  View view(&tree_);
  for (const auto& [path, version] : job->standing) {
    PG_ASSIGN(const auto ours, FileThere(view, job->id, path));
    if (ours || still.count(path) == 0) job->came.insert(path);
  }
  return {};
}

// ---- back

// A file may have the name as well, or instead.
Result<bool> Engine::IsFolderAt(const std::string& path, const Call& call) {
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(path, call));
  if (!there) return false;
  if (there->kind == Kind::kFolder) return true;
  if (store_->Can().real_folders) return false;
  PG_ASSIGN(const std::vector<Entry> below, AllBelow(path, call));
  return !below.empty();
}

// A folder that was being made is an object of its own; one that was being moved has copies of what
// is still at its former place.
Status Engine::TakeBackFolder(Job* job) {
  PG_ASSIGN(const std::vector<Entry> made, AllBelow(job->tried_path, job->call));
  if (made.empty()) return {};
  if (store_->Can().moves_folders && !job->there_path.empty()) {
    // moved whole, and nobody learnt of it: it goes back the same way
    PG_ASSIGN(const bool left, IsFolderAt(job->there_path, job->call));
    if (!left) {
      const Status back = store_->MoveFolder(job->tried_path, job->there_path, job->call);
      if (!back.ok() && back.error().code != Code::kChanged) return back;
      job->went_on = !back.ok();  // others have put something where it was
      return {};
    }
  }
  if (job->there_path.empty()) {
    if (made.size() == 1 && made[0].name.empty())
      return store_->RemoveFolder(job->tried_path, job->call);
    return {};
  }
  Copies copied;
  {
    View view(&tree_);
    if (const auto it = copied_below_(view).find(job->id); it != copied_below_(view).end())
      copied = it->second;
    if (const auto it = kept_below_(view).find(job->id); it != kept_below_(view).end())
      job->kept = it->second;
  }
  if (store_->Can().moves_files)
    PG_TRY(TakeBackMoved(*job, made));
  else
    PG_TRY(TakeBackKept(*job, made));
  PG_ASSIGN(std::vector<Entry> there, AllBelow(job->there_path, job->call));
  std::map<std::string, Entry> others;
  for (Entry& entry : there) others[entry.name] = std::move(entry);
  const std::string below = job->tried_path + "/";
  bool journalled = false;
  std::vector<Provider::Removal> copies;
  for (const Entry& entry : made) {
    if (store_->Can().moves_files && !IsFolder(entry)) continue;  // it was not copied
    const auto it = others.find(entry.name);
    if (it == others.end() || it->second.size != entry.size) continue;
    const Entry& other = it->second;
    const auto known = copied.find(entry.name);
    bool same = entry.version == other.version ||
                (known != copied.end() && known->second == std::pair(entry.version, other.version));
    const std::string here = below + entry.name, elsewhere = job->there_path + "/" + entry.name;
    if (!same && CopiedInParts(entry.size) && !std::exchange(journalled, true)) {
      PG_TRY(EndParts(job->node.upload, job->call));
      PG_TRY(JournalUnknownParts(job->id, below));
    }
    if (!same) {  // before a restart, perhaps: either may be the original
      PG_ASSIGN(same, IsCopy(*job, below, here, entry.version, entry.size, other));
    }
    if (!same) {
      PG_ASSIGN(same, IsCopy(*job, below, elsewhere, other.version, other.size, entry));
    }
    if (same) copies.push_back({here, entry.version});
  }
  if (copies.empty()) return {};
  PG_ASSIGN(const auto left, store_->RemoveMany(copies, job->call));
  return OutcomeOf(left);
}

// Files that had come to the new place already, and are known here by their versions.
Status Engine::TakeBackMoved(const Job& job, const std::vector<Entry>& made) {
  for (const Entry& one : made) {
    if (IsFolder(one)) continue;
    const std::string former = FormerName(job, one.name);
    {
      View view(&tree_);
      PG_ASSIGN(const auto known, FileThere(view, job.id, former));
      if (!known || known->version != one.version) continue;
    }
    const auto back =
        store_->MoveFile(job.tried_path + "/" + one.name, one.version,
                         job.there_path + "/" + former, Precondition::Absent(), job.call);
    if (!back.ok() && !IsGone(back.error().code)) return back.error();
  }
  return {};
}

// Where files are copied, the original of one that got a name beside another's went at once.
Status Engine::TakeBackKept(const Job& job, const std::vector<Entry>& made) {
  const std::string below = job.there_path + "/";
  for (const Entry& one : made) {
    const std::string former = FormerName(job, one.name);
    if (former == one.name || IsFolder(one)) continue;
    if (CopiedInParts(one.size)) PG_TRY(JournalUnknownParts(job.id, below));
    const std::string from = job.tried_path + "/" + one.name;
    const auto back = store_->Copy(from, one.version, one.size, below + former, nullptr,
                                   Precondition::Absent(), job.call);
    if (!back.ok() && !IsGone(back.error().code)) return back.error();
    if (!back.ok() && back.error().code == Code::kChanged) {  // there already?
      PG_ASSIGN(const Entry there, store_->Look(below + former, job.call));
      PG_ASSIGN(const bool same, IsCopy(job, below, from, one.version, one.size, there));
      if (!same) continue;
    }
    if (!back.ok() && back.error().code == Code::kNotFound) continue;
    PG_TRY(store_->Remove(from, Precondition::Is(one.version), job.call));
  }
  return {};
}

// What was called so, where a part of its path got another name beside others'.
std::string Engine::FormerName(const Job& job, const std::string& name) {
  const auto last = [](const std::string& path) { return path.substr(path.rfind('/') + 1); };
  std::string former;
  for (std::string& part : Split(name, '/')) {
    for (const Kept& one : job.kept)
      if (part == last(one.name)) part = last(one.path);
    former += (former.empty() ? "" : "/") + part;
  }
  return former;
}

}  // namespace pargeter
