#include <catch2/catch.hpp>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/shutter.hpp>

#include "made_up_block.hpp"

using namespace mesograph;

namespace {

MadeUpOptions on_the_move() {
  MadeUpOptions options;
  options.readout = 0.06, options.noise_px = 0.3, options.position_sigma = 0.5, options.points = 400;
  return options;
}

}  // namespace

TEST_CASE("A point shows where the row that shows it was read, as the simulator's bisection has it") {
  MadeUpOptions options = on_the_move();
  options.noise_px = 0;
  const MadeUpBlock made = make_block(options);
  double moved = 0;
  for (const adjust::GroundPoint& point : made.block.points)
    for (const adjust::Ray& ray : point.rays) {
      const adjust::Station& station = made.block.stations[ray.station];
      const auto shown = adjust::image_of(made.block, station, point.X);
      REQUIRE(shown);
      CHECK((*shown - ray.x).norm() < 1e-6);  // px: seven steps of more than a digit, from ten pixels
      const auto line = adjust::sight_line(made.block, station, ray.x);
      REQUIRE(line);
      CHECK((point.X - line->C).normalized().cross(line->d).norm() < 1e-9);
      adjust::Station still = station;
      still.velocity.setZero(), still.turning.setZero();
      moved = std::max(moved, (*adjust::image_of(made.block, still, point.X) - ray.x).norm());
    }
  CHECK(moved > 3);  // px: it was on the move
}

TEST_CASE("Motion during the readout is found with the sigmas that are predicted; passed over it spoils the block") {
  const MadeUpBlock made = make_block(on_the_move());
  adjust::Block block = made.block;
  for (adjust::Station& s : block.stations) s.velocity.setZero(), s.turning.setZero();
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, {}, progress);
  CHECK(result.sigma0 == Approx(1).margin(0.05));  // redundancy is some 2,000: 3 sigma
  double squares = 0, turning = 0;
  int n = 0;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Eigen::Matrix<double, 6, 1> error =
        (Eigen::Matrix<double, 6, 1>() << block.stations[i].turning - made.block.stations[i].turning,
         block.stations[i].velocity - made.block.stations[i].velocity)
            .finished();
    std::vector<int> columns;
    for (int k = 0; k < 6; ++k) columns.push_back(result.layout.motion[i] + k);
    squares += error.dot(result.inverse.among(columns).ldlt().solve(error));
    turning += error.head<3>().squaredNorm();
    n += 6;
  }
  CHECK(squares / n == Approx(1).margin(0.5));  // 72 values, with what they have in common: 3 sigma
  CHECK(std::sqrt(turning / n * 2) < 0.04);     // rad/s, of 0.08
  const auto rmse = [&](const adjust::AdjustResult& r) {
    double sum = 0;
    for (std::size_t i = 0; i < block.surveyed.size(); ++i)
      if (block.surveyed[i].role == adjust::Role::check)
        sum += (r.surveyed[i].X - made.block.surveyed[i].point.X).squaredNorm();
    return std::sqrt(sum / 6);
  };
  adjust::Block at_once = made.block;
  at_once.cameras[0].readout_seconds = 0;
  const adjust::AdjustResult spoilt = adjust::adjust(at_once, {}, progress);
  CHECK(spoilt.reprojection_rms_px > 1.5 * result.reprojection_rms_px);
  CHECK(rmse(spoilt) > 2 * rmse(result));
}
