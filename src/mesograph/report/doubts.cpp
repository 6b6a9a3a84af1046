#include <algorithm>
#include <cmath>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/weakness.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/links.hpp>
#include <mesograph/report/doubts.hpp>

namespace mesograph::report {

namespace {

constexpr double most_gsd = 3;  // of bending that nobody needs to hear of

void say_held_by_prior(const adjust::NamedBlock& named, const adjust::AdjustResult& result, Progress& progress) {
  for (const adjust::HeldByPrior& h : adjust::held_by_prior(named.block, result))
    progress.say(fmt::format(
        "camera {}: {} = {:.1f} px rests on its start value (within {:.1f} px): the photos do not determine "
        "it; control at different heights, oblique photos or a calibration would",
        named.block.cameras[h.camera].name, camera::parameter_names[h.parameter], h.value, h.sigma));
}

/// "A, B, C and 12 more".
std::string first_of(const std::vector<std::string>& names) {
  const std::size_t shown = std::min<std::size_t>(8, names.size());  // a sentence, not a list
  const std::string listed =
      fmt::format("{}", fmt::join(names.begin(), names.begin() + static_cast<std::ptrdiff_t>(shown), ", "));
  return names.size() == shown ? listed : fmt::format("{} and {} more", listed, names.size() - shown);
}

/// Photos that few rays hold, ties and sightings of control together: their stations are as good as those few.
void say_hanging(const adjust::NamedBlock& named, Progress& progress) {
  const adjust::Block& block = named.block;
  std::vector<adjust::TiedBy> tied = adjust::tied_by(block);
  for (const adjust::SurveyedPoint& point : block.surveyed)
    for (const adjust::Ray& ray : point.point.rays)
      if (point.role == adjust::Role::control && adjust::takes_part(block, ray)) ++tied[ray.station].rays;
  std::vector<std::string> hanging;
  for (std::size_t i = 0; i < tied.size(); ++i)
    if (const adjust::Station& s = block.stations[i];
        s.oriented && !s.held && tied[i].rays < adjust::AdjustOptions().least_ties)
      hanging.push_back(fmt::format("{} ({})", named.images[i], tied[i].rays));
  if (hanging.empty()) return;
  progress.say(fmt::format(
      "photos hang on few ties: {}; do not trust their stations: tie them better (tie --pairs all) or drop them "
      "(admit --drop)",
      first_of(hanging)));
}

/// The azimuth of a level direction.
std::string azimuth_of(const Eigen::Vector3d& d) {
  const double degrees = std::atan2(d.x(), d.y()) * deg_per_rad;
  return fmt::format("azimuth {:.0f} degrees", degrees < 0 ? degrees + 180 : degrees);
}

/// What is open, and what would close it.
std::pair<std::string, std::string> words_of(const adjust::NamedBlock& named, const adjust::Open& open,
                                             const Eigen::Matrix3d& grid_from_local) {
  // within 26 degrees of the vertical people call it a turn in plan
  const bool upright = std::abs(open.direction.z()) > 0.9;
  const std::string azimuth = azimuth_of(grid_from_local * open.direction);
  switch (open.what) {
    case adjust::Open::What::scale:
      return {"the block's scale", "add a scale bar or a second control point"};
    case adjust::Open::What::turn:
      if (upright) return {"its turn about the vertical", "add a second control point"};
      return {fmt::format("its turn about a line of {}", azimuth),
              "add control off the line through what there is, or positions"};
    case adjust::Open::What::shift:
      if (upright) return {"its height", "add control of known height"};
      return {fmt::format("its place along {}", azimuth), "add control of known east and north"};
    case adjust::Open::What::camera:
      return {fmt::format("{} of camera {}", camera::parameter_names[open.parameter],
                          named.block.cameras[open.camera].name),
              "hold it (--free without it, or --fix-camera)"};
    case adjust::Open::What::station:
      break;
  }
  return {"photo " + named.images[open.station], "tie it better or drop it (admit --drop)"};
}

/// Photos that all look down hardly part the lens from the shape of the ground. What is predicted holds for a lens that
/// follows its model to the last term, and no lens does; fine positions and well-spread control hold the shape.
bool bends_by_nature(const adjust::NamedBlock& named, const adjust::AdjustResult& result, const adjust::Bowl& bowl) {
  const auto control =
      std::count_if(named.block.surveyed.begin(), named.block.surveyed.end(), [](const adjust::SurveyedPoint& p) {
        return p.role == adjust::Role::control && p.knows(2) && p.point.rays.size() >= 2;
      });
  const bool held = !result.surveyed.empty() && control >= 5;  // a bowl takes four corners and a middle to see
  const bool lens =
      std::find(result.layout.free.begin(), result.layout.free.end(), camera::k1) != result.layout.free.end();
  // one oblique photo in twenty ties a lens down, fewer may be strays
  return bowl.oblique_share < 0.05 && lens && !held && !(bowl.observed_sigma < result.gsd);
}

}  // namespace

namespace {

/// How far control lies off where the block has it, along its axes: median over the points, m, and its standard
/// deviation as predicted of a point; nought where fewer than three know an axis.
struct Shift {
  Eigen::Vector3d off = Eigen::Vector3d::Zero(), sigma = Eigen::Vector3d::Zero();
};

Shift shift_of(const std::vector<std::pair<Eigen::Vector3d, Eigen::Vector3d>>& off_and_sigma) {
  Shift out;
  for (int a = 0; a < 3; ++a) {
    std::vector<double> off, sigma;
    for (const auto& [d, s] : off_and_sigma)
      if (std::isfinite(d[a])) off.push_back(d[a]), sigma.push_back(s[a]);
    if (off.size() < 3) continue;
    out.off[a] = median(std::move(off)), out.sigma[a] = median(std::move(sigma));
  }
  return out;
}

/// As the block stands; sigmas are what the positions of a sortie may be off by.
Shift shift_now(const adjust::Block& block) {
  Eigen::Vector3d most = Eigen::Vector3d::Zero();
  for (const adjust::Station& s : block.stations) {
    const adjust::Sortie& sortie = block.sorties[s.sortie];
    if (!s.oriented || !s.position.allFinite()) continue;
    for (int a = 0; a < 3; ++a)
      most[a] = std::max(most[a], sortie.sigma_offset[a < 2 ? 0 : 1] + adjust::position_sigma(block, s)[a]);
  }
  std::vector<std::pair<Eigen::Vector3d, Eigen::Vector3d>> all;
  for (const adjust::SurveyedPoint& p : block.surveyed) {
    adjust::GroundPoint point = p.point;
    point.X.setConstant(nan);
    if (p.role != adjust::Role::control || p.natural || !adjust::place(block, point, 0.02)) continue;
    Eigen::Vector3d d = p.axes.transpose() * (p.surveyed - point.X);
    for (int a = 0; a < 3; ++a)
      if (!p.knows(a) || most.isZero()) d[a] = nan;
    all.emplace_back(d, most);
  }
  return shift_of(all);
}

/// As the positions alone have it once they are adjusted: where photos were only near the truth to begin with, what
/// their rays met at says nothing. Nothing where positions alone do not determine the block.
Shift shift_by_positions(adjust::Block block, Progress& progress) {
  for (adjust::SurveyedPoint& p : block.surveyed)
    if (p.role == adjust::Role::control) p.role = p.natural ? adjust::Role::off : adjust::Role::check;
  block.scale_bars.clear();
  std::vector<std::pair<Eigen::Vector3d, Eigen::Vector3d>> all;
  try {
    const adjust::AdjustResult result =
        adjust::adjust(block, {}, progress);  // as long as any, so it can be interrupted
    if (result.status != adjust::SolveStatus::converged) return {};
    for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
      const adjust::SurveyedPoint& p = block.surveyed[i];
      const Eigen::Matrix3d Q = p.axes.transpose() * result.surveyed[i].covariance * p.axes;
      Eigen::Vector3d d = p.axes.transpose() * (p.surveyed - result.surveyed[i].X), sigma;
      for (int a = 0; a < 3; ++a) {
        if (!p.knows(a) || p.role != adjust::Role::check) d[a] = nan;
        sigma[a] = std::sqrt(Q(a, a) + p.sigma[a] * p.sigma[a]);
      }
      all.emplace_back(d, sigma);
    }
  } catch (const Error&) {
    return {};
  }
  return shift_of(all);
}

bool stands_out(const Shift& shift) { return (shift.off.cwiseAbs().array() > 5 * shift.sigma.array()).any(); }

void say_shift(const adjust::Block& block, Progress& progress) {
  if (!stands_out(shift_now(block))) return;
  const Shift shift = shift_by_positions(block, progress);
  if (!stands_out(shift)) return;
  progress.say(fmt::format(
      "control lies east {:+.1f}, north {:+.1f}, height {:+.1f} m off where the block lies by the photos' positions "
      "alone, far beyond what it may be off there (1 sigma {:.2f} m in plan, {:.2f} m in height): one of them is in "
      "another system or above another surface; check control --crs, positions_crs and heights in [sortie], or set "
      "sigma_sortie",
      shift.off.x(), shift.off.y(), shift.off.z(), shift.sigma.head<2>().maxCoeff(), shift.sigma.z()));
}

}  // namespace

void say_contradictions(const adjust::NamedBlock& named, Progress& progress) {
  const adjust::Block& block = named.block;
  std::vector<std::string> blind;
  int control = 0, blind_control = 0;
  for (const adjust::SurveyedPoint& p : block.surveyed) {
    if (p.role == adjust::Role::off || p.natural) continue;
    const auto rays = std::count_if(p.point.rays.begin(), p.point.rays.end(),
                                    [&](const adjust::Ray& r) { return adjust::takes_part(block, r); });
    if (rays < 2) blind.push_back(p.id);
    control += p.role == adjust::Role::control, blind_control += p.role == adjust::Role::control && rays < 2;
  }
  if (control > 0 && blind_control == control)
    progress.say(
        fmt::format("NONE of the {} control points takes part, for too few photos show them: the block rests on the "
                    "photos' positions alone, and nothing is checked; run mesograph sight, and see what it says",
                    control));
  else if (!blind.empty())
    progress.say(
        fmt::format("{} are sighted in fewer than two photos and say nothing: mesograph sight shows where to look",
                    first_of(blind)));
  say_shift(block, progress);
}

std::string words_of_open(const adjust::NamedBlock& named, const std::vector<adjust::Open>& open,
                          const Eigen::Matrix3d& grid_from_local) {
  std::vector<std::string> what, remedies;
  for (const adjust::Open& one : open) {
    const auto [words, remedy] = words_of(named, one, grid_from_local);
    what.push_back(words);
    if (std::find(remedies.begin(), remedies.end(), remedy) == remedies.end()) remedies.push_back(remedy);
  }
  return fmt::format("the observations do not determine {}: {}", fmt::join(what, ", "), fmt::join(remedies, "; "));
}

std::optional<BowlResult> say_doubts(const adjust::NamedBlock& named, const adjust::AdjustResult& result,
                                     Progress& progress) {
  say_held_by_prior(named, result, progress);
  say_hanging(named, progress);
  if (named.free) return std::nullopt;
  adjust::Bowl bowl;
  for (const std::vector<int>& part : orient::tied_together(named.block))
    if (const adjust::Bowl one = adjust::judge_bowl(named.block, part, result); !(one.sigma <= bowl.sigma)) bowl = one;
  if (std::isnan(bowl.sigma)) return std::nullopt;
  const bool nadir = bends_by_nature(named, result, bowl);
  if (nadir || bowl.sigma > most_gsd * result.gsd)
    progress.say(fmt::format(
        "heights may be bent like a bowl: {:.2f} m or more between the middle and the edge (predicted, 1 sigma; {:.1f} "
        "GSD), for {} do not part the lens from the shape of the ground. Do not trust heights before there is control "
        "in the middle and at the edges, {}or positions of centimetre level",
        bowl.sigma, bowl.sigma / result.gsd, nadir ? "photos that all look straight down" : "these photos",
        nadir ? "a crossing sortie of oblique photos, " : ""));
  if (std::abs(bowl.observed) > 3.29 * bowl.observed_sigma && std::abs(bowl.observed) > most_gsd * result.gsd)
    progress.say(
        fmt::format("the positions show the block bent like a bowl by {:+.2f} m at the edge (1 sigma {:.2f} m)",
                    bowl.observed, bowl.observed_sigma));
  return BowlResult{bowl.sigma, bowl.observed, bowl.oblique_share};
}

}  // namespace mesograph::report
