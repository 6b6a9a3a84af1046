#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/mesh/cube_cases.hpp>
#include <mesograph/mesh/guesses.hpp>
#include <mesograph/mesh/height_field.hpp>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <set>

#include "drawn_surface.hpp"
#include "mesh_shapes.hpp"

using namespace mesograph;
using mesh::Face;
using mesh::TriangleMesh;

TEST_CASE("Any pattern of full and empty places is parted by one closed surface that faces the empty ones") {
  // A lattice of random places, empty around: all 256 cases come up many times, every side of a cube between two.
  constexpr int n = 24;
  std::array<int, 256> met{};
  for (const double share : {0.15, 0.5, 0.85}) {
    std::mt19937_64 random(7);
    std::vector<bool> full(n * n * n, false);
    const auto at = [](int x, int y, int z) { return (z * n + y) * n + x; };
    int count = 0;
    for (int z = 1; z < n - 1; ++z)
      for (int y = 1; y < n - 1; ++y)
        for (int x = 1; x < n - 1; ++x)
          if (std::uniform_real_distribution<>(0, 1)(random) < share)
            full[static_cast<std::size_t>(at(x, y, z))] = true, ++count;
    TriangleMesh mesh;
    std::map<std::pair<int, int>, int> vertex;
    for (int z = 0; z + 1 < n; ++z)
      for (int y = 0; y + 1 < n; ++y)
        for (int x = 0; x + 1 < n; ++x) {
          const auto corner = [&](int c) { return at(x + (c & 1), y + (c >> 1 & 1), z + (c >> 2)); };
          std::size_t which = 0;
          for (int c = 0; c < 8; ++c) which |= static_cast<std::size_t>(full[static_cast<std::size_t>(corner(c))]) << c;
          ++met[which];
          for (const auto& triangle : mesh::cube_cases()[which]) {
            Face face{};
            for (std::size_t k = 0; k < 3; ++k) {
              const mesh::CubeEdge& e = mesh::cube_edges()[triangle[k]];
              REQUIRE(full[static_cast<std::size_t>(corner(e.from))] != full[static_cast<std::size_t>(corner(e.to))]);
              const auto [found, fresh] =
                  vertex.try_emplace({corner(e.from), corner(e.to)}, static_cast<int>(mesh.X.size()));
              if (fresh) {
                const int from = corner(e.from);
                mesh.X.push_back(Eigen::Vector3d(from % n, from / n % n, from / (n * n)) +
                                 0.5 * Eigen::Vector3d::Unit(e.axis));
                mesh.sigma.push_back(1);
              }
              face[k] = found->second;
            }
            mesh.faces.push_back(face);
          }
        }
    INFO("share " << share);
    CHECK(closed(mesh));
    // Crossings half way: a full place alone is an octahedron of 1/6, a full block about its number of places.
    CHECK(enclosed(mesh) > 0.16 * count);
    CHECK(enclosed(mesh) < 1.1 * count);
  }
  CHECK(std::count(met.begin(), met.end(), 0) == 0);
}

namespace {

/// A ball of 1 m seen from twelve sides, but for one, as its photos' depths say.
struct Ball {
  std::vector<mesh::Sheet> sheets;
  std::vector<const mesh::Sheet*> list;
  mesh::FieldOptions options;

  Ball() {
    options.cell = 0.08;
    for (const double z : {-1.5, 1.5})
      for (int k = 0; k < 6; ++k) {
        const double turn = (k + (z > 0 ? 0.5 : 0)) * 1.0472;
        sheets.push_back(sheet_of(looking_from({2.5 * std::cos(turn), 2.5 * std::sin(turn), z}), 0.01,
                                  [](const auto& C, const auto& d) { return to_sphere(C, d, 1); }));
      }
    for (const mesh::Sheet& s : sheets) list.push_back(&s);
  }
  mesh::ColumnRanges ranges() const {
    mesh::ColumnRanges out({Eigen::Vector2d(-1.2, -1.2), Eigen::Vector2d(1.2, 1.2)}, options.cell);
    for (const mesh::Sheet& s : sheets) out.add(s);
    out.spread();
    return out;
  }
  TriangleMesh surface(int side) const {
    const mesh::ColumnRanges r = ranges();
    std::vector<mesh::SurfacePart> parts;
    for (int row = 0; row < r.rows() - 1; row += side)
      for (int col = 0; col < r.columns() - 1; col += side)
        parts.push_back(mesh::surface_in(r,
                                         {r.first_col() + col, r.first_row() + row,
                                          std::min(side, r.columns() - 1 - col), std::min(side, r.rows() - 1 - row)},
                                         list, options));
    return mesh::joined(parts);
  }
};

}  // namespace

TEST_CASE("A ball that photos see from all sides comes out whole, in its place, and sure to what they are") {
  const Ball ball;
  TriangleMesh mesh = ball.surface(1000);
  mesh::split_bow_ties(mesh);
  mesh = mesh::without_loose_pieces(mesh::without_fringe(mesh, 16), 0.01);
  REQUIRE(mesh.faces.size() > 3000);
  CHECK(mesh::flaws_of(mesh).crowded_edges == 0);
  CHECK(mesh::flaws_of(mesh).bow_ties == 0);
  std::vector<double> off;
  for (const Eigen::Vector3d& X : mesh.X) off.push_back(std::abs(X.norm() - 1));
  std::sort(off.begin(), off.end());
  // Places lie up to 0.04 m off, where rays at 60 degrees meet the ball 0.04^2 tan^2(60) / 2 = 0.0024 m beyond its
  // tangent plane, and depths are linear between pixels of 0.014 m; seen 0.0031 in the median, 0.0123 at nine of ten.
  CHECK(off[off.size() / 2] < 0.004);
  CHECK(off[off.size() * 9 / 10] < 0.015);
  // 0.01 m along rays, of some seven photos: no better than half, no worse than aslant.
  std::vector<float> sigma;
  for (const float s : mesh.sigma)
    if (std::isfinite(s)) sigma.push_back(s);
  REQUIRE(10 * sigma.size() > 9 * mesh.X.size());
  std::sort(sigma.begin(), sigma.end());
  CHECK(sigma[sigma.size() / 2] > 0.005);
  CHECK(sigma[sigma.size() / 2] < 0.012);
  // The poles' caps are seen aslant alone; holes there are closed.
  mesh::close_holes(mesh, 1.0, 0.2);
  CHECK(std::abs(enclosed(mesh) - 4.18879) < 0.05);
}

TEST_CASE("A site cut into squares in any way is the same surface") {
  const Ball ball;
  const TriangleMesh whole = ball.surface(1000), cut = ball.surface(7);
  REQUIRE(whole.X.size() == cut.X.size());
  CHECK(whole.X == cut.X);
  const auto sorted = [](std::vector<Face> faces) {
    for (Face& f : faces) std::rotate(f.begin(), std::min_element(f.begin(), f.end()), f.end());
    std::sort(faces.begin(), faces.end());
    return faces;
  };
  CHECK(sorted(whole.faces) == sorted(cut.faces));
}

TEST_CASE("What rays pass is empty, what nobody saw stays full and is a guess, and one photo that errs is overruled") {
  // Level ground at 0, a box of 2 m on it whose top alone matches; three photos from above, one of which has a hole of
  // 3 m in the ground.
  const auto cast = [](const Eigen::Vector3d& C, const Eigen::Vector3d& d) {
    const double top = (2 - C.z()) / d.z();
    const Eigen::Vector3d X = C + top * d;
    return std::abs(X.x()) < 1 && std::abs(X.y()) < 1 ? top : -C.z() / d.z();
  };
  const auto errs = [&](const Eigen::Vector3d& C, const Eigen::Vector3d& d) {
    const double t = cast(C, d);
    const Eigen::Vector3d X = C + t * d;
    return X.x() > 2 && X.x() < 3 && std::abs(X.y()) < 0.5 ? (-3 - C.z()) / d.z() : t;
  };
  std::vector<mesh::Sheet> sheets;
  for (const Eigen::Vector3d& C : {Eigen::Vector3d(-4, 1, 12), Eigen::Vector3d(5, 0, 12), Eigen::Vector3d(0, -5, 12)})
    sheets.push_back(sheet_of(looking_from(C), 0.02, cast));
  sheets.push_back(sheet_of(looking_from({1, 4, 12}), 0.02, errs));
  std::vector<const mesh::Sheet*> list;
  for (const mesh::Sheet& s : sheets) list.push_back(&s);
  mesh::FieldOptions options;
  options.cell = 0.1;
  const auto said = [&](double x, double y, double z) { return mesh::ask({x, y, z}, 1, list, options)[0]; };
  CHECK(said(2.5, 0, 0.1).distance == Approx(0.1).margin(0.02));    // rays lean by up to half
  CHECK(said(2.5, 0, -0.1).distance == Approx(-0.1).margin(0.03));  // in spite of the hole that one sees
  CHECK(said(2.5, 0, -1).distance < 0);
  CHECK(said(0, 0, 1).distance < 0);  // in the box: nobody looks there, and nobody measured
  CHECK(std::isnan(said(0, 0, 1).sigma));
  CHECK(said(1.4, 0, 1).distance > 0);  // beside it rays pass
  CHECK(std::isfinite(said(0, 0, 2.05).sigma));
  CHECK(std::isnan(said(60, 60, 0).distance));  // where nobody looks
}

TEST_CASE("A cube of 4,800 triangles needs twelve; a bumpy net strays by no more than was allowed") {
  Progress progress;
  // Six sides of 20 x 20 squares, joined at their rims.
  TriangleMesh cube;
  std::map<std::array<int, 3>, int> known;
  constexpr int n = 20;
  const auto vertex = [&](std::array<int, 3> at) {
    const auto [found, fresh] = known.try_emplace(at, static_cast<int>(cube.X.size()));
    if (fresh) cube.X.emplace_back(at[0], at[1], at[2]), cube.sigma.push_back(0.1F);
    return found->second;
  };
  for (std::size_t axis = 0; axis < 3; ++axis)
    for (const int side : {0, n})
      for (int i = 0; i < n; ++i)
        for (int j = 0; j < n; ++j) {
          const auto at = [&](int u, int v) {
            std::array<int, 3> p{};
            p[axis] = side, p[(axis + 1) % 3] = i + u, p[(axis + 2) % 3] = j + v;
            return vertex(p);
          };
          Face a = {at(0, 0), at(1, 0), at(1, 1)}, b = {at(0, 0), at(1, 1), at(0, 1)};
          if (side == 0) std::swap(a[1], a[2]), std::swap(b[1], b[2]);
          cube.faces.push_back(a), cube.faces.push_back(b);
        }
  REQUIRE(closed(cube));
  mesh::SimplifyOptions options;
  options.tolerance = 1e-3;
  const TriangleMesh few = mesh::simplified(cube, options, progress);
  CHECK(few.faces.size() == 12);
  CHECK(closed(few));
  CHECK(enclosed(few) == Approx(8000).epsilon(1e-6));

  // 320,000 triangles: squares of the plan are simplified by themselves first.
  const auto law = [](double x, double y) { return 0.3 * std::sin(0.7 * x) * std::cos(0.5 * y); };
  const TriangleMesh bumpy = net(400, 0.1, law);
  options.tolerance = 0.01;
  const TriangleMesh less = mesh::simplified(bumpy, options, progress);
  CHECK(less.faces.size() < bumpy.faces.size() / 50);
  CHECK(mesh::flaws_of(less).crowded_edges == 0);
  CHECK(mesh::flaws_of(less).pieces == 1);
  double squares = 0, most = 0;
  for (const Face& f : less.faces) {
    const Eigen::Vector3d middle = (less.at(f[0]) + less.at(f[1]) + less.at(f[2])) / 3;
    const double off = std::abs(middle.z() - law(middle.x(), middle.y()));
    squares += off * off, most = std::max(most, off);
  }
  CHECK(std::sqrt(squares / static_cast<double>(less.faces.size())) < 0.01);
  CHECK(most < 0.04);  // a mean over what a vertex stands for: single places some times as much
  Eigen::AlignedBox3d box;
  for (const Eigen::Vector3d& X : less.X) box.extend(X);
  CHECK(box.min().head<2>().norm() < 0.03);  // the rim stays
  CHECK((box.max().head<2>() - Eigen::Vector2d(40, 40)).norm() < 0.03);
  options.tolerance = mesograph::nan, options.triangles = 500;
  const TriangleMesh fewest = mesh::simplified(less, options, progress);
  CHECK(fewest.faces.size() <= 500);
  CHECK(fewest.faces.size() >= 498);
}

TEST_CASE("Holes up to a size are closed by guesses, small ones by interpolation, and a base makes a body") {
  TriangleMesh mesh = net(40, 0.5, [](double x, double) { return 0.1 * x; });
  const auto open = [&](double x, double y, double half) {
    std::erase_if(mesh.faces, [&](const Face& f) {
      const Eigen::Vector3d middle = (mesh.at(f[0]) + mesh.at(f[1]) + mesh.at(f[2])) / 3;
      return std::abs(middle.x() - x) < half && std::abs(middle.y() - y) < half;
    });
  };
  open(5, 5, 0.5), open(12, 6, 1.5), open(10, 14, 4);
  mesh = mesh::compacted(mesh);
  REQUIRE(mesh::rims_of(mesh.faces).size() == 4);
  const mesh::HolesClosed done = mesh::close_holes(mesh, 5.0, 2.0);
  CHECK(done.closed == 2);
  CHECK(done.left == 2);  // the large one, and outside
  CHECK(mesh::rims_of(mesh.faces).size() == 2);
  CHECK(mesh::flaws_of(mesh).crowded_edges == 0);
  double guessed = 0;
  for (const Face& f : mesh.faces) {
    if (mesh.guessed(f)) guessed += 0.5 * mesh.normal(f).z();
    const Eigen::Vector3d middle = (mesh.at(f[0]) + mesh.at(f[1]) + mesh.at(f[2])) / 3;
    REQUIRE(std::abs(middle.z() - 0.1 * middle.x()) < 0.02);  // a skin over a plane is that plane
  }
  CHECK(guessed == Approx(9).margin(1e-6));  // 3 m x 3 m; the hole of 1 m is none
  CHECK(mesh::measured_only(mesh).faces.size() < mesh.faces.size());
  mesh::close_with_base(mesh, -2);
  CHECK(closed(mesh));
  // 20 m x 20 m less 8 m x 8 m about x = 10, between -2 and 0.1 x, whose mean is 1.
  CHECK(enclosed(mesh) == Approx((400 - 64) * 3.0).epsilon(1e-6));
}

TEST_CASE("Guesses beyond the last measurement go, those within a window of it are settled, others laid smoothly") {
  TriangleMesh mesh = net(20, 1, [](double, double) { return 0.0; });
  const auto at = [](std::size_t col, std::size_t row) { return row * 21 + col; };
  constexpr float none = std::numeric_limits<float>::quiet_NaN();
  mesh.sigma[at(10, 10)] = none, mesh.X[at(10, 10)].z() = 0.3;  // alone
  for (std::size_t row = 4; row <= 8; ++row)
    for (std::size_t col = 4; col <= 8; ++col)
      mesh.sigma[at(col, row)] = none, mesh.X[at(col, row)].z() = 1.0;         // a patch
  for (std::size_t row = 0; row <= 20; ++row) mesh.sigma[at(20, row)] = none;  // a fringe
  TriangleMesh kept = mesh::without_fringe(mesh, 8);
  CHECK(kept.faces.size() == mesh.faces.size() - 40);
  mesh::smooth_guesses(kept, 200);
  mesh::settle_small_guesses(kept, 1.5);
  std::size_t guesses = 0;
  for (std::size_t v = 0; v < kept.X.size(); ++v) {
    guesses += std::isnan(kept.sigma[v]);
    CHECK(std::abs(kept.X[v].z()) < 1e-3);
    if ((kept.X[v].head<2>() - Eigen::Vector2d(10, 10)).norm() < 0.1) CHECK(kept.sigma[v] == Approx(0.02));
  }
  CHECK(guesses == 25);
}

TEST_CASE("Triangles over a raster keep each cell's height to the tolerance, follow lines and leave holes open") {
  // A slope with a step of 1 m along x = 12.3 that a line follows, a cone, and no heights about (5, 15).
  const auto law = [](const Eigen::Vector2d& p) {
    const double cone = std::max(0.0, 2 - (p - Eigen::Vector2d(18, 6)).norm());
    return (p - Eigen::Vector2d(5, 15)).norm() < 2 ? NAN : 0.05 * p.y() + cone + (p.x() > 12.3 ? 1 : 0);
  };
  const surface::Surface surface = drawn_surface({0, 0}, 24, 0.1, law);
  mesh::HeightFieldOptions options;
  options.tolerance = 0.03;
  options.breaklines = {{{12.3, -5}, {12.3, 30}}};
  const TriangleMesh mesh = mesh::height_field(surface, options);
  CHECK(mesh::flaws_of(mesh).crowded_edges == 0);
  CHECK(mesh.faces.size() < surface.grid.size() / 12);
  double along = 0;  // of both faces beside it
  for (const mesh::EdgeUse& e : mesh::edge_uses(mesh.faces))
    if (std::abs(mesh.at(e.a).x() - 12.3) < 1e-6 && std::abs(mesh.at(e.b).x() - 12.3) < 1e-6)
      along += std::abs(mesh.at(e.a).y() - mesh.at(e.b).y());
  CHECK(along == Approx(2 * 23.9).margin(0.4));  // but for a piece of a cell at each end
  // Each cell in the triangle that holds it, found by looking at all.
  std::vector<double> z(surface.grid.size(), NAN);
  double area = 0;
  for (const Face& f : mesh.faces) {
    const Eigen::Vector3d &a = mesh.at(f[0]), &b = mesh.at(f[1]), &c = mesh.at(f[2]);
    REQUIRE(mesh.normal(f).z() > 0);
    area += 0.5 * mesh.normal(f).z();
    Eigen::AlignedBox2d box;
    for (const auto& p : {a, b, c}) box.extend(Eigen::Vector2d(p.head<2>()));
    for (int row = surface.grid.row(box.max().y()); row <= surface.grid.row(box.min().y()); ++row)
      for (int col = surface.grid.column(box.min().x()); col <= surface.grid.column(box.max().x()); ++col) {
        if (!surface.grid.inside(col, row)) continue;
        const Eigen::Vector2d p = surface.grid.middle(col, row);
        const auto side = [&](const Eigen::Vector3d& u, const Eigen::Vector3d& v) {
          return (v.x() - u.x()) * (p.y() - u.y()) - (v.y() - u.y()) * (p.x() - u.x());
        };
        const double wa = side(b, c), wb = side(c, a), wc = side(a, b), sum = wa + wb + wc;
        if (std::min({wa, wb, wc}) < -1e-9) continue;
        z[surface.grid.at(col, row)] = (wa * a.z() + wb * b.z() + wc * c.z()) / sum;
      }
  }
  std::size_t met = 0, off = 0;
  for (std::size_t i = 0; i < z.size(); ++i)
    if (std::isfinite(z[i]) && std::isfinite(surface.z[i])) ++met, off += std::abs(z[i] - surface.z[i]) > 0.0301;
  CHECK(met > 53000);      // of 240 x 240 less a disc of 1,257
  CHECK(500 * off < met);  // cells beside rims, which are followed to three quarters of one
  CHECK(area == Approx(23.9 * 23.9 - 3.14159 * 4.2).epsilon(0.01));
  surface::Surface empty = surface;
  std::fill(empty.z.begin(), empty.z.end(), std::numeric_limits<float>::quiet_NaN());
  CHECK_THROWS_WITH(mesh::height_field(empty, options), Catch::Contains("heights"));
}
