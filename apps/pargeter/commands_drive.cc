#include <fmt/format.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

#include "base/file.h"
#include "base/text.h"
#include "base/units.h"
#include "cache/relocate.h"
#include "command_line/command.h"
#include "config/joining.h"
#include "control/client.h"
#include "stores.h"
#include "world.h"

namespace pargeter::app {
namespace {

// As typed; what was not typed stays as it is.
struct Change {
  std::string name;
  std::optional<std::string> account, folder, at, mode, label, cache_limit, cache_at, fresh_for,
      stop_within;
  std::optional<double> keep_free;
  std::optional<std::string> hold, share_with, shy_readers, shy_allowance;
  std::vector<std::string> join, except;
  bool read_only = false, read_write = false, discard_pending = false;
};

// "off", or "FILES" or "FILES,SHARE" such as "1000,0.25".
Status ParseHold(const std::string& text, DriveSettings* d) {
  if (text == "off") {
    d->hold_files = 0;
    return {};
  }
  char* rest = nullptr;
  const double files = std::strtod(text.c_str(), &rest);
  double share = d->hold_share;
  bool good = rest != text.c_str() && files >= 1 && files < 1e9;
  if (good && *rest == ',') {
    const char* second = rest + 1;
    share = std::strtod(second, &rest);
    good = rest != second && share >= 0 && share <= 1;
  }
  if (!good || *rest != 0) {
    return Error(Code::kInvalid,
                 fmt::format("\"{}\" does not say what to hold back", Printable(text)),
                 "Give FILES,SHARE such as 1000,0.25, or off.");
  }
  d->hold_files = static_cast<std::uint64_t>(files);
  d->hold_share = share;
  return {};
}

Status Apply(const Change& c, DriveSettings* d) {
  if (c.account) d->account = *c.account;
  if (c.folder) d->folder = *c.folder;
  if (c.label) d->label = *c.label;
  char cwd[4096];
  const std::string here = ::getcwd(cwd, sizeof(cwd)) ? cwd : "/";
  if (c.at) d->at = AbsolutePath(*c.at, here);
  if (c.cache_at) d->cache_at = AbsolutePath(*c.cache_at, here);
  if (c.mode) {
    if (*c.mode != "stream" && *c.mode != "mirror")
      return Error(Code::kInvalid, fmt::format("\"{}\" is no mode of a drive", Printable(*c.mode)),
                   "Modes: stream, mirror");
    d->mode = *c.mode;
  }
  if (c.cache_limit) {
    PG_ASSIGN(d->cache_limit, ParseSize(*c.cache_limit));
    if (d->cache_limit < 16 * kMiB) {
      return Error(
          Code::kInvalid,
          fmt::format("a cache of {} is too small to work with", FormatSize(d->cache_limit)),
          "Give it at least 16MiB.");
    }
  }
  if (c.fresh_for) {
    PG_ASSIGN(d->fresh_for, ParseDuration(*c.fresh_for));
  }
  if (c.stop_within) {
    PG_ASSIGN(d->stop_within, ParseDuration(*c.stop_within));
  }
  if (c.keep_free) d->keep_free = *c.keep_free;
  if (d->keep_free < 0 || d->keep_free > 0.95) {
    return Error(Code::kInvalid, "the share to keep free must be between 0 and 0.95",
                 "0.1 keeps a tenth of the disk free.");
  }
  if (c.hold) PG_TRY(ParseHold(*c.hold, d));
  if (c.shy_readers) d->shy_readers = *c.shy_readers == "none" ? "" : *c.shy_readers;
  if (c.shy_allowance) {
    PG_ASSIGN(d->shy_allowance, ParseSize(*c.shy_allowance));
  }
  if (c.share_with) {
    if (*c.share_with != "owner" && *c.share_with != "all")
      return Error(Code::kInvalid, "a drive is shared with: owner, or all");
    d->share_with_all = *c.share_with == "all";
  }
  if (c.read_only) d->read_only = true;
  if (c.read_write) d->read_only = false;
  if (!c.join.empty()) d->join = c.join;
  if (!c.except.empty()) d->except = c.except;
  if (d->except == std::vector<std::string>{"none"}) d->except.clear();
  return {};
}

// Of a joined drive, all patterns; their accounts must be there, their folders need not.
Status CheckJoin(const World& world, const DriveSettings& d) {
  if (!d.account.empty() || !d.folder.empty())
    return Error(Code::kInvalid, "a joined drive has no account and no folder of its own",
                 "Name all folders with --join ACCOUNT/FOLDER.");
  for (const std::string& text : d.except) PG_TRY(ParseJoin(text));
  for (const std::string& text : d.join) {
    PG_ASSIGN(const JoinPattern pattern, ParseJoin(text));
    PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, pattern.account));
    if (account.kind == "s3" && pattern.folder.empty())
      return Error(Code::kInvalid, "an object store's folder is BUCKET or BUCKET/PREFIX",
                   fmt::format("For every bucket: --join '{}/*'", pattern.account));
  }
  return {};
}

Status CheckFolder(const World& world, const DriveSettings& d) {
  if (!d.join.empty() && d.mirrors())
    return Error(Code::kInvalid, "a joined drive cannot be a mirror",
                 "Add a mirror for each folder: --account and --folder.");
  if (!d.join.empty()) return CheckJoin(world, d);
  if (!d.except.empty())
    return Error(Code::kInvalid, "only a joined drive can leave something out",
                 "--except belongs to --join.");
  if (d.account.empty())
    return Error(Code::kInvalid, "a drive is of an account, and none is given",
                 "Give --account and --folder; or --join ACCOUNT/FOLDER, once or more often.");
  PG_ASSIGN(const AccountSettings account, LoadAccount(world.paths, d.account));
  std::string bucket, prefix;
  PG_TRY(SplitFolder(d.folder, &bucket, &prefix));
  if (bucket.empty() && account.kind == "s3") {
    return Error(Code::kInvalid,
                 "an object store's folder is BUCKET or BUCKET/PREFIX, and none is given",
                 fmt::format("List the buckets with: pargeter account browse {}", d.account));
  }
  return {};
}

Status CheckPlace(const World& world, const DriveSettings& d) {
  for (const std::string& name : DriveNames(world.paths)) {
    if (name == d.name) continue;
    const auto other = LoadDrive(world.paths, name);
    if (!other.ok()) continue;
    if (other->at == d.at) {
      return Error(Code::kRefused,
                   fmt::format("the drive {} appears at {} already", name, Printable(d.at)),
                   "Choose another folder with --at.");
    }
    if (d.join.empty() && other->account == d.account && other->folder == d.folder &&
        !d.read_only && !other->read_only) {
      world.Note(fmt::format("Note: the drive {} writes to the same folder.", name));
    }
  }
  return {};
}

std::string CacheOf(const World& world, const DriveSettings& d) {
  return d.cache_at.empty() ? world.paths.DriveState(d.name) + "/cache" : d.cache_at;
}

// What it shows, in a few words.
std::string SourceOf(const DriveSettings& d) {
  return d.join.empty() ? fmt::format("{}:{}", d.account, Printable(d.folder))
                        : Printable(fmt::format("{}", fmt::join(d.join, " ")));
}

// The names of its parts, in a line.
std::string PartNames(const World& world, const std::string& joined) {
  std::vector<std::string> names;
  for (const DriveSettings& part : PartsOf(world.paths, joined)) names.push_back(part.name);
  return names.empty() ? "none known yet" : fmt::format("{}", fmt::join(names, ", "));
}

Json DriveJson(const DriveSettings& d) {
  return {{"name", d.name},
          {"account", d.account},
          {"folder", JsonText(d.folder)},
          {"join", JsonTexts(d.join)},
          {"except", JsonTexts(d.except)},
          {"part_of", d.part_of},
          {"at", JsonText(d.at)},
          {"mode", d.mode},
          {"read_only", d.read_only},
          {"label", JsonText(d.label)},
          {"cache_limit", d.cache_limit},
          {"keep_free", d.keep_free},
          {"share_with", d.share_with_all ? "all" : "owner"},
          {"hold_files", d.hold_files},
          {"hold_share", d.hold_share},
          {"cache_at", JsonText(d.cache_at)}};
}

Status RunAdd(const Change& change, World& world) {
  PG_TRY(CheckName("drive", change.name));
  if (LoadDrive(world.paths, change.name).ok()) {
    return Error(Code::kExists, fmt::format("there is a drive {} already", change.name),
                 fmt::format("Change it with: pargeter drive change {} ...", change.name));
  }
  DriveSettings d;
  d.name = change.name;
  PG_TRY(Apply(change, &d));
  PG_TRY(CheckFolder(world, d));
  PG_TRY(CheckPlace(world, d));
  std::error_code ec;
  if (!d.mirrors() && std::filesystem::is_directory(d.at, ec) &&
      !std::filesystem::is_empty(d.at, ec)) {
    return Error(Code::kNotEmpty,
                 fmt::format("{} has files in it, which the mount would hide", Printable(d.at)),
                 "Move them away, or choose an empty folder.");
  }
  // an explicit place is made here, so that the first mount finds it
  std::filesystem::create_directories(d.at, ec);
  PG_TRY(SaveDrive(world.paths, d));
  world.Say(fmt::format("Drive {} is saved. Mount it with: pargeter mount {}", d.name, d.name));
  if (world.json) world.PrintJson(DriveJson(d));
  return {};
}

Status RunListDrives(World& world) {
  Json all = Json::array();
  for (const std::string& name : DriveNames(world.paths)) {
    PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
    all.push_back(DriveJson(d));
    world.Say(fmt::format("{:<16} {:<36} {:<6} {}{}{}", d.name, SourceOf(d), d.mode,
                          Printable(d.at), d.read_only ? " (read-only)" : "",
                          d.join.empty() ? "" : " (joined)"));
  }
  if (all.empty())
    world.Say(
        "There are no drives. Add one with: pargeter drive add NAME --account A --folder F --at "
        "DIR");
  if (world.json) world.PrintJson({{"drives", all}});
  return {};
}

Status RunShowDrive(const std::string& name, World& world) {
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, name));
  const std::string source =
      d.join.empty()
          ? fmt::format("account      {}\nfolder       {}", d.account, Printable(d.folder))
          : fmt::format("joins        {}\nleaves out   {}\nparts        {}", SourceOf(d),
                        d.except.empty() ? std::string("nothing")
                                         : Printable(fmt::format("{}", fmt::join(d.except, " "))),
                        PartNames(world, d.name));
  world.Say(fmt::format(
      "name         {}{}\n{}\nat           {}\nmode         "
      "{}{}\nlabel        {}\n"
      "cache limit  {}, keeping {:.0f} % of the disk free\ncache at     {}\n"
      "seen by      {}\nholds back   {}\nfile         {}",
      d.name, d.part_of.empty() ? "" : fmt::format(", a part of {}", d.part_of), source,
      Printable(d.at), d.mode, d.read_only ? ", read-only" : "", Printable(d.label),
      FormatSize(d.cache_limit) + (d.join.empty() ? "" : " for each part"), d.keep_free * 100,
      d.join.empty()       ? CacheOf(world, d)
      : d.cache_at.empty() ? "each part's state"
                           : d.cache_at,
      d.share_with_all ? "all users, as permissions say" : "its owner",
      d.hold_files == 0
          ? std::string("no deletions")
          : fmt::format("more than {} deletions at once, if over {:.0f} % of all files",
                        d.hold_files, d.hold_share * 100),
      world.paths.DriveFile(name)));
  if (world.json) world.PrintJson(DriveJson(d));
  return {};
}

// What no store has.
struct OnlyHere {
  std::uint64_t changes = 0, local = 0;  // the latter are files that a rule keeps here
};

Result<OnlyHere> WhatIsOnlyHere(const World& world, const DriveSettings& d) {
  OnlyHere out;
  const std::string state = world.paths.DriveState(d.name);
  if (::access((state + "/index.db").c_str(), F_OK) == 0) {
    PG_ASSIGN(const Json status, AskDrive(world, d, "status", Json::object()));
    out.changes = status["pending"].value("files", std::uint64_t{0});
    out.local = status["below"].value("local", std::uint64_t{0});
    return out;
  }
  // its index is lost, and the next mount would find these again
  std::error_code ec;
  for (std::filesystem::directory_iterator it(state + "/pending", ec), end; !ec && it != end;
       it.increment(ec))
    ++out.changes;
  return out;
}

Result<bool> IsRunning(const World& world, const std::string& name) {
  const auto answer =
      CallDrive(world.paths.SocketOf(name), "status", Json::object(), Duration(10000));
  return !answer.ok() || answer->has_value();
}

// kBusy if it is mounted, with what it is a part of.
Status CheckNotMounted(const World& world, const DriveSettings& d) {
  const std::string& mount = d.part_of.empty() ? d.name : d.part_of;
  PG_ASSIGN(const bool running, IsRunning(world, mount));
  if (!running) return {};
  return Error(Code::kBusy, fmt::format("the drive {} is mounted", mount),
               fmt::format("Unmount it first: pargeter unmount {}", mount));
}

// File by file; ended at any moment, the same command goes on. What waits for upload is in the
// drive's state, and stays there.
Status MoveCache(const World& world, const DriveSettings& before, const DriveSettings& after) {
  PG_TRY(CheckNotMounted(world, before));
  // nobody mounts it meanwhile
  auto lock = LockFile(world.paths.DriveState(before.name) + "/lock");
  if (!lock.ok()) return lock.error();
  const std::string from = CacheOf(world, before), to = CacheOf(world, after);
  const auto mine = ReadFile(from + "/.drive", 256), there = ReadFile(to + "/.drive", 256);
  if (mine.ok() && there.ok() && *mine != *there)
    return Error(Code::kRefused, fmt::format("{} is the cache of another drive", Printable(to)),
                 "Choose another folder.");
  const bool terminal = ::isatty(2) != 0 && !world.quiet;
  Steady said{};
  const auto moved = MoveBlocks(from, to, &RealDisk(), [&](const Relocation& r) {
    const Steady now = SystemClock().Now();
    if (!terminal || now - said < std::chrono::milliseconds(200)) return;
    said = now;
    fmt::print(stderr, "\r\x1b[K{} of {} moved", FormatSize(r.bytes_done), FormatSize(r.bytes));
  });
  if (terminal) fmt::print(stderr, "\r\x1b[K");
  if (!moved.ok())
    return Error(moved.error().code, "the cache was not wholly moved: " + moved.error().what,
                 moved.error().remedy.empty() ? "The same command goes on from there."
                                              : moved.error().remedy);
  if (mine.ok() && !there.ok()) PG_TRY(WriteFileAtomically(to + "/.drive", *mine, 0600));
  PG_TRY(SaveDrive(world.paths, after));
  std::error_code ec;
  for (int i = 0; i < 256; ++i) std::filesystem::remove(fmt::format("{}/{:02x}", from, i), ec);
  for (const char* name : {"/.drive", "/.lock"}) std::filesystem::remove(from + name, ec);
  world.Say(moved->files == 0
                ? fmt::format("Nothing was cached at {}; what is at {} is taken over.", from, to)
                : fmt::format("{} in {} files moved to {}.", FormatSize(moved->bytes_done),
                              moved->files, to));
  return {};
}

// Where each part's cache follows the joined drive's place.
Status MoveParts(const World& world, const DriveSettings& joined) {
  for (const DriveSettings& before : PartsOf(world.paths, joined.name)) {
    if (::access(CacheOf(world, before).c_str(), F_OK) != 0) continue;
    DriveSettings after = before;
    after.cache_at = joined.cache_at + "/" + before.name;
    if (after.cache_at != before.cache_at) PG_TRY(MoveCache(world, before, after));
  }
  return {};
}

// The drives that have a state: itself, or its parts.
std::vector<DriveSettings> ThoseWithState(const World& world, const DriveSettings& d) {
  return d.join.empty() ? std::vector<DriveSettings>{d} : PartsOf(world.paths, d.name);
}

// What waits would stay here for ever.
Status CheckAllIsUp(const World& world, const DriveSettings& d) {
  for (const DriveSettings& each : ThoseWithState(world, d)) {
    PG_ASSIGN(const OnlyHere here, WhatIsOnlyHere(world, each));
    if (here.changes == 0) continue;
    const std::string& mount = each.part_of.empty() ? each.name : each.part_of;
    return Error(Code::kRefused,
                 fmt::format("the drive {} has {} that no store has yet, and that would stay here",
                             each.name, Counted(here.changes, "change")),
                 fmt::format("Mount it until all is uploaded: pargeter mount {}; pargeter flush {}",
                             mount, mount));
  }
  return {};
}

Status CheckChange(const Change& change, const DriveSettings& before) {
  if (!before.part_of.empty() && (change.account || change.folder || change.at || change.mode ||
                                  change.share_with || !change.join.empty()))
    return Error(Code::kRefused,
                 fmt::format("{} is a part of the joined drive {}, which says where it is from and "
                             "how it is shown",
                             before.name, before.part_of),
                 fmt::format("pargeter drive change {} ...", before.part_of));
  if (before.mirrors() && change.mode && *change.mode != "mirror")
    return Error(Code::kRefused,
                 fmt::format("the mirror {} cannot become a drive that streams", before.name),
                 fmt::format("Unmount it, and add a drive of another name at another directory. "
                             "The files in {} stay.",
                             Printable(before.at)));
  if (before.join.empty() && !change.join.empty())
    return Error(Code::kRefused, fmt::format("{} is no joined drive", before.name),
                 "Add a drive of its own with --join.");
  return {};
}

Status RunChange(const Change& change, World& world) {
  PG_ASSIGN(DriveSettings d, LoadDrive(world.paths, change.name));
  const DriveSettings before = d;
  PG_TRY(CheckChange(change, before));
  PG_TRY(Apply(change, &d));
  PG_TRY(CheckFolder(world, d));
  PG_TRY(CheckPlace(world, d));
  const bool used = ::access((world.paths.DriveState(d.name) + "/index.db").c_str(), F_OK) == 0;
  if ((d.account != before.account || d.folder != before.folder) && used) {
    return Error(Code::kRefused, "account and folder of a drive that was mounted cannot be changed",
                 fmt::format("Remove it and add it anew: pargeter drive remove {}", d.name));
  }
  if (d.read_only && !before.read_only) PG_TRY(CheckAllIsUp(world, d));
  if (d.mode != before.mode) PG_TRY(CheckNotMounted(world, d));
  if (d.cache_at != before.cache_at && !d.join.empty()) {
    PG_TRY(CheckNotMounted(world, d));
    PG_TRY(MoveParts(world, d));
  }
  if (d.cache_at != before.cache_at && used) {
    PG_TRY(MoveCache(world, before, d));
  } else {
    PG_TRY(SaveDrive(world.paths, d));
  }
  PG_ASSIGN(const bool running, IsRunning(world, d.name));
  world.Say(fmt::format("Drive {} is changed{}.", d.name,
                        running ? "; bring it to the mount with: pargeter refresh " + d.name : ""));
  return {};
}

// The state first: should we end between the two, the old name still finds nothing lost.
Status MoveState(const World& world, const std::string& from, const std::string& to) {
  if (::access(world.paths.DriveState(from).c_str(), F_OK) != 0) return {};
  return RealDisk().Rename(world.paths.DriveState(from), world.paths.DriveState(to));
}

// Its parts keep their states; theirs is a name that begins with its own.
Status RenameParts(const World& world, const DriveSettings& joined, const std::string& new_name) {
  for (DriveSettings part : PartsOf(world.paths, joined.name)) {
    const std::string old_part = part.name;
    if (part.name.compare(0, joined.name.size() + 1, joined.name + ".") == 0)
      part.name = new_name + part.name.substr(joined.name.size());
    PG_TRY(CheckName("drive", part.name));
    PG_TRY(MoveState(world, old_part, part.name));
    part.part_of = new_name;
    PG_TRY(SaveDrive(world.paths, part));
    if (old_part != part.name) PG_TRY(RemoveDrive(world.paths, old_part));
  }
  return {};
}

Status RunRenameDrive(const std::string& old_name, const std::string& new_name, World& world) {
  PG_TRY(CheckName("drive", new_name));
  PG_ASSIGN(DriveSettings d, LoadDrive(world.paths, old_name));
  if (LoadDrive(world.paths, new_name).ok())
    return Error(Code::kExists, fmt::format("there is a drive {} already", new_name));
  PG_TRY(CheckNotMounted(world, d));
  PG_TRY(MoveState(world, old_name, new_name));
  if (d.join.empty()) {
    PG_TRY(RealDisk().Rename(world.paths.DriveFile(old_name), world.paths.DriveFile(new_name)));
  } else {  // while its parts go over, both are there
    d.name = new_name;
    PG_TRY(SaveDrive(world.paths, d));
    d.name = old_name;
    PG_TRY(RenameParts(world, d, new_name));
    PG_TRY(RemoveDrive(world.paths, old_name));
  }
  world.Say(fmt::format("Drive {} is renamed to {}; it appears at the same directory.", old_name,
                        new_name));
  return {};
}

Status CheckNothingIsOnlyHere(const World& world, const DriveSettings& d,
                              const std::string& asked) {
  PG_ASSIGN(const OnlyHere here, WhatIsOnlyHere(world, d));
  const std::string lose =
      fmt::format("lose them with: pargeter drive remove {} --discard-pending", asked);
  if (here.changes > 0)
    return Error(Code::kRefused,
                 fmt::format("the drive {} has {} that no store has yet", d.name,
                             Counted(here.changes, "change")),
                 "Mount it until all is uploaded, or " + lose);
  if (here.local > 0)
    return Error(Code::kRefused,
                 fmt::format("the drive {} has {} that a rule keeps on this disk only", d.name,
                             Counted(here.local, "file")),
                 "Mount it and move the files out (see: pargeter rule list), or " + lose);
  return {};
}

Status ForgetDrive(const World& world, const DriveSettings& d) {
  std::error_code ec;
  std::filesystem::remove_all(world.paths.DriveState(d.name), ec);
  if (!d.cache_at.empty()) {
    // only what is ours: the folder was named by a person
    for (int i = 0; i < 256; ++i)
      std::filesystem::remove_all(fmt::format("{}/{:02x}", d.cache_at, i), ec);
    if (!d.part_of.empty()) ::rmdir(d.cache_at.c_str());  // made by us, if it is empty now
  }
  return RemoveDrive(world.paths, d.name);
}

Status RunRemove(const Change& change, World& world) {
  PG_ASSIGN(const DriveSettings d, LoadDrive(world.paths, change.name));
  PG_TRY(CheckNotMounted(world, d));
  const std::vector<DriveSettings> all = ThoseWithState(world, d);
  if (!change.discard_pending)
    for (const DriveSettings& each : all) PG_TRY(CheckNothingIsOnlyHere(world, each, d.name));
  if (!d.part_of.empty()) {  // or the next look would bring it back
    PG_ASSIGN(DriveSettings joined, LoadDrive(world.paths, d.part_of));
    joined.except.push_back(PatternOf({d.account, d.folder}));
    PG_TRY(SaveDrive(world.paths, joined));
  }
  for (const DriveSettings& each : all) PG_TRY(ForgetDrive(world, each));
  if (!d.join.empty()) PG_TRY(ForgetDrive(world, d));
  world.Say(fmt::format(
      "Drive {} and its cache are removed from this machine; nothing at the store was touched.{}",
      d.name, d.part_of.empty() ? "" : fmt::format(" {} leaves it out from now on.", d.part_of)));
  return {};
}

void AddSettings(Command* cmd, const std::shared_ptr<Change>& c) {
  cmd->Option(
      "--folder", "FOLDER", &c->folder,
      "folder at the store: s3 BUCKET[/PREFIX]; webdav and sftp any folder (default: the top)");
  cmd->Option("--mode", "MODE", &c->mode,
              "stream: all names at once, bytes when they are read; mirror: a plain directory with "
              "all files, kept the same as the store");
  cmd->Option("--label", "TEXT", &c->label, "description for people");
  cmd->Flag("--read-only", &c->read_only, "refuse changes through the mount");
  cmd->Option("--cache-limit", "SIZE", &c->cache_limit, "most bytes of the cache, such as 2GiB");
  cmd->Option("--keep-free", "SHARE", &c->keep_free,
              "share of the disk that the cache leaves free, such as 0.1");
  cmd->Option("--cache-at", "DIR", &c->cache_at,
              "folder for the cache, such as one on another disk");
  cmd->Option("--share-with", "WHO", &c->share_with,
              "who sees the mount, only its owner or all users as permissions allow")
      .OneOf({"owner", "all"});
  cmd->Option("--fresh-for", "SPAN", &c->fresh_for,
              "age of a listing after which an open asks the store again, such as 5s");
  cmd->Option("--stop-within", "SPAN", &c->stop_within,
              "longest wait for uploads when the mount ends, such as 2m");
  cmd->Option(
      "--hold-deletions", "FILES,SHARE", &c->hold,
      "hold back deletions if more than FILES and more than SHARE of the drive are deleted within "
      "a minute, such as 1000,0.25; or off");
  cmd->Option(
      "--shy-readers", "NAMES", &c->shy_readers,
      "programs that get no whole files from the store: NAME,NAME, none, or default (common "
      "indexers, thumbnailers and scanners)");
  cmd->Option("--shy-allowance", "SIZE", &c->shy_allowance,
              "bytes of each file that those programs get, such as 256KiB");
  cmd->Option(
      "--join", "PATTERN", &c->join,
      "show several folders side by side: ACCOUNT/FOLDER, where * and ? stand for letters of a "
      "name; can be repeated");
  cmd->Option("--except", "PATTERN", &c->except,
              "with --join: ACCOUNT/FOLDER that is left out, or none; can be repeated");
}

}  // namespace

void AddDriveCommands(Command* app, Work* run) {
  Command* group =
      app->Add({.name = "drive",
                .summary = "add and change drives: a folder of an account, and where it appears"});
  auto c = std::make_shared<Change>();
  auto other = std::make_shared<std::string>();
  const auto named = [&](Texts texts) {
    Command* sub = group->Add(std::move(texts));
    sub->Operand("DRIVE", &c->name, "the drive").Required();
    return sub;
  };
  Command* cmd = named(
      {.name = "add",
       .summary = "add a drive: a folder of an account, and the directory where it appears",
       .details =
           "The store is not contacted, and nothing is mounted; `pargeter mount` does that. The "
           "directory is made if it is not there, and must be empty.",
       .examples = {{"a folder of a bucket, with a small cache",
                     "pargeter drive add sheets --account museum --folder herbarium/sheets --at "
                     "~/sheets --cache-limit 2GiB"},
                    {"a whole cloud drive, read-only",
                     "pargeter drive add office --account staff --at ~/office --read-only"},
                    {"several folders under one mount",
                     "pargeter drive add all --join 'museum/*' --at ~/all"}}});
  cmd->Option("--account", "ACCOUNT", &c->account, "the account; not with --join");
  cmd->Option("--at", "DIR", &c->at, "the directory where the drive appears").Required();
  AddSettings(cmd, c);
  cmd->Does([=] { *run = [c](World& w) { return RunAdd(*c, w); }; });
  group
      ->Add({.name = "list",
             .summary = "list all drives",
             .examples = {{"list the drives", "pargeter drive list"},
                          {"list them for a script", "pargeter drive list --json"}}})
      ->Does([=] { *run = RunListDrives; });
  named({.name = "show",
         .summary = "show the settings of one drive",
         .examples = {{"show a drive", "pargeter drive show sheets"},
                      {"show it for a script", "pargeter drive show sheets --json"}}})
      ->Does([=] { *run = [c](World& w) { return RunShowDrive(c->name, w); }; });
  cmd = named(
      {.name = "change",
       .summary = "change settings of a drive",
       .details =
           "Only the given options change. `pargeter refresh` brings the change to a mounted "
           "drive; it names the settings that need a new mount. A new --cache-at moves the "
           "cache; the drive must be unmounted for that.",
       .examples = {
           {"allow a larger cache", "pargeter drive change sheets --cache-limit 4GiB"},
           {"never hold back deletions", "pargeter drive change sheets --hold-deletions off"}}});
  cmd->Option("--account", "ACCOUNT", &c->account, "the account");
  cmd->Option("--at", "DIR", &c->at, "the directory where the drive appears");
  AddSettings(cmd, c);
  cmd->Flag("--read-write", &c->read_write, "allow changes again");
  cmd->Does([=] { *run = [c](World& w) { return RunChange(*c, w); }; });
  cmd = named({.name = "rename",
               .summary = "rename a drive; it appears at the same directory",
               .examples = {{"give a drive another name", "pargeter drive rename spare reserve"},
                            {"check the new name", "pargeter drive show reserve"}}});
  cmd->Operand("NEW", other.get(), "the new name").Required();
  cmd->Does([=] { *run = [=](World& w) { return RunRenameDrive(c->name, *other, w); }; });
  cmd = named(
      {.name = "remove",
       .summary = "remove a drive and its cache from this machine",
       .details =
           "Nothing at the store changes. A drive with changes that are not uploaded, or with "
           "files that are only on this disk, is not removed unless --discard-pending is given.",
       .examples = {{"see first whether something waits", "pargeter queue reserve"},
                    {"remove a drive", "pargeter drive remove reserve"}}});
  cmd->Flag("--discard-pending", &c->discard_pending,
            "lose changes that are not uploaded, and files that are only on this disk");
  cmd->Does([=] { *run = [c](World& w) { return RunRemove(*c, w); }; });
}

}  // namespace pargeter::app
