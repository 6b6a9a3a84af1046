#include <algorithm>
#include <cmath>
#include <mesograph/cloud/ground.hpp>
#include <mesograph/surface/cell_heights.hpp>

namespace mesograph::surface {

namespace {

using cloud::TilePoint;

/// Points of a tile by cell, in the order of cells.
class Sorted {
 public:
  Sorted(const cloud::TileContent& content, const Grid& grid, const CellOptions& options) : grid_(grid) {
    const double rim = cell_rim(grid.cell, options);
    const cloud::PlanTile& t = content.tile;
    first_col_ = grid.column(t.west - rim), last_col_ = grid.column(t.west + t.side + rim);
    first_row_ = grid.row(t.south + t.side + rim), last_row_ = grid.row(t.south - rim);
    first_col_ = std::max(first_col_, 0), first_row_ = std::max(first_row_, 0);
    last_col_ = std::min(last_col_, grid.columns - 1), last_row_ = std::min(last_row_, grid.rows - 1);
    if (last_col_ < first_col_ || last_row_ < first_row_) return;
    width_ = last_col_ - first_col_ + 1;
    start_.assign(static_cast<std::size_t>(width_) * (last_row_ - first_row_ + 1) + 1, 0);
    const auto takes = [&](const TilePoint& p) { return holds(column(p), row(p)); };
    for (const TilePoint& p : content.points)
      if (takes(p)) ++start_[index(column(p), row(p)) + 1];
    for (std::size_t i = 1; i < start_.size(); ++i) start_[i] += start_[i - 1];
    points_.resize(start_.back());
    std::vector<std::uint32_t> next(start_.begin(), start_.end() - 1);
    for (const TilePoint& p : content.points)
      if (takes(p)) points_[next[index(column(p), row(p))]++] = &p;
  }
  bool holds(int col, int row) const {
    return col >= first_col_ && col <= last_col_ && row >= first_row_ && row <= last_row_;
  }
  /// Those of a cell.
  std::pair<const TilePoint* const*, const TilePoint* const*> of(int col, int row) const {
    if (width_ == 0 || !holds(col, row)) return {nullptr, nullptr};
    const std::size_t i = index(col, row);
    return {points_.data() + start_[i], points_.data() + start_[i + 1]};
  }

 private:
  Grid grid_;
  int first_col_ = 0, last_col_ = -1, first_row_ = 0, last_row_ = -1, width_ = 0;
  std::vector<std::uint32_t> start_;
  std::vector<const TilePoint*> points_;

  int column(const TilePoint& p) const { return grid_.column(p.X.x()); }
  int row(const TilePoint& p) const { return grid_.row(p.X.y()); }
  std::size_t index(int col, int row) const {
    return static_cast<std::size_t>(row - first_row_) * width_ + static_cast<std::size_t>(col - first_col_);
  }
};

/// A point as a cell sees it: off its middle, in cells; height and sigma, m.
struct Near {
  double x, y, z, sigma, block, distance2;  ///< distance from the middle squared
  std::uint8_t point_class;
};

/// Whether two points may lie on one layer. `slope`: steepest times cell.
bool one_layer(const Near& a, const Near& b, double cell, double slope) {
  const double more = std::abs(a.z - b.z) - 3 * std::max(a.sigma, b.sigma) - 0.05 * cell;
  if (more <= 0) return true;
  const double x = a.x - b.x, y = a.y - b.y;
  return more * more <= slope * slope * (x * x + y * y);
}

/// Whether all points lie on one layer whatever their places: as most do.
bool all_alike(const std::vector<Near>& near, double cell) {
  double low = INFINITY, high = -INFINITY, least_sigma = INFINITY;
  for (const Near& p : near)
    low = std::min(low, p.z), high = std::max(high, p.z), least_sigma = std::min(least_sigma, p.sigma);
  return high - low <= 3 * least_sigma + 0.05 * cell;
}

/// The point that says which layer a cell has: of those near its middle the highest that others of it confirm.
const Near* top_of(const std::vector<Near>& near, const CellOptions& options, double cell) {
  const Near* best = nullptr;
  int best_support = 0;
  const int all = static_cast<int>(near.size()), enough = std::min(3, all);
  // Of the middle half of the cell where anything lies there: what only touches the cell is its neighbour's.
  constexpr double inner = 0.5;
  const bool any = std::any_of(near.begin(), near.end(), [&](const Near& p) { return p.distance2 <= inner * inner; });
  const double reach = any ? inner : options.own_reach, slope = options.steepest * cell;
  const bool alike = all_alike(near, cell);
  for (const Near& p : near) {
    if (p.distance2 > reach * reach || (best && best_support >= enough && p.z <= best->z)) continue;
    int support = alike ? all : 0;
    if (!alike)
      for (const Near& q : near) support += one_layer(p, q, cell, slope);
    // Enough of them, and then the highest; else what has most.
    const bool better = !best || (support >= enough ? best_support < enough || p.z > best->z
                                                    : best_support < enough && support > best_support);
    if (better) best = &p, best_support = support;
  }
  return best;
}

struct Height {
  double z, sigma;
};

/// Room for the sums of one cell, kept from one to the next.
struct Work {
  std::vector<Near> near, layer;
  std::vector<double> base, weight, residual, off;
};

/// Normal equations of a plane z = p0 + p1 x + p2 y, solved by elimination; they are positive definite (slopes are
/// drawn to nought, see plane_height).
Eigen::Vector3d plane_of(double n00, double n01, double n02, double n11, double n12, double n22,
                         const Eigen::Vector3d& right) {
  const double l1 = n01 / n00, l2 = n02 / n00, a = n11 - l1 * n01, b = n12 - l1 * n02, c = n22 - l2 * n02;
  const double r1 = right[1] - l1 * right[0], r2 = right[2] - l2 * right[0], l3 = b / a;
  const double p2 = (r2 - l3 * r1) / (c - l3 * b), p1 = (r1 - b * p2) / a;
  return {(right[0] - n01 * p1 - n02 * p2) / n00, p1, p2};
}

/// Plane through the points of work.layer, at the middle.
Height plane_height(Work& work) {
  const std::vector<Near>& layer = work.layer;
  const std::size_t n = layer.size();
  double least = INFINITY;
  for (const Near& p : layer)
    if (p.sigma > 0) least = std::min(least, p.sigma);
  if (!std::isfinite(least)) least = 1;
  work.base.resize(n), work.weight.resize(n), work.residual.assign(n, 0.0), work.off.resize(n);
  for (std::size_t i = 0; i < n; ++i) {
    const double sigma = std::max(layer[i].sigma, least);
    work.base[i] = std::exp(-layer[i].distance2) / (sigma * sigma);
  }
  double scale = INFINITY, spread = 0, one = 0, total = 0, height = 0;
  const double level = layer[0].z;  // sums about it keep their digits
  for (int round = 0; round < 3; ++round) {
    double n01 = 0, n02 = 0, n11 = 0, n12 = 0, n22 = 0;
    Eigen::Vector3d right = Eigen::Vector3d::Zero();
    total = 0, one = 0;
    for (std::size_t i = 0; i < n; ++i) {
      const Near& p = layer[i];
      const double off = std::abs(work.residual[i]),
                   w = round > 0 && off > 1.5 * scale ? work.base[i] * 1.5 * scale / off : work.base[i];
      work.weight[i] = w;
      const double wx = w * p.x, wy = w * p.y, wz = w * (p.z - level);
      total += w, one += w * w;
      n01 += wx, n02 += wy, n11 += wx * p.x, n12 += wx * p.y, n22 += wy * p.y;
      right[0] += wz, right[1] += wz * p.x, right[2] += wz * p.y;
    }
    // Points on one side, or on a line, say little of the slope: then it is that of a level plane.
    const double mean = right[0] / total;
    right -= mean * Eigen::Vector3d(total, n01, n02);
    const Eigen::Vector3d plane = plane_of(total, n01, n02, n11 + 0.02 * total, n12, n22 + 0.02 * total, right);
    height = level + mean + plane[0];
    spread = 0;
    for (std::size_t i = 0; i < n; ++i) {
      const Near& p = layer[i];
      work.residual[i] = p.z - height - plane[1] * p.x - plane[2] * p.y;
      work.off[i] = std::abs(work.residual[i]);
      spread += work.weight[i] * work.residual[i] * work.residual[i];
    }
    spread /= total;
    if (round == 2) break;
    std::nth_element(work.off.begin(), work.off.begin() + static_cast<std::ptrdiff_t>(n / 2), work.off.end());
    scale = std::max(1.5 * work.off[n / 2], 0.3 * least);
  }
  double block = 0, mean_variance = 0;
  for (std::size_t i = 0; i < n; ++i) {
    const double common = layer[i].block * layer[i].block;
    mean_variance += work.weight[i] * (layer[i].sigma * layer[i].sigma - common) / total;
    block += work.weight[i] * common / total;
  }
  // Neighbours see the same texture through the same photos: half of the variance is common to them, and all that the
  // block has.
  constexpr double common = 0.5;
  const double share = one / (total * total);
  const double variance = block + mean_variance * (common + (1 - common) * share) + spread * share;
  return {height, std::sqrt(variance)};
}

void gather(const Sorted& sorted, const Grid& grid, int col, int row, double reach, std::vector<Near>& near) {
  const Eigen::Vector2d middle = grid.middle(col, row);
  const int cells = static_cast<int>(std::ceil(reach - 0.5));
  const double per_cell = 1 / grid.cell, reach2 = reach * reach;
  near.clear();
  for (int r = row - cells; r <= row + cells; ++r)
    for (int c = col - cells; c <= col + cells; ++c) {
      const auto [begin, end] = sorted.of(c, r);
      for (auto p = begin; p != end; ++p) {
        const double x = ((*p)->X.x() - middle.x()) * per_cell, y = ((*p)->X.y() - middle.y()) * per_cell,
                     distance2 = x * x + y * y;
        if (distance2 <= reach2)
          near.push_back({x, y, (*p)->X.z(), (*p)->sigma, (*p)->block, distance2, (*p)->point_class});
      }
    }
}

}  // namespace

double cell_rim(double cell, const CellOptions& options) { return (options.reach + 1) * cell; }

void estimate_cells(const cloud::TileContent& content, const CellOptions& options, Surface& out) {
  const Grid& grid = out.grid;
  const cloud::PlanTile& t = content.tile;
  const Sorted sorted(content, grid, options);
  // Tiles begin at multiples of the cell; half a cell inwards no rounding moves a bound.
  const double half = 0.5 * grid.cell;
  const int first_col = std::max(0, grid.column(t.west + half)),
            last_col = std::min(grid.columns - 1, grid.column(t.west + t.side - half)),
            first_row = std::max(0, grid.row(t.south + t.side - half)),
            last_row = std::min(grid.rows - 1, grid.row(t.south + half));
  Work work;
  std::vector<Near>& near = work.near;
  const double own2 = options.own_reach * options.own_reach, slope = options.steepest * grid.cell;
  const auto own = [&](const Near& p) { return p.distance2 <= own2; };
  for (int row = first_row; row <= last_row; ++row)
    for (int col = first_col; col <= last_col; ++col) {
      gather(sorted, grid, col, row, options.reach, near);
      if (!options.breaklines.empty()) {
        const Eigen::Vector2d middle = grid.middle(col, row);
        std::erase_if(near, [&](const Near& p) {
          return options.breaklines.between(middle, middle + grid.cell * Eigen::Vector2d(p.x, p.y));
        });
      }
      const std::size_t i = grid.at(col, row);
      if (options.kind == Kind::ground) {
        if (std::any_of(near.begin(), near.end(), own))
          out.source[i] = Source::covered;  // unless there is ground, see below
        std::erase_if(near, [](const Near& p) { return p.point_class != cloud::class_ground; });
      } else if (!options.left_out.empty()) {
        const auto gone = [&](const Near& p) {
          return std::find(options.left_out.begin(), options.left_out.end(), p.point_class) != options.left_out.end();
        };
        if (std::any_of(near.begin(), near.end(), [&](const Near& p) { return own(p) && gone(p); }))
          out.source[i] = Source::covered;  // unless others are there, likewise
        std::erase_if(near, gone);
      }
      const Near* seed = nullptr;
      if (options.kind == Kind::top) {
        seed = top_of(near, options, grid.cell);
      } else {
        for (const Near& p : near)
          if (own(p) && (!seed || p.distance2 < seed->distance2)) seed = &p;
      }
      if (!seed) continue;
      work.layer.clear();
      for (const Near& p : near)
        if (options.kind != Kind::top || one_layer(*seed, p, grid.cell, slope)) work.layer.push_back(p);
      const Height height = plane_height(work);
      const auto [begin, end] = sorted.of(col, row);
      out.z[i] = static_cast<float>(height.z), out.sigma[i] = static_cast<float>(height.sigma);
      out.points[i] = static_cast<std::uint16_t>(std::min<std::ptrdiff_t>(end - begin, 65535));
      out.source[i] = Source::measured;
    }
}

}  // namespace mesograph::surface
