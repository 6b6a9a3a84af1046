#include <catch2/catch.hpp>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/determinacy.hpp>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/base/errors.hpp>

#include "made_up_block.hpp"

using namespace mesograph;
using What = adjust::Open::What;

namespace {

/// Adjusted by its control alone, with cameras held; what that leaves open.
std::vector<adjust::Open> open_by_control(adjust::Block block) {
  adjust::AdjustOptions options;
  options.scope.positions = false;
  options.scope.free = {};
  Progress progress;
  try {
    adjust::adjust(block, options, progress);
  } catch (const adjust::NotDetermined& failed) {
    return failed.open;
  }
  return {};
}

adjust::Block noisy_block() {
  MadeUpOptions options;
  options.noise_px = 0.3, options.checks = 0;
  return make_block(options).block;
}

/// Keeps these control points alone.
void keep_control(adjust::Block& block, const std::vector<std::size_t>& kept) {
  std::vector<adjust::SurveyedPoint> few;
  for (const std::size_t i : kept) few.push_back(block.surveyed[i]);
  block.surveyed = few;
}

/// A control point at a place of our choice, with rays from every photo that shows it.
adjust::SurveyedPoint control_at(const adjust::Block& block, const Eigen::Vector3d& X) {
  adjust::SurveyedPoint p = block.surveyed.front();
  p.surveyed = p.point.X = X;
  p.point.rays.clear();
  for (std::size_t s = 0; s < block.stations.size(); ++s) {
    const adjust::Station& station = block.stations[s];
    const auto x = camera::project(block.cameras[0], station.R.transpose() * (X - station.C));
    if (x && camera::inside(block.cameras[0], *x, 5)) p.point.rays.push_back({static_cast<int>(s), *x, 0.3, true});
  }
  return p;
}

}  // namespace

TEST_CASE("What a block's observations leave open is named") {
  adjust::Block block = noisy_block();
  SECTION("nothing, with six control points") { CHECK(open_by_control(block).empty()); }
  SECTION("its turn about the line that all control lies on") {
    const Eigen::Vector3d along = Eigen::Vector3d(3, 4, 0.2).normalized();
    std::vector<adjust::SurveyedPoint> line;
    for (const double at : {-30.0, -10.0, 12.0, 28.0}) line.push_back(control_at(block, at * along));
    block.surveyed = line;
    const auto open = open_by_control(block);
    REQUIRE(open.size() == 1);
    CHECK(open[0].what == What::turn);
    CHECK(open[0].direction.cross(along).norm() < 0.01);
  }
  SECTION("its height, where control has none") {
    for (adjust::SurveyedPoint& p : block.surveyed) p.sigma.z() = mesograph::nan;
    const auto open = open_by_control(block);
    REQUIRE(open.size() == 1);
    CHECK(open[0].what == What::shift);
    CHECK(std::abs(open[0].direction.z()) > 0.999);
  }
  SECTION("four movements about a single point") {
    keep_control(block, {2});
    CHECK(open_by_control(block).size() == 4);  // three turns and the scale
  }
  SECTION("a photo that two ties hold") {
    int left = 0;
    for (adjust::GroundPoint& p : block.points)
      for (adjust::Ray& ray : p.rays)
        if (ray.station == 5 && ++left > 2) ray.accepted = false, ray.x += Eigen::Vector2d(300, 200);
    for (adjust::SurveyedPoint& p : block.surveyed)
      std::erase_if(p.point.rays, [](const adjust::Ray& ray) { return ray.station == 5; });
    const auto open = open_by_control(block);
    REQUIRE(open.size() == 1);
    CHECK(open[0].what == What::station);
    CHECK(open[0].station == 5);
  }
}

TEST_CASE("A block of which all is held is judged as it stands") {
  MadeUpOptions made;
  made.noise_px = 0.4;
  adjust::Block block = make_block(made).block;
  for (adjust::Station& s : block.stations) s.held = true;
  block.priors[0].held = true;
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, {}, progress);
  CHECK(result.layout.columns == 0);
  CHECK(result.sigma0 == Approx(1).margin(0.06));
  REQUIRE(result.surveyed.size() == block.surveyed.size());
  // Stations without error: a check's covariance is that of its rays alone, here written out once more.
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = block.surveyed[i];
    if (p.role != adjust::Role::check) continue;
    Eigen::Matrix3d N = Eigen::Matrix3d::Zero();
    for (const adjust::Ray& ray : p.point.rays) {
      Eigen::Matrix<double, 2, 3> B;
      for (int a = 0; a < 3; ++a) {
        const Eigen::Vector3d step = 1e-4 * Eigen::Vector3d::Unit(a);
        B.col(a) = (*adjust::residual(block, ray, p.point.X + step) - *adjust::residual(block, ray, p.point.X - step)) /
                   (2e-4 * ray.sigma);
      }
      N += B.transpose() * B;
    }
    CHECK((result.surveyed[i].covariance * N - Eigen::Matrix3d::Identity()).norm() < 1e-4);
  }
}

TEST_CASE("A photo whose rays fit badly keeps the best of them, spread over it; gross errors it does not keep") {
  MadeUpOptions made;
  made.points = 600;
  adjust::Block block = make_block(made).block;
  double off = 2.0;
  for (adjust::GroundPoint& p : block.points)
    for (adjust::Ray& ray : p.rays) {
      if (ray.station == 1) ray.x.x() += off, off += 0.001;  // beyond a pixel, within three
      if (ray.station == 4) ray.x.x() += 40;
    }
  // A point of which no two rays are right has none left.
  std::vector<int> stay(block.stations.size(), 0);
  for (const adjust::GroundPoint& p : block.points) {
    const auto right = [](const adjust::Ray& ray) { return ray.station != 1 && ray.station != 4; };
    if (std::count_if(p.rays.begin(), p.rays.end(), right) < 2) continue;
    for (const adjust::Ray& ray : p.rays) stay[ray.station] += right(ray);
  }
  const adjust::AdjustOptions options;
  CHECK(adjust::groom(block, options));
  const std::vector<adjust::TiedBy> after = adjust::tied_by(block);
  CHECK(after[1].rays >= options.least_ties);
  CHECK(after[1].rays < options.least_ties + options.least_cells);
  CHECK(after[1].cells >= options.least_cells);
  CHECK(after[4].rays == 0);
  for (const std::size_t s : {0, 2, 3, 5, 6}) CHECK(after[s].rays == stay[s]);
  CHECK_FALSE(adjust::groom(block, options));
}
