#include <Eigen/QR>
#include <algorithm>
#include <cmath>
#include <functional>
#include <mesograph/base/median.hpp>
#include <mesograph/dense/depth_range.hpp>

namespace mesograph::dense {

namespace {

/// A place of the surface, roughly: image point and inverse depth.
struct Sample {
  double x, y, w;
};

/// The plane through the samples but for those far off it: huts on the ground, wrong matches.
InversePlane plane_through(std::vector<Sample> samples) {
  constexpr std::size_t least = 12;
  InversePlane plane;
  for (int round = 0; round < 3; ++round) {
    if (samples.size() < least) {
      std::vector<double> w;
      for (const Sample& s : samples) w.push_back(s.w);
      if (round == 0) plane = {median(std::move(w)), 0, 0};
      return plane;
    }
    Eigen::MatrixX3d A(samples.size(), 3);
    Eigen::VectorXd w(samples.size());
    const Sample& first = samples.front();
    for (Eigen::Index i = 0; i < A.rows(); ++i) {
      const Sample& s = samples[static_cast<std::size_t>(i)];
      A.row(i) << 1, s.x - first.x, s.y - first.y;
      w[i] = s.w;
    }
    const Eigen::Vector3d fit = A.colPivHouseholderQr().solve(w);
    plane = {fit[0] - fit[1] * first.x - fit[2] * first.y, fit[1], fit[2]};
    std::vector<double> off;
    for (const Sample& s : samples) off.push_back(std::abs(s.w - plane.at(s.x, s.y)));
    const double limit = 2.5 * median(std::move(off));
    samples.erase(std::remove_if(samples.begin(), samples.end(),
                                 [&](const Sample& s) { return std::abs(s.w - plane.at(s.x, s.y)) > limit; }),
                  samples.end());
  }
  return plane;
}

/// Labels about a plane from `trimmed` of them to all but as many, and `pad(span)` beyond.
Search search_about(const InversePlane& plane, const std::vector<Sample>& samples, double trimmed, double step,
                    int most_labels, const std::function<double(double)>& pad) {
  Search out;
  out.plane = plane;
  std::vector<double> off;
  for (const Sample& s : samples) off.push_back(s.w - out.plane.at(s.x, s.y));
  std::sort(off.begin(), off.end());
  const auto range = [&](double share) {
    const auto cut = static_cast<std::size_t>(share * static_cast<double>(off.size()));
    const double low = off[cut], high = off[off.size() - 1 - cut], more = pad(high - low);
    return std::pair(static_cast<int>(std::floor((low - more) / step)),
                     static_cast<int>(std::ceil((high + more) / step)));
  };
  auto [low, high] = range(trimmed);
  if (high - low >= most_labels) std::tie(low, high) = range(0.05);
  if (high - low >= most_labels) low = -most_labels / 2, high = low + most_labels - 1;
  out.plane.constant += low * step;
  out.labels = high - low + 1;
  return out;
}

/// The plane that slopes as the coarser surface does at most of its pixels: where it jumps, as one of its sides, and
/// not from one to the other.
InversePlane plane_along(const photo::Raster<float>& coarser, const std::vector<Sample>& samples) {
  constexpr int reach = 2;
  const auto inverse = [&](int col, int row) {
    return col >= 0 && row >= 0 && col < coarser.width && row < coarser.height
               ? 1 / coarser.at(col, row)
               : std::numeric_limits<float>::quiet_NaN();
  };
  std::vector<double> across, down, level;
  for (const Sample& s : samples) {
    const int col = static_cast<int>(s.x / 2), row = static_cast<int>(s.y / 2);
    const double dx = inverse(col + reach, row) - inverse(col - reach, row),
                 dy = inverse(col, row + reach) - inverse(col, row - reach);
    if (std::isfinite(dx)) across.push_back(dx / (4 * reach));
    if (std::isfinite(dy)) down.push_back(dy / (4 * reach));
  }
  constexpr std::size_t least = 30;  // fewer say too little: the plane faces the photo
  InversePlane out;
  if (across.size() >= least && down.size() >= least) out = {0, median(across), median(down)};
  for (const Sample& s : samples) level.push_back(s.w - out.at(s.x, s.y));
  out.constant = median(level);
  return out;
}

}  // namespace

Search search_by_hints(const std::vector<GroundHint>& ground, const Tile& tile, double scale, double step,
                       const DepthOptions& options) {
  std::vector<Sample> samples;
  for (const double reach : {1.0, 3.0, 1e6}) {
    samples.clear();
    for (const GroundHint& hint : ground) {
      const double x = hint.x.x() * scale, y = hint.x.y() * scale;
      if (x > tile.col - reach * tile.width && x < tile.col + (1 + reach) * tile.width &&
          y > tile.row - reach * tile.height && y < tile.row + (1 + reach) * tile.height && hint.depth > 0)
        samples.push_back({x, y, 1 / hint.depth});
    }
    if (samples.size() >= 10) break;
  }
  if (samples.empty()) return {};
  const double here = samples[samples.size() / 2].w;
  // Up to one in a hundred points may be wrong; their depths do not stretch the range.
  return search_about(plane_through(samples), samples, 0.01, step, options.most_labels,
                      [&](double span) { return options.pad * here + options.pad_of_span * span; });
}

Search search_by_coarser(const photo::Raster<float>& coarser, const Tile& tile, double step,
                         const DepthOptions& options) {
  std::vector<Sample> samples;
  for (const int beyond : {3, options.tile / 4}) {
    samples.clear();
    for (int row = std::max(0, tile.row / 2 - beyond);
         row < std::min(coarser.height, (tile.row + tile.height) / 2 + beyond); ++row)
      for (int col = std::max(0, tile.col / 2 - beyond);
           col < std::min(coarser.width, (tile.col + tile.width) / 2 + beyond); ++col)
        if (const float depth = coarser.at(col, row); depth > 0)
          samples.push_back({2 * col + 1.0, 2 * row + 1.0, 1 / static_cast<double>(depth)});
    if (samples.size() >= 20) break;
  }
  if (samples.empty()) return {};
  return search_about(plane_along(coarser, samples), samples, 0, step, options.most_labels,
                      [&](double) { return options.pad_labels * step; });
}

}  // namespace mesograph::dense
