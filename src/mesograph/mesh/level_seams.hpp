#pragma once

#include <functional>
#include <mesograph/mesh/atlas.hpp>
#include <mesograph/photo/image.hpp>
#include <optional>

namespace mesograph::mesh {

/// A textured surface while its seams are levelled.
struct Pages {
  const TriangleMesh& mesh;
  const Atlas& atlas;
  /// Image points of faces' corners in the photos of their charts, and the scale from those to pages.
  const std::vector<std::array<Eigen::Vector2f, 3>>& at;
  double scale = 1;
  /// Where a photo shows a place, pixels of the photo.
  std::function<std::optional<Eigen::Vector2d>(std::int32_t photo, const Eigen::Vector3d& X)> image;
  std::vector<photo::Rgb> pages;

  /// A photo's point on the page of a chart.
  Eigen::Vector2f on_page(const Chart& c, const Eigen::Vector2f& x) const {
    return x * static_cast<float>(scale) +
           Eigen::Vector2f(static_cast<float>(c.col - c.left), static_cast<float>(c.row - c.top));
  }
};

/// Differences along seams, grey levels, of either side's colours at places two pixels apart, mean over the channels.
std::vector<double> seam_steps(const Pages& pages);

/// First the level of whole charts: something is added to each, smoothly over its vertices, so that both sides of seams
/// agree (least squares, conjugate gradients). Then the last pixels: within `band` of a seam a chart fades into what
/// its neighbour's photo shows there, to half of each at the seam. Accuracy: what is left is told by seam_steps. Cost:
/// some hundred passes over the vertices, two over the pages; memory: the pages once more. Source: Lempitsky and Ivanov
/// (2007), Seamless mosaicing of image-based texture maps, CVPR; Waechter, Moehrle and Goesele (2014), Let there be
/// color!, ECCV.
void level_seams(Pages& pages, int band);

}  // namespace mesograph::mesh
