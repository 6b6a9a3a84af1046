#include <tbb/global_control.h>
#include <Eigen/Cholesky>
#include <catch2/catch.hpp>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/weakness.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/camera/rotation.hpp>

#include "made_up_block.hpp"
#include "plain_adjustment.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;
using Catch::Matchers::WithinAbs;

TEST_CASE("One step with eliminated points is the step of the whole normal equations") {
  const auto make = GENERATE(0, 1, 2);
  adjust::Block block = make == 0 ? small_block(3) : make == 1 ? flown_block(3) : rolling_block(3);
  adjust::Scope scope;
  const Plain plain(block, scope);
  const Eigen::MatrixXd J = plain.jacobian();
  const Eigen::VectorXd expected =
      -(J.transpose() * J).ldlt().solve(J.transpose() * plain.residuals(Eigen::VectorXd::Zero(plain.size())));
  adjust::NormalEquations equations(block, scope);
  REQUIRE(equations.layout().columns == plain.columns());
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  const Eigen::MatrixXd full = Eigen::MatrixXd(S).selfadjointView<Eigen::Lower>();
  const Eigen::VectorXd d = full.ldlt().solve(s);
  // The Jacobian's differences are good to 1e-8 of its largest entries; conditioning of c against height costs three
  // digits.
  const Eigen::VectorXd scale = full.diagonal().cwiseSqrt();
  CHECK((scale.asDiagonal() * (d - expected.head(plain.columns()))).norm() < 1e-4 * (scale.asDiagonal() * d).norm());
  SECTION("and so are the points that follow from it") {
    const adjust::Block twin = plain.moved(expected);
    equations.apply(d, block);
    double most = 0;
    for (std::size_t i = 0; i < block.points.size(); ++i)
      most = std::max(most, (block.points[i].X - twin.points[i].X).norm());
    CHECK(most < 1e-5);  // m; steps are of some centimetres, the differences of 1e-4 of them
  }
  SECTION("and the cost is the sum of squares") {
    const double squares = plain.residuals(Eigen::VectorXd::Zero(plain.size())).squaredNorm();
    CHECK_THAT(equations.cost(plain.start), WithinAbs(squares, 1e-6));
    CHECK_THAT(equations.build(plain.start), WithinAbs(squares, 1e-6));
  }
  SECTION("and the fall of the cost that is foretold is that of the whole system, linear as it is") {
    const Eigen::VectorXd v = plain.residuals(Eigen::VectorXd::Zero(plain.size()));
    const double foretold = v.squaredNorm() - (v + J * expected).squaredNorm();
    CHECK_THAT(equations.fall_expected(s, d), Catch::Matchers::WithinRel(foretold, 1e-4));
  }
}

TEST_CASE("The reduced matrix is the Schur complement, whose inverse is the covariance") {
  const adjust::Block block = small_block(4);
  adjust::Scope scope;
  const Plain plain(block, scope);
  const Eigen::MatrixXd J = plain.jacobian();
  const Eigen::MatrixXd whole = (J.transpose() * J).ldlt().solve(Eigen::MatrixXd::Identity(plain.size(), plain.size()));
  adjust::NormalEquations equations(block, scope);
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  const Eigen::MatrixXd full = Eigen::MatrixXd(S).selfadjointView<Eigen::Lower>();
  const Eigen::MatrixXd inverse = full.ldlt().solve(Eigen::MatrixXd::Identity(full.rows(), full.cols()));
  const adjust::Covariance covariance(S);
  REQUIRE(covariance.size() == inverse.rows());
  for (int i = 0; i < covariance.size(); ++i) {
    CHECK(std::abs(std::sqrt(covariance(i, i) / whole(i, i)) - 1) < 1e-3);  // differences again, see above
    for (int j = 0; j < i; ++j)  // the dense inverse of the same matrix: roundings alone
      if (S.coeff(i, j) != 0)
        CHECK(std::abs(covariance(j, i) - inverse(i, j)) < 1e-8 * std::sqrt(whole(i, i) * whole(j, j)));
  }
}

TEST_CASE("Ends of scale bars are adjusted with all others, as in the whole normal equations") {
  adjust::Block block = GENERATE(false, true) ? rolling_block(11) : small_block(11);
  block.surveyed[1].sigma.setConstant(mesograph::nan);  // an end without coordinates
  block.scale_bars = {{"bar", 0, 1, (block.surveyed[0].point.X - block.surveyed[1].point.X).norm() + 0.03, 0.004}};
  adjust::Scope scope;
  const Plain plain(block, scope);
  const Eigen::MatrixXd J = plain.jacobian();
  const Eigen::MatrixXd inverse = (J.transpose() * J).inverse();
  const Eigen::VectorXd expected = -inverse * J.transpose() * plain.residuals(Eigen::VectorXd::Zero(plain.size()));
  adjust::NormalEquations equations(block, scope);
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  REQUIRE(S.cols() == plain.columns() + 6);
  const adjust::Covariance covariance(S);
  const Eigen::Index ends = plain.size() - 3 * static_cast<Eigen::Index>(block.surveyed.size());
  for (int i = 0; i < 2; ++i)
    for (int a = 0; a < 3; ++a) {
      const int column = equations.layout().end[static_cast<std::size_t>(i)] + a;
      const double want = std::sqrt(inverse(ends + 3 * i + a, ends + 3 * i + a));
      // Designs are in single precision: 1e-7 of them, times the condition of an intersection.
      CHECK_THAT(std::sqrt(covariance(column, column)), Catch::WithinRel(want, 1e-4));
    }
  const adjust::Block twin = plain.moved(expected);
  const Eigen::MatrixXd full = Eigen::MatrixXd(S).selfadjointView<Eigen::Lower>();
  adjust::Block own = block;
  equations.apply(full.ldlt().solve(s), own);
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    CHECK((own.surveyed[i].point.X - twin.surveyed[i].point.X).norm() < 1e-5);
  for (std::size_t i = 0; i < block.stations.size(); ++i) CHECK((own.stations[i].C - twin.stations[i].C).norm() < 1e-5);
  for (std::size_t i = 0; i < block.points.size(); ++i) CHECK((own.points[i].X - twin.points[i].X).norm() < 1e-5);
}

TEST_CASE("A scale bar gives the block its scale, and says how sure it is; a false one is named") {
  Progress quiet;
  double squares = 0, blind = 0, scaled = 0;
  for (std::uint64_t seed = 1; seed <= 12; ++seed) {
    MadeUpOptions options;
    options.noise_px = 0.3, options.position_sigma = 0.3, options.control = 4, options.checks = 0, options.seed = seed;
    adjust::Block block = make_block(options).block;
    for (adjust::SurveyedPoint& p : block.surveyed) p.sigma.setConstant(mesograph::nan), p.natural = true;
    // Positions of a frame that is half a percent too long: they know no better, and sigma says 3 m.
    for (adjust::Station& s : block.stations) s.position *= 1.005;
    const auto distance = [&](const adjust::Block& b, int i, int j) {
      return (b.surveyed[i].point.X - b.surveyed[j].point.X).norm();
    };
    // The bar between the two farthest apart, judged by the distance of the other two.
    std::size_t far = 1;
    for (std::size_t i = 2; i < 4; ++i)
      if (distance(block, 0, static_cast<int>(i)) > distance(block, 0, static_cast<int>(far))) far = i;
    std::swap(block.surveyed[1], block.surveyed[far]);
    Random random(seed);
    const double sigma = 0.002, true_bar = distance(block, 0, 1), true_other = distance(block, 2, 3);
    block.scale_bars = {{"bar", 0, 1, true_bar + random.normal(sigma), sigma}};
    adjust::AdjustOptions how;
    how.scope.free.fill(false);
    adjust::Block without = block;
    without.scale_bars.clear();
    (void)adjust::adjust(without, how, quiet);
    const adjust::AdjustResult result = adjust::adjust(block, how, quiet);
    REQUIRE(result.scale_bars.size() == 1);
    REQUIRE(result.scale_bars[0].used);
    INFO("seed " << seed << ": " << distance(without, 2, 3) - true_other << " m without, "
                 << distance(block, 2, 3) - true_other << " m with");
    // The ends are intersected to one or two centimetres, which the bar hands on as often as it fits into a distance.
    CHECK(std::abs(distance(block, 2, 3) - true_other) < 0.04 + 0.04 * true_other / true_bar);
    blind += std::pow(distance(without, 2, 3) / true_other - 1, 2);
    scaled += std::pow(distance(block, 2, 3) / true_other - 1, 2);
    CHECK_THAT(result.scale_bars[0].length, WithinAbs(true_bar, 4 * sigma));
    // Positions of metres hold the scale far less than the bar, so its own redundancy is small, and the sum holds.
    CHECK(result.scale_bars[0].test.redundancy < 0.2);
    CHECK(result.redundancy == result.observations - result.unknowns);
    squares += std::pow(result.scale_bars[0].length - true_bar, 2);
  }
  INFO("scale off by " << std::sqrt(blind / 12) << " without, " << std::sqrt(scaled / 12) << " with the bar");
  CHECK(std::sqrt(blind / 12) > 0.005);
  CHECK(scaled < 0.1 * blind);
  // 12 draws of the bar's own error: its sigma times chi / sqrt(12), 99.9 % within 0.4 to 1.75.
  CHECK(std::sqrt(squares / 12) < 0.002 * 1.75);
  CHECK(std::sqrt(squares / 12) > 0.002 * 0.4);
  MadeUpOptions options;
  options.noise_px = 0.3, options.checks = 0;
  adjust::Block block = make_block(options).block;
  block.scale_bars = {{"false", 0, 1, (block.surveyed[0].surveyed - block.surveyed[1].surveyed).norm() + 0.25, 0.005}};
  const adjust::AdjustResult result = adjust::adjust(block, {}, quiet);
  const auto named = std::find_if(result.suspects.begin(), result.suspects.end(),
                                  [](const adjust::Suspect& s) { return s.kind == adjust::Observed::scale_bar; });
  REQUIRE(named != result.suspects.end());
  CHECK(named->id == "false");
  CHECK_THAT(named->size, WithinAbs(0.25, 0.1));
}

TEST_CASE("From disturbed values the truth comes back, with a camera that was 1 % off and had no distortion") {
  MadeUpBlock truth = make_block();
  adjust::Block block = truth.block;
  disturb(block, 5, 0.5, 0.005);
  {
    Progress progress;
    const adjust::AdjustResult result = adjust::adjust(block, {}, progress);
    CHECK(result.status == adjust::SolveStatus::converged);
    CHECK(result.reprojection_rms_px < 1e-3);
    CHECK(result.rejected_share == 0.0);
    CHECK(result.suspects.empty());
  }
  double most = 0;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    most = std::max(most, (block.stations[i].C - truth.block.stations[i].C).norm());
  // Exact observations; the camera's priors pull from c 1 % off by their own small weight.
  CHECK(most < 0.01);
  CHECK(std::abs(block.cameras[0].interior[camera::c] - 1100) < 0.1);
}

TEST_CASE("From far away steps are undone until they lead down, and the minimum is the one that is reached from near") {
  MadeUpOptions options;
  options.noise_px = 0.4;
  const MadeUpBlock made = make_block(options);
  adjust::Block near = made.block, far = made.block;
  disturb(near, 3, 0.05, 1e-4);
  disturb(far, 4, 8.0, 0.12);
  Progress progress;
  adjust::SolveOptions patient;
  patient.cost_tolerance = 1e-10;
  const adjust::SolveResult from_near = adjust::solve(near, {}, patient, progress);
  const double start = adjust::NormalEquations(far, {}).cost(far);
  const adjust::SolveResult from_far = adjust::solve(far, {}, patient, progress);
  REQUIRE(from_near.status == adjust::SolveStatus::converged);
  REQUIRE(from_far.status == adjust::SolveStatus::converged);
  // The linear model foretells every fall from near by, so that nothing is damped: Newton's four or five steps.
  CHECK(from_near.iterations <= 6);
  CHECK(from_far.iterations > from_near.iterations);
  CHECK(start > 1e3 * from_near.cost);
  CHECK(from_far.cost == Approx(from_near.cost).epsilon(1e-8));
  CHECK(from_far.cost ==
        Approx(adjust::NormalEquations(far, {}).cost(far)).epsilon(1e-9));  // what it says is what stands
  for (std::size_t i = 0; i < near.stations.size(); ++i)
    CHECK((near.stations[i].C - far.stations[i].C).norm() < 1e-3);  // m; at rest to 1e-10 of the cost
}

TEST_CASE("Exact observations are at rest at once") {
  adjust::Block block = make_block().block;
  Progress progress;
  const adjust::SolveResult result = adjust::solve(block, {}, {}, progress);
  CHECK(result.status == adjust::SolveStatus::converged);
  CHECK(result.iterations <= 4);
  CHECK(result.cost < 1e-9);
  for (const adjust::Station& s : block.stations) CHECK(s.C.allFinite());
}

TEST_CASE("Wrong ties are rejected and right ones kept") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.points = 400;
  MadeUpBlock truth = make_block(options);
  Random random(7);
  std::size_t spoiled = 0, rays = 0;
  std::vector<std::pair<std::size_t, std::size_t>> wrong;
  for (std::size_t p = 0; p < truth.block.points.size(); ++p)
    for (std::size_t r = 0; r < truth.block.points[p].rays.size(); ++r, ++rays)
      if (truth.block.points[p].rays.size() >= 4 && random.uniform(0, 1) < 0.04) {
        truth.block.points[p].rays[r].x += Eigen::Vector2d(random.uniform(15, 60), random.uniform(-40, 40));
        wrong.emplace_back(p, r);
        ++spoiled;
      }
  REQUIRE(spoiled > 30);
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(truth.block, {}, progress);
  int still = 0;
  for (const auto& [p, r] : wrong) still += truth.block.points[p].rays[r].accepted;
  CHECK(still == 0);
  const double share = static_cast<double>(spoiled) / static_cast<double>(rays);
  CHECK(result.rejected_share >= share - 1e-9);
  CHECK(result.rejected_share <
        share + 0.01);  // of normal errors 4 in 100,000 lie outside; points reduced to one ray go too
}

TEST_CASE("sigma0 and the checks' errors are what their statistics say, over many blocks") {
  // 24 blocks of normal errors: sigma0^2 times the redundancy is chi-square; errors of checks over their predicted
  // standard deviation are standard normal.
  constexpr int blocks = 24;
  double chi2 = 0, redundancy = 0, squares = 0;
  std::map<std::string, std::pair<double, double>> group_chi2;
  int errors = 0;
  for (int b = 0; b < blocks; ++b) {
    MadeUpOptions options;
    options.noise_px = 0.5, options.points = 120, options.position_sigma = 3.0,
    options.seed = 100 + static_cast<std::uint64_t>(b);
    Random drawn(options.seed + 2);
    options.offset = {drawn.normal(3), drawn.normal(3), drawn.normal(5)};  // as its prior supposes
    MadeUpBlock made = make_block(options);
    made.block.sorties[0].sigma_photo[1] = 3.0;
    // The camera's truth is drawn about its prior, as the statistics suppose.
    Random random(options.seed + 1);
    for (std::size_t k = 0; k < camera::parameter_count; ++k)
      made.block.priors[0].value[static_cast<Eigen::Index>(k)] +=
          made.block.priors[0].sigma[static_cast<Eigen::Index>(k)] * random.normal(1);
    adjust::AdjustOptions adjusting;
    adjusting.reject_sigmas = 12;  // nothing is wrong here; cutting the tail would bias sigma0
    Progress progress;
    const adjust::AdjustResult result = adjust::adjust(made.block, adjusting, progress);
    chi2 += result.sigma0 * result.sigma0 * result.redundancy;
    redundancy += result.redundancy;
    double parts = 0;
    for (const adjust::Group& g : result.groups) {
      parts += g.redundancy;
      group_chi2[word_of(g.of)].first += g.sigma0 * g.sigma0 * g.redundancy;
      group_chi2[word_of(g.of)].second += g.redundancy;
    }
    CHECK_THAT(parts, WithinAbs(result.redundancy, 1e-6));
    for (std::size_t i = 0; i < made.block.surveyed.size(); ++i) {
      const adjust::SurveyedPoint& p = made.block.surveyed[i];
      if (p.role != adjust::Role::check) continue;
      for (int a = 0; a < 3; ++a) {
        const double variance = result.surveyed[i].covariance(a, a) + options.control_sigma * options.control_sigma;
        squares += std::pow(result.surveyed[i].X[a] - p.surveyed[a], 2) / variance;
        ++errors;
      }
    }
  }
  // 99.9 % bounds of chi2 / n: 1 +- 3.3 sqrt(2 / n). Errors of one block hang together, so theirs is doubled.
  INFO("sigma0^2 " << chi2 / redundancy << ", normalised check errors " << squares / errors << " of " << errors);
  CHECK(std::abs(chi2 / redundancy - 1) < 3.3 * std::sqrt(2 / redundancy));
  for (const auto& [name, sums] : group_chi2) {
    // Each group for itself, too: a wrong redundancy number would show here.
    INFO(name << ": " << sums.first / sums.second << " of redundancy " << sums.second);
    CHECK(std::abs(sums.first / sums.second - 1) < 3.3 * std::sqrt(2 / sums.second));
  }
  CHECK(std::abs(squares / errors - 1) < 2 * 3.3 * std::sqrt(2.0 / errors));
}

TEST_CASE("A check takes no part in anything") {
  MadeUpOptions options;
  options.noise_px = 0.4;
  adjust::Block one = make_block(options).block, two = one;
  for (adjust::SurveyedPoint& p : two.surveyed) {
    if (p.role != adjust::Role::check) continue;
    p.surveyed += Eigen::Vector3d(5, -7, 11);
    for (adjust::Ray& r : p.point.rays) r.x += Eigen::Vector2d(30, 10);
  }
  Progress progress;
  const adjust::AdjustResult first = adjust::adjust(one, {}, progress), second = adjust::adjust(two, {}, progress);
  CHECK(first.sigma0 == second.sigma0);
  CHECK(first.observations == second.observations);
  for (std::size_t i = 0; i < one.stations.size(); ++i) CHECK(one.stations[i].C == two.stations[i].C);
}

TEST_CASE("A control point with a false height is named with its size") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.control = 9;
  adjust::Block block = make_block(options).block;
  block.surveyed[4].surveyed.z() += 0.5;
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, {}, progress);
  REQUIRE(!result.suspects.empty());
  const auto worst = std::max_element(result.suspects.begin(), result.suspects.end(),
                                      [](const auto& a, const auto& b) { return std::abs(a.w) < std::abs(b.w); });
  CHECK(worst->kind == adjust::Observed::control);
  CHECK(worst->id == block.surveyed[4].id);
  CHECK(worst->component == adjust::Component::height);
  CHECK_THAT(worst->size, WithinAbs(0.5, 0.12));  // its own sigma of 2 cm and the neighbours' share
}

TEST_CASE("A sighting that is ten pixels off is named") {
  MadeUpOptions options;
  options.noise_px = 0.3;
  adjust::Block block = make_block(options).block;
  block.surveyed[2].point.rays[1].x.x() += 10;
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, {}, progress);
  const auto worst = std::max_element(result.suspects.begin(), result.suspects.end(),
                                      [](const auto& a, const auto& b) { return std::abs(a.w) < std::abs(b.w); });
  REQUIRE(worst != result.suspects.end());
  CHECK(worst->kind == adjust::Observed::sighting);
  CHECK(worst->id == block.surveyed[2].id);
  CHECK(worst->station == block.surveyed[2].point.rays[1].station);
  CHECK_THAT(worst->size, WithinAbs(10, 2));
}

TEST_CASE("A common offset of the positions is found and does not bend the block") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.position_sigma = 1.0, options.offset = {2.0, -1.5, 4.0};
  MadeUpBlock truth = make_block(options);
  adjust::Block block = truth.block;
  Progress progress;
  adjust::adjust(block, {}, progress);
  // 12 positions of 1 m, seen with sigmas of 3 and 5 m, against a prior of 3 and 5 m: the mean is known to 0.3 m and
  // the prior takes a thirteenth.
  CHECK((block.sorties[0].offset - options.offset).norm() < 1.5);
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    CHECK((block.stations[i].C - truth.block.stations[i].C).norm() < 0.5);
}

TEST_CASE("The number of threads changes no bit") {
  MadeUpOptions options;
  options.noise_px = 0.4, options.points = 1500, options.readout = GENERATE(0.0, 0.05);
  std::vector<adjust::Block> blocks;
  for (const std::size_t threads : {1u, 2u, 3u, 7u}) {
    const tbb::global_control limit(tbb::global_control::max_allowed_parallelism, threads);
    blocks.push_back(make_block(options).block);
    disturb(blocks.back(), 9, 0.1, 0.001);
    Progress progress;
    adjust::adjust(blocks.back(), {}, progress);
    for (std::size_t i = 0; i < blocks[0].points.size(); ++i)
      REQUIRE(blocks.back().points[i].X == blocks[0].points[i].X);
    REQUIRE(blocks.back().cameras[0].interior == blocks[0].cameras[0].interior);
  }
}

TEST_CASE("Turning and shifting a survey turns and shifts its result") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.readout = GENERATE(0.0, 0.05);
  adjust::Block block = make_block(options).block, turned = block;
  const Eigen::Matrix3d T = Eigen::AngleAxisd(0.7, Eigen::Vector3d::UnitZ()).toRotationMatrix();
  const Eigen::Vector3d t(120, -80, 30);
  for (adjust::Station& s : turned.stations)
    s.C = T * s.C + t, s.R = T * s.R, s.position = T * s.position + t, s.velocity = T * s.velocity;
  for (adjust::GroundPoint& p : turned.points) p.X = T * p.X + t;
  for (adjust::SurveyedPoint& p : turned.surveyed) p.surveyed = T * p.surveyed + t, p.point.X = T * p.point.X + t;
  Progress progress;
  const adjust::AdjustResult first = adjust::adjust(block, {}, progress), second = adjust::adjust(turned, {}, progress);
  CHECK_THAT(second.sigma0, WithinAbs(first.sigma0, 1e-6));
  // Both come to rest where the cost falls by less than 1e-7 of itself: some tenths of a millimetre here.
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    CHECK((T * block.stations[i].C + t - turned.stations[i].C).norm() < 1e-3);
}

TEST_CASE(
    "Without control and positions a block is adjusted free: place, turn and scale are held, seven unknowns less") {
  MadeUpOptions noisy;
  noisy.noise_px = 0.5;
  const adjust::Block start = make_block(noisy).block;
  adjust::Block block = start;
  adjust::AdjustOptions options;
  options.scope.control = options.scope.positions = false;
  options.scope.free.fill(false);
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, options, progress);
  CHECK(result.status == adjust::SolveStatus::converged);
  CHECK(result.unknowns == 6 * static_cast<int>(block.stations.size()) - 7 + 3 * result.tie_points);
  CHECK(std::abs(result.sigma0 - 1) < 0.1);  // some 1500 redundant observations: 0.02, and rejection takes tails away
  CHECK(block.stations[0].C == start.stations[0].C);
  const auto farthest =
      std::max_element(block.stations.begin(), block.stations.end(), [&](const auto& a, const auto& b) {
        return (a.C - block.stations[0].C).norm() < (b.C - block.stations[0].C).norm();
      });
  const std::size_t held = static_cast<std::size_t>(farthest - block.stations.begin());
  CHECK((block.stations[held].C - start.stations[held].C).cwiseAbs().minCoeff() < 1e-6);
  CHECK(std::isnan(block.stations[0].sigma_angle));  // what is predicted is relative to it
  CHECK(block.stations[held].covariance(0, 0) < 1.0);
}

TEST_CASE("Intersection: exact rays give the point back, near-parallel ones are refused") {
  const MadeUpBlock made = make_block();
  adjust::GroundPoint point = made.block.points[0];
  const Eigen::Vector3d X = point.X;
  point.X.setConstant(mesograph::nan);
  REQUIRE(adjust::place(made.block, point, 0.01));
  CHECK((point.X - X).norm() < 1e-6);
  CHECK_FALSE(adjust::place(made.block, point, 2.0));
  CHECK(std::isnan(point.X.x()));
  point.rays.resize(1);
  CHECK_FALSE(adjust::place(made.block, point, 0.0));
}

TEST_CASE("What is not surveyed of a control point says nothing") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.control = 8;
  adjust::Block one = make_block(options).block;
  for (std::size_t i = 0; i < one.surveyed.size(); ++i) {
    if (one.surveyed[i].role != adjust::Role::control) continue;
    // Every other point in plan only, the rest in height only.
    if (i % 2 == 0)
      one.surveyed[i].sigma.z() = mesograph::nan;
    else
      one.surveyed[i].sigma.x() = one.surveyed[i].sigma.y() = mesograph::nan;
  }
  adjust::Block two = one;
  for (std::size_t i = 0; i < two.surveyed.size(); ++i) {
    if (two.surveyed[i].role != adjust::Role::control) continue;
    two.surveyed[i].surveyed += i % 2 == 0 ? Eigen::Vector3d(0, 0, 500) : Eigen::Vector3d(-300, 200, 0);
  }
  Progress progress;
  const adjust::AdjustResult first = adjust::adjust(one, {}, progress), second = adjust::adjust(two, {}, progress);
  CHECK(first.observations == second.observations);
  CHECK(first.sigma0 == second.sigma0);
  for (std::size_t i = 0; i < one.stations.size(); ++i) CHECK(one.stations[i].C == two.stations[i].C);
  int plan = 0, height = 0;
  for (const adjust::Group& g : first.groups) {
    if (word_of(g.of) == "control plan") plan = g.n;
    if (word_of(g.of) == "control height") height = g.n;
  }
  CHECK(plan == 8);
  CHECK(height == 4);
}

TEST_CASE("Counts are those of the definition: observations and priors less unknowns") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.points = 60;
  adjust::Block block = make_block(options).block;
  int rays = 0, sightings = 0;
  for (const adjust::GroundPoint& p : block.points) rays += static_cast<int>(p.rays.size());
  for (const adjust::SurveyedPoint& p : block.surveyed)
    if (p.role == adjust::Role::control) sightings += static_cast<int>(p.point.rays.size());
  adjust::AdjustOptions adjusting;
  adjusting.reject_sigmas = 20;
  Progress progress;
  const adjust::AdjustResult result = adjust::adjust(block, adjusting, progress);
  const int stations = static_cast<int>(block.stations.size());
  // Rays and sightings two each, six control points three each, positions three a photo, priors of 8 parameters and of
  // the offset; stations six, camera 8, offset 3, points 3 each.
  CHECK(result.observations == 2 * (rays + sightings) + 6 * 3 + 3 * stations + 8 + 3);
  CHECK(result.unknowns == 6 * stations + 8 + 3 + 3 * (60 + 6));
  CHECK(result.redundancy == result.observations - result.unknowns);
  CHECK(result.tie_points == 60);
  CHECK(result.rejected_share == 0.0);
}

TEST_CASE("Held cameras and stations stay where they are") {
  MadeUpOptions options;
  options.noise_px = 0.3, options.points = 2000;
  adjust::Block block = make_block(options).block;
  const adjust::Block before = block;
  adjust::Scope scope;
  scope.stations.assign(block.stations.size(), 0);
  scope.stations[3] = scope.stations[5] = 1;
  scope.cameras = {0};
  block.stations[3].C += Eigen::Vector3d(0.3, -0.2, 0.1);
  Progress progress;
  CHECK(adjust::solve(block, scope, {}, progress).status == adjust::SolveStatus::converged);
  CHECK(block.cameras[0].interior == before.cameras[0].interior);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (i == 3 || i == 5)
      CHECK((block.stations[i].C - before.stations[i].C).norm() <
            0.1);  // a photo edge of 30 points gave 0.14 m; ten times as many, a third
    else
      CHECK(block.stations[i].C == before.stations[i].C);
  }
  scope.stations.assign(block.stations.size(), 0);
  CHECK(adjust::solve(block, scope, {}, progress).status == adjust::SolveStatus::no_unknowns);
}

TEST_CASE("The bowl that is predicted is the bowl that comes out, over many draws") {
  constexpr int draws = 40;
  std::vector<double> errors;
  double predicted = 0;
  for (int draw = 0; draw < draws; ++draw) {
    MadeUpOptions options;
    options.noise_px = 0.5, options.control_sigma = 0.02, options.position_sigma = 3.0;
    options.seed = static_cast<std::uint64_t>(100 + draw);
    const MadeUpBlock truth = make_block(options);
    adjust::Block block = truth.block;
    Progress progress;
    adjust::AdjustOptions adjusting;
    adjusting.reject_sigmas = 100;  // normal errors: nothing is to be taken out
    const adjust::AdjustResult result = adjust::adjust(block, adjusting, progress);
    std::vector<int> all;
    const auto n = static_cast<Eigen::Index>(block.stations.size());
    Eigen::MatrixXd A(n, 4);
    Eigen::VectorXd z(n);
    Eigen::Vector2d middle = Eigen::Vector2d::Zero();
    for (Eigen::Index i = 0; i < n; ++i) middle += truth.block.stations[i].C.head<2>() / static_cast<double>(n);
    double reach = 0;
    for (Eigen::Index i = 0; i < n; ++i) {
      all.push_back(static_cast<int>(i));
      const Eigen::Vector2d p = truth.block.stations[i].C.head<2>() - middle;
      A.row(i) << 1, p.x(), p.y(), p.squaredNorm();
      z[i] = (block.stations[i].C - truth.block.stations[i].C).z();
      reach = std::max(reach, p.norm());
    }
    errors.push_back(A.colPivHouseholderQr().solve(z)[3] * reach * reach);
    predicted += adjust::judge_bowl(block, all, result).sigma / draws;
  }
  double squares = 0;
  for (const double e : errors) squares += e * e / draws;
  // Forty draws give a standard deviation to 11 %; three of these.
  CHECK(std::abs(std::sqrt(squares) / predicted - 1) < 0.34);
}

TEST_CASE("A principal distance that photos cannot tell from the height is said to rest on its start value") {
  for (const bool flat : {true, false}) {
    MadeUpOptions options;
    options.noise_px = 0.5, options.position_sigma = 3.0, options.flat = flat, options.strips = 4,
    options.per_strip = 6;
    options.points = 1500;
    adjust::Block block = make_block(options).block;
    // The start value is 2 % off, and over flat ground the ties are content with it.
    block.cameras[0].interior[camera::c] = block.priors[0].value[camera::c] = 1122;
    adjust::AdjustOptions adjusting;
    adjusting.scope.control = false;
    Progress progress;
    const adjust::AdjustResult result = adjust::adjust(block, adjusting, progress);
    const auto held = adjust::held_by_prior(block, result);
    const bool c_is_held =
        std::any_of(held.begin(), held.end(), [](const adjust::HeldByPrior& h) { return h.parameter == camera::c; });
    INFO("c " << block.cameras[0].interior[camera::c]);
    CHECK(c_is_held == flat);
    CHECK((std::abs(block.cameras[0].interior[camera::c] - 1100) < 5) == !flat);
  }
}
