// How well targets are found and measured, cell by cell, on drawn pictures with known centres: the table of
// docs/methods.md. usage: target_table [draws a cell]
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/sight/target.hpp>
#include <mesograph/simulate/marks.hpp>

using namespace mesograph;

namespace {

struct Condition {
  const char* name;
  double tilt_deg, blur_px, noise, shadow, wear;
};
constexpr Condition conditions[] = {
    {"clean", 0, 0.5, 2, 1, 0},   {"sharp", 0, 0, 2, 1, 0},        {"blur 1", 0, 1, 2, 1, 0},
    {"blur 2", 0, 2, 2, 1, 0},    {"tilt 30", 30, 0.5, 2, 1, 0},   {"tilt 50", 50, 0.5, 2, 1, 0},
    {"noise 8", 0, 0.5, 8, 1, 0}, {"shadow", 20, 0.5, 2, 0.45, 0}, {"worn", 20, 0.5, 2, 1, 0.35},
};

struct Draw {
  bool found = false, wrong = false;
  Eigen::Vector2d error = Eigen::Vector2d::Zero(), across = Eigen::Vector2d::Zero();
  double sigma = 0;
};

/// One picture, searched as a photo is: within 20 pixels of its middle, any kind, the ground level within 5 degrees.
Draw draw(simulate::Mark mark, double size, const Condition& condition, std::uint64_t seed) {
  Random random(seed);
  simulate::MarkView view;
  view.mark = mark;
  view.size_px = size;
  view.turn = random.uniform(0, 2 * pi);
  view.tilt = condition.tilt_deg * rad_per_deg;
  view.tilt_towards = random.uniform(0, 2 * pi);
  view.blur_px = condition.blur_px, view.noise = condition.noise;
  view.shadow = condition.shadow, view.wear = condition.wear;
  view.light = random.below(2) == 0;
  const simulate::MarkPicture picture = simulate::draw_mark(view, random);
  sight::TargetOptions options;
  const double slope = 5 * rad_per_deg;
  const Eigen::Vector3d level =
      (picture.normal + Eigen::Vector3d(random.normal(slope), random.normal(slope), 0)).normalized();
  // From x right, y down, z forward to x right, y up, z backwards.
  const auto turned = [](const Eigen::Vector3d& v) { return Eigen::Vector3d(v.x(), -v.y(), -v.z()); };
  options.view = sight::plane_view(turned(level), turned(picture.sight), view.c, slope);
  const Eigen::Vector2d reach(20, 20),
      middle = picture.centre + Eigen::Vector2d(random.uniform(-8, 8), random.uniform(-8, 8));
  Draw out;
  for (const sight::Target& t : sight::find_targets(picture.image, {middle - reach, middle + reach}, options)) {
    if ((t.x - picture.centre).norm() > std::max(1.5, 0.1 * size)) {
      out.wrong = true;
      continue;
    }
    out.found = true;
    out.error = t.x - picture.centre;
    out.sigma = t.sigma();
    // Along the tilt, where a bias of perspective would lie.
    const Eigen::Vector2d along(std::cos(view.tilt_towards), std::sin(view.tilt_towards));
    out.across = {out.error.dot(along), out.error.x() * along.y() - out.error.y() * along.x()};
    break;
  }
  return out;
}

void print_cell(simulate::Mark mark, double size, const Condition& condition, std::size_t draws) {
  std::vector<Draw> all(draws);
  parallel_for(draws, [&](std::size_t i) {
    all[i] = draw(mark, size, condition, seed_from(fmt::format("{} {} {} {}", word_of(mark), size, condition.name, i)));
  });
  int found = 0, wrong = 0;
  double squares = 0, ratio = 0, largest = 0;
  Eigen::Vector2d sum = Eigen::Vector2d::Zero(), along = Eigen::Vector2d::Zero();
  for (const Draw& d : all) {
    wrong += d.wrong;
    if (!d.found) continue;
    ++found;
    squares += d.error.squaredNorm(), sum += d.error, along += d.across;
    ratio += d.error.squaredNorm() / (2 * d.sigma * d.sigma);
    largest = std::max(largest, d.error.norm());
  }
  const double n = std::max(1, found), bias = std::max(sum.norm(), along.norm()) / n;
  fmt::print("| {} | {:.0f} | {} | {:.0f} | {} | {:.3f} | {:.3f} | {:.2f} | {:.2f} |\n", word_of(mark), size,
             condition.name, 100.0 * found / static_cast<double>(draws), wrong, bias, std::sqrt(squares / n / 2),
             largest, std::sqrt(ratio / n));
  std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
  const std::size_t draws = argc > 1 ? static_cast<std::size_t>(std::atoi(argv[1])) : 200;
  const bool quick = argc > 2 && std::string(argv[2]) == "quick";
  const std::string only = quick ? "" : argc > 2 ? argv[2] : "";
  fmt::print(
      "| target | px | condition | found % | elsewhere | bias px | RMS px | largest px | error / sigma "
      "|\n|---|---|---|---|---|---|---|---|---|\n");
  for (std::size_t number = 0; number < simulate::target_count; ++number) {
    const auto mark = static_cast<simulate::Mark>(number);
    for (const double size : quick ? std::vector<double>{10.0, 20.0} : std::vector<double>{6.0, 10.0, 20.0, 40.0, 80.0})
      for (const Condition& condition : conditions)
        if (only.empty() || only == word_of(mark)) print_cell(mark, size, condition, draws);
  }
  fmt::print("\n| false alarms | accepted of {} |\n|---|---|\n", draws);
  for (const simulate::Mark mark : {simulate::Mark::zebra, simulate::Mark::lane_lines, simulate::Mark::arrow,
                                    simulate::Mark::window, simulate::Mark::quadrant, simulate::Mark::grating}) {
    std::vector<int> taken(draws);
    parallel_for(draws, [&](std::size_t i) {
      Random random(seed_from(fmt::format("{} {}", word_of(mark), i)));
      simulate::MarkView view;
      view.mark = mark;
      view.size_px = random.uniform(15, 50);
      view.turn = random.uniform(0, 2 * pi), view.tilt = random.uniform(0, 0.7),
      view.tilt_towards = random.uniform(0, 2 * pi);
      const simulate::MarkPicture picture = simulate::draw_mark(view, random);
      const Eigen::Vector2d reach(25, 25);
      taken[i] =
          static_cast<int>(sight::find_targets(picture.image, {picture.centre - reach, picture.centre + reach}).size());
    });
    const auto any = std::count_if(taken.begin(), taken.end(), [](int n) { return n > 0; });
    if (only.empty() || only == "false") fmt::print("| {} | {} |\n", word_of(mark), any);
  }
}
