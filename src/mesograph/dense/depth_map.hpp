#pragma once

#include <array>
#include <mesograph/dense/semi_global.hpp>
#include <vector>

namespace mesograph::dense {

struct DepthOptions {
  int window =
      3;  ///< half width of the correlation window, pixels of the level: 7 x 7. Less: sharper edges, more noise
  /// Half as large photos that are matched first, each of which tells the next how far to search. Fewer where the
  /// smallest would have a side of less than `least_side` pixels.
  int coarser_levels = 2, least_side = 150;
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

/// What a photo sees: depth along its axis for each pixel of its pinhole photo.
struct DepthMap {
  photo::Raster<float> depth;  ///< m; NaN: nothing found
  /// What correlation says of it: standard deviation in parallax of the widest partner, 1/64 pixel; 0 where empty.
  photo::Raster<std::uint8_t> sigma;
  /// Inverse depth, 1/m, that moves an image point of the widest partner by a pixel: sigma of a depth d is d^2 times
  /// this times the sigma in pixels.
  double step = nan;

  /// Standard deviation of the depth of a pixel, m.
  double sigma_at(int col, int row) const {
    const double d = depth.at(col, row);
    return sigma.at(col, row) / 64.0 * step * d * d;
  }
};

/// Depths of the pixels of `reference`. The photos are swept by planes: at the coarsest of three levels by those of tie
/// points, over all depths that the photo's tie points have and nearer ones, at the finer ones by those of what the
/// coarser one found, tile by tile. Windows then lie on sloping ground in every photo, oblique ones too. Cost: mean of
/// the better half of the partners' census (exposure and lighting drop out, photos that do not see a place drop out),
/// then semi-global. Windows are then laid on the surface found, and correlations half a step before and behind it
/// move it by as much as they are surer than the path sums; last, planes through neighbours. Cost in time goes with
/// pixels and partners; one thread. Source: Collins (1996), A space-sweep approach to true multi-image matching, CVPR;
/// Gallup, Frahm, Mordohai, Yang, Pollefeys (2007), Real-time plane-sweeping stereo with multiple sweeping directions,
/// CVPR; Hirschmueller (2008).
DepthMap match_depth(const View& reference, const Views& partners, const std::vector<GroundHint>& ground,
                     const DepthOptions& options = {});

/// Empties patches of a surface that hang together but not with what lies around them, where they are smaller than
/// `least_patch` pixels: what matched by chance. What hangs together differs by no more than `relative_step` of the
/// depth, or `inverse_step` (1/m) of the inverse depth. Part of match_depth.
void remove_specks(photo::Raster<float>& depth, double relative_step, double inverse_step, int least_patch);

}  // namespace mesograph::dense
