#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/surface/grid.hpp>
#include <mesograph/surface/stable_fit.hpp>
#include <vector>

namespace mesograph::surface {

struct CompareOptions {
  Fit fit = Fit::height;
  std::vector<cloud::Polygon> stable;  ///< m; empty: found
  double confidence = 0.95;            ///< that nothing at all is reported where nothing has changed
  double least_area = 0;               ///< m2; smaller changes are not reported
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
