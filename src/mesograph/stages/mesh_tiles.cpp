#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/files.hpp>
#include <mesograph/base/json.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/mesh/model_files.hpp>
#include <mesograph/mesh/model_parts.hpp>
#include <mesograph/stages/mesh_tiles.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;
using mesh::PlanSquare;

namespace {

/// Earth-centred coordinates of a frame's axes and origin, by column, as 3D Tiles takes them (EPSG:4978): the frame's
/// axes are east, north and up where its origin lies on WGS 84 (a = 6378137 m, 1/f = 298.257223563; NIMA TR8350.2).
Eigen::Matrix4d earth_from_local(const geo::Crs& crs, const geo::Frame& frame) {
  const Eigen::Vector3d place =
      geo::wgs84_from_crs(crs, frame.crs_from_local(Eigen::Vector3d(Eigen::Vector3d::Zero())));
  const double lon = place.x() * rad_per_deg, lat = place.y() * rad_per_deg;
  constexpr double a = 6378137, f = 1 / 298.257223563, e2 = f * (2 - f);
  const double sin_lat = std::sin(lat), cos_lat = std::cos(lat), sin_lon = std::sin(lon), cos_lon = std::cos(lon);
  const double across = a / std::sqrt(1 - e2 * sin_lat * sin_lat);
  Eigen::Matrix4d out = Eigen::Matrix4d::Identity();
  out.col(0).head<3>() = Eigen::Vector3d(-sin_lon, cos_lon, 0);
  out.col(1).head<3>() = Eigen::Vector3d(-sin_lat * cos_lon, -sin_lat * sin_lon, cos_lat);
  out.col(2).head<3>() = Eigen::Vector3d(cos_lat * cos_lon, cos_lat * sin_lon, sin_lat);
  out.col(3).head<3>() =
      Eigen::Vector3d((across + place.z()) * cos_lat * cos_lon, (across + place.z()) * cos_lat * sin_lon,
                      (across * (1 - e2) + place.z()) * sin_lat);
  return out;
}

/// How far a level of detail may be from the finest, m: a quarter of the side of a triangle of its mean size.
double error_of(const mesh::TriangleMesh& mesh) {
  double area = 0;
  for (const mesh::Face& f : mesh.faces) area += mesh.area(f);
  return 0.25 * std::sqrt(area / static_cast<double>(std::max<std::size_t>(1, mesh.faces.size())));
}

Json box_json(const Eigen::AlignedBox3d& box) {
  const Eigen::Vector3d c = box.center(), h = (0.5 * box.sizes()).cwiseMax(0.01);
  return {{"box", {c.x(), c.y(), c.z(), h.x(), 0, 0, 0, h.y(), 0, 0, 0, h.z()}}};
}

struct Tile {
  Eigen::AlignedBox3d box;  ///< of its own content and of what lies below
  double error = 0;
  std::string file;
};

/// A square and, below it, its quarters.
Json tile_json(const std::map<PlanSquare, Tile>& tiles, const PlanSquare& square) {
  const Tile& tile = tiles.at(square);
  Json out = {{"boundingVolume", box_json(tile.box)}, {"geometricError", tile.error}, {"refine", "REPLACE"}};
  if (!tile.file.empty()) out["content"] = {{"uri", tile.file}};
  Json children = Json::array();
  for (const int r : {0, 1})
    for (const int c : {0, 1})
      if (const PlanSquare child{square.level + 1, 2 * square.col + c, 2 * square.row + r}; tiles.count(child))
        children.push_back(tile_json(tiles, child));
  if (!children.empty()) out["children"] = std::move(children);
  return out;
}

}  // namespace

std::vector<fs::path> write_tiles(const fs::path& folder, const geo::Crs& crs, const geo::Frame& frame,
                                  const std::vector<mesh::Model>& levels, int texture_page, Progress& progress) {
  Eigen::AlignedBox2d plan;
  for (const Eigen::Vector3d& X : levels.front().mesh.X) plan.extend(Eigen::Vector2d(X.head<2>()));
  std::map<PlanSquare, Tile> tiles;
  std::vector<fs::path> files = {folder / "tileset.json"};
  const auto depth = static_cast<int>(levels.size());
  for (int level = 0; level < depth; ++level) {
    const mesh::Model& model = levels[static_cast<std::size_t>(depth - 1 - level)];
    const auto squares = mesh::by_plan_squares(model.mesh, plan, level);
    const double error = level == depth - 1 ? 0 : error_of(model.mesh);
    progress.start("writing tiles", squares.size());
    std::vector<Tile> made(squares.size());
    parallel_for(squares.size(), [&](std::size_t i) {
      progress.check();
      const auto& [square, faces] = squares[i];
      const mesh::Model part = mesh::part_of(model, faces, texture_page);
      for (const Eigen::Vector3d& X : part.mesh.X) made[i].box.extend(X);
      made[i].error = error, made[i].file = fmt::format("{}_{}_{}.glb", square.level, square.col, square.row);
      write_file(folder / made[i].file, mesh::glb_bytes(part));
      progress.advance();
    });
    for (std::size_t i = 0; i < squares.size(); ++i)
      files.push_back(folder / made[i].file), tiles.emplace(squares[i].first, std::move(made[i]));
  }
  // What lies below a square, lies in it, also where the coarser level has no face of its own there.
  for (int level = depth - 1; level > 0; --level)
    for (const auto& [square, tile] : std::map<PlanSquare, Tile>(tiles))
      if (square.level == level) {
        Tile& above = tiles[{level - 1, square.col / 2, square.row / 2}];
        above.box.extend(tile.box), above.error = std::max(above.error, 2 * tile.error);
      }
  Json root = tile_json(tiles, {});
  if (!crs.local) {
    const Eigen::Matrix4d earth = earth_from_local(crs, frame);
    root["transform"] = std::vector<double>(earth.data(), earth.data() + earth.size());  // by column
  }
  const Json tileset = {{"asset", {{"version", "1.1"}, {"generator", "Mesograph mesh"}}},
                        {"geometricError", 4 * error_of(levels.back().mesh)},
                        {"root", std::move(root)}};
  write_file(files.front(), tileset.dump(1) + "\n");
  return files;
}

}  // namespace mesograph::stages
