#pragma once

#include <cmath>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/stages.hpp>
#include <optional>
#include <set>
#include <vector>

namespace mesograph::survey {

/// What was asked of a cloud, with the survey's defaults filled in.
struct CloudRequest {
  double spacing = nan;
  int level = 1, min_views = 2;
  double max_sigma = nan;
  double disk = nan;  ///< bytes that depth maps may fill at a time; NaN: all are kept
  /// Points are wanted in this box of the local frame alone, m; empty: everywhere.
  std::optional<std::pair<Eigen::Vector2d, Eigen::Vector2d>> box;
};

/// The adjusted block; else one that a listing orients, its stations and cameras as they are. Throws Error where there
/// is none, or where the adjustment is out of date and that was not asked for.
NamedBlock block_to_densify(const Survey& survey, const PhotoTable& photos, const DensifyStageOptions& options,
                            Progress& progress);
/// What that block's state follows from.
std::string densified_block_print(const Survey& survey);

/// Bytes of the maps and points of photos in the store: of those among `needed` (files), and of the rest, which is of
/// other levels, regions, sorties or adjustments.
struct StoredBytes {
  double needed = 0, unneeded = 0;
};
StoredBytes stored_bytes(const Survey& survey, const std::set<std::filesystem::path>& needed);
/// Removes the rest.
void remove_unneeded(const Survey& survey, const std::set<std::filesystem::path>& needed);

/// Everything that depth maps follow from, and where they are kept.
struct DepthJob {
  const Survey& survey;
  std::vector<const Photo*> kept;
  adjust::Block block;
  CloudRequest request;
  std::vector<std::vector<int>> partners;
  std::vector<std::vector<dense::GroundHint>> hints;  ///< per station
  /// Per station, of what its map follows from: the photo and its partners, their cameras and orientations, what its
  /// tie points say of the ground, and the level. So a map outlives trials: other levels, regions, sorties, another
  /// adjustment that left these photos where they were, and photos that were moved.
  std::vector<std::string> prints;

  /// `only`: photos of this sortie alone; empty: all. Throws Error where a photo has no pixels, or none is left.
  DepthJob(const Survey& survey, const PhotoTable& photos, const NamedBlock& named, const std::string& only);
  void ask(const CloudRequest& what);

  std::filesystem::path item(int station) const {
    return survey.store.item("depth", kept[station]->image, prints[station]);
  }
  dense::Pinhole pinhole(int station) const;
  dense::View view(int station) const;
  /// Median height of the ground that a station's tie points show, m.
  double ground_below(int station) const;
  /// Photos whose maps may confirm a station's: its partners, and those it is a partner of.
  std::vector<std::set<int>> witnesses() const;
  /// Photos that give points: those with partners that show ground in the box.
  std::vector<int> wanted() const;
  bool shows_box(int station) const;
  /// Photos and all that confirm them.
  std::vector<int> with_witnesses(const std::vector<int>& stations) const;
  /// Bytes of a photo's depth map, roughly.
  double map_bytes(int station) const;
  bool limits_disk() const { return std::isfinite(request.disk); }
  /// Photos whose points are made before maps may go again, so that the limit holds. Throws Error where it cannot.
  std::size_t photos_at_once() const;
};

/// Depth maps of some photos, those that are there left as they are.
void make_depth_maps(const DepthJob& job, const std::vector<int>& stations, Progress& progress);
dense::MappedView load_depth(const DepthJob& job, int station);

/// The maps of some photos, and pointers to them for what looks at several.
struct LoadedMaps {
  std::vector<dense::MappedView> maps;
  std::vector<const dense::MappedView*> list;
};
LoadedMaps load_depths(const DepthJob& job, const std::set<int>& stations);

}  // namespace mesograph::survey
