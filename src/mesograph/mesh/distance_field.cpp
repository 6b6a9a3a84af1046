#include <algorithm>
#include <cmath>
#include <functional>
#include <mesograph/base/errors.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/mesh/distance_field.hpp>

namespace mesograph::mesh {

namespace {

/// Columns and cells around what photos show that the field covers as well: the surface lies between places, and its
/// noise moves it by some.
constexpr int reach = 4, above = 4;

/// Least (or greatest) of a row's values within `gap` of each, NaN left out. `step`: between values.
template <typename Better>
void spread_along(float* row, int n, std::size_t step, const Better& better, std::vector<float>& held) {
  held.resize(static_cast<std::size_t>(n));
  for (int i = 0; i < n; ++i) held[static_cast<std::size_t>(i)] = row[static_cast<std::size_t>(i) * step];
  for (int i = 0; i < n; ++i) {
    float best = held[static_cast<std::size_t>(i)];
    for (int k = std::max(0, i - Sheet::gap); k <= std::min(n - 1, i + Sheet::gap); ++k) {
      const float value = held[static_cast<std::size_t>(k)];
      if (std::isnan(best) || better(value, best)) best = value;
    }
    row[static_cast<std::size_t>(i) * step] = best;
  }
}
template <typename Better>
photo::Raster<float> spread(photo::Raster<float> depth, const Better& better) {
  std::vector<float> held;
  for (int row = 0; row < depth.height; ++row) spread_along(&depth.at(0, row), depth.width, 1, better, held);
  for (int col = 0; col < depth.width; ++col)
    spread_along(&depth.at(col, 0), depth.height, static_cast<std::size_t>(depth.width), better, held);
  return depth;
}

}  // namespace

Sheet::Sheet(const dense::Pinhole& p, photo::Raster<float> depths, photo::Raster<float> sigmas)
    : pinhole(p),
      depth(std::move(depths)),
      sigma(std::move(sigmas)),
      nearest(mesh::spread(depth, std::less<>())),
      farthest(mesh::spread(depth, std::greater<>())) {}

Said ask(const Eigen::Vector3d& X, const std::vector<const Sheet*>& sheets, const FieldOptions& options) {
  const double band = options.band * options.cell, usual = 0.5 * options.cell;
  double near = 0, distance = 0, variance = 0, empty = 0, hidden = 0;
  for (const Sheet* sheet : sheets) {
    const dense::Pinhole& p = sheet->pinhole;
    const Eigen::Vector2d x = p.project(X);
    if (!x.allFinite() || !p.inside(x, 0)) continue;
    const double depth = p.depth(X), along = (X - p.C).norm() / depth;
    const double shown = dense::depth_at(sheet->depth, x, 3 * depth / p.c);
    if (!std::isfinite(shown)) {
      const int col = static_cast<int>(x.x()), row = static_cast<int>(x.y());
      if ((sheet->nearest.at(col, row) - depth) * along > band)
        empty += options.gap_weight;
      else if ((sheet->farthest.at(col, row) - depth) * along < -band)
        hidden += options.gap_weight * options.hidden_weight;
      continue;
    }
    const double before = (shown - depth) * along;
    const double sigma = sheet->sigma.at(static_cast<int>(x.x()), static_cast<int>(x.y())) * along;
    const double reaches = std::max(band, 3 * sigma);
    const double weight = usual * usual / (usual * usual + sigma * sigma);
    if (before > reaches) {
      empty += weight;
    } else if (before < -reaches) {
      hidden += options.hidden_weight * weight;
    } else {
      const double w = weight * (before < 0 ? 1 + before / reaches : 1);
      near += w, distance += w * before, variance += w * sigma * sigma;
    }
  }
  if (near > 0 && near >= empty)
    return {static_cast<float>(distance / near), static_cast<float>(std::sqrt(variance / near))};
  if (empty > 0 || hidden > 0)
    return {static_cast<float>(empty > hidden ? band : -band), std::numeric_limits<float>::quiet_NaN()};
  return {};
}

ColumnRanges::ColumnRanges(const Eigen::AlignedBox2d& box, double cell) : cell_(cell), box_(box) {
  first_col_ = static_cast<int>(std::floor(box.min().x() / cell)) - reach;
  first_row_ = static_cast<int>(std::floor(box.min().y() / cell)) - reach;
  columns_ = static_cast<int>(std::ceil(box.max().x() / cell)) + reach + 1 - first_col_;
  rows_ = static_cast<int>(std::ceil(box.max().y() / cell)) + reach + 1 - first_row_;
  constexpr double most = 4e9;
  if (static_cast<double>(columns_) * rows_ > most)
    throw Error("mesh: {} x {} columns of {:g} m; take larger cells or a part of the site", columns_, rows_, cell);
  ranges_.resize(static_cast<std::size_t>(columns_) * rows_);
}

void ColumnRanges::add(const Sheet& sheet) {
  const dense::Pinhole& p = sheet.pinhole;
  for (int row = 0; row < sheet.depth.height; ++row)
    for (int col = 0; col < sheet.depth.width; ++col) {
      const float depth = sheet.depth.at(col, row);
      if (!std::isfinite(depth)) continue;
      const Eigen::Vector3d X = p.C + depth * p.direction(col + 0.5, row + 0.5);
      if (!box_.contains(X.head<2>())) continue;
      const Eigen::Vector3i k = (X / cell_).array().floor().cast<int>();
      ranges_[static_cast<std::size_t>(k.y() - first_row_) * columns_ + (k.x() - first_col_)].extend({k.z(), k.z()});
    }
}

void ColumnRanges::spread() {
  std::vector<Range> held;
  const auto along = [&](std::size_t first, int n, std::size_t step) {
    held.assign(static_cast<std::size_t>(n), Range());
    for (int i = 0; i < n; ++i)
      for (int k = std::max(0, i - reach); k <= std::min(n - 1, i + reach); ++k)
        held[static_cast<std::size_t>(i)].extend(ranges_[first + static_cast<std::size_t>(k) * step]);
    for (int i = 0; i < n; ++i) ranges_[first + static_cast<std::size_t>(i) * step] = held[static_cast<std::size_t>(i)];
  };
  const auto across = static_cast<std::size_t>(columns_);
  for (int row = 0; row < rows_; ++row) along(static_cast<std::size_t>(row) * across, columns_, 1);
  for (int col = 0; col < columns_; ++col) along(static_cast<std::size_t>(col), rows_, across);
  for (Range& r : ranges_)
    if (!r.empty()) r.low -= above - 1, r.high += above;
}

}  // namespace mesograph::mesh
