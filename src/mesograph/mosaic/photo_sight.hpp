#pragma once

#include <Eigen/Geometry>
#include <cstdint>
#include <functional>
#include <memory>
#include <mesograph/adjust/block.hpp>
#include <mesograph/mosaic/ground.hpp>
#include <mesograph/mosaic/image_lattice.hpp>
#include <optional>
#include <vector>

namespace mesograph::mosaic {

/// Box of the plan that a photo may show of the surface, m; empty: nothing. Too large for photos aslant, never too
/// small, but for what lies farther away than ten times its height. Cost: some fifty rays.
Eigen::AlignedBox2d footprint_of(const adjust::Block& block, int station, const Ground& ground);

/// What a photo sees of the ground: how far away the nearest surface ends in each of its directions. As depth buffers
/// are (Catmull 1974), drawn with the photo's own camera, lens and shutter in it; of ground that it grazes a square
/// holds many cells one behind the other, which are one surface as long as none is missing between.
/// Accuracy: what is hidden is told to one of its squares, a cell and a half of the surface, beside an edge, and not
/// where the nearer surface is nearer by less than five cells. Cost: a place for each cell of the footprint when it is
/// made, and one a question.
class PhotoSight {
 public:
  /// Of a station of a block whose footprint is `box`. Memory: 4 bytes for each square of `step()` pixels.
  PhotoSight(const adjust::Block& block, int station, const Ground& ground, const Eigen::AlignedBox2d& box);

  int station() const { return station_; }
  const Eigen::Vector3d& centre() const { return C_; }
  /// Where a place shows; nothing where it lies outside the photo, behind it, or behind something nearer.
  std::optional<Shown> see(const Eigen::Vector3d& X) const;
  /// The same without the question whether something is nearer.
  std::optional<Shown> show(const Eigen::Vector3d& X) const;
  /// Angle between the ray to X and the vertical, cosine.
  double upright(const Eigen::Vector3d& X) const;
  int step() const { return step_; }  ///< pixels of a square
  std::size_t bytes() const { return visible_.size() * sizeof(float) + image_.bytes(); }

 private:
  int station_, width_, height_, step_ = 1, columns_ = 0, rows_ = 0;
  Eigen::Vector3d C_;
  double range_ = 0;  ///< m, to the middle of the footprint
  ImageLattice image_;
  std::vector<float> visible_;  ///< range up to which places are seen, m; infinite: nothing is there

  std::size_t square_of(const Eigen::Vector2d& x) const {
    return static_cast<std::size_t>(static_cast<int>(x.y()) / step_) * columns_ + static_cast<int>(x.x()) / step_;
  }
  /// A cell as it is drawn.
  struct Note {
    std::uint32_t square;
    float range;
  };
  std::vector<Note> drawn(const Ground& ground, const Eigen::AlignedBox2d& box) const;
  void find_ends(const std::vector<Note>& notes, float gap, float margin);
};

/// Hands out what photos see, by their stations; a station whose footprint is empty is never asked for.
using SightOf = std::function<std::shared_ptr<const PhotoSight>(int station)>;

}  // namespace mesograph::mosaic
