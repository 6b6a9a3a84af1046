#pragma once

#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/adjust/result.hpp>

namespace mesograph::adjust {

/// What the adjustment would give for a control point had it been without the point's coordinates and all its
/// sightings, and the point been intersected as a check is; without adjusting again, by the change of the normal
/// equations (Sherman and Morrison 1950, Woodbury 1950), to first order in the stations' corrections. Not available
/// where too little would be left to determine the block, where fewer than two rays meet, and for ends of scale bars.
/// Exact to the linearisation: the same as adjusting again without the point, to second order in what it moves. Cost:
/// the columns of its photos squared.
LeftOut leave_out(const Block& block, const SurveyedPoint& point, const PointDesign& design, const Layout& layout,
                  const Eigen::MatrixXd& Q);

}  // namespace mesograph::adjust
