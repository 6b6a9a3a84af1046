#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/orient/georeference.hpp>
#include <mesograph/orient/links.hpp>
#include <mesograph/orient/orient.hpp>
#include <mesograph/orient/parts.hpp>
#include <mesograph/orient/resection.hpp>
#include <mesograph/orient/similarity.hpp>
#include <mesograph/orient/two_views.hpp>

#include "made_up_block.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;
using Catch::Matchers::WithinAbs;

namespace {

Eigen::Matrix3d random_rotation(Random& random) {
  return Eigen::Quaterniond(random.normal(1), random.normal(1), random.normal(1), random.normal(1))
      .normalized()
      .toRotationMatrix();
}

/// Ground points before a camera that looks along -z, and their rays.
void points_before(Random& random, const orient::Pose& pose, Eigen::Matrix3Xd& X, Eigen::Matrix3Xd& rays) {
  for (Eigen::Index i = 0; i < X.cols(); ++i) {
    const Eigen::Vector3d v(random.uniform(-4, 4), random.uniform(-3, 3), random.uniform(-12, -8));
    X.col(i) = pose.R * v + pose.C;
    rays.col(i) = v / -v.z();
  }
}

}  // namespace

TEST_CASE("Three points give back the pose that made their rays") {
  Random random(11);
  for (int n = 0; n < 300; ++n) {
    const orient::Pose truth{random_rotation(random), {random.normal(50), random.normal(50), random.normal(50)}};
    Eigen::Matrix3Xd X(3, 3), rays(3, 3);
    points_before(random, truth, X, rays);
    double nearest = 1e9;
    const auto found = orient::three_point(X, rays);
    CHECK(found.size() <= 4);
    for (const orient::Pose& pose : found) nearest = std::min(nearest, (pose.C - truth.C).norm());
    CHECK(nearest < 1e-3);  // m at 10 m range: the quartic loses half the digits where two roots lie close
  }
}

TEST_CASE("Three points on a line are refused") {
  Eigen::Matrix3d X, rays;
  X << 0, 1, 2, 0, 1, 2, 0, 0, 0;
  rays << 0.1, 0.2, 0.3, 0, 0.1, 0.3, -1, -1, -1;
  CHECK(orient::three_point(X, rays).empty());
}

TEST_CASE("Resection with a third of wrong points finds pose and inliers") {
  Random random(12);
  const orient::Pose truth{random_rotation(random), {3, -2, 7}};
  Eigen::Matrix3Xd X(3, 200), rays(3, 200);
  points_before(random, truth, X, rays);
  for (Eigen::Index i = 0; i < 66; ++i)
    rays.col(3 * i).head<2>() += Eigen::Vector2d(random.uniform(0.05, 0.3), random.uniform(-0.3, 0.3));
  const orient::Resection found = orient::resect(X, rays, 5);
  REQUIRE(found.found);
  CHECK(found.inliers == 134);
  CHECK((found.pose.C - truth.C).norm() < 1e-9);
  CHECK((found.pose.R - truth.R).norm() < 1e-10);
  SECTION("and says no where nothing agrees") {
    for (Eigen::Index i = 0; i < X.cols(); ++i)
      rays.col(i).head<2>() = Eigen::Vector2d(random.uniform(-0.5, 0.5), random.uniform(-0.5, 0.5));
    CHECK_FALSE(orient::resect(X, rays, 5).found);
  }
}

TEST_CASE("An essential matrix gives the one pose that sees the points") {
  Random random(13);
  for (int n = 0; n < 50; ++n) {
    const Eigen::Matrix3d R =
        Eigen::AngleAxisd(random.normal(0.3),
                          Eigen::Vector3d(random.normal(1), random.normal(1), random.normal(1)).normalized())
            .toRotationMatrix();
    const Eigen::Vector3d C = Eigen::Vector3d(random.normal(1), random.normal(1), random.normal(0.3)).normalized();
    Eigen::Matrix3Xd a(3, 30), b(3, 30);
    for (Eigen::Index i = 0; i < 30; ++i) {
      const Eigen::Vector3d X(random.uniform(-3, 3), random.uniform(-3, 3), random.uniform(-12, -8));
      a.col(i) = X / -X.z();
      b.col(i) = R.transpose() * (X - C);
    }
    // b ~ Q a + t with Q = R^T, t = -Q C: E = [t]x Q, written out.
    const Eigen::Vector3d t = -R.transpose() * C;
    Eigen::Matrix3d cross;
    cross << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
    const orient::RelativePose pose = orient::pose_from_essential(cross * R.transpose(), a, b);
    CHECK(pose.in_front == 30);
    CHECK((pose.R - R).norm() < 1e-9);
    CHECK((pose.C - C).norm() < 1e-9);
  }
}

TEST_CASE("A similarity is found in spite of shuffled positions, and refused on a line") {
  Random random(14);
  const Eigen::Matrix3d R = random_rotation(random);
  Eigen::Matrix3Xd source(3, 40), target(3, 40);
  for (Eigen::Index i = 0; i < 40; ++i) {
    source.col(i) = Eigen::Vector3d(random.uniform(-3, 3), random.uniform(-2, 2), random.normal(0.05));
    target.col(i) = 20 * R * source.col(i) + Eigen::Vector3d(5, 6, 7) +
                    Eigen::Vector3d(random.normal(0.02), random.normal(0.02), random.normal(0.02));
  }
  for (Eigen::Index i = 0; i < 4; ++i) target.col(i * 9) += Eigen::Vector3d(40, -30, 10);
  const auto found = orient::similarity(source, target, 1.0);
  REQUIRE(found);
  CHECK_THAT(found->scale, WithinAbs(20, 0.02));
  CHECK((found->R - R).norm() < 0.003);
  CHECK(found->kept == 36);
  for (Eigen::Index i = 0; i < 40; ++i) target.col(i) = static_cast<double>(i) * Eigen::Vector3d(1, 2, 0.1);
  CHECK_FALSE(orient::similarity(source, target, 1.0));
  CHECK_FALSE(orient::similarity(source.leftCols(2), target.leftCols(2), 0.0));
}

TEST_CASE("A block grows from its ties alone, without distortion known and with the focal length 2 % off") {
  MadeUpOptions options;
  options.strips = 3, options.per_strip = 6, options.points = 2500, options.noise_px = 0.4,
  options.position_sigma = 0.5;
  MadeUpBlock truth = make_block(options);
  adjust::Block block = truth.block;
  for (adjust::Station& s : block.stations)
    s.oriented = false, s.C.setConstant(mesograph::nan), s.R.setConstant(mesograph::nan);
  for (adjust::GroundPoint& p : block.points) p.X.setConstant(mesograph::nan);
  block.cameras[0].interior.setZero();
  block.cameras[0].interior[camera::c] = 1122;
  block.priors[0] = adjust::usual_prior(block.cameras[0]);
  Progress progress;
  const orient::OrientResult result = orient::orient(block, truth.names, {}, progress);
  CHECK(result.not_oriented.empty());
  REQUIRE(result.parts.size() == 1);
  CHECK(result.parts[0].datum == orient::Datum::positions);
  CHECK(result.adjustment.reprojection_rms_px < 0.7);  // 0.4 px an axis is 0.57 a point
  std::vector<double> off;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    off.push_back((block.stations[i].C - truth.block.stations[i].C).norm());
  std::sort(off.begin(), off.end());
  CHECK(off[off.size() / 2] < 0.6);  // 18 positions of 0.5 m hold the datum to 0.15 m, its tilt over the block to more
  SECTION("a photo without ties is named with its reason") {
    adjust::Block more = block;
    more.stations.push_back(more.stations[0]);
    truth.names.push_back("lonely");
    for (adjust::Station& s : more.stations) s.oriented = false;
    const orient::OrientResult again = orient::orient(more, truth.names, {}, progress);
    REQUIRE(again.not_oriented.size() == 1);
    CHECK(again.not_oriented[0].station == static_cast<int>(more.stations.size()) - 1);
    CHECK_THAT(again.not_oriented[0].reason, Contains("no tie points"));
  }
  SECTION("control gives the datum where there are no positions") {
    for (adjust::Station& s : block.stations) s.position.setConstant(mesograph::nan);
    const orient::OrientResult again = orient::orient(block, truth.names, {}, progress);
    CHECK(again.parts.at(0).datum == orient::Datum::control);
    CHECK((block.stations[0].C - truth.block.stations[0].C).norm() < 0.5);
  }
  SECTION("without either the block is free: its shape is right, its scale and place are its own") {
    for (adjust::Station& s : block.stations) s.position.setConstant(mesograph::nan);
    block.surveyed.clear();
    const orient::OrientResult again = orient::orient(block, truth.names, {}, progress);
    CHECK(again.free);
    CHECK(again.not_oriented.empty());
    Eigen::Matrix3Xd free(3, block.stations.size()), right = free;
    for (std::size_t i = 0; i < block.stations.size(); ++i) {
      free.col(static_cast<Eigen::Index>(i)) = block.stations[i].C;
      right.col(static_cast<Eigen::Index>(i)) = truth.block.stations[i].C;
      CHECK(block.stations[i].R(2, 2) > 0.9);  // levelled
    }
    const auto fit = orient::similarity(free, right, 1.0);
    REQUIRE(fit);
    CHECK(fit->rms < 0.15);  // 68 m above ground, c free: the same bending as with positions
    CHECK_THAT(fit->scale, Catch::WithinAbs(0.68, 0.1));  // a hundredth of the distance to the ground
  }
}

TEST_CASE("Photos that share nothing cannot start a block") {
  MadeUpBlock made = make_block();
  for (adjust::GroundPoint& p : made.block.points) p.rays.resize(2);
  made.block.points.resize(30);
  Progress progress;
  CHECK_THROWS_WITH(orient::orient(made.block, made.names, {}, progress), Contains("no two photos share 50"));
}

TEST_CASE("Photos of one place are told so, not that their ties are bad") {
  MadeUpOptions options;
  options.points = 1500, options.spread = 0.02;  // within a metre of each other, 68 m above the ground: under a degree
  MadeUpBlock made = make_block(options);
  Progress progress;
  CHECK_THROWS_WITH(orient::orient(made.block, made.names, {}, progress), Contains("different places"));
}

TEST_CASE("Two cameras and two sorties become one block, each with its own calibration and offset") {
  MadeUpOptions options;
  options.strips = 4, options.per_strip = 6, options.points = 3000, options.noise_px = 0.4,
  options.position_sigma = 0.4;
  options.second_camera = true;
  MadeUpBlock truth = make_block(options);
  adjust::Block block = truth.block;
  REQUIRE(block.cameras.size() == 2);
  const Eigen::Vector3d offsets[] = {{1, -1, 2}, {-1.5, 0.5, -3}};
  for (adjust::Station& s : block.stations) {
    s.position += offsets[s.sortie];
    s.oriented = false;
    s.C.setConstant(mesograph::nan), s.R.setConstant(mesograph::nan);
  }
  for (std::size_t i = 0; i < 2; ++i) {
    const double c = block.cameras[i].interior[camera::c];
    block.cameras[i].interior.setZero();
    block.cameras[i].interior[camera::c] = (i == 0 ? 1.02 : 0.98) * c;
    block.priors[i] = adjust::usual_prior(block.cameras[i]);
  }
  for (adjust::SurveyedPoint& p : block.surveyed) p.point.X.setConstant(mesograph::nan);
  Progress progress;
  const orient::OrientResult result = orient::orient(block, truth.names, {}, progress);
  CHECK(result.not_oriented.empty());
  CHECK(result.adjustment.reprojection_rms_px < 0.7);
  // With control the block is right, and the sorties' offsets come out apart.
  adjust::adjust(block, {}, progress);
  for (std::size_t i = 0; i < 2; ++i) {
    INFO("camera " << i << ": c " << block.cameras[i].interior[camera::c] << ", true "
                   << truth.block.cameras[i].interior[camera::c]);
    CHECK(std::abs(block.cameras[i].interior[camera::c] / truth.block.cameras[i].interior[camera::c] - 1) < 0.002);
    CHECK((block.sorties[i].offset - offsets[i]).norm() < 0.5);  // twelve positions of 0.4 m give 0.2 m in space
  }
  std::vector<int> rays(block.stations.size(), 0);
  for (const adjust::GroundPoint& p : block.points)
    for (const adjust::Ray& r : p.rays) rays[r.station] += adjust::takes_part(block, r);
  int well_tied = 0;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    // Photos that look over the rim have a few rays in one corner, and are held no better than these.
    if (rays[i] < 200) continue;
    ++well_tied;
    INFO("station " << i << " with " << rays[i] << " rays");
    CHECK((block.stations[i].C - truth.block.stations[i].C).norm() < 0.2);
  }
  CHECK(well_tied >= 18);
}

TEST_CASE("A photo whose rays scatter is taken out again and named") {
  MadeUpOptions options;
  options.strips = 3, options.per_strip = 5, options.points = 2000, options.noise_px = 0.4,
  options.position_sigma = 0.5;
  MadeUpBlock truth = make_block(options);
  const int bad = 7;
  Random random(3);
  // Within the tolerance of a first resection (12 px), far beyond what an adjusted ray may be off (4 px).
  for (adjust::GroundPoint& p : truth.block.points)
    for (adjust::Ray& r : p.rays)
      if (r.station == bad) r.x += Eigen::Vector2d(random.normal(9), random.normal(9));
  Progress progress;
  const orient::OrientResult result = orient::orient(truth.block, truth.names, {}, progress);
  REQUIRE(result.not_oriented.size() == 1);
  CHECK(result.not_oriented[0].station == bad);
  CHECK_FALSE(truth.block.stations[bad].oriented);
  CHECK_THAT(result.not_oriented[0].reason, Contains("agree"));
  CHECK(result.adjustment.reprojection_rms_px < 0.7);
}

namespace {

/// The last half of a block's stations moved into a frame of its own.
std::vector<orient::Part> parted(adjust::Block& block, const orient::Similarity& away) {
  std::vector<orient::Part> parts(2);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    adjust::Station& s = block.stations[i];
    const bool second = 2 * i >= block.stations.size();
    parts[second].stations.push_back(static_cast<int>(i));
    if (second) s.C = away.scale * (away.R * s.C) + away.t, s.R = away.R * s.R;
  }
  return parts;
}

}  // namespace

TEST_CASE("Parts in frames of their own are joined where they see the same points, and only there") {
  MadeUpOptions options;
  options.strips = 4, options.per_strip = 5, options.points = 2500, options.noise_px = 0.3;
  MadeUpBlock truth = make_block(options);
  adjust::Block block = truth.block;
  orient::Similarity away;
  away.scale = 0.02, away.R = Eigen::AngleAxisd(2.1, Eigen::Vector3d(1, 2, 3).normalized()).toRotationMatrix();
  away.t = {3, -1, 7};
  SECTION("a third of the common points wrong") {
    Random random(4);
    for (std::size_t p = 0; p < block.points.size(); p += 3)
      for (adjust::Ray& r : block.points[p].rays)
        if (2 * static_cast<std::size_t>(r.station) >= block.stations.size())
          r.x += Eigen::Vector2d(40, random.normal(40));
    std::vector<orient::Part> parts = parted(block, away);
    orient::merge_parts(block, parts);
    REQUIRE(parts.size() == 1);
    CHECK(parts[0].stations.size() == block.stations.size());
    // 0.3 px over the strip that both see, carried across the other half: a few pixels of 0.06 m.
    for (std::size_t i = 0; i < block.stations.size(); ++i)
      CHECK((block.stations[i].C - truth.block.stations[i].C).norm() < 0.25);
  }
  SECTION("nothing in common") {
    for (adjust::GroundPoint& p : block.points)
      p.rays.erase(std::remove_if(p.rays.begin(), p.rays.end(),
                                  [&](const adjust::Ray& r) {
                                    return (2 * static_cast<std::size_t>(r.station) >= block.stations.size()) !=
                                           (p.X.x() > 0);
                                  }),
                   p.rays.end());
    std::vector<orient::Part> parts = parted(block, away);
    orient::merge_parts(block, parts);
    CHECK(parts.size() == 2);
  }
}

TEST_CASE("The links that hold a block are the strongest spanning tree, weakest first") {
  adjust::Block block;
  block.cameras.resize(1);
  block.stations.resize(4);
  for (adjust::Station& s : block.stations) s.oriented = true;
  const auto share = [&](int a, int b, int points) {
    for (int i = 0; i < points; ++i) {
      adjust::GroundPoint p;
      p.X.setZero();
      p.rays = {{a, {0, 0}, 0.5, true}, {b, {0, 0}, 0.5, true}};
      block.points.push_back(p);
    }
  };
  share(0, 1, 9), share(1, 2, 3), share(0, 2, 2), share(2, 3, 5);
  const auto links = orient::holding_links(block);
  REQUIRE(links.size() == 3);
  CHECK(links[0].points == 3);  // 1 - 2: without it two and two photos come apart; 0 - 2 is weaker and not needed
  CHECK(links[0].a == 1);
  CHECK(links[2].points == 9);
  CHECK(orient::tied_together(block) == std::vector<std::vector<int>>{{0, 1, 2, 3}});
  block.points.resize(9);  // the link 0 - 1 alone
  block.stations[3].oriented = false;
  CHECK(orient::tied_together(block) == std::vector<std::vector<int>>{{0, 1}, {2}});
}

TEST_CASE(
    "Control lays a block by what each point knows; points that people measured without coordinates have no say") {
  MadeUpOptions options;
  options.control = 6, options.checks = 0;
  const adjust::Block truth = make_block(options).block;
  adjust::Block block = truth;
  for (adjust::Station& s : block.stations) s.position.setConstant(mesograph::nan);
  const auto leave = [](adjust::SurveyedPoint& p, const Eigen::Vector3d& known) {
    for (int a = 0; a < 3; ++a) p.sigma[a] = known[a] > 0 ? 1 / std::sqrt(known[a]) : mesograph::nan;
    for (int a = 0; a < 3; ++a)
      if (known[a] == 0) p.surveyed[a] = -999;  // what nobody measured may be anything
  };
  for (adjust::SurveyedPoint& p : block.surveyed) p.axes = Eigen::Matrix3d::Identity();
  bool lies = true;
  SECTION("three in space among natural ones, plans and heights") {
    for (const std::size_t i : {3, 4}) {
      block.surveyed[i].natural = true;
      block.surveyed[i].surveyed.setZero(), block.surveyed[i].sigma.setConstant(mesograph::nan);
    }
    leave(block.surveyed[5], {2500, 2500, 0});
  }
  SECTION("plans here, heights there") {
    for (const std::size_t i : {0, 1, 2}) leave(block.surveyed[i], {2500, 2500, 0});
    for (const std::size_t i : {3, 4, 5}) leave(block.surveyed[i], {0, 0, 2500});
  }
  SECTION("natural points alone") {
    for (adjust::SurveyedPoint& p : block.surveyed)
      p.natural = true, p.surveyed.setZero(), p.sigma.setConstant(mesograph::nan);
    lies = false;
  }
  SECTION("heights alone") {
    for (adjust::SurveyedPoint& p : block.surveyed) leave(p, {0, 0, 2500});
    lies = false;
  }
  orient::Similarity away;
  away.scale = 0.037, away.t = {3, -7, 11};
  away.R =
      (Eigen::AngleAxisd(2.1, Eigen::Vector3d::UnitZ()) * Eigen::AngleAxisd(0.3, Eigen::Vector3d(1, 2, 0).normalized()))
          .toRotationMatrix();
  orient::transform(block, away);
  orient::Part all;
  for (std::size_t i = 0; i < block.stations.size(); ++i) all.stations.push_back(static_cast<int>(i));
  std::vector<orient::Part> parts = {all};
  orient::georeference(block, parts);
  CHECK(parts[0].datum == (lies ? orient::Datum::control : orient::Datum::none));
  if (!lies) return;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    // Exact rays and coordinates: what is left is the intersection's rest, a billionth of 68 m times the leverage.
    CHECK((block.stations[i].C - truth.stations[i].C).norm() < 1e-4);
    CHECK((block.stations[i].R - truth.stations[i].R).norm() < 1e-6);
  }
}

TEST_CASE("A datum needs width against its own length, in millimetres as in kilometres") {
  for (const double scale : {1e-4, 1e-2, 1.0, 1e3}) {
    Eigen::Matrix3Xd plane(3, 4), line(3, 4);
    plane << 0, 1, 0, 1, 0, 0, 1, 1, 0, 0, 0, 0;
    line << 0, 1, 2, 3, 0, 0.001, 0, 0.001, 0, 0, 0, 0;
    plane *= scale, line *= scale;
    const Eigen::Matrix3d R = Eigen::AngleAxisd(0.3, Eigen::Vector3d(1, 2, 3).normalized()).toRotationMatrix();
    const Eigen::Matrix3Xd source = 2 * R.transpose() * plane;
    const auto fit = orient::similarity(source, plane, orient::width_of_line(plane));
    REQUIRE(fit);
    CHECK_THAT(fit->scale, Catch::WithinRel(0.5, 1e-9));
    CHECK((fit->R - R).norm() < 1e-9);
    CHECK_FALSE(orient::similarity(line, line, orient::width_of_line(line)));
  }
}
