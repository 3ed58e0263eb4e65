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

Json SumsJson(const Sums& s) {
  return {{"files", s.files},       {"folders", s.folders},     {"here", s.whole},
          {"pending", s.pending},   {"conflicts", s.conflicts}, {"pinned", s.pinned_files},
          {"local", s.local_files}, {"unlisted", s.unlisted}};
}

Json EntryOf(const Drive::StateOf& s, const std::string& path) {
  Json entry = {{"path", JsonText(path)},
                {"kind", KindName(s.node)},
                {"state", s.state},
                {"size", s.node.size},
                {"on_disk", s.node.cached.bytes},
                {"mtime", Rfc3339(s.node.mtime)},
                {"placement", NameOf(s.node.effective)},
                {"known", s.node.kind != NodeKind::kFolder || s.node.listed_at != 0 ||
                              s.node.remote.place == RemotePlace::kNone}};
  if (s.node.kind == NodeKind::kFolder) entry["below"] = SumsJson(s.sums);
  return entry;
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
                            node.remote.place == RemotePlace::kNone}};
}

const char* ActionOf(const Node& n) {
  if (n.gone()) return n.kind == NodeKind::kFolder ? "remove folder" : "delete";
  if (n.kind == NodeKind::kFolder)
    return n.remote.place == RemotePlace::kMoved  ? "move folder"
           : n.remote.place == RemotePlace::kNone ? "make folder"
                                                  : "keep folder";
  if (!n.copy.path.empty()) return "copy";
  if ((n.dirty & kData) || n.remote.place == RemotePlace::kNone) return "upload";
  return n.remote.place == RemotePlace::kMoved ? "move" : "set attributes";
}

Result<Json> Queue(Drive* drive, int limit) {
  PG_ASSIGN(const auto queue, drive->Queue(limit));
  Json items = Json::array();
  for (const auto& [path, n] : queue) {
    const Drive::Delay delay = drive->DelayOf(n);
    items.push_back({{"path", JsonText(path)},
                     {"action", ActionOf(n)},
                     {"bytes", (n.dirty & kData) && !n.gone() ? n.size : 0},
                     {"since", Rfc3339(n.pending.since)},
                     {"attempts", delay.tries},
                     {"error", JsonText(delay.why)},
                     {"next_try_ms", delay.next_try ? Json(delay.next_try->count()) : Json()}});
  }
  const DriveStatus summary = drive->Summary();
  return Json{{"items", items},
              {"files", summary.pending.files},
              {"bytes", summary.pending.bytes},
              {"held", summary.held}};
}

Result<Json> Conflicts(Drive* drive) {
  PG_ASSIGN(const auto conflicts, drive->Conflicts());
  Json items = Json::array();
  for (const auto& [path, n] : conflicts) {
    const auto slash = path.rfind('/');
    const std::string folder = slash == std::string::npos ? "" : path.substr(0, slash + 1);
    items.push_back({{"path", JsonText(path)},
                     {"beside", JsonText(folder + n.conflict_copy.original_name)},
                     {"kind", KindName(n)},
                     {"size", n.size},
                     {"changed", Rfc3339(n.mtime)},
                     {"uploaded", n.pending.seq == 0}});
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
          {"cache",
           {{"bytes", s.cache_bytes},
            {"limit", s.cache_limit},
            {"waiting_bytes", s.waiting_bytes},
            {"pinned_bytes", s.sums.pinned_on_disk}}},
          {"below", SumsJson(s.sums)},
          {"held", {{"files", s.held}, {"since", Rfc3339(s.held_since)}}},
          {"conflicts", s.conflicts},
          {"last_error", JsonText(s.last_error)}};
}

Result<std::vector<NodeId>> NodesAt(Drive* drive, const Json& params) {
  std::vector<NodeId> ids;
  for (const Json& path : params.value("paths", Json::array())) {
    PG_ASSIGN(const Node node, drive->NodeAt(path.get<std::string>()));
    ids.push_back(node.id);
  }
  return ids;
}

Result<Json> Evict(Drive* drive, const Json& params) {
  PG_ASSIGN(const std::vector<NodeId> ids, NodesAt(drive, params));
  EvictWish wish;
  wish.unused_since = params.value("unused_since", Nanos{0});
  wish.until_free = params.value("until_free", std::uint64_t{0});
  wish.dry_run = params.value("dry_run", false);
  PG_ASSIGN(const Evicted e, drive->Evict(ids, wish));
  return Json{{"files", e.files},
              {"freed", e.bytes},
              {"free_before", e.free_before},
              {"free_after", e.free_after},
              {"pending", e.pending},
              {"kept", e.kept},
              {"open", e.open},
              {"pending_names", JsonTexts(e.pending_names)},
              {"kept_names", JsonTexts(e.kept_names)}};
}

// "path" or "pattern", and "placement"; "" takes it away. "pin" and "unpin" are the same for one
// placement, with its own refusals.
Result<Json> Place(Drive* drive, const Json& params) {
  const std::string word = params.value("placement", "");
  if (params.contains("pattern") || params.value("everywhere", false)) {
    Placement placement = Placement::kNone;
    if (!word.empty()) {
      PG_ASSIGN(placement, ParsePlacement(word));
    }
    if (params.value("everywhere", false)) {
      const bool pattern = params.contains("pattern");
      PG_TRY(drive->PlaceEverywhere(params.value(pattern ? "pattern" : "path", ""), pattern,
                                    placement));
      return Json::object();
    }
    PG_TRY(drive->SetPattern(params["pattern"].get<std::string>(), placement));
    return Json::object();
  }
  PG_ASSIGN(const Node node, drive->NodeAt(params.value("path", "")));
  if (word == "unpin") {
    PG_TRY(drive->Unpin(node.id));
  } else if (word.empty()) {
    if (node.own_rule.placement == Placement::kNone)
      return Error(Code::kNotFound, "no rule is set on " + Printable(params.value("path", "")),
                   "See: pargeter rule list");
    PG_TRY(drive->Place(node.id, Placement::kNone));
  } else {
    PG_ASSIGN(const Placement placement, ParsePlacement(word));
    PG_TRY(drive->Place(node.id, placement));
  }
  PG_ASSIGN(const Drive::StateOf state, drive->State(node.id));
  const bool folder = node.kind == NodeKind::kFolder;
  return Json{{"files", folder ? state.sums.files : 1},
              {"bytes", state.node.size},
              {"on_disk", state.node.cached.bytes}};
}

Result<Json> Happened(Drive* drive, const Json& params) {
  Json all = Json::array();
  for (const Happening& h : drive->Happened(params.value("after", std::int64_t{0}),
                                            params.value("limit", std::size_t{100}))) {
    all.push_back({{"number", h.number},
                   {"at", Rfc3339(h.at)},
                   {"side", h.side},
                   {"what", h.what},
                   {"path", JsonText(h.path)},
                   {"detail", JsonText(h.detail)}});
  }
  return Json{{"activity", all}};
}

Result<Json> Rules(Drive* drive) {
  PG_ASSIGN(const auto rules, drive->Rules());
  Json all = Json::array();
  for (const PlacedRule& each : rules) {
    const Rule& rule = each.rule;
    all.push_back({{rule.is_pattern ? "pattern" : "path", JsonText(rule.key)},
                   {"placement", NameOf(rule.placement)},
                   {"everywhere", rule.everywhere},
                   {"set", Rfc3339(rule.set_at)},
                   {"by", JsonText(rule.set_by)},
                   {"known", each.here}});
  }
  return Json{{"rules", all}};
}

Result<Json> Explain(Drive* drive, const std::string& path) {
  PG_ASSIGN(const Node at, drive->NodeAt(path));
  PG_ASSIGN(const Explanation e, drive->Explain(at.id));
  const Node& n = e.node;
  return Json{{"path", JsonText(e.path)},
              {"kind", KindName(n)},
              {"state", e.state},
              {"size", n.size},
              {"on_disk", n.cached.bytes},
              {"sums", SumsJson(e.sums)},
              {"placement", NameOf(e.placement)},
              {"placed_on", JsonText(e.placed_on)},
              {"by_itself", e.by_itself},
              {"by_pattern", e.by_pattern},
              {"placed_at", Rfc3339(e.placed_at)},
              {"placed_by", JsonText(e.placed_by)},
              {"pending", n.pending.seq != 0},
              {"pending_since", Rfc3339(n.pending.since)},
              {"attempts", n.pending.tries},
              {"error", JsonText(n.pending.error)},
              {"action", n.pending.seq != 0 ? ActionOf(n) : ""},
              {"used", Rfc3339(n.cached.used_at)},
              {"changed", Rfc3339(n.mtime)},
              {"version", JsonText(n.remote.version)},
              {"at_store", n.remote.place != RemotePlace::kNone},
              {"size_at_store", n.remote.size},
              {"listed", Rfc3339(n.listed_at)},
              {"beside", JsonText(n.conflict_copy.original_name)},
              {"open", e.opens},
              {"offline_since", Rfc3339(e.offline_since)}};
}

Result<Json> Verify(Drive* drive, const Json& params) {
  PG_ASSIGN(const Node node, drive->NodeAt(params.value("path", "")));
  PG_ASSIGN(const Checked c, drive->Verify(node.id, params.value("with_store", false)));
  return Json{{"files", c.files},
              {"bytes", c.bytes},
              {"unknown", c.unknown},
              {"pending", c.pending},
              {"rotten", JsonTexts(c.rotten)},
              {"unreadable", JsonTexts(c.unreadable)}};
}

Result<Json> Versions(Drive* drive, const Json& params) {
  PG_ASSIGN(const Node node, drive->NodeAt(params.value("path", "")));
  PG_ASSIGN(const std::vector<Provider::Kept> all, drive->Versions(node.id));
  Json out = Json::array();
  for (const Provider::Kept& v : all)
    out.push_back({{"version", JsonText(v.id)},
                   {"size", v.size},
                   {"modified", Rfc3339(v.modified)},
                   {"current", v.current}});
  return Json{{"versions", out}};
}

Result<Json> Link(Drive* drive, const Json& params) {
  PG_ASSIGN(const Node node, drive->NodeAt(params.value("path", "")));
  PG_ASSIGN(const Provider::Address link,
            drive->LinkTo(node.id, Duration(params.value("lasts_ms", std::int64_t{0}))));
  return Json{{"url", JsonText(link.url)},
              {"lasts_ms", link.lasts.count()},
              {"open_to_all", link.open_to_all}};
}

Result<Json> Restore(Drive* drive, const Json& params) {
  PG_ASSIGN(const Node node, drive->NodeAt(params.value("path", "")));
  PG_ASSIGN(const std::uint64_t bytes, drive->Restore(node.id, params.value("version", "")));
  return Json{{"bytes", bytes}};
}

Result<Json> BeginFetch(Drive* drive, const Json& params) {
  PG_ASSIGN(std::vector<NodeId> ids, NodesAt(drive, params));
  PG_ASSIGN(const std::int64_t number, drive->BeginFetch(std::move(ids)));
  return Json{{"number", number}};
}

// How far it is; with "cancel" it ends, and what came stays.
Result<Json> FetchProgress(Drive* drive, const Json& params) {
  const auto fetch = drive->FetchOf(params.value("number", std::int64_t{0}));
  if (!fetch) return Error(Code::kNotFound, "this fetch is not under way");
  if (params.value("cancel", false)) fetch->cancel->Cancel();
  const bool finished = fetch->finished;  // before the rest is looked at
  Json failed = Json::array();
  const Lock lock(fetch->mutex);
  for (const auto& [path, error] : fetch->failed) {
    if (failed.size() >= 20) break;
    failed.push_back({{"path", JsonText(path)},
                      {"code", NameOf(error.code)},
                      {"what", JsonText(error.what)},
                      {"remedy", JsonText(error.remedy)}});
  }
  return Json{{"finished", finished},
              {"looking", fetch->looking.load()},
              {"files", fetch->files.load()},
              {"files_done", fetch->files_done.load()},
              {"thin", fetch->thin.load()},
              {"bytes", fetch->bytes.load()},
              {"bytes_done", fetch->bytes_done.load()},
              {"failed", failed},
              {"failures", fetch->failed.size()}};
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
  if (method == "evict") return Evict(drive, params);
  if (method == "place") return Place(drive, params);
  if (method == "activity") return Happened(drive, params);
  if (method == "rules") return Rules(drive);
  if (method == "explain") return Explain(drive, params.value("path", ""));
  if (method == "verify") return Verify(drive, params);
  if (method == "versions") return Versions(drive, params);
  if (method == "link") return Link(drive, params);
  if (method == "restore") return Restore(drive, params);
  if (method == "fetch") return BeginFetch(drive, params);
  if (method == "fetch-progress") return FetchProgress(drive, params);
  return Error(Code::kInvalid, "no drive answers \"" + Printable(method) + "\"");
}

}  // namespace pargeter::app
