#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/extent.hpp>
#include <mesograph/cloud/ground.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/surface/make_surface.hpp>
#include <set>

namespace mesograph::surface {

namespace {

void keep_within(const cloud::Region& region, Surface& s) {
  if (region.everything()) return;
  parallel_for(static_cast<std::size_t>(s.grid.rows), [&](std::size_t row) {
    for (int col = 0; col < s.grid.columns; ++col) {
      const Eigen::Vector2d at = s.grid.middle(col, static_cast<int>(row)).cwiseQuotient(s.metres.head<2>());
      const std::size_t i = s.grid.at(col, static_cast<int>(row));
      if (s.source[i] == Source::empty || region.contains(at)) continue;
      s.z[i] = s.sigma[i] = std::numeric_limits<float>::quiet_NaN();
      s.points[i] = 0, s.source[i] = Source::empty;
    }
  });
}

void refuse_useless(const Surface& s, const SurfaceOptions& options, const std::string& name) {
  if (std::any_of(s.source.begin(), s.source.end(), [](Source v) { return v == Source::measured; })) return;
  if (options.cells.kind == Kind::ground)
    throw Error("{}: has no points of class 2 there; mesograph cloud ground makes them", name);
  throw Error("{}: has no point in the region; give one of the cloud, in its CRS", name);
}

}  // namespace

Surface make_surface(const std::vector<cloud::LasReader*>& files, const SurfaceOptions& options, Progress& progress) {
  Eigen::AlignedBox2d box;
  const std::string name = files.front()->path().string(), wkt = files.front()->header().crs();
  const Eigen::Vector3d metres = cloud::metres_of(files.front()->header(), name);
  for (cloud::LasReader* file : files) {
    if (file->header().crs() != wkt)
      throw Error("{}: is in another CRS than {}; bring them into one first", file->path().string(), name);
    const cloud::Extent extent = cloud::extent_of(*file, progress);
    if (extent.box.isEmpty()) continue;
    box.extend(Eigen::Vector2d(extent.box.min().cwiseProduct(metres).head<2>()));
    box.extend(Eigen::Vector2d(extent.box.max().cwiseProduct(metres).head<2>()));
  }
  if (box.isEmpty()) throw Error("{}: holds no point", name);
  if (!options.region.everything()) {
    const Eigen::AlignedBox2d& wanted = options.region.box();
    box = box.intersection(
        Eigen::AlignedBox2d(wanted.min().cwiseProduct(metres.head<2>()), wanted.max().cwiseProduct(metres.head<2>())));
    if (box.isEmpty()) throw Error("{}: has no point in the region; give one of the cloud, in its CRS", name);
  }
  const double cells = (box.sizes() / options.cell).prod();
  constexpr double most = 4e8;  // 4.4 GB
  if (cells > most)
    throw Error("{}: {:.0f} million cells of {:.3f} m would not fit into memory; take larger ones or a region", name,
                cells / 1e6, options.cell);
  Surface out(Grid::over(box, options.cell));
  out.wkt = wkt, out.metres = metres;
  CellOptions cells_of = options.cells;
  if (!options.breaklines.empty()) {
    std::vector<std::vector<Eigen::Vector2d>> lines = options.breaklines;
    for (auto& line : lines)
      for (Eigen::Vector2d& at : line) at = at.cwiseProduct(metres.head<2>());
    cells_of.breaklines = Breaklines(lines, options.cell);
  }
  cloud::JudgeOptions tiles;
  tiles.rim = cell_rim(options.cell, cells_of), tiles.align = options.cell, tiles.scratch = options.scratch;
  tiles.most_points = 0;  // several tiles of any cloud, so that all threads work
  cloud::for_each_tile(
      files, tiles, "heights", [&](const cloud::TileContent& content) { estimate_cells(content, cells_of, out); },
      progress);
  keep_within(options.region, out);
  refuse_useless(out, options, name);
  std::vector<cloud::Polygon> water;
  for (const cloud::Polygon& polygon : options.water) water.push_back(polygon.times(metres.head<2>()));
  level_water(water, out);
  fill_gaps(options.fill, cells_of.breaklines, out, progress);
  return out;
}

int level_water(const std::vector<cloud::Polygon>& polygons, Surface& surface) {
  const Grid& grid = surface.grid;
  int used = 0;
  for (const cloud::Polygon& polygon : polygons) {
    const Eigen::AlignedBox2d box = polygon.box();
    const int first_col = std::max(0, grid.column(box.min().x()) - 2),
              last_col = std::min(grid.columns - 1, grid.column(box.max().x()) + 2),
              first_row = std::max(0, grid.row(box.max().y()) - 2),
              last_row = std::min(grid.rows - 1, grid.row(box.min().y()) + 2);
    const auto inside = [&](int col, int row) { return polygon.contains(grid.middle(col, row)); };
    std::vector<std::size_t> own;
    std::vector<std::pair<float, float>> shore;  // height, sigma
    for (int row = first_row; row <= last_row; ++row)
      for (int col = first_col; col <= last_col; ++col) {
        const std::size_t i = grid.at(col, row);
        if (inside(col, row)) {
          own.push_back(i);
          continue;
        }
        if (surface.source[i] != Source::measured) continue;
        if (inside(col - 1, row) || inside(col + 1, row) || inside(col, row - 1) || inside(col, row + 1))
          shore.emplace_back(surface.z[i], surface.sigma[i]);
      }
    if (own.empty() || shore.empty()) continue;
    std::sort(shore.begin(), shore.end());
    const auto [level, sigma] = shore[shore.size() / 4];
    for (const std::size_t i : own) surface.z[i] = level, surface.sigma[i] = sigma, surface.source[i] = Source::water;
    ++used;
  }
  return used;
}

double usual_cell(const std::vector<cloud::LasReader*>& files, Progress& progress) {
  std::set<std::pair<std::int64_t, std::int64_t>> squares;
  std::uint64_t points = 0;
  constexpr double side = 2;  // m
  for (cloud::LasReader* file : files) {
    const Eigen::Vector3d metres = cloud::metres_of(file->header(), file->path().string());
    file->rewind();
    for (cloud::LasPoints batch = file->next(); batch.size() > 0; batch = file->next()) {
      progress.check();
      points += batch.size();
      for (std::size_t i = 0; i < batch.size(); ++i) {
        const Eigen::Vector3d X = batch.at(i).cwiseProduct(metres);
        squares.emplace(static_cast<std::int64_t>(std::floor(X.x() / side)),
                        static_cast<std::int64_t>(std::floor(X.y() / side)));
      }
    }
  }
  if (points == 0) throw Error("{}: holds no point", files.front()->path().string());
  return side * std::sqrt(static_cast<double>(squares.size()) / static_cast<double>(points));
}

}  // namespace mesograph::surface
