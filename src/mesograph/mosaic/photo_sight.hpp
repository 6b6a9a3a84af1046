#pragma once

#include <Eigen/Geometry>
#include <mesograph/adjust/block.hpp>
#include <mesograph/mosaic/ground.hpp>
#include <optional>
#include <vector>

namespace mesograph::mosaic {

/// What a photo sees of the ground: its footprint in the plan, and how far away the nearest surface is in each of its
/// directions. As depth buffers are (Catmull 1974), drawn with the photo's own camera, lens and shutter in it.
/// Accuracy: what is hidden is told to one of its squares, a cell and a half of the surface, beside an edge, and not
/// where the nearer surface is nearer by less than two and a half of these. Cost: a projection for each cell of the
/// footprint when it is made, and one a question.
class PhotoSight {
 public:
  /// Of a station of a block. Memory: 4 bytes for each square of `step()` pixels.
  PhotoSight(const adjust::Block& block, int station, const Ground& ground);

  int station() const { return station_; }
  /// Box of the plan that it may show, m; empty: nothing of the surface.
  const Eigen::AlignedBox2d& box() const { return box_; }
  /// Where a place shows, pixels; nothing where it lies outside the photo, behind it, or behind something nearer.
  /// `hidden`: whether that was the reason.
  std::optional<Eigen::Vector2d> see(const Eigen::Vector3d& X, bool* hidden = nullptr) const;
  /// The same without the question whether something is nearer.
  std::optional<Eigen::Vector2d> show(const Eigen::Vector3d& X) const;
  /// Angle between the ray to X and the vertical, cosine.
  double upright(const Eigen::Vector3d& X) const;
  int step() const { return step_; }  ///< pixels of a square

 private:
  const adjust::Block& block_;
  int station_, step_ = 1, columns_ = 0, rows_ = 0;
  double margin_ = 0;  ///< m, that a surface may be nearer and be the same one
  Eigen::AlignedBox2d box_;
  std::vector<float> nearest_;  ///< range, m; infinite: nothing

  void find_box(const Ground& ground);
  void note(const Eigen::Vector3d& X);
  void fill(const Ground& ground);
};

}  // namespace mesograph::mosaic
