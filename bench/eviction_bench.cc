// Replays traces of file uses against the cache's order of eviction and against plain least
// recently used, and prints how much of what was read was on the disk. No clock, no disk: the order
// alone.
//
//   eviction_bench
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <random>
#include <set>
#include <vector>

#include "cache/eviction.h"

namespace {

using namespace pargeter;

struct Read {
  Nanos at;
  int file;
  bool counts = true;  // false: of a scan, which nobody waits for
};
using Trace = std::vector<Read>;
constexpr Nanos kSecond = 1'000'000'000;
constexpr std::uint64_t kFileSize = 4;  // MiB; the order does not look at sizes

double HitShare(const Trace& trace, std::uint64_t limit, bool segments) {
  std::map<int, Use> uses;  // kept for files that went, too: the index knows them
  std::set<int> here;
  std::set<std::pair<Nanos, int>> order[2];
  std::uint64_t once = 0, hits = 0, counted = 0;
  for (const Read& read : trace) {
    Use& use = uses[read.file];
    const bool hit = here.count(read.file) > 0;
    hits += hit && read.counts ? 1 : 0;
    counted += read.counts ? 1 : 0;
    if (hit) {
      order[use.again ? 1 : 0].erase({use.last, read.file});
      if (!use.again) once -= kFileSize;
    }
    use = segments ? Used(use, hit, read.at) : Use{read.at, false};
    while (!hit && (here.size() + 1) * kFileSize > limit) {
      const bool first =
          order[1].empty() || (!order[0].empty() && FirstToGo(once, limit) == Segment::kOnce);
      auto& from = order[first ? 0 : 1];
      const auto victim = *from.begin();
      from.erase(from.begin());
      here.erase(victim.second);
      uses[victim.second].again = false;
      if (first) once -= kFileSize;
    }
    here.insert(read.file);
    order[use.again ? 1 : 0].insert({use.last, read.file});
    if (!use.again) once += kFileSize;
  }
  return static_cast<double>(hits) / static_cast<double>(counted);
}

// People at work: a few files often, most of them seldom; `days` of eight hours.
void Work(Trace* out, std::mt19937_64* dice, int day, int files, int from) {
  std::uniform_real_distribution<double> u(0, 1);
  for (int second = 0; second < 8 * 3600; second += 7) {
    const double x = u(*dice);
    const int file = from + static_cast<int>(std::pow(x, 4) * files);
    out->push_back({(day * 86400ll + 9 * 3600 + second) * kSecond, file});
  }
}

// Everything once, as a search or a backup reads it.
void Scan(Trace* out, int day, int hour, int files) {
  for (int i = 0; i < files; ++i)
    out->push_back({(day * 86400ll + hour * 3600) * kSecond + i * kSecond / 4, i, false});
}

}  // namespace

int main() {
  const int files = 5000;
  const std::uint64_t limit = 1000 * kFileSize;  // a fifth of all
  std::map<std::string, Trace> traces;
  for (int day = 0; day < 5; ++day) {
    std::mt19937_64 dice(static_cast<unsigned>(day));
    Work(&traces["1 work only"], &dice, day, files, 0);
    dice.seed(static_cast<unsigned>(day));
    Work(&traces["2 work, and a scan at noon"], &dice, day, files, 0);
    Scan(&traces["2 work, and a scan at noon"], day, 12, files);
    dice.seed(static_cast<unsigned>(day));
    Work(&traces["3 work, and a scan each night"], &dice, day, files, 0);
    Scan(&traces["3 work, and a scan each night"], day, 2, files);
    dice.seed(static_cast<unsigned>(day));
    Work(&traces["4 other files each day"], &dice, day, 1200, day * 900);
    for (int round = 0; round < 6; ++round)  // a loop over a little more than fits
      for (int i = 0; i < 1300; ++i)
        traces["5 a loop over 1.3 of the cache"].push_back(
            {(day * 86400ll + round * 3600 + i) * kSecond, i});
  }
  fmt::print("cache of 1000 files, 5000 in all; share of what people read that was on the disk\n");
  fmt::print("{:<34} {:>10} {:>10} {:>7}\n", "trace", "plain LRU", "ours", "ratio");
  for (auto& [name, trace] : traces) {
    std::stable_sort(trace.begin(), trace.end(),
                     [](const Read& a, const Read& b) { return a.at < b.at; });
    const double plain = HitShare(trace, limit, false), ours = HitShare(trace, limit, true);
    fmt::print("{:<34} {:>10.3f} {:>10.3f} {:>7.2f}\n", name.substr(2), plain, ours,
               plain > 0 ? ours / plain : 0);
  }
  return 0;
}
