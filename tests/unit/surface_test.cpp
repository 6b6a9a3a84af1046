#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/surface/contours.hpp>
#include <mesograph/surface/fill.hpp>
#include <mesograph/surface/make_surface.hpp>
#include <mesograph/surface/raster_file.hpp>

#include "folder.hpp"

using namespace mesograph;
using surface::Source;
using surface::Surface;

namespace {

/// A tile of points every half cell of 0.2 m, with heights by a law and noise of their sigma.
template <typename Law>
cloud::TileContent points_on(double size, double sigma, std::uint64_t seed, const Law& law) {
  Random random(seed);
  cloud::TileContent out{{0, 0, size}, {}, {}};
  for (double y = 0.05; y < size; y += 0.1)
    for (double x = 0.05; x < size; x += 0.1) {
      const Eigen::Vector2d at(x + random.uniform(-0.03, 0.03), y + random.uniform(-0.03, 0.03));
      out.points.push_back({{at.x(), at.y(), law(at) + random.normal(sigma)}, static_cast<float>(sigma), 5, 2, true});
    }
  return out;
}

Surface empty_surface(double size, double cell) {
  return Surface(surface::Grid::over({Eigen::Vector2d(0, 0), Eigen::Vector2d(size - 1e-6, size - 1e-6)}, cell));
}

/// A surface with heights by a law, measured everywhere.
template <typename Law>
Surface made(double size, double cell, double sigma, const Law& law) {
  Surface out = empty_surface(size, cell);
  for (int row = 0; row < out.grid.rows; ++row)
    for (int col = 0; col < out.grid.columns; ++col) {
      const std::size_t i = out.grid.at(col, row);
      out.z[i] = static_cast<float>(law(out.grid.middle(col, row)));
      out.sigma[i] = static_cast<float>(sigma), out.source[i] = Source::measured, out.points[i] = 1;
    }
  return out;
}

}  // namespace

TEST_CASE("Cells lie on the plane of their points, on its side of an edge, and are as sure as they say") {
  // Ground that rises by one in two, and a roof 3 m over it east of x = 10; one point in the sky.
  const auto ground = [](const Eigen::Vector2d& at) { return 0.5 * at.y(); };
  auto content = points_on(20, 0.03, 1, [&](const Eigen::Vector2d& at) { return ground(at) + (at.x() > 10 ? 3 : 0); });
  content.points.push_back({{5.1, 5.1, 12}, 0.03f, 5, 2, true});
  Surface s = empty_surface(20, 0.2);
  surface::estimate_cells(content, {}, s);
  double squares = 0, normed = 0;
  int n = 0;
  for (int row = 0; row < s.grid.rows; ++row)
    for (int col = 0; col < s.grid.columns; ++col) {
      const std::size_t i = s.grid.at(col, row);
      const Eigen::Vector2d at = s.grid.middle(col, row);
      REQUIRE(s.source[i] == Source::measured);
      // The cells that the edge touches may be of either side; all others have theirs alone.
      if (std::abs(at.x() - 10) < 0.2) continue;
      const double error = s.z[i] - ground(at) - (at.x() > 10 ? 3 : 0);
      CHECK(std::abs(error) < 0.15);
      squares += error * error, normed += std::pow(error / s.sigma[i], 2), ++n;
    }
  // Four points a cell and their neighbours' help: less than half the noise. Sigma allows for points that are alike,
  // which these are not: the mean of a dozen has a twelfth of the variance, and half of it is allowed for.
  CHECK(std::sqrt(squares / n) < 0.015);
  CHECK((normed / n > 0.05 && normed / n < 1));
}

TEST_CASE("The top is the layer that several points show, ground is of class 2 alone, and what stands on it is told") {
  auto content = points_on(10, 0.02, 2, [](const Eigen::Vector2d&) { return 1.0; });
  Random random(3);
  for (int k = 0; k < 400; ++k)  // a crown over a part, sparser than the ground
    content.points.push_back(
        {{random.uniform(4, 6), random.uniform(4, 6), 3 + random.normal(0.05)}, 0.05f, 3, 1, true});
  std::erase_if(content.points, [](const cloud::TilePoint& p) {  // a hole in the ground beneath its middle
    return p.point_class == 2 && std::hypot(p.X.x() - 5, p.X.y() - 5) < 0.7;
  });
  Surface top = empty_surface(10, 0.2), low = empty_surface(10, 0.2);
  surface::estimate_cells(content, {}, top);
  surface::CellOptions options;
  options.kind = surface::Kind::ground;
  surface::estimate_cells(content, options, low);
  const std::size_t middle = top.grid.at(25, 25), aside = top.grid.at(5, 5);
  CHECK(std::abs(top.z[middle] - 3) < 0.1);
  CHECK(std::abs(top.z[aside] - 1) < 0.05);
  CHECK(low.source[middle] == Source::covered);
  Progress progress;
  surface::fill_gaps({}, {}, low, progress);
  CHECK(low.source[middle] == Source::filled);
  CHECK(std::abs(low.z[middle] - 1) < 0.05);
}

TEST_CASE("Gaps are filled as the ground around them bends, and nothing beyond the rim of what was seen") {
  const auto law = [](const Eigen::Vector2d& at) {
    return 0.3 * at.x() + 0.02 * at.y() * at.y() - 0.01 * at.x() * at.y();
  };
  Random random(5);
  Surface s = made(20, 0.2, 0.01, [&](const Eigen::Vector2d& at) { return law(at) + random.normal(0.01); });
  const auto cut = [&](double x, double y, double radius) {
    for (int row = 0; row < s.grid.rows; ++row)
      for (int col = 0; col < s.grid.columns; ++col)
        if ((s.grid.middle(col, row) - Eigen::Vector2d(x, y)).norm() < radius)
          s.source[s.grid.at(col, row)] = Source::empty;
  };
  cut(6, 6, 0.9), cut(14, 14, 3), cut(20, 8, 0.9);  // narrow, too wide, at the edge
  Progress progress;
  surface::fill_gaps({}, {}, s, progress);
  double worst = 0;
  int filled = 0;
  for (int row = 0; row < s.grid.rows; ++row)
    for (int col = 0; col < s.grid.columns; ++col) {
      const std::size_t i = s.grid.at(col, row);
      const Eigen::Vector2d at = s.grid.middle(col, row);
      if (s.source[i] != Source::filled) continue;
      ++filled;
      CHECK((at - Eigen::Vector2d(6, 6)).norm() < 0.9);
      worst = std::max(worst, std::abs(s.z[i] - law(at)));
      CHECK(s.sigma[i] > 0.005);
    }
  CHECK(filled > 50);
  CHECK(worst < 0.05);  // noise of 0.01 around, carried over five cells
  CHECK(s.source[s.grid.at(70, 29)] == Source::empty);
  CHECK(s.source[s.grid.at(99, 59)] == Source::empty);
}

TEST_CASE("Contours of a cone are its circles, none crosses another, and pieces over filled cells are told") {
  // A cone of 45 degrees with its top, 8 m, in the middle.
  const Eigen::Vector2d top(10, 10);
  Surface s = made(20, 0.1, 0.01, [&](const Eigen::Vector2d& at) { return 8 - (at - top).norm(); });
  for (int row = 0; row < s.grid.rows; ++row)
    for (int col = 0; col < s.grid.columns; ++col)
      if (s.grid.middle(col, row).x() > 10 && s.grid.middle(col, row).y() > 10)
        s.source[s.grid.at(col, row)] = Source::filled;
  surface::ContourOptions options;
  options.interval = 0.5, options.least_length = 2, options.index_every = 4;
  Progress progress;
  const surface::Contours found = surface::contours_of(s, options, progress);
  std::map<double, double> length, of_filled;
  for (const surface::Contour& line : found.lines) {
    CHECK(line.length() >= 2);
    CHECK(line.index == (std::abs(std::remainder(line.height, 2.0)) < 1e-9));
    length[line.height] += line.length(), of_filled[line.height] += line.filled ? line.length() : 0;
    for (std::size_t i = 0; i < line.places.size(); ++i) {
      // A fifth of the interval is what smoothing and simplifying may move; a circle through cells adds nothing to
      // that.
      CHECK(std::abs((line.places[i] - top).norm() - (8 - line.height)) < 0.1);
      if (i == 0) continue;
      // Halfway, too: lines of two heights, half a metre apart, cannot meet.
      const Eigen::Vector2d halfway = 0.5 * (line.places[i] + line.places[i - 1]);
      CHECK(std::abs((halfway - top).norm() - (8 - line.height)) < 0.15);
    }
  }
  for (const double height : {2.0, 5.0}) {
    const double around = 2 * pi * (8 - height);
    if (8 - height < 9.9) CHECK(std::abs(length[height] - around) < 0.02 * around);
    CHECK(std::abs(of_filled[height] - 0.25 * around) < 0.05 * around);
  }
  REQUIRE(found.spots.size() == 1);
  CHECK((found.spots[0].X.head<2>() - top).norm() < 0.2);
  // As files: the lines come back, in Z and as attribute; an ending of another kind is refused.
  const Folder folder;
  surface::write_contours(folder.path / "c.gpkg", s, found);
  surface::write_contours(folder.path / "again.gpkg", s, found);
  CHECK(read_file(folder.path / "c.gpkg") == read_file(folder.path / "again.gpkg"));
  surface::write_contours(folder.path / "c.dxf", s, found);
  CHECK(read_file(folder.path / "c.dxf").find("CONTOUR_INDEX") != std::string::npos);
  CHECK_THROWS_WITH(surface::write_contours(folder.path / "c.kml", s, found),
                    Catch::Matchers::Contains("another name"));
}

TEST_CASE("A height raster comes back as it was written, with sigma, mask, place and no-data") {
  Surface s = made(30, 0.5, 0.02, [](const Eigen::Vector2d& at) { return 640 + 0.1 * at.x(); });
  s.grid.west = 431200, s.grid.north = 6822430;
  s.source[7] = Source::empty, s.z[7] = s.sigma[7] = std::numeric_limits<float>::quiet_NaN(), s.points[7] = 0;
  s.source[9] = Source::filled, s.source[11] = Source::water;
  const Folder folder;
  s.kind = "ground";
  const auto files = surface::write_surface(folder.path / "s.tif", Surface(s));
  REQUIRE(files.size() == 3);
  const Surface back = surface::read_surface(folder.path / "s.tif");
  CHECK(back.grid == s.grid);
  CHECK(std::isnan(back.z[7]));
  CHECK(back.source == s.source);
  CHECK(back.kind == "ground");
  for (const std::size_t i : {std::size_t{0}, std::size_t{9}, s.grid.size() - 1})
    CHECK((back.z[i] == s.z[i] && back.sigma[i] == s.sigma[i]));
  CHECK(std::abs(back.height({431210, 6822410}) - 641.0) < 1e-3);
  write_file(folder.path / "text.tif", "no raster");
  CHECK_THROWS_WITH(surface::read_surface(folder.path / "text.tif"), Catch::Matchers::Contains("no raster"));
}

TEST_CASE("Water lies level at its shore's lower quarter") {
  Surface s = made(20, 0.2, 0.01, [](const Eigen::Vector2d& at) { return 5 + 0.05 * at.x(); });
  const cloud::Polygon pond{"pond", {{{5, 5}, {15, 5}, {15, 15}, {5, 15}}}};
  CHECK(surface::level_water({pond}, s) == 1);
  const float level = s.z[s.grid.at(50, 50)];
  CHECK(s.source[s.grid.at(50, 50)] == Source::water);
  CHECK(s.z[s.grid.at(30, 40)] == level);
  CHECK((level > 5.2 && level < 5.5));  // its shore lies from 5.24 to 5.76
  CHECK(s.source[s.grid.at(10, 10)] == Source::measured);
}

TEST_CASE("Along a breakline the surface jumps, in measured cells and in gaps; without it the jump is smeared") {
  // A kerb half a metre high that runs askew, past the middles of cells; a gap 2 m wide across it.
  const auto above = [](const Eigen::Vector2d& at) { return at.y() > 6.03 + 0.6 * at.x(); };
  const auto law = [&](const Eigen::Vector2d& at) { return 0.1 * at.x() + (above(at) ? 0.5 : 0); };
  auto content = points_on(20, 0.005, 9, law);
  std::erase_if(content.points, [](const cloud::TilePoint& p) {
    return std::abs(p.X.x() - 8.1) < 0.9 && std::abs(p.X.y() - 10.9) < 0.9;
  });
  const auto worst = [&](const surface::Breaklines& lines) {
    Surface s = empty_surface(20, 0.2);
    surface::CellOptions options;
    options.kind = surface::Kind::mean, options.breaklines = lines;
    surface::estimate_cells(content, options, s);
    Progress quiet;
    surface::fill_gaps({}, lines, s, quiet);
    double out = 0;
    for (int row = 2; row < s.grid.rows - 2; ++row)
      for (int col = 2; col < s.grid.columns - 2; ++col) {
        const Eigen::Vector2d at = s.grid.middle(col, row);
        REQUIRE(std::isfinite(s.z[s.grid.at(col, row)]));
        out = std::max(out, std::abs(s.z[s.grid.at(col, row)] - law(at)));
      }
    return out;
  };
  const surface::Breaklines kerb({{{-5, 3.03}, {3, 7.83}, {30, 24.03}}}, 0.2);
  CHECK(worst(kerb) < 0.05);
  CHECK(worst({}) > 0.2);
}

TEST_CASE("A gap between a roof and the ground has two levels and no slope between them") {
  const auto ground = [](const Eigen::Vector2d& at) { return 0.2 * at.y(); };
  Surface s = made(20, 0.2, 0.01, [&](const Eigen::Vector2d& at) { return ground(at) + (at.x() < 10 ? 4 : 0); });
  for (int row = 30; row < 70; ++row)
    for (int col = 46; col < 54; ++col) {
      const std::size_t i = s.grid.at(col, row);
      s.z[i] = s.sigma[i] = std::numeric_limits<float>::quiet_NaN(), s.source[i] = Source::empty, s.points[i] = 0;
    }
  Progress progress;
  surface::fill_gaps({}, {}, s, progress);
  for (int row = 30; row < 70; ++row)
    for (int col = 46; col < 54; ++col) {
      const double above = s.z[s.grid.at(col, row)] - ground(s.grid.middle(col, row));
      CHECK(std::min(std::abs(above), std::abs(above - 4)) < 0.05);
      CHECK((above > 2) == (col < 50));  // half way across
    }
}

TEST_CASE("Classes that are left out leave no height, and the hole is bridged whatever its width") {
  // A truck of class 64, 5 m long, on a slope; another of a class that stays.
  const auto ground = [](const Eigen::Vector2d& at) { return 0.1 * at.x(); };
  auto content = points_on(20, 0.01, 4, ground);
  for (cloud::TilePoint& p : content.points) {
    const bool first = std::abs(p.X.x() - 6) < 2.5 && std::abs(p.X.y() - 10) < 1.2,
               second = std::abs(p.X.x() - 14) < 2.5 && std::abs(p.X.y() - 10) < 1.2;
    if (first || second) p.X.z() += 2.5, p.point_class = first ? 64 : 6;
  }
  Surface s = empty_surface(20, 0.2);
  surface::CellOptions options;
  options.left_out = {64, 18};
  surface::estimate_cells(content, options, s);
  Progress progress;
  surface::fill_gaps({}, {}, s, progress);
  const auto at = [&](double x, double y) { return s.grid.at(s.grid.column(x), s.grid.row(y)); };
  for (double x = 4; x < 8; x += 0.4)
    for (double y = 9.2; y < 10.8; y += 0.4) {
      const std::size_t i = at(x, y);
      CHECK(s.source[i] == Source::filled);
      CHECK(std::abs(s.z[i] - ground(s.grid.middle(s.grid.column(x), s.grid.row(y)))) < 0.06);
      const std::size_t other = at(x + 8, y);
      CHECK(s.source[other] == Source::measured);
      CHECK(s.z[other] > ground({x + 8, y}) + 2.3);
    }
}

TEST_CASE("Spot heights stand on round places where there is a surface, beside the summit") {
  Surface s =
      made(20, 0.1, 0.01, [](const Eigen::Vector2d& at) { return 8 - (at - Eigen::Vector2d(10.4, 9.7)).norm(); });
  for (int row = 0; row < 40; ++row)
    for (int col = 0; col < 40; ++col) s.z[s.grid.at(col, row)] = std::numeric_limits<float>::quiet_NaN();
  surface::ContourOptions options;
  options.spot_grid = 2.5;
  Progress progress;
  const surface::Contours found = surface::contours_of(s, options, progress);
  int summits = 0, on_grid = 0;
  for (const surface::Spot& spot : found.spots) {
    summits += spot.kind == surface::Spot::Kind::summit;
    if (spot.kind != surface::Spot::Kind::grid) continue;
    ++on_grid;
    for (int a = 0; a < 2; ++a) CHECK(std::abs(spot.X[a] / 2.5 - std::round(spot.X[a] / 2.5)) < 1e-9);
    // Bilinear over a cell of a cone, an eighth of a cell at its tip.
    CHECK(std::abs(spot.X.z() - 8 + (spot.X.head<2>() - Eigen::Vector2d(10.4, 9.7)).norm()) < 0.03);
    CHECK_FALSE((spot.X.x() < 4 && spot.X.y() > 16));  // nothing is there
  }
  CHECK(summits == 1);
  CHECK(on_grid >= 40);
  CHECK(on_grid <= 81);
}

TEST_CASE("Points beyond a breakline are no neighbours, however the line is drawn") {
  const auto content = points_on(6, 0.001, 6, [](const Eigen::Vector2d& at) { return at.x() > 3.03 ? 1.0 : 0.0; });
  for (const auto& line : {std::vector<Eigen::Vector2d>{{3.03, -1}, {3.03, 7}},
                           std::vector<Eigen::Vector2d>{{3.03, 7}, {3.03, 2.2}, {3.03, -1}}}) {
    Surface s = empty_surface(6, 0.2);
    surface::CellOptions options;
    options.kind = surface::Kind::mean, options.breaklines = surface::Breaklines({line}, 0.2);
    surface::estimate_cells(content, options, s);
    for (int row = 1; row < s.grid.rows - 1; ++row)
      for (int col = 1; col < s.grid.columns - 1; ++col) {
        const std::size_t i = s.grid.at(col, row);
        if (s.source[i] != Source::measured) continue;
        CHECK(std::abs(s.z[i] - (s.grid.middle(col, row).x() > 3.03 ? 1 : 0)) < 0.01);
      }
  }
}
