// The engine against a plain model: seeded plans of steps, with deaths, power cuts, faults of disk
// and store, spells without a network, another machine and another program at the same store.
//
//   PARGETER_MODEL_RUNS=5000 model_test      more plans than ./check plays
//   PARGETER_MODEL_SEED=17 model_test        begins there
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <atomic>
#include <cstdlib>
#include <filesystem>
#include <thread>

#include "model/plan.h"
#include "support/fake_store.h"
#include "support/hands.h"
#include "support/harsh_disk.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

std::uint64_t FromEnvironment(const char* name, std::uint64_t otherwise) {
  const char* text = std::getenv(name);
  return text ? std::strtoull(text, nullptr, 10) : otherwise;
}

bool StoreTrouble(Code code) {
  return code == Code::kUnavailable || code == Code::kTimeout || code == Code::kStoreFault ||
         code == Code::kThrottled || code == Code::kDamaged;
}

struct Options {
  double store_faults = 0, disk_faults = 0;
  bool watch_power = false;
  std::uint64_t seed = 0;
  std::uint64_t disk_fail_at = 0, disk_die_at = 0, store_fail_at = 0, store_lose_at = 0;
};

// One or two machines at one store.
class Stage {
 public:
  explicit Stage(const Options& options) : options_(options) {
    if (options.watch_power) disk_.WatchPower(folder_.path());
    world_.cut_off = [this] { return disk_.dead(); };
    world_.multipart_above = 100000;
  }
  ~Stage() { Close(0), Close(1); }

  Status Open(int who) {
    DriveOptions o;
    o.name = "sheets";
    o.state_folder = folder_ / ("state" + std::to_string(who));
    o.cache_folder = folder_ / ("cache" + std::to_string(who));
    o.cache_limit = 1 << 20;
    o.keep_free = 0;
    o.quiet = Duration(1);
    o.fresh_for = Duration(600000);
    o.patience = Duration(5000);
    o.hold_quiet = Duration(1);
    o.retry_pause = Duration(2);
    o.trial_pause = Duration(5);
    o.host = who == 0 ? "isle" : "coast";
    o.boot_id = std::to_string(boot_);
    o.upload_workers = 3;
    o.fetch_workers = 2;
    o.disk = &disk_;
    PG_ASSIGN(drive_[who], Drive::Open(o, std::make_unique<FakeStore>(&world_)));
    drive_[who]->Start(&events_);
    return {};
  }
  void Close(int who) { drive_[who].reset(); }
  Drive* drive(int who) { return drive_[who].get(); }
  Hands hands(int who) { return Hands(drive_[who].get()); }
  void NewBoot() { ++boot_; }
  // How often the store has changed what names mean here.
  std::uint64_t Events() const { return events_.count; }

  // Calls again while only the store is in trouble.
  template <typename Call>
  auto Patiently(Call call) {
    for (int i = 0;; ++i) {
      auto outcome = call();
      if (outcome.ok() || !StoreTrouble(outcome.error().code) || i > 1000 || disk_.dead())
        return outcome;
      std::this_thread::sleep_for(std::chrono::milliseconds(3));
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
        return hand.Patch(s.path, ContentOf(s), s.n % 5000);
      case Step::kResize:
        return hand.Resize(s.path, s.n);
      case Step::kRemove:
        return hand.Remove(s.path);
      case Step::kMove:
        return hand.Move(s.path, s.to);
      case Step::kMakeFolder:
        return hand.MakeFolder(s.path);
      case Step::kRemoveFolder:
        return hand.RemoveFolder(s.path);
      default:
        return {};
    }
  }
  // Everything is up and both sides agree.
  std::string Settle(int who) {
    const Status flushed = drive_[who]->Flush(Duration(5000));
    if (!flushed.ok()) {
      std::string why = "does not settle: " + flushed.error().what;
      const auto queue = drive_[who]->Queue(50);
      if (queue.ok()) {
        for (const auto& [path, node] : *queue)
          why += fmt::format(
              "; {} #{}{} kind={} there={} {}/{} tried={}/{} dirty={} upload={} attempts={} {}",
              path, node.id, node.gone() ? " gone" : "", static_cast<int>(node.kind),
              static_cast<int>(node.there), node.there_parent, node.there_name, node.tried_parent,
              node.tried_name, node.dirty, node.upload, node.attempts, node.error);
      }
      return why;
    }
    return "";
  }
  std::string LastAsked() {
    const Lock lock(world_.mutex);
    std::string out;
    std::vector<std::string> changes;
    for (const std::string& one : world_.asked)
      if (one.compare(0, 5, "list ") != 0 && one.compare(0, 5, "read ") != 0)
        changes.push_back(one);
    for (std::size_t i = changes.size() > 60 ? changes.size() - 60 : 0; i < changes.size(); ++i)
      out += "\n    " + changes[i];
    return out;
  }
  std::map<std::string, std::string> AtTheStore() {
    auto all = world_.All();
    for (auto it = all.begin(); it != all.end();)
      it = it->first.back() == '/' ? all.erase(it) : std::next(it);
    return all;
  }

  TemporaryFolder folder_{"/dev/shm"};
  FakeWorld world_;
  HarshDisk disk_;

 private:
  struct Counter : ChangeListener {
    std::atomic<std::uint64_t> count{0};
    void ContentChanged(NodeId) override { ++count; }
    void AttributesChanged(NodeId) override {}
    void NameChanged(NodeId, const std::string&) override { ++count; }
  };
  const Options options_;
  Counter events_;
  std::unique_ptr<Drive> drive_[2];
  int boot_ = 1;
};

// Without the mark of a file that stands, or stood, beside a folder of its name.
std::map<std::string, std::string> Plain(const std::map<std::string, std::string>& tree) {
  std::map<std::string, std::string> out;
  for (const auto& [path, content] : tree) {
    const auto mark = path.rfind("{file}");
    const bool marked = mark != std::string::npos && mark + 6 == path.size();
    out[marked ? path.substr(0, mark) : path] = content;
  }
  return out;
}
std::map<std::string, std::string> FilesOf(const std::map<std::string, std::string>& tree) {
  std::map<std::string, std::string> out = Plain(tree);
  for (auto it = out.begin(); it != out.end();)
    it = it->first.back() == '/' ? out.erase(it) : std::next(it);
  return out;
}

// ---- one machine: it shows at all times what the model says, and in the end the store has it

class Alone {
 public:
  explicit Alone(const Options& options) : options_(options), stage_(options) {}

  std::string Play(const std::vector<Step>& plan) {
    for (const char* path : {"f0", "d0/f1", "d0/e/f2", "d1/f3"}) {
      const std::string text = std::string("from before: ") + path + std::string(30000, 'b');
      stage_.world_.Put(path, text);
      model_.files[path] = text;
    }
    model_.files["d0/"] = model_.files["d0/e/"] = model_.files["d1/"] = "";
    if (auto s = stage_.Open(0); !s.ok()) return s.error().what;
    if (auto why = Compare(nullptr); !why.empty()) return "at first: " + why;
    stage_.world_.Faults(options_.store_faults, options_.seed);
    stage_.world_.FailAt(options_.store_fail_at, options_.store_lose_at);
    stage_.disk_.FailShare(options_.disk_faults, options_.seed);
    stage_.disk_.FailAt(options_.disk_fail_at ? stage_.disk_.operations() + options_.disk_fail_at
                                              : 0);
    stage_.disk_.DieAt(options_.disk_die_at ? stage_.disk_.operations() + options_.disk_die_at : 0);
    operations_before_ = stage_.disk_.operations();
    for (const Step& step : plan) {
      std::string why = PlayStep(step);
      if (why.empty() && stage_.disk_.dead()) why = Resurrect(nullptr);
      if (!why.empty()) return Describe(step) + ": " + why;
    }
    return End();
  }
  std::uint64_t disk_operations() const { return disk_operations_; }  // of the last play
  std::uint64_t requests() const { return requests_; }

 private:
  std::string PlayStep(const Step& step) {
    switch (step.kind) {
      case Step::kCheck:
        return Compare(nullptr);
      case Step::kRead:
        Ignore(stage_.hands(0).Read(step.path));
        return "";
      case Step::kFlush:
        Ignore(stage_.drive(0)->Flush(Duration(2000)));
        return "";
      case Step::kRefresh:
        Ignore(stage_.drive(0)->Refresh());
        return "";
      case Step::kEvict:
        stage_.drive(0)->EvictAll(kRootId);
        return "";
      case Step::kOffline:
      case Step::kOnline:
        stage_.world_.SetOffline(step.kind == Step::kOffline);
        return "";
      case Step::kRestart:
        stage_.Close(0);
        return OpenAgain();
      case Step::kKill:
      case Step::kPowerCut:
        stage_.disk_.DieAt(stage_.disk_.operations() + step.n);
        power_cut_ = step.kind == Step::kPowerCut;
        return "";
      default:
        return Change(step);
    }
  }

  std::string Change(const Step& step) {
    const PlainTree before = model_;
    const Status wanted = model_.Do(step);
    const Status got = stage_.Patiently([&] { return stage_.Do(step); });
    if (stage_.disk_.dead() && !got.ok()) {
      Durable(step, before, false);
      return Resurrect(&before);
    }
    if (!got.ok() && got.error().code == Code::kIo && wanted.ok()) {
      // failed half-way: what is there may be either, and what memory says of it may not be what
      // the disk says
      stage_.Close(0);
      const std::string why = OpenAgain();
      return why.empty() ? Compare(&before) : why;
    }
    if (wanted.ok() != got.ok())
      return fmt::format("{} instead of {}", got.ok() ? "done" : got.error().what,
                         wanted.ok() ? "done" : wanted.error().what);
    const auto missing = [](Code code) {
      return code == Code::kNotFound || code == Code::kNotFolder;
    };
    if (!wanted.ok() && wanted.error().code != got.error().code &&
        !(missing(wanted.error().code) && missing(got.error().code)))
      return fmt::format("'{}' instead of '{}'", got.error().what, wanted.error().what);
    if (wanted.ok()) Durable(step, before, step.kind == Step::kSyncedWrite);
    return "";
  }

  // What a power cut must leave: contents that were synced, at one of the places where they may be.
  void Durable(const Step& step, const PlainTree& before, bool synced) {
    const auto inside = [](const std::string& path, const std::string& top) {
      return path == top || path.compare(0, top.size() + 1, top + "/") == 0;
    };
    for (Kept& kept : kept_) {
      for (const std::string& place : std::set<std::string>(kept.places)) {
        if (step.kind == Step::kMove && inside(place, step.path))
          kept.places.insert(step.to + place.substr(step.path.size()));
        if (inside(place, step.path) && step.kind != Step::kMove) kept.sure = false;
        if (step.kind == Step::kMove && inside(place, step.to)) kept.sure = false;
      }
    }
    (void)before;
    if (synced) kept_.push_back({ContentOf(step), {step.path}, true});
  }

  std::string OpenAgain() {
    const Status open = stage_.Open(0);
    if (!open.ok() && options_.disk_faults > 0 && !stage_.disk_.dead()) return OpenAgain();
    return open.ok() || stage_.disk_.dead() ? "" : "does not open: " + open.error().what;
  }

  std::string Resurrect(const PlainTree* before) {
    stage_.Close(0);
    const bool cut = std::exchange(power_cut_, false);
    stage_.disk_.Heal();
    stage_.disk_.FailShare(options_.disk_faults, options_.seed);
    if (cut) {
      stage_.disk_.PowerCut(options_.seed);
      stage_.NewBoot();
    }
    if (auto why = OpenAgain(); !why.empty()) return why;
    const std::string why = cut ? AfterPowerCut() : Compare(before);
    return why.empty() ? "" : "after its death: " + why + stage_.LastAsked();
  }

  std::string AfterPowerCut() {
    stage_.world_.SetOffline(false);
    // the store may know of things that the index has lost: both sides meet first
    stage_.world_.Faults(0, 0);
    if (auto why = stage_.Settle(0); !why.empty()) return "after the power cut it " + why;
    Ignore(View());  // every folder is visited, then looked at again
    const Status looked = stage_.drive(0)->Refresh();
    if (!looked.ok()) return looked.error().what;
    auto tree = View();
    if (!tree.ok()) return "after the power cut: " + tree.error().what;
    for (const Kept& kept : kept_) {
      if (!kept.sure) continue;
      bool found = false;
      for (const std::string& place : kept.places)
        found = found || (tree->count(place) > 0 && tree->at(place) == kept.content);
      if (!found)
        return fmt::format("what was synced as {} is lost ({})", *kept.places.begin(),
                           kept.content.substr(0, 20));
    }
    kept_.clear();
    stage_.world_.Faults(options_.store_faults, options_.seed);
    model_.files = *tree;
    return "";
  }

  Result<std::map<std::string, std::string>> View() {
    const bool offline = [&] {
      const Lock lock(stage_.world_.mutex);
      return std::exchange(stage_.world_.offline, false);
    }();
    auto tree = stage_.Patiently([&] { return stage_.hands(0).Tree(); });
    const auto passing = [](Code c) {
      return c == Code::kIo || c == Code::kStale || c == Code::kNotFound;
    };
    for (int i = 0; i < 20 && !tree.ok() && passing(tree.error().code) && !stage_.disk_.dead(); ++i)
      tree = stage_.Patiently([&] { return stage_.hands(0).Tree(); });
    stage_.world_.SetOffline(offline);
    return tree;
  }

  // The drive shows the model, or something between `before` and the model, which is then taken
  // for true.
  std::string Compare(const PlainTree* before) {
    auto tree = View();
    if (!tree.ok()) return stage_.disk_.dead() ? "" : "cannot be read: " + tree.error().what;
    std::string why = Difference(model_.files, *tree);
    if (why.empty()) return why;
    if (before == nullptr) return why + stage_.LastAsked();
    std::set<std::string> paths;
    using Files = const std::map<std::string, std::string>*;
    for (Files files : {Files(&before->files), Files(&model_.files), Files(&*tree)})
      for (const auto& [path, content] : *files) paths.insert(path);
    const auto at = [](const std::map<std::string, std::string>& files, const std::string& path) {
      const auto it = files.find(path);
      return it == files.end() ? nullptr : &it->second;
    };
    for (const std::string& path : paths) {
      const std::string *b = at(before->files, path), *a = at(model_.files, path),
                        *got = at(*tree, path);
      if (got == nullptr ? (b == nullptr || a == nullptr) : (b || a) && Between(b, a, *got))
        continue;
      return why + " (neither before nor after)";
    }
    model_.files = *tree;
    return "";
  }

  std::string End() {
    disk_operations_ = stage_.disk_.operations() - operations_before_;
    requests_ = stage_.world_.Count();
    stage_.disk_.Heal();
    stage_.world_.Faults(0, 0);
    stage_.world_.FailAt(0, 0);
    stage_.world_.SetOffline(false);
    if (auto why = Compare(nullptr); !why.empty()) return "in the end: " + why;
    if (auto why = stage_.Settle(0); !why.empty()) return "in the end it " + why;
    if (auto why = Difference(FilesOf(model_.files), stage_.AtTheStore()); !why.empty())
      return "at the store: " + why + stage_.LastAsked();
    if (stage_.world_.Uploads() > 0)
      return "an unfinished upload is left at the store" + stage_.LastAsked();
    // another machine, which knows nothing, sees the same
    if (auto s = stage_.Open(1); !s.ok()) return s.error().what;
    auto tree = stage_.hands(1).Tree();
    if (!tree.ok()) return "seen from elsewhere: " + tree.error().what;
    if (auto why = Difference(Plain(model_.files), Plain(*tree)); !why.empty()) {
      why = "seen from elsewhere: " + why;
      for (const auto& [path, content] : *tree) why += "\n      " + path;
      return why;
    }
    return "";
  }

  struct Kept {
    std::string content;
    std::set<std::string> places;
    bool sure = true;
  };
  const Options options_;
  Stage stage_;
  PlainTree model_;
  std::vector<Kept> kept_;
  bool power_cut_ = false;
  std::uint64_t operations_before_ = 0, disk_operations_ = 0, requests_ = 0;
};

// ---- two machines and another program: nothing that somebody has not seen is overwritten

class Together {
 public:
  explicit Together(const Options& options) : options_(options), stage_(options) {}

  std::string Play(const std::vector<Step>& plan) {
    for (int who : {0, 1})
      if (auto s = stage_.Open(who); !s.ok()) return s.error().what;
    for (const char* path : {"f0", "d0/f1", "d0/e/f2", "d1/f3"}) {
      const std::string text = std::string("<before ") + path + ">";
      stage_.world_.Put(path, text);
      alive_.insert(Word(text));
    }
    for (int who : {0, 1}) Ignore(stage_.hands(who).Tree());
    stage_.world_.Faults(options_.store_faults, options_.seed);
    for (const Step& step : plan) {
      std::string why = PlayStep(step);
      if (!why.empty()) return Describe(step) + ": " + why;
    }
    return End();
  }

 private:
  static std::string Word(const std::string& text) { return text.substr(0, text.find('>') + 1); }

  std::string PlayStep(const Step& step) {
    Drive* drive = stage_.drive(step.who);
    switch (step.kind) {
      case Step::kFlush:
        Ignore(drive->Flush(Duration(300)));
        return "";
      case Step::kRefresh:
        Ignore(drive->Refresh());
        return "";
      case Step::kEvict:
        drive->EvictAll(kRootId);
        return "";
      case Step::kRestart: {
        stage_.Close(step.who);
        const Status open = stage_.Open(step.who);
        return open.ok() ? "" : open.error().what;
      }
      case Step::kOffline:
      case Step::kOnline:
        stage_.world_.SetOffline(step.kind == Step::kOffline);
        return "";
      case Step::kOutsidePut:
      case Step::kOutsideErase: {
        const Lock lock(stage_.world_.mutex);
        auto& objects = stage_.world_.objects;
        const auto it = objects.find(step.path);
        if (it != objects.end()) alive_.erase(Word(it->second.body));  // it knew what it replaced
        if (step.kind == Step::kOutsideErase) {
          if (it != objects.end()) objects.erase(it);
          return "";
        }
        objects[step.path] = {ContentOf(step), {}, 1};
        alive_.insert(Word(ContentOf(step)));
        return "";
      }
      default:
        break;
    }
    // what this machine shows at the places that it is about to change, it may destroy
    const std::uint64_t events = stage_.Events();
    const std::set<std::string> seen = SeenAt(step);
    const auto store = stage_.AtTheStore();
    const Status done = stage_.Do(step);
    if (!done.ok()) return "";
    for (const std::string& word : seen) alive_.erase(word);
    // just now the store has changed what a name means: what was destroyed then, nobody can tell
    if (stage_.Events() != events) {
      for (const auto& [path, content] : store) unsure_.insert(Word(content));
    }
    if (step.kind == Step::kWrite || step.kind == Step::kSyncedWrite)
      alive_.insert(Word(ContentOf(step)));
    return "";
  }

  std::set<std::string> SeenAt(const Step& step) {
    std::set<std::string> words;
    const std::string& path = step.kind == Step::kMove ? step.to : step.path;
    if (step.kind == Step::kMove && step.path == step.to) return words;
    if (step.kind == Step::kMakeFolder || step.kind == Step::kRead) return words;
    const bool offline = [&] {
      const Lock lock(stage_.world_.mutex);
      return std::exchange(stage_.world_.offline, false);
    }();
    const auto text = stage_.Patiently([&] { return stage_.hands(step.who).Read(path); });
    if (text.ok()) {
      words.insert(Word(*text));
    } else if (text.error().code != Code::kNotFound && text.error().code != Code::kIsFolder &&
               text.error().code != Code::kNotFolder) {
      // what is shown there cannot be read just now, and may be overwritten all the same
      for (const auto& [at, content] : stage_.AtTheStore()) unsure_.insert(Word(content));
    }
    stage_.world_.SetOffline(offline);
    return words;
  }

  std::string End() {
    stage_.world_.Faults(0, 0);
    stage_.world_.SetOffline(false);
    for (int round = 0; round < 3; ++round) {
      for (int who : {0, 1}) {
        Ignore(stage_.Patiently([&] { return stage_.hands(who).Tree(); }));
        if (auto why = stage_.Settle(who); !why.empty()) return fmt::format("{} {}", who, why);
        Ignore(stage_.Patiently([&] { return stage_.drive(who)->Refresh(); }));
      }
    }
    std::set<std::string> found;
    const auto store = stage_.AtTheStore();
    for (const auto& [path, content] : store) found.insert(Word(content));
    for (const std::string& word : alive_)
      if (found.count(word) == 0 && unsure_.count(word) == 0)
        return "lost: " + word + stage_.LastAsked();
    for (int who : {0, 1}) {
      auto tree = stage_.Patiently([&] { return stage_.hands(who).Tree(); });
      if (!tree.ok()) return fmt::format("{} cannot be read: {}", who, tree.error().what);
      if (auto why = Difference(FilesOf(store), FilesOf(*tree)); !why.empty())
        return fmt::format("{} shows not what the store has: {}", who, why);
    }
    return "";
  }

  const Options options_;
  Stage stage_;
  std::set<std::string> alive_, unsure_;
};

// ---- the runs

template <typename Kind>
void PlayMany(const char* name, int runs, int length, const Weights& weights, const Options& base,
              int drives = 1) {
  const std::uint64_t first = FromEnvironment("PARGETER_MODEL_SEED", 1);
  const std::uint64_t many =
      FromEnvironment("PARGETER_MODEL_RUNS", static_cast<std::uint64_t>(runs));
  for (std::uint64_t seed = first; seed < first + many; ++seed) {
    Options options = base;
    options.seed = seed;
    const auto plan = MakePlan(seed, length, weights, drives);
    const auto play = [&](const std::vector<Step>& steps) { return Kind(options).Play(steps); };
    const std::string why = play(plan);
    if (why.empty()) continue;
    const auto smaller = Smaller(plan, play);
    FAIL() << name << " seed " << seed << ": " << why << "\nthe plan:\n"
           << Describe(plan) << "smaller plan: " << play(smaller) << "\n"
           << Describe(smaller);
  }
}

const Weights kDaily = {{Step::kWrite, 8},  {Step::kSyncedWrite, 2}, {Step::kPatch, 4},
                        {Step::kResize, 2}, {Step::kRead, 4},        {Step::kRemove, 4},
                        {Step::kMove, 6},   {Step::kMakeFolder, 4},  {Step::kRemoveFolder, 2},
                        {Step::kCheck, 2},  {Step::kFlush, 2},       {Step::kRefresh, 1},
                        {Step::kEvict, 1},  {Step::kRestart, 1}};
Weights With(Weights base, const Weights& more) {
  for (const auto& [kind, weight] : more) base[kind] = weight;
  return base;
}

TEST(Model, CalmDays) { PlayMany<Alone>("calm", 15, 40, kDaily, {}); }
TEST(Model, StoreFaultsAndSpellsOffline) {
  Options o;
  o.store_faults = 0.05;
  PlayMany<Alone>("faults", 5, 40, With(kDaily, {{Step::kOffline, 1}, {Step::kOnline, 2}}), o);
}
TEST(Model, Killed) { PlayMany<Alone>("killed", 12, 30, With(kDaily, {{Step::kKill, 4}}), {}); }
TEST(Model, KilledWithStoreFaults) {
  Options o;
  o.store_faults = 0.05;
  PlayMany<Alone>("killed+faults", 5, 30,
                  With(kDaily, {{Step::kKill, 4}, {Step::kOffline, 1}, {Step::kOnline, 2}}), o);
}
TEST(Model, PowerCuts) {
  Options o;
  o.watch_power = true;
  PlayMany<Alone>("power", 12, 30, With(kDaily, {{Step::kPowerCut, 4}, {Step::kSyncedWrite, 8}}),
                  o);
}
TEST(Model, DiskFaults) {
  Options o;
  o.disk_faults = 0.01;
  PlayMany<Alone>("disk", 10, 30, kDaily, o);
}
TEST(Model, TwoMachinesAndAnotherProgram) {
  Options o;
  Weights w = With(kDaily, {{Step::kPatch, 0},
                            {Step::kResize, 0},
                            {Step::kCheck, 0},
                            {Step::kOutsidePut, 5},
                            {Step::kOutsideErase, 2},
                            {Step::kRefresh, 4},
                            {Step::kFlush, 4}});
  PlayMany<Together>("together", 12, 40, w, o, 2);
}
TEST(Model, TwoMachinesInBadWeather) {
  Options o;
  o.store_faults = 0.05;
  Weights w = With(kDaily, {{Step::kPatch, 0},
                            {Step::kResize, 0},
                            {Step::kCheck, 0},
                            {Step::kOutsidePut, 5},
                            {Step::kOutsideErase, 2},
                            {Step::kRefresh, 4},
                            {Step::kFlush, 4},
                            {Step::kOffline, 1},
                            {Step::kOnline, 3}});
  PlayMany<Together>("weather", 4, 40, w, o, 2);
}

// ---- one plan, interrupted at every point in turn

std::vector<Step> TheScenario() {
  int serial = 0;
  const auto step = [&serial](Step::Kind kind, const char* path, const char* to = "",
                              std::uint64_t n = 0) { return Step{kind, path, to, n, 0, ++serial}; };
  return {step(Step::kWrite, "f1"),
          step(Step::kMakeFolder, "d2"),
          step(Step::kWrite, "d2/f0", "", 150000),
          step(Step::kFlush, ""),
          step(Step::kPatch, "f0", "", 20),
          step(Step::kMove, "d0", "d3"),
          step(Step::kWrite, "d3/f1"),
          step(Step::kRemove, "d1/f3"),
          step(Step::kMove, "f1", "f0"),
          step(Step::kRemoveFolder, "d1"),
          step(Step::kFlush, ""),
          step(Step::kEvict, ""),
          step(Step::kPatch, "d2/f0", "", 7),
          step(Step::kMove, "d2/f0", "d3/e/f2"),
          step(Step::kResize, "d3/e/f2", "", 1000),
          step(Step::kRemoveFolder, "d2"),
          step(Step::kCheck, ""),
          step(Step::kFlush, "")};
}

void PlayAtEvery(const char* name, std::uint64_t Options::*point, std::uint64_t points) {
  const std::uint64_t runs = FromEnvironment("PARGETER_MODEL_RUNS", 20);
  const std::uint64_t stride = std::max<std::uint64_t>(1, points / runs);
  const std::uint64_t first = 1 + FromEnvironment("PARGETER_MODEL_SEED", 1) % stride;
  for (std::uint64_t at = first; at <= points; at += stride) {
    Options options;
    options.seed = at;
    options.*point = at;
    const std::string why = Alone(options).Play(TheScenario());
    ASSERT_EQ(why, "") << name << " at " << at;
  }
}

// How many operations of the disk and requests the plan makes when nothing happens.
std::pair<std::uint64_t, std::uint64_t> CountPoints() {
  Alone calm{Options{}};
  EXPECT_EQ(calm.Play(TheScenario()), "");
  return {calm.disk_operations(), calm.requests()};
}

TEST(EveryPoint, TheProcessDies) {
  PlayAtEvery("death", &Options::disk_die_at, CountPoints().first);
}
TEST(EveryPoint, ADiskOperationFails) {
  PlayAtEvery("disk", &Options::disk_fail_at, CountPoints().first);
}
TEST(EveryPoint, AStoreRequestFails) {
  PlayAtEvery("store", &Options::store_fail_at, CountPoints().second);
}
TEST(EveryPoint, AStoreAnswerIsLost) {
  PlayAtEvery("answer", &Options::store_lose_at, CountPoints().second);
}

}  // namespace
}  // namespace pargeter::test
