#pragma once

#include <Eigen/Core>
#include <optional>
#include <vector>

namespace mesograph::simulate {

/// What made-up photos show, in the light that falls on it. A frame of its own, z up, m. An interface: accuracy and
/// cost are those of what is behind it.
class Scene {
 public:
  virtual ~Scene() = default;

  struct Met {
    double range = 0;   ///< m along the ray
    double direct = 0;  ///< share of the sun's light that the surface throws back there: 0 in shadow, 1 facing it
  };
  /// What a ray from C along the unit vector d first meets; nothing where that is the sky.
  virtual std::optional<Met> meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const = 0;
  /// Colours without light, 0 to 1, of points of the surface, with detail down to their `footprint` m.
  virtual std::vector<Eigen::Vector3f> albedo(const std::vector<Eigen::Vector3d>& X,
                                              const std::vector<double>& footprint) const = 0;
};

}  // namespace mesograph::simulate
