#pragma once

#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/photo_list.hpp>

namespace mesograph::survey {

/// One surveyed point's result in the survey CRS and its grid axes.
struct PointRow {
  const adjust::SurveyedPoint* point;
  const adjust::SurveyedResult* result;
  Eigen::Vector3d place;  ///< as surveyed, CRS; NaN where not surveyed
  /// adjusted - surveyed: east, north, height, m; NaN where not surveyed, or where fewer than two photos show the point
  Eigen::Vector3d error = Eigen::Vector3d::Constant(nan);
  Eigen::Vector3d error_sigma = Eigen::Vector3d::Constant(nan);  ///< predicted standard deviation of that error
  int rays = 0;
  double rms_px = nan;
};

std::vector<PointRow> point_rows(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result);

/// control.csv with all points, or checks.csv with the checks alone and what was predicted of their errors.
std::string points_text(const geo::Crs& crs, const std::vector<PointRow>& rows, bool checks);
/// natural.csv: points without coordinates that people sighted, as adjusted, with the predicted standard deviations.
std::string natural_points_text(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result);
/// left_out.csv: each control point as an adjustment without it would give it; empty fields where it cannot be done.
std::string left_out_text(const std::vector<PointRow>& rows);
/// reliability.csv: every tested observation with its redundancy, test value, smallest error that would be found, and
/// what one of that size does; `item` is its name for --without.
std::string reliability_text(const NamedBlock& named, const adjust::AdjustResult& result);
/// What became of each photo that takes part, in the order of the stations.
std::vector<PhotoUse> uses_of(const NamedBlock& named);

/// The cameras as cameras.json holds them.
std::string adjusted_cameras_text(const NamedBlock& named);
/// adjustment.json without what the stage adds of its own doings.
nlohmann::ordered_json adjustment_json(const NamedBlock& named, const adjust::AdjustResult& result,
                                       const std::vector<PointRow>& rows);

}  // namespace mesograph::survey
