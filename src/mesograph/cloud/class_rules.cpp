#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/class_cells.hpp>
#include <mesograph/cloud/classify.hpp>
#include <set>

namespace mesograph::cloud {

namespace {

template <typename Visit>
void for_neighbours(const HeightGrid& grid, std::size_t i, const Visit& visit) {
  const int col = static_cast<int>(i % grid.columns), row = static_cast<int>(i / grid.columns);
  for (int r = row - 1; r <= row + 1; ++r)
    for (int c = col - 1; c <= col + 1; ++c)
      if (grid.inside(c, r) && (c != col || r != row)) visit(grid.index(c, r));
}

/// Planes of what stands high, by cells.
class Roofs {
 public:
  Roofs(const ClassCells& cells, const ClassifyOptions& options)
      : grid_(cells.top), rough_(std::max(options.roof_roughness, 2 * cells.sigma)) {
    for (std::size_t i = 0; i < grid_.z.size(); ++i)
      if (!(cells.above(i) >= options.lowest_roof)) grid_.z[i] = nan;
    constexpr double window = 0.65;  // m: half of the least that shows whether a roof is plane
    const int reach = std::max(2, cells.cells(window));
    const PlaneSums sums(grid_);
    // Half of the window's cells at least: at a rim or a ridge a plane still shows.
    const int least = (2 * reach + 1) * (2 * reach + 1) / 2;
    planes_.resize(grid_.z.size(), {nan, nan, nan, nan});
    for (int row = 0; row < grid_.rows; ++row)
      for (int col = 0; col < grid_.columns; ++col)
        if (std::isfinite(grid_.at(col, row))) planes_[grid_.index(col, row)] = sums.plane(col, row, reach, least);
    taken_.assign(grid_.z.size(), 0);
  }
  /// The planes of so many cells at least, smoothest seeds first.
  CellMarks of_area(double least_cells) {
    std::vector<std::size_t> seeds;
    for (std::size_t i = 0; i < planes_.size(); ++i)
      if (planes_[i].rms <= rough_) seeds.push_back(i);
    std::sort(seeds.begin(), seeds.end(), [&](std::size_t a, std::size_t b) {
      return std::pair(planes_[a].rms, a) < std::pair(planes_[b].rms, b);
    });
    CellMarks out(planes_.size(), 0);
    for (const std::size_t seed : seeds) {
      if (taken_[seed]) continue;
      const std::vector<std::size_t> face = grow(seed);
      if (static_cast<double>(face.size()) < least_cells) continue;
      for (const std::size_t i : face) out[i] = 1;
    }
    return out;
  }

 private:
  HeightGrid grid_;
  double rough_;
  std::vector<CellPlane> planes_;
  CellMarks taken_;

  std::vector<std::size_t> grow(std::size_t seed) {
    constexpr double slope = 0.2;  // rise over run by which two neighbours of one plane may differ
    const CellPlane& plane = planes_[seed];
    const int col = static_cast<int>(seed % grid_.columns), row = static_cast<int>(seed / grid_.columns);
    const auto fits = [&](std::size_t i) {
      const double dc = static_cast<int>(i % grid_.columns) - col, dr = static_cast<int>(i / grid_.columns) - row;
      const CellPlane& p = planes_[i];
      const double off = grid_.z[i] - plane.height - plane.per_col * dc - plane.per_row * dr;
      return std::abs(off) <= 2 * rough_ &&
             (p.rms > rough_ || std::hypot(p.per_col - plane.per_col, p.per_row - plane.per_row) <= slope * grid_.cell);
    };
    std::vector<std::size_t> face = {seed};
    taken_[seed] = 1;
    for (std::size_t k = 0; k < face.size(); ++k)
      for_neighbours(grid_, face[k], [&](std::size_t i) {
        if (!taken_[i] && fits(i)) taken_[i] = 1, face.push_back(i);
      });
    return face;
  }
};

/// Seen cells that touch some of a group and are not marked: places, m, and heights.
std::vector<Eigen::Vector3d> rim_of(const HeightGrid& floor, const CellMarks& marks,
                                    const std::vector<std::size_t>& group) {
  std::set<std::size_t> rim;
  for (const std::size_t i : group)
    for_neighbours(floor, i, [&](std::size_t j) {
      if (!marks[j] && std::isfinite(floor.z[j])) rim.insert(j);
    });
  std::vector<Eigen::Vector3d> out;
  for (const std::size_t j : rim)
    out.emplace_back(static_cast<double>(j % floor.columns) * floor.cell,
                     static_cast<double>(j / floor.columns) * floor.cell, floor.z[j]);
  return out;
}

double median_height(const std::vector<Eigen::Vector3d>& points) {
  std::vector<double> z;
  for (const Eigen::Vector3d& p : points) z.push_back(p.z());
  return median(std::move(z));
}

/// Whether a nearly empty place is one that water leaves: inside the cloud, its rim on one level that nowhere near goes
/// further down. A gap in a slope has a low end and a high one, a slab's surroundings are lower.
bool lies_level(const ClassCells& cells, const CellMarks& marks, const std::vector<std::size_t>& group) {
  const HeightGrid& floor = cells.floor;
  for (const std::size_t i : group) {
    const int col = static_cast<int>(i % floor.columns), row = static_cast<int>(i / floor.columns);
    if (col == 0 || row == 0 || col + 1 == floor.columns || row + 1 == floor.rows) return false;
  }
  std::vector<Eigen::Vector3d> rim = rim_of(floor, marks, group);
  constexpr std::size_t least = 20;
  if (rim.size() < least) return false;
  constexpr double bank = 0.3, steepest = 0.035;  // m: a bank's height within a cell or two; rise over run
  const double level = median_height(rim);
  std::erase_if(rim, [&](const Eigen::Vector3d& p) { return std::abs(p.z() - level) > 2 * bank; });
  std::vector<double> off;
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  for (const Eigen::Vector3d& p : rim)
    off.push_back(std::abs(p.z() - level)), middle += p / static_cast<double>(rim.size());
  if (rim.size() < least || median(std::move(off)) > std::max(bank, 3 * cells.sigma)) return false;
  Eigen::Matrix2d normal = Eigen::Matrix2d::Zero();
  Eigen::Vector2d right = Eigen::Vector2d::Zero();
  for (const Eigen::Vector3d& p : rim) {
    const Eigen::Vector2d d = (p - middle).head<2>();
    normal += d * d.transpose(), right += d * (p.z() - middle.z());
  }
  if (normal.ldlt().solve(right).norm() > steepest) return false;
  CellMarks water(cells.size(), 0);
  for (const std::size_t i : group) water[i] = 1;
  const CellMarks around = grown(floor, water, cells.cells(2));
  std::vector<std::size_t> wide;
  for (std::size_t i = 0; i < around.size(); ++i)
    if (around[i]) wide.push_back(i);
  const std::vector<Eigen::Vector3d> land = rim_of(floor, around, wide);
  return land.size() < least || median_height(land) > level - 0.5 * bank;
}

/// Marks go on to marked cells that touch them, so many times.
void spread(const HeightGrid& grid, const CellMarks& where, int rounds, CellMarks& marks) {
  for (int round = 0; round < rounds; ++round) {
    const CellMarks before = marks;
    for (std::size_t i = 0; i < marks.size(); ++i)
      if (!before[i] && where[i])
        for_neighbours(grid, i, [&](std::size_t n) { marks[i] = marks[i] || before[n] ? 1 : 0; });
  }
}

/// Keeps groups of so much area at least, m2, by the share of each cell that what stands there fills.
void keep_large(const ClassCells& cells, double least, CellMarks& marks) {
  for (const std::vector<std::size_t>& group : groups_of(cells.top, marks)) {
    double area = 0;
    for (const std::size_t i : group) area += cells.filled(i) * cells.area();
    if (area >= least) continue;
    for (const std::size_t i : group) marks[i] = 0;
  }
}

}  // namespace

CellMarks building_cells(const ClassCells& cells, const ClassifyOptions& options) {
  constexpr double least_face = 0.5;  // of the least roof: it has two sides, or a chimney between them
  CellMarks out = Roofs(cells, options).of_area(least_face * options.least_roof / cells.area());
  // Edges are rounder than planes, and walls stand under them.
  CellMarks high(cells.size(), 0);
  for (std::size_t i = 0; i < high.size(); ++i) high[i] = cells.above(i) >= 0.5 * options.lowest_roof ? 1 : 0;
  constexpr double edge = 0.6;  // m: half a window and what matching rounds
  spread(cells.top, high, cells.cells(edge), out);
  keep_large(cells, options.least_roof, out);
  return out;
}

CellMarks plant_cells(const ClassCells& cells, const CellMarks& buildings, const ClassifyOptions&) {
  std::vector<float> greens;
  CellMarks stands(cells.size(), 0), out(cells.size(), 0);
  for (std::size_t i = 0; i < stands.size(); ++i) {
    stands[i] = std::isfinite(cells.top.z[i]) && !buildings[i] ? 1 : 0;
    if (stands[i] && std::isfinite(cells.standing[i].green)) greens.push_back(cells.standing[i].green);
  }
  // Where all that stands is green, or nothing is, there are no two sets: excess green has bounds of its own.
  constexpr double least = 0.02, usual = 0.05, most = 0.12;
  const double split = split_of(greens, 0.6), threshold = std::isfinite(split) ? std::clamp(split, least, most) : usual;
  constexpr double window = 0.5, rough = 0.1;  // m: half a window, and what no made thing strays from a plane in it
  const PlaneSums sums(cells.top);
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (!stands[i]) continue;
    if (const float green = cells.standing[i].green; std::isfinite(green)) {
      out[i] = green > threshold ? 1 : 0;
      continue;
    }
    const int col = static_cast<int>(i % cells.top.columns), row = static_cast<int>(i / cells.top.columns);
    const double rms = sums.plane(col, row, cells.cells(window), 6).rms;
    out[i] = cells.echoes[i] > 0.3f || rms > std::max(rough, 4 * cells.sigma) ? 1 : 0;
  }
  // Grass that a wall's or a rock's foot drags along is a thin line beside it.
  constexpr double thin = 0.25;  // m
  const int half = static_cast<int>(std::lround(thin / cells.top.cell));
  const CellMarks thick = grown(cells.top, shrunk(cells.top, out, half), 2 * half);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] &= thick[i];
  return out;
}

CellMarks road_cells(const ClassCells& cells, const ClassifyOptions& options) {
  const HeightGrid& floor = cells.floor;
  const double rough = std::max(options.road_roughness, 2 * cells.sigma);
  constexpr double window = 0.6;  // m
  const int reach = cells.cells(window);
  const PlaneSums sums(floor);
  CellMarks out(cells.size(), 0);
  std::vector<float> chromas;
  for (int row = 0; row < floor.rows; ++row)
    for (int col = 0; col < floor.columns; ++col) {
      const std::size_t i = floor.index(col, row);
      if (!std::isfinite(floor.z[i])) continue;
      if (std::isfinite(cells.lying[i].chroma)) chromas.push_back(cells.lying[i].chroma);
      const CellPlane plane = sums.plane(col, row, reach, 6);
      out[i] =
          plane.rms <= rough && std::hypot(plane.per_col, plane.per_row) <= options.road_slope * floor.cell ? 1 : 0;
    }
  if (chromas.empty()) return CellMarks(cells.size(), 0);  // a smooth meadow cannot be told from a road
  // Asphalt, concrete and gravel are grey. Where all ground is, form alone tells.
  constexpr double greyest = 0.04, usual = 0.07, most = 0.12;
  const double split = split_of(chromas, 0.6),
               threshold = std::isfinite(split) ? std::clamp(split, greyest, most) : usual;
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = out[i] && cells.lying[i].chroma <= threshold ? 1 : 0;
  // Small gaps are noise; what is narrower than a road falls away.
  const int gap = cells.cells(0.4), half = std::max(1, cells.cells(0.5 * options.road_width));
  out = shrunk(floor, grown(floor, out, gap), gap + half);
  out = grown(floor, out, half);
  constexpr double longer = 3;  // than wide, by area over the square of the width
  for (const std::vector<std::size_t>& group : groups_of(floor, out)) {
    Eigen::AlignedBox2d box;
    for (const std::size_t i : group)
      box.extend(Eigen::Vector2d(static_cast<double>(i % floor.columns), static_cast<double>(i / floor.columns)));
    const double length = box.diagonal().norm(), width = static_cast<double>(group.size()) / std::max(1.0, length);
    if (length >= longer * width && length >= longer * options.road_width / floor.cell) continue;
    for (const std::size_t i : group) out[i] = 0;
  }
  return out;
}

CellMarks water_cells(const ClassCells& cells, const ClassifyOptions& options) {
  const HeightGrid& floor = cells.floor;
  CellMarks out(cells.size(), 0);
  const double usual = cells.usual_count;
  // Over windows of nine cells: a cell more or less is nothing.
  for (std::size_t i = 0; i < out.size(); ++i) {
    double n = cells.count[i];
    for_neighbours(floor, i, [&](std::size_t j) { n += cells.count[j]; });
    constexpr double sparse = 0.35;
    out[i] = n <= sparse * 9 * usual ? 1 : 0;
  }
  for (const std::vector<std::size_t>& group : groups_of(floor, out)) {
    const bool large = static_cast<double>(group.size()) * cells.area() >= options.least_water;
    if (large && lies_level(cells, out, group)) continue;
    for (const std::size_t i : group) out[i] = 0;
  }
  return out;
}

}  // namespace mesograph::cloud
