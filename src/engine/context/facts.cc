// Facts: checks, attributes and paths that several components need.
#include "engine/context/facts.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <ctime>
#include <map>
#include <thread>
#include <utility>

#include "base/digest.h"
#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/bytes/content.h"
#include "provider/attributes.h"

namespace pargeter {

namespace {
constexpr int kFetchers = 8;  // files at once
}  // namespace

// It may be private at the store, and nobody here knows it yet. The kernel asks again before it
// refuses somebody, and in his name.
std::uint32_t Facts::ModeFor(const Node& node) const {
  return options_.shared && !ModeIsKnown(node) ? node.mode & ~077u : node.mode;
}

// The folder that the store has at `path`, as far as it is known here.
Result<NodeId> Facts::FolderThere(View& view, const std::string& path) {
  NodeId at = kRootId;
  if (path.empty()) return at;
  for (const std::string& part : Split(path, '/')) {
    PG_ASSIGN(const std::optional<Node> node, NodeThere(view, at, part, true));
    if (!node) return kNoNode;
    at = node->id;
  }
  return at;
}

Result<std::optional<Node>> Facts::NodeThere(View& view, NodeId folder, const std::string& key,
                                             bool is_folder) {
  PG_ASSIGN(Inode * here, view.Find(folder, ShortenName(KeyToName(key))));
  if (here != nullptr && here->node.remote.place == RemotePlace::kSame &&
      (here->node.kind == NodeKind::kFolder) == is_folder)
    return std::optional(here->node);
  return view.index().FindRemote(folder, key, is_folder);
}

Status Facts::EnsureProbed(const Call& call) {
  PG_ASSIGN(const auto found, store_->EnsureProbed(call));
  if (!found) return {};
  View view(&tree_);
  return view.index().SetMeta(Mark::kProbeResult, *found);
}

// When, for the name of a copy that is kept.
std::string Facts::Stamp() const {
  const time_t seconds = static_cast<time_t>(options_.clock->Wall() / 1'000'000'000);
  tm t{};
  gmtime_r(&seconds, &t);
  return fmt::format("{:04}-{:02}-{:02} {:02}.{:02}.{:02}", t.tm_year + 1900, t.tm_mon + 1,
                     t.tm_mday, t.tm_hour, t.tm_min, t.tm_sec);
}

// What is kept of `name` while another has it.
Result<std::string> Facts::ConflictCopyName(View& view, NodeId parent, const std::string& name) {
  const std::string stamp = Stamp();
  for (int copy = 1;; ++copy) {
    const std::string beside =
        ConflictName(name, options_.host, copy == 1 ? stamp : fmt::format("{} {}", stamp, copy));
    PG_ASSIGN(const Inode* taken, view.Find(parent, beside));
    if (taken == nullptr) return beside;
  }
}

// Nodes below, in no order. `enter` says for each folder whether to look into it.
Status Facts::Walk(NodeId id, const std::function<Result<bool>(View&, const Node&)>& enter,
                   const std::function<void(View&, const Node&)>& each) {
  std::vector<NodeId> folders;
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(id));
    if (inode->node.kind != NodeKind::kFolder) {
      each(view, inode->node);
      return {};
    }
    PG_ASSIGN(const bool in, enter(view, inode->node));
    if (in) folders.push_back(id);
  }
  while (!folders.empty()) {
    const NodeId folder = folders.back();
    folders.pop_back();
    for (NodeId after = 0;;) {
      View view(&tree_);  // let go between pages: others have their turn
      PG_ASSIGN(const std::vector<Node> rows, view.index().Children(folder, after, 1000));
      if (rows.empty()) break;
      after = rows.back().id;
      for (const Node& row : rows) {
        if (row.kind == NodeKind::kFolder) {
          PG_ASSIGN(const bool in, enter(view, row));
          if (in) folders.push_back(row.id);
        }
        each(view, row);
      }
    }
  }
  return {};
}

// A few at a time; the first error ends it.
Status Facts::ParallelForEach(const std::vector<NodeId>& ids,
                              const std::function<Status(NodeId)>& each) {
  std::atomic<std::size_t> next{0};
  std::atomic<bool> over{false};
  Mutex mutex;
  std::optional<Error> failed;
  const auto work = [&] {
    for (std::size_t i = next++; i < ids.size() && !over; i = next++) {
      const Status done = each(ids[i]);
      if (done.ok()) continue;
      over = true;
      const Lock lock(mutex);
      if (!failed) failed = done.error();
    }
  };
  WorkTogether(std::min<std::size_t>(kFetchers, ids.size()), work);
  return failed ? Status(*failed) : Status();
}

Result<Node> Facts::NodeAt(const std::string& path) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(kRootId));
  for (const std::string& part : Split(path, '/')) {
    if (part.empty()) continue;
    PG_ASSIGN(inode, view.Find(inode->node.id, part));
    if (inode == nullptr) return Error(Code::kNotFound, "there is no " + Printable(path));
  }
  return inode->node;
}

Result<std::string> Facts::PathOf(NodeId id) {
  View view(&tree_);
  std::string path;
  while (id != kRootId && id != kNoNode) {
    PG_ASSIGN(Inode * inode, view.Get(id));
    const Node& n = inode->node;
    const std::string name = n.name.empty() ? KeyToName(n.remote.name) : n.name;
    path = path.empty() ? name : name + "/" + path;
    id = n.gone() ? n.remote.parent : n.parent;
  }
  return path;
}

Attr Facts::AttrOf(const Inode& inode) {
  const Node& n = inode.node;
  Attr attr;
  attr.id = n.id;
  attr.kind = n.kind;
  attr.mode = ModeFor(n);
  attr.uid = n.uid >= 0 ? static_cast<std::uint32_t>(n.uid) : options_.uid;
  attr.gid = n.gid >= 0 ? static_cast<std::uint32_t>(n.gid) : options_.gid;
  attr.size = n.kind == NodeKind::kSymlink ? n.target.size() : n.size;
  attr.on_disk = n.cached.bytes;
  if (inode.content) {
    const Lock lock(inode.content->mu);
    attr.on_disk = inode.content->Held();
  }
  attr.deleted = n.gone();
  attr.mtime = n.mtime;
  attr.ctime = n.ctime;
  attr.atime = n.atime != 0 ? n.atime : n.mtime;
  if (options_.read_only || (!n.may_write && n.effective != Placement::kLocal)) attr.mode &= ~0222u;
  return attr;
}

Status Facts::CheckWritable() const {
  if (!options_.read_only) return {};
  return Error(Code::kReadOnly, fmt::format("the drive {} is read-only", options_.name));
}

// Refused at once rather than at the upload, as far as the store has said what may be done.
Status Facts::CheckRole(View& view, const Node& node) {
  if (node.may_write || node.effective == Placement::kLocal) return {};
  const auto path = view.PathHere(node.id);
  return Error(
      Code::kPermission,
      fmt::format("{} may only be read with the account {} uses",
                  path.ok() && !path->empty() ? Printable(*path) : "the folder", options_.name),
      "Ask the owner at the store for the right to change it.");
}

// The journal must be a file that the next start finds: else nothing new is promised.
Status Facts::CheckState(View& view) {
  struct stat info {};
  const std::string path = options_.state_folder + "/index.db";
  if (::stat(path.c_str(), &info) == 0 &&
      (index_inode_(view) == 0 || info.st_ino == index_inode_(view))) {
    index_inode_(view) = info.st_ino;
    return {};
  }
  const std::string what = fmt::format("the state folder {} was deleted while the drive is mounted",
                                       Printable(options_.state_folder));
  if (health_.Warn(what))
    Log(LogLevel::kError, "{}: nothing new is taken until it is mounted again", what);
  return Error(Code::kIo, what, "Unmount the drive and mount it again.");
}

Status Facts::CheckNewName(const std::string& name) const {
  if (name.size() > kMaxName) return Error(Code::kNameTooLong, "the name is longer than 255 bytes");
  if (NameToKey(name).size() > 1000)
    return Error(Code::kNameTooLong, "the name is too long for the store");
  if (name == kRulesName)
    return Error(Code::kInvalid, fmt::format("{} is where rules for all machines are kept", name),
                 "See: pargeter rule --help");
  if (IsOwnScratchName(name)) {
    return Error(
        Code::kInvalid,
        fmt::format("names that start with {} are kept for short-lived objects", kScratchPrefix));
  }
  return {};
}

// The last object below a folder goes: unless an object of its own keeps it, the store would no
// longer show it.
Status Facts::KeepFolder(View& view, NodeId id) {
  if (id == kRootId || store_->Can().real_folders) return {};
  PG_ASSIGN(Inode * inode, view.Get(id));
  Node& node = inode->node;
  if (node.gone() || node.marker || node.remote.place == RemotePlace::kNone ||
      (node.dirty & kAttributes))
    return {};
  PG_ASSIGN(const bool more, view.index().HasChildren(id));
  if (more) return {};
  node.dirty |= kAttributes;
  return view.QueueChange(inode);
}

}  // namespace pargeter
