#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <chrono>
#include <filesystem>
#include <functional>
#include <mesograph/adjust/items.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/control/other_readings.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/stages/crs_doubts.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/listing.hpp>
#include <mesograph/survey/settings.hpp>
#include <mesograph/survey/survey.hpp>

#include "every_field.hpp"
#include "folder.hpp"
#include "made_up_block.hpp"
#include "random_names.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;
namespace fs = std::filesystem;

namespace {

const std::string head = "schema = 1\n[survey]\ncrs = \"EPSG:25833+5773\"\n";

}  // namespace

TEST_CASE("Control and sightings: written and read the same, mistakes named") {
  const Folder folder;
  const auto rows = survey::read_control(
      folder.file("c.csv", "id,east,north,height,role\nA,1.5,2.5,3.5,\nB,,,9,check\n\"C,1\",1,2,,off\n"));
  REQUIRE(rows.size() == 3);
  CHECK(rows[0].role == adjust::Role::control);
  CHECK((std::isnan(rows[1].east) && rows[1].height == 9));
  CHECK((rows[2].id == "C,1" && std::isnan(rows[2].height)));
  CHECK(survey::control_text(survey::read_control(folder.file("d.csv", survey::control_text(rows, {}))), {}) ==
        survey::control_text(rows, {}));
  const std::vector<std::pair<std::string, std::string>> control_mistakes = {
      {"id,east,north\nA,1,2\n", "column 'height' is missing"},
      {"id,east,north,height\nA,1,2,x\n", "c.csv:2"},
      {"id,east,north,height\nA,1,2,inf\n", "inf"},
      {"id,east,north,height\nA,1,2,3\nA,4,5,6\n", "comes twice"},
      {"id,east,north,height\n,1,2,3\n", "id"},
      {"id,east,north,height,role\nA,1,2,3,chek\n", "control, check or off"},
      {"id,east,north,height\nA,1,,3\n", "only one of east and north"},
      {"id,east,north,height\nA,,,\n", "no coordinates"},
      {"", "is empty"}};
  for (const auto& [text, sentence] : control_mistakes) {
    INFO(text);
    CHECK_THROWS_WITH(survey::read_control(folder.file("c.csv", text)), Contains(sentence));
  }
  const auto seen = survey::read_sightings(
      folder.file("s.csv", "image,point,x,y,sigma,state\na.jpg,A,10.5,20,0.3,\nb.jpg,A,1,2,,rejected\n"));
  CHECK(seen[0].state == sight::SightingState::confirmed);
  CHECK(seen[1].state == sight::SightingState::rejected);
  CHECK(survey::sightings_text(survey::read_sightings(folder.file("s2.csv", survey::sightings_text(seen)))) ==
        survey::sightings_text(seen));
  for (const auto& [text, sentence] :
       std::vector<std::pair<std::string, std::string>>{{"image,point,x,y\na,A,1,2\na,A,3,4\n", "sighted twice"},
                                                        {"image,point,x,y,state\na,A,1,2,maybe\n", "predicted, found"},
                                                        {"image,point,x,y,sigma\na,A,1,2,0\n", "greater than 0"}}) {
    INFO(text);
    CHECK_THROWS_WITH(survey::read_sightings(folder.file("s.csv", text)), Contains(sentence));
  }
}

TEST_CASE("The store: one at a time, finished stages stay, newer ones are refused") {
  const Folder folder;
  {
    survey::Store store(folder.path / "store");
    CHECK_THROWS_WITH(survey::Store(folder.path / "store"), Contains("another mesograph command"));
    CHECK_FALSE(store.stage("tie"));
    store.finish("tie", "abc", 5);
  }
  {
    survey::Store store(folder.path / "store");
    REQUIRE(store.stage("tie"));
    CHECK(store.stage("tie")->fingerprint == "abc");
    CHECK(store.stage("tie")->result<int>() == 5);
    write_file(store.item("depth", "a.jpg", "0123456789abcdef0123"), "x");
    write_file(store.item("depth", "a.jpg", "fedcba98765432100123"), "y");
    store.sweep("depth", {store.item("depth", "a.jpg", "0123456789abcdef0123")});
    CHECK(fs::exists(store.item("depth", "a.jpg", "0123456789abcdef0123")));
    CHECK_FALSE(fs::exists(store.item("depth", "a.jpg", "fedcba98765432100123")));
  }
  // Whatever a photo is called, its items have names that a disk takes, and of their own.
  const survey::Store store(folder.path / "store");
  const std::string name(250, 'a');
  CHECK(store.item("depth", name, "0123456789abcdef").filename().string().size() <= 250);
  CHECK(store.item("depth", name, "0123456789abcdef") != store.item("depth", name + "b", "0123456789abcdef"));
}

TEST_CASE("Somebody who looks needs no lock, changes nothing, and sees the last complete state") {
  const Folder folder;
  const fs::path at = folder.path / "store";
  CHECK_FALSE(survey::Store(at, survey::Access::look).stage("tie"));
  CHECK_FALSE(fs::exists(at));
  survey::Store writer(at);
  writer.finish("tie", "abc", 5);
  const survey::Store first(at, survey::Access::look), second(at, survey::Access::look);
  CHECK(first.stage("tie")->result<int>() == 5);
  writer.finish("tie", "def", 6);
  CHECK(second.stage("tie")->fingerprint == "def");
}

TEST_CASE("A stage knows what it wrote: what is gone, cut or replaced is told, what was only touched is not") {
  const Folder folder;
  survey::Store store(folder.path / "store");
  const fs::path table = folder.file("results/t.csv", "a,b\n1,2\n"), cloud = folder.file("results/c.las", "points");
  store.finish("adjust", "abc", 0, {table, cloud});
  CHECK(store.current("adjust", "abc"));
  CHECK_FALSE(store.current("adjust", "abd"));
  CHECK(store.outputs("adjust").size() == 2);
  fs::last_write_time(table, fs::last_write_time(table) + std::chrono::hours(1));
  CHECK(store.changed_output("adjust").empty());
  write_file(table, "a,b\n1,3\n");  // of the same size
  CHECK(store.changed_output("adjust") == "results/t.csv has been changed since it was written");
  write_file(table, "a,b\n1,2\n");
  CHECK(store.current("adjust", "abc"));
  fs::resize_file(cloud, 3);
  CHECK_THAT(store.changed_output("adjust"), Contains("results/c.las has been changed"));
  fs::remove(cloud);
  CHECK(store.changed_output("adjust") == "results/c.las is gone");
  store.finish("adjust", "abc", 0, {table});
  CHECK(store.current("adjust", "abc"));
}

TEST_CASE("A register that fails says why, and only damage is to be deleted") {
  const fs::path file = "s/store/register.sqlite";
  const auto words = [&](int code) { return survey::words_of_register_failure(file, code, "reason"); };
  // Result codes of SQLite, by its documentation: 5 busy, 8 read-only, 10 I/O, 11 corrupt, 13 full, 14 cannot open,
  // 26 no database; extended codes have them in their low byte.
  for (const int code : {8, 10, 13, 14, 10 | 3 << 8}) {
    CHECK_THAT(words(code), !Contains("delete") && !Contains("damaged") && Contains("nothing is lost"));
    CHECK_THAT(words(code), Contains("space") || Contains("room"));
  }
  for (const int code : {11, 26, 11 | 1 << 8}) CHECK_THAT(words(code), Contains("is damaged") && Contains("delete"));
  CHECK_THAT(words(5), Contains("another mesograph command"));
}

TEST_CASE("A register that is no database is damaged") {
  const Folder folder;
  write_file(folder.path / "store" / "register.sqlite",
             "this is no database, but it is long enough to be looked at as one");
  CHECK_THROWS_WITH(survey::Store(folder.path / "store"), Contains("is damaged"));
}

TEST_CASE("A block is stored and read without losing a bit, a cut file is refused") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833+5773", "", ""});
  survey::Survey opened(folder.path / "s");
  survey::NamedBlock named;
  int n = 0;
  fill(named, n);
  named.block.points[1].X.setConstant(mesograph::nan);
  survey::save_block(opened, "orient", named);
  CHECK_THROWS_WITH(survey::load_block(opened, "orient"), Contains("run mesograph orient first"));
  opened.store.finish("orient", "x", 0);
  CHECK(same(survey::load_block(opened, "orient"), named));
  const fs::path file = opened.store.folder() / "block-orient";
  const std::string whole = read_file(file);
  for (const std::size_t keep : {std::size_t{0}, std::size_t{1}, whole.size() / 3, whole.size() - 1}) {
    write_file(file, whole.substr(0, keep));
    CHECK_THROWS_AS(survey::load_block(opened, "orient"), Error);
  }
}

TEST_CASE("A folder that is no survey, or one already, is refused") {
  const Folder folder;
  CHECK_THROWS_WITH(survey::Survey(folder.path), Contains("is no survey"));
  survey::create(folder.path / "s", "", {"local", "", ""});
  CHECK_THROWS_WITH(survey::create(folder.path / "s", "", {"local", "", ""}), Contains("holds a survey already"));
  CHECK_THROWS_AS(survey::create(folder.path / "t", "", {"EPSG:4326", "", ""}), Error);
  CHECK_FALSE(fs::exists(folder.path / "t"));
}

TEST_CASE("Sources and decisions outlive the store") {
  const Folder folder;
  const std::vector<survey::Source> sources = {{"grid", "/photos/with \"quotes\" and spaces"}, {"cross", "/b"}};
  survey::write_sources(folder.path, sources);
  const auto back = survey::read_sources(folder.path);
  REQUIRE(back.size() == 2);
  CHECK(back[0].path == sources[0].path);
  survey::add_decisions(folder.path, {{"a.jpg", "drop", "2026-06-14 10:00:00", "by hand"}});
  survey::add_decisions(folder.path, {{"b.jpg", "keep", "2026-06-14 10:01:00", "a reason, with comma"}});
  REQUIRE(survey::read_decisions(folder.path).size() == 2);
  CHECK(survey::read_decisions(folder.path)[1].why == "a reason, with comma");
}

TEST_CASE("Names of any kind go through everything that people say, and come back") {
  const Folder folder;
  Random random(21);
  std::vector<survey::ControlRow> control;
  std::vector<sight::Sighting> sightings;
  std::vector<survey::ScaleBarRow> bars;
  std::vector<survey::Decision> decisions;
  for (int i = 0; i < 300; ++i) {
    const auto name = [&] { return random_name(random) + std::to_string(i); };  // no two alike
    control.push_back({name(), 1.0 + i, 2, 3, adjust::Role::check, 1e-6, 0.0000123});
    sightings.push_back({name(), name(), 10.5, 20.25, 0.001, sight::SightingState::rejected, name()});
    bars.push_back({name(), name(), name() + "b", 5.5, 1e-6});
    decisions.push_back({name(), "drop", "2026-06-14 10:00:00", name()});
  }
  const auto back = survey::read_control(folder.file("control.csv", survey::control_text(control, {})));
  const auto seen = survey::read_sightings(folder.file("sightings.csv", survey::sightings_text(sightings)));
  const auto measured = survey::read_scale_bars(folder.file("bars.csv", survey::scale_bars_text(bars)));
  survey::add_decisions(folder.path, decisions);
  const auto decided = survey::read_decisions(folder.path);
  REQUIRE((back.size() == 300 && seen.size() == 300 && measured.size() == 300 && decided.size() == 300));
  for (std::size_t i = 0; i < 300; ++i) {
    CHECK(back[i].id == control[i].id);
    CHECK((back[i].sigma_h == 1e-6 && back[i].sigma_v == 0.0000123));
    CHECK((seen[i].image == sightings[i].image && seen[i].point == sightings[i].point));
    CHECK((seen[i].origin == sightings[i].origin && seen[i].sigma == 0.001));
    CHECK((measured[i].id == bars[i].id && measured[i].a == bars[i].a && measured[i].b == bars[i].b));
    CHECK(measured[i].sigma == 1e-6);
    CHECK((decided[i].image == decisions[i].image && decided[i].why == decisions[i].why));
  }
}

TEST_CASE("A decision that is said again after an interruption is noted once") {
  const Folder folder;
  const auto say = [&](const char* role, const char* time) {
    survey::add_decisions(folder.path, {{"K1", role, time, "by hand"}});
  };
  say("role check", "10:00");
  say("role check", "10:01");
  CHECK(survey::read_decisions(folder.path).size() == 1);
  say("role control", "10:02"), say("role check", "10:03");  // back and forth is said each time
  CHECK(survey::read_decisions(folder.path).size() == 3);
}

TEST_CASE("Files cut at any byte are read or refused with their name, never worse") {
  const Folder folder;
  const std::vector<sight::Sighting> sightings = {
      {"a.jpg", "K1", 10.5, 20.25, 0.3, sight::SightingState::confirmed, "import"},
      {"b \"x\".jpg", "K,2", 1, 2, 0.5, sight::SightingState::rejected, "import"}};
  const std::vector<survey::ControlRow> control = {{"K1", 431200.5, 6822400.25, 640, adjust::Role::control, 0.01, 0.02},
                                                   {"K,2", 1, 2, 3, adjust::Role::check, 0.01, 0.02}};
  camera::Camera camera{"one", 1200, 900, camera::Interior::Constant(0.5)};
  const std::string settings =
      head +
      "name = \"x\"\n[sortie.a]\nsigma_photo = [0.1, 0.2]\n[adjust]\nfree = [\"c\"]\n[products]\nwant = [\"cloud\"]\n";
  struct Case {
    std::string text;
    std::function<void(const fs::path&)> read;
  };
  const std::vector<Case> cases = {
      {survey::sightings_text(sightings), [](const fs::path& p) { (void)survey::read_sightings(p); }},
      {survey::control_text(control, {}), [](const fs::path& p) { (void)survey::read_control(p); }},
      {camera::cameras_text({{"one", camera}}), [](const fs::path& p) { (void)camera::read_cameras(p); }},
      {settings, [](const fs::path& p) { (void)survey::read_settings(p); }}};
  for (std::size_t c = 0; c < cases.size(); ++c) {
    int refused = 0;
    const auto look = [&](const std::string& text) {
      try {
        cases[c].read(folder.file("cut", text));
      } catch (const Error& error) {
        ++refused;
        CHECK_THAT(error.what(), Contains("cut"));
      }
    };
    for (std::size_t keep = 0; keep < cases[c].text.size(); ++keep) look(cases[c].text.substr(0, keep));
    Random random(c);
    for (int n = 0; n < 200; ++n) {
      std::string changed = cases[c].text;
      changed[random.below(changed.size())] = static_cast<char>(random.below(256));
      look(changed);
    }
    INFO("case " << c);
    CHECK(refused > 20);
  }
}

TEST_CASE("The origin of the local frame is the rounded median of the positions, and stays") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const survey::Survey opened(folder.path / "s");
  survey::PhotoTable photos;
  for (const double d : {0.0, 0.01, 0.9, -0.02, 0.02}) {  // the third position is 50 km off
    survey::Photo p;
    p.image = fmt::format("{}.jpg", photos.photos.size());
    p.position = {13.7004 + d, 61.5003, 702.4};
    photos.photos.push_back(p);
  }
  const Eigen::Vector3d origin = survey::frame_origin(opened, photos).value();
  const Eigen::Vector3d expected = geo::crs_from_wgs84(opened.crs, {13.710, 61.500, 702});
  CHECK((origin - expected).norm() < 1e-4);
  photos.photos.resize(1);
  CHECK(survey::frame_origin(opened, photos) == origin);  // fixed at the first call
  fs::remove(opened.inputs() / "frame.csv");
  CHECK((survey::frame_origin(opened, photos).value() - origin).norm() > 100);
  fs::remove(opened.inputs() / "frame.csv");
  CHECK_FALSE(survey::frame_origin(opened, survey::PhotoTable()));
  CHECK_FALSE(fs::exists(opened.inputs() / "frame.csv"));
}

TEST_CASE("The origin of another system is none of this one") {
  const Folder folder;
  survey::PhotoTable photos;
  photos.photos.resize(1);
  photos.photos[0].position = {13.7, 61.5, 702};
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const Eigen::Vector3d first = survey::frame_origin(survey::Survey(folder.path / "s"), photos).value();
  std::string settings = read_file(folder.path / "s" / "survey.toml");
  write_file(folder.path / "s" / "survey.toml", settings.replace(settings.find("25833"), 5, "25832"));
  const survey::Survey other(folder.path / "s");
  const Eigen::Vector3d second = survey::frame_origin(other, photos).value();
  CHECK((second - geo::crs_from_wgs84(other.crs, {13.7, 61.5, 702})).norm() < 1e-4);
  CHECK((second - first).norm() > 100000);
}

TEST_CASE("Surveyed points come into the local frame with the weights their file gives") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const survey::Survey opened(folder.path / "s");
  write_file(opened.inputs() / "control.csv",
             "id,east,north,height,role,sigma_h,sigma_v\nA,431210,6822420,645,control,0.01,0.05\nB,431210,6822420,,"
             "check,,\nC,,,645,off,,0.1\n");
  write_file(
      opened.inputs() / "sightings.csv",
      "image,point,x,y,sigma,state\np.jpg,A,10,20,0.3,\nq.jpg,A,30,40,,\np.jpg,B,1,2,,rejected\ngone.jpg,A,5,6,,\n");
  const geo::Frame frame(opened.crs, {431200, 6822400, 640});
  const auto points = survey::surveyed_points(opened, frame, {"p.jpg", "q.jpg"});
  REQUIRE(points.size() == 3);
  CHECK((points[0].surveyed - frame.local_from_crs({431210, 6822420, 645})).norm() == 0);
  // Plan is isotropic, so the convergence does not turn it; the ellipsoid normal tilts by 4 microrad over 22 m.
  CHECK(points[0].sigma.x() == 0.01);
  CHECK(points[0].sigma.z() == 0.05);
  CHECK_FALSE(points[1].knows(2));     // no height
  CHECK(points[1].sigma.x() == 0.02);  // the default of [control]
  CHECK_FALSE(points[2].knows(0));
  CHECK(points[2].sigma.z() == 0.1);
  REQUIRE(points[0].point.rays.size() == 2);  // not that of a photo which takes no part
  CHECK(points[0].point.rays[0].sigma == 0.3);
  CHECK(points[0].point.rays[1].sigma == 0.5);
  CHECK(points[1].point.rays.empty());
}

TEST_CASE("Times of EXIF and of processed positions are the same clock") {
  // 2026-03-01 00:00 is 59 days after New Year; 2024 was a leap year.
  CHECK(survey::seconds_of("2026:03:01 00:00:00") - survey::seconds_of("2026-01-01T00:00:00") == 59 * 86400.0);
  CHECK(survey::seconds_of("2024-03-01 00:00:00") - survey::seconds_of("2024-02-28 23:59:59.5") == 86400.5);
  CHECK_THAT(survey::seconds_of("2026:06:14 10:02:33.25") - survey::seconds_of("2026-06-14T10:02:33Z"),
             Catch::WithinAbs(0.25, 1e-6));
  for (const char* none :
       {"", "yesterday", "2026:13:01 00:00:00", "2026:02:30 00:00:00", "2026-06-14", "2026:06-14 10:00:00"})
    CHECK(std::isnan(survey::seconds_of(none)));
}

TEST_CASE("Positions from a file replace geotags by image or by time, under any names of columns") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const survey::Survey opened(folder.path / "s");
  std::vector<survey::Photo> photos(4);
  for (std::size_t i = 0; i < photos.size(); ++i) {
    photos[i].image = fmt::format("{}.jpg", i);
    photos[i].metadata.time = fmt::format("2026:06:14 10:00:0{}", i);
    photos[i].metadata.longitude_deg = 13, photos[i].metadata.latitude_deg = 61, photos[i].metadata.height = 600;
  }
  // Photo 1 by its time, 0.08 s off; 2 has no row within 0.1 s.
  folder.file("p.csv",
              "Photo,When,X,Y,Z,sx\n0.jpg,,431200,6822400,640.5,0.02\n,2026-06-14 10:00:01.08,431210,6822400,641,0.02\n"
              ",2026-06-14 10:00:02.2,431220,6822400,642,0.02\n");
  survey::keep_positions(
      opened, folder.path / "p.csv", "",
      {{"image", "Photo"}, {"time", "When"}, {"east", "X"}, {"north", "Y"}, {"height", "Z"}, {"sigma_h", "sx"}});
  const survey::PositionsUsed used = survey::place_photos(opened, photos);
  CHECK(used.by_image == 1);
  CHECK(used.by_time == 1);
  CHECK((geo::crs_from_wgs84(opened.crs, photos[0].position) - Eigen::Vector3d(431200, 6822400, 640.5)).norm() < 1e-4);
  CHECK((geo::crs_from_wgs84(opened.crs, photos[1].position) - Eigen::Vector3d(431210, 6822400, 641)).norm() < 1e-4);
  CHECK(photos[0].sigma_h == 0.02);
  CHECK(photos[0].datum_named);
  CHECK(photos[2].position == Eigen::Vector3d(13, 61, 600));  // the geotag
  // The same place in another system and zone: 431200 E in zone 33 seen from zone 32, by Krueger's series elsewhere.
  const Eigen::Vector3d wgs84 = photos[0].position;
  folder.file("g.csv",
              fmt::format("image,longitude,latitude,height\n3.jpg,{:.10f},{:.10f},640.5\n", wgs84.x(), wgs84.y()));
  survey::keep_positions(opened, folder.path / "g.csv", "EPSG:4937", {});
  survey::place_photos(opened, photos);
  CHECK((photos[3].position - wgs84).norm() < 1e-8);
  CHECK_THROWS_WITH(survey::keep_positions(opened, folder.path / "g.csv", "", {{"time", "Uhrzeit"}}),
                    Contains("Uhrzeit"));
  folder.file("bad.csv", "image,east,north\n0.jpg,1,2\n");
  CHECK_THROWS_WITH(survey::keep_positions(opened, folder.path / "bad.csv", "", {}), Contains("--columns height="));
}

TEST_CASE("Positions finer than their datum's way are doubted until the datum is named") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const survey::Survey opened(folder.path / "s");
  survey::PhotoTable table;
  survey::Photo p;
  p.image = "a.jpg", p.sortie = "north";
  p.position = {13.7, 61.5, 700};
  table.photos.push_back(p);
  CHECK(stages::datum_doubt(opened, table).empty());  // no claim
  table.photos[0].sigma_h = 2.0;
  CHECK(stages::datum_doubt(opened, table).empty());  // metre-level
  table.photos[0].sigma_h = 0.02;
  CHECK_THAT(stages::datum_doubt(opened, table), Contains("positions_crs") && Contains("north"));
  table.photos[0].datum_named = true;
  CHECK(stages::datum_doubt(opened, table).empty());
}

TEST_CASE("A listing keeps motion while the photo was read, and what is not known of it stays unknown") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const survey::Survey opened(folder.path / "s");
  folder.file("c.json", R"({"k": {"width": 400, "height": 300, "c": 350, "readout_seconds": -0.02}})");
  folder.file("l.csv",
              "image,camera,east,north,height,omega,phi,kappa,v_east,v_north,v_up,turn_x,turn_y,turn_z\n"
              "a.jpg,k,431200,6822400,700,0,0,10,3.5,-0.25,0.125,1,-2,0.5\nb.jpg,k,431230,6822400,700,0,0,10,,,,,,\n");
  survey::keep_listing(opened, survey::check_listing(folder.path / "l.csv", folder.path / "c.json", false, {}));
  const auto listing = survey::load_listing(opened);
  REQUIRE(listing);
  CHECK(listing->rows[0].velocity == Eigen::Vector3d(3.5, -0.25, 0.125));
  CHECK(listing->rows[0].turning_deg == Eigen::Vector3d(1, -2, 0.5));
  CHECK_FALSE(listing->rows[1].velocity.allFinite());
  CHECK(camera::read_cameras(opened.inputs() / "cameras.json").at("k").readout_seconds == -0.02);
  folder.file("slow.json", R"({"k": {"width": 400, "height": 300, "c": 350, "readout_seconds": 2}})");
  CHECK_THROWS_WITH(camera::read_cameras(folder.path / "slow.json"), Contains("less than a second"));
}

TEST_CASE("A listing is read with either kind of angles and under any names") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833", "ellipsoidal", ""});
  const survey::Survey opened(folder.path / "s");
  folder.file(
      "c.json",
      R"({"k": {"width": 4000, "height": 3000, "unit": "mm", "sensor_width": 13.2, "c": 8.8, "x0": 0.0165, "y0": 0}})");
  folder.file(
      "l.csv",
      "photo,camera,east,north,height,yaw,pitch,roll,sigma_h,sigma_v\na.jpg,k,431200,6822400,700,30,-90,0,0.02,0.04\n");
  survey::keep_listing(
      opened, survey::check_listing(folder.path / "l.csv", folder.path / "c.json", false, {{"image", "photo"}}));
  const auto listing = survey::load_listing(opened);
  REQUIRE(listing);
  CHECK(listing->rows[0].yaw_pitch_roll);
  CHECK(listing->rows[0].angles_deg == Eigen::Vector3d(30, -90, 0));
  const auto cameras = camera::read_cameras(opened.inputs() / "cameras.json");
  CHECK_THAT(cameras.at("k").interior[camera::c], Catch::WithinAbs(8.8 * 4000 / 13.2, 1e-9));
  CHECK_THAT(cameras.at("k").interior[camera::x0], Catch::WithinAbs(5.0, 1e-9));
  std::vector<survey::Photo> photos(1);
  photos[0].image = "a.jpg";
  survey::place_listed(opened, *listing, photos);
  CHECK((geo::crs_from_wgs84(opened.crs, photos[0].position) - Eigen::Vector3d(431200, 6822400, 700)).norm() < 1e-4);
  CHECK(photos[0].sigma_v == 0.04);
  folder.file("l2.csv", "image,camera,east,north,height,omega,phi,kappa\na.jpg,other,1,2,3,0,0,0\n");
  CHECK_THROWS_WITH(survey::check_listing(folder.path / "l2.csv", folder.path / "c.json", false, {}),
                    Contains("other"));
}

TEST_CASE("Observations are left out by their names, whatever signs those hold") {
  survey::NamedBlock named;
  MadeUpOptions options;
  options.points = 4, options.control = 3, options.checks = 0;
  named.block = make_block(options).block;
  adjust::Block& block = named.block;
  for (std::size_t i = 0; i < block.stations.size(); ++i) named.images.push_back(fmt::format("a@b/{}:.jpg", i));
  named.point_names = {"t1", "t@2", "t:height", "t4"};
  block.surveyed[0].id = "K@1", block.surveyed[1].id = "K:2", block.surveyed[2].id = "K3";
  // Axes a little off those of the frame, as a grid's are.
  block.surveyed[1].axes = Eigen::AngleAxisd(0.02, Eigen::Vector3d::UnitZ()).toRotationMatrix();
  block.scale_bars = {{"bar 1", 0, 1, 10, 0.01}};
  block.stations[0].sigma_attitude = 0.01;
  const auto rays = [](const adjust::GroundPoint& p, int station) {
    return std::count_if(p.rays.begin(), p.rays.end(), [&](const adjust::Ray& r) { return r.station == station; });
  };
  SECTION("whole points") {
    CHECK(adjust::set_aside(named, "K@1"));
    CHECK(block.surveyed[0].role == adjust::Role::off);
    CHECK(adjust::set_aside(named, "t:height"));
    CHECK(block.points[2].rays.empty());
    CHECK(!block.points[2].X.allFinite());
  }
  SECTION("coordinates") {
    CHECK(adjust::set_aside(named, "K:2:height"));
    CHECK_FALSE(block.surveyed[1].knows(2));
    CHECK(block.surveyed[1].knows(0));
    CHECK(adjust::set_aside(named, "K:2:plan"));
    CHECK_FALSE(block.surveyed[1].knows_any());
    CHECK_FALSE(adjust::set_aside(named, "K3:depth"));
  }
  SECTION("image points, of control and of ties") {
    const int station = block.surveyed[0].point.rays[1].station, other = block.points[1].rays[0].station;
    CHECK(adjust::set_aside(named, "K@1@" + named.images[station]));
    CHECK(rays(block.surveyed[0].point, station) == 0);
    CHECK(adjust::set_aside(named, "t@2@" + named.images[other]));
    CHECK(rays(block.points[1], other) == 0);
    CHECK_FALSE(adjust::set_aside(named, "t@2@" + named.images[other]));  // it is gone
  }
  SECTION("what was seen on board, and bars") {
    CHECK(adjust::set_aside(named, "position@" + named.images[5]));
    CHECK(!block.stations[5].position.allFinite());
    CHECK(adjust::set_aside(named, "attitude@" + named.images[0]));
    CHECK_FALSE(adjust::set_aside(named, "attitude@" + named.images[1]));  // none was observed
    CHECK(adjust::set_aside(named, "bar:bar 1"));
    CHECK(block.scale_bars.empty());
  }
  SECTION("what is not there") {
    for (const char* item : {"", "nobody", "K3@nowhere.jpg", "position@", "bar:2", "@", ":"})
      CHECK_FALSE(adjust::set_aside(named, item));
  }
  SECTION("a suspect's item is the one that sets it aside") {
    for (const adjust::Suspect& s :
         {adjust::Suspect{adjust::Observed::control, "K:2", -1, adjust::Component::height},
          adjust::Suspect{adjust::Observed::control, "K:2", -1, adjust::Component::east},
          adjust::Suspect{adjust::Observed::sighting, "K@1", block.surveyed[0].point.rays[0].station,
                          adjust::Component::x},
          adjust::Suspect{adjust::Observed::position, "", 3, adjust::Component::north},
          adjust::Suspect{adjust::Observed::attitude, "", 0, adjust::Component::z},
          adjust::Suspect{adjust::Observed::scale_bar, "bar 1", -1, adjust::Component::length}})
      CHECK(adjust::set_aside(named, adjust::item_of(named, s)));
  }
}

TEST_CASE("Items left out stand until they are taken in again") {
  const Folder folder;
  survey::create(folder.path / "s", "", {"EPSG:25833+5773", "", ""});
  const survey::Survey opened(folder.path / "s");
  CHECK(survey::standing_without(opened.inputs()).empty());
  survey::keep_items(opened.inputs(), {"K1", "K2:height", "t@P,1.jpg"}, "without");
  survey::add_decisions(opened.inputs(), {{"P1.jpg", "drop", survey::time_now(), "blurred"}});
  survey::keep_items(opened.inputs(), {"K1"}, "with");
  CHECK(survey::standing_without(opened.inputs()) == std::vector<std::string>{"K2:height", "t@P,1.jpg"});
  survey::keep_items(opened.inputs(), {"K1", "K2:height"}, "without");  // once more is not twice
  CHECK(survey::standing_without(opened.inputs()) == std::vector<std::string>{"K2:height", "t@P,1.jpg", "K1"});
  const fs::path list = folder.file("worst.csv", "image,item\nP1.jpg,\"K,3\"\nP2.jpg,K4@P2.jpg\n");
  CHECK(survey::items_from({"K1", list.string()}) == std::vector<std::string>{"K1", "K,3", "K4@P2.jpg"});
  CHECK(survey::items_from({"missing.csv"}) == std::vector<std::string>{"missing.csv"});  // it may be a photo's name
  CHECK_THROWS_WITH(survey::items_from({folder.file("bare.csv", "image\nP1.jpg\n").string()}), Contains("item"));
}

TEST_CASE("Other readings of control move it as its numbers say") {
  // By hand: a US survey foot is longer by 1 part in 500,000 (2.0 ppm of the grid's coordinates: of 6,824,000 m north
  // and 431,000 m east 13.65 and 0.86 m), a height of 650 ft is one of 198 m, and mid Scandinavia's geoid lies 25 to 45
  // m above the ellipsoid. 0.05 m for the scale of the projection, 0.4 per mille there.
  const geo::Crs crs = geo::resolve({"EPSG:25833+5773", "", ""});
  const Eigen::Vector3d origin(431000, 6824000, 650);
  const std::vector<Eigen::Vector3d> places = {{0, 0, 0}};
  const auto readings = control::other_readings(crs, origin, places);
  REQUIRE(readings.size() == 6);
  const auto by = [&](std::size_t i) { return readings[i].places[0]; };
  CHECK((by(0).head<2>().norm() - std::hypot(13.65, 0.86)) == Approx(0).margin(0.05));
  CHECK((by(0) + by(1)).norm() < 1e-3);
  CHECK(by(2).z() == Approx(650 * (0.3048 - 1)).margin(0.05));
  CHECK((by(4).z() < -25 && by(4).z() > -45));
  CHECK(by(5).z() == Approx(-by(4).z()).margin(1e-3));
  CHECK_THAT(control::foot_words(crs, origin, places[0], by(1) + Eigen::Vector3d(3, -3, 50)), Contains("--units ft)"));
  CHECK(control::foot_words(crs, origin, places[0], Eigen::Vector3d(13.7, 0, 0)).empty());
}
