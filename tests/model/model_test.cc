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
#include <sstream>

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

// Two machines at one store, instead of one.
enum class Who { kAlone, kTogether };
struct Row {
  const char* name;
  Who who;
  int plans, steps;
  Options options;
  const char* weights;  // beyond kBusy, or kShared: "kind weight ..."
  friend void PrintTo(const Row& row, std::ostream* out) { *out << row.name; }
};
Weights WeightsOf(const Row& row) {
  Weights weights = row.who == Who::kAlone ? kBusy : kShared;
  std::istringstream words(row.weights);
  std::string kind;
  for (int weight = 0; words >> kind >> weight;) weights[*KindNamed(kind)] = weight;
  return weights;
}
constexpr Who kAlone = Who::kAlone, kTogether = Who::kTogether;
const Row kRows[] = {
    {"CalmDays", kAlone, 15, 40, {}, ""},
    {"StoreFaultsAndSpellsOffline", kAlone, 5, 40, {.store_faults = 0.05}, "offline 1 online 2"},
    {"Killed", kAlone, 12, 30, {}, "kill 4"},
    {"KilledWithStoreFaults", kAlone, 5, 30, {.store_faults = 0.05}, "kill 4 offline 1 online 2"},
    {"PowerCuts",
     kAlone,
     12,
     30,
     {.watch_power = true},
     "power-cut 4 synced-write 8 sync-folder 4"},
    {"PlacesAndPowerCuts",
     kAlone,
     5,
     40,
     {.watch_power = true},
     "place 6 flush 6 power-cut 3 kill 2 synced-write 6 sync-folder 2"},
    {"HeldBackAndPowerCuts",
     kAlone,
     3,
     60,
     {.watch_power = true, .hold = true},
     "remove 12 rmdir 6 folder 6 flush 4 sync-folder 4 synced-write 6 power-cut 3 "
     "drop 1 release 2"},
    // (not offline: a copied file has to be read)
    {"AllAtOnce",
     kAlone,
     3,
     60,
     {.store_faults = 0.02, .watch_power = true},
     "place 3 copy 4 flush 4 sync-folder 3 synced-write 6 power-cut 2 kill 2"},
    {"DiskFaults", kAlone, 10, 30, {.disk_faults = 0.01}, ""},
    {"Copies", kAlone, 6, 40, {.store_faults = 0.02}, "copy 10 evict 4 kill 2"},
    {"DeletionsHeldBack",
     kAlone,
     6,
     80,
     {.store_faults = 0.03, .hold = true},
     "remove 16 folder 8 rmdir 8 refresh 4 kill 2 release 1"},
    {"DeletionsDropped",
     kAlone,
     6,
     80,
     {.hold = true},
     "remove 16 folder 8 rmdir 8 refresh 4 drop 2 release 1"},
    // A request is done and not heard of: later its outcome is met as anybody's work.
    {"AnswersGetLost", kAlone, 3, 40, {.lost_answers = 0.25}, "move 12 copy 3"},
    {"PlacesAndAnswersThatGetLost",
     kAlone,
     3,
     40,
     {.lost_answers = 0.2},
     "place 6 flush 5 move 10 kill 2"},
    {"DeletionsHeldBackAndAnswersThatGetLost",
     kAlone,
     3,
     60,
     {.lost_answers = 0.15, .hold = true},
     "remove 12 move 10 folder 6 rmdir 6 flush 4 refresh 4 restart 2 drop 1 "
     "release 1"},
    {"TwoMachinesAndAnotherProgram", kTogether, 12, 40, {}, ""},
    {"TwoMachinesThatKeepSomeToThemselves", kTogether, 3, 40, {}, "place 5 kill 2"},
    {"TwoMachinesThatLosePower",
     kTogether,
     6,
     40,
     {.watch_power = true},
     "synced-write 8 sync-folder 4 kill 2 power-cut 2"},
    {"TwoMachinesThatHoldDeletionsBack",
     kTogether,
     4,
     80,
     {.hold = true},
     "remove 8 rmdir 5 outside-put 4 outside-erase 0 release 1"},
    {"TwoMachinesInBadWeather", kTogether, 4, 40, {.store_faults = 0.05}, "offline 1 online 3"},
    {"TwoMachinesOnBadDays",
     kTogether,
     3,
     40,
     {.store_faults = 0.05},
     "move 10 kill 3 offline 1 online 3"},
    {"TwoMachinesWithPlacesWhoseAnswersGetLost",
     kTogether,
     3,
     40,
     {.lost_answers = 0.15},
     "place 5 move 9 kill 2"},
    {"TwoMachinesAllAtOnce",
     kTogether,
     4,
     60,
     {.store_faults = 0.02, .lost_answers = 0.05, .watch_power = true},
     "place 3 move 9 nudge 4 synced-write 6 sync-folder 3 power-cut 1 kill 1 offline 1 online 3"},
    {"TwoMachinesWhoseAnswersGetLost",
     kTogether,
     3,
     40,
     {.lost_answers = 0.25},
     "move 12 outside-put 8 outside-move 8"},
};

class Model : public testing::TestWithParam<Row> {};
TEST_P(Model, Converges) {
  const Row& row = GetParam();
  if (row.who == Who::kAlone)
    PlayMany<Alone>(row.name, row.plans, row.steps, WeightsOf(row), row.options);
  else
    PlayMany<Together>(row.name, row.plans, row.steps, WeightsOf(row), row.options, 2);
}
INSTANTIATE_TEST_SUITE_P(Plans, Model, testing::ValuesIn(kRows),
                         [](const auto& one) { return std::string(one.param.name); });

// An upload was acknowledged between a write's word in the journal and its bytes, and the journal
// would not take it a second time: this seed met that.
TEST(ModelTest, DiskFaultsAtAnAcknowledgement) {
  PlayMany<Alone>("disk", 1, 30, kDaily, {.disk_faults = 0.01}, 1, 320091);
}

template <typename Kind>
void PlaySaves(const char* name, int runs, Step::Kind death, const Options& base, int drives = 1) {
  const auto planner = [&](std::uint64_t seed) { return MakeSaves(seed, 20, death, drives); };
  PlayMany<Kind>(name, runs, planner, base);
}
TEST(ModelTest, FilesSavedAnewAndPowerCuts) {
  PlaySaves<Alone>("saves", 12, Step::kPowerCut, {.watch_power = true});
}
TEST(ModelTest, FilesSavedAnewOnBadDays) {
  PlaySaves<Alone>("saves on bad days", 6, Step::kKill,
                   {.store_faults = 0.03, .lost_answers = 0.05});
}
TEST(ModelTest, FilesSavedAnewByTwoMachines) {
  PlaySaves<Together>("saves together", 6, Step::kKill, {}, 2);
}
TEST(ModelTest, FilesSavedAnewByTwoMachinesOnBadDays) {
  PlaySaves<Together>("saves together on bad days", 6, Step::kPowerCut,
                      {.store_faults = 0.03, .lost_answers = 0.05, .watch_power = true}, 2);
}

// As when a script tidies up on both.
TEST(ModelTest, TwoMachinesThatDoTheSame) {
  const Weights weights =
      With(kShared, {{Step::kMove, 14}, {Step::kNudge, 6}, {Step::kHold, 0}, {Step::kKill, 1}});
  const auto planner = [&](std::uint64_t seed) {
    return WithEchoes(MakePlan(seed, 40, weights, 2), seed);
  };
  PlayMany<Together>("together the same", 6, planner, {});
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
