#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/stages/sharpness.hpp>

namespace mesograph::stages {

std::vector<double> relative_sharpness(const std::vector<const survey::Photo*>& photos) {
  constexpr std::ptrdiff_t around = 4;
  const auto n = static_cast<std::ptrdiff_t>(photos.size());
  std::vector<double> out(photos.size(), 1);
  for (std::ptrdiff_t i = 0; i < n; ++i) {
    std::vector<double> others;
    for (std::ptrdiff_t j = std::max<std::ptrdiff_t>(0, i - around); j <= std::min(n - 1, i + around); ++j) {
      const survey::Photo &one = *photos[static_cast<std::size_t>(i)], &other = *photos[static_cast<std::size_t>(j)];
      if (other.sortie == one.sortie && std::isfinite(other.quality.sharpness))
        others.push_back(other.quality.sharpness);
    }
    const double own = photos[static_cast<std::size_t>(i)]->quality.sharpness;
    // It is a square of levels; what texture changes of it from photo to photo does not count.
    constexpr double usual = 0.8;
    if (others.size() > 2 && std::isfinite(own))
      out[static_cast<std::size_t>(i)] = std::min(1.0, std::sqrt(own / median(std::move(others))) / usual);
  }
  return out;
}

}  // namespace mesograph::stages
