// Rules: what folders, and names of a kind, do on this machine.
#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

struct RuleOptions {
  std::vector<std::string> words;  // PATH PLACEMENT, or PLACEMENT with a pattern
  std::string pattern, drive;
  bool everywhere = false;
};

// The drive that is named, or the only one.
Result<DriveSettings> DriveFor(const World& world, const std::string& name) {
  if (!name.empty()) return LoadDrive(world.paths, name);
  PG_ASSIGN(const std::vector<DriveSettings> all, Meant(world, ""));
  if (all.size() == 1) return all[0];
  return Error(Code::kInvalid, fmt::format("there are {} drives: which is meant?", all.size()),
               "Name it with --drive.");
}

const char* Meaning(const std::string& placement) {
  if (placement == "pin") return "always here";
  if (placement == "cache") return "here after use, while there is room";
  if (placement == "thin") return "its bytes go after use and upload";
  if (placement == "hide") return "not shown here";
  if (placement == "local") return "only here, never at the store";
  return "";
}

struct Target {
  DriveSettings drive;
  Json params;
  std::string shown;
};
Result<Target> TargetOf(const World& world, const RuleOptions& o, std::size_t words) {
  if (o.words.size() != words)
    return Error(Code::kInvalid,
                 o.pattern.empty() ? "a path is needed, or --pattern" : "too many words",
                 "See: pargeter rule --help");
  if (!o.pattern.empty()) {
    PG_ASSIGN(DriveSettings drive, DriveFor(world, o.drive));
    return Target{
        std::move(drive), {{"pattern", o.pattern}, {"everywhere", o.everywhere}}, o.pattern};
  }
  PG_ASSIGN(const Located at, Locate(world, o.words[0]));
  return Target{at.drive, {{"path", at.path}, {"everywhere", o.everywhere}}, o.words[0]};
}

Status RunAdd(const RuleOptions& o, World& world) {
  PG_ASSIGN(Target target, TargetOf(world, o, o.pattern.empty() ? 2 : 1));
  const std::string placement = o.words.empty() ? "" : o.words.back();
  PG_TRY(ParsePlacement(placement));
  target.params["placement"] = placement;
  const bool asks = placement == "pin" || placement == "local" || o.everywhere;
  PG_ASSIGN(Talk talk, Talk::With(world, target.drive, asks));
  PG_TRY(talk.Ask("place", target.params, kLong));
  world.Say(fmt::format("{}: {} ({}){}.", Printable(target.shown), placement, Meaning(placement),
                        o.everywhere ? ", on every machine" : ", on this machine"));
  if (world.json) world.PrintJson({{"drive", target.drive.name}, {"placement", placement}});
  return {};
}

Status RunRemove(const RuleOptions& o, World& world) {
  PG_ASSIGN(Target target, TargetOf(world, o, o.pattern.empty() ? 1 : 0));
  target.params["placement"] = "";
  PG_ASSIGN(Talk talk, Talk::With(world, target.drive, o.everywhere));
  PG_TRY(talk.Ask("place", target.params, kLong));
  world.Say(fmt::format("{}: the rule is removed.", Printable(target.shown)));
  if (world.json) world.PrintJson({{"drive", target.drive.name}});
  return {};
}

Status RunListRules(const RuleOptions& o, World& world) {
  std::vector<DriveSettings> drives;
  if (o.words.empty()) {
    PG_ASSIGN(drives, Meant(world, o.drive));
  } else {
    PG_ASSIGN(const std::vector<Located> found, LocateAll(world, o.words[0]));
    for (const Located& at : found) drives.push_back(at.drive);
  }
  Json all = Json::array();
  for (const DriveSettings& drive : drives) {
    if (o.words.empty() && !HasState(world, drive)) continue;
    PG_ASSIGN(Json answer, AskDrive(world, drive, "rules", Json::object()));
    for (Json& rule : answer["rules"]) {
      const bool pattern = rule.contains("pattern");
      const std::string key =
          pattern ? rule.value("pattern", "")
                  : drive.at + (rule.value("path", "").empty() ? "" : "/") + rule.value("path", "");
      const Nanos set = ParseRfc3339(rule.value("set", "").c_str());
      std::string scope = rule.value("everywhere", false)
                              ? "every machine, by " + rule.value("by", "")
                              : "this machine";
      if (!rule.value("known", true)) scope += "; not seen here yet";
      world.Say(fmt::format("{:<6} {}{}  ({}, {} ago)", rule.value("placement", ""), key,
                            pattern ? fmt::format(" on {}", drive.name) : "", scope,
                            FormatAge(Duration((SystemClock().Wall() - set) / 1'000'000))));
      rule["drive"] = drive.name;
      all.push_back(std::move(rule));
    }
  }
  if (all.empty())
    world.Say("There are no rules: everything is cached after use, while there is room.");
  if (world.json) world.PrintJson({{"rules", all}});
  return {};
}

}  // namespace

void AddRuleCommands(Command* app, Work* run) {
  Command* group = app->Add(
      {.name = "rule", .summary = "set rules: what happens to a folder's files on this machine"});
  auto o = std::make_shared<RuleOptions>();
  const auto options = [o](Command* cmd, const char* words) {
    cmd->Operand("PATH", &o->words, words);
    cmd->Option("--pattern", "GLOB", &o->pattern,
                "files by name instead of a path, such as '*.tmp'");
    cmd->Option("--drive", "DRIVE", &o->drive, "with --pattern: the drive, if there are several");
    cmd->Flag("--everywhere", &o->everywhere, "for every machine that mounts this folder");
  };
  Command* cmd =
      group->Add({.name = "add",
                  .summary = "add a rule: give a folder, file or name pattern a placement",
                  .details = "Placements: cache (on disk after use, while there is room; the "
                             "default), pin (always on disk), "
                             "thin (names only; bytes leave after use and after upload), hide (not "
                             "shown on this machine), "
                             "local (only on this disk, never uploaded).",
                  .examples = {{"keep no bytes of an archive, on every machine",
                                "pargeter rule add ~/sheets/archive thin --everywhere"},
                               {"do not upload temporary files",
                                "pargeter rule add --drive sheets --pattern '*.tmp' local"}},
                  .usage = "(PATH | --pattern GLOB) PLACEMENT [OPTIONS]"});
  options(cmd, "the file or folder, then the placement: cache, pin, thin, hide or local");
  cmd->Does([=] { *run = [=](World& w) { return RunAdd(*o, w); }; });
  cmd =
      group->Add({.name = "remove",
                  .summary = "remove a rule: the file or folder follows the folder above it again",
                  .examples = {{"remove a folder's rule",
                                "pargeter rule remove ~/sheets/archive --everywhere"},
                               {"remove a pattern's rule",
                                "pargeter rule remove --drive sheets --pattern '*.tmp'"}},
                  .usage = "(PATH | --pattern GLOB) [OPTIONS]"});
  options(cmd, "the file or folder");
  cmd->Does([=] { *run = [=](World& w) { return RunRemove(*o, w); }; });
  cmd = group->Add({.name = "list",
                    .summary = "list the rules of all drives, or of one path's drive",
                    .examples = {{"list all rules", "pargeter rule list"},
                                 {"list the rules of one drive", "pargeter rule list ~/sheets"}}});
  cmd->Operand("PATH", &o->words, "a file or folder on a drive");
  cmd->Does([=] { *run = [=](World& w) { return RunListRules(*o, w); }; });
}

}  // namespace pargeter::app
