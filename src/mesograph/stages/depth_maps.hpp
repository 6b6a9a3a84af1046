#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/dense/plan.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <set>
#include <vector>

namespace mesograph::stages {

/// Bytes of the maps and points of photos in the store: of those among `needed` (files), and of the rest, which is of
/// other levels, regions, sorties or adjustments.
struct StoredBytes {
  double needed = 0, unneeded = 0;
};
StoredBytes stored_bytes(const survey::Survey& survey, const std::set<std::filesystem::path>& needed);
/// Removes the rest.
void remove_unneeded(const survey::Survey& survey, const std::set<std::filesystem::path>& needed);

/// Everything that depth maps follow from, and where they are kept.
/// Cost: plain values; photos are read by view() alone.
struct DepthJob {
  const survey::Survey& survey;
  std::vector<const survey::Photo*> kept;
  dense::DepthPlan plan;
  /// Per station, of what its map follows from: the photo and its partners, their cameras and orientations, what its
  /// tie points say of the ground, and the level. So a map outlives trials: other levels, regions, sorties, another
  /// adjustment that left these photos where they were, and photos that were moved.
  std::vector<std::string> prints;

  /// `only`: photos of this sortie alone; empty: all. Throws Error where a photo has no pixels, or none is left.
  DepthJob(const survey::Survey& survey, const survey::PhotoTable& photos, const adjust::NamedBlock& named,
           const std::string& only);
  void ask(const dense::CloudRequest& what);
  /// Keeps to a part of the plan, a box or a file of polygons as cloud::Region::of takes it: sets the request's box to
  /// what surely holds it, and gives it in the survey CRS. Empty: everything. Throws Error where it is neither.
  cloud::Region keep_within(const std::string& text, const Eigen::Vector3d& origin);
  /// How maps confirm each other, as the request has it.
  dense::FuseOptions fuse_options() const;

  std::filesystem::path item(int station) const {
    return survey.store.item("depth", kept[station]->image, prints[station]);
  }
  /// A photo's pinhole photo at a level. Throws Error where the photo has changed.
  dense::View view(int station, int level) const;
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

}  // namespace mesograph::stages
