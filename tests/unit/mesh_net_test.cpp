#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/mesh/atlas.hpp>
#include <mesograph/mesh/height_field.hpp>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <mesograph/mesh/joined.hpp>
#include <mesograph/mesh/model_parts.hpp>
#include <mesograph/mesh/places.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <mesograph/mesh/solid.hpp>
#include <set>

#include <tbb/global_control.h>

#include <fstream>

#include "drawn_surface.hpp"
#include "folder.hpp"
#include "mesh_shapes.hpp"

using namespace mesograph;
using mesh::Face;
using mesh::TriangleMesh;

// How nets hang together, each question beside a slow, plain answer.

namespace {

double uniform(std::mt19937_64& random, double low, double high) {
  return std::uniform_real_distribution<>(low, high)(random);
}

/// A net with some of its triangles taken out.
TriangleMesh holey(int squares, double share, std::uint64_t seed) {
  TriangleMesh out = net(squares, 1, [](double x, double y) { return 0.2 * std::sin(x + 2 * y); });
  std::mt19937_64 random(seed);
  std::erase_if(out.faces, [&](const Face&) { return uniform(random, 0, 1) < share; });
  return out;
}

/// Sides of faces by their ends, each with how many faces run it which way.
std::map<std::pair<int, int>, std::pair<int, int>> sides_of(const TriangleMesh& mesh) {
  std::map<std::pair<int, int>, std::pair<int, int>> out;
  for (const Face& f : mesh.faces)
    for (std::size_t k = 0; k < 3; ++k) {
      const int a = f[k], b = f[(k + 1) % 3];
      auto& [up, down] = out[std::minmax(a, b)];
      ++(a < b ? up : down);
    }
  return out;
}

}  // namespace

TEST_CASE("Edges, borders and pieces of a torn net are those that counting finds") {
  for (const std::uint64_t seed : {1, 2, 3}) {
    const TriangleMesh mesh = holey(14, 0.35, seed);
    INFO("seed " << seed);
    const auto sides = sides_of(mesh);
    const mesh::Flaws flaws = mesh::flaws_of(mesh);
    std::size_t border = 0;
    for (const auto& [ends, n] : sides) border += n.first + n.second == 1;
    CHECK(flaws.border_edges == border);
    CHECK(flaws.crowded_edges == 0);
    CHECK(mesh::edge_uses(mesh.faces).size() == 3 * mesh.faces.size());
    // Pieces by spreading numbers over shared sides until nothing changes.
    std::vector<std::size_t> number(mesh.faces.size());
    for (std::size_t f = 0; f < number.size(); ++f) number[f] = f;
    for (bool changed = true; changed;) {
      changed = false;
      for (std::size_t f = 0; f < number.size(); ++f)
        for (std::size_t g = 0; g < f; ++g) {
          int shared = 0;
          for (const int a : mesh.faces[f]) shared += std::count(mesh.faces[g].begin(), mesh.faces[g].end(), a) > 0;
          if (shared == 2 && number[f] != number[g])
            number[f] = number[g] = std::min(number[f], number[g]), changed = true;
        }
    }
    CHECK(flaws.pieces == std::set<std::size_t>(number.begin(), number.end()).size());
    CHECK(mesh::piece_count(mesh) == flaws.pieces);
  }
}

TEST_CASE("Split bow ties leave every rim a ring, and all faces as they were") {
  for (const std::uint64_t seed : {4, 5}) {
    TriangleMesh mesh = holey(14, 0.35, seed);
    const TriangleMesh before = mesh;
    INFO("seed " << seed);
    REQUIRE(mesh::flaws_of(mesh).bow_ties > 3);
    mesh::split_bow_ties(mesh);
    CHECK(mesh::flaws_of(mesh).bow_ties == 0);
    REQUIRE(mesh.faces.size() == before.faces.size());
    for (std::size_t f = 0; f < mesh.faces.size(); ++f)
      for (std::size_t k = 0; k < 3; ++k) CHECK(mesh.at(mesh.faces[f][k]) == before.at(before.faces[f][k]));
    std::size_t length = 0;
    for (const std::vector<std::int32_t>& rim : mesh::rims_of(mesh.faces)) {
      CHECK(std::set<std::int32_t>(rim.begin(), rim.end()).size() == rim.size());
      length += rim.size();
      // Faces that close a rim run along it: theirs run the other way.
      const auto sides = sides_of(mesh);
      for (std::size_t i = 0; i < rim.size(); ++i) {
        const int a = rim[i], b = rim[(i + 1) % rim.size()];
        const auto& [up, down] = sides.at(std::minmax(a, b));
        CHECK((a < b ? down : up) == 1);
        CHECK((a < b ? up : down) == 0);
      }
    }
    CHECK(length == mesh::flaws_of(mesh).border_edges);
  }
}

TEST_CASE("Any torn net with its holes closed and a base under it is a body") {
  for (const std::uint64_t seed : {6, 7, 8, 9}) {
    TriangleMesh mesh = holey(16, 0.12, seed);
    INFO("seed " << seed);
    mesh::split_bow_ties(mesh);
    mesh = mesh::without_loose_pieces(mesh, 0.5);
    const mesh::HolesClosed done = mesh::close_holes(mesh, 100, 0);
    CHECK(done.closed > 5);
    CHECK(done.left == 1);
    CHECK(mesh::flaws_of(mesh).crowded_edges == 0);
    CHECK(mesh::rims_of(mesh.faces).size() == 1);
    mesh::close_with_base(mesh, -3);
    CHECK(closed(mesh));
    CHECK(enclosed(mesh) > 0.8 * 16 * 16 * 2.8);
    CHECK(enclosed(mesh) < 16 * 16 * 3.2);
  }
}

TEST_CASE("A rim that no plane shows is closed all the same") {
  // A band round a saddle whose inner rim runs up and down twice by more than it is wide: crossed in every plane.
  TriangleMesh mesh;
  constexpr int n = 24;
  for (const double radius : {1.0, 2.0})
    for (int i = 0; i < n; ++i) {
      const double t = 2 * 3.14159265 * i / n;
      mesh.X.emplace_back(radius * std::cos(2 * t), radius * std::sin(t) * 0.3, (i % 2 == 0 ? 1 : -1) * (2 - radius));
      mesh.sigma.push_back(0.01F);
    }
  for (int i = 0; i < n; ++i) {
    const int j = (i + 1) % n;
    mesh.faces.push_back({i, n + i, n + j}), mesh.faces.push_back({i, n + j, j});
  }
  REQUIRE(mesh::rims_of(mesh.faces).size() == 2);
  mesh::close_holes(mesh, 100, 0);
  CHECK(mesh::flaws_of(mesh).crowded_edges == 0);
  CHECK(mesh::rims_of(mesh.faces).size() == 1);  // the outer one
}

TEST_CASE("Torn nets stay sound while they are simplified, however few triangles are asked for") {
  Progress progress;
  for (const std::uint64_t seed : {10, 11, 12}) {
    TriangleMesh mesh = holey(30, 0.1, seed);
    mesh::split_bow_ties(mesh);
    std::mt19937_64 random(seed);
    for (float& s : mesh.sigma)
      if (uniform(random, 0, 1) < 0.1) s = std::numeric_limits<float>::quiet_NaN();
    INFO("seed " << seed);
    const std::size_t pieces = mesh::piece_count(mesh), rims = mesh::rims_of(mesh.faces).size();
    for (const std::size_t triangles : {800, 200, 10}) {
      mesh::SimplifyOptions options;
      options.triangles = triangles;
      const TriangleMesh few = mesh::simplified(mesh, options, progress);
      const mesh::Flaws flaws = mesh::flaws_of(few);
      CHECK(flaws.crowded_edges == 0);
      CHECK(flaws.bow_ties == 0);
      CHECK(flaws.pieces == pieces);  // each piece and each hole keeps three sides at least
      CHECK(mesh::rims_of(few.faces).size() == rims);
      for (const Face& f : few.faces) CHECK(few.area(f) > 0);
      CHECK(few.faces.size() < mesh.faces.size());
    }
  }
}

TEST_CASE("What is measured does not become a guess while a tolerance counts, nor the other way round") {
  Progress progress;
  TriangleMesh mesh = net(30, 1, [](double, double) { return 0.0; });
  for (std::size_t v = 0; v < mesh.X.size(); ++v)
    if (mesh.X[v].x() > 10 && mesh.X[v].x() < 20 && mesh.X[v].y() > 10 && mesh.X[v].y() < 20)
      mesh.sigma[v] = std::numeric_limits<float>::quiet_NaN();
  const auto guessed = [](const TriangleMesh& of) {
    double area = 0;
    for (const Face& f : of.faces)
      if (of.guessed(f)) area += of.area(f);
    return area;
  };
  mesh::SimplifyOptions options;
  options.tolerance = 0.05;
  const TriangleMesh few = mesh::simplified(mesh, options, progress);
  CHECK(few.faces.size() < 200);
  CHECK(guessed(few) == Approx(guessed(mesh)).epsilon(0.1));
  for (std::size_t v = 0; v < few.X.size(); ++v)
    if (std::isfinite(few.sigma[v])) CHECK(few.sigma[v] == Approx(0.01));  // all were as sure
}

TEST_CASE("Sets that are joined are those that joining lists finds") {
  std::mt19937_64 random(13);
  mesh::Joined joined(60);
  std::vector<int> plain(60);
  for (int i = 0; i < 60; ++i) plain[static_cast<std::size_t>(i)] = i;
  for (int n = 0; n < 40; ++n) {
    const int a = static_cast<int>(uniform(random, 0, 59.99)), b = static_cast<int>(uniform(random, 0, 59.99));
    joined.join(a, b);
    const int low = std::min(plain[static_cast<std::size_t>(a)], plain[static_cast<std::size_t>(b)]),
              high = std::max(plain[static_cast<std::size_t>(a)], plain[static_cast<std::size_t>(b)]);
    std::replace(plain.begin(), plain.end(), high, low);
    for (int i = 0; i < 60; ++i) REQUIRE(joined.find(i) == plain[static_cast<std::size_t>(i)]);
  }
}

TEST_CASE("A photo that shows any place of a box is never said not to") {
  std::mt19937_64 random(14);
  int shown = 0, refused = 0;
  for (int n = 0; n < 2000; ++n) {
    const Eigen::Vector3d C(uniform(random, -20, 20), uniform(random, -20, 20), uniform(random, 5, 20));
    const dense::Pinhole p = looking_from(C, 300);
    const Eigen::Vector3d low(uniform(random, -20, 20), uniform(random, -20, 20), uniform(random, -3, 3));
    const Eigen::AlignedBox3d box(
        low, low + Eigen::Vector3d(uniform(random, 0, 6), uniform(random, 0, 6), uniform(random, 0, 2)));
    bool any = false;
    for (int k = 0; k < 60 && !any; ++k) {
      const Eigen::Vector2d x = p.project(box.sample());
      any = x.allFinite() && p.inside(x, 0);
    }
    const bool said = mesh::may_show(p, box);
    if (any) CHECK(said);
    shown += any, refused += !said;
  }
  CHECK(shown > 200);
  CHECK(refused > 200);
}

TEST_CASE("Columns hold all that photos show, and what lies around it") {
  const mesh::Sheet sheet =
      sheet_of(looking_from({0.5, -0.2, 6}), 0.01, [](const auto& C, const auto& d) { return to_sphere(C, d, 1); });
  mesh::ColumnRanges ranges({Eigen::Vector2d(-1, -1), Eigen::Vector2d(1, 1)}, 0.1);
  ranges.add(sheet);
  ranges.spread();
  int met = 0;
  for (int row = 0; row < sheet.depth.height; ++row)
    for (int col = 0; col < sheet.depth.width; ++col) {
      if (!std::isfinite(sheet.depth.at(col, row))) continue;
      const Eigen::Vector3d X =
          sheet.pinhole.C + sheet.depth.at(col, row) * sheet.pinhole.direction(col + 0.5, row + 0.5);
      if (X.head<2>().cwiseAbs().maxCoeff() > 1) continue;
      const int c = static_cast<int>(std::floor(X.x() / 0.1)), r = static_cast<int>(std::floor(X.y() / 0.1)),
                k = static_cast<int>(std::floor(X.z() / 0.1));
      for (const int off : {-2, 0, 2}) {
        const mesh::ColumnRanges::Range range = ranges.of(c + off, r);
        CHECK((range.low < k && k + 1 < range.high));
      }
      ++met;
    }
  CHECK(met > 500);
  CHECK(ranges.of(1000, 0).empty());
  CHECK_THROWS_WITH(mesh::ColumnRanges({Eigen::Vector2d(0, 0), Eigen::Vector2d(1e6, 1e6)}, 0.01),
                    Catch::Contains("larger cells"));
}

TEST_CASE("A part of a model shows what the whole shows, square by square of the plan") {
  mesh::Model model;
  model.name = "site", model.shift = {1, 2, 3};
  model.mesh = net(20, 1, [](double x, double) { return 0.1 * x; });
  // Two pieces of pictures: left half and right half, each pixel of a colour of its own.
  photo::Rgb page(220, 110, 3);
  for (int row = 0; row < 110; ++row)
    for (int col = 0; col < 220; ++col)
      page.at(col, row, 0) = static_cast<std::uint8_t>(col), page.at(col, row, 1) = static_cast<std::uint8_t>(row),
                        page.at(col, row, 2) = static_cast<std::uint8_t>(col < 110 ? 10 : 200);
  model.texture.pages = {page};
  for (const Face& f : model.mesh.faces) {
    const Eigen::Vector3d middle = (model.mesh.at(f[0]) + model.mesh.at(f[1]) + model.mesh.at(f[2])) / 3;
    const bool right = middle.x() > 10, none = middle.y() > 19;
    model.texture.page.push_back(none ? -1 : 0), model.texture.chart.push_back(none ? -1 : right ? 1 : 0);
    std::array<Eigen::Vector2f, 3> at;
    for (std::size_t k = 0; k < 3; ++k) {
      const Eigen::Vector3d& X = model.mesh.at(f[k]);
      // 8 pixels a metre; the right half begins at column 112.
      at[k] = {static_cast<float>((right ? 112 + 8 * (X.x() - 10) : 8 + 8 * X.x()) / 220),
               static_cast<float>((20 - X.y()) * 5 / 110)};
    }
    model.texture.at.push_back(at);
  }
  Eigen::AlignedBox2d box(Eigen::Vector2d(0, 0), Eigen::Vector2d(20, 20));
  const auto squares = mesh::by_plan_squares(model.mesh, box, 2);
  REQUIRE(squares.size() == 16);
  std::size_t faces = 0;
  for (const auto& [square, list] : squares) {
    const mesh::Model part = mesh::part_of(model, list, 4096);
    REQUIRE(part.mesh.faces.size() == list.size());
    CHECK(part.shift == model.shift);
    faces += list.size();
    for (std::size_t f = 0; f < list.size(); ++f) {
      const auto whole = static_cast<std::size_t>(list[f]);
      for (std::size_t k = 0; k < 3; ++k) {
        const Eigen::Vector3d& X = part.mesh.at(part.mesh.faces[f][k]);
        CHECK(X == model.mesh.at(model.mesh.faces[whole][k]));
        CHECK((X.x() >= 5 * square.col - 1 && X.x() <= 5 * square.col + 6));
      }
      CHECK((part.texture.page[f] < 0) == (model.texture.page[whole] < 0));
      if (part.texture.page[f] < 0) continue;
      const auto colour = [](const mesh::Texture& t, std::size_t face) {
        const photo::Rgb& p = t.pages[static_cast<std::size_t>(t.page[face])];
        const Eigen::Vector2f at = (t.at[face][0] + t.at[face][1] + t.at[face][2]) / 3;
        const int col = static_cast<int>(at.x() * static_cast<float>(p.width) + 0.01F),
                  row = static_cast<int>(at.y() * static_cast<float>(p.height) + 0.01F);
        return std::array{p.at(col, row, 0), p.at(col, row, 1), p.at(col, row, 2)};
      };
      CHECK(colour(part.texture, f) == colour(model.texture, whole));
    }
  }
  CHECK(faces == model.mesh.faces.size());
  // For formats without pictures: a vertex takes the colour at its place, grey where there is none.
  const auto colours = model.colours();
  CHECK(colours[0][2] == 10);
  CHECK(colours[20][2] == 200);
  CHECK(colours.back() == std::array<std::uint8_t, 3>{160, 160, 160});
  const auto normals = model.normals();
  for (const Eigen::Vector3f& n : normals) CHECK((n - Eigen::Vector3f(-0.0995F, 0, 0.995F)).norm() < 1e-3F);
}

TEST_CASE("A rough raster with scattered gaps is covered without a cell beyond the tolerance, off its rims") {
  for (const std::uint64_t seed : {21, 22}) {
    std::mt19937_64 random(seed);
    std::map<std::pair<int, int>, bool> gap;
    for (int n = 0; n < 6; ++n) {
      const int c = static_cast<int>(uniform(random, 5, 70)), r = static_cast<int>(uniform(random, 5, 70));
      for (int i = 0; i < 5; ++i)
        for (int j = 0; j < 4; ++j) gap[{c + i, r + j}] = true;
    }
    surface::Surface surface = drawn_surface({0, 0}, 80, 1, [&](const Eigen::Vector2d& p) {
      return 3 * std::sin(0.2 * p.x()) * std::cos(0.15 * p.y()) + uniform(random, -0.2, 0.2);
    });
    for (const auto& [at, is] : gap)
      surface.z[surface.grid.at(at.first, at.second)] = std::numeric_limits<float>::quiet_NaN();
    mesh::HeightFieldOptions options;
    options.tolerance = 0.5;
    const TriangleMesh mesh = mesh::height_field(surface, options);
    INFO("seed " << seed);
    CHECK(mesh::flaws_of(mesh).crowded_edges == 0);
    CHECK(mesh.faces.size() < 80 * 80);
    double area = 0;
    std::size_t cells = 0;
    for (const Face& f : mesh.faces) {
      CHECK(mesh.normal(f).z() > 0);
      area += 0.5 * mesh.normal(f).z();
      // The middle of a triangle, from four cells around it: as near as these are rough, and the tolerance.
      const Eigen::Vector3d middle = (mesh.at(f[0]) + mesh.at(f[1]) + mesh.at(f[2])) / 3;
      const double z = surface.height(middle.head<2>());
      if (std::isfinite(z)) CHECK(std::abs(z - middle.z()) < 0.5 + 0.45);
    }
    for (int row = 0; row + 1 < surface.grid.rows; ++row)
      for (int col = 0; col + 1 < surface.grid.columns; ++col) {
        bool whole = true;
        for (const int dc : {0, 1})
          for (const int dr : {0, 1}) whole &= std::isfinite(surface.z[surface.grid.at(col + dc, row + dr)]);
        cells += whole;
      }
    CHECK(area == Approx(static_cast<double>(cells)).epsilon(0.03));
  }
}

namespace {

/// A box of 2 x 3 x 4 m far from the origin as PLY, its sides as squares; `format` as the header names it.
std::string box_file(const std::string& format, bool with_sigma) {
  std::string out = "ply\nformat " + format +
                    " 1.0\ncomment by hand\nelement vertex 8\nproperty double x\nproperty double y\n" +
                    "property float z\n" + (with_sigma ? "property float sigma\n" : "") +
                    "element face 6\nproperty uchar of\nproperty list uchar int vertex_indices\nend_header\n";
  const auto put = [&](auto value) {
    if (format == "ascii") {
      out += fmt::format("{} ", static_cast<double>(value));
      return;
    }
    std::string bytes(reinterpret_cast<const char*>(&value), sizeof value);
    if (format == "binary_big_endian") std::reverse(bytes.begin(), bytes.end());
    out += bytes;
  };
  for (int c = 0; c < 8; ++c) {
    put(431200.5 + 2 * (c & 1)), put(6822400.25 + 3 * (c >> 1 & 1)), put(static_cast<float>(640 + 4 * (c >> 2)));
    if (with_sigma) put(0.01F);
  }
  for (const std::array<int, 4>& side :
       {std::array{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}}) {
    put(std::uint8_t{7}), put(std::uint8_t{4});
    for (const int v : side) put(v);
  }
  return out;
}

}  // namespace

TEST_CASE("A body's volume is that of the box that was written by hand, in each of the file's formats") {
  const Folder folder;
  const auto file = folder.path / "box.ply";
  for (const char* format : {"ascii", "binary_little_endian", "binary_big_endian"}) {
    INFO(format);
    std::ofstream(file, std::ios::binary) << box_file(format, true);
    const mesh::Solid solid = mesh::solid_of(mesh::read_ply(file));
    CHECK(solid.closed());
    CHECK(solid.volume == Approx(24).epsilon(1e-9));
    CHECK(solid.area == Approx(52).epsilon(1e-9));
    CHECK(solid.triangles == 12);
    CHECK(solid.guessed_share == 0);
    // Eight vertices of 52 / 8 m2 each in the mean; sides of 6, 8 and 12 m2 share theirs unevenly over their diagonals.
    CHECK(solid.sigma > 0.01 * 52 / std::sqrt(8.0) - 1e-9);
    CHECK(solid.sigma < 1.1 * 0.01 * 52 / std::sqrt(8.0));
  }
  std::ofstream(file, std::ios::binary) << box_file("ascii", false);
  CHECK(mesh::solid_of(mesh::read_ply(file)).guessed_share == 1);  // nobody says how sure it is
}

TEST_CASE("A PLY file cut off anywhere, or that lies, is refused and never believed") {
  const Folder folder;
  const auto file = folder.path / "cut.ply";
  for (const char* format : {"ascii", "binary_little_endian"}) {
    const std::string whole = box_file(format, true);
    const std::size_t step = std::string(format) == "ascii" ? 7 : 1;
    for (std::size_t n = 0; n + 8 < whole.size(); n += step) {
      std::ofstream(file, std::ios::binary) << whole.substr(0, n);
      INFO(format << ", " << n << " of " << whole.size());
      CHECK_THROWS_AS(mesh::read_ply(file), Error);
    }
  }
  const auto refused = [&](const std::string& from, const std::string& to, const char* words) {
    std::string text = box_file("ascii", true);
    text.replace(text.find(from), from.size(), to);
    std::ofstream(file, std::ios::binary) << text;
    CHECK_THROWS_WITH(mesh::read_ply(file), Catch::Contains(words));
  };
  refused("vertex 8", "vertex 99999999999", "promises");
  refused("property double x", "property complex x", "unknown");
  refused("format ascii", "format latin", "latin");
  refused("4 0 2 3 1", "4 0 2 3 8", "not there");
  refused("property double x", "property double w", "no x");
  refused("element face 6", "element side 6", "no faces");
}

TEST_CASE(
    "The nearest place of a surface is where a fine grid of its triangles finds it, the top one is over the plan") {
  const auto hill = [](double x, double y) { return 0.4 * std::sin(2 * x) + 0.3 * y; };
  TriangleMesh surface = net(6, 0.5, hill);
  for (std::size_t i = 0; i < surface.X.size(); ++i) surface.sigma[i] = static_cast<float>(0.01 * surface.X[i].x());
  Random random(5);
  constexpr int fine = 60;
  for (int trial = 0; trial < 20; ++trial) {
    const Eigen::Vector3d asked(random.uniform(-1, 4), random.uniform(-1, 4), random.uniform(-1, 2));
    double least = INFINITY;
    for (const Face& f : surface.faces)
      for (int i = 0; i <= fine; ++i)
        for (int j = 0; i + j <= fine; ++j)
          least = std::min(
              least, ((i * surface.at(f[0]) + j * surface.at(f[1]) + (fine - i - j) * surface.at(f[2])) / fine - asked)
                         .norm());
    const mesh::PlaceOn place = mesh::nearest_place(surface, asked);
    // the grid's steps are a hundredth of a metre
    CHECK((place.distance <= least + 1e-12 && place.distance > least - 0.01));
    CHECK((place.X - asked).norm() == Approx(place.distance));
    CHECK(place.sigma == Approx(0.01 * place.X.x()).margin(1e-6));
    // Away from rims the way to it is upright on it.
    if ((place.X.array() > 0.01).head<2>().all() && (place.X.array() < 2.99).head<2>().all() && place.distance > 0.05)
      CHECK(std::abs(place.normal.dot((asked - place.X) / place.distance)) > 0.8);
  }
  // A roof over it hides the ground below; beside the net there is nothing.
  const auto corner = static_cast<std::int32_t>(surface.X.size());
  for (const auto& [x, y] : {std::pair{1.0, 1.0}, {2.0, 1.0}, {1.0, 2.0}})
    surface.X.emplace_back(x, y, 5), surface.sigma.push_back(0.02F);
  surface.faces.push_back({corner, corner + 2, corner + 1});  // whichever way it turns
  CHECK(mesh::top_place(surface, {1.2, 1.2})->X.z() == Approx(5));
  CHECK(mesh::top_place(surface, {2.0, 2.0})->X.z() == Approx(hill(2.0, 2.0)));
  CHECK(!mesh::top_place(surface, {3.2, 1.0}));
  surface.sigma[static_cast<std::size_t>(corner)] = std::numeric_limits<float>::quiet_NaN();
  CHECK(mesh::top_place(surface, {1.2, 1.2})->guessed());
  CHECK_THROWS_AS(mesh::nearest_place({}, {0, 0, 0}), Error);
}

TEST_CASE("Parts that are thinned still fit, keep what nobody measured as it is, and lie where they lay") {
  constexpr int squares = 32;
  const auto hill = [](double x, double y) { return 0.15 * std::sin(0.9 * x) * std::cos(0.7 * y); };
  const TriangleMesh whole = net(2 * squares, 0.25, hill);  // 16 m wide, cut at 8 m
  std::vector<mesh::SurfacePart> parts(2);
  std::array<std::map<std::int32_t, std::int32_t>, 2> known;
  for (const Face& f : whole.faces) {
    const std::size_t p = (whole.at(f[0]) + whole.at(f[1]) + whole.at(f[2])).x() / 3 < 8 ? 0 : 1;
    Face face{};
    for (std::size_t k = 0; k < 3; ++k) {
      const auto [at, fresh] = known[p].try_emplace(f[k], static_cast<std::int32_t>(parts[p].X.size()));
      if (fresh) {
        parts[p].key.push_back(static_cast<std::uint64_t>(f[k])), parts[p].X.push_back(whole.at(f[k]));
        const bool guess = (whole.at(f[k]) - Eigen::Vector3d(4, 4, 0)).head<2>().norm() < 0.6;
        parts[p].sigma.push_back(guess ? std::numeric_limits<float>::quiet_NaN() : 0.01F);
      }
      face[k] = at->second;
    }
    parts[p].faces.push_back(face);
  }
  const auto guesses = [](const mesh::SurfacePart& part) {
    std::set<std::uint64_t> out;
    for (std::size_t v = 0; v < part.key.size(); ++v)
      if (std::isnan(part.sigma[v])) out.insert(part.key[v]);
    return out;
  };
  const auto of_guesses = guesses(parts[0]);
  Progress progress;
  for (std::size_t p = 0; p < 2; ++p)
    mesh::thin(parts[p],
               Eigen::AlignedBox2d(Eigen::Vector2d(8.0 * static_cast<double>(p), 0),
                                   Eigen::Vector2d(8.0 * static_cast<double>(p) + 8, 16)),
               0.01, progress);
  CHECK(guesses(parts[0]) == of_guesses);
  const TriangleMesh joined = mesh::joined(parts);
  CHECK(5 * joined.faces.size() < 2 * whole.faces.size());
  const mesh::Flaws flaws = mesh::flaws_of(joined);
  CHECK((flaws.border_edges == 8 * squares && flaws.crowded_edges == 0 && flaws.bow_ties == 0));
  double plan = 0, worst = 0;
  for (const Face& f : joined.faces) {
    plan += 0.5 * joined.normal(f).z();
    const Eigen::Vector3d middle = (joined.at(f[0]) + joined.at(f[1]) + joined.at(f[2])) / 3;
    worst = std::max(worst, std::abs(middle.z() - hill(middle.x(), middle.y())));
  }
  CHECK(plan == Approx(256).epsilon(1e-9));  // nothing turned over, nothing lost
  CHECK(worst < 0.04);                       // single places stray by some tolerances
}

TEST_CASE("To a number of triangles: as good as to a tolerance, flat parts first, the same on any threads") {
  // A plain with a rough third; more triangles than two squares hold.
  const auto law = [](double x, double y) { return x < 20 ? 0.0 : 0.3 * std::sin(2 * x) * std::cos(3 * y); };
  const TriangleMesh whole = net(246, 0.25, law);
  Progress progress;
  // Root mean square distance at the triangles' middles, times their number: of smooth ground that is alike, however
  // many there are.
  const auto worth = [&](const TriangleMesh& mesh) {
    double squares = 0, area = 0;
    for (const Face& f : mesh.faces) {
      const Eigen::Vector3d middle = (mesh.at(f[0]) + mesh.at(f[1]) + mesh.at(f[2])) / 3;
      squares += mesh.area(f) * std::pow(middle.z() - law(middle.x(), middle.y()), 2), area += mesh.area(f);
    }
    return std::sqrt(squares / area) * static_cast<double>(mesh.faces.size());
  };
  mesh::SimplifyOptions by_number, by_tolerance;
  by_number.triangles = 9000, by_tolerance.tolerance = 0.03;
  const TriangleMesh few = mesh::simplified(whole, by_number, progress);
  CHECK((few.faces.size() <= 9000 && few.faces.size() > 8900));
  const auto on_plain = [&](const Face& f) { return (few.at(f[0]) + few.at(f[1]) + few.at(f[2])).x() / 3 < 18; };
  CHECK(std::count_if(few.faces.begin(), few.faces.end(), on_plain) < 100);
  CHECK(worth(few) < 1.25 * worth(mesh::simplified(whole, by_tolerance, progress)));
  tbb::global_control one(tbb::global_control::max_allowed_parallelism, 1);
  const TriangleMesh alone = mesh::simplified(whole, by_number, progress);
  CHECK((alone.X == few.X && alone.faces == few.faces));
}
