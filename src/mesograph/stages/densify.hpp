#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/dense/cloud_accuracy.hpp>
#include <mesograph/stages/outcome.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

struct DensifyStageOptions {
  std::optional<double> spacing;    ///< m; default [densify] spacing, else 2 GSD
  std::optional<int> level;         ///< default [densify] level, else from the spacing
  std::optional<int> min_views;     ///< default [densify] min_views
  std::optional<double> max_sigma;  ///< m
  std::filesystem::path out;        ///< default usual_cloud
  std::string only;                 ///< photos of this sortie alone
  std::string within;               ///< box or polygon file; default [densify] within
  double tiles = nan;               ///< side of LAS tiles, units of the CRS; NaN: one file
  double scale = nan;               ///< of LAS coordinates; NaN: 0.001
  int maps = 0;                     ///< depth maps that are to show a place; 0: all that there are
  bool normals = false;             ///< of the surface, in LAS files
  double disk = nan;                ///< bytes that depth maps may fill at a time; NaN: all are kept
  bool test_patch = false;          ///< a small region in the middle first, with time and size foretold for the whole
  bool force = false;               ///< goes on with an adjustment that is out of date
  bool sweep = false;               ///< removes depth maps and points of other levels, regions, sorties, adjustments
};

/// What the whole block will take, by what a patch took.
struct Foretold {
  std::size_t photos = 0, patch_photos = 0;
  double seconds = nan;  ///< NaN: of maps that were there already nobody knows how long they took
  double points = nan, las_gb = nan, disk_gb = nan;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("photos", s.photos), visit("patch_photos", s.patch_photos), visit("seconds", s.seconds);
    visit("points", s.points), visit("las_gb", s.las_gb), visit("disk_gb", s.disk_gb);
  }
};

struct Densified {
  std::string file;  ///< or folder of tiles, relative to the survey's folder
  std::uint64_t points = 0;
  double spacing = nan;  ///< m
  double density = nan;  ///< points a square metre, where there are any
  int level = 1;
  std::string only;
  double disk_gb = nan;
  std::optional<dense::HeightsTested> check_heights;
  std::optional<Foretold> foretold;
  std::optional<std::string> block;  ///< print of the block that it was made of; nothing in records of before

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("file", s.file), visit("points", s.points), visit("spacing", s.spacing), visit("density", s.density);
    visit("level", s.level), visit("only", s.only), visit("disk_gb", s.disk_gb);
    visit("check_heights", s.check_heights), visit("foretold", s.foretold, Absent::omitted),
        visit("block", s.block, Absent::omitted);
  }
};

/// Dense cloud of the adjusted block as LAS; of a block that was never adjusted, but that a listing orients, with its
/// stations and cameras as they are. Throws Error where the adjustment is out of date (unless forced), photos have
/// changed, or nothing is confirmed. Memory goes with threads and tiles, not with the site.
/// Cost: about a CPU second a megapixel matched.
Outcome<Densified> densify(survey::Survey& survey, const DensifyStageOptions& options, Progress& progress);
/// Where the cloud goes where nobody names a file: results/cloud.las, or .laz as [densify] format says.
std::filesystem::path usual_cloud(const survey::Survey& survey);
std::string densify_fingerprint(const survey::Survey& survey, const DensifyStageOptions& options = {});

/// Depth along the camera's axis and its sigma (m, NaN: none) of a photo at the level of the last densify, in the
/// photo's own geometry, as a GeoTIFF of two bands. Where two photos agree. Throws Error where densify has not run.
void export_depth(const survey::Survey& survey, const std::string& image, const std::filesystem::path& file);

}  // namespace mesograph::stages
