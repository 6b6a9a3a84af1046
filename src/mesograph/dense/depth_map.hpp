#pragma once

#include <mesograph/dense/pinhole.hpp>
#include <mesograph/dense/semi_global.hpp>
#include <vector>

namespace mesograph::dense {

struct DepthOptions {
  int window = 3;        ///< half width of the correlation window, pixels of the level: 7 x 7
  int tile = 384;        ///< pixels, each with its own range of heights; bounds memory: at most 320 labels of 448 x 448
                         ///< pixels, 260 MB a thread
  int margin = 32;       ///< overlap of tiles, pixels
  double step_px = 1.0;  ///< parallax between neighbouring heights in the widest partner; more skips minima
  /// Beyond the heights of the tile's tie points, for huts, shrubs, edges: shares of the distance and of what they
  /// span.
  double pad = 0.045, pad_of_span = 0.2;
  int most_labels = 320;
  double least_contrast = 1.2;  ///< grey levels: standard deviation of a window below which nothing is matched
  double least_score = 0.45;    ///< correlation below which a pixel stays empty
  /// Patches of fewer pixels that no neighbour continues within a step of so many pixels on the ground are emptied.
  int least_patch = 50;
  double speck_step_px = 2.0;
  SemiGlobalOptions semi_global;
};

struct View {
  Pinhole pinhole;
  photo::Grey image;  ///< 0: no data
};

/// Heights z (local frame, m) at which the rays of `reference` end, for each of its pixels; NaN: nothing found. The
/// ground is swept by horizontal planes of the local frame: windows then lie on level ground in every photo, oblique
/// ones too. Cost: mean of the better half of the partners' normalised cross-correlations (exposure and lighting of a
/// whole window drop out, photos that do not see a place drop out), then semi-global. `ground`: heights of tie points
/// with their image points in the reference, level pixels. Source: Collins (1996), A space-sweep approach to true
/// multi-image matching, CVPR; Hirschmueller (2008).
struct GroundHint {
  Eigen::Vector2d x;
  double z;
};
photo::Raster<float> match_depth(const View& reference, const std::vector<View>& partners,
                                 const std::vector<GroundHint>& ground, const DepthOptions& options = {});

/// Empties patches of a surface that hang together but not with what lies around them, where they are small: what
/// matched by chance. Part of match_depth.
void remove_specks(photo::Raster<float>& height, const Pinhole& pinhole, const DepthOptions& options);

}  // namespace mesograph::dense
