#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

char MarkOf(const std::string& state) {
  if (state == "partial") return ':';
  if (state == "cached") return 'o';
  if (state == "pinned") return '*';
  if (state == "pending") return '^';
  if (state == "conflict") return '!';
  if (state == "local") return '=';
  return '.';
}

std::string Shown(const std::string& path) { return Printable(path.substr(path.rfind('/') + 1)); }

// What is below a folder, where that is not all alike.
std::string CountsOf(const Json& entry) {
  if (!entry.contains("below")) {
    const std::string placement = entry.value("placement", "");
    return placement == "thin" || placement == "hide" ? "  (" + placement + ")" : "";
  }
  const Json& below = entry["below"];
  const auto count = [&below](const char* what) { return below.value(what, std::int64_t{0}); };
  std::vector<std::string> parts;
  const std::string placement = entry.value("placement", "");
  if (placement == "pin" || placement == "thin" || placement == "hide" || placement == "local")
    parts.push_back(placement);
  if (count("files") > 0 && count("here") > 0 && count("here") < count("files"))
    parts.push_back(fmt::format("{} of {} here", count("here"), count("files")));
  if (count("pending") > 0) parts.push_back(fmt::format("{} pending", count("pending")));
  if (count("conflicts") > 0) parts.push_back(fmt::format("{} in conflict", count("conflicts")));
  if (count("unlisted") > 0 && entry.value("known", true))
    parts.push_back(fmt::format("{} not seen", count("unlisted") == 1
                                                   ? std::string("a folder")
                                                   : fmt::format("{} folders", count("unlisted"))));
  return parts.empty() ? "" : fmt::format("  ({})", fmt::join(parts, ", "));
}

// Into `all`, and to people; `itself`: the folder, not what is in it.
Status ListOne(const World& world, const Located& at, bool itself, Json* all) {
  PG_ASSIGN(const Json answer,
            AskDrive(world, at.drive, "list", {{"path", at.path}, {"itself", itself}}));
  for (const Json& e : answer["entries"]) {
    const std::string name = e.value("path", ""), state = e.value("state", ""),
                      kind = e.value("kind", "");
    std::string when = e.value("mtime", "").substr(0, 16);
    if (when.size() > 10) when[10] = ' ';
    const std::string& root = at.drive.part_of.empty() ? at.drive.name : at.drive.shown_as;
    world.Say(fmt::format(
        "{} {:>10} {:>10}  {:<16}  {}{}{}", MarkOf(state),
        e.value("known", true) ? FormatSize(e.value("size", std::uint64_t{0})) : "not seen",
        FormatSize(e.value("on_disk", std::uint64_t{0})), when, Shown(name.empty() ? root : name),
        kind == "folder"    ? "/"
        : kind == "symlink" ? "@"
                            : "",
        CountsOf(e)));
    Json entry = e;
    entry["path"] = JsonText(at.drive.at) + (name.empty() ? "" : "/" + name);
    all->push_back(std::move(entry));
  }
  if (!answer.value("known", true))
    world.Note("This folder was never listed: its content at the store is not known yet.");
  return {};
}

Status RunListFiles(std::vector<std::string> paths, bool itself, World& world) {
  if (paths.empty()) paths.push_back(".");
  Json all = Json::array();
  for (const std::string& path : paths) {
    PG_ASSIGN(const std::vector<Located> found, LocateAll(world, path));
    if (paths.size() > 1) world.Say(fmt::format("{}:", Printable(path)));
    world.Say(fmt::format("  {:>10} {:>10}  {:<16}  {}", "SIZE", "ON DISK", "CHANGED", "NAME"));
    for (const Located& at : found) PG_TRY(ListOne(world, at, itself || at.in_top, &all));
  }
  if (world.json) world.PrintJson({{"entries", all}});
  return {};
}

}  // namespace

void AddFileCommands(Command* app, Work* run) {
  auto paths = std::make_shared<std::vector<std::string>>();
  auto itself = std::make_shared<bool>(false);
  Command* cmd =
      app->Add({.name = "ls",
                .summary = "list files with their state, size, and size on this disk",
                .details = "The first column is the state:  . remote   : partial   o cached   * "
                           "pinned   ^ pending   "
                           "! conflict   = local. See pargeter(7).",
                .examples = {{"list a folder", "pargeter ls ~/sheets"},
                             {"show the sums of a folder", "pargeter ls -d ~/sheets/loans"}}});
  cmd->Operand("PATH", paths.get(), "files or folders on a drive (default: the current folder)");
  cmd->Flag("-d,--itself", itself.get(), "list a folder itself, not its entries");
  cmd->Does([=] { *run = [=](World& w) { return RunListFiles(*paths, *itself, w); }; });
}

}  // namespace pargeter::app
