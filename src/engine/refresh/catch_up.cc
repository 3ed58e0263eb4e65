// Refresher: folders that nobody visits are kept in step too, for a face that shows all of them.
#include <fmt/format.h>

#include <map>
#include <set>

#include "base/text.h"
#include "engine/api/naming.h"
#include "engine/api/residency.h"
#include "engine/context/facts.h"
#include "engine/provenance/marks.h"
#include "engine/refresh/refresher.h"
#include "engine/tree/places.h"

namespace pargeter {

namespace {

// The names in each folder of the store, by the folder's path: a file with its version, a folder
// with a "/" behind its name.
using RemoteTree = std::map<std::string, std::set<std::string>>;

std::string FileMark(std::string_view name, std::string_view version) {
  return fmt::format("{}\n{}", name, version);
}

void AddFolder(RemoteTree* tree, const std::string& path) {
  if (!tree->try_emplace(path).second || path.empty()) return;
  const std::size_t slash = path.rfind('/');
  const std::string above = slash == std::string::npos ? "" : path.substr(0, slash);
  AddFolder(tree, above);
  (*tree)[above].insert(path.substr(slash == std::string::npos ? 0 : slash + 1) + "/");
}

void AddEntry(RemoteTree* tree, const Entry& entry) {
  const std::string& path = entry.name;
  if (path.empty()) return;
  if (path.back() == '/') return AddFolder(tree, path.substr(0, path.size() - 1));
  const std::size_t slash = path.rfind('/');
  const std::string folder = slash == std::string::npos ? "" : path.substr(0, slash);
  const std::string name = path.substr(slash == std::string::npos ? 0 : slash + 1);
  if (IsOwnScratchName(name) || (folder.empty() && name == kRulesName)) return;
  AddFolder(tree, folder);
  (*tree)[folder].insert(FileMark(name, entry.version));
}

}  // namespace

Status Refresher::CatchUp(const Cancel& cancel) {
  PG_TRY(store_->Check());
  PG_TRY(ListFolder(kRootId, ListWait::kAll, "", Traffic::kHousekeeping));
  PG_TRY(ListBelow(kRootId, cancel));
  if (has_feed_) return {};  // the store says what changed
  RemoteTree there;
  AddFolder(&there, "");
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, store_->Ask(Traffic::kHousekeeping, [&](const Call& call) {
      return store_->ListDeep("", next, call);
    }));
    for (const Entry& entry : page.entries) AddEntry(&there, entry);
    if (page.next.empty()) break;
    if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "it was called off");
    next = page.next;
  }
  std::vector<NodeId> due;
  for (const auto& [path, names] : there) {
    View view(&tree_);
    PG_ASSIGN(const NodeId folder, facts_.FolderThere(view, path));
    if (folder == kNoNode) continue;  // the folder above it is due
    PG_ASSIGN(const bool differs, HasChanged(view, folder, names));
    if (differs) due.push_back(folder);
  }
  for (const NodeId folder : due) {
    const Status listed = ListFolder(folder, ListWait::kAll, "", Traffic::kHousekeeping);
    if (!listed.ok() && MeetsAll(listed.error())) return listed;
  }
  return {};
}

// A node that waits for upload is no reason to list its folder: its own turn looks at the store.
Result<bool> Refresher::HasChanged(View& view, NodeId folder, const std::set<std::string>& names) {
  PG_ASSIGN(const std::vector<NodeId> known, view.index().RemoteChildren(folder));
  std::size_t same = 0, passed = 0;
  for (const NodeId id : known) {
    PG_ASSIGN(const std::optional<Node> node, view.index().Get(id));
    if (!node || node->remote.place == RemotePlace::kNone) continue;
    const std::string key = RemoteName(*node);
    const bool is_folder = node->kind == NodeKind::kFolder;
    const bool there = names.count(is_folder ? key + "/" : FileMark(key, node->remote.version)) > 0;
    if (there)
      ++same;
    else if (node->pending.seq != 0)
      ++passed;
    else
      return true;
  }
  return names.size() > same + passed;
}

}  // namespace pargeter
