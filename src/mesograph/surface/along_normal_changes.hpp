#pragma once

#include <mesograph/cloud/along_normal.hpp>
#include <mesograph/surface/compare.hpp>
#include <vector>

namespace mesograph::surface {

/// Places that hang together and moved beyond error.
struct NormalChange {
  int id = 0;
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();  ///< m
  double area = 0;                                   ///< m2, along the surface
  double distance = 0, sigma = 0, largest = 0;       ///< m: mean of it with its sigma; largest, signed
};

struct NormalComparison {
  Fitted fit;                         ///< of the later cloud; `stable_*` along the normals
  std::vector<float> significance;    ///< one a place: distance over its sigma, the fit's included
  std::vector<NormalChange> changes;  ///< largest first
  double area = 0;                    ///< m2 of places that both have
};

/// Takes the fit onto stable ground off distances (in place), and finds what is left beyond error. Stable is what a
/// robust fit (Tukey's biweight) is not drawn by. Changes as for heights (compare): places beyond 1.96 sigmas that lie
/// within a scale of each other, whose mean is more than chance makes anywhere, by Bonferroni's bound. Polygons of
/// `options.stable` choose by the plan. Throws Error where fewer than 100 places have a distance.
/// Cost: linear in places, their neighbours aside.
NormalComparison changes_along_normal(cloud::NormalDistances& distances, const CompareOptions& options);

}  // namespace mesograph::surface
