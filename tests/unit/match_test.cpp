#include <hwy/targets.h>
#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <map>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/match/descriptor_match.hpp>
#include <mesograph/match/five_point.hpp>
#include <mesograph/match/nearest.hpp>
#include <mesograph/match/pairs.hpp>
#include <mesograph/match/tie_points.hpp>
#include <mesograph/match/verify.hpp>
#include <set>

using namespace mesograph;

namespace {

std::vector<std::uint8_t> random_rows(std::size_t n, std::uint64_t seed, int values) {
  Random random(seed);
  std::vector<std::uint8_t> rows(n * 128);
  for (std::uint8_t& v : rows) v = static_cast<std::uint8_t>(random.below(static_cast<std::size_t>(values)));
  return rows;
}

/// The plain twin: every distance, lowest index first.
std::vector<match::Nearest> plain_nearest(const std::vector<std::uint8_t>& a, const std::vector<std::uint8_t>& b) {
  std::vector<match::Nearest> out;
  for (std::size_t i = 0; i < a.size() / 128; ++i) {
    match::Nearest n;
    for (std::size_t j = 0; j < b.size() / 128; ++j) {
      std::int32_t d = 0;
      for (std::size_t k = 0; k < 128; ++k) d += (a[128 * i + k] - b[128 * j + k]) * (a[128 * i + k] - b[128 * j + k]);
      if (d < n.best) {
        n.second = n.best;
        n.best = d;
        n.index = static_cast<std::int32_t>(j);
      } else {
        n.second = std::min(n.second, d);
      }
    }
    out.push_back(n);
  }
  return out;
}

struct TwoViews {
  Eigen::Matrix3d R = Eigen::AngleAxisd(0.2, Eigen::Vector3d(0.3, 1, 0.2).normalized()).toRotationMatrix();
  Eigen::Vector3d C{1.0, 0.3, -0.2};
  /// E with b^T E a = 0, written out from coplanarity: b, base and a lie in one plane.
  Eigen::Matrix3d essential() const {
    const Eigen::Vector3d t = -R.transpose() * C;
    Eigen::Matrix3d cross;
    cross << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
    const Eigen::Matrix3d E = cross * R.transpose();
    return E / E.norm();
  }
};

}  // namespace

TEST_CASE("Nearest descriptors are those of the plain search, whatever the sizes") {
  for (const auto& [n_a, n_b, values] :
       {std::tuple{1, 1, 256}, {1, 40, 256}, {37, 3, 256}, {64, 64, 256}, {101, 67, 256}, {130, 131, 2}, {5, 200, 1}}) {
    const auto a = random_rows(static_cast<std::size_t>(n_a), 1, values),
               b = random_rows(static_cast<std::size_t>(n_b), 2, values);
    std::vector<match::Nearest> of_a, of_b;
    match::nearest_both_ways(a.data(), static_cast<std::size_t>(n_a), b.data(), static_cast<std::size_t>(n_b), of_a,
                             of_b);
    for (const auto& [fast, slow] : {std::pair{of_a, plain_nearest(a, b)}, {of_b, plain_nearest(b, a)}}) {
      REQUIRE(fast.size() == slow.size());
      for (std::size_t i = 0; i < slow.size(); ++i) {
        INFO(n_a << " x " << n_b << " of " << values << " values, row " << i);
        CHECK(fast[i].index == slow[i].index);
        CHECK(fast[i].best == slow[i].best);
        if (slow[i].second != INT32_MAX) CHECK(fast[i].second == slow[i].second);
      }
    }
  }
}

TEST_CASE("Matches are mutual and distinct") {
  keypoint::Keypoints a, b;
  a.descriptors = random_rows(50, 5, 256);
  b.descriptors = a.descriptors;
  a.points.resize(50), b.points.resize(50);
  for (std::size_t k = 0; k < 128; ++k)
    b.descriptors[k] = static_cast<std::uint8_t>(b.descriptors[k] ^ (k % 7 == 0 ? 3 : 0));
  // Rows 10 and 11 of b are the same: neither is distinct.
  std::copy_n(b.descriptors.begin() + 1280, 128, b.descriptors.begin() + 1408);
  const auto found = match::match(a, b);
  std::set<int> matched;
  for (const match::Match& m : found) {
    CHECK(m.a == m.b);
    matched.insert(m.a);
  }
  CHECK(found.size() == 48);
  CHECK((!matched.count(10) && !matched.count(11)));
  CHECK(match::match(a, keypoint::Keypoints()).empty());
}

TEST_CASE("Five exact pairs of rays contain their essential matrix, on rough and on flat ground") {
  const TwoViews views;
  const Eigen::Matrix3d truth = views.essential();
  Random random(6);
  int found = 0;
  constexpr int trials = 200;
  for (int n = 0; n < trials; ++n) {
    Eigen::Matrix<double, 3, 5> a, b;
    for (int i = 0; i < 5; ++i) {
      const Eigen::Vector3d X(random.uniform(-4, 4), random.uniform(-3, 3), n % 2 ? -10.0 : random.uniform(-14, -7));
      a.col(i) = X / -X.z();
      b.col(i) = views.R.transpose() * (X - views.C);
    }
    double nearest = 1e9;
    const auto all = match::five_point(a, b);
    CHECK(all.size() <= 10);
    for (const Eigen::Matrix3d& E : all) nearest = std::min({nearest, (E - truth).norm(), (E + truth).norm()});
    found += nearest < 1e-4;
  }
  CHECK(found >= 0.98 * trials);  // a double root now and then loses half the digits
}

TEST_CASE("Verification keeps the right matches and throws out the wrong") {
  const TwoViews views;
  camera::Camera camera{"t", 1200, 900, camera::Interior::Zero()};
  camera.interior[camera::c] = 1000;
  Random random(7);
  constexpr int n = 300, wrong = 100;
  Eigen::Matrix2Xd xa(2, n), xb(2, n);
  std::vector<match::Match> matches;
  for (int i = 0; i < n; ++i) {
    const Eigen::Vector3d X(random.uniform(-4, 4), random.uniform(-3, 3), random.uniform(-14, -8));
    xa.col(i) = *camera::project(camera, X);
    xb.col(i) = *camera::project(camera, views.R.transpose() * (X - views.C));
    if (i < wrong) xb.col(i) = Eigen::Vector2d(random.uniform(0, 1200), random.uniform(0, 900));
    matches.push_back({i, i});
  }
  const match::Verification found = match::verify(matches, xa, camera, xb, camera, 3);
  int right = 0, kept_wrong = 0;
  for (const match::Match& m : found.matches) (m.a < wrong ? kept_wrong : right)++;
  CHECK(right == n - wrong);
  CHECK(kept_wrong < 8);  // a band of 12 px of 900 catches one in 75 by chance
  SECTION("the same seed keeps the same") {
    const auto again = match::verify(matches, xa, camera, xb, camera, 3);
    CHECK(again.E == found.E);
  }
  SECTION("and nothing of chance matches") {
    matches.resize(wrong);
    CHECK(match::verify(matches, xa, camera, xb, camera, 3).matches.empty());
  }
}

TEST_CASE("Matches join to tie points; two keypoints of one photo in a point are a contradiction") {
  const std::vector<std::size_t> keypoints = {3, 3, 3};
  SECTION("a chain is one point") {
    const auto points = match::join_matches(keypoints, {{0, 1, {{0, 1}}}, {1, 2, {{1, 2}}}});
    REQUIRE(points.size() == 1);
    REQUIRE(points[0].size() == 3);
    CHECK((points[0][0].photo == 0 && points[0][0].keypoint == 0));
    CHECK((points[0][2].photo == 2 && points[0][2].keypoint == 2));
  }
  SECTION("equally linked rivals are both left out") {
    // 0:0 - 1:0 and 0:1 - 1:0 cannot both be.
    const auto points = match::join_matches(keypoints, {{0, 1, {{0, 0}, {1, 0}}}, {1, 2, {{0, 0}}}});
    REQUIRE(points.size() == 1);
    CHECK(points[0].size() == 2);
    CHECK(points[0][0].photo == 1);
  }
  SECTION("the better linked rival stays") {
    const auto points = match::join_matches(keypoints, {{0, 1, {{0, 0}, {1, 0}}}, {0, 2, {{0, 0}}}, {1, 2, {{0, 0}}}});
    REQUIRE(points.size() == 1);
    REQUIRE(points[0].size() == 3);
    CHECK(points[0][0].keypoint == 0);
  }
  SECTION("a lone match is a point of two rays; nothing is none") {
    CHECK(match::join_matches(keypoints, {{0, 2, {{1, 1}}}}).size() == 1);
    CHECK(match::join_matches(keypoints, {}).empty());
  }
}

TEST_CASE("Pairs: neighbours within and across sorties, everybody for a photo without position") {
  std::vector<match::PairPhoto> photos;
  for (int sortie = 0; sortie < 2; ++sortie)
    for (int i = 0; i < 200; ++i) photos.push_back({{10.0 * (i % 20) + 3 * sortie, 10.0 * (i / 20), 50}, sortie});
  const auto pairs = match::plan_pairs(photos);
  // 12 + 8 partners a photo, most of them mutual: linear in the number of photos, not its square (79,800).
  CHECK(pairs.size() > 400 * 10);
  CHECK(pairs.size() < 400 * 20);
  std::map<int, int> across;
  for (const auto& [a, b] : pairs) {
    CHECK(a < b);
    if (photos[a].sortie != photos[b].sortie) ++across[a], ++across[b];
    const double limit = photos[a].sortie == photos[b].sortie ? 45 : 40;
    CHECK((photos[a].X - photos[b].X).norm() < limit);
  }
  CHECK(across.size() == photos.size());
  photos[7].X.setConstant(mesograph::nan);
  const auto more = match::plan_pairs(photos);
  CHECK(std::count_if(more.begin(), more.end(), [](const auto& p) { return p.first == 7 || p.second == 7; }) == 399);
}

TEST_CASE("Every instruction set of this processor finds the same nearest descriptors") {
  const auto a = random_rows(143, 31, 256), b = random_rows(95, 32, 256);
  std::vector<match::Nearest> first_a, first_b;
  int sets = 0;
  for (std::int64_t left = hwy::SupportedTargets(); left != 0; left &= left - 1) {
    const std::int64_t target = left & -left;
    hwy::SetSupportedTargetsForTest(target);
    hwy::GetChosenTarget().Update(hwy::SupportedTargets());
    std::vector<match::Nearest> of_a, of_b;
    match::nearest_both_ways(a.data(), 143, b.data(), 95, of_a, of_b);
    if (++sets == 1) first_a = of_a, first_b = of_b;
    for (std::size_t i = 0; i < of_a.size(); ++i)
      REQUIRE((of_a[i].index == first_a[i].index && of_a[i].best == first_a[i].best &&
               of_a[i].second == first_a[i].second));
    for (std::size_t i = 0; i < of_b.size(); ++i)
      REQUIRE((of_b[i].index == first_b[i].index && of_b[i].best == first_b[i].best &&
               of_b[i].second == first_b[i].second));
  }
  hwy::SetSupportedTargetsForTest(0);
  hwy::GetChosenTarget().Update(hwy::SupportedTargets());
  CHECK(sets >= 2);
}

TEST_CASE("A lens that bends every line by pixels does not lose its matches to the narrowed limit") {
  const TwoViews views;
  camera::Camera bent{"t", 1200, 900, camera::Interior::Zero()}, known = bent;
  bent.interior << 1000, 0, 0, -0.06, 0, 0, 0, 0, 0, 0;  // 20 px in the corners
  known.interior[camera::c] = 1000;
  Random random(9);
  constexpr int n = 400;
  Eigen::Matrix2Xd xa(2, n), xb(2, n);
  std::vector<match::Match> matches;
  for (int i = 0; i < n; ++i) {
    const Eigen::Vector3d X(random.uniform(-4, 4), random.uniform(-3, 3), random.uniform(-14, -10));
    xa.col(i) = *camera::project(bent, X);
    xb.col(i) = *camera::project(bent, views.R.transpose() * (X - views.C));
    matches.push_back({i, i});
  }
  // All are right; the verifier knows c alone.
  CHECK(static_cast<double>(match::verify(matches, xa, known, xb, known, 3).matches.size()) > 0.9 * n);
}

TEST_CASE("Too few or repeated matches verify nothing, and quickly") {
  camera::Camera camera{"t", 1200, 900, camera::Interior::Zero()};
  camera.interior[camera::c] = 1000;
  Eigen::Matrix2Xd x = Eigen::Matrix2Xd::Constant(2, 60, 300.0);
  std::vector<match::Match> matches;
  for (int i = 0; i < 19; ++i) matches.push_back({i, i});
  CHECK(match::verify(matches, x, camera, x, camera, 1).matches.empty());
  CHECK(match::verify({}, x, camera, x, camera, 1).matches.empty());
}
