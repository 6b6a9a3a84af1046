#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/joint_control.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/cloud/along_normal.hpp>
#include <mesograph/orient/stable_points.hpp>
#include <mesograph/surface/along_normal_changes.hpp>
#include <mesograph/survey/inputs.hpp>

#include "folder.hpp"
#include "made_up_block.hpp"
#include "plain_adjustment.hpp"

using namespace mesograph;

namespace {

/// Covariance of n points whose errors are their own and a shift that all share.
Eigen::MatrixXd shifted_together(std::size_t points, double own, double shared) {
  const auto n = 3 * static_cast<Eigen::Index>(points);
  Eigen::MatrixXd out = own * own * Eigen::MatrixXd::Identity(n, n);
  for (Eigen::Index i = 0; i < n; ++i)
    for (Eigen::Index j = i % 3; j < n; j += 3) out(i, j) += shared * shared;
  return out;
}

/// Makes all surveyed points of role control one observation of that covariance.
void join(adjust::Block& block, const Eigen::MatrixXd& covariance, std::size_t points) {
  const Eigen::VectorXd sigma = covariance.diagonal().cwiseSqrt();
  for (std::size_t i = 0; i < points; ++i) {
    block.joint.points.push_back(i);
    block.surveyed[i].sigma = sigma.segment<3>(3 * static_cast<Eigen::Index>(i));
  }
  for (Eigen::Index i = 0; i < covariance.rows(); ++i)
    for (Eigen::Index j = 0; j < covariance.rows(); ++j)
      block.joint.correlation.push_back(covariance(i, j) / (sigma[i] * sigma[j]));
}

}  // namespace

TEST_CASE("Control whose errors go together is adjusted as in the whole normal equations") {
  adjust::Block block = small_block(7);
  const std::size_t points = block.surveyed.size();
  const Eigen::MatrixXd covariance = shifted_together(points, 0.01, 0.3);
  adjust::Block silent = block;
  for (adjust::SurveyedPoint& p : silent.surveyed) p.sigma.setConstant(mesograph::nan);
  join(block, covariance, points);
  adjust::Scope scope;
  const Plain plain(silent, scope);
  const Eigen::MatrixXd J = plain.jacobian();
  const Eigen::VectorXd v = plain.residuals(Eigen::VectorXd::Zero(plain.size()));
  // The observation of all coordinates, in the shape of the textbook: P is the inverse of its covariance.
  const auto n = 3 * static_cast<Eigen::Index>(points);
  const Eigen::MatrixXd P = covariance.inverse();
  Eigen::VectorXd off(n);
  for (std::size_t i = 0; i < points; ++i)
    off.segment<3>(3 * static_cast<Eigen::Index>(i)) = block.surveyed[i].point.X - block.surveyed[i].surveyed;
  Eigen::MatrixXd normal = J.transpose() * J;
  normal.bottomRightCorner(n, n) += P;
  Eigen::VectorXd right = J.transpose() * v;
  right.tail(n) += P * off;
  const Eigen::MatrixXd inverse = normal.inverse();
  adjust::NormalEquations equations(block, scope);
  CHECK_THAT(equations.build(block), Catch::WithinRel(v.squaredNorm() + off.dot(P * off), 1e-9));
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  const adjust::Covariance found(S);
  const Eigen::Index ends = plain.size() - n;
  for (std::size_t i = 0; i < points; ++i)
    for (int a = 0; a < 3; ++a) {
      const int column = equations.layout().end[i] + a;
      const Eigen::Index row = ends + 3 * static_cast<Eigen::Index>(i) + a;
      // Designs are in single precision, see the test of scale bars.
      CHECK_THAT(std::sqrt(found(column, column)), Catch::WithinRel(std::sqrt(inverse(row, row)), 1e-4));
    }
  const adjust::Block twin = plain.moved(-inverse * right);
  const Eigen::MatrixXd full = Eigen::MatrixXd(S).selfadjointView<Eigen::Lower>();
  equations.apply(full.ldlt().solve(s), block);
  for (std::size_t i = 0; i < points; ++i) CHECK((block.surveyed[i].point.X - twin.surveyed[i].point.X).norm() < 1e-5);
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    CHECK((block.stations[i].C - twin.stations[i].C).norm() < 1e-5);
}

TEST_CASE("What carried points lack of a datum is said of all that follows from them, and their tests are fair") {
  Progress quiet;
  constexpr std::size_t points = 8;
  const Eigen::MatrixXd covariance = shifted_together(points, 0.015, 0.2);
  const Eigen::MatrixXd root = covariance.llt().matrixL();
  double normed = 0, tests = 0, alone = 0;
  int checks = 0, coordinates = 0;
  for (std::uint64_t seed = 1; seed <= 24; ++seed) {
    MadeUpOptions options;
    options.noise_px = 0.3, options.control = points, options.checks = 3, options.points = 80;
    options.control_sigma = 1e-9, options.position_sigma = 5, options.seed = seed;
    adjust::Block block = make_block(options).block;
    for (adjust::Sortie& sortie : block.sorties) sortie.sigma_photo = {5, 5}, sortie.sigma_offset = {50, 50};
    Random random(seed);
    Eigen::VectorXd drawn(covariance.rows());
    for (double& value : drawn) value = random.normal(1);
    drawn = root * drawn;
    for (std::size_t i = 0; i < points; ++i)
      block.surveyed[i].surveyed += drawn.segment<3>(3 * static_cast<Eigen::Index>(i));
    join(block, covariance, points);
    const adjust::AdjustResult result = adjust::adjust(block, {}, quiet);
    for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
      const adjust::SurveyedResult& r = result.surveyed[i];
      if (i < points) {
        for (const adjust::Tested& test : r.coordinates) tests += test.w * test.w, ++coordinates;
        CHECK(r.coordinates[0].redundancy < 1);
        continue;
      }
      const Eigen::Vector3d e = r.X - block.surveyed[i].surveyed;
      normed += e.dot(r.covariance.inverse() * e), ++checks;
      alone += e.squaredNorm();
    }
  }
  // 24 shifts of three axes stand behind the checks of a block: their mean square is 1 within 2.6 of its sigmas,
  // sqrt(2 / 72). The eight points alone would have made them a third as sure.
  CHECK(std::abs(normed / (3 * checks) - 1) < 0.43);
  CHECK(std::sqrt(alone / (3 * checks)) > 0.12);
  // Tests of a block share little: 500 of them, mean square 1 within three sigmas.
  CHECK(std::abs(tests / coordinates - 1) < 3 * std::sqrt(2.0 / coordinates));
}

TEST_CASE("Points that stand are told from those that moved, whatever the later block's place, bend and scale") {
  const double size = GENERATE(0.5, 200.0, 30000.0);  // m: a table, a slope, a valley
  Random random(11);
  constexpr Eigen::Index n = 600;
  const double noise = 2e-4 * size;
  Eigen::Matrix3Xd earlier(3, n), later(3, n);
  std::vector<char> slid(n, 0);
  const Eigen::Matrix3d R = Eigen::AngleAxisd(0.3, Eigen::Vector3d(0.2, -0.4, 0.9).normalized()).toRotationMatrix();
  for (Eigen::Index i = 0; i < n; ++i) {
    const Eigen::Vector3d X(random.uniform(0, size), random.uniform(0, size), 0.1 * size * random.uniform(0, 1));
    earlier.col(i) = X;
    // Two fifths of the ground slide as one, by ten times the noise; one point in thirty is a wrong match.
    slid[static_cast<std::size_t>(i)] = X.x() < 0.4 * size;
    Eigen::Vector3d now = X;
    if (slid[static_cast<std::size_t>(i)]) now += 10 * noise * Eigen::Vector3d(0.6, -0.5, -0.62);
    if (i % 30 == 0) now += 0.1 * size * Eigen::Vector3d(0.3, 0.2, 0.5), slid[static_cast<std::size_t>(i)] = 1;
    for (int a = 0; a < 3; ++a) now[a] += random.normal(noise);
    // A bowl of five times the noise, as a lens not quite known makes one.
    now.z() += 5 * noise * (now.head<2>() - Eigen::Vector2d::Constant(0.5 * size)).squaredNorm() / (size * size) * 4;
    later.col(i) = 1.02 * (R * now) + size * Eigen::Vector3d(0.3, -2, 0.1);
  }
  const orient::StablePoints found = orient::stable_points(earlier, later, 5);
  int wrong = 0, right = 0, stand = 0;
  for (std::size_t i = 0; i < slid.size(); ++i) {
    stand += !slid[i];
    (slid[i] ? wrong : right) += found.stable[i];
  }
  CHECK(right > 0.97 * stand);
  CHECK(wrong <= 3);  // of 250; those at the edge of the slide the noise may bring back
  CHECK_THAT(found.spread_plan, Catch::WithinRel(noise, 0.2));
  CHECK_THAT(found.spread_height, Catch::WithinRel(noise, 0.2));
}

TEST_CASE("Too few common points, or none that go together, are no control") {
  Random random(3);
  Eigen::Matrix3Xd a(3, 60), b(3, 60);
  for (Eigen::Index i = 0; i < a.size(); ++i) a(i) = random.uniform(0, 100), b(i) = random.uniform(0, 100);
  const auto none = [](const orient::StablePoints& found) {
    return std::count(found.stable.begin(), found.stable.end(), 1) < 30;
  };
  CHECK(none(orient::stable_points(a.leftCols(20), a.leftCols(20), 1)));
  CHECK(none(orient::stable_points(a, b, 1)));
  // On a line nothing tells the turn about it.
  for (Eigen::Index i = 0; i < a.cols(); ++i) a.col(i) = Eigen::Vector3d(1, 2, 0.5) * static_cast<double>(i);
  CHECK(none(orient::stable_points(a, a, 1)));
}

TEST_CASE("A wall that bulges has moved along its normal, by as much, and the rest has not") {
  const Folder folder;
  const double size = GENERATE(1.0, 40.0);  // m: scale is open
  const double noise = 5e-4 * size;
  const auto wall = [&](std::uint64_t seed, double bulge) {
    Random random(seed);
    std::vector<cloud::CloudRecord> out;
    // Upright, its face to the southeast; a niche a tenth of its width deep.
    for (int i = 0; i < 22000; ++i) {
      const double along = random.uniform(0, size), up = random.uniform(0, 0.6 * size);
      const bool niche = std::abs(along - 0.25 * size) < 0.06 * size && std::abs(up - 0.3 * size) < 0.1 * size;
      const double r = std::hypot(along - 0.7 * size, up - 0.3 * size) / (0.15 * size);
      const double off = (niche ? 0.1 * size : 0) + (r < 1 ? bulge * std::pow(1 - r * r, 2) : 0) + random.normal(noise);
      cloud::CloudRecord p;
      p.X = Eigen::Vector3d(1000 + along * std::sqrt(0.5) + off * std::sqrt(0.5),
                            2000 + along * std::sqrt(0.5) - off * std::sqrt(0.5), 10 + up);
      p.sigma_match = p.sigma_z = static_cast<float>(noise), p.rays = 4;
      out.push_back(p);
    }
    return out;
  };
  const double bulge = 0.02 * size;
  cloud::write_cloud(folder.path / "a.las", wall(1, 0), "");
  cloud::write_cloud(folder.path / "b.las", wall(2, bulge), "");
  cloud::LasReader a(folder.path / "a.las"), b(folder.path / "b.las");
  Progress quiet;
  cloud::NormalDistanceOptions options;
  options.scratch = folder.path;
  cloud::NormalDistances all = cloud::distances_along_normal(a, b, options, quiet);
  REQUIRE(all.places.size() > 500);
  const surface::NormalComparison found = surface::changes_along_normal(all, {});
  REQUIRE(found.changes.size() == 1);
  // East of south: the normal looks east, which is outwards.
  const surface::NormalChange& change = found.changes[0];
  CHECK(change.largest > 0.85 * bulge);
  CHECK(change.largest < 1.05 * bulge);
  const Eigen::Vector3d middle(1000 + 0.7 * size * std::sqrt(0.5), 2000 + 0.7 * size * std::sqrt(0.5), 10 + 0.3 * size);
  CHECK((change.middle - middle).norm() < 0.03 * size);
  double squares = 0;
  int n = 0;
  for (std::size_t i = 0; i < all.places.size(); ++i) {
    if ((all.places[i].X - middle).norm() < 0.2 * size) continue;
    squares += std::pow(found.significance[i], 2), ++n;
    CHECK(std::abs(all.places[i].normal.norm() - 1) < 1e-5);
  }
  // These points' noise is each its own; of real ones half of the variance is common, and sigmas count with that. So
  // of medians of some 28 points: pi / 2 / 28 of what half of one is, a tenth, or less by what the fit adds.
  CHECK(squares / n < 0.2);
  CHECK(squares / n > 0.02);
}

TEST_CASE("Of control that goes together what is set aside loses its say, and the rest keeps what they share") {
  adjust::Block block = small_block(9);
  const std::size_t points = block.surveyed.size();
  const Eigen::MatrixXd covariance = shifted_together(points, 0.01, 0.3);
  join(block, covariance, points);
  const auto term_of = [](const adjust::Block& b) {
    adjust::Scope scope;
    return adjust::JointTerm(b, adjust::make_layout(b, scope));
  };
  const adjust::JointTerm whole = term_of(block);
  CHECK(whole.points().size() == points);
  CHECK((whole.weight() - covariance.inverse()).norm() < 1e-6 * whole.weight().norm());
  CHECK_THAT(whole.cost(block),
             Catch::WithinRel(whole.misclosure(block).dot(covariance.inverse() * whole.misclosure(block)), 1e-9));
  // A shift of all costs what the shared error makes likely, a shift of one what its own does.
  adjust::Block shifted = block, bent = block;
  for (adjust::SurveyedPoint& p : block.surveyed) p.point.X = p.surveyed;
  shifted = bent = block;
  for (adjust::SurveyedPoint& p : shifted.surveyed) p.point.X.x() += 0.3;
  bent.surveyed[0].point.X.x() += 0.3;
  const auto n = static_cast<double>(points);
  CHECK_THAT(whole.cost(shifted), Catch::WithinRel(n * 0.09 / (0.0001 + n * 0.09), 1e-6));
  CHECK(whole.cost(bent) > 500 * whole.cost(shifted));
  // One that becomes a check, one that loses its height: the others' weight is that of their own covariance.
  adjust::Block fewer = block;
  fewer.surveyed[0].role = adjust::Role::check;
  fewer.surveyed[1].sigma[2] = mesograph::nan;
  const adjust::JointTerm left = term_of(fewer);
  CHECK(left.points().size() == points - 1);
  CHECK_FALSE(left.holds(0));
  CHECK(left.holds(1));
  CHECK(left.weight().row(2).isZero());
  std::vector<Eigen::Index> rows;
  for (Eigen::Index k = 0; k < covariance.rows(); ++k)
    if (k >= 3 && k != 5) rows.push_back(k);
  const Eigen::MatrixXd inverse = covariance(rows, rows).inverse();
  for (std::size_t i = 0; i < rows.size(); ++i)
    for (std::size_t j = 0; j < rows.size(); ++j)
      CHECK_THAT(left.weight()(rows[i] - 3, rows[j] - 3),
                 Catch::WithinAbs(inverse(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)), 1e-5));
  // Sighted once it is no observation; what is no covariance is refused.
  fewer.surveyed[2].point.rays.resize(1);
  CHECK_FALSE(adjust::takes_part_jointly(fewer, 2));
  for (double& value : block.joint.correlation) value = 1;
  block.joint.correlation[1] = block.joint.correlation[3 * points] = -1;
  CHECK_THROWS_AS(term_of(block), Error);
}

TEST_CASE("The joint covariance of points is that of drawn blocks, and its diagonal that of each alone") {
  constexpr std::size_t chosen = 6;
  const auto drawn = [](std::uint64_t seed, double noise) {
    MadeUpOptions options;
    options.strips = 2, options.per_strip = 3, options.points = 60, options.control = 6, options.checks = 0;
    options.noise_px = noise, options.control_sigma = noise > 0 ? 0.05 : 1e-9, options.position_sigma = 5;
    options.seed = 77;
    adjust::Block block = make_block(options).block;
    for (adjust::Sortie& s : block.sorties) s.sigma_photo = {500, 500}, s.sigma_offset = {500, 500};
    for (adjust::CameraPrior& prior : block.priors) prior.held = true;
    Random random(seed);
    for (adjust::SurveyedPoint& p : block.surveyed) {
      p.sigma.setConstant(0.05);
      for (int a = 0; noise > 0 && a < 3; ++a) p.surveyed[a] = p.point.X[a] + random.normal(0.05);
    }
    if (noise == 0) return block;
    // The same block, other errors: rays come from the clean one.
    options.noise_px = 0;
    const adjust::Block clean = make_block(options).block;
    for (std::size_t i = 0; i < block.points.size(); ++i)
      for (std::size_t r = 0; r < block.points[i].rays.size(); ++r) {
        block.points[i].rays[r].x = clean.points[i].rays[r].x + Eigen::Vector2d(random.normal(0.5), random.normal(0.5));
        block.points[i].rays[r].sigma = 0.5;
      }
    for (std::size_t i = 0; i < block.surveyed.size(); ++i)
      for (std::size_t r = 0; r < block.surveyed[i].point.rays.size(); ++r)
        block.surveyed[i].point.rays[r].x =
            clean.surveyed[i].point.rays[r].x + Eigen::Vector2d(random.normal(0.5), random.normal(0.5)),
        block.surveyed[i].point.rays[r].sigma = 0.5;
    return block;
  };
  Progress quiet;
  adjust::AdjustOptions options;
  options.reject_sigmas = 50;  // nothing is wrong here, and what is left out would change the points
  constexpr int blocks = 120;
  Eigen::MatrixXd values(3 * chosen, blocks), predicted;
  for (int k = 0; k < blocks; ++k) {
    adjust::Block block = drawn(static_cast<std::uint64_t>(k) + 1, 0.5);
    const adjust::AdjustResult result = adjust::adjust(block, options, quiet);
    std::vector<adjust::GroundPoint> points(block.points.begin(), block.points.begin() + chosen);
    for (std::size_t i = 0; i < chosen; ++i) values.col(k).segment<3>(3 * static_cast<Eigen::Index>(i)) = points[i].X;
    if (k > 0) continue;
    predicted = adjust::joint_covariance(block, points, result.layout, result.inverse);
    CHECK((predicted - predicted.transpose()).norm() < 1e-12 * predicted.norm());
    for (std::size_t i = 0; i < chosen; ++i) {
      const adjust::PointDesign design = adjust::design_of(block, points[i], -1, result.layout);
      const Eigen::Matrix3d alone =
          adjust::point_statistics(design, Eigen::Matrix3d::Zero(), result.inverse.among(design.columns)).covariance;
      const auto at = 3 * static_cast<Eigen::Index>(i);
      CHECK((predicted.block<3, 3>(at, at) - alone).norm() < 1e-6 * alone.norm());
    }
  }
  const Eigen::MatrixXd off = values.colwise() - values.rowwise().mean();
  const Eigen::MatrixXd found = off * off.transpose() / (blocks - 1);
  // Sums over all points along each axis: with the shares in common, which the diagonal alone would miss. 120 blocks
  // tell a variance to 13 %; three times that.
  for (int axis = 0; axis < 3; ++axis) {
    Eigen::VectorXd sum = Eigen::VectorXd::Zero(3 * chosen);
    for (std::size_t i = 0; i < chosen; ++i) sum[3 * static_cast<Eigen::Index>(i) + axis] = 1;
    const double want = sum.dot(predicted * sum), alone = sum.dot(predicted.diagonal().asDiagonal() * sum);
    CHECK(std::abs(sum.dot(found * sum) / want - 1) < 0.4);
    CHECK(want > 1.1 * alone);  // what control of 5 cm leaves to all of them
  }
}

TEST_CASE("Correlations of carried points come back as they were kept, and what is none is named") {
  const Folder folder;
  CHECK(survey::stored_joint(folder.path).empty());
  std::vector<survey::JointRow> rows = {{"a,1", "a,1", Eigen::Matrix3d::Identity()}, {"a,1", "b", {}}};
  Random random(2);
  for (double& value : rows[1].correlation.reshaped()) value = random.uniform(-1, 1);
  write_file(folder.path / "control_joint.csv", survey::joint_text(rows));
  const auto back = survey::stored_joint(folder.path);
  REQUIRE(back.size() == 2);
  CHECK(back[0].a == "a,1");
  CHECK(back[1].b == "b");
  CHECK((back[1].correlation - rows[1].correlation).cwiseAbs().maxCoeff() <= 5e-10);
  rows[0].correlation(1, 2) = 1.5;
  write_file(folder.path / "control_joint.csv", survey::joint_text(rows));
  CHECK_THROWS_WITH(survey::stored_joint(folder.path), Catch::Matchers::Contains("control_joint.csv:2"));
}

TEST_CASE("Points beside the usual ones in a cloud's records are read by their names") {
  const Folder folder;
  const bool normals = GENERATE(false, true);
  std::vector<cloud::CloudRecord> points(3);
  for (std::size_t i = 0; i < points.size(); ++i) {
    points[i].X = Eigen::Vector3d(100 + static_cast<double>(i), 200, 5);
    points[i].more = {0.25F * static_cast<float>(i), -3};
    points[i].normal = Eigen::Vector3f(0, 0.6F, 0.8F), points[i].sigma_z = 0.5F;
  }
  const Eigen::AlignedBox3d box(Eigen::Vector3d(100, 200, 5), Eigen::Vector3d(102, 200, 5));
  const cloud::LasHeader header =
      cloud::cloud_header("", box, 0.001, normals, {{"distance", "m"}, {"significance", "over its sigma"}});
  {
    cloud::LasWriter writer(folder.path / "d.las", header);
    writer.add(cloud::cloud_records(header, points).data(), points.size());
    writer.finish();
  }
  cloud::LasReader file(folder.path / "d.las");
  const cloud::LasPoints read = file.next();
  REQUIRE(read.size() == 3);
  const cloud::LasAttribute *distance = file.header().attribute("distance"),
                            *significance = file.header().attribute("significance"),
                            *up = file.header().attribute("normal_z");
  REQUIRE(distance);
  REQUIRE(significance);
  CHECK((up != nullptr) == normals);
  for (std::size_t i = 0; i < 3; ++i) {
    CHECK(read.value(i, *distance) == 0.25 * static_cast<double>(i));
    CHECK(read.value(i, *significance) == -3);
    CHECK(read.value(i, *file.header().attribute("sigma_z")) == 0.5);
    if (up) CHECK(read.value(i, *up) == Approx(0.8));
  }
}
