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

TEST_CASE("Photos of a rolling and of another shutter stand in one block") {
  MadeUpOptions options;
  options.readout = 0.06, options.second_camera = true, options.points = 500, options.strips = 4;
  const MadeUpBlock made = make_block(options);  // exact
  REQUIRE(made.block.cameras[0].readout_seconds == 0.06);
  REQUIRE(made.block.cameras[1].readout_seconds == 0);
  adjust::Block block = made.block;
  disturb(block, 8, 0.3, 0.003);
  for (adjust::Station& s : block.stations) s.velocity.setZero(), s.turning.setZero();
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, {}, progress);
  CHECK(result.reprojection_rms_px < 0.02);  // what is expected of motion pulls a little, see below
  int rolling = 0;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const bool rolls = adjust::rolls(block, block.stations[i]);
    rolling += rolls;
    CHECK((result.layout.motion[i] >= 0) == rolls);
    if (rolls) CHECK(result.layout.motion[i] == result.layout.station[i] + 6);
    // Rays are exact; velocities of 4 m/s are expected to be nought within 10, turns of 0.08 rad/s within 0.1, so that
    // what these pull stays within a sigma.
    const Eigen::Vector3d error = block.stations[i].C - made.block.stations[i].C;
    CHECK(error.dot(block.stations[i].covariance.ldlt().solve(error)) < 3);
    if (!rolls) CHECK(block.stations[i].velocity.isZero());
  }
  CHECK(rolling == static_cast<int>(block.stations.size()) / 2);
  CHECK(result.unknowns == result.layout.columns + 3 * (result.tie_points + options.control));
}

TEST_CASE("A readout from the last row to the first is motion the other way round") {
  MadeUpOptions options = on_the_move();
  options.noise_px = 0;
  MadeUpBlock made = make_block(options);
  adjust::Block back = made.block;
  back.cameras[0].readout_seconds *= -1;
  for (adjust::Station& s : back.stations) s.velocity *= -1, s.turning *= -1;
  for (const adjust::GroundPoint& point : made.block.points)
    for (const adjust::Ray& ray : point.rays) {
      const auto x = adjust::image_of(back, back.stations[ray.station], point.X);
      REQUIRE(x);
      CHECK((*x - ray.x).norm() < 1e-6);
    }
}

TEST_CASE("What an image point changes by is its differences, the row's own time in them") {
  MadeUpOptions options = on_the_move();
  const MadeUpBlock made = make_block(options);
  adjust::Block block = made.block;
  const double h = 1e-5;
  double worst = 0, without_row = 0;
  for (std::size_t p = 0; p < 40; ++p) {
    const adjust::GroundPoint& point = block.points[p];
    const int number = point.rays[0].station;
    adjust::Station& station = block.stations[number];
    const adjust::Station start = station;
    const auto image = adjust::imaged(block, station, point.X);
    REQUIRE(image);
    for (int a = 0; a < 3; ++a) {
      const Eigen::Vector3d step = h * Eigen::Vector3d::Unit(a);
      const auto difference = [&](const Eigen::Vector3d& X) { return *adjust::image_of(block, station, X); };
      const Eigen::Vector2d by_point = (difference(point.X + step) - difference(point.X - step)) / (2 * h);
      worst = std::max(worst, (by_point - image->by_point.col(a)).norm() / by_point.norm());
      // The same by a station that is shifted, and by one that flies faster.
      station.C += step;
      const Eigen::Vector2d ahead = difference(point.X);
      station.C = start.C;
      station.velocity += step;
      const Eigen::Vector2d faster = difference(point.X);
      station.velocity = start.velocity;
      CHECK(((ahead - image->x) / h + image->by_point.col(a)).norm() < 1e-3 * by_point.norm());
      CHECK(((faster - image->x) / h + image->seconds * image->by_point.col(a)).norm() < 1e-3 * by_point.norm());
      adjust::Station still = start;
      still.velocity.setZero(), still.turning.setZero();
      without_row = std::max(
          without_row, (adjust::imaged(block, still, point.X)->by_point.col(a) - by_point).norm() / by_point.norm());
    }
  }
  CHECK(worst < 1e-5);        // differences of 1e-5 m in 68
  CHECK(without_row > 1e-3);  // that is what the time of the row is worth
}

TEST_CASE(
    "Velocities are expected as positions and times tell them, and nothing where these are missing or far apart") {
  adjust::Block block;
  camera::Camera rolling;
  rolling.readout_seconds = 0.03, rolling.height = 100;
  block.cameras = {rolling, camera::Camera()};
  block.sorties.resize(2);
  const auto add = [&](int camera, int sortie, double time, const Eigen::Vector3d& position) {
    adjust::Station s;
    s.camera = camera, s.sortie = sortie, s.time = time, s.position = position;
    block.stations.push_back(s);
  };
  add(0, 0, 10, {0, 0, 60}), add(0, 0, 13, {12, 0, 60}), add(0, 0, 16, {18, 6, 63});
  add(0, 0, mesograph::nan, {500, 0, 60});                   // without time
  add(0, 0, 14, Eigen::Vector3d::Constant(mesograph::nan));  // without position
  add(1, 0, 200, {0, 0, 60});                                // opens at once
  add(0, 1, 11, {0, 0, 60}), add(0, 1, 60, {0, 300, 60});    // another sortie, too far apart
  adjust::expect_motion(block);
  const auto velocity = [&](std::size_t i) { return block.stations[i].velocity; };
  CHECK((velocity(0) - Eigen::Vector3d(4, 0, 0)).norm() < 1e-12);    // the first one: towards the next
  CHECK((velocity(1) - Eigen::Vector3d(3, 1, 0.5)).norm() < 1e-12);  // from the one before to the one after
  CHECK(block.stations[1].sigma_velocity == Approx(2 + 0.5 * std::sqrt(10.25)));
  CHECK(block.stations[1].usual_velocity == velocity(1));
  for (const std::size_t i : {3, 4, 5, 6, 7}) {
    CHECK(velocity(i).isZero());
    CHECK(block.stations[i].sigma_velocity == 10.0);
  }
}
