#include <hwy/targets.h>
#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <map>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/match/descriptor_match.hpp>
#include <mesograph/match/five_point.hpp>
#include <mesograph/match/guided.hpp>
#include <mesograph/match/nearest.hpp>
#include <mesograph/match/pair.hpp>
#include <mesograph/match/pairs.hpp>
#include <mesograph/match/similarity.hpp>
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
  SECTION("one match that nobody confirms does not join two confirmed points, two do") {
    const std::vector<std::size_t> six(6, 3);
    // Photos 0 to 2 and 3 to 5 see a point each, every pair of them matched.
    std::vector<match::PairMatches> pairs = {{0, 1, {{0, 0}}}, {0, 2, {{0, 0}}}, {1, 2, {{0, 0}}}, {3, 4, {{0, 0}}},
                                             {3, 5, {{0, 0}}}, {4, 5, {{0, 0}}}, {2, 3, {{0, 0}}}};
    CHECK(match::join_matches(six, pairs).size() == 2);
    pairs.push_back({1, 4, {{0, 0}}});
    const auto joined = match::join_matches(six, pairs);
    REQUIRE(joined.size() == 1);
    CHECK(joined[0].size() == 6);
  }
  SECTION("a lone match is a point of two rays; nothing is none") {
    CHECK(match::join_matches(keypoints, {{0, 2, {{1, 1}}}}).size() == 1);
    CHECK(match::join_matches(keypoints, {}).empty());
  }
}

TEST_CASE("Pairs: neighbours within and across sorties, none for a photo without position, bridges between parts") {
  std::vector<match::PairPhoto> photos(400);
  for (int sortie = 0; sortie < 2; ++sortie)
    for (int i = 0; i < 200; ++i) {
      match::PairPhoto& p = photos[static_cast<std::size_t>(200 * sortie + i)];
      p.aim = {10.0 * (i % 20) + 3 * sortie, 10.0 * (i / 20)};
      p.sortie = sortie;
    }
  const auto pairs = match::plan_pairs(photos);
  // 12 + 8 partners a photo, most of them mutual: linear in the number of photos, not its square (79,800).
  CHECK(pairs.size() > 400 * 10);
  CHECK(pairs.size() < 400 * 20);
  std::map<int, int> across;
  for (const auto& [a, b] : pairs) {
    CHECK(a < b);
    if (photos[a].sortie != photos[b].sortie) ++across[a], ++across[b];
    CHECK((photos[a].aim - photos[b].aim).norm() < (photos[a].sortie == photos[b].sortie ? 45 : 40));
  }
  CHECK(across.size() == photos.size());

  // The nearest ones are those of the plain search.
  std::vector<std::pair<double, int>> plain;
  for (int j = 0; j < 200; ++j)
    if (j != 110) plain.emplace_back((photos[110].aim - photos[j].aim).norm(), j);
  std::sort(plain.begin(), plain.end());
  const std::set<std::pair<int, int>> set(pairs.begin(), pairs.end());
  for (int k = 0; k < 8; ++k) CHECK(set.count({std::min(110, plain[k].second), std::max(110, plain[k].second)}));

  photos[7].aim.setConstant(mesograph::nan);
  for (const auto& [a, b] : match::plan_pairs(photos)) CHECK((a != 7 && b != 7));

  // Footprints of 8 m that do not reach the other sortie, 500 m away: without bridges they would be two blocks.
  for (std::size_t i = 0; i < photos.size(); ++i) {
    photos[i].radius = 8;
    if (photos[i].sortie == 1) photos[i].aim.y() += 500;
  }
  const auto bridged = match::plan_pairs(photos);
  const auto joining = std::count_if(bridged.begin(), bridged.end(),
                                     [&](const auto& p) { return photos[p.first].sortie != photos[p.second].sortie; });
  CHECK(joining >= 1);
  CHECK(joining <= 3);
  std::vector<int> members;
  for (int i = 0; i < 400; ++i)
    if (i != 7) members.push_back(i);
  const auto part = match::parts_of(members, bridged, photos.size());
  CHECK(*std::max_element(part.begin(), part.end()) == 0);

  // Opposite obliques see the ground from sides that cannot be matched.
  for (match::PairPhoto& p : photos) p.view = Eigen::Vector3d(p.sortie == 0 ? 1 : -1, 0, -1).normalized();
  for (match::PairPhoto& p : photos) p.aim.y() = p.sortie == 1 && p.aim.y() > 400 ? p.aim.y() - 500 : p.aim.y();
  const auto oblique = match::plan_pairs(photos);
  CHECK(std::count_if(oblique.begin(), oblique.end(),
                      [&](const auto& p) { return photos[p.first].sortie != photos[p.second].sortie; }) <= 3);
}

TEST_CASE("Photos of the same ground find each other among many") {
  // Ninety photos of thirty places: the three of a place share two thirds of their descriptors, slightly changed.
  mesograph::Random random(12);
  std::vector<std::vector<std::uint8_t>> rows(90);
  std::vector<std::uint8_t> sample;
  for (int place = 0; place < 30; ++place) {
    const auto ground = random_rows(200, 100 + static_cast<std::uint64_t>(place), 120);
    for (int k = 0; k < 3; ++k) {
      auto own = random_rows(200, 1000 + static_cast<std::uint64_t>(3 * place + k), 120);
      for (std::size_t i = 0; i < 133 * 128; ++i)
        own[i] = static_cast<std::uint8_t>(std::clamp(ground[i] + static_cast<int>(random.below(21)) - 10, 0, 255));
      sample.insert(sample.end(), own.begin(), own.begin() + 60 * 128);
      rows[static_cast<std::size_t>(3 * place + k)] = std::move(own);
    }
  }
  const match::Vocabulary words = match::learn_words(sample);
  CHECK(words.words == 64);
  std::vector<std::vector<float>> signatures;
  for (const auto& r : rows) signatures.push_back(match::signature(words, r.data(), r.size() / 128));
  double norm = 0;
  for (const float f : signatures[0]) norm += f * f;
  CHECK(std::abs(norm - 1) < 1e-4);
  match::SimilarOptions options;
  options.partners = 2;
  std::vector<int> all(90);
  for (int i = 0; i < 90; ++i) all[static_cast<std::size_t>(i)] = i;
  const auto pairs = match::similar_pairs(signatures, all, options);
  const std::set<std::pair<int, int>> set(pairs.begin(), pairs.end());
  int found = 0;
  for (int place = 0; place < 30; ++place)
    for (const auto& [a, b] : {std::pair{0, 1}, {0, 2}, {1, 2}}) found += set.count({3 * place + a, 3 * place + b}) > 0;
  CHECK(found == 90);
  CHECK(pairs.size() < 90 + 2 * 30);  // and little else but what joins the thirty parts
  const auto part = match::parts_of(all, pairs, 90);
  CHECK(*std::max_element(part.begin(), part.end()) == 0);
  // Few photos: every pair.
  options.all_below = 90;
  CHECK(match::similar_pairs(signatures, all, options).size() == 90 * 89 / 2);
}

TEST_CASE("A well-spread selection serves every cell and takes the points with most rays") {
  mesograph::Random random(3);
  std::vector<std::vector<std::uint32_t>> cells;
  for (int i = 0; i < 3000; ++i) {
    cells.emplace_back();
    for (std::size_t k = 2 + random.below(5); k > 0; --k)
      cells.back().push_back(static_cast<std::uint32_t>(random.below(60)));
  }
  cells.push_back({60, 60});  // a cell that only one point of two rays sees
  const auto chosen = match::choose_spread(cells, 62, 8);
  std::vector<int> filled(62, 0);
  std::size_t count = 0;
  double rays_in = 0, rays_out = 0;
  for (std::size_t i = 0; i < cells.size(); ++i) {
    for (const auto c : cells[i]) filled[c] += chosen[i];
    count += chosen[i] != 0;
    (chosen[i] ? rays_in : rays_out) += static_cast<double>(cells[i].size());
  }
  for (std::size_t c = 0; c < 60; ++c) CHECK(filled[c] >= 8);
  CHECK(filled[60] == 2);
  CHECK(filled[61] == 0);
  CHECK(count < 300);  // 480 places, several a point
  CHECK(rays_in / static_cast<double>(count) > rays_out / static_cast<double>(cells.size() - count));
}

TEST_CASE("A pair shifted by a period of its texture is contradicted by the photos around") {
  // Four photos of a row of posts; posts keep their number in all pairs but 0-3, which is one post off.
  const std::vector<std::size_t> keypoints(4, 40);
  std::vector<match::PairMatches> pairs;
  for (int a = 0; a < 4; ++a)
    for (int b = a + 1; b < 4; ++b) {
      pairs.push_back({a, b, {}});
      const int shift = a == 0 && b == 3 ? 1 : 0;
      for (int i = 0; i + shift < 40; ++i) pairs.back().matches.push_back({i, i + shift});
    }
  const auto closures = match::closures(keypoints, pairs);
  CHECK(closures[0].confirmed == 40);  // 0-1: over photo 2; over photo 3 the shifted pair disagrees
  CHECK(closures[2].confirmed == 0);
  CHECK(closures[2].contradicted == 2 * 39);
  CHECK(match::drop_contradicted(keypoints, pairs) == 1);
  CHECK(pairs[2].matches.empty());
  const auto points = match::join_matches(keypoints, pairs);
  CHECK(points.size() == 40);
  for (const auto& p : points) CHECK((p.size() == 4 && p[0].keypoint == p[3].keypoint));
}

TEST_CASE("Closures are those of the plain count over all triples of photos") {
  mesograph::Random random(77);
  const std::size_t photos = 6, keys = 25;
  const std::vector<std::size_t> keypoints(photos, keys);
  std::vector<match::PairMatches> pairs;
  // to[a][b][i]: the keypoint of b that i of a is matched to, -1: none. Mutual, as matches are.
  std::vector<std::vector<std::vector<int>>> to(photos, {photos, std::vector<int>(keys, -1)});
  for (int a = 0; a < 6; ++a)
    for (int b = a + 1; b < 6; ++b) {
      if (random.below(5) == 0) continue;  // some pairs do not exist
      pairs.push_back({a, b, {}});
      for (int i = 0; i < static_cast<int>(keys); ++i) {
        const int j = random.below(3) == 0 ? (i + 1) % static_cast<int>(keys) : i;
        if (random.below(4) == 0 || to[b][a][j] >= 0) continue;
        to[a][b][i] = j, to[b][a][j] = i;
        pairs.back().matches.push_back({i, j});
      }
    }
  const auto found = match::closures(keypoints, pairs);
  REQUIRE(found.size() == pairs.size());
  for (std::size_t p = 0; p < pairs.size(); ++p) {
    std::size_t confirmed = 0, contradicted = 0;
    for (const match::Match& m : pairs[p].matches)
      for (std::size_t c = 0; c < photos; ++c) {
        const int over_a = to[pairs[p].a][c][m.a], over_b = to[pairs[p].b][c][m.b];
        if (over_a < 0 || over_b < 0) continue;
        ++(over_a == over_b ? confirmed : contradicted);
      }
    CHECK(found[p].confirmed == confirmed);
    CHECK(found[p].contradicted == contradicted);
  }
}

TEST_CASE("Sampson's distance is the shortest move onto the epipolar geometry, to first order") {
  mesograph::Random random(78);
  for (int trial = 0; trial < 20; ++trial) {
    Eigen::Matrix3d cross, R = Eigen::AngleAxisd(random.normal(0.2), Eigen::Vector3d::UnitY()).matrix();
    const Eigen::Vector3d t = Eigen::Vector3d(1, random.normal(0.2), random.normal(0.2)).normalized();
    cross << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
    const Eigen::Matrix3d E = cross * R;
    const Eigen::Vector3d a(random.normal(0.3), random.normal(0.3), -1);
    // b on the line of a, then moved off it by a known small distance.
    const Eigen::Vector3d line = E * a;
    Eigen::Vector3d b(random.normal(0.3), 0, -1);
    b.y() = (line.z() - line.x() * b.x()) / line.y();
    if (std::abs(b.y()) > 2) continue;
    const double off = 1e-4;
    b.head<2>() += off * line.head<2>().normalized();
    // The shortest move of both points together, by walking down: the constraint is linear over such distances.
    Eigen::Vector4d move = Eigen::Vector4d::Zero();
    for (int step = 0; step < 5; ++step) {
      const Eigen::Vector3d am = a + Eigen::Vector3d(move[0], move[1], 0),
                            bm = b + Eigen::Vector3d(move[2], move[3], 0);
      Eigen::Vector4d gradient;
      for (int k = 0; k < 4; ++k) {
        Eigen::Vector4d d = Eigen::Vector4d::Zero();
        d[k] = 1e-6;
        const Eigen::Vector3d ad = am + Eigen::Vector3d(d[0], d[1], 0), bd = bm + Eigen::Vector3d(d[2], d[3], 0);
        gradient[k] = (bd.dot(E * ad) - bm.dot(E * am)) / 1e-6;
      }
      // Least move that fulfils the linearised constraint.
      move = gradient * (gradient.dot(move) - bm.dot(E * am)) / gradient.squaredNorm();
    }
    CHECK(std::abs(std::sqrt(match::sampson2(E, a, b)) / move.norm() - 1) < 1e-3);
    CHECK(move.norm() <= off * (1 + 1e-6));  // moving both is never further than moving one
  }
}

TEST_CASE("Along the verified geometry twins of texture are told apart, and nothing is matched where nobody leads") {
  mesograph::Random random(5);
  const TwoViews views;
  camera::Camera camera{"c", 1200, 900, camera::Interior::Zero()};
  camera.interior[camera::c] = 1000;
  keypoint::Keypoints a, b;
  const auto rows = random_rows(600, 9, 100);
  std::vector<match::Match> distinct;
  int drawn = 0;
  for (int i = 0; drawn < 600 && i < 5000; ++i) {
    const Eigen::Vector3d X(random.uniform(-5, 5), random.uniform(-4, 4), random.uniform(-11, -10));
    const auto xa = camera::project(camera, X),
               xb = camera::project(camera, Eigen::Vector3d(views.R.transpose() * (X - views.C)));
    if (!xa || !xb || xb->x() < 0 || xb->y() < 0 || xb->x() > 1200 || xb->y() > 900 || xa->x() < 0 || xa->x() > 1200 ||
        xa->y() < 0 || xa->y() > 900)
      continue;
    a.points.push_back({static_cast<float>(xa->x()), static_cast<float>(xa->y()), 2, 0});
    b.points.push_back({static_cast<float>(xb->x()), static_cast<float>(xb->y()), 2, 0});
    // Every second keypoint looks like thirty others: only the geometry can tell them apart.
    const std::size_t look = drawn % 2 ? static_cast<std::size_t>(drawn % 20) : static_cast<std::size_t>(drawn);
    for (keypoint::Keypoints* k : {&a, &b})
      k->descriptors.insert(k->descriptors.end(), rows.begin() + static_cast<std::ptrdiff_t>(look * 128),
                            rows.begin() + static_cast<std::ptrdiff_t>(look * 128 + 128));
    if (drawn % 2 == 0 && look >= 20) distinct.push_back({drawn, drawn});
    ++drawn;
  }
  REQUIRE(drawn == 600);
  match::Verification verified;
  verified.matches = distinct;
  verified.E = views.essential();
  verified.limit2 = 1e-6;  // a thousandth of the principal distance: 1 px
  const auto guided = match::guide(verified, a, camera, b, camera);
  std::size_t right = 0;
  for (const match::Match& m : guided) right += m.a == m.b;
  INFO(distinct.size() << " distinct, " << guided.size() << " guided, " << right << " right");
  CHECK(guided.size() > distinct.size() + 200);
  CHECK(static_cast<double>(right) > 0.99 * static_cast<double>(guided.size()));
  CHECK(match::match(a, b).size() < distinct.size() + 30);  // what the ratio test alone can do

  verified.matches.resize(5);  // nobody leads
  CHECK(match::guide(verified, a, camera, b, camera).size() == 5);
}

TEST_CASE("The strongest keypoints lead all others of a pair, few in common are found, and strangers are told") {
  const TwoViews views;
  camera::Camera camera{"c", 1200, 900, camera::Interior::Zero()};
  camera.interior[camera::c] = 1000;
  constexpr std::size_t keypoints = 4000;
  struct Case {
    std::size_t common, least;  // places that both photos show, and those of them that must be matched
  };
  // Which of two photos' keypoints are their strongest differs: a place is among both strongest 1500 by chance.
  for (const Case& c : {Case{2500, 2400}, Case{150, 130}, Case{0, 0}}) {
    Random random(31 + c.common);
    const auto rows = random_rows(2 * keypoints, 77, 100);
    std::array<std::vector<std::size_t>, 2> place;
    for (std::vector<std::size_t>& p : place) {
      for (std::size_t i = 0; i < keypoints; ++i) p.push_back(i);
      for (std::size_t i = keypoints; i > 1; --i) std::swap(p[i - 1], p[random.below(i)]);
    }
    std::vector<std::array<Eigen::Vector2d, 2>> image;
    while (image.size() < keypoints) {
      const Eigen::Vector3d X(random.uniform(-5, 5), random.uniform(-4, 4), random.uniform(-11, -10));
      const auto xa = camera::project(camera, X),
                 xb = camera::project(camera, Eigen::Vector3d(views.R.transpose() * (X - views.C)));
      if (xa && xb && xa->x() > 0 && xa->x() < 1200 && xa->y() > 0 && xa->y() < 900 && xb->x() > 0 && xb->x() < 1200 &&
          xb->y() > 0 && xb->y() < 900)
        image.push_back({*xa, *xb});
    }
    keypoint::Keypoints photos[2];
    for (std::size_t side = 0; side < 2; ++side)
      for (const std::size_t p : place[side]) {
        const Eigen::Vector2d x =
            p < c.common ? image[p][side] : Eigen::Vector2d(random.uniform(0, 1200), random.uniform(0, 900));
        photos[side].points.push_back(
            {static_cast<float>(x.x() + random.normal(0.2)), static_cast<float>(x.y() + random.normal(0.2)), 2, 0});
        // What is not common looks like nothing in the other photo.
        const std::size_t look = p < c.common ? p : p + side * keypoints;
        for (int k = 0; k < keypoint::descriptor_size; ++k)
          photos[side].descriptors.push_back(static_cast<std::uint8_t>(std::clamp(
              rows[look * keypoint::descriptor_size + static_cast<std::size_t>(k)] + random.normal(6), 0.0, 255.0)));
      }
    const auto found = match::match_pair(photos[0], camera, photos[1], camera, 5);
    std::size_t right = 0;
    for (const match::Match& m : found)
      right += place[0][static_cast<std::size_t>(m.a)] == place[1][static_cast<std::size_t>(m.b)];
    INFO(c.common << " common, " << found.size() << " found, " << right << " right");
    CHECK(right >= c.least);
    CHECK(found.size() <= right + found.size() / 100);
  }
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
