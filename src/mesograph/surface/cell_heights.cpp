#include <Eigen/Cholesky>
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
  double x, y, z, sigma, block, distance;
  bool ground;
};

/// Whether two points may lie on one layer.
bool one_layer(const Near& a, const Near& b, double cell, double steepest) {
  const double apart = cell * std::hypot(a.x - b.x, a.y - b.y);
  return std::abs(a.z - b.z) <= steepest * apart + 3 * std::max(a.sigma, b.sigma) + 0.05 * cell;
}

/// The point that says which layer a cell has: of those near its middle the highest that others of it confirm.
const Near* top_of(const std::vector<Near>& near, const CellOptions& options, double cell) {
  const Near* best = nullptr;
  int best_support = 0;
  const int enough = std::min<int>(3, static_cast<int>(near.size()));
  // Of the middle half of the cell where anything lies there: what only touches the cell is its neighbour's.
  constexpr double inner = 0.5;
  const bool any = std::any_of(near.begin(), near.end(), [&](const Near& p) { return p.distance <= inner; });
  const double reach = any ? inner : options.own_reach;
  for (const Near& p : near) {
    if (p.distance > reach || (best && best_support >= enough && p.z <= best->z)) continue;
    int support = 0;
    for (const Near& q : near) support += one_layer(p, q, cell, options.steepest);
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

/// Plane through points, at the middle.
Height plane_height(const std::vector<Near>& layer) {
  double least = INFINITY, mean_variance = 0;
  for (const Near& p : layer)
    if (p.sigma > 0) least = std::min(least, p.sigma);
  if (!std::isfinite(least)) least = 1;
  std::vector<double> weight(layer.size());
  std::vector<double> residual(layer.size(), 0.0);
  Eigen::Vector3d plane(0, 0, 0);
  double scale = INFINITY, spread = 0, one = 0, total = 0;
  for (int round = 0; round < 3; ++round) {
    Eigen::Matrix3d n = Eigen::Matrix3d::Zero();
    Eigen::Vector3d right = Eigen::Vector3d::Zero();
    total = 0, one = 0;
    for (std::size_t i = 0; i < layer.size(); ++i) {
      const Near& p = layer[i];
      const double sigma = std::max(p.sigma, least),
                   huber = std::min(1.0, 1.5 * scale / std::max(1e-12, std::abs(residual[i])));
      weight[i] = std::exp(-p.distance * p.distance) / (sigma * sigma) * (round == 0 ? 1.0 : huber);
      const Eigen::Vector3d a(1, p.x, p.y);
      n += weight[i] * a * a.transpose(), right += weight[i] * p.z * a;
      total += weight[i], one += weight[i] * weight[i];
    }
    // Points on one side, or on a line, say little of the slope: then it is that of a level plane.
    n(1, 1) += 0.02 * total, n(2, 2) += 0.02 * total;
    const double level = right[0] / total;
    right -= level * n.col(0);
    plane = n.ldlt().solve(right);
    plane[0] += level;
    spread = 0;
    std::vector<double> off(layer.size());
    for (std::size_t i = 0; i < layer.size(); ++i) {
      const Near& p = layer[i];
      residual[i] = p.z - plane[0] - plane[1] * p.x - plane[2] * p.y;
      off[i] = std::abs(residual[i]);
      spread += weight[i] * residual[i] * residual[i];
    }
    spread /= total;
    std::nth_element(off.begin(), off.begin() + static_cast<std::ptrdiff_t>(off.size() / 2), off.end());
    scale = std::max(1.5 * off[off.size() / 2], 0.3 * least);
  }
  double block = 0;
  for (std::size_t i = 0; i < layer.size(); ++i) {
    mean_variance += weight[i] * (std::pow(layer[i].sigma, 2) - std::pow(layer[i].block, 2)) / total;
    block += weight[i] * std::pow(layer[i].block, 2) / total;
  }
  // Neighbours see the same texture through the same photos: half of the variance is common to them, and all that the
  // block has.
  constexpr double common = 0.5;
  const double share = one / (total * total);
  const double variance = block + mean_variance * (common + (1 - common) * share) + spread * share;
  return {plane[0], std::sqrt(variance)};
}

void gather(const Sorted& sorted, const Grid& grid, int col, int row, double reach, std::vector<Near>& near) {
  const Eigen::Vector2d middle = grid.middle(col, row);
  const int cells = static_cast<int>(std::ceil(reach - 0.5));
  near.clear();
  for (int r = row - cells; r <= row + cells; ++r)
    for (int c = col - cells; c <= col + cells; ++c) {
      const auto [begin, end] = sorted.of(c, r);
      for (auto p = begin; p != end; ++p) {
        const double x = ((*p)->X.x() - middle.x()) / grid.cell, y = ((*p)->X.y() - middle.y()) / grid.cell;
        const double distance = std::hypot(x, y);
        if (distance <= reach)
          near.push_back(
              {x, y, (*p)->X.z(), (*p)->sigma, (*p)->block, distance, (*p)->point_class == cloud::class_ground});
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
  std::vector<Near> near, layer;
  for (int row = first_row; row <= last_row; ++row)
    for (int col = first_col; col <= last_col; ++col) {
      gather(sorted, grid, col, row, options.reach, near);
      const std::size_t i = grid.at(col, row);
      if (options.kind == Kind::ground) {
        if (std::any_of(near.begin(), near.end(), [&](const Near& p) { return p.distance <= options.own_reach; }))
          out.source[i] = Source::covered;  // unless there is ground, see below
        std::erase_if(near, [](const Near& p) { return !p.ground; });
      }
      const Near* seed = nullptr;
      if (options.kind == Kind::top) {
        seed = top_of(near, options, grid.cell);
      } else {
        for (const Near& p : near)
          if (p.distance <= options.own_reach && (!seed || p.distance < seed->distance)) seed = &p;
      }
      if (!seed) continue;
      layer.clear();
      for (const Near& p : near)
        if (options.kind != Kind::top || one_layer(*seed, p, grid.cell, options.steepest)) layer.push_back(p);
      const Height height = plane_height(layer);
      const auto [begin, end] = sorted.of(col, row);
      out.z[i] = static_cast<float>(height.z), out.sigma[i] = static_cast<float>(height.sigma);
      out.points[i] = static_cast<std::uint16_t>(std::min<std::ptrdiff_t>(end - begin, 65535));
      out.source[i] = Source::measured;
    }
}

}  // namespace mesograph::surface
