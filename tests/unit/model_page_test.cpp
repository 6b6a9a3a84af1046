#include <catch2/catch.hpp>
#include <mesograph/mesh/distance_field.hpp>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/solid.hpp>
#include <mesograph/report/model_page.hpp>
#include <nlohmann/json.hpp>

#include "mesh_shapes.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;

namespace {

/// What stands in a page between a tag with an id and its end.
std::string part_of_page(const std::string& page, const std::string& id) {
  const std::size_t tag = page.find("id=\"" + id + "\"");
  REQUIRE(tag != std::string::npos);
  const std::size_t begin = page.find('>', tag) + 1;
  return page.substr(begin, page.find("</script>", begin) - begin);
}

report::ModelPage small_page() {
  report::ModelPage out;
  out.title = "Osterlund <slip> & \"more\"", out.crs = "ETRS89 / UTM zone 33N";
  out.shift = {431200, 6822400, 0}, out.plan_metres = 1.0004;
  out.glb = std::string("glTF\0\1\2\3", 8);
  out.coarse_vertices = {{1, 2, 3}, {4, 5, 6}};
  out.coarse_faces = {{0, 1, 0}};
  out.coarse_colours = {{255, 0, 128}, {1, 2, 3}};
  report::ModelPage::Photo photo;
  photo.image = "a</script><b>.jpg", photo.C = {1, 2, 700}, photo.c = 1000, photo.x0 = 600, photo.y0 = 450;
  photo.width = 1200, photo.height = 900;
  out.photos = {photo};
  return out;
}

}  // namespace

TEST_CASE("A model's page stands alone: nothing is fetched, and no name ends its data") {
  const std::string page = report::model_page(small_page());
  CHECK(page.find("<script src") == std::string::npos);
  CHECK(page.find("<link") == std::string::npos);
  CHECK(page.find("import(") == std::string::npos);
  CHECK_THAT(page, Contains("Osterlund &lt;slip&gt;"));
  CHECK_THAT(page, Contains("WebGLRenderer"));  // the library stands in it
  const auto json = nlohmann::json::parse(part_of_page(page, "data"));
  CHECK(json["photos"][0]["image"] == "a</script><b>.jpg");
  CHECK(json["shift"][1] == 6822400.0);
  CHECK(json["plan_metres"] == 1.0004);
  CHECK(json["photos"][0]["back"] == nlohmann::json({0.0, 0.0, 1.0}));
}

TEST_CASE("Bytes of a model's page are base64 of what they are, low byte first") {
  const std::string page = report::model_page(small_page());
  // RFC 4648 by hand: 67 6c 54 46 00 01 02 03.
  CHECK(part_of_page(page, "glb") == "Z2xURgABAgM=");
  CHECK(part_of_page(page, "coarse_colours") == "/wCAAQID");
  // 1.0 is 3f800000, 2.0 is 40000000, 3.0 is 40400000.
  CHECK(part_of_page(page, "coarse_vertices").substr(0, 16) == "AACAPwAAAEAAAEBA");
  CHECK(part_of_page(page, "coarse_faces") == "AAAAAAEAAAAAAAAA");
}

TEST_CASE("Depths go on into gaps by the nearest pixel and no further, and the least of them says what rays pass") {
  // A plane 10 m away left of column 80, another 6 m away right of column 100, nothing between and nothing below row
  // 150.
  dense::Pinhole p = looking_from({0, 0, 20});
  photo::Raster<float> depth(200, 200, 1, std::numeric_limits<float>::quiet_NaN());
  for (int row = 0; row < 150; ++row)
    for (int col = 0; col < 200; ++col)
      if (col < 80 || col > 100) depth.at(col, row) = col < 80 ? 10.0F : 6.0F;
  const mesh::Sheet sheet(p, depth, photo::Raster<float>(200, 200, 1, 0.01F));
  CHECK(mesh::Sheet::gap == 5);
  CHECK(sheet.beyond.at(79, 50) == 10);
  CHECK(sheet.beyond.at(84, 50) == 10);
  CHECK(std::isnan(sheet.beyond.at(85, 50)));
  CHECK(sheet.beyond.at(96, 50) == 6);
  CHECK(std::isnan(sheet.beyond.at(95, 50)));
  CHECK(sheet.beyond.at(40, 154) == 10);
  CHECK(std::isnan(sheet.beyond.at(40, 155)));
  CHECK(sheet.nearest.at(84, 50) == 10);
  CHECK(sheet.nearest.at(98, 50) == 6);
  CHECK(std::isnan(sheet.nearest.at(90, 50)));
  CHECK(sheet.nearest.at(106, 149) == 6);
  // Level planes under the camera are faced straight below it, and by the cosine of the ray's angle elsewhere.
  CHECK(sheet.facing.at(70, 100) == Approx(255 * std::cos(std::atan(29.5 / 200))).margin(1.5));
  CHECK(sheet.facing.at(150, 60) == Approx(255 * std::cos(std::atan(std::hypot(50.5, 39.5) / 200))).margin(1.5));
}

TEST_CASE("Beside an edge a place is a guess where photos show nothing, and near both sides measured") {
  // Ground at 0 and a step of 3 m for x > 0, of which a strip of 0.4 m on both sides matches in no photo.
  const auto cast = [](const Eigen::Vector3d& C, const Eigen::Vector3d& d) {
    const double top = (3 - C.z()) / d.z(), low = -C.z() / d.z();
    const double x_top = C.x() + top * d.x(), x_low = C.x() + low * d.x();
    if (x_top > 0) return x_top < 0.4 ? NAN : top;
    return x_low > -0.4 ? NAN : low;
  };
  std::vector<mesh::Sheet> sheets;
  for (const double x : {-3.0, -1.0, 1.0, 3.0}) {
    dense::Pinhole p = looking_from({x, 0, 20}, 180);
    p.C = {x, 0, 20}, p.R = looking_from({0, 0, 20}).R;
    sheets.push_back(sheet_of(p, 0.02, cast));
  }
  std::vector<const mesh::Sheet*> list;
  for (const mesh::Sheet& s : sheets) list.push_back(&s);
  mesh::FieldOptions options;
  options.cell = 0.2;
  const auto said = [&](double x, double z) { return mesh::ask({x, 0.3, z}, 1, list, options)[0]; };
  CHECK(said(1, 3.1).distance == Approx(0.1).margin(0.02));
  CHECK(std::isfinite(said(1, 3.1).sigma));
  CHECK(said(-1.5, 0.1).distance == Approx(0.1).margin(0.02));
  CHECK(said(0.2, 2.8).distance < 0);  // the step's edge goes on to where its strip ends
  CHECK(std::isnan(said(0.2, 2.8).sigma));
  CHECK(said(-1.5, 2).distance > 0);  // before the step rays pass
  CHECK(said(2, 1).distance < 0);     // in it nobody looks
  CHECK(std::isnan(said(2, 1).sigma));
}

TEST_CASE("A body's volume stays when it is moved, turns its sign with its faces, and grows by the cube") {
  mesh::TriangleMesh mesh = net(6, 1, [](double x, double y) { return std::sin(x) + 0.3 * y; });
  mesh::close_with_base(mesh, -4);
  const mesh::Solid one = mesh::solid_of(mesh);
  REQUIRE(one.closed());
  mesh::TriangleMesh moved = mesh, turned = mesh, larger = mesh;
  for (Eigen::Vector3d& X : moved.X) X += Eigen::Vector3d(500000, 6800000, 300);
  for (mesh::Face& f : turned.faces) std::swap(f[0], f[1]);
  for (Eigen::Vector3d& X : larger.X) X *= 3;
  // Coordinates of 7e6 m hold 1e-9 m; 100 m2 of surface by that.
  CHECK(mesh::solid_of(moved).volume == Approx(one.volume).margin(1e-6));
  CHECK(mesh::solid_of(turned).volume == Approx(-one.volume));
  CHECK(mesh::solid_of(larger).volume == Approx(27 * one.volume));
  CHECK(mesh::solid_of(larger).area == Approx(9 * one.area));
  CHECK(one.guessed_share > 0.4);  // walls and base
  CHECK(one.sigma > 0);
}
