#pragma once

#include <memory>
#include <mesograph/adjust/named_block.hpp>
#include <mesograph/dense/colour_balance.hpp>
#include <mesograph/mosaic/seam_block.hpp>
#include <mesograph/mosaic/tile.hpp>
#include <mesograph/stages/mosaic_request.hpp>
#include <mesograph/stages/shelf.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// Its surface: that of the request, else results/surface_top.tif; and the sigmas beside a surface.
std::filesystem::path surface_file(const survey::Survey& survey, const MosaicRequest& request);
std::filesystem::path sigma_file(const std::filesystem::path& surface);

/// Everything that a mosaic is made from, kept alive together: the survey's block and photos, the surface, the plan.
/// Accuracy and cost: of what it hands on; see stages/mosaic.
class MosaicJob {
 public:
  /// Reads block and surface, lays the grids, brings the photos to one brightness; seams are not chosen yet. Throws
  /// Error where there is no surface or none of it is wanted.
  MosaicJob(const survey::Survey& survey, const MosaicRequest& request, Progress& progress);
  MosaicJob(const MosaicJob&) = delete;
  MosaicJob& operator=(const MosaicJob&) = delete;

  const survey::Survey& survey;
  const MosaicRequest& request;
  surface::Surface surface;
  mosaic::MosaicPlan plan;

  const survey::Photo& photo(int station) const { return *kept_[static_cast<std::size_t>(station)]; }
  const std::string& image(int station) const { return named_.images[static_cast<std::size_t>(station)]; }
  const adjust::NamedBlock& named() const { return named_; }
  const geo::Frame& frame() const { return frame_; }
  /// The station of a photo that takes part; nothing where there is none.
  std::optional<int> station_of(const std::string& image) const;
  /// A photo at the size at which a pixel is no larger than a cell, and not half as large.
  std::shared_ptr<const photo::Rgb> decoded(int station) { return photos_(station); }
  /// A photo at an eighth of its size, about a square of the coarse grid a pixel.
  mosaic::OfferedPhoto offered(int station) const;
  /// Polygons in a file, kept in inputs/ under a name, or those kept there; in m.
  std::vector<cloud::Polygon> polygons(const std::string& name, const std::filesystem::path& given) const;
  /// Gives up what was not used for long.
  void tidy() { sights_.tidy(), photos_.tidy(); }

  /// What every part of the mosaic follows from: block, surface, grid, colours.
  const std::string& print() const { return print_; }
  /// What cells that no photo sees follow from beyond that; empty: they are not filled, or not from another surface.
  const std::string& filler_print() const { return filler_print_; }
  /// What comes of these stations beyond that: their pixels and how they are toned.
  std::string print_of(const std::vector<int>& stations) const;

 private:
  survey::PhotoTable table_;
  std::vector<const survey::Photo*> kept_;
  adjust::NamedBlock named_;
  geo::Frame frame_;
  std::unique_ptr<mosaic::Ground> ground_;
  surface::Surface filler_;
  dense::ColourBalance colours_;
  std::vector<double> sharpness_;  ///< of stations, over that of those flown before and after
  std::string print_, filler_print_;
  Shelf<mosaic::PhotoSight> sights_;
  Shelf<photo::Rgb> photos_;

  void lay_grids();
  void find_boxes();
  void set_toning(Progress& progress);
  void read_filler(Progress& progress);
};

}  // namespace mesograph::stages
