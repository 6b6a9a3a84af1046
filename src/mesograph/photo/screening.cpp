#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/photo/screening.hpp>

namespace mesograph::photo {

Quality assess(const Grey& g) {
  double sum = 0, squares = 0, laplacian = 0;
  std::size_t over = 0, under = 0, inner = 0;
  for (int row = 0; row < g.height; ++row)
    for (int col = 0; col < g.width; ++col) {
      const double value = g.at(col, row);
      sum += value;
      squares += value * value;
      over += value >= 250;
      under += value <= 5;
      if (row == 0 || col == 0 || row + 1 == g.height || col + 1 == g.width) continue;
      const double l = 4 * value - g.at(col - 1, row) - g.at(col + 1, row) - g.at(col, row - 1) - g.at(col, row + 1);
      laplacian += l * l;
      ++inner;
    }
  const double n = static_cast<double>(g.data.size());
  const double variance = std::max(1.0, squares / n - (sum / n) * (sum / n));
  return {laplacian / static_cast<double>(std::max<std::size_t>(1, inner)) / variance, static_cast<double>(over) / n,
          static_cast<double>(under) / n};
}

namespace {

/// Height below which photos were taken during take-off or landing; -infinity where there are none.
double take_off_height(std::vector<double> heights, const ScreeningOptions& options) {
  std::sort(heights.begin(), heights.end());
  const std::size_t most = static_cast<std::size_t>(options.most_take_off * static_cast<double>(heights.size()));
  double bound = -std::numeric_limits<double>::infinity();
  for (std::size_t i = 1; i <= most && i < heights.size(); ++i)
    if (heights[i] - heights[i - 1] > options.take_off_gap) bound = heights[i];
  return bound;
}

}  // namespace

std::vector<ScreenedOut> screen(const std::vector<ScreeningInput>& sortie, const ScreeningOptions& options) {
  std::vector<double> sharpness, heights;
  for (const auto& photo : sortie) {
    sharpness.push_back(photo.quality.sharpness);
    if (std::isfinite(photo.up)) heights.push_back(photo.up);
  }
  const double usual_sharpness = median(sharpness);
  const double flying_from = take_off_height(heights, options);

  std::vector<ScreenedOut> out;
  for (const auto& photo : sortie) {
    const double relative = photo.quality.sharpness / usual_sharpness;
    if (photo.quality.overexposed > options.most_overexposed)
      out.push_back({photo.image, "over-exposed", photo.quality.overexposed});
    else if (photo.quality.underexposed > options.most_underexposed)
      out.push_back({photo.image, "under-exposed", photo.quality.underexposed});
    else if (photo.up < flying_from)
      out.push_back({photo.image, "take-off or landing", flying_from - photo.up});
    else if (relative < options.least_relative_sharpness && sortie.size() >= 3)
      out.push_back({photo.image, "blurred", relative});
  }
  return out;
}

}  // namespace mesograph::photo
