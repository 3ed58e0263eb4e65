// What is on this disk, as people ask for it: fetch, pin, unpin, evict, verify, explain, rule.
#include <fmt/format.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <atomic>
#include <map>
#include <thread>

#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

constexpr Duration kLook(200);  // between looks at a fetch under way

using Paths = std::vector<std::string>;

std::int64_t Number(const Json& json, const char* field) {
  return json.value(field, std::int64_t{0});
}
std::string Size(const Json& json, const char* field) {
  return FormatSize(json.value(field, std::uint64_t{0}));
}

// "4 min ago", or "".
std::string Ago(const std::string& rfc3339) {
  const Nanos then = ParseRfc3339(rfc3339.c_str());
  if (then == 0) return "";
  return FormatAge(Duration((SystemClock().Wall() - then) / 1'000'000)) + " ago";
}

// Paths by the drive that they are on.
struct Group {
  DriveSettings drive;
  Json paths = Json::array();
};
Result<std::vector<Group>> ByDrive(const World& world, const Paths& paths) {
  std::vector<Group> groups;
  for (const std::string& path : paths) {
    PG_ASSIGN(const std::vector<Located> found, LocateAll(world, path));
    for (const Located& at : found) {
      if (at.drive.mirrors())
        return Error(Code::kRefused,
                     fmt::format("{} is a mirror: all its files stay in {}", at.drive.name,
                                 Printable(at.drive.at)),
                     "A folder that should not be on this machine: pargeter rule add PATH hide");
      auto it = std::find_if(groups.begin(), groups.end(),
                             [&](const Group& g) { return g.drive.name == at.drive.name; });
      if (it == groups.end()) it = groups.insert(groups.end(), Group{at.drive});
      it->paths.push_back(at.path);
    }
  }
  return groups;
}

// ---- fetch

std::atomic<bool> g_called_off{false};
constexpr int kBar = 30;  // characters at most: what stands behind it should not jump about

// Bytes, rate and time left, on one line that is drawn again; on a terminal only.
class ProgressLine {
 public:
  explicit ProgressLine(const World& world) : on_(::isatty(2) != 0 && !world.quiet) {}
  ~ProgressLine() { Clear(); }
  void Show(const Json& p) {
    if (!on_) return;
    const auto bytes = p.value("bytes", std::uint64_t{0}),
               done = p.value("bytes_done", std::uint64_t{0});
    const Steady now = SystemClock().Now();
    if (begun_ == Steady{}) {
      begun_ = now;
      first_ = done;
    }
    const double seconds = std::chrono::duration<double>(now - begun_).count();
    const double rate = seconds > 0.3 ? static_cast<double>(done - first_) / seconds : 0;
    std::string line = fmt::format("{} of {}, {} of {} files", FormatSize(done), FormatSize(bytes),
                                   Number(p, "files_done"), Number(p, "files"));
    if (rate > 0) line += fmt::format(", {}/s", FormatSize(static_cast<std::uint64_t>(rate)));
    if (rate > 0 && done < bytes)
      line += fmt::format(
          ", {} left",
          FormatAge(
              Duration(static_cast<long>(static_cast<double>(bytes - done) / rate * 1000) + 1000)));
    if (p.value("looking", false)) line = "looking what there is ... " + line;
    const int width = std::min(kBar, Width() - static_cast<int>(line.size()) - 3);
    std::string bar;
    if (width > 9) {
      const int full =
          bytes > 0 ? static_cast<int>(static_cast<double>(width) * static_cast<double>(done) /
                                       static_cast<double>(bytes))
                    : 0;
      bar = "[" + std::string(static_cast<std::size_t>(full), '=') +
            std::string(static_cast<std::size_t>(width - full), ' ') + "] ";
    }
    fmt::print(stderr, "\r\x1b[K{}{}", bar, line.substr(0, static_cast<std::size_t>(Width() - 1)));
    std::fflush(stderr);
    shown_ = true;
  }
  void Clear() {
    if (std::exchange(shown_, false)) fmt::print(stderr, "\r\x1b[K");
  }

 private:
  static int Width() {
    winsize size{};
    return ::ioctl(2, TIOCGWINSZ, &size) == 0 && size.ws_col > 20 ? size.ws_col : 80;
  }
  const bool on_;
  bool shown_ = false;
  Steady begun_{};
  std::uint64_t first_ = 0;
};

// Until it is finished; Ctrl-C ends it, and what came stays.
Result<Json> FetchOn(Talk* talk, const Json& paths, World& world) {
  PG_ASSIGN(const Json begun, talk->Ask("fetch", {{"paths", paths}}));
  ProgressLine line(world);
  for (;;) {
    PG_ASSIGN(const Json progress, talk->Ask("fetch-progress", {{"number", begun["number"]},
                                                                {"cancel", g_called_off.load()}}));
    if (progress.value("finished", false)) return progress;
    line.Show(progress);
    std::this_thread::sleep_for(kLook);
  }
}

Status RunFetch(const Paths& paths, World& world) {
  PG_ASSIGN(const std::vector<Group> groups, ByDrive(world, paths));
  struct sigaction action {};
  action.sa_handler = [](int) { g_called_off = true; };
  ::sigaction(SIGINT, &action, nullptr);
  std::int64_t files = 0, done = 0, failures = 0, thin = 0;
  std::uint64_t bytes = 0, all = 0;
  std::optional<Error> first;
  for (const Group& group : groups) {
    PG_ASSIGN(Talk talk, Talk::With(world, group.drive, true));
    PG_ASSIGN(const Json p, FetchOn(&talk, group.paths, world));
    files += Number(p, "files");
    done += Number(p, "files_done");
    bytes += p.value("bytes_done", std::uint64_t{0});
    all += p.value("bytes", std::uint64_t{0});
    failures += Number(p, "failures");
    thin += Number(p, "thin");
    for (const Json& f : p["failed"]) {
      const std::string where = f.value("path", "");
      world.Note(
          fmt::format("{}: {}", where.empty() ? group.drive.name : where, f.value("what", "")));
      if (!first)
        first = Error(CodeOfName(f.value("code", "")), f.value("what", ""), f.value("remedy", ""));
    }
  }
  const bool whole = done == files && !first && !g_called_off;
  world.Say(whole ? fmt::format("{} here now, {}.", Counted(files, "file"), FormatSize(all))
                  : fmt::format("{} of {} here now, {} of {}; the same command goes on from there.",
                                done, Counted(files, "file"), FormatSize(bytes), FormatSize(all)));
  if (thin > 0)
    world.Say(fmt::format("{} stay{} at the store: a rule keeps nothing of them here.",
                          Counted(thin, "file"), thin == 1 ? "s" : ""));
  if (world.json)
    world.PrintJson({{"files", files},
                     {"files_done", done},
                     {"thin", thin},
                     {"bytes", all},
                     {"bytes_done", bytes},
                     {"failures", failures}});
  if (g_called_off) return Error(Code::kCancelled, "the fetch was called off; what came stays");
  if (first)
    return Error(first->code,
                 fmt::format("{} could not be fetched: {}",
                             Counted(std::max<std::int64_t>(1, failures), "file"), first->what),
                 first->remedy);
  return {};
}

// ---- pin, unpin

Status RunPin(const Paths& paths, bool wait, World& world) {
  PG_ASSIGN(const std::vector<Group> groups, ByDrive(world, paths));
  Json all = Json::array();
  for (const Group& group : groups) {
    PG_ASSIGN(Talk talk, Talk::With(world, group.drive, true));
    for (const Json& path : group.paths) {
      PG_ASSIGN(Json pinned, talk.Ask("place", {{"path", path}, {"placement", "pin"}}, kLong));
      const std::string name = path.get<std::string>();
      world.Say(fmt::format("{} is pinned: {}, {}, of which {} are here.",
                            Printable(name.empty() ? group.drive.name : name),
                            Counted(Number(pinned, "files"), "file"), Size(pinned, "bytes"),
                            Size(pinned, "on_disk")));
      pinned["path"] = path;
      all.push_back(std::move(pinned));
    }
    // a drive that does not run fetches only while this command does
    if (wait || !talk.runs()) {
      PG_ASSIGN(const Json p, FetchOn(&talk, group.paths, world));
      world.Say(fmt::format("{} of {} here now.", Number(p, "files_done"),
                            Counted(Number(p, "files"), "file")));
      for (const Json& f : p["failed"])
        return Error(CodeOfName(f.value("code", "")), f.value("what", ""), f.value("remedy", ""));
    } else {
      world.Say("The rest is fetched in the background; see: pargeter ls");
    }
  }
  if (world.json) world.PrintJson({{"pinned", all}});
  return {};
}

Status RunUnpin(const Paths& paths, World& world) {
  PG_ASSIGN(const std::vector<Group> groups, ByDrive(world, paths));
  for (const Group& group : groups) {
    PG_ASSIGN(Talk talk, Talk::With(world, group.drive, false));
    for (const Json& path : group.paths) {
      PG_TRY(talk.Ask("place", {{"path", path}, {"placement", "unpin"}}, kLong));
      const std::string name = path.get<std::string>();
      world.Say(fmt::format("{} is unpinned; its bytes on this disk may be evicted.",
                            Printable(name.empty() ? group.drive.name : name)));
    }
  }
  if (world.json) world.PrintJson({{"unpinned", paths}});
  return {};
}

// ---- evict

struct EvictOptions {
  Paths paths;
  std::string unused_for, until_free;
  bool dry_run = false;
};

void SayKept(const World& world, const Json& e, const char* count, const char* names,
             const char* what) {
  const std::int64_t n = Number(e, count);
  if (n == 0) return;
  std::vector<std::string> some;
  for (const Json& name : e[names]) some.push_back(name.get<std::string>());
  world.Say(fmt::format("{} {}: {}{}", Counted(n, "file"), what, fmt::join(some, ", "),
                        n > static_cast<std::int64_t>(some.size()) ? ", ..." : ""));
}

Status RunEvict(const EvictOptions& options, World& world) {
  Json params{{"dry_run", options.dry_run}};
  if (!options.unused_for.empty()) {
    PG_ASSIGN(const Duration age, ParseDuration(options.unused_for));
    params["unused_since"] = SystemClock().Wall() - age.count() * 1'000'000;
  }
  if (!options.until_free.empty()) {
    PG_ASSIGN(const std::uint64_t bytes, ParseSize(options.until_free));
    params["until_free"] = bytes;
  }
  PG_ASSIGN(const std::vector<Group> groups, ByDrive(world, options.paths));
  Json total{{"files", 0}, {"freed", 0}, {"pending", 0}, {"kept", 0}, {"open", 0}};
  for (const Group& group : groups) {
    params["paths"] = group.paths;
    PG_ASSIGN(const Json e, AskDrive(world, group.drive, "evict", params, kLong));
    world.Say(fmt::format("{} {} {} ({}); free on that disk: {} before, {} {}.",
                          options.dry_run ? "Would free" : "Freed", Size(e, "freed"),
                          "of " + group.drive.name, Counted(Number(e, "files"), "file"),
                          Size(e, "free_before"), Size(e, "free_after"),
                          options.dry_run ? "then" : "now"));
    SayKept(world, e, "pending", "pending_names", "kept, not at the store yet");
    SayKept(world, e, "kept", "kept_names", "kept, pinned or local");
    if (Number(e, "open") > 0)
      world.Say(fmt::format("{} in use: evicted when closed", Counted(Number(e, "open"), "file")));
    for (const char* field : {"files", "freed", "pending", "kept", "open"})
      total[field] = total[field].get<std::int64_t>() + Number(e, field);
    for (const char* field : {"free_before", "free_after", "pending_names", "kept_names"})
      total[field] = e[field];
  }
  if (world.json) world.PrintJson(total);
  // asked for by name, and nothing could go: that was refused
  if (Number(total, "files") == 0 && Number(total, "open") == 0 &&
      Number(total, "pending") + Number(total, "kept") > 0 && options.unused_for.empty() &&
      options.until_free.empty()) {
    const bool pending = Number(total, "pending") > 0;
    return Error(Code::kRefused,
                 pending ? "nothing was evicted: what is here is not at the store yet"
                         : "nothing was evicted: what is here is pinned or local",
                 pending ? "Wait until they are uploaded: pargeter flush"
                         : "See what keeps them: pargeter explain PATH");
  }
  return {};
}

// ---- verify

Status RunVerify(const Paths& paths, bool with_store, World& world) {
  Json all = Json::array();
  std::int64_t bad = 0;
  for (const std::string& path : paths) {
    PG_ASSIGN(const Located at, Locate(world, path));
    PG_ASSIGN(Talk talk, Talk::With(world, at.drive, with_store));
    PG_ASSIGN(Json c, talk.Ask("verify", {{"path", at.path}, {"with_store", with_store}}, kLong));
    world.Say(fmt::format("{}: {} right ({})", at.drive.name, Counted(Number(c, "files"), "file"),
                          Size(c, "bytes")));
    for (const Json& name : c["rotten"])
      world.Say(fmt::format("  ROTTEN   {}  (dropped; fetched again when needed)",
                            name.get<std::string>()));
    for (const Json& name : c["unreadable"])
      world.Say(
          fmt::format("  LOST?    {}  (waits for upload, and the disk does not give its bytes)",
                      name.get<std::string>()));
    if (Number(c, "unknown") > 0)
      world.Say(
          fmt::format("  {} only partly here, or without a digest: --with-store compares those",
                      Counted(Number(c, "unknown"), "file")));
    if (Number(c, "pending") > 0)
      world.Say(fmt::format("  {} only on this disk: read, and left alone",
                            Counted(Number(c, "pending"), "file")));
    bad += static_cast<std::int64_t>(c["rotten"].size() + c["unreadable"].size());
    c["path"] = JsonText(path);
    all.push_back(std::move(c));
  }
  if (world.json) world.PrintJson({{"checked", all}});
  if (bad == 0) return {};
  return Error(
      Code::kDamaged,
      fmt::format("{} not as {} should be", Counted(bad, "file"), bad == 1 ? "it" : "they"),
      "The disk may be failing: look at the kernel's log.");
}

// ---- explain

std::string Why(const Json& e, const DriveSettings& drive) {
  const std::string placement = e.value("placement", ""), on = e.value("placed_on", ""),
                    by = e.value("placed_by", "");
  const bool set = e.value("by_itself", false) || e.value("by_pattern", false) || !on.empty() ||
                   !e.value("placed_at", "").empty();
  if (!set && drive.mirrors()) return "No rule speaks of it: a mirror has all files.";
  if (!set) return "No rule speaks of it: it is cached after use, while there is room.";
  const std::string what = placement == "pin"    ? "is always kept here"
                           : placement == "thin" ? "gives back its bytes after use and upload"
                           : placement == "hide" ? "is not shown on this machine"
                           : placement == "local"
                               ? "stays on this machine and never goes to the store"
                               : "is cached after use, while there is room";
  const std::string by_what = e.value("by_pattern", false)
                                  ? fmt::format("the rule for names like {}", on)
                              : e.value("by_itself", false) ? "a rule of its own"
                              : on.empty() ? "the rule on the whole drive " + drive.name
                                           : fmt::format("the rule on {}", on);
  return fmt::format("It {}, by {} (\"{}\"), set {} {}.", what, by_what, placement,
                     Ago(e.value("placed_at", "")),
                     by.empty() ? "for this machine" : "for all machines by " + by);
}

std::string StateWords(const Json& e) {
  const std::string state = e.value("state", "");
  if (e.value("kind", "") == "folder") {
    const Json& below = e["sums"];
    std::string words =
        fmt::format("It holds {}, {}, of which {} ({}) are on this disk.",
                    Counted(Number(below, "files"), "file"), Size(e, "size"),
                    Counted(Number(below, "here"), "whole file"), Size(e, "on_disk"));
    if (Number(below, "pending") > 0)
      words += fmt::format(" {} wait for upload.", Counted(Number(below, "pending"), "change"));
    if (Number(below, "unlisted") > 0)
      words += fmt::format(" {} below it were never looked into, and may hold more.",
                           Counted(Number(below, "unlisted"), "folder"));
    return words;
  }
  if (state == "remote") return "Its bytes are only at the store; its name is known here.";
  if (state == "partial")
    return fmt::format("{} of its {} are on this disk, as they were read.", Size(e, "on_disk"),
                       Size(e, "size"));
  if (state == "cached") return "It is wholly on this disk, and at the store: it may be evicted.";
  if (state == "pinned") return "It is wholly on this disk, and stays here.";
  if (state == "local") return "It is only on this disk.";
  if (state == "conflict")
    return fmt::format("It was changed on two sides: this copy was kept beside {}.",
                       e.value("beside", ""));
  return "It was changed here, and is not at the store as it is here.";
}

std::string WhatNext(const Json& e, const std::string& path, bool mirrors) {
  const std::string state = e.value("state", ""), placement = e.value("placement", "");
  if (state == "conflict")
    return fmt::format("Decide: pargeter conflicts keep {} --here|--there|--both", path);
  if (state == "pending") return "It can be evicted when it is at the store: pargeter flush";
  if (state == "local")
    return "Its bytes are nowhere else: only another rule, or deleting it, frees them.";
  if (mirrors)
    return state == "pinned" ? "It stays in the directory until it is deleted or hidden."
                             : "It comes into the directory by itself.";
  if (placement == "pin")
    return "Its place on this disk is freed by: pargeter unpin, then pargeter evict";
  if (state == "remote" || state == "partial")
    return fmt::format("Brought here by: pargeter fetch {}; kept here by: pargeter pin {}", path,
                       path);
  return fmt::format("Freed by: pargeter evict {}", path);
}

Status RunExplain(const std::string& path, World& world) {
  PG_ASSIGN(const Located at, Locate(world, path));
  PG_ASSIGN(const Json e, AskDrive(world, at.drive, "explain", {{"path", at.path}}));
  world.Say(fmt::format("{}: {}", Printable(path), e.value("state", "")));
  world.Say("  " + StateWords(e));
  world.Say("  " + Printable(Why(e, at.drive)));
  if (e.value("pending", false)) {
    std::string line = fmt::format("Waiting since {}: {}.", Ago(e.value("pending_since", "")),
                                   e.value("action", ""));
    const std::string error = e.value("error", "");
    if (!error.empty())
      line += fmt::format(" {} so far; the last failed: {}",
                          Counted(Number(e, "attempts"), "attempt"), error);
    world.Say("  " + Printable(line));
  }
  if (const std::string since = e.value("offline_since", ""); !since.empty())
    world.Say(fmt::format("  The store has not answered since {}.", Ago(since)));
  if (e.value("kind", "") == "file") {
    const std::string version = e.value("version", "");
    world.Say("  " + (version.empty() ? std::string("The store has no version of it.")
                                      : fmt::format("The store's version, as last seen: {}, {}.",
                                                    Printable(version), Size(e, "size_at_store"))));
    std::string used = Ago(e.value("used", ""));
    world.Say(fmt::format("  Last used here {}; changed {}{}.", used.empty() ? "never" : used,
                          Ago(e.value("changed", "")),
                          Number(e, "open") > 0
                              ? fmt::format("; open {} now", Counted(Number(e, "open"), "time"))
                              : ""));
  } else if (const std::string listed = e.value("listed", ""); !listed.empty()) {
    world.Say(fmt::format("  Its names were last asked of the store {}.", Ago(listed)));
  }
  world.Say("  " + WhatNext(e, Printable(path), at.drive.mirrors()));
  if (world.json) {
    Json out = e;
    out["path"] = JsonText(path);
    world.PrintJson(out);
  }
  return {};
}

}  // namespace

void AddResidencyCommands(Command* app, Work* run) {
  const auto paths_of = [](Command* cmd) {
    auto paths = std::make_shared<Paths>();
    cmd->Operand("PATH", paths.get(), "files or folders on a drive").Required();
    return paths;
  };
  Command* cmd = app->Add(
      {.name = "fetch",
       .summary = "fetch files to this disk now, without a promise to keep them",
       .details = "Ctrl-C ends the command; the bytes that have arrived stay.",
       .examples = {{"fetch a folder before a trip", "pargeter fetch ~/sheets/loans"},
                    {"fetch several", "pargeter fetch ~/sheets/pressed ~/sheets/list.csv"}}});
  auto paths = paths_of(cmd);
  cmd->Does([=] { *run = [=](World& w) { return RunFetch(*paths, w); }; });

  cmd = app->Add({.name = "pin",
                  .summary = "pin files: keep them on this disk until they are unpinned",
                  .details = "What appears in a pinned folder later is fetched, too.",
                  .examples = {{"keep a folder here", "pargeter pin ~/sheets/pressed"},
                               {"keep a folder here, and wait until all of it has arrived",
                                "pargeter pin ~/sheets/pressed --wait"}}});
  paths = paths_of(cmd);
  auto wait = std::make_shared<bool>(false);
  cmd->Flag("--wait", wait.get(), "wait until all of it is here");
  cmd->Does([=] { *run = [=](World& w) { return RunPin(*paths, *wait, w); }; });

  cmd = app->Add({.name = "unpin",
                  .summary = "unpin files: they stay here until the cache needs their space",
                  .examples = {{"unpin a folder", "pargeter unpin ~/sheets/pressed"},
                               {"free its space at once", "pargeter evict ~/sheets/pressed"}}});
  paths = paths_of(cmd);
  cmd->Does([=] { *run = [=](World& w) { return RunUnpin(*paths, w); }; });

  auto evict = std::make_shared<EvictOptions>();
  cmd = app->Add(
      {.name = "evict",
       .summary = "evict files: free their disk space, and keep their names",
       .details =
           "A file that is not uploaded, is pinned or local is never evicted. An open file is "
           "evicted when it is closed.",
       .examples = {{"see how much a folder would free", "pargeter evict ~/sheets/loans --dry-run"},
                    {"evict files unused for 30 days", "pargeter evict ~/sheets --unused-for 30d"},
                    {"evict until 20 GiB of the disk are free",
                     "pargeter evict ~/sheets --until-free 20GiB"}}});
  cmd->Operand("PATH", &evict->paths, "files or folders on a drive").Required();
  cmd->Option("--unused-for", "SPAN", &evict->unused_for,
              "only files that nobody used for that long, such as 30d or 12h");
  cmd->Option("--until-free", "SIZE", &evict->until_free,
              "least recently used files first, until the disk has that much free, such as 20GiB");
  cmd->Flag("--dry-run", &evict->dry_run, "only say what would be freed");
  cmd->Does([=] { *run = [=](World& w) { return RunEvict(*evict, w); }; });

  cmd = app->Add(
      {.name = "verify",
       .summary = "verify cached files: compare their bytes with the store's digests",
       .details =
           "A cached file whose digest differs is compared with the store's bytes, and dropped "
           "from the cache if they differ. Files that wait for upload are only read.",
       .examples = {
           {"verify a drive", "pargeter verify ~/sheets"},
           {"compare all bytes with the store", "pargeter verify ~/sheets/loans --with-store"}}});
  paths = paths_of(cmd);
  auto with_store = std::make_shared<bool>(false);
  cmd->Flag("--with-store", with_store.get(),
            "read the store's bytes of files that are partly here, or have no digest");
  cmd->Does([=] { *run = [=](World& w) { return RunVerify(*paths, *with_store, w); }; });

  cmd = app->Add(
      {.name = "explain",
       .summary = "explain a file's state: why it is here or not, and what would change that",
       .examples = {{"explain a folder", "pargeter explain ~/sheets/loans"},
                    {"explain a file", "pargeter explain ~/sheets/list.csv"}}});
  auto path = std::make_shared<std::string>();
  cmd->Operand("PATH", path.get(), "a file or folder on a drive").Required();
  cmd->Does([=] { *run = [=](World& w) { return RunExplain(*path, w); }; });
}

}  // namespace pargeter::app
