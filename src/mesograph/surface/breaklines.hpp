#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <unordered_map>
#include <utility>
#include <vector>

namespace mesograph::surface {

/// Lines across which a surface may bend and jump: foot and crown of an embankment, a kerb, a wall's top. Nothing on
/// one side says anything of the other.
class Breaklines {
 public:
  Breaklines() = default;
  /// `lines`: corners in m. `cell`: of the surface, m.
  Breaklines(const std::vector<std::vector<Eigen::Vector2d>>& lines, double cell);

  bool empty() const { return segments_.empty(); }
  /// Whether the straight way between two places crosses one. Exact but for ways that end on a line. Cost: the pieces
  /// about the way; for ways of some cells.
  bool between(const Eigen::Vector2d& a, const Eigen::Vector2d& b) const;

 private:
  using Square = std::pair<std::int64_t, std::int64_t>;
  struct SquareHash {
    std::size_t operator()(const Square& s) const {
      return static_cast<std::size_t>(s.first) * 73856093U ^ static_cast<std::size_t>(s.second) * 19349663U;
    }
  };
  double side_ = 1;
  std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>> segments_;
  std::unordered_map<Square, std::vector<std::size_t>, SquareHash> squares_;
  Square square(const Eigen::Vector2d& at) const;
};

}  // namespace mesograph::surface
