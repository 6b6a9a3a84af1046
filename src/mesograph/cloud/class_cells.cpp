#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/class_cells.hpp>

namespace mesograph::cloud {

int ClassCells::cells(double metres) const { return std::max(1, static_cast<int>(std::lround(metres / top.cell))); }

ClassCells class_cells(const std::vector<TilePoint>& points, const Terrain& terrain) {
  ClassCells out;
  out.sigma = usual_sigma(points);
  HeightGrid empty = terrain.surface;
  std::fill(empty.z.begin(), empty.z.end(), nan);
  out.ground = terrain.surface, out.top = empty, out.floor = empty;
  out.standing = cell_colours(points, empty, terrain.words, class_other);
  out.lying = cell_colours(points, empty, terrain.words, class_ground);
  std::vector<std::uint32_t> several(out.size(), 0);
  out.stand.assign(out.size(), 0);
  out.count.assign(out.size(), 0);
  for (std::size_t i = 0; i < points.size(); ++i) {
    const TilePoint& p = points[i];
    const std::size_t cell = out.top.index_of(p.X);
    ++out.count[cell];
    if (terrain.words[i] == class_ground) {
      if (double& z = out.floor.z[cell]; !(z <= p.X.z())) z = p.X.z();
    } else {
      if (double& z = out.top.z[cell]; !(z >= p.X.z())) z = p.X.z();
      ++out.stand[cell];
      several[cell] += p.returns > 1 ? 1 : 0;
    }
  }
  for (std::size_t i = 0; i < out.size(); ++i)
    out.echoes.push_back(out.stand[i] > 0 ? static_cast<float>(several[i]) / static_cast<float>(out.stand[i]) : 0);
  std::vector<double> filled;
  for (const std::uint32_t n : out.count)
    if (n > 0) filled.push_back(n);
  if (!filled.empty()) out.usual_count = median(std::move(filled));
  return out;
}

double split_of(const std::vector<float>& values, double least_share) {
  if (values.size() < 50) return nan;
  const auto [low, high] = std::minmax_element(values.begin(), values.end());
  constexpr int bins = 128;
  const double from = *low, width = (*high - from) / bins;
  if (!(width > 0)) return nan;
  std::array<double, bins> n{};
  for (const float v : values)
    ++n[static_cast<std::size_t>(std::clamp(static_cast<int>((v - from) / width), 0, bins - 1))];
  double all = 0, sum = 0, square = 0;
  for (int b = 0; b < bins; ++b) {
    const double count = n[static_cast<std::size_t>(b)], x = b + 0.5;
    all += count, sum += count * x, square += count * x * x;
  }
  const double variance = square / all - sum / all * (sum / all);
  double best = 0, at = nan, before = 0, before_sum = 0;
  for (int b = 0; b + 1 < bins; ++b) {
    before += n[static_cast<std::size_t>(b)], before_sum += n[static_cast<std::size_t>(b)] * (b + 0.5);
    if (before == 0 || before == all) continue;
    const double apart = before_sum / before - (sum - before_sum) / (all - before);
    const double between = before / all * (1 - before / all) * apart * apart;
    if (between > best) best = between, at = from + (b + 1) * width;
  }
  return best >= least_share * variance ? at : nan;
}

}  // namespace mesograph::cloud
