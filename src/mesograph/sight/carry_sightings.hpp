#pragma once

#include <mesograph/adjust/predict.hpp>
#include <mesograph/sight/search.hpp>
#include <set>
#include <vector>

namespace mesograph::sight {

/// A point that people have sighted in some photos, to be carried into the others.
struct PointToCarry {
  std::size_t point = 0;               ///< index among the surveyed points of the block
  std::vector<adjust::Ray> by_people;  ///< at least one
  Eigen::Vector3d X;                   ///< where it lies in the block, local frame, m
  Eigen::Matrix3d covariance;          ///< of X against the people's rays, m^2
  std::set<int> spoken;                ///< stations in which people have confirmed or rejected it
};

/// What least-squares matching made of it.
struct CarriedPoint {
  std::size_t point = 0;
  int from = 0;  ///< station whose patch was matched
  struct Ray {
    int station;
    Eigen::Vector2d x;
    double sigma;  ///< of the match against the patch, pixels
    double correlation;
  };
  std::vector<Ray> rays;  ///< those that meet in one ground point with the people's
  int meet = 0;           ///< rays that meet, those of people counted
};

/// Carries sightings into all photos that should show the point: the ground around the steepest of a point's sightings
/// by people is matched in every other photo (carry_over), its shape as the level ground would show; what is
/// found must meet in one ground point from three photos or more, the people's rays among them. `images`: one a
/// station. Photos that cannot be read are told of in `notes` and left out.
/// Accuracy: as carry_over. Cost: photos that should show a point are decoded once, in parallel.
std::vector<CarriedPoint> carry_sightings(const adjust::Block& block, const adjust::Predictor& predictor,
                                          const std::vector<Image>& images, const std::vector<PointToCarry>& points,
                                          std::vector<std::string>& notes, Progress& progress);

}  // namespace mesograph::sight
