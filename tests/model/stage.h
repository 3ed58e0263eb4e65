// The stage of the plans: one or two machines at one store, on disks that fail as told.
#pragma once

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <thread>

#include "model/plan.h"
#include "support/fake_store.h"
#include "support/hands.h"
#include "support/harsh_disk.h"
#include "support/process.h"

namespace pargeter::test {

inline bool StoreTrouble(Code code) {
  return code == Code::kUnavailable || code == Code::kTimeout || code == Code::kStoreFault ||
         code == Code::kThrottled || code == Code::kDamaged;
}

struct Options {
  double store_faults = 0, disk_faults = 0, lost_answers = 0;
  bool watch_power = false;
  bool hold = false;  // nearly all deletions are held back
  std::uint64_t seed = 0;
  std::uint64_t disk_fail_at = 0, disk_die_at = 0, store_fail_at = 0, store_lose_at = 0;
};

// One or two machines at one store.
class Stage {
 public:
  explicit Stage(const Options& options) : options_(options) {
    if (options.watch_power)
      for (const auto* folder : {&folder_, &other_disk_}) disk_.WatchPower(folder->path());
    world_.cut_off = [this] { return disk_.dead(); };
    world_.keeps_former = true;
    world_.multipart_above = 100000;
    world_.copies_in_parts_above = 120000;
    world_.moves_folders = options.seed % 2 == 1;
    world_.moves_files = world_.serial_versions = options.seed % 4 == 1;
    world_.real_folders = options.seed % 8 == 5;
    world_.forgets_origins = options.seed % 8 == 1;
    world_.has_feed = world_.feed_tells_all = options.seed % 3 == 1;
    if (options.seed % 7 == 3) world_.page_size = 3;
    // such stores take files whole
    if (world_.serial_versions) world_.multipart_above = world_.copies_in_parts_above = 0;
  }
  ~Stage() { Close(0), Close(1); }

  Status Open(int who) {
    DriveOptions o;
    o.name = "sheets";
    o.state_folder = folder_ / ("state" + std::to_string(who));
    const bool apart = options_.seed % 5 == 3;
    o.cache_folder = (apart ? other_disk_ : folder_) / ("cache" + std::to_string(who));
    o.cache_limit = 1 << 20;
    o.keep_free = 0;
    o.spare_room = 0;
    o.quiet = Duration(1);
    o.fresh_for = Duration(600000);
    o.leftover_for = Duration(0);
    o.patience = Duration(5000);
    o.copy_patience = Duration(500);
    o.open_patience = Duration(5);
    o.hold_quiet = Duration(1);
    if (options_.hold) o.hold_files = 1, o.hold_share = 0;
    o.retry_pause = Duration(2);
    o.trial_pause = Duration(5);
    o.feed_pause = Duration(4);
    o.may_be_late = Duration(40);
    o.host = who == 0 ? "isle" : "coast";
    o.boot_id = std::to_string(boot_);
    o.upload_workers = 3;
    o.fetch_workers = 2;
    o.remembered = 10;
    o.disk = &disk_;
    PG_ASSIGN(drive_[who],
              Drive::Open(o, std::make_unique<FakeStore>(&world_, std::to_string(who) + ":")));
    drive_[who]->Start(nullptr);
    return {};
  }
  void Close(int who) {
    LetGo(who);
    drive_[who].reset();
  }
  void Hold(const Step& s) {
    LetGo(s.who);
    const auto id = hands(s.who).Find(s.path);
    if (!id.ok()) return;
    auto opened = drive_[s.who]->OpenNode(*id, Drive::Intent::kWrite);
    if (opened.ok()) held_[s.who] = std::move(*opened);
  }
  void Place(const Step& s) {
    const auto id = hands(s.who).Find(s.path);
    if (id.ok()) Ignore(drive_[s.who]->Place(*id, PlacementOf(s)));
  }
  // What is called so may change meanwhile: a folder takes the name, and the file with the rule
  // stands beside it.
  Status ForgetRules(int who) {
    for (int round = 0; round < 3; ++round) {
      PG_ASSIGN(const auto rules, drive_[who]->Rules());
      for (const auto& placed : rules) {
        const auto id = hands(who).Find(placed.rule.key);
        const Status done = id.ok() ? drive_[who]->Place(*id, Placement::kNone) : id.error();
        const bool gone = !done.ok() && done.error().code == Code::kNotFound;  // there, meanwhile
        if (!gone) PG_TRY(done);
      }
      if (rules.empty()) break;
    }
    return {};
  }
  void LetGo(int who) {
    if (held_[who]) drive_[who]->Release(held_[who]->file);
    held_[who].reset();
  }
  // A file that has its name still.
  bool Holds(int who) {
    if (!held_[who]) return false;
    const auto state = drive_[who]->State(held_[who]->file->id);
    return state.ok() && !state->node.gone();
  }
  Drive* drive(int who) { return drive_[who].get(); }
  Hands hands(int who) { return Hands(drive_[who].get()); }
  void NewBoot() { ++boot_; }
  // What a killed process left at the store goes when it is old, as all is at this one.
  Status ClearUp(int who) {
    for (const auto& [path, content] : AtTheStore())
      if (path.find(kScratchPrefix) != std::string::npos) return drive(who)->Refresh();
    return {};
  }

  // Calls again while only the store is in trouble.
  template <typename Call>
  auto Patiently(Call call) {
    for (int i = 0;; ++i) {
      auto outcome = call();
      if (outcome.ok() || !StoreTrouble(outcome.error().code) || i > 7000 || disk_.dead())
        return outcome;
      std::this_thread::sleep_for(std::chrono::milliseconds(3));
    }
  }
  // Steps that change nothing which the model knows of. False: another one.
  bool Serve(const Step& s) {
    Drive* drive = drive_[s.who].get();
    switch (s.kind) {
      case Step::kKill:
      case Step::kPowerCut:
        disk_.DieAt(disk_.operations() + s.n);
        power_cut_ = s.kind == Step::kPowerCut;
        return true;
      case Step::kNudge:
        Ignore(drive->Flush(Duration(s.n % 2 == 0 ? 0 : 20)));
        return true;
      case Step::kRefresh:
        Ignore(drive->Refresh());
        return true;
      case Step::kPlace:
        Place(s);
        return true;
      case Step::kHold:
        Hold(s);
        return true;
      case Step::kEvict:
        Ignore(drive->Evict({kRootId}, {}));
        return true;
      case Step::kOffline:
      case Step::kOnline:
        world_.SetOffline(s.kind == Step::kOffline);
        return true;
      default:
        return false;
    }
  }
  Status Do(const Step& s) {
    Hands hand = hands(s.who);
    switch (s.kind) {
      case Step::kWrite:
        return hand.Write(s.path, ContentOf(s));
      case Step::kSyncedWrite:
        return hand.Write(s.path, ContentOf(s), true);
      case Step::kPatch:
        return Patch(s);
      case Step::kCopy:
        return hand.Copy(s.to, s.path);
      case Step::kMode:
        return hand.SetMode(s.path, ModeOf(s));
      case Step::kPunch:
        return hand.Punch(s.path, s.n % 5000, std::max<std::uint64_t>(1, s.n));
      case Step::kResize:
        return hand.Resize(s.path, s.n);
      case Step::kRemove:
        return hand.Remove(s.path);
      case Step::kMove:
        return hand.Move(s.path, s.to);
      case Step::kMakeFolder:
        return hand.MakeFolder(s.path, s.serial % 2 == 0 ? 0700 : 0755);
      case Step::kRemoveFolder:
        return hand.RemoveFolder(s.path);
      default:
        return {};
    }
  }
  // By who has it open, if somebody has, and says that it is well, as a close does.
  Status Patch(const Step& s) {
    Hands hand = hands(s.who);
    const auto& held = held_[s.who];
    PG_ASSIGN(const NodeId id, hand.Find(s.path));
    if (!held || held->file->id != id) return hand.Patch(s.path, ContentOf(s), s.n % 5000);
    PG_TRY(hand.Put(held->file, ContentOf(s), s.n % 5000));
    return drive_[s.who]->Flush(held->file);
  }
  // Everything is up and both sides agree; `held`: but for what waits behind deletions that a
  // person has to decide on. (A machine that has much else to do is no hang.)
  std::string Settle(int who, bool held = false) {
    const auto undecided = [](const auto& one) {
      return one.second.pending.error.find("is held back") != std::string::npos;
    };
    const auto behind = [](const auto& one) { return one.second.pending.tries == 0; };
    std::string why;
    for (int seconds = 0; seconds < 30; ++seconds) {
      const Status flushed = drive_[who]->Flush(Duration(1000));
      if (flushed.ok()) return "";
      why = "does not settle: " + flushed.error().what;
      const auto queue = drive_[who]->Queue(50);
      if (!queue.ok()) continue;
      if (held && std::any_of(queue->begin(), queue->end(), undecided) &&
          std::all_of(queue->begin(), queue->end(), behind))
        return "";
      for (const auto& [path, node] : *queue)
        why += fmt::format(
            "; {} #{}{} kind={} there={} {}/{} tried={}/{} dirty={} upload={} attempts={} {}", path,
            node.id, node.gone() ? " gone" : "", static_cast<int>(node.kind),
            static_cast<int>(node.remote.place), node.remote.parent, node.remote.name,
            node.attempt.parent, node.attempt.name, node.dirty, node.upload_log.Pack(),
            node.pending.tries, node.pending.error);
    }
    return why;
  }
  // For who looks into a failure: the states and caches as they are, and all that was asked, if
  // PARGETER_KEEP names a folder.
  void Keep() {
    const char* to = std::getenv("PARGETER_KEEP");
    if (to == nullptr) return;
    const std::string folder = fmt::format("{}/{}-{}", to, options_.seed, ::getpid());
    if (std::filesystem::exists(folder)) return;  // the first, not those of smaller plans
    std::filesystem::copy(folder_.path(), folder, std::filesystem::copy_options::recursive);
    std::ofstream story(folder + "/story");  // from the first step on
    {
      const Lock lock(world_.mutex);
      for (const std::string& one : world_.story) story << one << '\n';
    }
    for (int who : {0, 1}) {
      if (!drive_[who]) continue;
      for (const Happening& one : drive_[who]->Happened(0, 10000))
        story << fmt::format("{} knows: {} {} {} {}\n", who, one.number, one.side, one.what,
                             one.path);
    }
  }
  // Among what the store was asked, for who reads of a failure.
  void Remark(const std::string& what) {
    const Lock lock(world_.mutex);
    world_.story.push_back("-- " + what);
  }
  std::string LastAsked() {
    const Lock lock(world_.mutex);
    std::string out;
    for (const auto& [path, object] : world_.objects)
      out += fmt::format("\n    there: {} ({} bytes '{}')", path, object.body.size(),
                         object.body.substr(0, 24));
    std::vector<std::string> changes;
    for (const std::string& one : world_.story)
      if (one.compare(2, 5, "list ") != 0 && one.compare(2, 5, "read ") != 0 &&
          one.compare(2, 4, "feed") != 0)
        changes.push_back(one);
    for (std::size_t i = changes.size() > 90 ? changes.size() - 90 : 0; i < changes.size(); ++i)
      out += "\n    " + changes[i];
    return out;
  }
  bool Offline() {
    const Lock lock(world_.mutex);
    return world_.offline;
  }
  std::string FormerContent(const std::string& id) {
    const Lock lock(world_.mutex);
    return world_.former[std::stoull(id)].second;
  }
  Files AtTheStore() {
    auto all = world_.All();
    for (auto it = all.begin(); it != all.end();)
      it = it->first.back() == '/' ? all.erase(it) : std::next(it);
    return all;
  }

  TemporaryFolder folder_{QuickFolder()}, other_disk_;
  FakeWorld world_;
  HarshDisk disk_;
  bool power_cut_ = false;  // the death under way takes the power along

 private:
  const Options options_;
  std::unique_ptr<Drive> drive_[2];
  std::optional<Drive::Opened> held_[2];
  int boot_ = 1;
};

// Without the mark of a file that stands, or stood, beside a folder of its name.
inline Files Plain(const std::map<std::string, std::string>& tree) {
  Files out;
  for (const auto& [path, content] : tree) {
    const auto mark = path.rfind("{file}");
    const bool marked = mark != std::string::npos && mark + 6 == path.size();
    out[marked ? path.substr(0, mark) : path] = content;
  }
  return out;
}
inline Files FilesOf(const std::map<std::string, std::string>& tree) {
  Files out = Plain(tree);
  for (auto it = out.begin(); it != out.end();)
    it = it->first.back() == '/' ? out.erase(it) : std::next(it);
  return out;
}

}  // namespace pargeter::test
