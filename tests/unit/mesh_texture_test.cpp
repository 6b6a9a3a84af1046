#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/json.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/mesh/choose_views.hpp>
#include <mesograph/mesh/level_seams.hpp>
#include <mesograph/mesh/model_files.hpp>

#include "mesh_shapes.hpp"

using namespace mesograph;
using mesh::Face;
using mesh::TriangleMesh;

namespace {

/// A photo of 400 x 400 pixels from straight above, 20 pixels a metre, its left rim at `west`; grey levels by a law.
mesh::ShownIn from_above(int number, double west, std::function<float(double x, double y)> level) {
  mesh::ShownIn out;
  out.number = number, out.width = out.height = 400;
  out.C = {west + 10, 10, 50};
  const Eigen::Vector3d C = out.C;
  out.image = [C](const Eigen::Vector3d& X) -> std::optional<mosaic::Shown> {
    // 1000 pixels of principal distance, 50 m above nought.
    const double depth = C.z() - X.z();
    const Eigen::Vector2d u((X.x() - C.x()) / depth, -(X.y() - C.y()) / depth);
    return mosaic::Shown{{200 + 1000 * u.x(), 200 + 1000 * u.y()}, u};
  };
  out.colour = [west, level](const mosaic::Shown& at) {
    const float v = level(west + at.x.x() / 20, 20 - at.x.y() / 20);
    return std::array<float, 3>{v, v, v};
  };
  return out;
}

TriangleMesh roofed() {
  // Level ground, and a roof of 4 m x 4 m that hangs 5 m above it.
  TriangleMesh out = net(40, 0.5, [](double, double) { return 0.0; });
  const TriangleMesh roof = net(8, 0.5, [](double, double) { return 5.0; });
  const auto first = static_cast<std::int32_t>(out.X.size());
  for (const Eigen::Vector3d& X : roof.X) out.X.push_back(X + Eigen::Vector3d(3, 8, 0)), out.sigma.push_back(0.01F);
  for (const Face& f : roof.faces) out.faces.push_back({f[0] + first, f[1] + first, f[2] + first});
  return out;
}

}  // namespace

TEST_CASE("A photo sees no face behind another, none from behind, and half-hidden ones count little") {
  const TriangleMesh mesh = roofed();
  const mesh::PhotoViews views = mesh::views_of(mesh, from_above(0, 0, [](double, double) { return 100.0F; }));
  std::vector<float> pixels(mesh.faces.size(), 0);
  for (std::size_t i = 0; i < views.face.size(); ++i)
    pixels[static_cast<std::size_t>(views.face[i])] = views.view[i].pixels;
  int hidden = 0, seen = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Eigen::Vector3d X = (mesh.at(mesh.faces[f][0]) + mesh.at(mesh.faces[f][1]) + mesh.at(mesh.faces[f][2])) / 3;
    if (X.z() > 1 || X.x() < 0.5 || X.x() > 19.5 || X.y() < 0.5 || X.y() > 19.5) continue;
    // The roof's shadow by similar triangles: from C = (10, 10, 50) a point at height 5 falls at C + (p - C) 50 / 45.
    const double west = 10 + (3 - 10) / 0.9, east = 10 + (7 - 10) / 0.9, south = 10 + (8 - 10) / 0.9,
                 north = 10 + (12 - 10) / 0.9;
    const double inside = std::min({X.x() - west, east - X.x(), X.y() - south, north - X.y()});
    if (inside > 0.5) {
      ++hidden;
      CHECK(pixels[f] == 0);
    } else if (inside < -0.5) {
      ++seen;
      CHECK(pixels[f] == Approx(0.125 * 400).epsilon(0.01));  // m^2 at 20 pixels a metre
    }
  }
  CHECK(hidden > 50);
  CHECK(seen > 2000);
  TriangleMesh turned = mesh;
  for (Face& f : turned.faces) std::swap(f[1], f[2]);
  CHECK(mesh::views_of(turned, from_above(0, 0, [](double, double) { return 100.0F; })).face.empty());
}

TEST_CASE("What moves is marked in the photo that shows it, and the seam keeps off where photos differ") {
  const TriangleMesh mesh = net(60, 0.5, [](double, double) { return 0.0; });
  const auto ground = [](double x, double y) {
    return static_cast<float>(100 + 10 * std::sin(x) + 5 * std::cos(3 * y));
  };
  const auto car = [&](double x, double y) {
    return std::abs(x - 12) < 1 && std::abs(y - 10) < 2 ? 220.0F : ground(x, y);
  };
  std::vector<mesh::PhotoViews> photos;
  photos.push_back(mesh::views_of(mesh, from_above(0, 0, car)));
  photos.push_back(mesh::views_of(mesh, from_above(1, 4, ground)));
  photos.push_back(mesh::views_of(mesh, from_above(2, 8, ground)));
  mesh::FaceViews views(mesh.faces.size(), std::move(photos));
  views.mark_odd();
  Progress progress;
  const std::vector<std::int32_t> photo = mesh::choose_views(mesh, views, 3, {}, progress);
  int odd = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Eigen::Vector3d X = (mesh.at(mesh.faces[f][0]) + mesh.at(mesh.faces[f][1]) + mesh.at(mesh.faces[f][2])) / 3;
    for (const mesh::View& v : views[f]) {
      const bool on_car = std::abs(X.x() - 12) < 0.7 && std::abs(X.y() - 10) < 1.7;
      if (v.photo == 0 && on_car) {
        CHECK(v.odd == 1);
        ++odd;
      }
      if (v.photo != 0) CHECK(v.odd == 0);
    }
    if (std::abs(X.x() - 12) < 0.7 && std::abs(X.y() - 10) < 1.7) CHECK(photo[f] > 0);
    const bool shown = X.y() > 0.5 && X.y() < 19.5 && X.x() > 0.5 && X.x() < 27.5;
    if (shown) CHECK(photo[f] >= 0);
  }
  CHECK(odd > 20);
}

TEST_CASE("Charts lie in their pages without overlapping, and levelled seams cannot be seen") {
  TriangleMesh mesh = net(60, 0.5, [](double, double) { return 0.0; });
  // Two photos whose brightness differs by 24 grey levels and by a trend, cut by hand along a ragged line.
  const auto ground = [](double x, double y) { return 110 + 25 * std::sin(1.3 * x) * std::cos(0.9 * y); };
  const auto image_of = [&](double west, double more, double trend) {
    photo::Rgb out(400, 400, 3);
    for (int row = 0; row < 400; ++row)
      for (int col = 0; col < 400; ++col)
        for (int ch = 0; ch < 3; ++ch)
          out.at(col, row, ch) = static_cast<std::uint8_t>(
              std::lround(ground(west + (col + 0.5) / 20, 20 - (row + 0.5) / 20) + more + trend * col / 400));
    return out;
  };
  const std::array<photo::Rgb, 2> images = {image_of(0, 0, 0), image_of(8, 24, -16)};
  const auto x_of = [](std::int32_t photo, const Eigen::Vector3d& X) {
    return Eigen::Vector2d((X.x() - (photo == 0 ? 0 : 8)) * 20, (20 - X.y()) * 20);
  };
  std::vector<std::int32_t> photo(mesh.faces.size(), -1);
  std::vector<std::array<Eigen::Vector2f, 3>> at(mesh.faces.size());
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Eigen::Vector3d X = (mesh.at(mesh.faces[f][0]) + mesh.at(mesh.faces[f][1]) + mesh.at(mesh.faces[f][2])) / 3;
    if (X.y() > 20 || X.x() > 28) continue;
    photo[f] = X.x() + 2 * std::sin(2 * X.y()) < 14 ? 0 : 1;
    for (std::size_t k = 0; k < 3; ++k) at[f][k] = x_of(photo[f], mesh.at(mesh.faces[f][k])).cast<float>();
  }
  mesh::AtlasOptions options;
  options.page = 1024;
  const mesh::Atlas atlas = mesh::make_atlas(mesh, photo, at, options);
  CHECK(atlas.charts.size() >= 2);
  std::vector<std::vector<int>> taken;
  for (const auto& [width, height] : atlas.pages) {
    CHECK((width <= 1024 && height <= 1024));
    taken.emplace_back(static_cast<std::size_t>(width) * height, 0);
  }
  bool overlap = false;
  for (const mesh::Chart& c : atlas.charts)
    for (int row = c.row; row < c.row + c.height; ++row)
      for (int col = c.col; col < c.col + c.width; ++col)
        overlap |= taken[static_cast<std::size_t>(c.page)]
                        [static_cast<std::size_t>(row) * atlas.pages[static_cast<std::size_t>(c.page)][0] + col]++ > 0;
  CHECK_FALSE(overlap);
  mesh::Pages pages{
      mesh, atlas, at, 1, [&](std::int32_t p, const Eigen::Vector3d& X) { return std::optional(x_of(p, X)); }, {}};
  for (const auto& [width, height] : atlas.pages) pages.pages.emplace_back(width, height, 3);
  for (const mesh::Chart& c : atlas.charts)
    for (int row = 0; row < c.height; ++row)
      for (int col = 0; col < c.width; ++col)
        for (int ch = 0; ch < 3; ++ch)
          pages.pages[static_cast<std::size_t>(c.page)].at(c.col + col, c.row + row, ch) =
              images[static_cast<std::size_t>(c.photo)].at(std::clamp(c.left + col, 0, 399),
                                                           std::clamp(c.top + row, 0, 399), ch);
  const double before = median(mesh::seam_steps(pages));
  mesh::level_seams(pages, 6);
  std::vector<double> steps = mesh::seam_steps(pages);
  CHECK(before > 8);
  CHECK(median(std::vector<double>(steps)) < 1);
  std::sort(steps.begin(), steps.end());
  CHECK(steps[steps.size() * 99 / 100] < 3);
}

TEST_CASE("A model as bytes says where it is, tears vertices where pictures are torn, and marks guesses") {
  mesh::Model model;
  model.name = "site", model.shift = {431200, 6822400, 0};
  model.mesh = net(1, 2, [](double x, double) { return x; });
  model.mesh.sigma[0] = std::numeric_limits<float>::quiet_NaN();
  model.texture.pages.emplace_back(8, 8, 3);
  model.texture.page = {0, 0};
  const Eigen::Vector2f a(0, 1), b(1, 1), c(1, 0), d(0.5F, 0.5F);
  model.texture.at = {{a, b, c}, {d, c, a}};
  const std::string bytes = mesh::glb_bytes(model);
  const auto number = [&](std::size_t at) {
    std::uint32_t out = 0;
    std::memcpy(&out, bytes.data() + at, 4);
    return out;
  };
  // glTF 2.0, 4.4: magic, version, length; chunks of length and type.
  CHECK(bytes.substr(0, 4) == "glTF");
  CHECK(number(4) == 2);
  CHECK(number(8) == bytes.size());
  const auto json = nlohmann::json::parse(bytes.substr(20, number(12)));
  const auto matrix = json["nodes"][0]["matrix"];
  // Column vectors: (east, north, height) = (1, 2, 3) comes to x = E, y = H, z = -N.
  const auto row = [&](int r) {
    return matrix[r].get<double>() + 2 * matrix[4 + r].get<double>() + 3 * matrix[8 + r].get<double>() +
           matrix[12 + r].get<double>();
  };
  CHECK(row(0) == 431201);
  CHECK(row(1) == 3);
  CHECK(row(2) == -6822402);
  const auto& primitive = json["meshes"][0]["primitives"][0];
  CHECK(json["accessors"][primitive["attributes"]["POSITION"].get<int>()]["count"] ==
        5);  // one torn in two, one shared
  const auto& sigma =
      json["bufferViews"][json["accessors"][primitive["attributes"]["_SIGMA"].get<int>()]["bufferView"].get<int>()];
  float first = 0;
  std::memcpy(&first, bytes.data() + 20 + number(12) + 8 + sigma["byteOffset"].get<std::size_t>(), 4);
  CHECK(first == -1);
  CHECK(json["asset"]["extras"]["shift"][1] == 6822400);
}
