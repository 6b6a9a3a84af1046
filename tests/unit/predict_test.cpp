#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/adjust/predict.hpp>
#include <mesograph/sight/identify.hpp>

#include "made_up_block.hpp"

using namespace mesograph;
using Eigen::Vector2d;
using Eigen::Vector3d;

TEST_CASE("Predicted ellipses hold the truth as often as they say", "[predict]") {
  // Twelve blocks with drawn noise are adjusted onto positions and control; points that took no part are predicted from
  // their true coordinates. Truth: the simulator's projection, which shares no formula with the prediction.
  const double readout = GENERATE(0.0, 0.05);
  double squares = 0;
  int n = 0;
  for (std::uint64_t seed = 1; seed <= 12; ++seed) {
    MadeUpOptions options;
    options.readout = readout;
    options.noise_px = 0.4, options.position_sigma = 3.0, options.seed = seed;
    MadeUpBlock made = make_block(options);
    Progress silent;
    adjust::AdjustOptions adjusting;
    adjusting.scope.free.fill(false);
    adjust::adjust(made.block, adjusting, silent);
    const adjust::Uncertainty uncertainty = adjust::uncertainty_of(made.block, adjusting.scope);
    const adjust::Predictor predictor(made.block, uncertainty);
    const double x = -20 + 3.0 * static_cast<double>(seed);
    const Vector3d X(x, 8.0, rolling_ground(x, 8.0));
    for (const adjust::Prediction& p : predictor.photos_of(X, Eigen::Matrix3d::Zero())) {
      const auto truth = simulate::true_projection(made.camera, made.stations[p.station], X);
      REQUIRE(truth);
      const Vector2d off = p.x - *truth;
      squares += off.dot(p.covariance.inverse() * off) / 2;
      ++n;
      CHECK(p.axes()[0] >= p.axes()[1]);
      CHECK_FALSE(p.hidden);
      CHECK(p.range == Approx((X - made.stations[p.station].C).norm()).epsilon(0.01));
    }
  }
  INFO(n << " predictions, error over sigma " << std::sqrt(squares / n));
  REQUIRE(n > 60);
  // Photos of one block err alike: some 12 x 6 free directions, so that the ratio of a right sigma is 1 +- 0.09; bound
  // at three times that, and a little for the linearisation.
  CHECK(std::sqrt(squares / n) > 0.7);
  CHECK(std::sqrt(squares / n) < 1.3);
}

TEST_CASE("A point far below the ground that a photo sees is hidden", "[predict]") {
  MadeUpBlock made = make_block();
  adjust::Scope scope;
  scope.free.fill(false);
  const adjust::Uncertainty uncertainty = adjust::uncertainty_of(made.block, scope);
  const adjust::Predictor predictor(made.block, uncertainty);
  int hidden = 0, all = 0;
  for (const adjust::Prediction& p : predictor.photos_of({0, 0, rolling_ground(0, 0) - 25}, Eigen::Matrix3d::Zero()))
    hidden += p.hidden, ++all;
  INFO(hidden << " of " << all);
  CHECK(all > 3);
  CHECK(hidden > all / 2);  // photos at whose edge no tie points lie around the place cannot tell
}

TEST_CASE("Ground slopes as the tie points around a place lie", "[predict]") {
  MadeUpOptions options;
  options.points = 900;
  const MadeUpBlock made = make_block(options);
  adjust::Scope scope;
  scope.free.fill(false);
  const adjust::Uncertainty uncertainty = adjust::uncertainty_of(made.block, scope);
  const adjust::Predictor predictor(made.block, uncertainty);
  double off = 0, slope = 0;
  int n = 0;
  for (const adjust::SurveyedPoint& p : made.block.surveyed)
    for (const adjust::Ray& r : p.point.rays) {
      const Vector3d& X = p.point.X;
      // Derivatives of 6 sin(x / 17) + 4 cos(y / 13) + 0.05 x.
      const Vector3d truth =
          Vector3d(-6.0 / 17 * std::cos(X.x() / 17) - 0.05, 4.0 / 13 * std::sin(X.y() / 13), 1).normalized();
      const Vector3d normal = predictor.ground_normal(r.station, r.x);
      CHECK(normal.norm() == Approx(1));
      off += std::acos(std::min(1.0, normal.dot(truth))), slope += std::acos(truth.z()), ++n;
    }
  INFO(n << " places, " << off / n * deg_per_rad << " degrees off, slopes of " << slope / n * deg_per_rad);
  REQUIRE(slope / n > 10 * rad_per_deg);
  // Twelve tie points lie within 7 m of a place here, where waves of 80 and 107 m bend by 7 x 6 / 17^2, some 8 degrees:
  // half of that, and the place lies beside their middle.
  CHECK(off / n < 5 * rad_per_deg);
}

TEST_CASE("Sights that meet make a spot, and the one that does not is left out", "[identify]") {
  const MadeUpBlock made = make_block();
  std::vector<sight::Sight> sights;
  std::vector<Vector3d> ground;
  const adjust::GroundPoint& truth = made.block.surveyed[0].point;
  for (const adjust::Ray& r : truth.rays) {
    sights.push_back({r.station, r.x, 0.1});
    ground.push_back(truth.X + Vector3d(0.1, -0.1, 0.1));
  }
  REQUIRE(sights.size() >= 5);
  sights[1].x += Vector2d(6, -4);  // another thing beside it
  const auto spots = sight::find_spots(made.block, sights, ground);
  REQUIRE(spots.size() == 1);
  CHECK(spots[0].sights.size() == sights.size() - 1);
  CHECK(std::find(spots[0].sights.begin(), spots[0].sights.end(), 1) == spots[0].sights.end());
  // Exact rays: two projections of the same formulae written apart agree to 1e-6 px, 1e-7 m here.
  CHECK((spots[0].X - truth.X).norm() < 1e-4);
  sight::SpotOptions strict;
  strict.least_rays = static_cast<int>(sights.size());
  CHECK(sight::find_spots(made.block, sights, ground, strict).empty());
}
