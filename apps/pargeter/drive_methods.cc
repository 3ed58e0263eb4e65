#include "drive_methods.h"

#include "base/text.h"

namespace pargeter::app {
namespace {

const char* KindName(const Node& node) {
  switch (node.kind) {
    case NodeKind::kFolder:
      return "folder";
    case NodeKind::kSymlink:
      return "symlink";
    case NodeKind::kFile:
      break;
  }
  return "file";
}

Json EntryOf(const Drive::StateOf& s, const std::string& path) {
  return {{"path", JsonText(path)},
          {"kind", KindName(s.node)},
          {"state", s.state},
          {"size", s.node.size},
          {"on_disk", s.node.on_disk},
          {"mtime", Rfc3339(s.node.mtime)},
          {"known", s.node.kind != NodeKind::kFolder || s.node.listed_at != 0 ||
                        s.node.there == There::kAbsent}};
}

Result<Json> List(Drive* drive, const std::string& path, bool itself) {
  PG_ASSIGN(const Node node, drive->NodeAt(path));
  Json entries = Json::array();
  if (node.kind != NodeKind::kFolder || itself) {
    PG_ASSIGN(const Drive::StateOf state, drive->State(node.id));
    entries.push_back(EntryOf(state, path));
  } else {
    PG_ASSIGN(const std::vector<Drive::StateOf> states, drive->ListStates(node.id));
    for (const Drive::StateOf& state : states) {
      entries.push_back(
          EntryOf(state, path.empty() ? state.node.name : path + "/" + state.node.name));
    }
  }
  return Json{{"entries", entries},
              {"known", node.kind != NodeKind::kFolder || node.listed_at != 0 ||
                            node.there == There::kAbsent}};
}

const char* ActionOf(const Node& n) {
  if (n.gone()) return n.kind == NodeKind::kFolder ? "remove folder" : "delete";
  if (n.kind == NodeKind::kFolder)
    return n.there == There::kElsewhere ? "move folder"
           : n.there == There::kAbsent  ? "make folder"
                                        : "keep folder";
  if (!n.copy_of.empty()) return "copy";
  if ((n.dirty & kData) || n.there == There::kAbsent) return "upload";
  return n.there == There::kElsewhere ? "move" : "set attributes";
}

Result<Json> Queue(Drive* drive, int limit) {
  PG_ASSIGN(const auto queue, drive->Queue(limit));
  Json items = Json::array();
  for (const auto& [path, n] : queue) {
    items.push_back({{"path", JsonText(path)},
                     {"action", ActionOf(n)},
                     {"bytes", (n.dirty & kData) && !n.gone() ? n.size : 0},
                     {"since", Rfc3339(n.intent_since)},
                     {"attempts", n.attempts},
                     {"error", JsonText(n.error)}});
  }
  const DriveStatus summary = drive->Summary();
  return Json{{"items", items}, {"files", summary.pending.files}, {"bytes", summary.pending.bytes}};
}

Result<Json> Conflicts(Drive* drive) {
  PG_ASSIGN(const auto conflicts, drive->Conflicts());
  Json items = Json::array();
  for (const auto& [path, n] : conflicts) {
    const auto slash = path.rfind('/');
    const std::string folder = slash == std::string::npos ? "" : path.substr(0, slash + 1);
    items.push_back({{"path", JsonText(path)},
                     {"beside", JsonText(folder + n.beside)},
                     {"size", n.size},
                     {"changed", Rfc3339(n.mtime)},
                     {"uploaded", n.intent == 0}});
  }
  return Json{{"conflicts", items}};
}

Result<Json> Keep(Drive* drive, const Json& params) {
  const std::string side = params.value("side", "");
  const auto keep = side == "here"    ? Drive::Keep::kHere
                    : side == "there" ? Drive::Keep::kThere
                                      : Drive::Keep::kBoth;
  PG_TRY(drive->SettleConflict(params.value("path", ""), keep));
  return Json::object();
}

Json Summary(Drive* drive) {
  const DriveStatus s = drive->Summary();
  return {{"online", s.offline_since == 0},
          {"offline_since", Rfc3339(s.offline_since)},
          {"pending",
           {{"files", s.pending.files},
            {"bytes", s.pending.bytes},
            {"oldest", Rfc3339(s.pending.oldest)}}},
          {"cache", {{"bytes", s.cache_bytes}, {"limit", s.cache_limit}, {"pinned_bytes", 0}}},
          {"held", {{"files", s.held}, {"since", Rfc3339(s.held_since)}}},
          {"conflicts", s.conflicts},
          {"last_error", JsonText(s.last_error)}};
}

}  // namespace

Result<Json> AnswerMethod(Drive* drive, const std::string& method, const Json& params) {
  if (method == "status") return Summary(drive);
  if (method == "list") return List(drive, params.value("path", ""), params.value("itself", false));
  if (method == "queue") return Queue(drive, params.value("limit", 1000));
  if (method == "conflicts") return Conflicts(drive);
  if (method == "keep") return Keep(drive, params);
  if (method == "release") {
    PG_TRY(drive->ReleaseDeletions());
    return Json::object();
  }
  if (method == "drop") {
    PG_ASSIGN(const std::uint64_t back, drive->DropDeletions());
    return Json{{"back", back}};
  }
  if (method == "evict") {
    PG_ASSIGN(const Node node, drive->NodeAt(params.value("path", "")));
    return Json{{"freed", drive->EvictAll(node.id)}};
  }
  return Error(Code::kInvalid, "no drive answers \"" + Printable(method) + "\"");
}

}  // namespace pargeter::app
