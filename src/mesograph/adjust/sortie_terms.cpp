#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/adjust/sortie_terms.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

/// What a small turn in front of a rotation adds to its vector r: the inverse of the left Jacobian of the exponential
/// map (Bullo and Murray 1995, Proportional derivative control on the Euclidean group).
Eigen::Matrix3d inverse_left_jacobian(const Eigen::Vector3d& r) {
  const double angle = r.norm();
  const double second =
      // the series; its next term is 1e-11 there
      angle < 1e-4 ? 1.0 / 12 : (1 - angle * (1 + std::cos(angle)) / (2 * std::sin(angle))) / (angle * angle);
  const Eigen::Matrix3d S = camera::skew(r);
  return Eigen::Matrix3d::Identity() - 0.5 * S + second * S * S;
}

/// Divides all by the sigmas.
SortieTerm weighted(SortieTerm term) {
  const Eigen::DiagonalMatrix<double, 3> root(term.sigma.cwiseInverse());
  term.A = root * term.A;
  for (auto& [column, D] : term.common) D = root * D;
  term.v = root * term.v;
  return term;
}

SortieTerm position_term(const Block& block, const Layout& layout, int i) {
  const Station& s = block.stations[i];
  const Sortie& sortie = block.sorties[s.sortie];
  SortieTerm term;
  term.index = i, term.station = layout.station[i];
  term.sigma = position_sigma(block, s);
  term.A << -s.R * camera::skew(sortie.lever_arm), Eigen::Matrix3d::Identity();
  term.common.emplace_back(layout.sortie[s.sortie], Eigen::Matrix3d::Identity());
  term.v = position_misclosure(block, s);
  if (layout.drift[s.sortie] >= 0 && std::isfinite(s.time))
    term.common.emplace_back(layout.drift[s.sortie], (s.time - sortie.mean_time) * Eigen::Matrix3d::Identity());
  return weighted(term);
}

SortieTerm attitude_term(const Block& block, const Layout& layout, int i) {
  const Station& s = block.stations[i];
  const Eigen::Matrix3d boresight = camera::rotation_by(block.sorties[s.sortie].boresight);
  SortieTerm term;
  term.kind = SortieTerm::Kind::attitude;
  term.index = i, term.station = layout.station[i];
  term.sigma.setConstant(s.sigma_attitude);
  term.v = camera::rotation_vector((s.R * boresight).transpose() * s.attitude);
  const Eigen::Matrix3d J = inverse_left_jacobian(term.v);
  term.A << J * boresight.transpose(), Eigen::Matrix3d::Zero();
  term.common.emplace_back(layout.boresight[s.sortie], J);
  return weighted(term);
}

SortieTerm prior_term(int sortie, int column, const Eigen::Vector3d& value, const Eigen::Vector3d& sigma,
                      const Eigen::Matrix3d& design) {
  SortieTerm term;
  term.kind = SortieTerm::Kind::prior;
  term.index = sortie;
  term.sigma = sigma;
  term.v = -value;
  term.common.emplace_back(column, design);
  return weighted(term);
}

}  // namespace

std::vector<SortieTerm> sortie_terms(const Block& block, const Layout& layout) {
  std::vector<SortieTerm> out;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (layout.station[i] < 0) continue;
    if (layout.sortie[s.sortie] >= 0 && s.position.allFinite())
      out.push_back(position_term(block, layout, static_cast<int>(i)));
    if (layout.boresight[s.sortie] >= 0 && s.sigma_attitude > 0)
      out.push_back(attitude_term(block, layout, static_cast<int>(i)));
  }
  for (std::size_t i = 0; i < block.sorties.size(); ++i) {
    const Sortie& s = block.sorties[i];
    const auto add = [&](int column, const Eigen::Vector3d& value, const Eigen::Vector3d& sigma,
                         const Eigen::Matrix3d& design) {
      if (column >= 0) out.push_back(prior_term(static_cast<int>(i), column, value, sigma, design));
    };
    const Eigen::Matrix3d same = Eigen::Matrix3d::Identity();
    add(layout.sortie[i], s.offset, {s.sigma_offset[0], s.sigma_offset[0], s.sigma_offset[1]}, same);
    add(layout.drift[i], s.drift, {s.sigma_drift[0], s.sigma_drift[0], s.sigma_drift[1]}, same);
    // A turn behind the boresight adds to its vector by the right Jacobian's inverse: the transpose of the left one's.
    add(layout.boresight[i], s.boresight, Eigen::Vector3d::Constant(s.sigma_boresight),
        inverse_left_jacobian(s.boresight).transpose());
  }
  return out;
}

}  // namespace mesograph::adjust
