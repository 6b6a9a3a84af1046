#pragma once

#include <mesograph/geo/frame.hpp>
#include <mesograph/surface/grid.hpp>

namespace mesograph::mosaic {

/// The surface that photos are laid onto, as a block sees it: heights between cells, and places in the local frame.
/// Accuracy: heights are the surface's own, which say their sigmas; places are good to 0.1 mm over a kilometre. Cost:
/// some ten nanoseconds a height or place, on any thread; one look at all cells when it is made.
class Ground {
 public:
  /// `frame`: of the block. The surface must outlive this.
  Ground(const surface::Surface& surface, const geo::Frame& frame);

  const surface::Surface& surface() const { return surface_; }
  /// Height at a place of the plan, m, bilinear; next to a jump, as of eaves, that of the nearest cell, so that roofs
  /// keep their edges. NaN where the surface is empty.
  double height(const Eigen::Vector2d& at) const;
  double sigma(const Eigen::Vector2d& at) const;  ///< of the nearest cell, m; NaN: not known
  /// A place in the local frame, m. Good to 0.1 mm for surfaces a kilometre wide.
  Eigen::Vector3d local(const Eigen::Vector2d& at, double height) const {
    return way_(Eigen::Vector3d(at.x(), at.y(), height).cwiseQuotient(surface_.metres));
  }
  double low() const { return low_; }
  double high() const { return high_; }
  /// Difference of height between neighbouring cells above which the surface jumps there, m.
  double jump() const { return 1.5 * surface_.grid.cell; }

 private:
  const surface::Surface& surface_;
  double low_ = 0, high_ = 0;
  geo::WayOverBox way_;
};

}  // namespace mesograph::mosaic
