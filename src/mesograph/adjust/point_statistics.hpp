#pragma once

#include <Eigen/Core>
#include <mesograph/adjust/block.hpp>
#include <mesograph/adjust/covariance.hpp>
#include <mesograph/adjust/layout.hpp>
#include <vector>

namespace mesograph::adjust {

/// The observations of one ground point, all divided by their standard deviations: v + A d + B dX, where d are the
/// columns of the layout that its m rays touch.
struct PointDesign {
  std::vector<int> columns;
  int end = -1;                  ///< where the point's own three columns begin among those, of an end of a scale bar
  std::vector<const Ray*> rays;  /// those that take part and can be computed
  Eigen::MatrixXd A;             ///< 2m x columns
  Eigen::MatrixXd B;             ///< 2m x 3
  Eigen::VectorXd v;             ///< 2m, observed - computed
};
/// `end`: first column of the point in the layout, -1 where it is eliminated as most are.
PointDesign design_of(const Block& block, const GroundPoint& point, int end, const Layout& layout);

/// Accuracy of a point and of its image points as adjusted, at sigma0 = 1.
struct PointStatistics {
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);  ///< of the place, m^2
  Eigen::MatrixXd image;  ///< 2m x 2m: covariance of the adjusted image points over their sigmas
  Eigen::MatrixXd cross;  ///< 3 x 2m: of the place with those, m
};
/// `prior`: weight of the point's coordinates, 1/m^2, zero where they took no part; `Q`: covariance of the columns.
/// Exact for the linearised adjustment. Cost: rays times columns squared, no allocation beyond the results.
PointStatistics point_statistics(const PointDesign& design, const Eigen::Matrix3d& prior, const Eigen::MatrixXd& Q);

/// How the place of an eliminated point follows the columns, dX = by_columns d, and the covariance that its own rays
/// and prior give it when those are held.
struct OwnPart {
  Eigen::Matrix3d own;
  Eigen::MatrixXd by_columns;  ///< 3 x columns
};
/// Cost: a 3 x 3 inverse and a product with the columns.
OwnPart own_part(const PointDesign& design, const Eigen::Matrix3d& prior);

/// A square root F (columns x 2m) of the point's share of the reduced normal equations, F F' = A' (I - B V^-1 B') A.
/// Exact: the eigenvalues of I - B V^-1 B' lie between 0 and 1. Cost: an eigenvalue problem of order 2m.
Eigen::MatrixXd root_of_share(const PointDesign& design, const Eigen::Matrix3d& prior);

}  // namespace mesograph::adjust
