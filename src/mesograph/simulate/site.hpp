#pragma once

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <mesograph/photo/image.hpp>
#include <mesograph/simulate/marks.hpp>
#include <mesograph/simulate/scene.hpp>
#include <optional>
#include <vector>

namespace mesograph::simulate {

enum class Cover : std::uint8_t { ground, road, barrier, hut, boulder, shrub, water, mud };

/// y of the road's middle, site frame, m.
double road_middle(double x);

/// The Osterlund slip: a made-up landslip above a mountain road, as a height field with cover classes.
///
/// Site frame: x east, y north, z up, m, origin in the middle of the site (150 m x 190 m) at road level; the field goes
/// on beyond the site, without objects, as far as an oblique photo may see. Everything follows from the seed.
/// Accuracy: it is the truth, to rounding. Cost: the height field is made once; a ray that looks down meets about ten
/// squares before it hits.
class Site {
 public:
  /// `epoch`: 1, or 2 as it was at a second flight: a heap, a pit, a hut gone, the scarp gone back, the pond lower.
  explicit Site(std::uint64_t seed, int epoch = 1);

  static constexpr double half_width = 75.0, half_length = 95.0;  ///< of the site itself, m
  static constexpr double cell = 0.125;                           ///< of the height field, m

  double height(double x, double y) const;  ///< bilinear
  Cover cover(double x, double y) const;
  Eigen::Vector3d normal(double x, double y) const;
  /// Where a ray first meets the surface: range from C along the unit vector d, m; nothing where it leaves the field.
  std::optional<double> first_hit(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const;
  /// Colours without light, 0 to 1, of points with detail down to their `footprint` m. Targets are painted on.
  std::vector<Eigen::Vector3f> albedo(const std::vector<Eigen::Vector3d>& X,
                                      const std::vector<double>& footprint) const;
  /// 1 where the sun reaches the cell's surface, 0 in shadow; the unit vector `sun` points to the sun.
  photo::Raster<std::uint8_t> sunlit(const Eigen::Vector3d& sun) const;
  bool sunlit_at(const photo::Raster<std::uint8_t>& lit, double x, double y) const;

  const std::vector<Target>& targets() const { return targets_; }
  void paint(std::vector<Target> targets);

 private:
  void shape_ground();
  void place_objects();
  void build_tops();
  bool inside(double x, double y) const;
  /// Of a target's light or dark part, where one lies.
  std::optional<Eigen::Vector3f> paint_at(const Eigen::Vector3d& X) const;
  static std::size_t square_at(double x, double y);

  std::uint64_t seed_;
  int epoch_;
  int columns_ = 0, rows_ = 0;
  std::vector<float> z_;
  std::vector<std::uint8_t> cover_;
  /// The highest z of each square of 2^power x 2^power cells.
  struct Tops {
    int power = 0, columns = 0;
    std::vector<float> z = {};
    int size() const { return 1 << power; }
  };
  std::array<Tops, 4> tops_{{{8}, {6}, {4}, {2}}};  ///< large squares first
  std::vector<Target> targets_;
  std::vector<std::uint8_t> painted_;  ///< squares that a target may reach into
};

/// It in the light of one sun, to which a vector points. The site must outlive it.
class LitSite : public Scene {
 public:
  LitSite(const Site& site, const Eigen::Vector3d& sun);
  std::optional<Met> meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const override;
  std::vector<Eigen::Vector3f> albedo(const std::vector<Eigen::Vector3d>& X,
                                      const std::vector<double>& footprint) const override {
    return site_.albedo(X, footprint);
  }

 private:
  const Site& site_;
  Eigen::Vector3d sun_;
  photo::Raster<std::uint8_t> lit_;
};

}  // namespace mesograph::simulate
