#pragma once

#include <Eigen/Core>
#include <cmath>
#include <cstdint>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>
#include <unordered_map>
#include <vector>

namespace mesograph::cloud {

/// Places of the plan by squares of a side, so that those near a point are found at once. Exact: no place within a side
/// of a point is missed. Cost: a look into nine squares a point. Source: none, a hash of squares.
class PlaceGrid {
 public:
  PlaceGrid(const std::vector<Eigen::Vector2d>& places, double side) : side_(side) {
    for (std::size_t i = 0; i < places.size(); ++i)
      squares_[key(square(places[i].x()), square(places[i].y()))].push_back(i);
  }
  /// Those in the squares that touch a place's own: all that are a side away, and some more.
  template <typename Visit>
  void around(const Eigen::Vector2d& at, const Visit& visit) const {
    const std::int64_t x = square(at.x()), y = square(at.y());
    for (std::int64_t i = x - 1; i <= x + 1; ++i)
      for (std::int64_t j = y - 1; j <= y + 1; ++j)
        if (const auto found = squares_.find(key(i, j)); found != squares_.end())
          for (const std::size_t place : found->second) visit(place);
  }

 private:
  double side_;
  std::unordered_map<std::uint64_t, std::vector<std::size_t>> squares_;
  std::int64_t square(double v) const { return static_cast<std::int64_t>(std::floor(v / side_)); }
  static std::uint64_t key(std::int64_t x, std::int64_t y) {
    return static_cast<std::uint64_t>(x) << 32 ^ (static_cast<std::uint64_t>(y) & 0xFFFFFFFFu);
  }
};

/// All points of a file, in its order. Exact. Cost: one reading.
template <typename Visit>
void for_each_point(LasReader& file, Progress& progress, const Visit& visit) {
  file.rewind();
  progress.start("reading", file.header().points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i) visit(points, i);
    progress.advance(points.size());
  }
}

}  // namespace mesograph::cloud
