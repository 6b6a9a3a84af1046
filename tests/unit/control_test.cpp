#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/control/control_file.hpp>
#include <mesograph/control/plausibility.hpp>
#include <mesograph/control/site_grid.hpp>
#include <mesograph/sight/identify.hpp>

#include <fmt/format.h>
#include <mesograph/base/csv.hpp>
#include <mesograph/control/hold_out.hpp>

#include "folder.hpp"
#include "random_names.hpp"

using namespace mesograph;
using Eigen::Vector3d;

namespace {

control::ControlFile read(const std::string& text, const control::ControlFileOptions& options = {}) {
  const Folder folder;
  return control::read_control_file(folder.file("control.txt", text), options);
}

/// Photos on a grid of 200 m about a place of the Osterlund slip.
std::vector<Vector3d> photos() {
  std::vector<Vector3d> out;
  for (int i = 0; i < 25; ++i) out.emplace_back(431100 + 50 * (i % 5), 6822300 + 50 * (i / 5), 710);
  return out;
}
std::vector<control::Placed> points() {
  return {{"K1", {431110, 6822310, 640}, true},
          {"K2", {431290, 6822320, 641}, true},
          {"K3", {431200, 6822480, 655}, true},
          {"K4", {431120, 6822470, 652}, true}};
}
bool says(const std::vector<control::Doubt>& doubts, const std::string& words) {
  for (const control::Doubt& d : doubts)
    if (d.text.find(words) != std::string::npos) return true;
  return false;
}

}  // namespace

TEST_CASE("Control files of every usual dress give the same points", "[control]") {
  const std::vector<std::string> dresses = {
      "id,east,north,height\nK1,431110.25,6822310.5,640.125\n\"K 2\",431290,6822320,641\n",
      "\xEF\xBB\xBFPoint;Easting;Northing;Elevation\r\nK1;431110,25;6822310,5;640,125\r\nK 2;431290;6822320;641\r\n",
      "# crew 2\nname\tN\tE\tH [m]\tcode\nK1\t6822310.5\t431110.25\t640.125\tGCP\nK 2\t6822320\t431290\t641\tGCP\n",
      "id|code|north|east|height\nK1|a|6822310.5|431110.25|640.125\nK 2|\xE6|6822320|431290|641\n",  // Latin-1
  };
  for (const std::string& text : dresses) {
    INFO(text);
    const control::ControlFile file = read(text);
    REQUIRE(file.points.size() == 2);
    CHECK(file.points[1].id == "K 2");
    // Decimal fractions that doubles hold exactly: no rounding to allow for.
    CHECK(file.points[0].east == 431110.25);
    CHECK(file.points[0].north == 6822310.5);
    CHECK(file.points[0].height == 640.125);
  }
  CHECK(read(dresses[3]).latin1);
  CHECK(read(dresses[1]).decimal_comma);
  const control::ControlFile bare =
      read("K1 6822310.5 431110.25 640.125\nK2 6822320 431290 641\n", {{"id", "north", "east", "height"}});
  CHECK(bare.points[0].east == 431110.25);
  CHECK(bare.delimiter == ' ');
}

TEST_CASE("Units of a control file", "[control]") {
  using control::LengthUnit;
  const std::string text = "id,east,north,height\nA,1000,2000,3937\n";
  // 1 foot = 0.3048 m (international, exact); 1 US survey foot = 1200/3937 m (exact), so 3937 of them are 1200 m.
  CHECK(read(text, {{}, LengthUnit::foot, LengthUnit::us_foot}).points[0].east == Approx(304.8).margin(1e-9));
  CHECK(read(text, {{}, LengthUnit::foot, LengthUnit::us_foot}).points[0].height == Approx(1200).margin(1e-9));
  CHECK(read(text, {{}, LengthUnit::millimetre, LengthUnit::metre}).points[0].north == Approx(2).margin(1e-12));
  CHECK(control::degrees_from("61 30 15.12 N") == Approx(61 + 30 / 60.0 + 15.12 / 3600).margin(1e-12));
  CHECK(control::degrees_from("8\xC2\xB0"
                              "15'36\"W") == Approx(-8.26).margin(1e-12));
  CHECK(std::isnan(control::degrees_from("61 75 0")));
  const control::ControlFile angles = read("id;lat;lon;height\nA;61 30 0;13,5;10\n");
  CHECK(angles.coordinates == control::Coordinates::geographic);
  CHECK(angles.points[0].north == 61.5);
  CHECK(angles.points[0].east == 13.5);
}

TEST_CASE("What a control file lacks is said with its line", "[control]") {
  CHECK_THROWS_WITH(read("K1;22;14;2\nK2;22;14;2\n"), Catch::Contains("--columns id,north,east,height"));
  CHECK_THROWS_WITH(read("id,east,north\nA,1,2\n"), Catch::Contains("column 'height' is missing"));
  CHECK_THROWS_WITH(read("id,east,north,height\nA,1,2,3\nA,1,2,3\n"), Catch::Contains(":3: point 'A' comes twice"));
  CHECK_THROWS_WITH(read("id,east,north,height\n\nA,1,two,3\n"), Catch::Contains(":3: north 'two' is not a number"));
  CHECK_THROWS_WITH(read("id,east,north,height,sigma_h\nA,1,2,3,0\n"), Catch::Contains("sigma"));
  CHECK_THROWS_WITH(read("id,east,north,height,sigma_e\nA,1,2,3,0.01\n"), Catch::Contains("only one of sigma_e"));
  const control::ControlFile south = read("id,west,south,height,sigma_e,sigma_n\nA,1,2,3,0.02,0.05\n");
  CHECK((south.points[0].east == 1 && south.points[0].north == 2 && south.points[0].sigma_n == 0.05));
}

TEST_CASE("The photos' positions betray the usual mistakes of control", "[control]") {
  const auto all = photos();
  CHECK(control::doubts_of(points(), all, {}).empty());
  std::vector<control::Placed> swapped = points(), wrong = points(), line = points(), corner = points();
  control::Reading reading{"with northing and easting swapped", "--columns", {}};
  for (control::Placed& p : swapped) reading.places.push_back(p.place), std::swap(p.place.x(), p.place.y());
  const auto doubts = control::doubts_of(swapped, all, {reading});
  REQUIRE(doubts.size() == 1);
  CHECK(doubts[0].all);
  CHECK(says(doubts, "with northing and easting swapped they would fit"));
  wrong[1].place.x() += 7000;  // 431290 typed as 438290
  CHECK(says(control::doubts_of(wrong, all, {}), "point K2 lies 7.0 km"));
  CHECK(says(control::doubts_of(wrong, all, {}), "with one digit changed, east 431290.000"));
  for (std::size_t i = 0; i < line.size(); ++i)
    line[i].place = {431100 + 50.0 * static_cast<double>(i), 6822300 + 50.0 * static_cast<double>(i), 640};
  CHECK(says(control::doubts_of(line, all, {}), "lie on one line"));
  for (control::Placed& p : corner)
    p.place.head<2>() = Eigen::Vector2d(431100, 6822300) + 0.2 * (p.place.head<2>() - Eigen::Vector2d(431100, 6822300));
  CHECK(says(control::doubts_of(corner, all, {}), "all control points lie within"));
  // Heights above the ellipsoid, 38 m over the geoid that the survey counts from.
  const auto ground = [](const Eigen::Vector2d& at) { return at.y() > 6822400 ? 615.0 : 602.0; };
  const auto high = control::doubts_of(points(), all, {}, Eigen::Vector3d::Ones(), ground, 38.0);
  INFO((high.empty() ? std::string("nothing said") : high[0].text));
  CHECK(says(high, "other height system"));
}

TEST_CASE("The same mistakes are seen in a survey that counts feet", "[control]") {
  const double foot = 1200.0 / 3937.0;
  const Vector3d units = Vector3d::Constant(foot);
  std::vector<Vector3d> all = photos();
  for (Vector3d& p : all) p /= foot;
  std::vector<control::Placed> good = points(), line = points();
  for (control::Placed& p : good) p.place /= foot;
  for (std::size_t i = 0; i < line.size(); ++i)
    line[i].place =
        Vector3d(431100 + 50.0 * static_cast<double>(i), 6822300 + 50.0 * static_cast<double>(i), 640) / foot;
  CHECK(control::doubts_of(good, all, {}, units).empty());
  CHECK(says(control::doubts_of(line, all, {}, units), "lie on one line"));
  // 1414976 feet east, typed with a 7 for the 1 of the ten thousands: the digit is one of the feet that are written.
  std::vector<control::Placed> wrong = good;
  wrong[1].place.x() = 1474976.4;
  CHECK(says(control::doubts_of(wrong, all, {}, units), "point K2 lies 18"));
  CHECK(says(control::doubts_of(wrong, all, {}, units), "with one digit changed, east 1414976.400"));
}

TEST_CASE("A site's grid is fitted onto common points", "[control]") {
  const double turn = 0.3, factor = 0.9994;
  const auto in_plan = [&](const Vector3d& p) {  // written out by components
    return Vector3d(4000 + factor * (std::cos(turn) * p.x() - std::sin(turn) * p.y()),
                    7000 + factor * (std::sin(turn) * p.x() + std::cos(turn) * p.y()), p.z() + 12.5);
  };
  const std::vector<Vector3d> site = {{0, 0, 1}, {120, 10, 4}, {60, 90, -2}, {-30, 70, 7}};
  std::vector<Vector3d> known;
  for (const Vector3d& p : site) known.push_back(in_plan(p));
  const control::SiteGrid exact = control::fit_site_grid(site, known, 4);
  CHECK_THAT(exact.factor, Catch::WithinRel(factor, 1e-12));
  CHECK_THAT(exact.turn, Catch::WithinAbs(turn, 1e-12));
  CHECK((exact({50, 50, 0}) - in_plan({50, 50, 0})).norm() < 1e-9);
  CHECK(exact.rms_plan < 1e-9);
  // One point 3 cm off to the north and 2 cm up: the residuals name it, and their sum of squares is the least.
  known[2] += Vector3d(0, 0.03, 0.02);
  const control::SiteGrid fit = control::fit_site_grid(site, known, 4);
  CHECK(fit.residuals[2].y() > 0.01);
  CHECK_THAT(fit.residuals[2].z(), Catch::WithinAbs(0.015, 1e-9));  // three quarters: the mean takes a quarter
  const auto squares = [&](const control::SiteGrid& g) {
    double sum = 0;
    for (std::size_t i = 0; i < site.size(); ++i) sum += (known[i] - g(site[i])).head<2>().squaredNorm();
    return sum;
  };
  for (const double step : {-1e-5, 1e-5}) {
    control::SiteGrid turned = fit, larger = fit, moved = fit;
    turned.A.topLeftCorner<2, 2>() = Eigen::Rotation2Dd(step).toRotationMatrix() * fit.A.topLeftCorner<2, 2>();
    larger.A.topLeftCorner<2, 2>() *= 1 + step;
    moved.t.x() += step;
    CHECK(squares(turned) > squares(fit));
    CHECK(squares(larger) > squares(fit));
    CHECK(squares(moved) > squares(fit));
  }
  // In space: a grid that leans.
  std::vector<Vector3d> leaning;
  for (const Vector3d& p : site)
    leaning.push_back(Vector3d(10, 20, 30) +
                      1.0002 * (Eigen::AngleAxisd(0.2, Vector3d(0.1, -0.2, 1).normalized()) * p));
  const control::SiteGrid space = control::fit_site_grid(site, leaning, 7);
  CHECK_THAT(space.factor, Catch::WithinRel(1.0002, 1e-10));
  CHECK(space.rms_plan < 1e-9);
  CHECK(space.rms_height < 1e-9);
  CHECK_THROWS_WITH(control::fit_site_grid({{0, 0, 0}}, {{1, 1, 1}}, 4), Catch::Contains("two common points"));
  CHECK_THROWS_WITH(control::fit_site_grid({{0, 0, 0}, {1, 1, 0}, {2, 2, 0}}, {{0, 0, 0}, {1, 1, 0}, {2, 2, 0}}, 7),
                    Catch::Contains("not lie on one line"));
}

TEST_CASE("A pattern of points is known among spots that lie elsewhere too", "[identify]") {
  // Spots: the points shifted by 4 m, turned by 5 mrad, and sixty others; chance would not bring eight together.
  std::vector<Vector3d> surveyed;
  std::vector<sight::Spot> spots;
  std::uint64_t state = 7;
  const auto next = [&] {
    return static_cast<double>((state = state * 6364136223846793005ull + 1442695040888963407ull) >> 40) / (1 << 24);
  };
  for (int i = 0; i < 8; ++i) surveyed.emplace_back(150 * next() - 75, 150 * next() - 75, 10 * next());
  for (int i = 0; i < 60; ++i) spots.push_back({{150 * next() - 75, 150 * next() - 75, 10 * next()}, {0, 1, 2}, 0.1});
  const std::vector<sight::Spot> others = spots;
  for (const Vector3d& p : surveyed)
    spots.push_back({{p.x() - 0.005 * p.y() + 3.0, p.y() + 0.005 * p.x() - 2.6, p.z() + 1.0}, {0, 1, 2}, 0.1});
  const auto known = sight::identify(surveyed, spots, {12, 15}, 1.0);
  REQUIRE(known);
  CHECK(known->named == 8);
  for (int i = 0; i < 8; ++i) CHECK(known->spot[i] == 60 + i);
  // Without the points themselves nothing is known, though some shift always brings a few together.
  CHECK_FALSE(sight::identify(surveyed, others, {12, 15}, 1.0));
}

TEST_CASE("Ids of any kind come back from a control file as they were written") {
  Random random(9);
  for (const char* end : {"\n", "\r\n"}) {
    std::vector<std::string> ids;
    std::string text = std::string("id,east,north,height,role") + end;
    for (int i = 0; i < 400; ++i) {
      ids.push_back(random_name(random) + std::to_string(i));  // no two alike
      text += csv_field(ids.back()) + fmt::format(",{},2,3,check{}", i, end);
    }
    const control::ControlFile file = read(text);
    REQUIRE(file.points.size() == ids.size());
    for (std::size_t i = 0; i < ids.size(); ++i) {
      CHECK(file.points[i].id == ids[i]);
      CHECK(file.points[i].east == static_cast<double>(i));
    }
  }
}

TEST_CASE("Headings and roles of other languages are understood, and guesses are told") {
  struct Case {
    const char* text;
    double east, north, height;
    std::vector<control::PointRole> roles;
    const char* guess;
  };
  using control::PointRole;
  const std::vector<Case> cases = {
      {"Punktnr.;Rechtswert [m];Hochwert "
       "[m];H\xC3\xB6he;Art\nA;431200,5;6822400,25;640;Passpunkt\nB;1;2;3;Kontrollpunkt\n",
       431200.5,
       6822400.25,
       640,
       {PointRole::control, PointRole::check},
       ""},
      {"Nom\tEst\tNord\tAltitude\tType\nA\t10\t20\t30\tpoint d'appui\nB\t1\t2\t3\tPoint de contr\xC3\xB4le\n",
       10,
       20,
       30,
       {PointRole::control, PointRole::check},
       ""},
      {"punto,este,norte,cota,rol\nA,10,20,30,GCP\nB,1,2,3,CP\n",
       10,
       20,
       30,
       {PointRole::control, PointRole::check},
       "CP is taken as check"},
      {"navn,\xC3\x98st,nord,h\xC3\xB8yde,rolle\nA,10,20,30,CP\nB,1,2,3,\n",
       10,
       20,
       30,
       {PointRole::control, PointRole::unsaid},
       "CP is taken as control"},
      // Latin-1, as old programs save it.
      {"Name,Rechtswert,Hochwert,H\xF6he\nA,10,20,30\nB,1,2,3\n",
       10,
       20,
       30,
       {PointRole::unsaid, PointRole::unsaid},
       ""}};
  for (const Case& c : cases) {
    INFO(c.text);
    const control::ControlFile file = read(c.text);
    REQUIRE(file.points.size() == 2);
    CHECK(file.points[0].east == c.east);
    CHECK(file.points[0].north == c.north);
    CHECK(file.points[0].height == c.height);
    for (std::size_t i = 0; i < 2; ++i) CHECK(file.points[i].role == c.roles[i]);
    CHECK(file.guesses.size() == (*c.guess ? 1 : 0));
    if (*c.guess && !file.guesses.empty()) CHECK_THAT(file.guesses[0], Catch::Matchers::Contains(c.guess));
  }
  CHECK_THROWS_WITH(read("id,east,north,height,role\nA,1,2,3,sometimes\n"),
                    Catch::Matchers::Contains(":2: role 'sometimes' is unknown"));
}

TEST_CASE("Columns X, Y, Z are a grid's unless the numbers lie on the Earth's surface") {
  const control::ControlFile grid = read("id,X,Y,Z\nA,431200.5,6822400.25,640\nB,431300,6822500,650\n");
  CHECK(grid.coordinates == control::Coordinates::grid);
  CHECK(grid.points[0].east == 431200.5);
  CHECK(grid.points[0].height == 640);
  REQUIRE(grid.guesses.size() == 1);
  CHECK_THAT(grid.guesses[0], Catch::Matchers::Contains("x, y, z are taken as east, north, height"));
  // EPSG:4978 of 61.5 N, 13.7 E, 640 m (N = 6394689.3 m: x = (N + h) cos b cos l, ...), and a grid whose northing has
  // by chance that distance from nought.
  CHECK(read("id,X,Y,Z\nA,2964767.1,722732.3,5582704.0\n").coordinates == control::Coordinates::geocentric);
  CHECK(read("id,X,Y,Z\nA,500000,6351000,112\n").coordinates == control::Coordinates::grid);
}

TEST_CASE("Checks are chosen so that control still spans the site, or refused") {
  const auto plan = [](std::initializer_list<std::pair<double, double>> places) {
    std::vector<control::Candidate> out;
    for (const auto& [e, n] : places) out.push_back({{431000 + e, 6822000 + n}});
    return out;
  };
  // Seven points in the west and a single one in the east, which holds that side.
  const auto lopsided = plan({{0, 0}, {0, 100}, {10, 50}, {20, 20}, {20, 80}, {30, 50}, {10, 10}, {200, 50}});
  for (int wanted = 1; wanted <= 4; ++wanted) {
    const auto chosen = control::choose_checks(lopsided, wanted);
    CHECK(static_cast<int>(chosen.size()) == wanted);
    CHECK(std::find(chosen.begin(), chosen.end(), 7) == chosen.end());
  }
  CHECK(control::choose_checks(lopsided, 5).size() == 4);  // four must stay, though three would do for a datum
  // A ring: every point is of the hull, some may go; never so many that a side is open.
  std::vector<control::Candidate> ring;
  for (int i = 0; i < 12; ++i) ring.push_back({{100 * std::cos(i * pi / 6), 100 * std::sin(i * pi / 6)}});
  const auto few = control::choose_checks(ring, 4);
  REQUIRE(few.size() == 4);
  for (std::size_t i = 0; i < 12; ++i)  // well apart: no two neighbours both
    CHECK_FALSE((std::count(few.begin(), few.end(), i) && std::count(few.begin(), few.end(), (i + 1) % 12)));
  const auto most = control::choose_checks(ring, 12);
  double area = 0, before = -1, first = -1;  // of what is left: triangles from the middle
  for (std::size_t i = 0; i < 12; ++i) {
    if (std::count(most.begin(), most.end(), i)) continue;
    const double at = static_cast<double>(i) * pi / 6;
    if (before >= 0) area += 0.5 * 100 * 100 * std::sin(at - before);
    if (first < 0) first = at;
    before = at;
  }
  area += 0.5 * 100 * 100 * std::sin(first + 2 * pi - before);
  CHECK((most.size() > 4 && most.size() <= 8));
  CHECK(area >= 0.75 * 12 * 0.5 * 100 * 100 * std::sin(pi / 6) - 1e-6);
  // Along a road, and where only some heights are known.
  CHECK(control::choose_checks(plan({{0, 0}, {50, 1}, {100, 0}, {150, 1}, {200, 0}, {250, 0}}), 2).size() == 2);
  auto heights = plan({{0, 0}, {0, 100}, {100, 0}, {100, 100}, {50, 50}, {40, 60}});
  for (const std::size_t i : {0, 1, 4}) heights[i].height = false;
  for (const std::size_t i : control::choose_checks(heights, 2)) CHECK_FALSE(heights[i].height);
  CHECK(control::choose_checks(plan({{0, 0}, {1, 0}, {0, 1}}), 1).empty());
  CHECK(control::choose_checks({}, 1).empty());
}
