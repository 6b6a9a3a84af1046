#include <Eigen/LU>
#include <Eigen/QR>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/look_up.hpp>
#include <mesograph/dense/path_step.hpp>
#include <mesograph/dense/pinhole.hpp>
#include <mesograph/dense/plane_row.hpp>
#include <vector>

#include "random_image.hpp"

using namespace mesograph;

// What many pixels or labels are computed at once is held against one at a time, by its definition in doubles or ints.

namespace {

/// Bilinear in doubles: pixel (i, j) is known at its middle, the last one goes on 3 pixels beyond the rim; 0 farther
/// off and at gaps.
double bilinear(const photo::Grey& image, double x, double y) {
  if (!(x >= -3 && y >= -3 && x <= image.width + 3 && y <= image.height + 3)) return 0;
  const auto between = [](double v, int size) { return std::min(std::max(v - 0.5, 0.0), size - 1.0); };
  const double gx = between(x, image.width), gy = between(y, image.height);
  double sum = 0;
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col) {
      const double share = std::max(0.0, 1 - std::abs(gx - col)) * std::max(0.0, 1 - std::abs(gy - row));
      if (share > 1e-9 && image.at(col, row) == 0) return 0;
      sum += share * image.at(col, row);
    }
  return sum;
}

}  // namespace

TEST_CASE("Grey levels are looked up between pixels, over planes and surfaces, in rows of any length") {
  photo::Grey image = random_image(40, 30, 3);
  image.at(25, 12) = 0;
  // A map that shears and shrinks towards the right, so that rows leave the image on both sides.
  const dense::RowMap map{{-3.0f, 4.0f, 1.0f}, {0.9f, 0.35f, 0.004f}, {1.5f, -0.5f, 0.02f}};
  Random random(8);
  for (const int n : {1, 3, 7, 8, 15, 16, 17, 33, 64, 70}) {
    std::vector<float> w(n), found(n, -1.0f);
    for (float& v : w) v = static_cast<float>(random.uniform(0, 2));
    for (const bool surface : {false, true}) {
      const bool whole = dense::look_up(image, map, surface ? w.data() : nullptr, n, found.data());
      bool all = true;
      for (int c = 0; c < n; ++c) {
        const auto along = [&](std::size_t k) {
          return map.start[k] + c * static_cast<double>(map.along[k]) + (surface ? w[c] * map.base[k] : 0.0);
        };
        const double x = along(0) / along(2), y = along(1) / along(2), expected = bilinear(image, x, y);
        // Floats of 40 pixels hold their place to some millionths; levels differ by 255 at most from pixel to pixel.
        const bool at_rim = std::abs(x + 3) < 1e-4 || std::abs(y + 3) < 1e-4 || std::abs(x - 43) < 1e-4 ||
                            std::abs(y - 33) < 1e-4 || std::abs(x - 0.5 - std::round(x - 0.5)) < 1e-4;
        if (!at_rim) CHECK(std::abs(found[c] - expected) < 0.01);
        all = all && found[c] > 0;
      }
      CHECK(whole == all);
    }
  }
}

TEST_CASE("What lies behind a photo is not seen in it") {
  const photo::Grey image = random_image(20, 20, 4);
  const dense::RowMap behind{{-10.0f, -10.0f, -1.0f}, {0, 0, 0}, {0, 0, 0}};  // (10, 10) but for the sign
  std::vector<float> found(9, 5.0f);
  CHECK_FALSE(dense::look_up(image, behind, nullptr, 9, found.data()));
  CHECK(std::all_of(found.begin(), found.end(), [](float v) { return v == 0; }));
}

TEST_CASE("A step along four paths is what the recursion says, label by label") {
  Random random(17);
  for (const int slots : {16, 32, 48, 112}) {
    std::vector<std::uint8_t> cost(slots);
    for (std::uint8_t& c : cost) c = static_cast<std::uint8_t>(random.below(256));
    std::vector<std::int16_t> total(slots), now[4], before[4];
    for (std::int16_t& t : total) t = static_cast<std::int16_t>(random.below(900));
    const std::vector<std::int16_t> given = total;
    std::array<dense::Path, 4> paths;
    const int slope = 9;
    for (std::size_t k = 0; k < 4; ++k) {
      before[k].resize(slots + 2), now[k].assign(slots + 2, -1);
      for (std::int16_t& b : before[k]) b = static_cast<std::int16_t>(40 + random.below(300));
      before[k].front() = before[k].back() = dense::beyond;
      paths[k] = {before[k].data(), now[k].data(), *std::min_element(before[k].begin(), before[k].end()),
                  static_cast<std::int16_t>(30 + 20 * k)};
    }
    std::int16_t least[4];
    dense::step_paths(cost.data(), paths, slope, slots, total.data(), least);
    std::vector<int> sums(given.begin(), given.end());
    for (std::size_t k = 0; k < 4; ++k) {
      int lowest = 1 << 20;
      for (int d = 0; d < slots; ++d) {
        const int same = before[k][d + 1], lower = before[k][d] + slope, higher = before[k][d + 2] + slope,
                  jump = paths[k].least_before + paths[k].jump;
        const int expected = cost[d] + std::min(std::min(same, jump), std::min(lower, higher)) - paths[k].least_before;
        CHECK(now[k][d + 1] == expected);
        lowest = std::min(lowest, expected);
        sums[d] += expected;
      }
      CHECK(least[k] == lowest);
      CHECK(now[k].front() == dense::beyond);
      CHECK(now[k].back() == dense::beyond);
    }
    CHECK(std::equal(sums.begin(), sums.end(), total.begin()));
    CHECK(dense::least_sum(total.data(), slots) == *std::min_element(total.begin(), total.end()));
  }
}

TEST_CASE("Planes through neighbours are what a weighted adjustment by orthogonal decomposition gives") {
  constexpr int w = 37, h = 9, reach = 2, stride = w + 2 * reach + dense::PlaneRow::widest;
  std::vector<float> value(stride * (h + 2 * reach), 1e6f), variance(value.size(), 1.0f), bend;
  for (int k = 0; k < 25; ++k) bend.push_back(0.01f * static_cast<float>(k % 7));
  Random random(5);
  const auto place = [&](int col, int row) { return static_cast<std::size_t>((row + reach) * stride + reach + col); };
  for (int row = 0; row < h; ++row)
    for (int col = 0; col < w; ++col) {
      if (random.below(9) == 0) continue;  // empty
      // Two surfaces, one before the other.
      const double surface = col + row < 20 ? 300 + 0.3 * col - 0.2 * row : 340;
      value[place(col, row)] = static_cast<float>(surface + random.uniform(-0.3, 0.3));
      variance[place(col, row)] = static_cast<float>(random.uniform(0.01, 0.5));
    }
  // A pixel on its own.
  for (int row = 0; row < 5; ++row)
    for (int col = 0; col < 5; ++col)
      if (row != 2 || col != 2) value[place(col, row)] = 1e6f;
  value[place(2, 2)] = 300;
  for (int row = 0; row < h; ++row) {
    std::vector<float> shift(w + dense::PlaneRow::widest), sigma2(shift.size());
    const dense::PlaneRow of_row{&value[place(0, row)], &variance[place(0, row)], stride, reach, bend.data(), 2.0f};
    dense::fit_planes(of_row, w, shift.data(), sigma2.data());
    for (int col = 0; col < w; ++col) {
      const float here = value[place(col, row)];
      if (here == 1e6f) continue;
      std::vector<Eigen::Vector4d> rows;  // of a, b, c and the difference, all over their sigma
      for (int dy = -reach; dy <= reach; ++dy)
        for (int dx = -reach; dx <= reach; ++dx) {
          if ((dx + dy) % 2 != 0) continue;
          const std::size_t at = place(col, row) + dy * stride + dx;
          const double off = static_cast<double>(value[at]) - here;
          const float bent = bend[static_cast<std::size_t>((dy + reach) * 5 + dx + reach)];
          if (std::abs(off) <= 2.0) rows.push_back(Eigen::Vector4d(1, dx, dy, off) / std::sqrt(variance[at] + bent));
        }
      Eigen::MatrixX3d A(rows.size(), 3);
      Eigen::VectorXd b(rows.size());
      for (Eigen::Index i = 0; i < A.rows(); ++i)
        A.row(i) = rows[static_cast<std::size_t>(i)].head<3>(), b[i] = rows[static_cast<std::size_t>(i)][3];
      const Eigen::ColPivHouseholderQR<Eigen::MatrixX3d> qr(A);
      if (qr.rank() < 3) {
        CHECK(shift[col] == 0);
        CHECK(sigma2[col] > 1e6f);
        continue;
      }
      if (rows.size() < 6) continue;  // near to what carries no plane, floats and doubles may differ
      // Sums of floats of a few hundred terms hold six digits; a badly spread handful loses two or three of them.
      CHECK(std::abs(shift[col] - qr.solve(b)[0]) < 2e-3);
      CHECK(sigma2[col] == Approx((A.transpose() * A).inverse()(0, 0)).epsilon(5e-3));
    }
  }
}

TEST_CASE("A photo without distortion becomes the same pinhole photo, to its last row and column") {
  adjust::Block block;
  camera::Camera camera;
  camera.width = 37, camera.height = 26;
  camera.interior[camera::c] = 40;
  block.cameras.push_back(camera);
  adjust::Station station;
  station.camera = 0;
  block.stations.push_back(station);
  const photo::Grey image = random_image(37, 26, 9);
  const dense::Pinhole pinhole = dense::pinhole_of(camera, station, 0);
  const photo::Grey same = dense::undistort(image, block, station, mesograph::nan, pinhole);
  REQUIRE(same.data.size() == image.data.size());
  for (std::size_t i = 0; i < image.data.size(); ++i) CHECK(std::abs(same.data[i] - image.data[i]) < 1e-3);
}
