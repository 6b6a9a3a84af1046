#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
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
    const Eigen::Vector3d fit = least_squares(A, w).x;
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

/// The values but for the lowest and highest `share` of them.
std::pair<double, double> range_of(std::vector<double> values, double share) {
  std::sort(values.begin(), values.end());
  const auto cut = static_cast<std::size_t>(share * static_cast<double>(values.size()));
  return {values[cut], values[values.size() - 1 - cut]};
}

/// Labels within `pad` of those at which samples lie; a gap stands for what is left out.
std::vector<int> labels_about(const std::vector<double>& off, double step, int pad) {
  std::vector<int> at;
  for (const double v : off) at.push_back(static_cast<int>(std::lround(v / step)));
  std::sort(at.begin(), at.end());
  std::vector<int> out;
  for (const int k : at) {
    const int first = out.empty() ? k - pad : std::max(k - pad, out.back() + 1);
    if (!out.empty() && first > out.back() + 1) out.push_back(CostTile::gap);
    for (int label = first; label <= k + pad; ++label) out.push_back(label);
  }
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

namespace {

/// Tie points in a tile and about it, as far out as it takes to have some.
std::vector<Sample> samples_about(const std::vector<GroundHint>& ground, const Tile& tile, double scale) {
  constexpr std::size_t enough = 10;
  std::vector<Sample> out;
  for (const double reach : {1.0, 3.0, 1e6}) {
    out.clear();
    for (const GroundHint& hint : ground) {
      const double x = hint.x.x() * scale, y = hint.x.y() * scale;
      if (x > tile.col - reach * tile.width && x < tile.col + (1 + reach) * tile.width &&
          y > tile.row - reach * tile.height && y < tile.row + (1 + reach) * tile.height && hint.depth > 0)
        out.push_back({x, y, 1 / hint.depth});
    }
    if (out.size() >= enough) break;
  }
  return out;
}

/// Least and largest inverse depth of a plane in a tile.
std::pair<double, double> range_in(const InversePlane& plane, const Tile& tile) {
  const double at[] = {plane.at(tile.col, tile.row), plane.at(tile.col + tile.width, tile.row),
                       plane.at(tile.col, tile.row + tile.height),
                       plane.at(tile.col + tile.width, tile.row + tile.height)};
  const auto [least, most] = std::minmax_element(std::begin(at), std::end(at));
  return {*least, *most};
}

/// Whether samples lie much nearer to a plane than to what faces the photo: they are of one thing and not of several.
bool lie_on(const InversePlane& plane, const std::vector<Sample>& samples, double usual) {
  std::vector<double> off, level;
  for (const Sample& s : samples) {
    off.push_back(std::abs(s.w - plane.at(s.x, s.y)));
    level.push_back(std::abs(s.w - usual));
  }
  return median(std::move(off)) <= 0.5 * median(std::move(level));
}

}  // namespace

Search search_by_hints(const std::vector<GroundHint>& ground, const Tile& tile, double scale, double step,
                       const DepthOptions& options) {
  const std::vector<Sample> samples = samples_about(ground, tile, scale);
  if (samples.empty()) return {};
  std::vector<double> all, here;
  for (const GroundHint& hint : ground)
    if (hint.depth > 0) all.push_back(1 / hint.depth);
  for (const Sample& s : samples) here.push_back(s.w);
  const double usual = median(std::move(here));
  // Up to one in a hundred points may be wrong; their depths do not stretch the range.
  const auto [low, high] = range_of(std::move(all), 0.01);
  const double span = high - low, farthest = low - options.pad * usual - options.pad_of_span * span,
               nearest = high + options.pad_nearer * usual + (options.pad_of_span + options.nearer_of_span) * span;
  Search out;
  out.plane = plane_through(samples);
  auto [least, most] = range_in(out.plane, tile);
  if (least < farthest || most > nearest || !lie_on(out.plane, samples, usual)) {
    out.plane = {usual, 0, 0};
    least = most = usual;
  }
  auto first = static_cast<int>(std::floor((farthest - most) / step)),
       last = static_cast<int>(std::ceil((nearest - least) / step));
  if (last - first >= options.most_labels) {  // as many about the plane
    first = std::clamp(-options.most_labels / 2, first, last - options.most_labels + 1);
    last = first + options.most_labels - 1;
  }
  for (int label = first; label <= last; ++label) out.labels.push_back(label);
  return out;
}

Search search_by_coarser(const photo::Raster<float>& coarser, const Tile& tile, double step,
                         const DepthOptions& options) {
  std::vector<Sample> samples;
  for (const int margin : {3, options.tile / 4}) {
    samples.clear();
    for (int row = std::max(0, tile.row / 2 - margin);
         row < std::min(coarser.height, (tile.row + tile.height) / 2 + margin); ++row)
      for (int col = std::max(0, tile.col / 2 - margin);
           col < std::min(coarser.width, (tile.col + tile.width) / 2 + margin); ++col)
        if (const float depth = coarser.at(col, row); depth > 0)
          samples.push_back({2 * col + 1.0, 2 * row + 1.0, 1 / static_cast<double>(depth)});
    if (samples.size() >= 20) break;
  }
  if (samples.empty()) return {};
  Search out;
  out.plane = plane_along(coarser, samples);
  std::vector<double> off;
  for (const Sample& s : samples) off.push_back(s.w - out.plane.at(s.x, s.y));
  out.labels = labels_about(off, step, options.pad_labels);
  if (static_cast<int>(out.labels.size()) > options.most_labels) {
    const auto [low, high] = range_of(off, 0.05);
    std::erase_if(off, [&, low = low, high = high](double v) { return v < low || v > high; });
    out.labels = labels_about(off, step, options.pad_labels);
  }
  if (static_cast<int>(out.labels.size()) > options.most_labels) {
    out.labels.resize(options.most_labels);
    if (out.labels.back() == CostTile::gap) out.labels.pop_back();
  }
  return out;
}

}  // namespace mesograph::dense
