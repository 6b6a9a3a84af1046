#pragma once

#include <array>
#include <limits>
#include <mesograph/dense/semi_global.hpp>
#include <vector>

namespace mesograph::dense {

/// Defaults were tried on drawn and real photos; what each costs stands beside it. Accuracy, cost and sources are those
/// of match_depth (depth_map.hpp), which computes with them; these are plain values and compute nothing.
struct DepthOptions {
  int window =
      3;  ///< half width of the correlation window, pixels of the level: 7 x 7. Less: sharper edges, more noise
  /// Half as large photos that are matched first, each of which tells the next how far to search. Fewer where the
  /// smallest would have a side of less than `least_side` pixels.
  int coarser_levels = 2, least_side = 100;
  int tile = 64;         ///< pixels, each with its own plane and range of depths
  int area = 1536;       ///< pixels matched at once; bounds memory: 100 to 250 MB a thread
  double step_px = 1.0;  ///< parallax between neighbouring labels in the widest partner; more skips minima
  /// Beyond the depths of tie points at the coarsest level, for huts, shrubs, edges: shares of the depth, away from the
  /// photo and towards it, and of what the points span; and of that span once more towards the photo, for what stands
  /// out and holds no tie point.
  double pad = 0.045, pad_nearer = 0.15, pad_of_span = 0.2, nearer_of_span = 0.8;
  int pad_labels = 3;  ///< beyond the depths of the coarser level at the others
  int most_labels = 256;
  /// Standard deviation of a window, in that of the photo's noise, below which nothing is matched, and the grey levels
  /// between which that lies.
  double contrast_in_noise = 2.0;
  std::array<double, 2> least_contrast = {0.4, 1.2};
  double least_middle = 0.35;   ///< share of a window's variance that its inner part of half the width must have
  int least_difference = 2;     ///< grey levels between two pixels below which noise says which is brighter
  double most_differing = 0.5;  ///< share of comparisons of brightness above which a pixel is not handed on
  /// Steps: standard deviation of the place that path sums give. Correlation that is less sure moves it less.
  double label_sigma = 0.5;
  double least_score = 0.3;  ///< correlation below which a pixel stays empty
  /// Last, planes through neighbours. Pixels of parallax: by which neighbours are of another surface; which a surface
  /// bends, a squared pixel and for each partner that counts (less: smoother); beyond which a neighbour is not asked;
  /// the least sigma believed; and the sigma of a plane, were windows independent, that carries a pixel which no
  /// correlation confirms (of pairs alone: where several partners see, it is emptied).
  double plane_tolerance_px = 2.0, bend_px = 0.01, most_bend_px = 0.4, least_sigma_px = 0.05, carried_px = 0.14;
  /// Where a surface that may bend so many times as much lies elsewhere by more than so many of its sigmas, it is
  /// right: boulders, ridges, rims. Fewer sigmas: rounder boulders, more noise.
  double rough_bend = 6, rough_sigmas = 1.5;
  /// How often windows are laid on the surface found and planes fitted. Twice takes back half of what the first planes
  /// flatten, at a seventh of the time.
  int rounds = 2;
  /// Patches of fewer pixels that no neighbour continues within a step of so many pixels on the ground, or so many
  /// labels, are emptied.
  int least_patch = 50;
  double speck_step_px = 2.0, speck_step = 0.75;
  SemiGlobalOptions semi_global;
};

/// A tie point as a photo sees it: image point, level pixels, and depth along the camera's axis, m.
struct GroundHint {
  Eigen::Vector2d x;
  double depth;
};

/// Where nothing was found.
constexpr float no_depth = std::numeric_limits<float>::quiet_NaN();

/// What a photo sees: depth along its axis for each pixel of its pinhole photo.
struct DepthMap {
  photo::Raster<float> depth;  ///< m; NaN: nothing found
  /// What correlation says of it: standard deviation in parallax of the widest partner, 1/64 pixel; 0 where empty.
  photo::Raster<std::uint8_t> sigma;
  /// Inverse depth, 1/m, that moves an image point of the widest partner by a pixel: sigma of a depth d is d^2 times
  /// this times the sigma in pixels.
  double step = nan;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("depth", s.depth), visit("sigma", s.sigma), visit("step", s.step);
  }

  /// Standard deviation of the depth of a pixel, m.
  double sigma_at(int col, int row) const {
    const double d = depth.at(col, row);
    return sigma.at(col, row) / 64.0 * step * d * d;
  }
};

}  // namespace mesograph::dense
