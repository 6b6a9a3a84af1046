#include <Eigen/QR>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/cloud/bucket_file.hpp>
#include <mesograph/cloud/cell_colour.hpp>
#include <mesograph/cloud/height_grid.hpp>
#include <mesograph/cloud/place_grid.hpp>
#include <mesograph/dense/correlate.hpp>
#include <set>

#include "folder.hpp"

using namespace mesograph;

namespace {

/// Cells of random heights, a fifth of them empty where asked for.
cloud::HeightGrid random_grid(int columns, int rows, bool gaps, std::uint64_t seed) {
  Random random(seed);
  cloud::HeightGrid out;
  out.columns = columns, out.rows = rows, out.cell = 0.5;
  for (int i = 0; i < columns * rows; ++i) {
    const double z = random.uniform(600, 605);
    out.z.push_back(gaps && random.uniform(0, 1) < 0.2 ? mesograph::nan : z);
  }
  return out;
}

/// The least (greatest) height within some cells of one, by looking at each.
double extreme_about(const cloud::HeightGrid& grid, int col, int row, int half, bool least) {
  double out = least ? INFINITY : -INFINITY;
  for (int r = row - half; r <= row + half; ++r)
    for (int c = col - half; c <= col + half; ++c)
      if (grid.inside(c, r)) out = least ? std::min(out, grid.at(c, r)) : std::max(out, grid.at(c, r));
  return out;
}

}  // namespace

TEST_CASE("An opening is the greatest of the least, however the window compares with the grid") {
  const int half = GENERATE(1, 2, 5, 30);
  const cloud::HeightGrid grid = random_grid(23, 17, false, 4);
  cloud::HeightGrid eroded = grid;
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) eroded.at(col, row) = extreme_about(grid, col, row, half, true);
  const cloud::HeightGrid found = cloud::opened(grid, half);
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col)
      CHECK(found.at(col, row) == extreme_about(eroded, col, row, half, false));
}

TEST_CASE("Marks grow and shrink by squares, and shrinking what grew covers what was") {
  const int by = GENERATE(0, 1, 3);
  const cloud::HeightGrid grid = random_grid(19, 14, false, 5);
  Random random(6);
  cloud::CellMarks marks;
  for (std::size_t i = 0; i < grid.z.size(); ++i) marks.push_back(random.uniform(0, 1) < 0.06 ? 1 : 0);
  const cloud::CellMarks large = cloud::grown(grid, marks, by), back = cloud::shrunk(grid, large, by);
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      bool near = false;
      for (int r = row - by; r <= row + by; ++r)
        for (int c = col - by; c <= col + by; ++c) near = near || (grid.inside(c, r) && marks[grid.index(c, r)]);
      CHECK(large[grid.index(col, row)] == (near ? 1 : 0));
      if (marks[grid.index(col, row)]) CHECK(back[grid.index(col, row)] == 1);
    }
}

TEST_CASE("Groups are what touches, corners too, and hold every mark once") {
  cloud::HeightGrid grid = random_grid(6, 4, false, 7);
  // Two by their corners, one alone, a ring.
  const std::vector<std::string> drawn = {"#....#", ".#..##", "....#.", "#....#"};
  cloud::CellMarks marks;
  for (const std::string& line : drawn)
    for (const char c : line) marks.push_back(c == '#' ? 1 : 0);
  const auto groups = cloud::groups_of(grid, marks);
  std::multiset<std::size_t> sizes;
  std::set<std::size_t> all;
  for (const auto& group : groups) {
    sizes.insert(group.size());
    all.insert(group.begin(), group.end());
  }
  CHECK(sizes == std::multiset<std::size_t>{1, 2, 5});
  CHECK(all.size() == 8);
}

TEST_CASE("A plane through a window is that of least squares, gaps and rims of the grid or not") {
  const cloud::HeightGrid grid = random_grid(15, 12, true, 8);
  const cloud::PlaneSums sums(grid);
  for (const auto& [col, row, reach] : {std::tuple{7, 6, 2}, {0, 0, 4}, {14, 11, 3}, {3, 10, 5}}) {
    std::vector<Eigen::Vector3d> rows;
    std::vector<double> heights;
    for (int r = row - reach; r <= row + reach; ++r)
      for (int c = col - reach; c <= col + reach; ++c)
        if (grid.inside(c, r) && std::isfinite(grid.at(c, r))) {
          rows.emplace_back(1, c - col, r - row);
          heights.push_back(grid.at(c, r));
        }
    Eigen::MatrixX3d A(static_cast<Eigen::Index>(rows.size()), 3);
    for (std::size_t i = 0; i < rows.size(); ++i) A.row(static_cast<Eigen::Index>(i)) = rows[i];
    const Eigen::Map<const Eigen::VectorXd> b(heights.data(), A.rows());
    const Eigen::Vector3d best = A.colPivHouseholderQr().solve(b);
    const cloud::CellPlane found = sums.plane(col, row, reach);
    // Heights of 600 squared leave ten digits of sixteen.
    CHECK(found.height == Approx(best[0]).margin(1e-8));
    CHECK(found.per_col == Approx(best[1]).margin(1e-8));
    CHECK(found.per_row == Approx(best[2]).margin(1e-8));
    CHECK(found.rms == Approx(std::sqrt((A * best - b).squaredNorm() / static_cast<double>(A.rows()))).margin(1e-6));
  }
  CHECK(std::isnan(sums.plane(7, 6, 2, 100).height));  // fewer than asked for
}

TEST_CASE("Lowest and highest points of cells give way by their sigmas, and heights between cells are a plane's") {
  std::vector<cloud::TilePoint> points = {{{0.2, 0.2, 5.0}, 0.5f}, {{0.3, 0.1, 5.2}, 0.05f}, {{1.4, 0.2, 7.0}, 0.1f}};
  const auto lowest = cloud::heights_of(points, 0.5, 0, cloud::Extreme::lowest, 1);
  CHECK(lowest.at(0, 0) == Approx(5.25));  // the lower point may be half a metre higher
  CHECK(cloud::heights_of(points, 0.5, 0, cloud::Extreme::lowest).at(0, 0) == 5.0);
  CHECK(cloud::heights_of(points, 0.5, 0, cloud::Extreme::highest, 1).at(0, 0) == Approx(5.15));
  CHECK((lowest.columns == 3 && std::isnan(lowest.at(1, 0)) && lowest.at(2, 0) == Approx(7.1)));
  cloud::HeightGrid plane = random_grid(8, 8, false, 9);
  for (int row = 0; row < 8; ++row)
    for (int col = 0; col < 8; ++col) plane.at(col, row) = 3 + 0.4 * (col + 0.5) - 0.2 * (row + 0.5);
  CHECK(cloud::height_at(plane, {1.3, 2.1, 0}) == Approx(3 + 0.4 * 2.6 - 0.2 * 4.2));
  CHECK(cloud::rise_at(plane, {2.0, 2.0, 0}) == Approx(0.5 * (2 * 0.4 + 2 * 0.2)));
}

TEST_CASE("Colours are alike in light and shadow, and means about cells are of marked ones alone") {
  const cloud::CellColour light = cloud::colour_of({60, 90, 30}), shade = cloud::colour_of({20, 30, 10});
  CHECK(light.green == Approx(0.5));
  CHECK(light.chroma == Approx(1.0 / 3));
  CHECK(cloud::contrast(light, shade) == Approx(0).margin(1e-6));
  CHECK(std::isnan(cloud::colour_of({0, 0, 0}).green));
  CHECK(std::isnan(cloud::contrast(light, {})));
  const cloud::HeightGrid grid = random_grid(5, 1, false, 10);
  const std::vector<cloud::CellColour> colours = {{0.1f, 0}, {0.2f, 0}, {0.6f, 0}, {}, {0.9f, 0}};
  const auto means = cloud::mean_about(grid, {1, 1, 0, 1, 1}, colours, 1);
  CHECK(means[0].green == Approx(0.15));
  CHECK(means[2].green == Approx(0.2));  // of the second alone: the fourth has no colour
  CHECK(means[4].green == Approx(0.9));
}

TEST_CASE("Buckets give back what was put into each, in order, whether a file holds it or not") {
  const Folder folder;
  const bool in_memory = GENERATE(true, false);
  cloud::BucketFile<int> buckets(folder.path, in_memory);
  std::map<int, std::string> wanted;
  Random random(11);
  for (int i = 0; i < 40000; ++i) {  // some megabytes: buckets are written and begun anew
    const int key = static_cast<int>(random.uniform(0, 3));
    const std::string piece(static_cast<std::size_t>(random.uniform(1, 60)), static_cast<char>('a' + i % 26));
    buckets.add(key, piece.data(), piece.size());
    wanted[key] += piece;
  }
  CHECK(buckets.keys() == std::vector<int>{0, 1, 2});
  for (const auto& [key, bytes] : wanted) CHECK(buckets.bytes(key) == bytes);
  CHECK(buckets.bytes(7).empty());
}

TEST_CASE("No place within a side of a point is missed, west of nought too") {
  Random random(12);
  std::vector<Eigen::Vector2d> places;
  for (int i = 0; i < 300; ++i) places.emplace_back(random.uniform(-5, 5), random.uniform(-5, 5));
  const cloud::PlaceGrid grid(places, 0.7);
  for (int i = 0; i < 50; ++i) {
    const Eigen::Vector2d at(random.uniform(-5, 5), random.uniform(-5, 5));
    std::set<std::size_t> found;
    grid.around(at, [&](std::size_t place) { found.insert(place); });
    for (std::size_t k = 0; k < places.size(); ++k)
      if ((places[k] - at).norm() <= 0.7) CHECK(found.contains(k));
  }
}

TEST_CASE("Correlation in windows of seven is that of other windows' way, and a second image leaves no trace") {
  Random random(13);
  photo::Grey a(40, 31), b(40, 31), c(40, 31);
  for (std::size_t i = 0; i < a.data.size(); ++i) {
    a.data[i] = static_cast<float>(random.uniform(20, 220));
    b.data[i] = 0.6f * a.data[i] + static_cast<float>(random.uniform(5, 90));
    c.data[i] = static_cast<float>(random.uniform(20, 220));
  }
  const int window = GENERATE(2, 3, 4);
  dense::Correlator correlator(a, window, 1.0);
  photo::Raster<float> fresh, used;
  correlator.correlate(b, true, fresh);
  correlator.correlate(c, true, used), correlator.correlate(b, true, used);
  CHECK(fresh.data == used.data);
  for (const auto& [col, row] : {std::pair{window, window}, {20, 15}, {39 - window, 30 - window}}) {
    double n = 0, x = 0, y = 0, xx = 0, yy = 0, xy = 0;
    for (int r = row - window; r <= row + window; ++r)
      for (int k = col - window; k <= col + window; ++k) {
        const double u = a.at(k, r), v = b.at(k, r);
        n += 1, x += u, y += v, xx += u * u, yy += v * v, xy += u * v;
      }
    const double wanted = (xy - x * y / n) / std::sqrt((xx - x * x / n) * (yy - y * y / n));
    CHECK(fresh.at(col, row) == Approx(wanted).margin(1e-4));  // as the header says
  }
}
