#include <mesograph/adjust/difference.hpp>
#include <mesograph/adjust/point_statistics.hpp>

namespace mesograph::adjust {

namespace {

/// How a place follows all columns of the layout, and what it has of its own.
struct Follows {
  Eigen::MatrixXd by_all;  ///< columns x 3
  Eigen::Matrix3d own = Eigen::Matrix3d::Zero();
};

Follows follows(const Block& block, const Layout& layout, int i) {
  Follows out{Eigen::MatrixXd::Zero(layout.columns, 3)};
  if (i < 0) return out;
  const SurveyedPoint& point = block.surveyed[static_cast<std::size_t>(i)];
  if (const int end = layout.end[static_cast<std::size_t>(i)]; end >= 0) {
    out.by_all.middleRows<3>(end).setIdentity();
    return out;
  }
  const PointDesign design = design_of(block, point.point, -1, layout);
  const bool takes_part = point.role == Role::control && !point.natural;
  const OwnPart part = own_part(design, takes_part ? weight_of(point) : Eigen::Matrix3d(Eigen::Matrix3d::Zero()));
  out.own = part.own;
  for (std::size_t c = 0; c < design.columns.size(); ++c)
    out.by_all.row(design.columns[c]) = part.by_columns.col(static_cast<Eigen::Index>(c)).transpose();
  return out;
}

}  // namespace

Eigen::Matrix3d difference_covariance(const Block& block, const Uncertainty& uncertainty, int a, int b) {
  for (const int i : {a, b})
    if (i >= 0 && !block.surveyed[static_cast<std::size_t>(i)].point.X.allFinite())
      return Eigen::Matrix3d::Constant(nan);
  const Follows of_a = follows(block, uncertainty.layout, a), of_b = follows(block, uncertainty.layout, b);
  const Eigen::MatrixXd D = of_b.by_all - of_a.by_all;
  const Eigen::Matrix3d shared = D.transpose() * uncertainty.covariance.times(D);
  return of_a.own + of_b.own + 0.5 * (shared + shared.transpose());
}

}  // namespace mesograph::adjust
