#pragma once

#include <mesograph/adjust/layout.hpp>
#include <optional>
#include <vector>

namespace mesograph::adjust {

// Terms of the normal equations beside those of rays and of positions and attitudes (sortie_terms): Cauchy weights of
// rays, control, scale bars, where up is, how rolling shutters move, priors of cameras. Weighted: squares of the
// residuals over their sigmas. Source of the robust weight: Cauchy's, as in Triggs et al. (2000), section 3.

/// Weight and cost of a squared weighted residual; `scale` in sigmas, 0: full weight.
double cauchy_weight(double squared, double scale);
double cauchy_cost(double squared, double scale);
/// What a ray costs; a point that has moved behind a photo as much as a residual of a thousand sigma.
double ray_cost(const std::optional<Eigen::Vector2d>& v, double sigma, double robust_scale);
/// What a surveyed point's coordinates cost.
double control_cost(const SurveyedPoint& point);

/// What is known of where up is, of the rotation of one station.
struct LevelTerm {
  int station = -1;  ///< column
  Eigen::Matrix3d normal;
  Eigen::Vector3d right;
};
std::vector<LevelTerm> level_terms(const Block& block, const Layout& layout);
/// What is expected of a station's motion.
struct MotionTerm {
  int motion = -1;  ///< column
  Eigen::Matrix<double, 6, 1> weight, misclosure;
};
std::vector<MotionTerm> motion_terms(const Block& block, const Layout& layout);
/// Per column: weight of a camera parameter's prior, weighted misclosure.
Eigen::Matrix2Xd camera_terms(const Block& block, const Layout& layout);

/// Cost of scale bars, positions and attitudes, verticals, motion and priors of cameras at the present values.
double cost_beside_points(const Block& block, const Layout& layout);

}  // namespace mesograph::adjust
