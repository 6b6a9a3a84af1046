#pragma once

#include <mesograph/adjust/block.hpp>
#include <mesograph/orient/similarity.hpp>
#include <optional>
#include <vector>

namespace mesograph::sight {

/// Something seen in one photo that may be a target.
struct Sight {
  int station = 0;
  Eigen::Vector2d x;   ///< pixels
  double sigma = 0.1;  ///< pixels, per axis
};

/// Sights of one ground point: its rays meet.
struct Spot {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);  ///< local frame, m
  std::vector<int> sights;                             ///< indices into the list of sights, one a photo
  double rms_px = nan;
};

struct SpotOptions {
  /// How well the block's rays meet, pixels: added to the sights' own sigma.
  double sigma_block_px = 0.4;
  double most_sigmas = 3.5;     ///< of a ray's residual
  double most_steps_px = 14.0;  ///< around where a first guess of the ground projects
  double min_ray_angle_deg = 3.0;
  int least_rays = 3;
};

/// Intersects the sights that a set names, leaving out the worst until all agree; nothing where fewer than `least_rays`
/// remain. Rays count the same, whatever their sigmas.
std::optional<Spot> meet(const adjust::Block& block, const std::vector<Sight>& sights, std::vector<int> set,
                         const SpotOptions& options);

/// Puts sights of all photos together that are of one ground point. `ground`: a first guess of where each one's ray
/// meets the ground; NaN: unknown, left out. Each sight belongs to one spot at most, the spots with most rays first.
std::vector<Spot> find_spots(const adjust::Block& block, const std::vector<Sight>& sights,
                             const std::vector<Eigen::Vector3d>& ground, const SpotOptions& options = {});

/// Which spot each surveyed point is, where the block as a whole stands only roughly right: pattern against pattern.
struct Identified {
  std::vector<int> spot;            ///< one a point; -1: none
  orient::Similarity onto_control;  ///< of the block
  int named = 0;                    ///< points with a spot
  double chance = 1;                ///< expected number of such agreements among spots without order
};
/// `reach`: how far off a point may be found, m, horizontal and vertical, the same for all. One shift is sought that
/// brings most points onto spots, to within `slack` m and a hundredth of the distance between points, then a similarity
/// fitted. Nothing where fewer than three points agree, or chance alone would bring such an agreement more than once in
/// a thousand surveys.
/// Accuracy: a false agreement once in a thousand surveys, by the chance computed. Cost: points times spots squared.
std::optional<Identified> identify(const std::vector<Eigen::Vector3d>& points, const std::vector<Spot>& spots,
                                   Eigen::Vector2d reach, double slack);

}  // namespace mesograph::sight
