#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mesograph/simulate/render.hpp>
#include <mesograph/simulate/survey.hpp>
#include <mesograph/simulate/wall.hpp>

using namespace mesograph;
namespace fs = std::filesystem;

namespace {

const simulate::Site& site() {
  static const simulate::Site made(20260614);
  return made;
}

/// The pixel around which an image is most nearly unchanged by half a turn: the crossing of a checkered target.
Eigen::Vector2d symmetric_centre(const photo::Rgb& image, Eigen::Vector2d near) {
  Eigen::Vector2d best = near;
  double least = 1e18;
  const auto grey = [&](double x, double y) {
    const double gx = x - 0.5, gy = y - 0.5;
    const int i = static_cast<int>(std::floor(gx)), j = static_cast<int>(std::floor(gy));
    const double tx = gx - i, ty = gy - j;
    const auto at = [&](int c, int r) { return static_cast<double>(image.at(c, r, 1)); };
    return (at(i, j) * (1 - tx) + at(i + 1, j) * tx) * (1 - ty) +
           (at(i, j + 1) * (1 - tx) + at(i + 1, j + 1) * tx) * ty;
  };
  for (double dx = -1.5; dx <= 1.5; dx += 0.1)
    for (double dy = -1.5; dy <= 1.5; dy += 0.1) {
      const Eigen::Vector2d c = near + Eigen::Vector2d(dx, dy);
      double sum = 0;
      for (double a = -3; a <= 3; a += 0.5)
        for (double b = -3; b <= 3; b += 0.5)
          if (a * a + b * b < 9) sum += std::pow(grey(c.x() + a, c.y() + b) - grey(c.x() - a, c.y() - b), 2);
      if (sum < least) least = sum, best = c;
    }
  return best;
}

struct Folder {
  fs::path path = fs::temp_directory_path() / ("mesograph-simulate-" + std::to_string(::getpid()));
  ~Folder() { fs::remove_all(path); }
};

}  // namespace

TEST_CASE("The site is as it is described: relief, weak ground, water that is level") {
  double low = 1e9, high = -1e9, water = mesograph::nan;
  int cells = 0, weak = 0;
  std::map<simulate::Cover, int> seen;
  for (double y = -95; y < 95; y += 0.5)
    for (double x = -75; x < 75; x += 0.5) {
      const double z = site().height(x, y);
      const simulate::Cover cover = site().cover(x, y);
      low = std::min(low, z), high = std::max(high, z);
      ++cells, ++seen[cover];
      weak += cover == simulate::Cover::mud || cover == simulate::Cover::road || cover == simulate::Cover::water;
      if (cover != simulate::Cover::water) continue;
      // Cells on the shore mix water and bank; inside, the level is one.
      if (site().cover(x - 1, y) != cover || site().cover(x + 1, y) != cover || site().cover(x, y - 1) != cover ||
          site().cover(x, y + 1) != cover)
        continue;
      if (std::isnan(water)) water = z;
      CHECK(std::abs(z - water) < 1e-5);
    }
  INFO("relief " << high - low << ", weak " << static_cast<double>(weak) / cells);
  CHECK((high - low > 18 && high - low < 28));
  CHECK((weak > 0.12 * cells && weak < 0.28 * cells));  // "about a fifth"
  for (const auto cover : {simulate::Cover::road, simulate::Cover::barrier, simulate::Cover::hut,
                           simulate::Cover::boulder, simulate::Cover::shrub})
    CHECK(seen[cover] > 20);
}

TEST_CASE("A ray ends on the surface and nothing lies before it") {
  Random random(3);
  int hits = 0;
  for (int n = 0; n < 300; ++n) {
    const Eigen::Vector3d C(random.uniform(-60, 60), random.uniform(-80, 80), 85);
    const Eigen::Vector3d d = Eigen::Vector3d(random.normal(0.4), random.normal(0.4), -1).normalized();
    const auto t = site().first_hit(C, d);
    if (!t) continue;
    ++hits;
    const Eigen::Vector3d X = C + *t * d;
    CHECK(std::abs(X.z() - site().height(X.x(), X.y())) < 0.02);
    for (double s = 0.02; s < 0.999; s += 0.02) {
      const Eigen::Vector3d before = C + s * *t * d;
      CHECK(before.z() > site().height(before.x(), before.y()) - 1e-9);
    }
  }
  CHECK(hits > 280);
  CHECK_FALSE(site().first_hit({0, 0, 90}, {0, 0, 1}));
}

TEST_CASE("Cameras bend the corners by 15 pixels or more, and rays lead back") {
  const simulate::Flight flight = simulate::plan_flight(site(), 20260614, 56, 1200, 900);
  REQUIRE(flight.cameras.size() == 2);
  for (const simulate::TrueCamera& c : flight.cameras) {
    const Eigen::Vector3d v = simulate::true_ray(c, 2, 2);
    const Eigen::Vector2d straight(c.width * 0.5 + c.x0 + c.c * v.x() / v.z(),
                                   c.height * 0.5 + c.y0 + c.c * v.y() / v.z());
    CHECK((straight - Eigen::Vector2d(2, 2)).norm() > 15);
    simulate::TrueStation at_origin;
    at_origin.C.setZero();
    at_origin.axes.setIdentity();
    for (const auto& [x, y] : {std::pair{2.0, 2.0}, {1198.0, 700.0}, {600.0, 450.0}})
      CHECK((*simulate::true_projection(c, at_origin, simulate::true_ray(c, x, y)) - Eigen::Vector2d(x, y)).norm() <
            1e-6);
  }
}

TEST_CASE("The flight: two sorties, four useless photos, terrain followed, overlap as meant") {
  const simulate::Flight flight = simulate::plan_flight(site(), 20260614, 56, 1200, 900);
  std::map<std::string, int> sorties;
  int bad = 0;
  Eigen::Vector3d offset = Eigen::Vector3d::Zero();
  int n = 0;
  for (const simulate::TrueStation& s : flight.stations) {
    ++sorties[s.sortie];
    bad += !s.good;
    if (s.sortie != "grid") continue;
    offset += s.geotag - s.C, ++n;
    if (!s.good) continue;
    const auto t = site().first_hit(s.C, s.axes.row(2).transpose());
    REQUIRE(t);
    CHECK((*t > 58 && *t < 80));
  }
  CHECK((sorties["grid"] == 44 && sorties["cross"] == 12));
  CHECK(bad == 4);
  // The common offset stands out of the single positions' metre: its mean over 44 is known to 0.15 and 0.25 m.
  CHECK((offset / n).norm() > 0.5);
  for (std::size_t i = 1; i < 10; ++i) {
    const double base = (flight.stations[i].C - flight.stations[i - 1].C).norm();
    CHECK((base > 7 && base < 16));  // a fifth of the 55 m that a photo covers along the strip
  }
}

TEST_CASE("A rendered photo shows a target where the truth says, darkens to the corners, and knows its ranges") {
  simulate::Site painted(5);
  const Eigen::Vector3d X(30, -20, painted.height(30, -20));
  painted.paint({{X}});
  simulate::Flight flight = simulate::plan_flight(painted, 5, 12, 480, 360);
  simulate::TrueStation station = flight.stations[0];
  station.C = X + Eigen::Vector3d(9, -6, 22);
  const simulate::TrueCamera& camera = flight.cameras[0];
  const Eigen::Vector3d sun(0.55, -0.45, 0.75);
  const simulate::Rendering photo = simulate::render(simulate::LitSite(painted, sun), camera, station, 9);
  const auto x = simulate::true_projection(camera, station, X);
  REQUIRE(x);
  const Eigen::Vector2d seen = symmetric_centre(photo.image, *x);
  INFO("true " << x->transpose() << ", seen " << seen.transpose());
  CHECK((seen - *x).norm() < 0.3);  // the ground about the target slopes and noise of 2 grey levels turns the minimum
  CHECK(std::abs(photo.range.at(static_cast<int>(x->x()), static_cast<int>(x->y())) - (X - station.C).norm()) < 0.3);
}

TEST_CASE("The wall is met where its boxes are: face, buttress, ledge, the bottom of a drain hole, road and sky") {
  const simulate::Wall wall(7);
  const auto range = [&](double along, double up, double lift) {
    // Level or lifted rays from ten metres before the wall towards it.
    const Eigen::Vector3d from = simulate::Wall::at(along, 10, up);
    const Eigen::Vector3d to = simulate::Wall::at(along, 0, up + lift);
    const auto met = wall.meet(from, (to - from).normalized());
    return met ? met->range : -1.0;
  };
  CHECK(std::abs(range(0, 3, 0) - 10) < 1e-9);
  CHECK(std::abs(range(-2.5, 3, 0) - 9.4) < 1e-9);
  CHECK(std::abs(range(-2.5, 9.5, 0) - 10) < 1e-9);  // above the buttress
  CHECK(std::abs(range(0.5, 6, 0) - 9.85) < 1e-9);
  CHECK(std::abs(range(-13.75, 1.5, 0) - 10.4) < 1e-9);
  CHECK(std::abs(range(-13.75 + 0.061, 1.5, 0) - 10) < 1e-9);  // beside it
  CHECK(std::abs(range(0, 3, -6) - 0.5 * std::hypot(10, 6)) < 1e-9);
  CHECK(range(0, 13, 1) < 0);
  // Light comes from before it: the face is lit, the drain hole is not.
  const auto lit = [&](double along, double up) {
    const Eigen::Vector3d from = simulate::Wall::at(along, 10, up);
    return wall.meet(from, simulate::Wall::at(0, -1, 0))->direct > 0.1;
  };
  CHECK((lit(0, 3) && !lit(-13.75, 1.5)));
}

TEST_CASE("A written survey agrees with its truth") {
  const Folder folder;
  simulate::SimulateOptions options;
  options.photos = 9, options.width = 240, options.height = 180, options.with_photos = false;
  Progress progress;
  simulate::simulate_survey(folder.path, options, progress);
  const CsvTable control(folder.path / "control.csv", {"id", "east", "north", "height", "role"});
  const CsvTable points(folder.path / "truth" / "points.csv", {"point", "east", "north", "height"});
  std::map<std::string, Eigen::Vector3d> truth;
  for (std::size_t r = 0; r < points.rows(); ++r)
    truth[points.text(r, "point")] = {points.required_number(r, "east"), points.required_number(r, "north"),
                                      points.required_number(r, "height")};
  double plan = 0, height = 0;
  for (std::size_t r = 0; r < control.rows(); ++r) {
    const Eigen::Vector3d d = Eigen::Vector3d(control.required_number(r, "east"), control.required_number(r, "north"),
                                              control.required_number(r, "height")) -
                              truth.at(control.text(r, "id"));
    plan += d.head<2>().squaredNorm() / 2;
    height += d.z() * d.z();
  }
  const auto n = static_cast<double>(control.rows());
  REQUIRE(n >= 38);
  // Drawn errors of 1 cm and 1.5 cm; a variance of 38 is known to 23 %, 3.3 times that is 75 %.
  CHECK(std::abs(std::sqrt(plan / n) - 0.010) < 0.0035);
  CHECK(std::abs(std::sqrt(height / n) - 0.015) < 0.0055);
  CHECK_THROWS(simulate::simulate_survey(folder.path, options, progress));
}

TEST_CASE("Matches of a block without pixels lie on the epipolar lines of its truth, but for the mistakes asked for") {
  const Folder folder;
  simulate::SimulateOptions options;
  options.photos = 40, options.with_photos = false, options.points_per_photo = 60;
  options.known_interior = true, options.gross_share = 0.05, options.false_share = 0;
  Progress progress;
  simulate::simulate_survey(folder.path, options, progress);
  // Rotation matrix of omega, phi, kappa, element by element (Kraus, Photogrammetry, 2007, eq. B 3.1-5).
  struct View {
    Eigen::Vector3d C;
    Eigen::Matrix3d R;
    double c;
  };
  std::map<std::string, View> views;
  const CsvTable stations(folder.path / "truth" / "stations.csv", {"image", "camera", "omega"});
  for (std::size_t r = 0; r < stations.rows(); ++r) {
    const auto number = [&](const char* name) { return stations.required_number(r, name); };
    const double o = number("omega") * rad_per_deg, p = number("phi") * rad_per_deg, k = number("kappa") * rad_per_deg;
    View& v = views[stations.text(r, "image")];
    v.C = {number("east"), number("north"), number("height")};
    v.R << cos(p) * cos(k), -cos(p) * sin(k), sin(p),                                                              //
        cos(o) * sin(k) + sin(o) * sin(p) * cos(k), cos(o) * cos(k) - sin(o) * sin(p) * sin(k), -sin(o) * cos(p),  //
        sin(o) * sin(k) - cos(o) * sin(p) * cos(k), sin(o) * cos(k) + cos(o) * sin(p) * sin(k), cos(o) * cos(p);
    v.c = stations.text(r, "camera") == "kestrel-a" ? 1103.4 : 981.7;
  }
  std::map<std::pair<std::string, std::string>, Eigen::Vector2d> place;
  const CsvTable keypoints(folder.path / "keypoints.csv", {"image", "id", "x", "y"});
  for (std::size_t r = 0; r < keypoints.rows(); ++r) {
    const Eigen::Vector2d x(keypoints.required_number(r, "x"), keypoints.required_number(r, "y"));
    REQUIRE((x.minCoeff() >= 0 && x.x() <= 1200 && x.y() <= 900));
    place[{keypoints.text(r, "image"), keypoints.text(r, "id")}] = x;
  }
  const CsvTable matches(folder.path / "matches.csv", {"image_a", "id_a", "image_b", "id_b"});
  REQUIRE(matches.rows() > 3000);
  double squares = 0;
  std::size_t near = 0;
  for (std::size_t r = 0; r < matches.rows(); ++r) {
    const View &a = views.at(matches.text(r, "image_a")), &b = views.at(matches.text(r, "image_b"));
    const Eigen::Vector2d xa = place.at({matches.text(r, "image_a"), matches.text(r, "id_a")}),
                          xb = place.at({matches.text(r, "image_b"), matches.text(r, "id_b")});
    const auto ray = [](const View& v, const Eigen::Vector2d& x) {
      return Eigen::Vector3d(v.R * Eigen::Vector3d(x.x() - 600, 450 - x.y(), -v.c));
    };
    // Distance of b's point from the line in which the plane of base and a's ray cuts b's photo.
    const Eigen::Vector3d normal = b.R.transpose() * (b.C - a.C).cross(ray(a, xa));
    const double off = normal.dot(Eigen::Vector3d(xb.x() - 600, 450 - xb.y(), -b.c)) / normal.head<2>().norm();
    if (std::abs(off) < 4) ++near, squares += off * off;
  }
  // Two keypoints of 5 % wrong ones each: 9.75 % of the matches, of which the part along the line is not seen. Noise of
  // 0.5 px in both photos, across the line: 0.7 px, a little more or less where the scales differ; what is left of the
  // wrong ones within 4 px widens it.
  const double share = static_cast<double>(near) / static_cast<double>(matches.rows());
  CHECK(share > 0.90);
  CHECK(share < 0.95);
  CHECK(std::abs(std::sqrt(squares / static_cast<double>(near)) - 0.72) < 0.08);
}
