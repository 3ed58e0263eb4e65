#include <fmt/format.h>
#include <unistd.h>

#include <filesystem>
#include <map>
#include <thread>

#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "control/client.h"
#include "drive_methods.h"
#include "service/manager.h"
#include "services.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

std::string AgeOf(const std::string& rfc3339) {
  const Nanos then = ParseRfc3339(rfc3339.c_str());
  return then == 0 ? "" : FormatAge(Duration((SystemClock().Wall() - then) / 1'000'000));
}

// What cannot be done for one of them is done for the others. The first error is the command's.
Status ForEach(const std::vector<DriveSettings>& drives, const World& world,
               const std::function<Status(const DriveSettings&)>& work) {
  std::optional<Error> failed;
  for (const DriveSettings& d : drives) {
    const Status done = work(d);
    if (done.ok()) continue;
    if (failed)
      world.Note(fmt::format("{}: {}", d.name, Printable(done.error().what)));
    else
      failed = drives.size() > 1 ? done.error().Within(d.name) : done.error();
  }
  return failed ? Status(*failed) : Status();
}

// Nothing: it does not run, or ended just now.
Result<std::optional<Json>> StatusOfRunning(const World& world, const DriveSettings& d) {
  const Steady ends_by = std::chrono::steady_clock::now() + Duration(2000);
  for (;;) {
    auto answer =
        CallDrive(world.paths.SocketOf(d.name), "status", Json::object(), Duration(10000));
    if (answer.ok() || answer.error().code != Code::kUnavailable ||
        std::chrono::steady_clock::now() > ends_by)
      return answer;
    std::this_thread::sleep_for(Duration(20));
  }
}

// What is so of a drive of which nothing else is known.
Json StatusBeforeAsking(const World& world, const DriveSettings& d) {
  const std::optional<Starting> start = StartOf(world, d.name);
  return {{"name", d.name},
          {"at", JsonText(d.at)},
          {"part_of", d.part_of},
          {"mode", d.mode},
          {"running", false},
          {"pid", nullptr},
          {"since", ""},
          {"online", nullptr},
          {"offline_since", ""},
          {"boot", start && start->when == "at boot"},
          {"starts", start ? start->when : ""},
          {"service", false},
          {"last_error", ""},
          {"pending", {{"files", 0}, {"bytes", 0}, {"oldest", ""}}},
          {"cache",
           {{"bytes", 0},
            {"limit", d.join.empty() ? d.cache_limit : 0},
            {"pinned_bytes", 0},
            {"waiting_bytes", 0}}}};
}

Result<Json> StatusOf(const World& world, const DriveSettings& d) {
  Json status = StatusBeforeAsking(world, d);
  PG_ASSIGN(std::optional<Json> answer, StatusOfRunning(world, d));
  const bool running = answer.has_value();
  if (!running && HasState(world, d)) {
    PG_ASSIGN(const auto drive, OpenDrive(world, d, false));
    PG_ASSIGN(answer, AnswerMethod(drive.get(), "status", Json::object()));
    answer->erase("online");
  }
  if (answer) status.update(*answer);
  if (running) {
    std::error_code ec;
    const auto exe =
        std::filesystem::read_symlink(fmt::format("/proc/{}/exe", status.value("pid", 0)), ec);
    status["outdated"] = !ec && exe.string().find(" (deleted)") != std::string::npos;
  }
  status["running"] = running;
  return status;
}

// A joined drive is what its parts are together.
void SumUp(Json* joined, const std::vector<Json>& all) {
  std::size_t parts = 0, offline = 0;
  std::string offline_since;
  for (const Json& part : all) {
    if (part["part_of"] != (*joined)["name"]) continue;
    ++parts;
    for (const char* what : {"pending", "cache"})
      for (const char* field : {"files", "bytes", "limit", "pinned_bytes", "waiting_bytes"})
        if (part[what].contains(field))
          (*joined)[what][field] = (*joined)[what].value(field, std::uint64_t{0}) +
                                   part[what].value(field, std::uint64_t{0});
    const std::string oldest = part["pending"].value("oldest", "");
    Json& oldest_of_all = (*joined)["pending"]["oldest"];
    if (!oldest.empty() && (oldest_of_all == "" || oldest < oldest_of_all)) oldest_of_all = oldest;
    const std::string since = part.value("offline_since", "");
    offline += since.empty() ? 0 : 1;
    offline_since = std::max(offline_since, since);
  }
  if ((*joined)["running"] != true || parts == 0) return;
  (*joined)["online"] = offline < parts;
  if (offline == parts) (*joined)["offline_since"] = offline_since;
}

void SayParts(const World& world, const Json& s) {
  std::vector<std::string> shown;
  for (const Json& part : s.value("parts", Json::array()))
    if (part.value("visible", false)) shown.push_back(Printable(part.value("shown_as", "")));
  if (s["running"] == true)
    world.Say(fmt::format("  shows    {}", shown.empty()
                                               ? "nothing yet"
                                               : fmt::format("{}", fmt::join(shown, ", "))));
  for (const Json& part : s.value("parts", Json::array()))
    if (!part.value("visible", false))
      world.Say(fmt::format("  hidden   {}: {}", Printable(part.value("shown_as", "")),
                            part.value("error", "").empty()
                                ? "not at the store any more, or left out"
                                : Printable(part.value("error", ""))));
}

// The bytes that may be evicted, of the limit; beside them those that wait or are pinned.
std::string CacheInWords(const Json& cache) {
  const auto bytes = [&](const char* what) { return cache.value(what, std::uint64_t{0}); };
  const std::uint64_t kept = bytes("pinned_bytes") + bytes("waiting_bytes");
  std::vector<std::string> besides;
  if (bytes("waiting_bytes") > 0)
    besides.push_back(FormatSize(bytes("waiting_bytes")) + " waiting for upload");
  if (bytes("pinned_bytes") > 0) besides.push_back(FormatSize(bytes("pinned_bytes")) + " pinned");
  return fmt::format("{} of {}{}{}", FormatSize(bytes("bytes") - std::min(bytes("bytes"), kept)),
                     FormatSize(bytes("limit")), besides.empty() ? "" : ", besides ",
                     fmt::join(besides, " and "));
}

constexpr std::size_t kProblemsSaid = 10;

void SayMirror(const World& world, const Json& mirror) {
  const std::string stopped = mirror.value("stopped", "");
  if (!stopped.empty()) return world.Say("  STOPPED  " + Printable(stopped));
  const std::uint64_t waiting = mirror.value("folders_waiting", std::uint64_t{0});
  std::string words = fmt::format("{} the same on both sides",
                                  Counted(mirror.value("items", std::uint64_t{0}), "item"));
  if (!mirror.value("complete", false)) words += "; the first look at everything is not over yet";
  if (waiting > 0) words += fmt::format("; changes in {}", Counted(waiting, "folder"));
  if (mirror.value("watches_lost", false))
    words +=
        "; changes here are found every ten minutes, as the system allows no watches: raise "
        "fs.inotify.max_user_watches";
  world.Say("  mirror   " + words);
  const Json problems = mirror.value("problems", Json::object());
  std::size_t said = 0;
  for (const auto& [path, why] : problems.items()) {
    if (++said > kProblemsSaid) break;
    world.Say(fmt::format("  waits    {}: {}", Printable(path), Printable(why.get<std::string>())));
  }
  if (problems.size() > kProblemsSaid)
    world.Say(fmt::format("  waits    and {} more", problems.size() - kProblemsSaid));
}

void SayStatus(const World& world, const DriveSettings& d, const Json& s) {
  const bool running = s["running"] == true;
  std::string state = s["running"].is_null() ? "not known" : "not mounted";
  if (running) {
    state =
        fmt::format("mounted, process {}, for {}", s.value("pid", 0), AgeOf(s.value("since", "")));
    const std::string offline = s.value("offline_since", "");
    state += offline.empty() ? "; online" : fmt::format("; OFFLINE for {}", AgeOf(offline));
  }
  const Json& pending = s["pending"];
  const std::uint64_t files = pending.value("files", std::uint64_t{0});
  const Json& cache = s["cache"];
  const std::string source =
      d.join.empty() ? d.account + ":" + d.folder : fmt::format("joins {}", fmt::join(d.join, " "));
  world.Say(fmt::format("{}{}\n  at       {}  ({}, {}{})\n  state    {}", d.name,
                        d.label.empty() ? "" : "  " + Printable(d.label), Printable(d.at),
                        Printable(source), d.mode, d.read_only ? ", read-only" : "",
                        state + (running && s.value("service", false) ? "; as a service" : "")));
  const std::string error = s.value("last_error", "");
  if (s["running"].is_null()) return world.Say("  error    " + Printable(error));
  if (!d.join.empty()) SayParts(world, s);
  if (s.value("outdated", false))
    world.Say(
        fmt::format("  program  was replaced since it started; the new one takes over with: "
                    "pargeter {}",
                    s.value("service", false) ? "service restart " + d.name
                                              : "unmount " + d.name + ", then mount again"));
  const std::string starts = s.value("starts", "");
  const bool can_start = Manager::Running().ok();
  if (d.part_of.empty())
    world.Say("  starts   " +
              (!starts.empty() ? starts
               : can_start     ? "by hand only; by itself with: pargeter service enable " + d.name
                               : "by hand only"));
  world.Say(files == 0
                ? "  pending  nothing waits for upload"
                : fmt::format("  pending  {}, {}, the oldest for {}", Counted(files, "change"),
                              FormatSize(pending.value("bytes", std::uint64_t{0})),
                              AgeOf(pending.value("oldest", ""))));
  world.Say("  cache    " + CacheInWords(cache));
  if (s.contains("mirror")) SayMirror(world, s["mirror"]);
  const Json held = s.value("held", Json::object());
  if (held.value("files", std::uint64_t{0}) > 0) {
    world.Say(
        fmt::format("  HELD     {} deleted here {} ago, not at the store: pargeter queue "
                    "release {} lets them go, queue drop {} brings them back",
                    Counted(held.value("files", std::uint64_t{0}), "file"),
                    AgeOf(held.value("since", "")), d.name, d.name));
  }
  const std::uint64_t conflicts = s.value("conflicts", std::uint64_t{0});
  if (conflicts > 0)
    world.Say(fmt::format("  conflict {} kept beside another version; see: pargeter conflicts {}",
                          conflicts, d.name));
  if (!error.empty()) world.Say("  error    " + Printable(error));
}

Status RunStatus(const std::string& name, World& world) {
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name, Joined::kItselfToo));
  std::vector<Json> all;
  const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
    Result<Json> status = StatusOf(world, d);
    all.push_back(status.ok() ? std::move(*status) : StatusBeforeAsking(world, d));
    if (status.ok()) return {};
    all.back()["running"] = nullptr;
    all.back()["last_error"] = JsonText(status.error().what);
    return status.error();
  });
  for (std::size_t i = 0; i < drives.size(); ++i) {
    if (!drives[i].join.empty()) SumUp(&all[i], all);
    SayStatus(world, drives[i], all[i]);
  }
  if (drives.empty()) world.Say("There are no drives.");
  if (world.json) world.PrintJson({{"drives", all}});
  return done;
}

// Two different things side by side: what the account holds, and what this disk has of it.
Status RunUsage(const std::string& name, World& world) {
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name));
  Json all = Json::array();
  const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
    PG_ASSIGN(const Json status, StatusOf(world, d));
    const auto space = [&]() -> Result<std::optional<Quota>> {
      PG_ASSIGN(const Store store, OpenStore(world, d.account, d.folder));
      return store.provider->SpaceOfAccount(nullptr);
    }();
    Json account{{"name", d.account}, {"used", nullptr}, {"total", nullptr}};
    std::string words = "the store does not say how much is used";
    if (!space.ok()) {
      words = space.error().what;
    } else if (*space) {
      const std::uint64_t total = (*space)->used + (*space)->available;
      account["used"] = (*space)->used;
      account["total"] = total;
      words = fmt::format("{} used of {}, {} free", FormatSize((*space)->used), FormatSize(total),
                          FormatSize((*space)->available));
    }
    const Json& cache = status["cache"];
    const Json& pending = status["pending"];
    world.Say(
        fmt::format("{}\n  account  {}: {}\n  here     {} on this disk, of {} that it may take",
                    d.name, d.account, words, FormatSize(cache.value("bytes", std::uint64_t{0})),
                    FormatSize(cache.value("limit", std::uint64_t{0}))));
    if (const auto files = pending.value("files", std::uint64_t{0}); files > 0)
      world.Say(fmt::format("  waiting  {}, {}", Counted(files, "change"),
                            FormatSize(pending.value("bytes", std::uint64_t{0}))));
    all.push_back({{"name", d.name}, {"account", account}, {"here", cache}, {"pending", pending}});
    return space.ok() ? Status() : Status(space.error().Within(d.account));
  });
  if (drives.empty()) world.Say("There are no drives.");
  if (world.json) world.PrintJson({{"drives", all}});
  return done;
}

std::string NextTry(const Json& ms) {
  if (!ms.is_number() || ms.get<long>() < 1000) return "";
  return "; next try in " + FormatAge(Duration(ms.get<long>()));
}

Status RunQueue(const std::string& name, World& world) {
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name));
  Json all = Json::array();
  const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
    if (!HasState(world, d)) return {};
    PG_ASSIGN(Json queue, AskDrive(world, d, "queue", {{"limit", world.json ? 1000000 : 50}}));
    const std::uint64_t files = queue.value("files", std::uint64_t{0});
    world.Say(fmt::format("{}: {}{}", d.name,
                          files == 0
                              ? "nothing waits"
                              : fmt::format("{}, {} to upload", Counted(files, "change"),
                                            FormatSize(queue.value("bytes", std::uint64_t{0}))),
                          ButHeld(queue)));
    for (const Json& item : queue["items"]) {
      const std::string error = item.value("error", "");
      const int attempts = item.value("attempts", 0);
      world.Say(fmt::format(
          "  {:<14} {:>10}  {:>7}  {}{}", item.value("action", ""),
          FormatSize(item.value("bytes", std::uint64_t{0})), AgeOf(item.value("since", "")),
          Printable(item.value("path", "")),
          error.empty()   ? ""
          : attempts == 0 ? fmt::format("\n      waits: {}", Printable(error))
                          : fmt::format("\n      attempt {}: {}{}", attempts, Printable(error),
                                        NextTry(item.value("next_try_ms", Json())))));
    }
    if (queue["items"].size() < files)
      world.Say(fmt::format("  and {} more", files - queue["items"].size()));
    queue["name"] = d.name;
    all.push_back(std::move(queue));
    return {};
  });
  if (world.json) world.PrintJson({{"drives", all}});
  return done;
}

// `release` and `drop` need a name: they decide about data.
Status RunHeld(const std::string& name, const std::string& method, World& world) {
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  PG_ASSIGN(const Json before, AskDrive(world, d, "status", Json::object()));
  const std::uint64_t held = before.value("held", Json::object()).value("files", std::uint64_t{0});
  if (held == 0) {
    world.Say(fmt::format("{}: no deletions are held back", name));
  } else {
    PG_TRY(AskDrive(world, d, method, Json::object(), Duration(600000)));
    world.Say(
        method == "release"
            ? fmt::format("{}: {} are deleted at the store now", name, Counted(held, "file"))
            : fmt::format("{}: {} {} back", name, Counted(held, "file"), held == 1 ? "is" : "are"));
  }
  if (world.json) world.PrintJson({{"name", name}, {"files", held}});
  return {};
}

Status RunConflicts(const std::string& name, World& world) {
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name));
  Json all = Json::array();
  const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
    if (!HasState(world, d)) return {};
    PG_ASSIGN(const Json answer, AskDrive(world, d, "conflicts", Json::object()));
    for (Json item : answer["conflicts"]) {
      for (const char* key : {"path", "beside"})
        item[key] = JsonText(d.at) + "/" + item.value(key, "");
      world.Say(fmt::format("{}\n    kept here, {}, changed {} ago{}\n    beside {}",
                            Printable(item.value("path", "")),
                            item.value("kind", "") == "folder"
                                ? "a folder"
                                : FormatSize(item.value("size", std::uint64_t{0})),
                            AgeOf(item.value("changed", "")),
                            item.value("uploaded", false) ? "" : ", not at the store yet",
                            Printable(item.value("beside", ""))));
      all.push_back(std::move(item));
    }
    return {};
  });
  if (all.empty() && done.ok()) world.Say("There are no conflicts.");
  if (!all.empty())
    world.Say("Decide with: pargeter conflicts keep PATH --here | --there | --both");
  if (world.json) world.PrintJson({{"conflicts", all}});
  return done;
}

Status RunKeep(const std::string& path, bool here, bool there, bool both, World& world) {
  if (here + there + both != 1)
    return Error(Code::kInvalid, "say which version stays",
                 "--here: the copy kept here takes the name; --there: it goes; --both: both stay.");
  PG_ASSIGN(const Located at, Locate(world, path));
  PG_TRY(AskDrive(world, at.drive, "keep",
                  {{"path", at.path},
                   {"side", here    ? "here"
                            : there ? "there"
                                    : "both"}}));
  world.Say(here    ? "The copy kept here has taken the name."
            : there ? "The copy kept here is deleted; what the store has stays."
                    : "Both stay as they are.");
  if (world.json) world.PrintJson({{"settled", JsonText(path)}});
  return {};
}

Status RunFlush(const std::string& name, const std::string& timeout, World& world) {
  PG_ASSIGN(const Duration patience, ParseDuration(timeout));
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name));
  Json flushed = Json::array();
  const Steady ends_by = std::chrono::steady_clock::now() + patience;  // for all of them
  const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
    const Duration left = std::max(
        Duration(0), std::chrono::ceil<Duration>(ends_by - std::chrono::steady_clock::now()));
    PG_ASSIGN(const auto answer, CallDrive(world.paths.SocketOf(d.name), "flush",
                                           {{"timeout_ms", left.count()}}, left + Duration(10000)));
    if (!answer) {
      std::uint64_t waits = 0;
      if (name.empty()) {
        PG_ASSIGN(const Json status, StatusOf(world, d));
        waits = status["pending"].value("files", std::uint64_t{0});
        if (waits == 0) return {};
      }
      return Error(Code::kBusy,
                   waits == 0
                       ? fmt::format("the drive {} is not mounted, so nothing can go up", d.name)
                       : fmt::format("the drive {} is not mounted, and {} wait{} for upload",
                                     d.name, Counted(waits, "change"), waits == 1 ? "s" : ""),
                   fmt::format("Mount it: pargeter mount {}", d.name));
    }
    flushed.push_back(d.name);
    world.Say(fmt::format("{}: everything is at the store{}", d.name, ButHeld(*answer)));
    return {};
  });
  if (world.json) world.PrintJson({{"flushed", flushed}});
  return done;
}

Status RunRefresh(const std::string& name, World& world) {
  Json all = Json::array();
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name, Joined::kItselfToo));
  const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
    PG_ASSIGN(const auto answer,
              CallDrive(world.paths.SocketOf(d.name), "refresh", Json::object(), Duration(120000)));
    if (!answer && !name.empty())
      return Error(Code::kBusy, fmt::format("the drive {} is not mounted", d.name));
    if (!answer) return {};
    const auto list = [&](const char* key) {
      std::string words;
      for (const Json& one : answer->value(key, Json::array()))
        words += (words.empty() ? "" : ", ") + one.get<std::string>();
      return words;
    };
    const std::string applied = list("applied"), remount = list("needs_remount");
    world.Say(fmt::format("{}: looked at the store again{}", d.name,
                          applied.empty() ? "" : "; taken in: " + applied));
    if (!remount.empty())
      world.Note(fmt::format("{}: takes effect when it is mounted again: {}", d.name, remount));
    all.push_back({{"name", d.name},
                   {"applied", answer->value("applied", Json::array())},
                   {"needs_remount", answer->value("needs_remount", Json::array())}});
    return {};
  });
  if (world.json) world.PrintJson({{"drives", all}});
  return done;
}

// What changed lately, on which side; with `follow` until interrupted, as it happens.
Status RunActivity(const std::string& name, bool follow, World& world) {
  PG_ASSIGN(const std::vector<DriveSettings> drives, Meant(world, name));
  std::map<std::string, std::int64_t> seen;
  for (bool first = true;; first = false) {
    Json all = Json::array();
    const Status done = ForEach(drives, world, [&](const DriveSettings& d) -> Status {
      PG_ASSIGN(
          const std::optional<Json> answer,
          CallDrive(world.paths.SocketOf(d.name), "activity",
                    {{"after", seen[d.name]}, {"limit", first ? 50 : 1000}}, Duration(10000)));
      if (!answer) return {};
      for (Json item : (*answer)["activity"]) {
        seen[d.name] = item.value("number", std::int64_t{0});
        item["drive"] = d.name;
        std::string when = item.value("at", "").substr(0, 19);
        if (when.size() > 10) when[10] = ' ';
        const std::string detail = item.value("detail", "");
        world.Say(fmt::format("{}  {:<9} {:<5} {}/{}{}", when, item.value("what", ""),
                              item.value("side", ""), d.name, item.value("path", ""),
                              detail.empty() ? "" : "  (" + detail + ")"));
        if (follow && world.json) fmt::print("{}\n", item.dump());
        all.push_back(std::move(item));
      }
      return {};
    });
    std::fflush(stdout);
    if (!follow || !done.ok()) {
      if (all.empty() && done.ok())
        world.Say("Nothing has happened since the drives were mounted.");
      if (!follow && world.json) world.PrintJson({{"activity", all}});
      return done;
    }
    std::this_thread::sleep_for(std::chrono::milliseconds(500));
  }
}

}  // namespace

void AddTransferCommands(Command* app, Work* run) {
  auto name = std::make_shared<std::string>();
  Command* queue = app->Add({.name = "queue",
                             .summary = "list changes that are not at the store yet, and why",
                             .examples = {{"list what waits on all drives", "pargeter queue"},
                                          {"count it in a script", "pargeter queue sheets --json"}},
                             .usage = "[DRIVE] | release DRIVE | drop DRIVE"});
  queue->Operand("DRIVE", name.get(), "the drive (default: all)");
  for (const bool release : {true, false}) {
    const char* method = release ? "release" : "drop";
    Command* held = queue->Add(
        {.name = method,
         .summary = release ? "release deletions that were held back, since they were many"
                            : "drop deletions that were held back: the files come back",
         .examples = {{release ? "delete the files at the store, too" : "bring the files back",
                       fmt::format("pargeter queue {} sheets", method)},
                      {"see what is held back", "pargeter status sheets"}}});
    held->Operand("DRIVE", name.get(), "the drive").Required();
    held->Does([=] { *run = [=](World& w) { return RunHeld(*name, method, w); }; });
  }
  queue->Does([=] { *run = [=](World& w) { return RunQueue(*name, w); }; });

  auto timeout = std::make_shared<std::string>("10m");
  Command* cmd = app->Add(
      {.name = "flush",
       .summary = "wait until all changes are at the store",
       .details = "If a change can never be uploaded as it is, such as for a missing right, the "
                  "command returns at once and says why.",
       .examples = {
           {"wait before switching off", "pargeter flush"},
           {"wait for one drive, five minutes at most", "pargeter flush sheets --timeout 5m"}}});
  cmd->Operand("DRIVE", name.get(), "the drive (default: all)");
  cmd->Option("--timeout", "SPAN", timeout.get(), "longest wait, such as 10m").ShowDefault();
  cmd->Does([=] { *run = [=](World& w) { return RunFlush(*name, *timeout, w); }; });

  auto path = std::make_shared<std::string>();
  auto here = std::make_shared<bool>(false), there = std::make_shared<bool>(false),
       both = std::make_shared<bool>(false);
  Command* conflicts =
      app->Add({.name = "conflicts",
                .summary = "list conflicts: files that were changed here and at the store",
                .examples = {{"list the conflicts of all drives", "pargeter conflicts"},
                             {"count them in a script", "pargeter conflicts sheets --json"}},
                .usage = "[DRIVE] | keep PATH (--here | --there | --both)"});
  conflicts->Operand("DRIVE", name.get(), "the drive (default: all)");
  Command* keep = conflicts->Add(
      {.name = "keep",
       .summary = "settle a conflict: keep this machine's version, the store's, or both",
       .examples = {{"replace the store's version by ours",
                     "pargeter conflicts keep ~/sheets/list.csv --here"},
                    {"keep the store's version, and delete our copy",
                     "pargeter conflicts keep ~/sheets/list.csv --there"}},
       .usage = "PATH (--here | --there | --both)"});
  keep->Operand("PATH", path.get(), "the copy that was kept, or the file beside it").Required();
  keep->Flag("--here", here.get(), "this machine's copy takes the name");
  keep->Flag("--there", there.get(), "the store's version stays, and the copy is deleted");
  keep->Flag("--both", both.get(), "both files stay");
  keep->Does([=] { *run = [=](World& w) { return RunKeep(*path, *here, *there, *both, w); }; });
  conflicts->Does([=] { *run = [=](World& w) { return RunConflicts(*name, w); }; });

  cmd = app->Add({.name = "refresh",
                  .summary = "read the settings again, and look at the store again",
                  .examples = {{"take in changed settings", "pargeter refresh sheets"},
                               {"look at all stores now", "pargeter refresh"}}});
  cmd->Operand("DRIVE", name.get(), "the drive (default: all)");
  cmd->Does([=] { *run = [=](World& w) { return RunRefresh(*name, w); }; });
}

void AddLookCommands(Command* app, Work* run) {
  auto name = std::make_shared<std::string>();
  auto follow = std::make_shared<bool>(false);
  const auto with_drive = [&](Texts texts) {
    Command* cmd = app->Add(std::move(texts));
    cmd->Operand("DRIVE", name.get(), "the drive (default: all)");
    return cmd;
  };
  with_drive({.name = "status",
              .summary = "show drives: mounted, online, what waits for upload, use of the cache",
              .examples = {{"show all drives", "pargeter status"},
                           {"show one drive for a script", "pargeter status sheets --json"}}})
      ->Does([=] { *run = [=](World& w) { return RunStatus(*name, w); }; });
  with_drive({.name = "usage",
              .summary = "show the space used at the store, and on this disk",
              .examples = {{"show the use of all drives", "pargeter usage"},
                           {"show one for a script", "pargeter usage sheets --json"}}})
      ->Does([=] { *run = [=](World& w) { return RunUsage(*name, w); }; });
  Command* activity =
      with_drive({.name = "activity",
                  .summary = "show recent changes, on which side they were made, and faults",
                  .examples = {{"show recent activity", "pargeter activity sheets"},
                               {"follow it", "pargeter activity --follow"}}});
  activity->Flag("--follow", follow.get(), "go on with new lines until Ctrl-C");
  activity->Does([=] { *run = [=](World& w) { return RunActivity(*name, *follow, w); }; });
}

}  // namespace pargeter::app
