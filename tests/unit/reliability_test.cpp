#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/advise.hpp>
#include <mesograph/adjust/difference.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/weakness.hpp>

#include "made_up_block.hpp"
#include "plain_adjustment.hpp"

using namespace mesograph;
using Catch::Matchers::WithinAbs;
using Catch::Matchers::WithinRel;

namespace {

adjust::AdjustResult adjusted(adjust::Block& block) {
  Progress progress;
  return adjust::adjust(block, {}, progress);
}

}  // namespace

TEST_CASE("Redundancies and tests are those of the whole hat matrix") {
  adjust::Block block = flown_block(5);
  adjust::AdjustOptions options;
  options.reject_sigmas = 1e3, options.min_ray_angle_deg = 0.01;  // all rays stay, as in the twin
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, options, progress);
  // R = I - J (J'J)^-1 J' of all observations at once, by differences, at the adjusted values.
  const Plain plain(block, {});
  const Eigen::MatrixXd J = plain.jacobian();
  const Eigen::VectorXd v = plain.residuals(Eigen::VectorXd::Zero(plain.size()));
  const Eigen::VectorXd r =
      Eigen::VectorXd::Ones(J.rows()) - (J * (J.transpose() * J).inverse() * J.transpose()).diagonal();
  const auto same = [&](const adjust::Tested& test, Eigen::Index row) {
    // Differences of 1e-6 and designs in single precision leave four digits.
    CHECK_THAT(test.redundancy, WithinAbs(r[row], 2e-4));
    CHECK_THAT(test.w, WithinAbs(v[row] / std::sqrt(r[row]), 2e-3));
  };
  Eigen::Index row = 0;
  for (const adjust::GroundPoint& p : block.points) row += 2 * static_cast<Eigen::Index>(p.rays.size());
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    for (const auto& ray : result.surveyed[i].sightings)
      for (const adjust::Tested& test : ray) same(test, row++);
    for (const adjust::Tested& test : result.surveyed[i].coordinates) same(test, row++);
  }
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    for (const adjust::Tested& test : result.positions[i]) same(test, row++);
    for (const adjust::Tested& test : result.attitudes[i]) same(test, row++);
  }
  for (const adjust::Group& g : result.groups)
    if (word_of(g.of) == "attitudes") CHECK(g.n == 3 * static_cast<int>(block.stations.size()));
}

TEST_CASE("A control point left out by the closed form is the one that an adjustment without it intersects") {
  MadeUpOptions options;
  options.noise_px = 0.4, options.control = 7, options.position_sigma = 0.5, options.control_sigma = 0.03;
  options.readout = GENERATE(0.0, 0.05);
  adjust::Block block = make_block(options).block;
  block.surveyed[3].surveyed.z() += 0.2;  // one that pulls hard
  adjust::AdjustOptions keep_all;         // a ray that changes sides would be worth some tenths of a millimetre
  keep_all.reject_sigmas = 1e3;
  Progress progress;
  const adjust::AdjustResult all = adjust::adjust(block, keep_all, progress);
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    if (block.surveyed[i].role != adjust::Role::control) continue;
    adjust::Block without = block;
    without.surveyed[i].role = adjust::Role::check;
    const adjust::AdjustResult again = adjust::adjust(without, keep_all, progress);
    const adjust::LeftOut& left = all.surveyed[i].left_out;
    REQUIRE(left.available);
    CHECK(left.rays == again.surveyed[i].rays);
    // To first order: corrections of a tenth of a metre over 68 m bend their own squares by some tenths of a
    // millimetre.
    CHECK((left.X - again.surveyed[i].X).norm() < 1e-3);
    for (int a = 0; a < 3; ++a)
      CHECK_THAT(std::sqrt(left.covariance(a, a)), WithinRel(std::sqrt(again.surveyed[i].covariance(a, a)), 0.02));
  }
}

TEST_CASE("Without the third control point nothing holds the block: it cannot be left out") {
  MadeUpOptions options;
  options.noise_px = 0.4, options.control = 3;
  adjust::Block block = make_block(options).block;
  for (adjust::Station& s : block.stations) s.position.setConstant(mesograph::nan);
  const adjust::AdjustResult result = adjusted(block);
  for (int i = 0; i < 3; ++i) CHECK(!result.surveyed[static_cast<std::size_t>(i)].left_out.available);
}

TEST_CASE("What an undetected error does to its point is what it does when it is put in") {
  adjust::Block block = small_block(8);
  const adjust::AdjustResult before = adjusted(block);
  const adjust::Tested& height = before.surveyed[1].coordinates[2];
  const adjust::Tested& x = before.surveyed[2].sightings[0][0];
  adjust::Block high = block, wide = block;
  high.surveyed[1].surveyed.z() += height.detectable;
  wide.surveyed[2].point.rays[0].x.x() += x.detectable;
  Progress progress;
  adjust::solve(high, {}, {}, progress);
  adjust::solve(wide, {}, {}, progress);
  // Errors of a few sigma bend the block little: per cents of second order.
  CHECK_THAT(high.surveyed[1].point.X.z() - block.surveyed[1].point.X.z(), WithinRel(height.effect, 0.03));
  CHECK_THAT((wide.surveyed[2].point.X - block.surveyed[2].point.X).norm(), WithinRel(x.effect, 0.03));
}

TEST_CASE("A check's errors are tested by their predicted covariance") {
  double sum = 0;
  int n = 0;
  for (std::uint64_t seed = 1; seed <= 12; ++seed) {
    MadeUpOptions options;
    options.noise_px = 0.5, options.checks = 10, options.seed = 300 + seed;
    adjust::Block block = make_block(options).block;
    const adjust::AdjustResult result = adjusted(block);
    for (std::size_t i = 0; i < block.surveyed.size(); ++i)
      if (block.surveyed[i].role == adjust::Role::check)
        sum += result.surveyed[i].together, n += result.surveyed[i].together_of;
  }
  REQUIRE(n == 360);
  // A chi-square of 360 has a relative sigma of 0.075; checks of one block hang together, which widens it.
  CHECK_THAT(sum / n, WithinAbs(1.0, 0.3));
}

TEST_CASE("Lever arm, drift and boresight are taken out of what was observed on board") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.strips = 4, options.per_strip = 6;
  const MadeUpBlock truth = make_block(options);
  adjust::Block block = truth.block;
  adjust::Sortie& sortie = block.sorties[0];
  Random random(77);
  sortie.lever_arm = {0.1, 0.05, 0.4};
  sortie.drifts = true, sortie.sigma_drift[0] = sortie.sigma_drift[1] = 0.02;
  sortie.sigma_photo[0] = sortie.sigma_photo[1] = 0.03;
  const Eigen::Vector3d rate(0.01, -0.006, 0.008), boresight(0.02, -0.01, 0.03), offset(1.0, -0.7, 2.0);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    adjust::Station& s = block.stations[i];
    s.time = 3.0 * (static_cast<double>(i) - 11.5);
    const auto noise = [&](double size) {
      return Eigen::Vector3d(random.normal(size), random.normal(size), random.normal(size));
    };
    s.position = s.C + s.R * sortie.lever_arm + offset + s.time * rate + noise(0.03);
    s.attitude = s.R * camera::rotation_by(boresight) * camera::rotation_by(noise(0.001));
    s.sigma_attitude = 0.001;
  }
  const adjust::AdjustResult result = adjusted(block);
  const auto near = [&](const Eigen::Vector3d& found, const Eigen::Vector3d& wanted, int column) {
    for (int a = 0; a < 3; ++a)  // four sigma of what is predicted of each
      CHECK(std::abs(found[a] - wanted[a]) < 4 * std::sqrt(result.inverse(column + a, column + a)));
  };
  near(sortie.offset, offset, result.layout.sortie[0]);
  near(sortie.drift, rate, result.layout.drift[0]);
  near(sortie.boresight, boresight, result.layout.boresight[0]);
  CHECK(std::sqrt(result.inverse(result.layout.drift[0], result.layout.drift[0])) < 0.001);
}

TEST_CASE("Sigmas of ties and sightings are estimated where that is asked for") {
  MadeUpOptions options;
  options.noise_px = 0.2, options.control = 10, options.points = 400;
  adjust::Block block = make_block(options).block;
  for (adjust::GroundPoint& p : block.points)
    for (adjust::Ray& r : p.rays) r.sigma = 0.5;
  for (adjust::SurveyedPoint& p : block.surveyed)
    for (adjust::Ray& r : p.point.rays) r.sigma = 0.1;
  adjust::Block given = block;
  CHECK(adjusted(given).groups[0].scale == 1.0);
  adjust::AdjustOptions asked;
  asked.weights = adjust::Weights::estimate;
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, asked, progress);
  for (const adjust::Group& g : result.groups) {
    // 0.2 px were drawn; of some hundred sightings a sigma is known to 5 %, of some thousand ties better.
    if (word_of(g.of) == "ties") CHECK_THAT(g.scale, WithinRel(0.4, 0.03));
    if (word_of(g.of) == "sightings") CHECK_THAT(g.scale, WithinRel(2.0, 0.2));
    if (word_of(g.of) == "ties" || word_of(g.of) == "sightings")  // What lies within its own uncertainty is left alone.
      CHECK_THAT(g.sigma0, WithinAbs(1.0, std::max(0.011, 0.5 * std::sqrt(0.5 / g.redundancy))));
    if (word_of(g.of) == "control plan") CHECK(g.scale == 1.0);
  }
}

TEST_CASE("A target where it was advised lowers the largest sigma to what was foretold") {
  MadeUpOptions options;
  options.noise_px = 0.4, options.control = 3, options.checks = 0, options.strips = 4, options.per_strip = 5;
  adjust::Block block = make_block(options).block;
  adjusted(block);
  const adjust::Scope scope;
  std::vector<Eigen::Vector3d> places;
  for (int x = -40; x <= 40; x += 10)
    for (int y = -40; y <= 40; y += 10) places.emplace_back(x, y, rolling_ground(x, y));
  adjust::AdviseOptions asked;
  asked.n = 2, asked.sighting_px = 0.4, asked.tie_px = 0.4;
  const adjust::Uncertainty before = adjust::uncertainty_of(block, scope);
  const auto advice = adjust::advise(block, before, places, asked);
  REQUIRE(advice.size() == 2);
  CHECK(advice[1].before == advice[0].after);
  CHECK(advice[0].after < advice[0].before);
  // Asked for many, it names those that are worth it, apart from each other: an eighth of 80 m, 2 % each.
  asked.n = 40;
  const auto many = adjust::advise(block, before, places, asked);
  CHECK((many.size() >= 2 && many.size() < 40));
  for (std::size_t i = 0; i < many.size(); ++i) {
    CHECK(many[i].after <= 0.98 * many[i].before);
    for (std::size_t j = 0; j < i; ++j) CHECK((places[many[i].place] - places[many[j].place]).head<2>().norm() >= 10);
  }
  // Put it there: eight rays into the photos that show it, and coordinates as the advice supposes.
  const auto largest = [&](const adjust::Block& of) {
    double most = 0;
    for (const adjust::GroundPlace& p : adjust::ground_accuracy(of, adjust::uncertainty_of(of, scope), places, 0.4))
      if (p.photos >= asked.least_photos) most = std::max(most, std::sqrt(p.of_block(2, 2)));
    return most;
  };
  CHECK_THAT(largest(block), WithinRel(advice[0].before, 1e-3));
  double best = 1e9;
  for (const Eigen::Vector3d& X : places) {  // and no other place of those does better
    adjust::SurveyedPoint p;
    p.id = "new";
    p.surveyed = p.point.X = X;
    p.sigma << 0.02, 0.02, 0.03;
    std::vector<std::pair<double, adjust::Ray>> seen;
    for (std::size_t s = 0; s < block.stations.size(); ++s) {
      const adjust::Station& station = block.stations[s];
      const auto x = camera::project(block.cameras[0], station.R.transpose() * (X - station.C));
      if (x && camera::inside(block.cameras[0], *x))
        seen.emplace_back((X - station.C).norm(), adjust::Ray{static_cast<int>(s), *x, 0.4, true});
    }
    if (seen.size() < 4) continue;
    std::sort(seen.begin(), seen.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    const std::size_t few = std::min<std::size_t>(8, seen.size());
    for (std::size_t k = 0; k < few; ++k) p.point.rays.push_back(seen[k * (seen.size() - 1) / (few - 1)].second);
    adjust::Block with = block;
    with.surveyed.push_back(p);
    const double left = largest(with);
    best = std::min(best, left);
    if (X == places[advice[0].place]) CHECK_THAT(left, WithinRel(advice[0].after, 0.01));
  }
  CHECK_THAT(best, WithinRel(advice[0].after, 0.01));
}

TEST_CASE("A tilt and a bowl in errors are found with their size, and noise is called neither") {
  Random random(5);
  std::vector<Eigen::Vector3d> places;
  std::vector<double> noise, bent, sigmas;
  for (int i = 0; i < 40; ++i) {
    const double x = random.uniform(-100, 100), y = random.uniform(-100, 100);
    places.emplace_back(1000 + x, 500 + y, 0);
    noise.push_back(random.normal(0.01)), sigmas.push_back(0.01);
    bent.push_back(noise.back() + 0.0004 * x + 8e-6 * (x * x + y * y));
  }
  const auto quiet = adjust::judge_trend(places, noise, sigmas), loud = adjust::judge_trend(places, bent, sigmas);
  REQUIRE((quiet && loud));
  CHECK(quiet->tilt_w < 4);
  CHECK(std::abs(quiet->bowl_w) < 3.3);
  CHECK(loud->tilt_w > 5);
  CHECK(loud->bowl_w > 5);
  double reach2 = 0;
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  for (const Eigen::Vector3d& p : places) middle += p / 40.0;
  for (const Eigen::Vector3d& p : places) reach2 = std::max(reach2, (p - middle).squaredNorm());
  CHECK_THAT(loud->bowl, WithinAbs(8e-6 * reach2, 0.02));  // sigma of the fit: about 7 mm
  CHECK(!adjust::judge_trend({places.begin(), places.begin() + 5}, noise, sigmas));
}

TEST_CASE("The limit for many tests is that of the normal distribution's table") {
  // Quantiles of 1 - 0.025 / n, from another program's inverse of the normal distribution.
  CHECK(adjust::critical_among(1) == adjust::critical_w);
  CHECK_THAT(adjust::critical_among(100), WithinAbs(3.48075640, 1e-6));
  CHECK_THAT(adjust::critical_among(2000), WithinAbs(4.21479967, 1e-6));
}

TEST_CASE("Any column of the inverse is the dense one's, and what the pattern holds is known") {
  const adjust::Block block = small_block(6);
  adjust::NormalEquations equations(block, {});
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  const Eigen::MatrixXd inverse = Eigen::MatrixXd(Eigen::MatrixXd(S).selfadjointView<Eigen::Lower>()).inverse();
  const adjust::Covariance covariance(S);
  const int last = covariance.size() - 1;
  Eigen::MatrixXd two = Eigen::MatrixXd::Zero(covariance.size(), 2);
  two(0, 0) = 1, two(last, 1) = 1;
  const Eigen::MatrixXd columns = covariance.times(two);
  const auto scale = [&](int i, int j) { return std::sqrt(inverse(i, i) * inverse(j, j)); };
  for (int i = 0; i <= last; ++i) {  // both are of the same matrix: roundings, times its condition
    CHECK(std::abs(columns(i, 0) - inverse(i, 0)) < 1e-7 * scale(i, 0));
    CHECK(std::abs(columns(i, 1) - inverse(i, last)) < 1e-7 * scale(i, last));
    CHECK(covariance.holds(i, last));  // the border is full
  }
}

TEST_CASE("A stated position counts with its own sigma, else with its sortie's") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.position_sigma = 0.5;
  adjust::Block block = make_block(options).block;
  block.stations[2].position.x() += 3.0;
  block.sorties[0].sigma_photo[0] = block.sorties[0].sigma_photo[1] = 0.5;
  adjust::Block doubted = block;
  doubted.stations[2].sigma_position[0] = doubted.stations[2].sigma_position[1] = 50;
  const auto accused = [](const adjust::AdjustResult& result) {
    return std::any_of(result.suspects.begin(), result.suspects.end(), [](const adjust::Suspect& s) {
      return s.kind == adjust::Observed::position && s.station == 2 && s.component == adjust::Component::east;
    });
  };
  const adjust::AdjustResult strict = adjusted(block), lenient = adjusted(doubted);
  CHECK(accused(strict));
  CHECK_THAT(strict.suspects[0].size, WithinAbs(3.0, 1.8));  // its own 0.5 m and the offset that it pulls: 3.3 sigma
  CHECK_FALSE(accused(lenient));
  CHECK(lenient.positions[2][0].detectable > 100);
}

TEST_CASE("An adjusted block is at rest in what only weak priors determine, too") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.position_sigma = 0.002, options.control = 3;
  adjust::Block block = make_block(options).block;
  adjust::Sortie& sortie = block.sorties[0];
  sortie.sigma_photo[0] = sortie.sigma_photo[1] = 0.002;  // rays and positions weigh millions; the offset's prior, 3 m
  sortie.offset = {0.5, -0.3, 0.8};                       // nothing; it starts far from its minimum
  for (adjust::SurveyedPoint& p : block.surveyed) p.role = adjust::Role::off;
  const adjust::AdjustResult result = adjusted(block);
  adjust::NormalEquations equations(block, {});
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  const Eigen::VectorXd left = result.inverse.times(s);  // the undamped step that would still be taken
  for (int i = 0; i < left.size(); ++i) CHECK(std::abs(left[i]) < 1e-3 * std::sqrt(result.inverse(i, i)));
  CHECK(sortie.offset.norm() < 0.002);  // its prior is nought, and the positions' noise is for the stations to take
}

TEST_CASE("The covariance of a difference is that of the whole inverse, whatever both points share") {
  adjust::Block block = small_block(12);
  block.scale_bars = {{"B", 0, 1, (block.surveyed[0].surveyed - block.surveyed[1].surveyed).norm(), 0.002}};
  block.surveyed[3].sigma.setConstant(mesograph::nan);  // a point that people measured and nobody surveyed
  block.surveyed[3].natural = true;
  adjust::AdjustOptions options;
  options.reject_sigmas = 1e3, options.min_ray_angle_deg = 0.01;
  Progress progress;
  adjust::adjust(block, options, progress);
  const adjust::Uncertainty uncertainty = adjust::uncertainty_of(block, {});
  const Plain plain(block, {});
  const Eigen::MatrixXd J = plain.jacobian(), Q = (J.transpose() * J).inverse();
  const Eigen::Index first = plain.columns() + 3 * static_cast<Eigen::Index>(block.points.size());
  const auto of = [&](int i, int j) -> Eigen::Matrix3d { return Q.block<3, 3>(first + 3 * i, first + 3 * j); };
  for (const auto& [a, b] : {std::pair(0, 1), {1, 2}, {2, 3}, {3, 0}}) {
    const Eigen::Matrix3d expected = of(a, a) + of(b, b) - of(a, b) - of(b, a);
    const Eigen::Matrix3d C = adjust::difference_covariance(block, uncertainty, a, b);
    // Differences of 1e-6 in the twin and designs in single precision leave three digits.
    CHECK((C - expected).norm() < 2e-3 * expected.norm());
  }
  CHECK((adjust::difference_covariance(block, uncertainty, 2, -1) - of(2, 2)).norm() < 2e-3 * of(2, 2).norm());
  block.surveyed[2].point.X.setConstant(mesograph::nan);
  CHECK_FALSE(adjust::difference_covariance(block, uncertainty, 1, 2).allFinite());
}

TEST_CASE("A scale bar makes what is predicted of points better, wherever the block comes from") {
  MadeUpOptions options;
  options.noise_px = 0.4, options.control = 4, options.control_sigma = 0.5;
  adjust::Block block = make_block(options).block;
  for (adjust::Station& s : block.stations) s.position.setConstant(mesograph::nan);
  const auto sigma_of_length = [&] {
    const adjust::Uncertainty u = adjust::uncertainty_of(block, {});
    const Eigen::Vector3d d = (block.surveyed[3].point.X - block.surveyed[2].point.X).normalized();
    return std::sqrt(d.dot(adjust::difference_covariance(block, u, 2, 3) * d));
  };
  const double without = sigma_of_length();
  block.scale_bars = {{"B", 0, 1, (block.surveyed[0].point.X - block.surveyed[1].point.X).norm(), 0.001}};
  CHECK(sigma_of_length() < 0.3 * without);
}
