#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/tie_table.hpp>
#include <optional>

namespace mesograph::survey {

using adjust::NamedBlock;

/// Exact: to the bit. Cost: some 60 bytes a ray.
void save_block(const Survey& survey, const std::string& stage, const NamedBlock& block);
/// Whether a stage's block is there and of this version: without it the stage does not stand, whatever its inputs.
bool block_stands(const Survey& survey, const std::string& stage);
/// Throws Error where the stage ("orient", "adjust") has not run.
NamedBlock load_block(const Survey& survey, const std::string& stage);

/// The local frame's origin, fixed at the first call and kept in inputs/: median of the photos' positions rounded to
/// 0.001 degree and 1 m, else of the control, else of the listing. Nothing where none of these is there.
std::optional<Eigen::Vector3d> frame_origin(const Survey& survey, const PhotoTable& photos);

/// Control and confirmed sightings of a survey as points of a block, and what a finder's file holds (empty: none).
/// Sightings of photos that take no part are left out.
std::vector<adjust::SurveyedPoint> surveyed_points(const Survey& survey, const geo::Frame& frame,
                                                   const std::vector<std::string>& images,
                                                   const std::filesystem::path& found = {});
/// How the errors of points go together that were carried from another survey.
adjust::JointControl joint_control(const Survey& survey, const std::vector<adjust::SurveyedPoint>& points);
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

}  // namespace mesograph::survey
