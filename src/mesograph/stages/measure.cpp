#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/difference.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/measure.hpp>
#include <mesograph/survey/blocks.hpp>
#include <sstream>

namespace mesograph::stages {

using namespace survey;

namespace {

/// A point to measure from or to, local frame.
struct End {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan), surveyed = Eigen::Vector3d::Constant(nan);
  int index = -1;  ///< among the surveyed points; -1: coordinates that were given
};

/// "east:north:height"; nothing where the words are an id.
std::optional<Eigen::Vector3d> coordinates_from(const std::string& words) {
  std::istringstream stream(words);
  Eigen::Vector3d out;
  char first = 0, second = 0;
  if (!(stream >> out.x() >> first >> out.y() >> second >> out.z()) || !(stream >> std::ws).eof()) return std::nullopt;
  if (first != ':' || second != ':') return std::nullopt;
  return out;
}

End end_of(const NamedBlock& named, const geo::Frame& frame, const std::string& words) {
  End out;
  if (const auto place = coordinates_from(words)) {
    out.X = frame.local_from_crs(*place);
    return out;
  }
  const auto& all = named.block.surveyed;
  const auto found =
      std::find_if(all.begin(), all.end(), [&](const adjust::SurveyedPoint& p) { return p.id == words; });
  if (found == all.end() || !found->point.X.allFinite())
    throw Error(
        "measure: point '{}' has no place in the adjusted block; name a point that is sighted in two photos, or "
        "coordinates, as in 431200.0:6822400.0:640.0",
        words);
  out.X = found->point.X;
  out.index = static_cast<int>(found - all.begin());
  if (found->known_in_space()) out.surveyed = found->surveyed;
  return out;
}

}  // namespace

Measured measure(const Survey& survey, const std::string& a, const std::string& b) {
  if (!survey.store.stage("adjust"))
    throw Error("{}: nothing is adjusted yet; run mesograph adjust first", survey.folder.string());
  const NamedBlock named = load_block(survey, "adjust");
  const geo::Frame frame(survey.crs, named.origin);
  const End from = end_of(named, frame, a), to = end_of(named, frame, b);
  const Eigen::Vector3d d = to.X - from.X;
  const Eigen::Vector3d up = frame.local_from_enu(0.5 * (from.X + to.X)).col(2);
  Measured out;
  out.slope = d.norm();
  out.rise = d.dot(up);
  out.ground = std::sqrt(std::max(0.0, d.squaredNorm() - out.rise * out.rise));
  const Eigen::Vector3d plan =
      survey.crs.metric_from(frame.crs_from_local(to.X)) - survey.crs.metric_from(frame.crs_from_local(from.X));
  out.grid = plan.head<2>().norm();
  const double azimuth = std::atan2(plan.x(), plan.y()) * deg_per_rad;
  out.direction_deg = azimuth < 0 ? azimuth + 360 : azimuth;
  if (from.surveyed.allFinite() && to.surveyed.allFinite()) out.surveyed = (to.surveyed - from.surveyed).norm();
  if (from.index < 0 && to.index < 0) return out;  // what was given is taken as it is
  const auto uncertainty = adjusted_uncertainty(survey, named.block);
  if (!uncertainty) return out;
  const Eigen::Matrix3d C = adjust::difference_covariance(named.block, *uncertainty, from.index, to.index);
  const auto sigma_along = [&](const Eigen::Vector3d& direction) {
    return direction.norm() > 0 ? std::sqrt(direction.normalized().dot(C * direction.normalized())) : nan;
  };
  out.sigma_slope = sigma_along(d);
  out.sigma_ground = sigma_along(d - out.rise * up);
  out.sigma_grid = out.sigma_ground * (out.ground > 0 ? out.grid / out.ground : 1.0);
  out.sigma_rise = sigma_along(up);
  out.sigma_direction_deg = sigma_along(up.cross(d)) / out.ground * deg_per_rad;
  return out;
}

}  // namespace mesograph::stages
