#pragma once

#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/dense/depth_map.hpp>
#include <optional>
#include <set>
#include <vector>

namespace mesograph::dense {

/// What was asked of a cloud. A plain value, without accuracy, cost or source of its own.
struct CloudRequest {
  double spacing = nan;           ///< m
  int level = 1;                  ///< photos are matched at 1/2^level of their size
  int min_views = 2;              ///< photos that must agree on a point
  double max_sigma = nan;         ///< m; NaN: no limit
  double max_sigma_parallax = 0;  ///< pixels of parallax that lift that limit where rays meet at small angles
  int maps = 0;                   ///< depth maps that are to show a place; 0: all that there are
  double disk = nan;              ///< bytes that depth maps may fill at a time; NaN: all are kept
  /// Points are wanted in this box of the local frame alone, m; empty: everywhere.
  std::optional<Eigen::AlignedBox2d> box;
};

/// Which photos of a block give depth maps, with what partners, and what is known of the ground before. Plain values in
/// the order of the block's stations; nothing of files. Cost of ask(): a look at every tie ray. Accuracy: hints are
/// good to the tie points they are. Source: none, it is bookkeeping; how partners are chosen stands in partners.hpp.
struct DepthPlan {
  adjust::Block block;
  CloudRequest request;
  std::vector<std::vector<int>> partners;      ///< per station; empty: no depth map
  std::vector<std::vector<GroundHint>> hints;  ///< per station, at the level asked for

  explicit DepthPlan(adjust::Block of);
  /// Sets the request. Of photos that are not needed for `maps` there are none: each place that tie points show is seen
  /// by so many photos with maps, or by all that see it. Where fewer photos than `min_views` share tie points, as many
  /// as there are must agree.
  void ask(const CloudRequest& what);

  /// How many photos with a map show a tie point, in the mean.
  double maps_a_place() const;

  Pinhole pinhole(int station) const;
  /// Median height of the ground that a station's tie points show, m.
  double ground_below(int station) const;
  /// Photos whose maps may confirm a station's: its partners, and those it is a partner of.
  std::vector<std::set<int>> witnesses() const;
  /// Photos that give points: those with partners that show ground in the box.
  std::vector<int> wanted() const;
  bool shows_box(int station) const;
  /// Photos and all that confirm them, ascending.
  std::vector<int> with_witnesses(const std::vector<int>& stations) const;
  /// Bytes of photos' depth maps, roughly: five a pixel.
  double map_bytes(int station) const;
  double map_bytes(const std::vector<int>& stations) const;
  bool limits_disk() const { return std::isfinite(request.disk); }
  /// Photos whose points are made before maps may go again, so that the limit holds. Throws Error where it cannot.
  std::size_t photos_at_once() const;
};

}  // namespace mesograph::dense
