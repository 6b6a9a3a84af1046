#pragma once

#include <functional>
#include <memory>
#include <mesograph/mesh/triangle_mesh.hpp>
#include <mesograph/mosaic/image_lattice.hpp>
#include <mesograph/photo/image.hpp>
#include <optional>
#include <span>
#include <vector>

namespace mesograph::mesh {

/// What a photo shows of a face.
struct View {
  std::int32_t photo = -1;
  float pixels = 0;                      ///< of the photo that it takes, as far as it is seen; times the sharpness
  std::array<std::uint8_t, 3> colour{};  ///< its mean, red, green, blue
  std::uint8_t odd = 0;                  ///< 1: unlike what the others show, by something that moves
};

/// Faces that a photo shows, ascending.
struct PhotoViews {
  std::vector<std::int32_t> face;
  std::vector<View> view;
};

/// A photo as faces are looked up in it.
struct ShownIn {
  int number = 0;
  int width = 0, height = 0;  ///< pixels
  Eigen::Vector3d C = Eigen::Vector3d::Zero();
  std::function<std::optional<mosaic::Shown>(const Eigen::Vector3d&)> image;
  /// Colour at an image point, toned as an average photo would have it.
  std::function<std::array<float, 3>(const mosaic::Shown&)> colour;
  double sharpness = 1;  ///< against its neighbours', 1 at most
};

/// The faces that a photo sees: seven places of each are looked up among the nearest of all faces in each square of two
/// pixels; those seen count by their share to the fourth power, so that what is partly hidden is taken where nothing
/// better is.
/// Accuracy: what is hidden is told to a square and a half. Cost: a pass over the faces in the photo and their pixels.
/// Source: depth buffers after Catmull (1974).
PhotoViews views_of(const TriangleMesh& mesh, const ShownIn& photo);

/// Views face by face.
class FaceViews {
 public:
  FaceViews(std::size_t faces, std::vector<PhotoViews> photos);
  std::span<const View> operator[](std::size_t face) const {
    return {views_.data() + first_[face], first_[face + 1] - first_[face]};
  }
  std::size_t faces() const { return first_.size() - 1; }
  /// Marks views whose colour lies further from the middle one of three or more than their photos do elsewhere: cars,
  /// people, shadows that went on.
  void mark_odd();

 private:
  std::vector<std::size_t> first_;
  std::vector<View> views_;
};

}  // namespace mesograph::mesh
