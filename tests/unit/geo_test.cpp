#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/geo/frame.hpp>

using namespace mesograph;
using Catch::Matchers::Contains;

namespace {

/// Geocentric coordinates by the textbook formula, apart from PROJ.
Eigen::Vector3d geocentric(double lon_deg, double lat_deg, double h, double a, double rf) {
  const double f = 1 / rf, e2 = f * (2 - f), lat = lat_deg * rad_per_deg, lon = lon_deg * rad_per_deg;
  const double N = a / std::sqrt(1 - e2 * std::sin(lat) * std::sin(lat));
  return {(N + h) * std::cos(lat) * std::cos(lon), (N + h) * std::cos(lat) * std::sin(lon),
          (N * (1 - e2) + h) * std::sin(lat)};
}

const geo::CrsRequest utm33_egm96{"EPSG:25833+5773", "", ""};

}  // namespace

TEST_CASE("Local frame and CRS lead back to each other") {
  const geo::Crs crs = geo::resolve(utm33_egm96);
  REQUIRE(crs.heights == geo::Heights::grid);
  const geo::Frame frame(crs, {431200, 6822400, 640});
  for (const Eigen::Vector3d& d : {Eigen::Vector3d(0, 0, 0), {300, -200, 50}, {-4000, 7000, -100}}) {
    const Eigen::Vector3d point = frame.origin() + d;
    // Bound 1e-4 m: what science.md promises.
    CHECK((frame.crs_from_local(frame.local_from_crs(point)) - point).norm() < 1e-4);
  }
}

TEST_CASE("Distances in the local frame are those of space") {
  const geo::Crs crs = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  const Eigen::Vector3d a(431200, 6822400, 640), b(432700, 6823100, 690);
  const geo::Frame frame(crs, a);
  const Eigen::Vector3d ga = geo::wgs84_from_crs(crs, a), gb = geo::wgs84_from_crs(crs, b);
  const double a_grs80 = 6378137.0, rf_grs80 = 298.257222101;
  const double in_space =
      (geocentric(ga.x(), ga.y(), ga.z(), a_grs80, rf_grs80) - geocentric(gb.x(), gb.y(), gb.z(), a_grs80, rf_grs80))
          .norm();
  // Bound 1e-5 m: geographic degrees carry 1e-14 relative, 1e-7 m on the ground.
  CHECK(std::abs((frame.local_from_crs(a) - frame.local_from_crs(b)).norm() - in_space) < 1e-5);
}

TEST_CASE("The grid's north turns by the meridian convergence") {
  const geo::Crs crs = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  const Eigen::Vector3d place(431200, 6822400, 640);
  const geo::Frame frame(crs, place);
  const Eigen::Vector3d g = geo::wgs84_from_crs(crs, place);
  // tan(gamma) = tan(dlon) sin(lat) on the sphere; the ellipsoid's next term is dlon^3 eta^2, below 1e-8 rad here.
  const double gamma = std::atan(std::tan((g.x() - 15.0) * rad_per_deg) * std::sin(g.y() * rad_per_deg));
  // West of the central meridian the meridians lean east in the grid, so grid north lies west of true north: bearing
  // gamma.
  const Eigen::Vector3d north = frame.local_from_grid(Eigen::Vector3d::Zero()).col(1);
  CHECK(std::abs(std::atan2(north.x(), north.y()) - gamma) < 1e-7);
}

TEST_CASE("The geoid's height is added") {
  const Eigen::Vector3d place(431200, 6822400, 640);
  const Eigen::Vector3d above_geoid = geo::wgs84_from_crs(geo::resolve(utm33_egm96), place);
  const double N = above_geoid.z() - place.z();
  // EGM96 in southern Norway and Sweden lies between 25 and 50 m above the ellipsoid (Lemoine et al. 1998, fig. 10).
  CHECK(N > 25);
  CHECK(N < 50);
}

TEST_CASE("CRSs that cannot serve are refused with the way out") {
  CHECK_THROWS_WITH(geo::resolve({"EPSG:999999", "plain", ""}), Contains("not in the register"));
  CHECK_THROWS_WITH(geo::resolve({"EPSG:4326", "plain", ""}), Contains("not projected"));
  CHECK_THROWS_WITH(geo::resolve({"EPSG:2263", "plain", ""}), Contains("other units than metres"));
  CHECK_THROWS_WITH(geo::resolve({"EPSG:25833", "", ""}), Contains("says nothing about heights"));
  CHECK_THROWS_WITH(geo::resolve({"no such thing", "", ""}), Contains("is not understood"));
  CHECK(geo::utm_code(13.7, 61.5) == 25833);
  CHECK(geo::utm_code(-70.2, -33.4) == 32719);
}
