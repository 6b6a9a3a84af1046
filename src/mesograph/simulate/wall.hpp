#pragma once

#include <Eigen/Geometry>
#include <mesograph/simulate/marks.hpp>
#include <mesograph/simulate/scene.hpp>
#include <string>
#include <vector>

namespace mesograph::simulate {

/// A flat part of what is seen of the wall: all of corner + a first + b second, 0 <= a, b <= 1.
struct Face {
  std::string part;
  Eigen::Vector3d corner, first, second;  ///< m, the sides from the corner
  Eigen::Vector3d normal;                 ///< unit length, outwards
};

/// The retaining wall of the slip's road: 30 m long, 12 m high, upright, with buttresses, a ledge and a coping that
/// stand out, and drain holes that go 0.4 m into it; the road before it and the ground behind it are level.
///
/// Frame: x east, y north, z up, m, the road at z = 0. The wall runs askew to the axes.
/// Exact: boxes, and holes cut out of one of them. Cost: a ray looks at some 30 boxes.
class Wall : public Scene {
 public:
  explicit Wall(std::uint64_t seed);

  static constexpr double half_length = 15, height = 12, turn = -0.5;  ///< m; rad from east, against the clock
  static constexpr double hole = 0.12, hole_depth = 0.4;               ///< m, across and into the wall

  std::optional<Met> meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const override;
  std::vector<Eigen::Vector3f> albedo(const std::vector<Eigen::Vector3d>& X,
                                      const std::vector<double>& footprint) const override;
  /// A place along the wall, out of its face and above the road, m, in the frame; and back.
  static Eigen::Vector3d at(double along, double out, double up);
  static Eigen::Vector3d from(const Eigen::Vector3d& X);

  /// What can be seen of it, without the ground: faces that others cover in part are whole.
  std::vector<Face> faces() const;
  /// Middles of the drain holes, along and up, m.
  const std::vector<Eigen::Vector2d>& holes() const { return holes_; }
  /// Boards on the face, the buttresses and the road.
  const std::vector<Target>& targets() const { return targets_; }

 private:
  struct Solid {
    std::string part;
    Eigen::AlignedBox3d box;  ///< along, out, up
  };
  struct Hit {
    double range;
    Eigen::Vector3d normal;  ///< along, out, up
  };
  std::optional<Hit> first_hit(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const;
  bool in_hole(double along, double up, double grown) const;
  std::optional<Hit> within_hole(const Eigen::Vector3d& C, const Eigen::Vector3d& d, double range) const;

  std::uint32_t seed_;
  std::vector<Solid> solids_;  ///< the wall itself first
  std::vector<Eigen::Vector2d> holes_;
  std::vector<Target> targets_;
  Eigen::Vector3d sun_;
};

}  // namespace mesograph::simulate
