#pragma once

#include <mesograph/report/adjustment.hpp>
#include <string>
#include <vector>

namespace mesograph::report {

// The texts of the files that an adjustment leaves in results/. Numbers have the decimals of base/csv, coordinates
// stand in the survey's CRS, errors along its grid's axes.

/// stations.csv: oriented stations with what the adjustment predicts of them.
/// Accuracy: lengths to 5e-6 m, angles to 5e-9 degrees, which no sigma reaches.
std::string stations_text(const geo::Crs& crs, const adjust::NamedBlock& named);
/// cameras.json
std::string cameras_text(const adjust::NamedBlock& named);
/// control.csv with all points, or checks.csv with the checks alone and what was predicted of their errors.
std::string points_text(const geo::Crs& crs, const std::vector<PointResult>& points, bool checks);
/// natural.csv: points without coordinates that people sighted, as adjusted, with the predicted standard deviations.
std::string natural_points_text(const geo::Crs& crs, const adjust::NamedBlock& named,
                                const adjust::AdjustResult& result);
/// left_out.csv: each control point as an adjustment without it would give it; empty fields where it cannot be done.
std::string left_out_text(const std::vector<PointResult>& points);
/// reliability.csv: every tested observation with its redundancy, test value, smallest error that would be found, and
/// what one of that size does; `item` is its name for --without.
std::string reliability_text(const adjust::NamedBlock& named, const adjust::AdjustResult& result);

}  // namespace mesograph::report
