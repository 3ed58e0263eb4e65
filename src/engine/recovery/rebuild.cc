// Recovery: an index that was damaged or lost is made anew. What the store has shows again with the
// next listings; what waited for upload is found by the notes that its files carry.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>

#include "base/log.h"
#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/content/contents.h"
#include "engine/context/facts.h"
#include "engine/policy/deletion_guard.h"
#include "engine/policy/placement_rules.h"
#include "engine/provenance/provenance.h"
#include "engine/recovery/recovery.h"
#include "engine/sync/conflict_resolver.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr off_t kQuicklyExamined = 64 << 20;

constexpr const char* kLostAndFound = "found again";
}  // namespace

Status Recovery::OpenIndex(View& view) {
  const std::string path = options_.state_folder + "/index.db";
  struct stat info {};
  const bool there = ::stat(path.c_str(), &info) == 0;
  // a large one is examined only if it was not closed in peace
  const bool rested = ::access((options_.state_folder + "/rested").c_str(), F_OK) == 0;
  const bool thorough = there && (!rested || info.st_size < kQuicklyExamined);
  auto opened = Index::Open(path, options_.disk, thorough);
  if (opened.ok()) {
    view.SetIndex(std::move(*opened));
    // It gets its id when all else is done. Without, it is new, or was emptied, or the process that
    // made it anew did not come to an end: what waits is not in it.
    PG_ASSIGN(const std::string id, view.index().Meta(Mark::kDriveId));
    return id.empty() ? Rebuild(view) : Status();
  }
  if (opened.error().code != Code::kDamaged) return opened.error();
  const std::string aside =
      fmt::format("{}.damaged-{}", path, options_.clock->Wall() / 1'000'000'000);
  Log(LogLevel::kError, "{}; it is kept as {} and made anew", opened.error().what, aside);
  PG_TRY(options_.disk->Rename(path, aside));
  for (const char* ending : {"-wal", "-shm"}) PG_TRY(options_.disk->Remove(path + ending));
  PG_ASSIGN(auto fresh, Index::Open(path, options_.disk, false));
  view.SetIndex(std::move(fresh));
  return Rebuild(view);
}

Status Recovery::Rebuild(View& view) {
  const std::vector<NodeId> pending = blocks_->List(Place::kPending);
  // numbers are given anew: nothing may take a cached file for its own
  for (const NodeId id : blocks_->List(Place::kCache)) PG_TRY(blocks_->Drop(id, Place::kCache));
  PG_TRY(options_.disk->Remove(options_.cache_folder + "/.drive"));
  NodeId highest = kRootId;
  for (const NodeId id : pending) highest = std::max(highest, id);
  PG_TRY(view.index().StartIdsAbove(highest));
  for (const NodeId id : pending) {
    PG_ASSIGN(const auto adopted, view.index().Get(id));
    if (!adopted) PG_TRY(AdoptPending(view, id));
  }
  if (pending.empty()) return {};
  PG_TRY(blocks_->SyncNames(Place::kPending));
  const std::string warning = fmt::format("the index was lost; {} waiting file{} found again",
                                          pending.size(), pending.size() == 1 ? " was" : "s were");
  health_.Warn(warning);
  Log(LogLevel::kWarning, "{}", warning);
  return view.index().Sync();
}

Result<NodeId> Recovery::FolderFor(View& view, const std::string& path) {
  NodeId at = kRootId;
  for (const std::string& part : Split(path, '/')) {
    if (part.empty()) continue;
    PG_ASSIGN(Inode * inode, view.Find(at, part));
    if (inode == nullptr) {
      PG_ASSIGN(inode, names_.NewNode(view, at, part, NodeKind::kFolder, 0755, options_.uid,
                                      options_.gid));
      // the store most likely has it; if not, the next listing of the folder above makes it new
      inode->node.remote.place = RemotePlace::kSame;
      inode->node.attributes_known = false;
      inode->node.pending.seq = 0;
      PG_TRY(view.Save(inode));
    }
    if (inode->node.kind != NodeKind::kFolder)
      return Error(Code::kNotFolder, "a file is in the way");
    at = inode->node.id;
  }
  return at;
}

// A file without a usable note goes into a folder of its own.
Status Recovery::AdoptPending(View& view, NodeId block) {
  PG_ASSIGN(const std::uint64_t length, blocks_->LengthOf(block, Place::kPending));
  const std::vector<std::string> note = Split(blocks_->Note(block, Place::kPending), '\0');
  const bool noted = note.size() >= 4 && !note[0].empty();
  std::string path = noted ? note[0] : fmt::format("{}/{}", kLostAndFound, block);
  const auto slash = path.rfind('/');
  Change change(&view);
  auto folder = FolderFor(view, slash == std::string::npos ? "" : path.substr(0, slash));
  if (!folder.ok()) {
    path = fmt::format("{}/{}", kLostAndFound, block);
    folder = FolderFor(view, kLostAndFound);
  }
  if (!folder.ok()) return folder.error();
  std::string name = path.substr(path.rfind('/') + 1);
  PG_ASSIGN(Inode * taken, view.Find(*folder, name));
  if (taken != nullptr) name = ConflictName(name, options_.host, facts_.Stamp());
  PG_ASSIGN(Inode * inode,
            names_.NewNode(view, *folder, name, NodeKind::kFile, 0644, options_.uid, options_.gid));
  Node& node = inode->node;
  node.dirty = kData;
  PG_ASSIGN(node.pending.since, blocks_->ChangedAt(block, Place::kPending));  // it waits since then
  node.size = length;
  const std::vector<std::string> words = noted ? Split(note[2], ' ') : std::vector<std::string>();
  RangeSet present;
  present.Add({0, length});
  if (noted && !note[1].empty()) {
    // the ranges are the rest of the note, which may hold any byte
    std::string ranges = note[3];
    for (std::size_t i = 4; i < note.size(); ++i) ranges += std::string(1, '\0') + note[i];
    present = RangeSet::Parse(ranges);
    node.remote.place = RemotePlace::kSame;
    node.remote.version = note[1];
    node.remote.size = node.base_size = std::strtoull(words[0].c_str(), nullptr, 10);
    if (words.size() > 1) node.size = std::strtoull(words[1].c_str(), nullptr, 10);
    if (words.size() > 3 && words[3] != "local")
      node.base_size = std::strtoull(words[3].c_str(), nullptr, 10);
  }
  if (noted) {
    if (words.size() > 2)
      std::from_chars(words[2].data(), words[2].data() + words[2].size(), node.mode, 8);
    if (words.back() == "local") {
      node.own_rule.placement = node.effective = Placement::kLocal;
      node.own_rule.set_at = options_.clock->Wall();
      node.pending.seq = 0;
    }
  }
  PG_TRY(blocks_->Rename(block, node.id, Place::kPending));
  node.cached.bytes = present.Bytes();
  PG_TRY(view.index().SavePresence(node.id, present.Serialize()));
  PG_TRY(view.Save(inode));
  PG_TRY(MendPending(view, &node, true));  // perhaps the power was cut, too
  return change.Commit();
}

}  // namespace pargeter
