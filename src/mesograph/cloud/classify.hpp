#pragma once

#include <mesograph/cloud/ground.hpp>
#include <set>

namespace mesograph::cloud {

/// Classes of the standard that are told (LAS 1.4 R15, table 17).
inline constexpr std::uint8_t class_low_plants = 3, class_middle_plants = 4, class_high_plants = 5, class_building = 6,
                              class_low_noise = 7, class_water = 9, class_road = 11, class_high_noise = 18;

/// Lengths in m. What each does stands beside it.
struct ClassifyOptions {
  GroundOptions ground;
  /// Heights above the ground from which plants are of middle and of high ones.
  double middle_plants = 0.5, high_plants = 2;
  double lowest_roof = 2;  ///< height above the ground of what may be a roof. Less: cars and containers are buildings
  double least_roof = 6;   ///< its least area, m2, all planes of it together. Less: more of what is plane by chance
  double roof_roughness = 0.08;  ///< how far a plane of it may stray, root mean square; at least two usual sigmas
  double road_width = 2.5;       ///< least width of a road. Less: paths
  double road_slope = 0.2;       ///< steepest rise over run of a road
  double road_roughness = 0.04;  ///< how far its surface may stray from planes of a metre; at least two usual sigmas
  double least_water = 25;       ///< least area of water, m2
  double noise_gap = 1;          ///< small groups of points so far from all others are noise
  std::set<std::uint8_t> only;   ///< classes to tell; others keep what they have. Empty: all
};

/// Classes of points: ground (2), plants (3, 4, 5 by height above it), buildings (6), roads (11), water (9), noise
/// (7 below the ground, 18 above) and 1, which stands and is none of these: boulders, barriers, cars. Where nothing is
/// said otherwise a rule looks at cells of two spacings of the cloud:
/// - ground as terrain_of tells it;
/// - buildings: planes (regions grown from the smoothest cells on) high enough, large enough, and what stands within
///   reach of their rims; geometry alone, whatever their colour;
/// - plants: what stands, is no building, and is greener than the cloud's own threshold (Otsu's of what stands, within
///   bounds); without colours, what has several returns or is rougher than any surface;
/// - roads: smooth, not steep, of a colour less vivid than the cloud's own threshold for ground, wide enough
///   everywhere, and longer than wide;
/// - water: nearly empty places, as dense matching leaves them, whose rim is level where it is lowest;
/// - noise: small groups that float, and what lies under the ground.
/// Asks `progress` between its steps whether to go on.
/// Accuracy: docs/methods.md has the table of the demo survey. Cost: linear in points and cells. Sources: Otsu (1979),
/// A threshold selection method from gray-level histograms, TSMC 9; Woebbecke et al. (1995), Color indices for weed
/// identification, Trans. ASAE 38, for excess green; Rabbani et al. (2006), Segmentation of point clouds using
/// smoothness constraint, ISPRS Archives 36, for growing planes.
std::vector<std::uint8_t> classify(const std::vector<TilePoint>& points, const ClassifyOptions& options,
                                   const Progress& progress = {});

/// What a tile must see beyond itself for that.
double classify_rim(const ClassifyOptions& options);

}  // namespace mesograph::cloud
