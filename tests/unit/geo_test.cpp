#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/geo/find_crs.hpp>
#include <mesograph/geo/frame.hpp>

#include "folder.hpp"

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

TEST_CASE("Many points leave the local frame by interpolation as each one does") {
  const geo::Crs crs = geo::resolve({"EPSG:25833+5773", "", ""});
  const geo::Frame frame(crs, {431200, 6822400, 640});
  std::vector<Eigen::Vector3d> X;
  for (int i = 0; i < 200; ++i) X.emplace_back(5.1 * i - 500, 0.025 * i * i - 480, 0.5 * i - 40);
  const std::vector<Eigen::Vector3d> quick = frame.crs_from_local(X);
  for (std::size_t i = 0; i < X.size(); ++i) CHECK((quick[i] - frame.crs_from_local(X[i])).norm() < 1e-4);
}

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

TEST_CASE("A CRS as files carry it, in WKT, is the one of its code") {
  const geo::Crs by_code = geo::resolve({"EPSG:25833+5773", "", ""});
  const geo::Crs by_wkt = geo::resolve({by_code.wkt, "", ""});
  CHECK((by_wkt.name == by_code.name && by_wkt.heights == by_code.heights && by_wkt.geoid_grid == by_code.geoid_grid));
  // Hence heights, too, are brought over as by the code.
  const std::vector<Eigen::Vector3d> places = {{431200, 6822400, 640}, {431900, 6823000, 700}};
  const geo::Crs utm32 = geo::resolve({"EPSG:25832", "ellipsoidal", ""});
  const auto one = geo::crs_from("EPSG:25833+5773", utm32, places), other = geo::crs_from(by_code.wkt, utm32, places);
  for (std::size_t i = 0; i < places.size(); ++i) {
    CHECK((one[i] - other[i]).norm() < 1e-6);
    CHECK(one[i].z() - places[i].z() > 20);  // the geoid of Scandinavia
  }
  CHECK_THROWS_WITH(geo::resolve({"PROJCS[\"half", "plain", ""}), Contains("WKT of a CRS is not understood"));
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
  // CH1903+ serves Switzerland, 6 to 10.5 degrees east: zone 32.
  CHECK_THROWS_WITH(geo::resolve({"EPSG:4150", "plain", ""}), Contains("EPSG:25832"));
  // UPS North: both axes run south from the pole. 5336+5715 are depths.
  CHECK_THROWS_WITH(geo::resolve({"EPSG:32661", "plain", ""}), Contains("axes that count"));
  CHECK_THROWS_WITH(geo::resolve({"EPSG:25833+5715", "", ""}), Contains("counts down"));
  CHECK_THROWS_WITH(geo::resolve({"EPSG:25833", "", ""}), Contains("says nothing about heights"));
  CHECK_THROWS_WITH(geo::resolve({"no such thing", "", ""}), Contains("is not understood"));
  CHECK(geo::utm_code(13.7, 61.5) == 25833);
  CHECK(geo::utm_code(-70.2, -33.4) == 32719);
}

namespace {

/// Easting and northing on the transverse Mercator by Krueger's series to n^4 (Karney 2011, Transverse Mercator with an
/// accuracy of a few nanometers, eq. 35), written out apart from PROJ.
Eigen::Vector2d krueger(double lon_deg, double lat_deg, double central_deg) {
  const double a = 6378137.0, f = 1 / 298.257222101, n = f / (2 - f), e = std::sqrt(f * (2 - f));
  const double phi = lat_deg * rad_per_deg, lambda = (lon_deg - central_deg) * rad_per_deg;
  const double tau = std::tan(phi), sigma = std::sinh(e * std::atanh(e * tau / std::sqrt(1 + tau * tau)));
  const double conformal = tau * std::sqrt(1 + sigma * sigma) - sigma * std::sqrt(1 + tau * tau);
  const double xi = std::atan2(conformal, std::cos(lambda)),
               eta = std::asinh(std::sin(lambda) / std::hypot(conformal, std::cos(lambda)));
  const double n2 = n * n, n3 = n2 * n, n4 = n3 * n;
  const double alpha[] = {n / 2 - 2 * n2 / 3 + 5 * n3 / 16 + 41 * n4 / 180, 13 * n2 / 48 - 3 * n3 / 5 + 557 * n4 / 1440,
                          61 * n3 / 240 - 103 * n4 / 140, 49561 * n4 / 161280};
  double x = eta, y = xi;
  for (int j = 1; j <= 4; ++j) {
    x += alpha[j - 1] * std::cos(2 * j * xi) * std::sinh(2 * j * eta);
    y += alpha[j - 1] * std::sin(2 * j * xi) * std::cosh(2 * j * eta);
  }
  const double A = a / (1 + n) * (1 + n2 / 4 + n4 / 64);
  return {500000 + 0.9996 * A * x, 0.9996 * A * y};
}

}  // namespace

TEST_CASE("UTM coordinates are those of Krueger's series") {
  const geo::Crs crs = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  for (const auto& [lon, lat] : {std::pair{13.7, 61.5}, {15.0, 47.1}, {17.9, 68.0}, {12.1, 55.5}}) {
    // ETRS89 and WGS 84 are the same to the register's ballpark of a metre; EPSG:1149 is a null transformation.
    const Eigen::Vector3d point = geo::crs_from_wgs84(crs, {lon, lat, 100});
    CHECK((point.head<2>() - krueger(lon, lat, 15)).norm() < 1e-4);  // terms of n^5 are a tenth of a millimetre
    CHECK(std::abs(point.z() - 100) < 1e-4);
    CHECK((geo::wgs84_from_crs(crs, point) - Eigen::Vector3d(lon, lat, 100)).head<2>().norm() < 1e-9);
  }
}

TEST_CASE("The earth's curvature is in the local frame: far points sink below the plane") {
  const geo::Crs crs = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  const Eigen::Vector3d origin(500000, 6650000, 0);  // on the central meridian, 60 degrees north
  const geo::Frame frame(crs, origin);
  for (const double d : {1000.0, 5000.0, 20000.0}) {
    const Eigen::Vector3d X = frame.local_from_crs(origin + Eigen::Vector3d(0, d, 0));
    // Sagitta d^2 / 2 M with the meridian's radius at 60 degrees, 6,383,500 m within 0.2 %; the grid is 0.9996 of
    // truth.
    const double along = d / 0.9996;
    CHECK(std::abs(X.z() + along * along / (2 * 6383500.0)) < 0.003 * along * along / (2 * 6383500.0) + 1e-4);
    CHECK(std::abs(X.y() - along) < 1e-6 * along + 0.02);
  }
}

TEST_CASE("A local survey is its own frame; positions become metres about the origin") {
  const geo::Crs crs = geo::resolve({"local", "", ""});
  REQUIRE(crs.local);
  const geo::Frame frame(crs, {13.7, 61.5, 650});
  CHECK(frame.local_from_crs({10, 20, 30}) == Eigen::Vector3d(10, 20, 30));
  CHECK(frame.crs_from_local({1, 2, 3}) == Eigen::Vector3d(1, 2, 3));
  CHECK((frame.local_from_grid({5, 5, 5}) - Eigen::Matrix3d::Identity()).norm() == 0);
  const Eigen::Vector3d north = frame.local_from_wgs84({13.7, 61.501, 660});
  // A thousandth of a degree of latitude is 111.4 m at 61.5 degrees (M = 6,385,000 m within 0.2 %).
  CHECK(std::abs(north.y() - 111.43) < 0.3);
  CHECK(std::abs(north.x()) < 1e-6);
  CHECK(std::abs(north.z() - 10) < 0.01);
}

TEST_CASE("A CRS in a WKT file is taken, a file that is none is refused") {
  const Folder folder;
  const auto path = folder.path / "grid.prj";
  const geo::Crs known = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  write_file(path, known.wkt);
  const geo::Crs read = geo::resolve({path.string(), "ellipsoidal", ""});
  const Eigen::Vector3d place(13.7, 61.5, 50);
  CHECK((geo::crs_from_wgs84(read, place) - geo::crs_from_wgs84(known, place)).norm() < 1e-6);
  write_file(path, "PROJCS[\"broken");
  CHECK_THROWS_AS(geo::resolve({path.string(), "ellipsoidal", ""}), Error);
  CHECK_THROWS_AS(geo::resolve({"EPSG:25833", "sea level", ""}), Error);
  CHECK_THROWS_AS(geo::resolve({"EPSG:25833", "", "/nowhere/geoid.gtx"}), Error);
}

TEST_CASE("Grids in feet are those in metres, counted in feet; so are their heights") {
  // NAD83 / New York Long Island, once in metres and once in US survey feet: false easting 300000 m = 984250 ftUS.
  const geo::Crs feet = geo::resolve({"EPSG:2263", "plain", ""}), metres = geo::resolve({"EPSG:32118", "plain", ""});
  const double foot = 1200.0 / 3937.0;
  CHECK_THAT(feet.unit, Catch::WithinRel(foot, 1e-15));
  CHECK(feet.reading() == "in US survey foot, heights in US survey foot");
  const Eigen::Vector3d origin(301000, 65000, 20), place(301800, 64100, 55);
  const geo::Frame a(metres, origin), b(feet, origin / foot);
  // Bound 1e-7 m: 1e-16 of 1e6 feet, some roundings on.
  CHECK((a.local_from_crs(place) - b.local_from_crs(place / foot)).norm() < 1e-7);
  CHECK((b.crs_from_local(b.local_from_crs(place / foot)) - place / foot).norm() < 1e-4);
  CHECK((a.local_from_grid({100, 200, 5}) - b.local_from_grid({100, 200, 5})).norm() < 1e-8);
  // Plan in metres, heights in feet (NAVD88, EPSG:6360): the unit of heights is that of the vertical CRS.
  const geo::Crs mixed = geo::resolve({"EPSG:32118+6360", "plain", ""});
  CHECK(mixed.unit == 1.0);
  CHECK_THAT(mixed.height_unit, Catch::WithinRel(foot, 1e-15));
  const geo::Frame c(mixed, {301000, 65000, 20 / foot});
  CHECK((a.local_from_crs(place) - c.local_from_crs({301800, 64100, 55 / foot})).norm() < 1e-7);
  CHECK((mixed.metric_from({301800, 64100, 55 / foot}) - place).norm() < 1e-9);
}

TEST_CASE("Grids that count west and south keep their signs, and their north is north") {
  // S-JTSK / Krovak as registered (southing, westing) and for drawing (east, north), whose numbers are the negatives.
  const geo::Crs unusual = geo::resolve({"EPSG:5513", "plain", ""}), usual = geo::resolve({"EPSG:5514", "plain", ""});
  CHECK(unusual.plan_columns() == "west,south");
  CHECK(usual.plan_columns() == "east,north");
  const Eigen::Vector3d origin(-743000, -1043000, 200), signs(-1, -1, 1);
  const geo::Frame a(usual, origin), b(unusual, origin.cwiseProduct(signs));
  for (const Eigen::Vector3d& d : {Eigen::Vector3d(300, -200, 50), Eigen::Vector3d(-40, 90, 0)}) {
    const Eigen::Vector3d X = a.local_from_crs(origin + d);
    CHECK((b.local_from_crs((origin + d).cwiseProduct(signs)) - X).norm() < 1e-6);
    CHECK((a.local_from_grid(X) - b.local_from_grid(X)).norm() < 1e-8);
    CHECK((unusual.metric_from(b.crs_from_local(X)) - a.crs_from_local(X)).norm() < 1e-6);
  }
  // Hartebeesthoek94 / Lo19: x runs south and y west from the equator and 19 degrees east. Its meridian at 34 degrees
  // south lies 3763 km from the equator along the ellipsoid (Krueger's series), and half a degree east is west -46 km.
  const geo::Crs lo = geo::resolve({"EPSG:2048", "ellipsoidal", ""});
  CHECK(lo.plan_columns() == "west,south");
  const Eigen::Vector3d there = geo::crs_from_wgs84(lo, {19.5, -34.0, 100.0});
  const Eigen::Vector2d series = (krueger(19.5, -34.0, 19.0) - Eigen::Vector2d(500000, 0)) / 0.9996;
  CHECK((there.head<2>() + series).norm() < 0.01);  // GRS 80 in the series, WGS 84 in the grid: 0.1 mm of axis
}

TEST_CASE("True north and grid north differ by the meridian convergence") {
  const geo::Crs crs = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  const geo::Frame frame(crs, {431200, 6822400, 640});
  const Eigen::Vector3d X(300, -200, 20);
  const Eigen::Matrix3d turn = frame.local_from_grid(X).transpose() * frame.local_from_enu(X);
  const Eigen::Vector3d place = geo::wgs84_from_crs(crs, frame.crs_from_local(X));
  // tan(convergence) = tan(lon - lon0) sin(lat), on the sphere; the ellipsoid adds under 1e-7 rad this near the
  // meridian.
  const double convergence = std::atan(std::tan((place.x() - 15) * rad_per_deg) * std::sin(place.y() * rad_per_deg));
  // In the grid's frame true north lies clockwise of grid north by minus the convergence.
  CHECK_THAT(std::atan2(turn(0, 1), turn(1, 1)), Catch::WithinAbs(-convergence, 2e-6));
  CHECK(std::abs(turn(2, 2) - 1) < 1e-12);
}

TEST_CASE("Many positions at once are those one by one, from any CRS") {
  const geo::Crs crs = geo::resolve({"EPSG:25833", "ellipsoidal", ""});
  const std::vector<Eigen::Vector3d> points = {{431200, 6822400, 640}, {431900, 6822000, 655}};
  const auto all = geo::wgs84_from("EPSG:25833", points);
  for (std::size_t i = 0; i < points.size(); ++i) CHECK((all[i] - geo::wgs84_from_crs(crs, points[i])).norm() < 1e-9);
  // ETRS89 is WGS 84 up to the register's null operation.
  const auto same = geo::wgs84_from("EPSG:4937", all);
  CHECK((same[0] - all[0]).norm() < 1e-9);
  CHECK_THROWS_WITH(geo::wgs84_from("EPSG:1", points), Catch::Contains("unknown"));
  // N of EGM96 in this part of Sweden, from its published contour map: 35 to 40 m.
  CHECK(geo::geoid_height(geo::resolve({"EPSG:25833+5773", "", ""}), 13.7, 61.5) == Approx(36).margin(5));
  CHECK(geo::geoid_height(crs, 13.7, 61.5) == 0);
}

TEST_CASE("Points of geocentric and geographic systems reach the survey's, exactly within its datum") {
  const geo::Crs crs = geo::resolve(utm33_egm96);
  const Eigen::Vector3d place(431210.5, 6822401.25, 641.5);
  // The survey's own datum is ETRS89 on GRS 1980; its geographic coordinates by way of WGS 84 would be off by nothing
  // that the register knows, so the plain conversion is the oracle: textbook formula for X, Y, Z.
  const Eigen::Vector3d lon_lat_h = geo::wgs84_from_crs(crs, place);
  const Eigen::Vector3d X = geocentric(lon_lat_h.x(), lon_lat_h.y(), lon_lat_h.z(), 6378137.0, 298.257222101);
  geo::DatumShift shift;
  const Eigen::Vector3d from_geocentric = geo::crs_from("EPSG:4936", crs, {X}, &shift)[0];
  // Decimals: 1e-11 degrees are a micrometre; the formula and PROJ agree to 1e-8 m.
  CHECK((from_geocentric - place).norm() < 1e-5);
  CHECK((geo::crs_from("EPSG:4937", crs, {lon_lat_h})[0] - place).norm() < 1e-5);
  CHECK(shift.accuracy <= 0.0);  // within one datum nothing is shifted
  CHECK((geo::crs_from("EPSG:25833+5773", crs, {place})[0] - place).norm() < 1e-6);
  CHECK_THROWS_WITH(geo::crs_from("EPSG:1", crs, {place}), Contains("is not in the register"));
}

TEST_CASE("Systems are found by name, code and place") {
  // Facts of the register: EPSG:25833 is ETRS89 / UTM zone 33N in metres; 2263 counts US survey feet; EPSG:5773 is the
  // EGM96 height, whose 15-minute grid comes with proj-data.
  const auto utm = geo::find_crs({"etrs89", "utm zone 33n"}, {Eigen::Vector2d(61.5, 13.7), 50}).found;
  REQUIRE_FALSE(utm.empty());
  CHECK(
      std::any_of(utm.begin(), utm.end(), [](const geo::FoundCrs& c) { return c.code == 25833 && c.unit == "metre"; }));
  CHECK(geo::find_crs({"etrs89", "utm zone 33n"}, {Eigen::Vector2d(-33.0, 151.0), 50}).found.empty());
  const auto feet = geo::find_crs({"2263"}).found;
  REQUIRE_FALSE(feet.empty());
  CHECK(feet[0].code == 2263);
  CHECK(feet[0].unit == "US survey foot");
  const auto egm = geo::find_crs({"EPSG:5773"}).found;
  REQUIRE_FALSE(egm.empty());
  CHECK(egm[0].geoid_grid == "egm96_15.gtx");
  CHECK(egm[0].geoid_present);
}

TEST_CASE("Names of systems in any case, maps of the world, and where a system is made for") {
  CHECK(geo::tidy_name(" epsg:25833+5773 ") == "EPSG:25833+5773");
  CHECK(geo::tidy_name("Epsg:4978") == "EPSG:4978");
  CHECK(geo::tidy_name("local") == "local");
  CHECK(geo::tidy_name("/maps/site.prj") == "/maps/site.prj");
  for (const char* world : {"EPSG:3857", "epsg:3395"})
    CHECK_THROWS_WITH(geo::resolve({world, "plain", ""}), Catch::Matchers::Contains("no metric plan"));
  CHECK_NOTHROW(geo::resolve_of_file("EPSG:3857"));  // to bring points from
  for (const char* grid :
       {"EPSG:25833", "EPSG:2263", "EPSG:2056", "EPSG:3006", "EPSG:28992"})  // of several projections
    CHECK_NOTHROW(geo::resolve({grid, "plain", ""}));
  const geo::Crs zone = geo::resolve({"EPSG:25833", "plain", ""});  // 12 to 18 degrees east
  CHECK(geo::area_of_use(zone, 13.7, 61.5).inside);
  CHECK_FALSE(geo::area_of_use(zone, 9.0, 61.5).inside);
  CHECK_FALSE(geo::area_of_use(zone, 13.7, -61.5).inside);
}
