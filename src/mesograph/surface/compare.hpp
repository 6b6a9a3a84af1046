#pragma once

#include <array>
#include <mesograph/base/progress.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/surface/grid.hpp>
#include <string_view>
#include <vector>

namespace mesograph::surface {

/// How the later surface is fitted onto stable ground of the earlier one.
enum class Fit { none, height, similarity };
constexpr std::array<std::string_view, 3> words(Fit) { return {"none", "height", "similarity"}; }

struct CompareOptions {
  Fit fit = Fit::height;
  std::vector<cloud::Polygon> stable;  ///< m; empty: found
  double confidence = 0.95;            ///< that nothing at all is reported where nothing has changed
  double least_area = 0;               ///< m2; smaller changes are not reported
};

/// What was applied to the later surface: shift, m; turns about east, north and up, rad; scale less 1. About the middle
/// of the earlier one.
struct Fitted {
  Eigen::Matrix<double, 7, 1> values = Eigen::Matrix<double, 7, 1>::Zero(),  ///< east, north, up, turns, scale
      sigmas = Eigen::Matrix<double, 7, 1>::Zero();
  double stable_mean = 0, stable_sigma = 0;  ///< m, of what is left on stable ground
  double stable_share = 0;                   ///< of the cells that both have
  double wander = 0;                         ///< m, how far differences on stable ground wander from place to place
};

struct Change {
  int id = 0;
  cloud::Polygon outline;              ///< m
  double area = 0, fill = 0, cut = 0;  ///< m2, m3: grown, gone
  double sigma = 0;                    ///< of fill - cut, m3
  double deepest = 0;                  ///< largest difference, m, signed
};

struct Comparison {
  std::vector<float> difference, significance;  ///< m and in sigmas, on the earlier surface's grid; NaN: not in both
  Fitted fit;
  std::vector<Change> changes;  ///< largest first
  double alike = 1;             ///< cells_alike of the difference
  double area = 0;              ///< m2 that both have
};

/// Later less earlier surface, on the earlier one's grid. Its sigma is that of both and of the fit. Stable ground is
/// what a robust fit (Tukey's biweight) is not drawn by, unless polygons say. Changes: cells that differ by more than
/// 1.96 of their sigmas and hang together, where what they differ by in sum is more than chance makes anywhere on the
/// area both have, with the given confidence: the quantile of a normal over as many independent places as there are
/// (Bonferroni). Throws Error where the two hardly overlap.
/// Accuracy: linear in the fit: for shifts of some cells and turns of some mrad. Cost: linear in cells.
Comparison compare(const Surface& earlier, const Surface& later, const CompareOptions& options, Progress& progress);

}  // namespace mesograph::surface
