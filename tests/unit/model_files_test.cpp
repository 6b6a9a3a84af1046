#include <catch2/catch.hpp>
#include <cstring>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/mesh/model_files.hpp>
#include <mesograph/mesh/solid.hpp>
#include <nlohmann/json.hpp>
#include <sstream>

#include "folder.hpp"
#include "mesh_shapes.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;

namespace {

/// Two triangles of a square of 2 m, one corner a guess, with a picture on the first.
mesh::Model two_triangles() {
  mesh::Model out;
  out.name = "slip <east>", out.wkt = "PROJCRS[\"a & b\"]", out.shift = {431200, 6822400, 0};
  out.mesh = net(1, 2, [](double x, double y) { return 640 + 0.5 * x + y; });
  out.mesh.sigma[2] = std::numeric_limits<float>::quiet_NaN();
  out.texture.pages.emplace_back(4, 4, 3, std::uint8_t{90});
  out.texture.page = {0, -1}, out.texture.chart = {0, -1};
  out.texture.at = {{Eigen::Vector2f(0, 1), Eigen::Vector2f(1, 1), Eigen::Vector2f(1, 0)}, {}};
  return out;
}

std::vector<std::string> lines_of(const std::filesystem::path& file) {
  std::istringstream in(read_file(file));
  std::vector<std::string> out;
  for (std::string line; std::getline(in, line);) out.push_back(line);
  return out;
}

std::size_t count_of(const std::vector<std::string>& lines, const std::string& start) {
  return static_cast<std::size_t>(
      std::count_if(lines.begin(), lines.end(), [&](const std::string& l) { return l.rfind(start, 0) == 0; }));
}

}  // namespace

TEST_CASE("A PLY comes back where it was, guesses and all, for it says what was taken off") {
  const Folder folder;
  const mesh::Model model = two_triangles();
  mesh::write_ply(folder.path / "m.ply", model);
  const mesh::TriangleMesh back = mesh::read_ply(folder.path / "m.ply");
  REQUIRE(back.faces == model.mesh.faces);
  for (std::size_t v = 0; v < 4; ++v) {
    CHECK((back.X[v] - (model.mesh.X[v] + model.shift)).norm() < 1e-4);  // single precision of 640 m
    CHECK(std::isnan(back.sigma[v]) == (v == 2));
    if (v != 2) CHECK(back.sigma[v] == model.mesh.sigma[v]);
  }
  CHECK_THAT(read_file(folder.path / "m.ply"), Contains("add 431200.000 6822400.000 0.000"));
}

TEST_CASE("An OBJ names its material and pictures, counts from one, and turns pictures the right way up") {
  const Folder folder;
  const auto files = mesh::write_obj(folder.path / "m.obj", two_triangles());
  REQUIRE(files.size() == 3);
  for (const auto& file : files) CHECK(std::filesystem::exists(file));
  const auto lines = lines_of(files[0]);
  CHECK(count_of(lines, "v ") == 4);
  CHECK(count_of(lines, "f ") == 2);
  CHECK(std::count(lines.begin(), lines.end(), "v 2.0000 0.0000 641.0000") == 1);
  CHECK(std::count(lines.begin(), lines.end(), "vt 0.0000000 0.0000000") >= 1);  // v runs up in OBJ, down here
  CHECK(std::count(lines.begin(), lines.end(), "f 1/1 2/2 4/3") == 1);
  CHECK(std::count(lines.begin(), lines.end(), "f 1 4 3") == 1);  // the one without a picture
  CHECK_THAT(read_file(files[1]), Contains("map_Kd m_1.jpg"));
}

TEST_CASE("Feet stay feet in CAD files, which say so, and become metres in glTF, which knows nothing else") {
  const Folder folder;
  mesh::Model model = two_triangles();
  constexpr double foot = 1200.0 / 3937.0;
  model.metres.setConstant(foot);
  mesh::write_landxml(folder.path / "m.xml", model);
  const std::string xml = read_file(folder.path / "m.xml");
  CHECK_THAT(xml, Contains("USSurveyFoot"));
  CHECK_THAT(xml, Contains("slip &lt;east&gt;"));
  CHECK_THAT(xml, Contains("a &amp; b"));
  CHECK_THAT(xml, Contains("<P id=\"2\">0.0000 2.0000 641.0000</P>"));  // north, east, height
  model.metres.setConstant(0.3048);
  mesh::write_landxml(folder.path / "m.xml", model);
  CHECK_THAT(read_file(folder.path / "m.xml"), Contains("linearUnit=\"foot\""));
  model.metres.setOnes();
  mesh::write_landxml(folder.path / "m.xml", model);
  CHECK_THAT(read_file(folder.path / "m.xml"), Contains("linearUnit=\"meter\""));
  model.metres.setConstant(0.3048);
  const std::string glb = mesh::glb_bytes(model);
  std::uint32_t length = 0;
  std::memcpy(&length, glb.data() + 12, 4);
  const auto matrix = nlohmann::json::parse(glb.substr(20, length))["nodes"][0]["matrix"];
  CHECK(matrix[0] == 0.3048);
  CHECK(matrix[12].get<double>() == Approx(431200 * 0.3048));
  CHECK(matrix[14].get<double>() == Approx(-6822400 * 0.3048));
}

TEST_CASE("DXF and STL hold each triangle once, guesses on a layer of their own") {
  const Folder folder;
  const mesh::Model model = two_triangles();
  mesh::write_dxf(folder.path / "m.dxf", model);
  const auto lines = lines_of(folder.path / "m.dxf");
  CHECK(count_of(lines, "3DFACE") == 2);
  CHECK(count_of(lines, "GUESS") == 1);
  CHECK(count_of(lines, "MEASURED") == 1);
  CHECK(lines.back() == "EOF");
  mesh::write_stl(folder.path / "m.stl", model);
  const std::string stl = read_file(folder.path / "m.stl");
  REQUIRE(stl.size() == 84 + 2 * 50);
  float up = 0;
  std::memcpy(&up, stl.data() + 84 + 8, 4);
  CHECK(up == Approx(1 / std::sqrt(1 + 0.25 + 1)).epsilon(1e-5));  // of z = x / 2 + y
}

TEST_CASE("A model that cannot be written leaves nothing behind") {
  const Folder folder;
  const auto in_the_way = folder.file("taken", "a file, no folder") / "m";
  for (const auto format : {mesh::ModelFormat::glb, mesh::ModelFormat::obj, mesh::ModelFormat::ply,
                            mesh::ModelFormat::stl, mesh::ModelFormat::dxf, mesh::ModelFormat::landxml}) {
    INFO(word_of(format));
    CHECK_THROWS_AS(mesh::write_model(in_the_way.string() + mesh::ending_of(format), format, two_triangles()), Error);
  }
  CHECK(std::distance(std::filesystem::directory_iterator(folder.path), {}) == 1);
}
