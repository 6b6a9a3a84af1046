#include <catch2/catch.hpp>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/tie_noise.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/contradictions.hpp>
#include <mesograph/orient/similarity.hpp>
#include <mesograph/report/wrong.hpp>

#include "made_up_block.hpp"

using namespace mesograph;
using orient::Contradiction;

namespace {

/// Points in a block that lies, turns and counts as no survey does: contradictions need no frame and no unit.
adjust::Block block_elsewhere(double unit, std::uint64_t seed) {
  MadeUpOptions options;
  options.noise_px = 0.5, options.control = 10, options.checks = 4, options.seed = seed;
  adjust::Block block = make_block(options).block;
  orient::Similarity moved;
  moved.scale = 0.37 * unit;
  moved.R = Eigen::AngleAxisd(0.8, Eigen::Vector3d(1, 2, 3).normalized()).toRotationMatrix();
  moved.t = unit * Eigen::Vector3d(500, -300, 90);
  orient::transform(block, moved);
  for (adjust::SurveyedPoint& p : block.surveyed) p.surveyed *= unit, p.sigma *= unit;
  return block;
}

}  // namespace

TEST_CASE("Right points and sightings contradict nothing, in millimetres as in kilometres") {
  for (const double unit : {0.001, 1.0, 1000.0})
    for (std::uint64_t seed = 1; seed <= 5; ++seed) CHECK(orient::contradictions(block_elsewhere(unit, seed)).empty());
}

TEST_CASE("A height that is off, two points exchanged and a click in the wrong place are each named before adjusting") {
  for (const double unit : {0.001, 1.0, 1000.0}) {
    adjust::NamedBlock named;
    named.block = block_elsewhere(unit, 7);
    for (std::size_t i = 0; i < named.block.stations.size(); ++i) named.images.push_back("S" + std::to_string(i));
    std::vector<adjust::SurveyedPoint>& points = named.block.surveyed;
    points[2].surveyed.z() += 1.02 * unit;
    std::swap(points[4].surveyed, points[11].surveyed);
    adjust::Ray& click = points[0].point.rays[1];
    click.x += Eigen::Vector2d(240, -320);  // 400 px
    const std::vector<Contradiction> all = orient::contradictions(named.block);
    REQUIRE(all.size() == 3);
    CHECK((all[0].what == Contradiction::What::sighting && all[0].point == 0 && all[0].station == click.station));
    CHECK(all[0].pixels == Approx(400).margin(5));  // noise of the other sightings
    CHECK((all[1].what == Contradiction::What::exchanged && all[1].point == 4 && all[1].other == 11));
    CHECK((all[2].what == Contradiction::What::place && all[2].point == 2));
    // 20 mm of control and half a pixel (3 cm) at each point
    CHECK((all[2].off - unit * Eigen::Vector3d(0, 0, 1.02)).norm() < 0.1 * unit);
    if (unit == 1.0) CHECK(report::words_of(named, all[2]).find("K2 is surveyed ") == 0);
    CHECK(report::words_of(named, all[1]).find("K4 and P11 look exchanged") == 0);
  }
}

TEST_CASE("Of three photos of a point two that meet by chance do not accuse the third") {
  adjust::Block block = block_elsewhere(1.0, 9);
  adjust::GroundPoint& point = block.surveyed[0].point;
  point.rays.resize(3);
  for (adjust::Ray& ray : point.rays) ray.x += Eigen::Vector2d(ray.station % 2 ? 60.0 : -45.0, 50.0 * ray.station);
  for (const Contradiction& c : orient::contradictions(block)) CHECK(c.what != Contradiction::What::sighting);
}

TEST_CASE("Independent rays are told from rays of features that were found twice") {
  MadeUpOptions options;
  options.noise_px = 0.5, options.points = 800, options.strips = 4, options.per_strip = 6;
  double once = 0, twice = 0, factor = 0, worst = 0;
  constexpr int draws = 6;
  for (int seed = 1; seed <= draws; ++seed) {
    options.seed = static_cast<std::uint64_t>(seed);
    adjust::Block block = make_block(options).block;
    for (adjust::GroundPoint& p : block.points)
      for (adjust::Ray& ray : p.rays) ray.sigma = 0.8;  // what was given is not what is true
    Progress progress;
    adjust::adjust(block, {}, progress);
    once += adjust::alike_rays(block, {})[0] / draws;
    for (const double of_photo : adjust::noise_of_photos(block, {})) {
      factor += of_photo / (draws * static_cast<double>(block.stations.size()));
      worst = std::max(worst, std::abs(of_photo * 0.8 / 0.5 - 1));
    }
    // The same keypoints again: as many observations more, and nothing new.
    const std::vector<adjust::GroundPoint> points = block.points;
    block.points.insert(block.points.end(), points.begin(), points.end());
    twice += adjust::alike_rays(block, {})[0] / draws;
  }
  CHECK(factor == Approx(0.5 / 0.8).epsilon(0.01));
  // About 160 unknowns a block: a mean of so many squares is good to 11 %, of six blocks to 5 %; less than 1 is told
  // as 1.
  CHECK(once < 1.15);
  CHECK(twice / once == Approx(2).epsilon(0.15));
}

TEST_CASE("Photos whose rays are worse weigh less, and all others of their camera alike") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.points = 800, options.strips = 4, options.per_strip = 6, options.seed = 5;
  adjust::Block block = make_block(options).block;
  // Two photos whose rays are off by another 0.9 px: 0.95 px in all, 3.2 times the noise of the others.
  Random random(11);
  for (adjust::GroundPoint& p : block.points)
    for (adjust::Ray& ray : p.rays) {
      ray.sigma = 0.3;
      if (ray.station == 7 || ray.station == 16) ray.x += Eigen::Vector2d(random.normal(0.9), random.normal(0.9));
    }
  adjust::AdjustOptions estimate;
  estimate.weights = adjust::Weights::estimate;
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, estimate, progress);
  CHECK(result.sigma0 == Approx(1).margin(0.02));
  std::vector<std::vector<double>> sigmas(block.stations.size());
  for (const adjust::GroundPoint& p : block.points)
    for (const adjust::Ray& ray : p.rays)
      sigmas[static_cast<std::size_t>(ray.station)].push_back(ray.sigma / std::sqrt(adjust::alike_of(block, ray)));
  for (std::size_t s = 0; s < sigmas.size(); ++s) {
    INFO("photo " << s);
    // A photo has some 250 rays, so that its own sigma is good to 3 %; what the others have is the median of all.
    const bool worse = s == 7 || s == 16;
    CHECK(median(sigmas[s]) == Approx(worse ? std::hypot(0.3, 0.9) : 0.3).epsilon(worse ? 0.12 : 0.04));
  }
}

TEST_CASE("A block counts the same in millimetres as in kilometres") {
  MadeUpOptions options;
  options.noise_px = 0.5, options.position_sigma = 0.5, options.seed = 21;
  const auto in_unit = [&](double unit) {
    adjust::Block block = make_block(options).block;
    orient::Similarity scaled;
    scaled.scale = unit, scaled.t.setZero();
    disturb(block, 5, 0.3, 0.005);
    orient::transform(block, scaled);
    for (adjust::Station& s : block.stations) s.position *= unit;
    for (adjust::SurveyedPoint& p : block.surveyed) p.surveyed *= unit, p.sigma *= unit;
    for (adjust::Sortie& s : block.sorties)
      for (double* sigma : {&s.sigma_photo[0], &s.sigma_photo[1], &s.sigma_offset[0], &s.sigma_offset[1]})
        *sigma *= unit;
    return block;
  };
  adjust::AdjustOptions estimate;
  estimate.weights = adjust::Weights::estimate;
  adjust::Block metres = in_unit(1.0);
  Progress progress;
  const adjust::AdjustResult known = adjust::adjust(metres, estimate, progress);
  for (const double unit : {1e-3, 1e3}) {
    adjust::Block block = in_unit(unit);
    const adjust::AdjustResult result = adjust::adjust(block, estimate, progress);
    CHECK(result.status == adjust::SolveStatus::converged);
    CHECK(result.sigma0 == Approx(known.sigma0).epsilon(1e-5));
    CHECK(result.tie_points == known.tie_points);
    for (std::size_t i = 0; i < block.stations.size(); ++i) {
      // Both are at rest to far less than their sigmas, which are some millimetres of a metre.
      const Eigen::Vector3d off = block.stations[i].C / unit - metres.stations[i].C;
      CHECK(off.norm() < 0.01 * std::sqrt(metres.stations[i].covariance.trace()));
      CHECK(block.stations[i].covariance.trace() / (unit * unit) ==
            Approx(metres.stations[i].covariance.trace()).epsilon(1e-3));
    }
  }
}
