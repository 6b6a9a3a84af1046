#include <algorithm>
#include <cmath>
#include <mesograph/surface/breaklines.hpp>

namespace mesograph::surface {

namespace {

double side_of(const Eigen::Vector2d& a, const Eigen::Vector2d& b, const Eigen::Vector2d& p) {
  return (b.x() - a.x()) * (p.y() - a.y()) - (b.y() - a.y()) * (p.x() - a.x());
}

}  // namespace

Breaklines::Square Breaklines::square(const Eigen::Vector2d& at) const {
  return {static_cast<std::int64_t>(std::floor(at.x() / side_)), static_cast<std::int64_t>(std::floor(at.y() / side_))};
}

Breaklines::Breaklines(const std::vector<std::vector<Eigen::Vector2d>>& lines, double cell) : side_(4 * cell) {
  for (const auto& line : lines)
    for (std::size_t k = 1; k < line.size(); ++k) {
      // In pieces no longer than a square, so that each stands in few of them.
      const Eigen::Vector2d along = line[k] - line[k - 1];
      const int pieces = std::max(1, static_cast<int>(std::ceil(along.norm() / side_)));
      for (int i = 0; i < pieces; ++i) {
        const Eigen::Vector2d a = line[k - 1] + along * (static_cast<double>(i) / pieces),
                              b = line[k - 1] + along * (static_cast<double>(i + 1) / pieces);
        const Square low = square(a.cwiseMin(b)), high = square(a.cwiseMax(b));
        for (std::int64_t x = low.first; x <= high.first; ++x)
          for (std::int64_t y = low.second; y <= high.second; ++y) squares_[{x, y}].push_back(segments_.size());
        segments_.emplace_back(a, b);
      }
    }
}

bool Breaklines::between(const Eigen::Vector2d& a, const Eigen::Vector2d& b) const {
  const Square low = square(a.cwiseMin(b)), high = square(a.cwiseMax(b));
  for (std::int64_t x = low.first; x <= high.first; ++x)
    for (std::int64_t y = low.second; y <= high.second; ++y) {
      const auto found = squares_.find({x, y});
      if (found == squares_.end()) continue;
      for (const std::size_t i : found->second) {
        const auto& [p, q] = segments_[i];
        // Ends of the pieces belong to one of them alone, so that a way through a joint crosses once.
        const bool apart = (side_of(p, q, a) > 0) != (side_of(p, q, b) > 0);
        if (apart && (side_of(a, b, p) > 0) != (side_of(a, b, q) > 0)) return true;
      }
    }
  return false;
}

}  // namespace mesograph::surface
