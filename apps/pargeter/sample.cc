#include "sample.h"

#include <fmt/format.h>

#include <cmath>
#include <random>
#include <vector>

namespace pargeter::app {
namespace {

// Not std:: distributions: their results differ between standard libraries.
class Dice {
 public:
  explicit Dice(std::uint64_t seed) : engine_(seed) {}
  int Below(int n) { return static_cast<int>(engine_() % static_cast<std::uint64_t>(n)); }
  double Unit() { return static_cast<double>(engine_() >> 11) * 0x1.0p-53; }
  template <typename T, std::size_t N>
  const T& Pick(const T (&from)[N]) {
    return from[Below(static_cast<int>(N))];
  }

 private:
  std::mt19937_64 engine_;
};

constexpr const char* kGenera[] = {"Corallina", "Marivela", "Oskellia",  "Tharnia",
                                   "Brennaria", "Sulivia",  "Pellwortia"};
constexpr const char* kSpecies[] = {"insularis", "maritima", "ventosa",  "pumila",
                                    "grisea",    "borealis", "palustris"};
constexpr const char* kPlaces[] = {"Vogelklippe", "North Strand", "Kirkholm",
                                   "Sandwick",    "the old pier", "Tern Rocks"};
constexpr const char* kPeople[] = {"A. Holm", "M. Sørensen", "J. Petrie", "K. Ødegård", "R. Tait"};
constexpr const char* kMuseums[] = {"Westhaven", "Inner Isles", "Port Mary", "Lundwick"};

// A grey image with a stem, leaves and a label's outline, on grainy paper.
std::string Plant(Dice* dice, int width, int height) {
  std::vector<unsigned char> px(static_cast<std::size_t>(width * height));
  for (auto& p : px) p = static_cast<unsigned char>(228 + dice->Below(14));
  const auto dot = [&](double x, double y, double radius, int shade) {
    for (int j = static_cast<int>(y - radius); j <= y + radius; ++j) {
      for (int i = static_cast<int>(x - radius); i <= x + radius; ++i) {
        if (i < 0 || j < 0 || i >= width || j >= height || std::hypot(i - x, j - y) > radius)
          continue;
        px[static_cast<std::size_t>(j * width + i)] =
            static_cast<unsigned char>(shade + dice->Below(20));
      }
    }
  };
  double x = width / 2.0;
  for (double y = height * 0.82; y > height * 0.12; y -= 1.5) {
    x += (dice->Unit() - 0.5) * 1.6;
    dot(x, y, 2, 70);
    if (dice->Below(14) == 0) {
      const double side = dice->Below(2) ? 1 : -1, length = 20 + dice->Unit() * width * 0.25;
      for (double t = 0; t < length; t += 1.5) {
        dot(x + side * t, y - t * 0.5, 1 + 6 * std::sin(t / length * 3.1), 90);
      }
    }
  }
  for (int i = width * 6 / 10; i < width - 10; ++i) {
    dot(i, height * 0.88, 1, 30);
    dot(i, height * 0.97, 1, 30);
  }
  std::string out = fmt::format("P5\n{} {}\n255\n", width, height);
  out.append(px.begin(), px.end());
  return out;
}

std::string PlantName(Dice* dice) {
  return fmt::format("{} {}", dice->Pick(kGenera), dice->Pick(kSpecies));
}
std::string Day(Dice* dice) {
  return fmt::format("{}-{:02}-{:02}", 1931 + dice->Below(60), 4 + dice->Below(6),
                     1 + dice->Below(28));
}

}  // namespace

Status MakeSample(std::uint64_t seed, const SampleSize& size,
                  const std::function<Status(const std::string&, const std::string&)>& emit) {
  Dice dice(seed);
  for (int i = 0; i < size.sheets; ++i) {
    const std::string path = fmt::format("sheets/{}/sheet-{:04}.pgm", dice.Pick(kGenera), i + 1);
    PG_TRY(emit(path, Plant(&dice, 360, 520)));
  }
  for (int book = 0; book < size.notebooks; ++book) {
    const std::string title = fmt::format("notebooks/{} {}", 1934 + book * 7, dice.Pick(kPeople));
    for (int page = 0; page < size.pages; ++page) {
      PG_TRY(emit(fmt::format("{}/page {:03}.pgm", title, page + 1), Plant(&dice, 200, 280)));
    }
  }
  for (int i = 0; i < size.lists; ++i) {
    std::string csv = "sheet,name,determined by,on,place\n";
    for (int row = 0; row < 80 + dice.Below(400); ++row) {
      csv += fmt::format("{},{},{},{},{}\n", 1 + dice.Below(size.sheets), PlantName(&dice),
                         dice.Pick(kPeople), Day(&dice), dice.Pick(kPlaces));
    }
    PG_TRY(emit(fmt::format("lists/determinations-{:02}.csv", i + 1), csv));
  }
  for (int i = 0; i < size.loans; ++i) {
    const std::string museum = dice.Pick(kMuseums);
    PG_TRY(emit(
        fmt::format("loans/{}/loan-{:03}.txt", museum, i + 1),
        fmt::format("Loan {} to the museum of {}\nSheets: {} to {}\nLent: {}\nSigned: {}\n", i + 1,
                    museum, dice.Below(60), 60 + dice.Below(60), Day(&dice), dice.Pick(kPeople))));
  }
  return {};
}

}  // namespace pargeter::app
