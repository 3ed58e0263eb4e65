// A link to a file, its former versions, and getting one back.
#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

constexpr Duration kRestoreWithin(3600'000);

Status RunLink(const std::string& path, const std::string& lasts, World& world) {
  Duration span(0);
  if (!lasts.empty()) {
    PG_ASSIGN(span, ParseDuration(lasts));
    if (span < Duration(1000)) return Error(Code::kInvalid, "a link lasts for a second at least");
  }
  PG_ASSIGN(const Located at, Locate(world, path));
  PG_ASSIGN(Talk talk, Talk::With(world, at.drive, true));
  PG_ASSIGN(const Json link, talk.Ask("link", {{"path", at.path}, {"lasts_ms", span.count()}}));
  world.Say(link.value("url", ""));
  const Duration holds(link.value("lasts_ms", std::int64_t{0}));
  if (link.value("open_to_all", false))
    world.Note(
        fmt::format("Whoever has this address can read the file, for {}.", FormatAge(holds)));
  else
    world.Note("The address opens for users of the store.");
  if (world.json) world.PrintJson(link);
  return {};
}

Status RunVersions(const std::string& path, World& world) {
  PG_ASSIGN(const Located at, Locate(world, path));
  PG_ASSIGN(Talk talk, Talk::With(world, at.drive, true));
  PG_ASSIGN(const Json answer, talk.Ask("versions", {{"path", at.path}}));
  world.Say(fmt::format("  {:<19}  {:>10}  {}", "WRITTEN", "SIZE", "VERSION"));
  for (const Json& v : answer["versions"]) {
    std::string when = v.value("modified", "").substr(0, 19);
    if (when.size() > 10) when[10] = ' ';
    world.Say(fmt::format("{} {:<19}  {:>10}  {}", v.value("current", false) ? ">" : " ", when,
                          FormatSize(v.value("size", std::uint64_t{0})), v.value("version", "")));
  }
  if (world.json) world.PrintJson(answer);
  return {};
}

Status RunRestore(const std::string& path, const std::string& version, World& world) {
  PG_ASSIGN(const Located at, Locate(world, path));
  PG_ASSIGN(Talk talk, Talk::With(world, at.drive, true));
  PG_ASSIGN(const Json answer,
            talk.Ask("restore", {{"path", at.path}, {"version", version}}, kRestoreWithin));
  world.Say(fmt::format("{} is restored ({}); the change is uploaded like any other.",
                        Printable(path), FormatSize(answer.value("bytes", std::uint64_t{0}))));
  if (world.json) world.PrintJson(answer);
  return {};
}

}  // namespace

void AddVersionCommands(Command* app, Work* run) {
  auto path = std::make_shared<std::string>();
  auto other = std::make_shared<std::string>();
  const auto on_file = [&](Texts texts) {
    Command* cmd = app->Add(std::move(texts));
    cmd->Operand("PATH", path.get(), "a file on a drive").Required();
    return cmd;
  };
  Command* cmd = on_file(
      {.name = "link",
       .summary = "print a web address of a file, to give to somebody",
       .details =
           "On an object store the address opens the file for whoever has it, for at most "
           "7 days. On a cloud drive --for makes a share, if the server offers that; without "
           "it the address opens for users of the drive.",
       .examples = {
           {"a link for one day", "pargeter link ~/sheets/list.csv --for 1d"},
           {"a link for as long as the store allows", "pargeter link ~/sheets/list.csv"}}});
  cmd->Option("--for", "SPAN", other.get(),
              "how long the link is valid, such as 7d, if the store can limit it");
  cmd->Does([=] { *run = [=](World& w) { return RunLink(*path, *other, w); }; });
  cmd = on_file(
      {.name = "versions",
       .summary = "list the versions of a file that the store has kept",
       .examples = {{"list a file's versions", "pargeter versions ~/sheets/list.csv"},
                    {"list them for a script", "pargeter versions ~/sheets/list.csv --json"}}});
  cmd->Does([=] { *run = [=](World& w) { return RunVersions(*path, w); }; });
  cmd = on_file({.name = "restore",
                 .summary = "restore a former version of a file, as a new change",
                 .examples = {{"restore a version that `pargeter versions` lists",
                               "pargeter restore ~/sheets/list.csv --version VERSION"},
                              {"bring it to the store at once", "pargeter flush sheets"}}});
  cmd->Option("--version", "VERSION", other.get(), "the version, as `pargeter versions` lists it")
      .Required();
  cmd->Does([=] { *run = [=](World& w) { return RunRestore(*path, *other, w); }; });
}

}  // namespace pargeter::app
