#pragma once

#include <Eigen/Geometry>
#include <mesograph/simulate/scene.hpp>
#include <mesograph/simulate/site.hpp>
#include <string>
#include <vector>

namespace mesograph::simulate {

/// A car as it stands at a moment: a box on the road.
struct Car {
  Eigen::Vector3d middle;  ///< of its floor, site frame, m
  double heading = 0;      ///< rad, from x towards y
  Eigen::Vector3f albedo;
  static constexpr double length = 4.4, width = 1.9, height = 1.5;  ///< m
};

/// Cars on the road at a moment of the flight. Of `count` every other one drives, at 6 to 12 m/s and from end to end of
/// the site again and again; the others are parked, and elsewhere in each sortie. Follows from the arguments alone.
/// Accuracy: it is the truth. Cost: a microsecond a car.
std::vector<Car> cars_at(const Site& site, std::uint64_t seed, int count, int sortie, double seconds);

/// A scene with cars in it. They throw no shadows. The scene must outlive it.
class SceneWithCars : public Scene {
 public:
  SceneWithCars(const Scene& scene, std::vector<Car> cars, const Eigen::Vector3d& sun);
  std::optional<Met> meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const override;
  std::vector<Eigen::Vector3f> albedo(const std::vector<Eigen::Vector3d>& X,
                                      const std::vector<double>& footprint) const override;

 private:
  const Scene& scene_;
  std::vector<Car> cars_;
  Eigen::Vector3d sun_;
};

}  // namespace mesograph::simulate
