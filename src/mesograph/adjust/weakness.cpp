#include <Eigen/LU>
#include <array>
#include <cmath>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/adjust/weakness.hpp>
#include <mesograph/base/decompose.hpp>

namespace mesograph::adjust {

Bowl judge_bowl(const Block& block, const std::vector<int>& of, const AdjustResult& result) {
  std::vector<int> stations;
  int oblique = 0;
  Eigen::Vector2d middle = Eigen::Vector2d::Zero();
  for (const int i : of) {
    if (result.layout.station[i] < 0) continue;
    stations.push_back(i);
    middle += block.stations[i].C.head<2>();
    oblique += block.stations[i].R(2, 2) < std::cos(12 * rad_per_deg);  // beyond what a gimbal sways
  }
  Bowl out;
  const auto n = static_cast<Eigen::Index>(stations.size());
  if (n < 6) return out;
  out.oblique_share = static_cast<double>(oblique) / static_cast<double>(n);
  middle /= static_cast<double>(n);
  Eigen::MatrixXd A(n, 4);
  for (Eigen::Index k = 0; k < n; ++k) {
    const Eigen::Vector2d p = block.stations[stations[k]].C.head<2>() - middle;
    A.row(k) << 1, p.x(), p.y(), p.squaredNorm();
  }
  const double reach2 = A.col(3).maxCoeff();
  // Scaled to one at the farthest station: the fourth parameter is then the bowl's height in metres, and the fit well
  // conditioned.
  A.col(1) /= std::sqrt(reach2), A.col(2) /= std::sqrt(reach2), A.col(3) /= reach2;
  // The bowl as a linear function of the stations' heights: its variance needs one solve, no refit.
  const Eigen::VectorXd f = pseudo_inverse(A).row(3);
  Eigen::VectorXd of_unknowns = Eigen::VectorXd::Zero(result.layout.columns);
  double observed = 0, variance = 0;
  bool all = true;
  for (Eigen::Index k = 0; k < n; ++k) {
    const Station& s = block.stations[stations[k]];
    of_unknowns[result.layout.station[stations[k]] + 5] = f[k];
    // With one position missing the function is another one, whose predicted sigma this is not.
    all = all && s.position.allFinite();
    if (all) observed += f[k] * position_misclosure(block, s).z();
    if (all) variance += std::pow(f[k] * position_sigma(block, s).z(), 2);
  }
  out.sigma = std::sqrt(result.inverse.variance(of_unknowns));
  if (all) out.observed = observed, out.observed_sigma = std::sqrt(variance);
  return out;
}

Bias judge_bias(const Block& block, const AdjustResult& result) {
  Bias out;
  std::array<std::vector<double>, 3> errors;
  Eigen::Vector3d own = Eigen::Vector3d::Zero();  // of the survey and of each check's own rays: independent
  Eigen::MatrixXd common = Eigen::MatrixXd::Zero(result.layout.columns, 3);  // how the sums follow the unknowns
  for (std::size_t i = 0; i < block.surveyed.size() && i < result.surveyed.size(); ++i) {
    const SurveyedPoint& p = block.surveyed[i];
    if (p.role != Role::check || p.natural || result.surveyed[i].rays < 2 || !p.point.X.allFinite()) continue;
    const PointDesign design = design_of(block, p.point, -1, result.layout);
    const OwnPart part = own_part(design, Eigen::Matrix3d::Zero());
    if (!part.own.allFinite()) continue;
    const Eigen::Vector3d e = p.axes.transpose() * (p.point.X - p.surveyed);
    const Eigen::Matrix3d of_rays = p.axes.transpose() * part.own * p.axes;
    const Eigen::MatrixXd rows = p.axes.transpose() * part.by_columns;
    ++out.checks;
    for (int a = 0; a < 3; ++a) {
      if (!p.knows(a)) continue;
      errors[static_cast<std::size_t>(a)].push_back(e[a]);
      own[a] += of_rays(a, a) + p.sigma[a] * p.sigma[a];
      for (std::size_t c = 0; c < design.columns.size(); ++c)
        common(design.columns[c], a) += rows(a, static_cast<Eigen::Index>(c));
    }
  }
  for (int a = 0; a < 3; ++a) {
    const std::vector<double>& all = errors[static_cast<std::size_t>(a)];
    const auto n = static_cast<double>(all.size());
    if (n < 1) continue;
    double sum = 0, squares = 0;
    for (const double e : all) sum += e;
    for (const double e : all) squares += std::pow(e - sum / n, 2);
    out.mean[a] = sum / n;
    if (n > 1) out.by_scatter[a] = std::sqrt(squares / (n - 1) / n);
    const double of_block = result.layout.columns > 0 ? result.inverse.variance(common.col(a)) : 0.0;
    out.predicted[a] = std::sqrt(own[a] + of_block) / n;
  }
  return out;
}

std::optional<Trend> judge_trend(const std::vector<Eigen::Vector3d>& places, const std::vector<double>& errors,
                                 const std::vector<double>& sigmas) {
  const auto n = static_cast<Eigen::Index>(places.size());
  if (n < 6) return std::nullopt;
  Eigen::Vector2d middle = Eigen::Vector2d::Zero();
  for (const Eigen::Vector3d& p : places) middle += p.head<2>() / static_cast<double>(n);
  double reach = 0;
  for (const Eigen::Vector3d& p : places) reach = std::max(reach, (p.head<2>() - middle).norm());
  Eigen::MatrixXd A(n, 4);
  Eigen::VectorXd e(n);
  for (Eigen::Index i = 0; i < n; ++i) {
    const Eigen::Vector2d at = (places[i].head<2>() - middle) / reach;
    A.row(i) << 1, at.x(), at.y(), at.squaredNorm();
    // Errors of unlike sigmas: unweighted, one loose check would make the trend.
    A.row(i) /= sigmas[i];
    e[i] = errors[i] / sigmas[i];
  }
  const LeastSquares fit = least_squares(A, e);
  if (fit.rank < 4) return std::nullopt;  // on one line a bowl and a tilt cannot be told apart
  const Eigen::Vector4d f = fit.x;
  const Eigen::Matrix4d Q = (A.transpose() * A).inverse();
  const Eigen::Vector2d tilt = f.segment<2>(1);
  // Both as value and over sigma: a large trend of few checks may be chance, and a small one of many may not.
  return Trend{tilt.norm(), std::sqrt(tilt.dot(Q.block<2, 2>(1, 1).inverse() * tilt)), f[3], f[3] / std::sqrt(Q(3, 3))};
}

std::vector<HeldByPrior> held_by_prior(const Block& block, const AdjustResult& result) {
  std::vector<HeldByPrior> out;
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; result.layout.camera[i] >= 0 && k < result.layout.free.size(); ++k) {
      const camera::Parameter parameter = result.layout.free[k];
      // The others have no prior that says anything: of distortion beforehand nobody knows.
      if (parameter != camera::c && parameter != camera::x0 && parameter != camera::y0) continue;
      const int column = result.layout.camera[i] + static_cast<int>(k);
      const double sigma = std::sqrt(result.inverse(column, column));
      if (sigma > 0.5 * block.priors[i].sigma[parameter])  // the observations halved not even what was known before
        out.push_back({static_cast<int>(i), parameter, block.cameras[i].interior[parameter], sigma});
    }
  return out;
}

}  // namespace mesograph::adjust
