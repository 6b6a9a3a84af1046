#pragma once

#include <array>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/survey/tie.hpp>

namespace mesograph::survey {

/// A block with the names that belong to it. Stations are the photos that take part, in PhotoTable::kept order.
struct NamedBlock {
  adjust::Block block;
  std::vector<std::string> images;
  std::vector<std::string> point_names;              ///< one a tie point
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  ///< of the local frame, as geo::Frame takes it
  bool free = false;  ///< nothing ties it to the ground: coordinates are of a frame of its own, scale unknown
  /// Throws Error where the block is free, saying that `what` cannot be.
  void need_ground(const std::string& what) const;
};

void save_block(const Survey& survey, const std::string& stage, const NamedBlock& block);
/// Throws Error where the stage ("orient", "adjust") has not run.
NamedBlock load_block(const Survey& survey, const std::string& stage);

/// What the last adjustment predicts, from its block and the parameters that were free in it; nothing where none has
/// run.
std::optional<adjust::Uncertainty> adjusted_uncertainty(const Survey& survey, const adjust::Block& block);

/// The local frame's origin, fixed at the first call and kept in inputs/: median of the photos' positions rounded to
/// 0.001 degree and 1 m, else of the control, else of the listing. Nothing where none of these is there.
std::optional<Eigen::Vector3d> frame_origin(const Survey& survey, const PhotoTable& photos);

/// Control and confirmed sightings of a survey as points of a block, and what a finder's file holds (empty: none).
/// Sightings of photos that take no part are left out.
std::vector<adjust::SurveyedPoint> surveyed_points(const Survey& survey, const geo::Frame& frame,
                                                   const std::vector<std::string>& images,
                                                   const std::filesystem::path& found = {});
/// Scale bars between points that are sighted; `missing`: an id for each of which an end is not.
std::vector<adjust::ScaleBar> scale_bars(const Survey& survey, const std::vector<adjust::SurveyedPoint>& points,
                                         std::vector<std::string>& missing);
/// Where the finder's sightings are kept; empty where [adjust] sightings leaves them out.
std::filesystem::path found_file(const Survey& survey);

/// A block as orientation starts from it: cameras, sorties, observed positions, tie rays, control; no orientations,
/// except where a listing gives them, whose angles are in units of so many degrees.
NamedBlock start_block(const Survey& survey, const PhotoTable& photos, const TieTable& ties, double angle_unit = 1.0);

/// The block that control and adjustment begin with: as orient left it, or, where that has not run, as a listing gives
/// it, with the ties that were imported or none. Throws Error where there is neither.
NamedBlock oriented_block(const Survey& survey, const PhotoTable& photos);
/// What oriented_block() depends on.
std::string oriented_fingerprint(const Survey& survey);

/// Camera parameters that an adjustment frees, by name. Throws Error, for `what`, where one is unknown.
std::array<bool, camera::parameter_count> free_from(const std::vector<std::string>& names, const std::string& what);

/// A `local` survey: the photos' positions gave the block a frame to start in; the control's frame is another one, and
/// only control can lead there. Throws Error, for `what`, where fewer than three points are sighted.
void move_onto_control(adjust::Block& block, const std::string& what);

/// Station table of a block as text (stations.csv); only oriented ones.
std::string stations_text(const Survey& survey, const NamedBlock& block);

}  // namespace mesograph::survey
