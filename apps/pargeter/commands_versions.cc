// A link to a file, its former versions, and getting one back.
#include <fmt/format.h>

#include <CLI/CLI.hpp>

#include "base/text.h"
#include "base/units.h"
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
    world.Note("It opens for those whom the store lets in.");
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
  world.Say(fmt::format("{} is again as it was ({}); that goes up like any change.",
                        Printable(path), FormatSize(answer.value("bytes", std::uint64_t{0}))));
  if (world.json) world.PrintJson(answer);
  return {};
}

}  // namespace

void AddVersionCommands(CLI::App* app, Work* run) {
  auto path = std::make_shared<std::string>();
  auto other = std::make_shared<std::string>();
  const auto on_file = [&](const char* name, const char* what) {
    CLI::App* cmd = app->add_subcommand(name, what);
    cmd->add_option("PATH", *path, "a file on a drive")->required();
    return cmd;
  };
  CLI::App* cmd = on_file("link", "an address of a file for somebody else");
  cmd->add_option("--for", *other,
                  "how long it is to hold, such as 7d, where the store can limit it");
  cmd->callback([=] { *run = [=](World& w) { return RunLink(*path, *other, w); }; });
  cmd = on_file("versions", "what the store has kept of a file");
  cmd->callback([=] { *run = [=](World& w) { return RunVersions(*path, w); }; });
  cmd = on_file("restore", "make a file what it was");
  cmd->add_option("--version", *other, "as `versions` names it")->required();
  cmd->callback([=] { *run = [=](World& w) { return RunRestore(*path, *other, w); }; });
}

}  // namespace pargeter::app
