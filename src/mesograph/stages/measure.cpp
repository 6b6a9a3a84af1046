#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/difference.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/places.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/measure.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <optional>
#include <sstream>

namespace mesograph::stages {

using namespace survey;

struct Tape::Held {
  explicit Held(const Survey& s)
      : survey(s),
        named(load_block(s, "adjust")),
        frame(s.crs, named.origin),
        uncertainty(adjusted_uncertainty(s, named.block)) {}
  const Survey& survey;
  NamedBlock named;
  geo::Frame frame;
  std::optional<adjust::Uncertainty> uncertainty;
  std::optional<mesh::TriangleMesh> on;  ///< coordinates of the CRS as metres east, north and up
};

namespace {

/// A point to measure from or to, local frame.
struct End {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan), surveyed = Eigen::Vector3d::Constant(nan);
  int index = -1;  ///< among the surveyed points; -1: coordinates that were given
  double off_mesh = nan;
  /// Covariance of where the surface lies, m^2; of a mesh alone. NaN on a guess.
  Eigen::Matrix3d of_surface = Eigen::Matrix3d::Zero();
};

/// "east:north:height" or "east:north", the height NaN; nothing where the words are an id.
std::optional<Eigen::Vector3d> coordinates_from(const std::string& words) {
  std::istringstream stream(words);
  Eigen::Vector3d out(nan, nan, nan);
  char colon = 0;
  if (!(stream >> out.x() >> colon >> out.y()) || colon != ':') return std::nullopt;
  if ((stream >> std::ws).eof()) return out;
  if (!(stream >> colon >> out.z()) || colon != ':' || !(stream >> std::ws).eof()) return std::nullopt;
  return out;
}

End end_of(const NamedBlock& named, const geo::Frame& frame, const std::string& words) {
  End out;
  if (const auto place = coordinates_from(words)) {
    if (std::isnan(place->z()))
      throw Error("measure: {} has no height; add it, as in 431200.0:6822400.0:640.0, or measure on a mesh (--mesh)",
                  words);
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

/// Where words are on a mesh.
End end_on(const mesh::TriangleMesh& mesh, const geo::Crs& crs, const NamedBlock& named, const geo::Frame& frame,
           const std::string& words) {
  End out;
  mesh::PlaceOn place;
  if (const auto given = coordinates_from(words); given && std::isnan(given->z())) {
    const Eigen::Vector2d plan = crs.metric_from({given->x(), given->y(), 0}).head<2>();
    const auto top = mesh::top_place(mesh, plan);
    if (!top) throw Error("measure: no part of the mesh lies at {}", words);
    place = *top;
  } else {
    out = end_of(named, frame, words);
    place = mesh::nearest_place(mesh, crs.metric_from(frame.crs_from_local(out.X)));
  }
  out.X = frame.local_from_crs(crs.from_metric(place.X));
  out.off_mesh = place.distance;
  // The grid's axes and the frame's differ by a degree or two: nothing to a sigma.
  out.of_surface = std::pow(place.sigma, 2) * place.normal * place.normal.transpose();
  return out;
}

/// What lies between two ends, without its sigmas.
Measured between(const End& from, const End& to, const Survey& survey, const geo::Frame& frame) {
  const Eigen::Vector3d d = to.X - from.X;
  Measured out;
  out.slope = d.norm();
  out.rise = d.dot(frame.local_from_enu(0.5 * (from.X + to.X)).col(2));
  out.ground = std::sqrt(std::max(0.0, d.squaredNorm() - out.rise * out.rise));
  const Eigen::Vector3d plan =
      survey.crs.metric_from(frame.crs_from_local(to.X)) - survey.crs.metric_from(frame.crs_from_local(from.X));
  out.grid = plan.head<2>().norm();
  const double azimuth = std::atan2(plan.x(), plan.y()) * deg_per_rad;
  out.direction_deg = azimuth < 0 ? azimuth + 360 : azimuth;
  if (from.surveyed.allFinite() && to.surveyed.allFinite()) out.surveyed = (to.surveyed - from.surveyed).norm();
  return out;
}

/// Sigmas by the covariance of the difference of both ends.
void add_sigmas(const Eigen::Matrix3d& C, const Eigen::Vector3d& d, const Eigen::Vector3d& up, Measured& out) {
  const auto sigma_along = [&](const Eigen::Vector3d& direction) {
    return direction.norm() > 0 ? std::sqrt(direction.normalized().dot(C * direction.normalized())) : nan;
  };
  out.sigma_slope = sigma_along(d);
  out.sigma_ground = sigma_along(d - out.rise * up);
  out.sigma_grid = out.sigma_ground * (out.ground > 0 ? out.grid / out.ground : 1.0);
  out.sigma_rise = sigma_along(up);
  out.sigma_direction_deg = sigma_along(up.cross(d)) / out.ground * deg_per_rad;
}

}  // namespace

Tape::Tape(const Survey& survey) {
  if (!survey.store.stage("adjust"))
    throw Error("{}: nothing is adjusted yet; run mesograph adjust first", survey.folder.string());
  held_ = std::make_unique<Held>(survey);
}

Tape::~Tape() = default;

void Tape::lay_on(mesh::TriangleMesh mesh) {
  const geo::Crs& crs = held_->survey.crs;
  for (Eigen::Vector3d& X : mesh.X) X = crs.metric_from(X);
  for (float& sigma : mesh.sigma) sigma *= static_cast<float>(crs.height_unit);
  held_->on = std::move(mesh);
}

Measured Tape::measure(const std::string& a, const std::string& b) const {
  const Held& h = *held_;
  const auto end = [&](const std::string& words) {
    return h.on ? end_on(*h.on, h.survey.crs, h.named, h.frame, words) : end_of(h.named, h.frame, words);
  };
  const End from = end(a), to = end(b);
  Measured out = between(from, to, h.survey, h.frame);
  const Eigen::Vector3d d = to.X - from.X, up = h.frame.local_from_enu(0.5 * (from.X + to.X)).col(2);
  out.from_off = from.off_mesh, out.to_off = to.off_mesh;
  const Eigen::Matrix3d of_surface = from.of_surface + to.of_surface;
  out.guessed = !of_surface.allFinite();
  const bool named = from.index >= 0 || to.index >= 0;  // what was given is taken as it is
  if (out.guessed || (!named && !h.on) || (named && !h.uncertainty)) return out;
  Eigen::Matrix3d C = of_surface;
  if (named) C += adjust::difference_covariance(h.named.block, *h.uncertainty, from.index, to.index);
  add_sigmas(C, d, up, out);
  return out;
}

std::vector<LengthCheck> Tape::check(const std::filesystem::path& file) const {
  std::vector<LengthCheck> out;
  for (const ScaleBarRow& row : read_scale_bars(file)) {
    const Measured m = measure(row.a, row.b);
    LengthCheck& c = out.emplace_back(LengthCheck{row.id, row.a, row.b, row.length, row.sigma, m.slope, m.sigma_slope});
    c.difference = c.found - c.taped;
    c.w = c.difference / std::hypot(c.sigma, c.sigma_taped);
  }
  return out;
}

}  // namespace mesograph::stages
