#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/mesh/distance_field.hpp>
#include <optional>

namespace mesograph::mesh {

namespace {

/// Columns and cells around what photos show that the field covers as well: the surface lies between places, and its
/// noise moves it by some.
constexpr int reach = 4, above = 4;

/// Each pixel without a depth, up to so many pixels off one that has some, takes that of the nearest.
photo::Raster<float> going_on(photo::Raster<float> depth, int pixels) {
  std::vector<std::pair<int, int>> rim, next;
  for (int row = 0; row < depth.height; ++row)
    for (int col = 0; col < depth.width; ++col)
      if (std::isfinite(depth.at(col, row))) rim.emplace_back(col, row);
  for (int round = 0; round < pixels; ++round, rim.swap(next)) {
    next.clear();
    for (const auto& [col, row] : rim)
      for (const auto& [dc, dr] : {std::pair(1, 0), {-1, 0}, {0, 1}, {0, -1}}) {
        const int c = col + dc, r = row + dr;
        if (c < 0 || r < 0 || c >= depth.width || r >= depth.height || std::isfinite(depth.at(c, r))) continue;
        depth.at(c, r) = depth.at(col, row);
        next.emplace_back(c, r);
      }
  }
  return depth;
}

/// The least depth within so many pixels along both axes; NaN where there is none.
photo::Raster<float> nearest_within(photo::Raster<float> depth, int pixels) {
  std::vector<float> held;
  const auto spread = [&](float* first, int n, std::size_t step) {
    held.resize(static_cast<std::size_t>(n));
    for (int i = 0; i < n; ++i) held[static_cast<std::size_t>(i)] = first[static_cast<std::size_t>(i) * step];
    for (int i = 0; i < n; ++i) {
      float least = std::numeric_limits<float>::quiet_NaN();
      for (int k = std::max(0, i - pixels); k <= std::min(n - 1, i + pixels); ++k)
        least = std::fmin(least, held[static_cast<std::size_t>(k)]);
      first[static_cast<std::size_t>(i) * step] = least;
    }
  };
  for (int row = 0; row < depth.height; ++row) spread(&depth.at(0, row), depth.width, 1);
  for (int col = 0; col < depth.width; ++col)
    spread(&depth.at(col, 0), depth.height, static_cast<std::size_t>(depth.width));
  return depth;
}

/// How much a surface faces the photo, by its neighbours; half where there are none.
photo::Raster<std::uint8_t> facing_of(const dense::Pinhole& p, const photo::Raster<float>& depth) {
  photo::Raster<std::uint8_t> out(depth.width, depth.height, 1, 128);
  const auto X = [&](int col, int row) -> Eigen::Vector3d {
    return depth.at(col, row) * p.direction(col + 0.5, row + 0.5);
  };
  for (int row = 1; row + 1 < depth.height; ++row)
    for (int col = 1; col + 1 < depth.width; ++col) {
      if (!std::isfinite(depth.at(col, row))) continue;
      const Eigen::Vector3d n = (X(col + 1, row) - X(col - 1, row)).cross(X(col, row + 1) - X(col, row - 1)),
                            d = p.direction(col + 0.5, row + 0.5);
      if (const double cosine = std::abs(n.dot(d)) / (n.norm() * d.norm()); std::isfinite(cosine))
        out.at(col, row) = static_cast<std::uint8_t>(std::lround(255 * cosine));
    }
  return out;
}

}  // namespace

Sheet::Sheet(const dense::Pinhole& p, photo::Raster<float> depths, photo::Raster<float> sigmas)
    : pinhole(p),
      depth(std::move(depths)),
      sigma(std::move(sigmas)),
      beyond(going_on(depth, gap)),
      facing(facing_of(p, depth)),
      nearest(nearest_within(depth, gap)) {}

namespace {

/// What was said of a place so far.
struct Heard {
  float near = 0, distance = 0, variance = 0, empty = 0, hidden = 0;
  float guess = 0, guessed_distance = 0;  ///< of what goes on into gaps
  /// Photos that have it near, find it empty, have something before it, and show nothing where they look.
  int photos = 0, empties = 0, hides = 0, nothings = 0;
};

/// Takes in what one sheet says of the places of a column.
void hear(const Eigen::Vector3d& X, const Sheet& sheet, const FieldOptions& options, std::vector<Heard>& heard) {
  const dense::Pinhole& p = sheet.pinhole;
  // In the camera's frame the column is a line.
  const Eigen::Vector3d first = p.R.transpose() * (X - p.C), step = options.cell * p.R.row(2).transpose();
  const double band = options.band * options.cell, usual = 0.5 * options.cell;
  for (std::size_t k = 0; k < heard.size(); ++k) {
    const Eigen::Vector3d v = first + static_cast<double>(k) * step;
    const double depth = -v.z();
    if (!(depth > 0)) continue;
    const Eigen::Vector2d x(p.x0 + p.c * v.x() / depth, p.y0 - p.c * v.y() / depth);
    if (!p.inside(x, 0)) continue;
    const int col = static_cast<int>(x.x()), row = static_cast<int>(x.y());
    double shown = dense::depth_at(sheet.depth, x, 3 * depth / p.c);
    const bool gap = !std::isfinite(shown);
    Heard& h = heard[k];
    if (gap) shown = sheet.beyond.at(col, row);
    if (!std::isfinite(shown)) {
      ++h.nothings;
      continue;
    }
    constexpr double least_facing = 0.2;  // beyond, slopes are as uncertain as they are steep
    const double cosine = gap ? 0.5 : std::max(least_facing, sheet.facing.at(col, row) / 255.0);
    const double along = v.norm() / depth, ray = (shown - depth) * along;
    // Across the surface, as long as the way along the ray is not so much longer that the surface may have bent away.
    constexpr double longest = 2;
    const double before = std::abs(ray) > longest * band ? ray : ray * cosine;
    const double sigma = gap ? 0 : sheet.sigma.at(col, row) * along;
    const double reaches = std::max(band, 3 * sigma);
    const double weight = gap ? options.gap_weight : cosine * cosine * usual * usual / (usual * usual + sigma * sigma);
    if (before > reaches) {
      if (gap && !((sheet.nearest.at(col, row) - depth) * along > reaches)) continue;  // something may end here
      h.empty += static_cast<float>(weight), ++h.empties;
    } else if (before < -reaches) {
      h.hidden += static_cast<float>(options.hidden_weight * weight), ++h.hides;
    } else {
      const double w = weight * (before < 0 ? 1 + before / reaches : 1);
      if (gap) {
        h.guess += static_cast<float>(w), h.guessed_distance += static_cast<float>(w * before);
      } else {
        h.near += static_cast<float>(w), h.distance += static_cast<float>(w * before);
        h.variance += static_cast<float>(w * sigma * sigma);
        ++h.photos;
      }
    }
  }
}

/// Where nothing is near: whether a place is empty; nothing where nobody knows. One photo against two that have
/// something before it errs; and what is hidden from fewer photos than look there and see nothing, as against the sky,
/// is not known to be full.
std::optional<bool> is_empty(const Heard& h) {
  if (h.empty > h.hidden && (h.empties > 1 || h.hides < 2)) return true;
  if (h.hides > h.nothings) return false;
  return std::nullopt;
}

}  // namespace

std::vector<Said> ask(const Eigen::Vector3d& X, int n, const std::vector<const Sheet*>& sheets,
                      const FieldOptions& options) {
  std::vector<Heard> heard(static_cast<std::size_t>(n));
  for (const Sheet* sheet : sheets) hear(X, *sheet, options, heard);
  std::vector<Said> out(heard.size());
  const auto band = static_cast<float>(options.band * options.cell);
  for (std::size_t k = 0; k < out.size(); ++k) {
    const Heard& h = heard[k];
    if (h.near > 0 && h.near >= h.empty)
      // As in fused clouds: photos share much of what they see, and a good part of the variance is each one's own.
      out[k] = {h.distance / h.near,
                std::sqrt(std::min(1.0F, 0.25F + 1.0F / static_cast<float>(h.photos)) * h.variance / h.near)};
    else if (h.guess > 0 && h.guess >= h.empty)
      out[k].distance = h.guessed_distance / h.guess;
    else if (const auto empty = is_empty(h))
      out[k].distance = *empty ? band : -band;
  }
  return out;
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
