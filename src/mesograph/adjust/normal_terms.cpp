#include <cmath>
#include <mesograph/adjust/normal_terms.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/adjust/sortie_terms.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

double cauchy_weight(double squared, double scale) { return scale > 0 ? 1 / (1 + squared / (scale * scale)) : 1.0; }
double cauchy_cost(double squared, double scale) {
  return scale > 0 ? scale * scale * std::log1p(squared / (scale * scale)) : squared;
}

double ray_cost(const std::optional<Eigen::Vector2d>& v, double sigma, double robust_scale) {
  // A thousand sigmas for a point that cannot be imaged: a step that throws points behind cameras must never look
  // cheap, and a finite cost lets a start recover from one that was there before.
  return cauchy_cost(v ? v->squaredNorm() / (sigma * sigma) : 1e6, robust_scale);
}

double control_cost(const SurveyedPoint& s) {
  if (!s.knows_any()) return 0;
  const Eigen::Vector3d d = s.point.X - s.surveyed;
  return d.dot(weight_of(s) * d);
}

double distance(const Block& block, const ScaleBar& bar) {
  return (block.surveyed[bar.a].point.X - block.surveyed[bar.b].point.X).norm();
}

std::vector<LevelTerm> level_terms(const Block& block, const Layout& layout) {
  std::vector<LevelTerm> out;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (layout.station[i] < 0 || !(s.sigma_up > 0)) continue;
    // A turn w in the camera frame moves what is up there by -w x up, and so the tilt, up_observed x up, with it.
    const Eigen::Vector3d up = s.R.transpose().col(2);
    const Eigen::Matrix3d A = camera::skew(s.up) * camera::skew(up) / s.sigma_up;
    LevelTerm term{layout.station[i], A.transpose() * A, -A.transpose() * tilt(s) / s.sigma_up};
    out.push_back(term);
  }
  return out;
}

std::vector<MotionTerm> motion_terms(const Block& block, const Layout& layout) {
  std::vector<MotionTerm> out;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (layout.motion[i] < 0) continue;
    // Beforehand: no turning, and the speed that neighbours' places and times give. Without it a photo's motion and its
    // attitude could not be told apart.
    const Eigen::Matrix<double, 6, 1> root = motion_sigma(block.stations[i]).cwiseInverse();
    out.push_back({layout.motion[i], root.cwiseAbs2(), root.cwiseProduct(motion_misclosure(block.stations[i]))});
  }
  return out;
}

Eigen::Matrix2Xd camera_terms(const Block& block, const Layout& layout) {
  Eigen::Matrix2Xd out = Eigen::Matrix2Xd::Zero(2, layout.columns);
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; layout.camera[i] >= 0 && k < layout.free.size(); ++k) {
      const double sigma = block.priors[i].sigma[layout.free[k]];
      if (!(sigma > 0)) continue;
      const double d = block.priors[i].value[layout.free[k]] - block.cameras[i].interior[layout.free[k]];
      out.col(layout.camera[i] + static_cast<int>(k)) << 1 / (sigma * sigma), d / (sigma * sigma);
    }
  return out;
}

double cost_beside_points(const Block& block, const Layout& layout) {
  double total = 0;
  for (const ScaleBar& bar : block.scale_bars)
    // A bar one end of which is sighted in one photo alone has no length to compare with.
    if (layout.end[bar.a] >= 0 && layout.end[bar.b] >= 0)
      total += std::pow((distance(block, bar) - bar.length) / bar.sigma, 2);
  for (const SortieTerm& term : sortie_terms(block, layout)) total += term.v.squaredNorm();
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    // The same terms, one for one, as those of the normal equations: were one missing here, a step that lowers it would
    // be refused.
    if (layout.station[i] >= 0 && s.sigma_up > 0) total += tilt(s).squaredNorm() / (s.sigma_up * s.sigma_up);
    if (layout.motion[i] >= 0) total += motion_misclosure(s).squaredNorm();
  }
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (const camera::Parameter k : layout.free) {
      const double sigma = block.priors[i].sigma[k];
      if (layout.camera[i] < 0 || !(sigma > 0)) continue;
      const double d = (block.cameras[i].interior[k] - block.priors[i].value[k]) / sigma;
      total += d * d;
    }
  return total;
}

}  // namespace mesograph::adjust
