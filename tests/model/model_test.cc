// The engine against a plain model: seeded plans of steps, with deaths, power cuts, faults of disk
// and store, spells without a network, another machine and another program at the same store.
//
//   PARGETER_MODEL_RUNS=5000 model_test      more plans than ./check plays
//   PARGETER_MODEL_SEED=17 model_test        begins there
//   PARGETER_KEEP=FOLDER model_test          keeps what a failure leaves on the disk
//   PARGETER_MODEL_POINT=282 model_test --gtest_filter=EveryPoint.TheProcessDies   just that one
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstdlib>

#include "model/alone.h"
#include "model/together.h"

namespace pargeter::test {
namespace {

std::uint64_t FromEnvironment(const char* name, std::uint64_t otherwise) {
  const char* text = std::getenv(name);
  return text ? std::strtoull(text, nullptr, 10) : otherwise;
}

using Planner = std::function<std::vector<Step>(std::uint64_t seed)>;

template <typename Kind>
void PlayMany(const char* name, int runs, const Planner& planner, const Options& base,
              std::uint64_t from = 1) {
  const std::uint64_t first = FromEnvironment("PARGETER_MODEL_SEED", from);
  const std::uint64_t many =
      FromEnvironment("PARGETER_MODEL_RUNS", static_cast<std::uint64_t>(runs));
  for (std::uint64_t seed = first; seed < first + many; ++seed) {
    Options options = base;
    options.seed = seed;
    const auto plan = planner(seed);
    const auto play = [&](const std::vector<Step>& steps) { return Kind(options).Play(steps); };
    const std::string why = play(plan);
    if (why.empty()) continue;
    // first what happened: to find a smaller plan may take long
    fmt::print(stderr, "{} seed {}: {}\nthe plan:\n{}", name, seed, why, Describe(plan));
    const auto smaller = Smaller(plan, play);
    FAIL() << name << " seed " << seed << ": " << why << "\nsmaller plan: " << play(smaller) << "\n"
           << Describe(smaller);
  }
}

template <typename Kind>
void PlayMany(const char* name, int runs, int length, const Weights& weights, const Options& base,
              int drives = 1, std::uint64_t from = 1) {
  const auto planner = [&](std::uint64_t seed) { return MakePlan(seed, length, weights, drives); };
  PlayMany<Kind>(name, runs, planner, base, from);
}

const Weights kDaily = {
    {Step::kWrite, 8},        {Step::kSyncedWrite, 2}, {Step::kPatch, 4}, {Step::kResize, 2},
    {Step::kRead, 4},         {Step::kRemove, 4},      {Step::kMove, 6},  {Step::kMakeFolder, 4},
    {Step::kRemoveFolder, 2}, {Step::kCheck, 2},       {Step::kFlush, 2}, {Step::kRefresh, 1},
    {Step::kEvict, 1},        {Step::kRestart, 1},     {Step::kPunch, 2}, {Step::kMode, 2}};
Weights With(Weights base, const Weights& more) {
  for (const auto& [kind, weight] : more) base[kind] = weight;
  return base;
}

// Some files are held open for long, as a log is, or a data base.
const Weights kBusy = With(kDaily, {{Step::kHold, 2}, {Step::kRestore, 1}});
// Others are at the same store.
const Weights kShared = With(kBusy, {{Step::kCheck, 0},
                                     {Step::kRestore, 0},
                                     {Step::kOutsidePut, 5},
                                     {Step::kOutsideErase, 2},
                                     {Step::kOutsideMove, 2},
                                     {Step::kSettle, 2},
                                     {Step::kRefresh, 4},
                                     {Step::kFlush, 4}});

TEST(Model, CalmDays) { PlayMany<Alone>("calm", 15, 40, kBusy, {}); }
TEST(Model, StoreFaultsAndSpellsOffline) {
  Options o;
  o.store_faults = 0.05;
  PlayMany<Alone>("faults", 5, 40, With(kBusy, {{Step::kOffline, 1}, {Step::kOnline, 2}}), o);
}
TEST(Model, Killed) { PlayMany<Alone>("killed", 12, 30, With(kBusy, {{Step::kKill, 4}}), {}); }
TEST(Model, KilledWithStoreFaults) {
  Options o;
  o.store_faults = 0.05;
  PlayMany<Alone>("killed+faults", 5, 30,
                  With(kBusy, {{Step::kKill, 4}, {Step::kOffline, 1}, {Step::kOnline, 2}}), o);
}
TEST(Model, PowerCuts) {
  Options o;
  o.watch_power = true;
  PlayMany<Alone>(
      "power", 12, 30,
      With(kBusy, {{Step::kPowerCut, 4}, {Step::kSyncedWrite, 8}, {Step::kSyncFolder, 4}}), o);
}
TEST(Model, PlacesAndPowerCuts) {
  Options o;
  o.watch_power = true;
  PlayMany<Alone>("places", 5, 40,
                  With(kBusy, {{Step::kPlace, 6},
                               {Step::kFlush, 6},
                               {Step::kPowerCut, 3},
                               {Step::kKill, 2},
                               {Step::kSyncedWrite, 6},
                               {Step::kSyncFolder, 2}}),
                  o);
}
TEST(Model, HeldBackAndPowerCuts) {
  Options o;
  o.watch_power = o.hold = true;
  PlayMany<Alone>("held+power", 3, 60,
                  With(kBusy, {{Step::kRemove, 12},
                               {Step::kRemoveFolder, 6},
                               {Step::kMakeFolder, 6},
                               {Step::kFlush, 4},
                               {Step::kSyncFolder, 4},
                               {Step::kSyncedWrite, 6},
                               {Step::kPowerCut, 3},
                               {Step::kDrop, 1},
                               {Step::kRelease, 2}}),
                  o);
}
// (not offline: what is copied has to be read)
TEST(Model, AllAtOnce) {
  Options o;
  o.watch_power = true;
  o.store_faults = 0.02;
  PlayMany<Alone>("all", 3, 60,
                  With(kBusy, {{Step::kPlace, 3},
                               {Step::kCopy, 4},
                               {Step::kFlush, 4},
                               {Step::kSyncFolder, 3},
                               {Step::kSyncedWrite, 6},
                               {Step::kPowerCut, 2},
                               {Step::kKill, 2}}),
                  o);
}
TEST(Model, TwoMachinesThatKeepSomeToThemselves) {
  Options o;
  PlayMany<Together>("together places", 3, 40, With(kShared, {{Step::kPlace, 5}, {Step::kKill, 2}}),
                     o, 2);
}
TEST(Model, DiskFaults) {
  Options o;
  o.disk_faults = 0.01;
  PlayMany<Alone>("disk", 10, 30, kBusy, o);
}
TEST(Model, Copies) {
  Options o;
  o.store_faults = 0.02;
  PlayMany<Alone>("copies", 6, 40,
                  With(kBusy, {{Step::kCopy, 10}, {Step::kEvict, 4}, {Step::kKill, 2}}), o);
}
TEST(Model, DeletionsHeldBack) {
  Options o;
  o.store_faults = 0.03;
  o.hold = true;
  PlayMany<Alone>("held", 6, 80,
                  With(kBusy, {{Step::kRemove, 16},
                               {Step::kMakeFolder, 8},
                               {Step::kRemoveFolder, 8},
                               {Step::kRefresh, 4},
                               {Step::kKill, 2},
                               {Step::kRelease, 1}}),
                  o);
}
TEST(Model, DeletionsDropped) {
  Options o;
  o.hold = true;
  PlayMany<Alone>("dropped", 6, 80,
                  With(kBusy, {{Step::kRemove, 16},
                               {Step::kMakeFolder, 8},
                               {Step::kRemoveFolder, 8},
                               {Step::kRefresh, 4},
                               {Step::kDrop, 2},
                               {Step::kRelease, 1}}),
                  o);
}
// Went wrong once in a while: an upload was acknowledged between a write's word in the journal and
// its bytes, and the journal would not take it a second time.
TEST(Model, DiskFaultsAtAnAcknowledgement) {
  Options o;
  o.disk_faults = 0.01;
  PlayMany<Alone>("disk", 1, 30, kDaily, o, 1, 320091);
}
TEST(Model, TwoMachinesAndAnotherProgram) {
  Options o;
  PlayMany<Together>("together", 12, 40, kShared, o, 2);
}
TEST(Model, TwoMachinesThatLosePower) {
  Options o;
  o.watch_power = true;
  PlayMany<Together>("together+power", 6, 40,
                     With(kShared, {{Step::kSyncedWrite, 8},
                                    {Step::kSyncFolder, 4},
                                    {Step::kKill, 2},
                                    {Step::kPowerCut, 2}}),
                     o, 2);
}
TEST(Model, TwoMachinesThatHoldDeletionsBack) {
  Options o;
  o.hold = true;
  PlayMany<Together>("together held", 4, 80,
                     With(kShared, {{Step::kRemove, 8},
                                    {Step::kRemoveFolder, 5},
                                    {Step::kOutsidePut, 4},
                                    {Step::kOutsideErase, 0},
                                    {Step::kRelease, 1}}),
                     o, 2);
}
TEST(Model, TwoMachinesInBadWeather) {
  Options o;
  o.store_faults = 0.05;
  PlayMany<Together>("weather", 4, 40, With(kShared, {{Step::kOffline, 1}, {Step::kOnline, 3}}), o,
                     2);
}
TEST(Model, TwoMachinesOnBadDays) {
  Options o;
  o.store_faults = 0.05;
  PlayMany<Together>(
      "bad days", 3, 40,
      With(kShared, {{Step::kMove, 10}, {Step::kKill, 3}, {Step::kOffline, 1}, {Step::kOnline, 3}}),
      o, 2);
}
template <typename Kind>
void PlaySaves(const char* name, int runs, Step::Kind death, const Options& base, int drives = 1) {
  const auto planner = [&](std::uint64_t seed) { return MakeSaves(seed, 20, death, drives); };
  PlayMany<Kind>(name, runs, planner, base);
}
TEST(Model, FilesSavedAnewAndPowerCuts) {
  Options o;
  o.watch_power = true;
  PlaySaves<Alone>("saves", 12, Step::kPowerCut, o);
}
TEST(Model, FilesSavedAnewOnBadDays) {
  Options o;
  o.store_faults = 0.03;
  o.lost_answers = 0.05;
  PlaySaves<Alone>("saves on bad days", 6, Step::kKill, o);
}
TEST(Model, FilesSavedAnewByTwoMachines) {
  PlaySaves<Together>("saves together", 6, Step::kKill, {}, 2);
}
TEST(Model, FilesSavedAnewByTwoMachinesOnBadDays) {
  Options o;
  o.watch_power = true;
  o.store_faults = 0.03;
  o.lost_answers = 0.05;
  PlaySaves<Together>("saves together on bad days", 6, Step::kPowerCut, o, 2);
}
// What was done, and nobody heard of, is met again later, as the work of whoever it may be.
TEST(Model, AnswersGetLost) {
  Options o;
  o.lost_answers = 0.25;
  PlayMany<Alone>("answers", 3, 40, With(kBusy, {{Step::kMove, 12}, {Step::kCopy, 3}}), o);
}
TEST(Model, PlacesAndAnswersThatGetLost) {
  Options o;
  o.lost_answers = 0.2;
  PlayMany<Alone>(
      "places answers", 3, 40,
      With(kBusy, {{Step::kPlace, 6}, {Step::kFlush, 5}, {Step::kMove, 10}, {Step::kKill, 2}}), o);
}
TEST(Model, TwoMachinesWithPlacesWhoseAnswersGetLost) {
  Options o;
  o.lost_answers = 0.15;
  PlayMany<Together>("together places answers", 3, 40,
                     With(kShared, {{Step::kPlace, 5}, {Step::kMove, 9}, {Step::kKill, 2}}), o, 2);
}
TEST(Model, DeletionsHeldBackAndAnswersThatGetLost) {
  Options o;
  o.hold = true;
  o.lost_answers = 0.15;
  PlayMany<Alone>("held answers", 3, 60,
                  With(kBusy, {{Step::kRemove, 12},
                               {Step::kMove, 10},
                               {Step::kMakeFolder, 6},
                               {Step::kRemoveFolder, 6},
                               {Step::kFlush, 4},
                               {Step::kRefresh, 4},
                               {Step::kRestart, 2},
                               {Step::kDrop, 1},
                               {Step::kRelease, 1}}),
                  o);
}
TEST(Model, TwoMachinesAllAtOnce) {
  Options o;
  o.watch_power = true;
  o.store_faults = 0.02;
  o.lost_answers = 0.05;
  PlayMany<Together>("together all", 4, 60,
                     With(kShared, {{Step::kPlace, 3},
                                    {Step::kMove, 9},
                                    {Step::kNudge, 4},
                                    {Step::kSyncedWrite, 6},
                                    {Step::kSyncFolder, 3},
                                    {Step::kPowerCut, 1},
                                    {Step::kKill, 1},
                                    {Step::kOffline, 1},
                                    {Step::kOnline, 3}}),
                     o, 2);
}
TEST(Model, TwoMachinesWhoseAnswersGetLost) {
  Options o;
  o.lost_answers = 0.25;
  PlayMany<Together>(
      "together answers", 3, 40,
      With(kShared, {{Step::kMove, 12}, {Step::kOutsidePut, 8}, {Step::kOutsideMove, 8}}), o, 2);
}

// As when a script tidies up on both.
TEST(Model, TwoMachinesThatDoTheSame) {
  Options o;
  const Weights weights =
      With(kShared, {{Step::kMove, 14}, {Step::kNudge, 6}, {Step::kHold, 0}, {Step::kKill, 1}});
  const auto planner = [&](std::uint64_t seed) {
    return WithEchoes(MakePlan(seed, 40, weights, 2), seed);
  };
  PlayMany<Together>("together the same", 6, planner, o);
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
  const std::uint64_t only = FromEnvironment("PARGETER_MODEL_POINT", 0);
  const std::uint64_t first = 1 + FromEnvironment("PARGETER_MODEL_SEED", 1) % stride;
  for (std::uint64_t at = only ? only : first; at <= (only ? only : points); at += stride) {
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
