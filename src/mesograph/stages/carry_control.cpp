#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/joint_control.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/pair.hpp>
#include <mesograph/orient/stable_points.hpp>
#include <mesograph/stages/carry_control.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/tie_items.hpp>
#include <mesograph/survey/blocks.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr int least_points = 30;

/// A survey as points are carried from it or to it.
struct Epoch {
  const Survey& survey;
  PhotoTable photos;
  TieTable ties;
  NamedBlock named;
  geo::Frame frame;
  std::vector<int> station;          ///< of each photo that takes part; -1: not oriented
  std::vector<Eigen::Vector3d> aim;  ///< mean of what a photo's tie points are of, local frame; NaN: none
  std::vector<std::map<std::pair<float, float>, int>> tie_at;  ///< per photo: tie point of a place in it

  Epoch(const Survey& of, NamedBlock block)
      : survey(of), photos(load_photos(of)), ties(load_ties(of)), named(std::move(block)), frame(of.crs, named.origin) {
    std::map<std::string, int> number;
    for (std::size_t i = 0; i < named.images.size(); ++i)
      if (named.block.stations[i].oriented) number[named.images[i]] = static_cast<int>(i);
    for (const std::string& image : ties.images) station.push_back(number.count(image) ? number[image] : -1);
    std::vector<Eigen::Vector3d> sum(named.images.size(), Eigen::Vector3d::Zero());
    std::vector<int> count(named.images.size(), 0);
    for (const adjust::GroundPoint& p : named.block.points)
      for (const adjust::Ray& ray : p.rays)
        if (p.X.allFinite() && adjust::takes_part(named.block, ray)) sum[ray.station] += p.X, ++count[ray.station];
    for (const int s : station)
      aim.push_back(s >= 0 && count[s] > 0 ? Eigen::Vector3d(sum[s] / count[s])
                                           : Eigen::Vector3d(Eigen::Vector3d::Constant(nan)));
    tie_at.resize(ties.images.size());
    for (std::size_t p = 0; p < ties.points.size(); ++p)
      for (const TieTable::Ray& ray : ties.points[p].rays)
        tie_at[static_cast<std::size_t>(ray.photo)][{static_cast<float>(ray.x.x()), static_cast<float>(ray.x.y())}] =
            static_cast<int>(p);
  }
  const adjust::Station& station_of(int photo) const {
    return named.block.stations[static_cast<std::size_t>(station[static_cast<std::size_t>(photo)])];
  }
};

/// Of each photo of the later epoch the earlier ones that look at the same ground from a like direction.
std::vector<std::pair<int, int>> pairs_of(const Epoch& earlier, const Epoch& later, int partners) {
  std::vector<std::pair<int, int>> out;
  std::vector<Eigen::Vector3d> aims;  // of the earlier, in the later one's frame
  for (const Eigen::Vector3d& aim : earlier.aim)
    aims.push_back(aim.allFinite() ? later.frame.local_from_crs(earlier.frame.crs_from_local(aim)) : aim);
  for (std::size_t b = 0; b < later.aim.size(); ++b) {
    if (!later.aim[b].allFinite()) continue;
    const adjust::Station& s = later.station_of(static_cast<int>(b));
    const double range = (s.C - later.aim[b]).norm();
    std::vector<std::pair<double, int>> order;
    for (std::size_t a = 0; a < aims.size(); ++a) {
      if (!aims[a].allFinite()) continue;
      const adjust::Station& other = earlier.station_of(static_cast<int>(a));
      const double turn = std::acos(std::clamp(s.R.col(2).dot(other.R.col(2)), -1.0, 1.0)),
                   apart = (aims[a] - later.aim[b]).head<2>().norm() / range;
      // Beyond what descriptors stand, or where nothing is common.
      if (turn < 45 * rad_per_deg && apart < 1) order.emplace_back(apart + turn, static_cast<int>(a));
    }
    std::sort(order.begin(), order.end());
    for (std::size_t k = 0; k < std::min<std::size_t>(order.size(), static_cast<std::size_t>(partners)); ++k)
      out.emplace_back(static_cast<int>(b), order[k].second);
  }
  return out;
}

/// Tie points of the earlier and of the later epoch that photos say are one, each once.
std::vector<std::pair<int, int>> common_points(const Epoch& earlier, const Epoch& later,
                                               const std::vector<std::pair<int, int>>& pairs, Progress& progress) {
  const std::vector<const Photo*> of_earlier = earlier.photos.kept(), of_later = later.photos.kept();
  std::vector<std::vector<std::pair<int, int>>> found(pairs.size());
  progress.start("matching epochs", pairs.size());
  parallel_for(pairs.size(), [&](std::size_t k) {
    progress.check();
    const auto [b, a] = pairs[k];
    const Photo &now = *of_later[static_cast<std::size_t>(b)], &then = *of_earlier[static_cast<std::size_t>(a)];
    const keypoint::Keypoints keys_now = load_keypoints(later.survey, now),
                              keys_then = load_keypoints(earlier.survey, then);
    const auto camera_of = [](const Epoch& epoch, int photo) {
      return epoch.named.block.cameras[static_cast<std::size_t>(epoch.station_of(photo).camera)];
    };
    const auto tie_of = [](const Epoch& epoch, int photo, const keypoint::Keypoint& key) {
      const auto& places = epoch.tie_at[static_cast<std::size_t>(photo)];
      const auto at = places.find({key.x, key.y});
      return at == places.end() ? -1 : at->second;
    };
    for (const match::Match& m : match::match_pair(keys_now, camera_of(later, b), keys_then, camera_of(earlier, a),
                                                   seed_from(now.image + "|" + then.image))) {
      const int q = tie_of(later, b, keys_now.points[static_cast<std::size_t>(m.a)]),
                p = tie_of(earlier, a, keys_then.points[static_cast<std::size_t>(m.b)]);
      if (p >= 0 && q >= 0) found[k].emplace_back(p, q);
    }
    progress.advance();
  });
  std::map<std::pair<int, int>, int> votes;
  for (const auto& some : found)
    for (const auto& pair : some) ++votes[pair];
  std::map<int, int> most_of_earlier, most_of_later, rivals_of_earlier, rivals_of_later;
  for (const auto& [pair, n] : votes) {
    int &p = most_of_earlier[pair.first], &q = most_of_later[pair.second];
    p = std::max(p, n), q = std::max(q, n);
  }
  for (const auto& [pair, n] : votes) {
    rivals_of_earlier[pair.first] += n == most_of_earlier[pair.first];
    rivals_of_later[pair.second] += n == most_of_later[pair.second];
  }
  std::vector<std::pair<int, int>> out;
  for (const auto& [pair, n] : votes)
    if (n == most_of_earlier[pair.first] && n == most_of_later[pair.second] && rivals_of_earlier[pair.first] == 1 &&
        rivals_of_later[pair.second] == 1)
      out.push_back(pair);
  return out;
}

/// A tie point with its rays of oriented photos, where they meet; nothing where they are fewer than three, meet at too
/// small an angle, or one is far off.
std::optional<adjust::GroundPoint> sound_point(const Epoch& epoch, int tie, double least_angle, double most_px) {
  adjust::GroundPoint out;
  for (const TieTable::Ray& ray : epoch.ties.points[static_cast<std::size_t>(tie)].rays) {
    const int station = epoch.station[static_cast<std::size_t>(ray.photo)];
    if (station < 0) continue;
    const double sigma = std::isfinite(ray.sigma) ? ray.sigma : epoch.survey.settings.tie.sigma_px;
    out.rays.push_back({station, ray.x, sigma, true});
  }
  if (out.rays.size() < 3 || !adjust::place(epoch.named.block, out, least_angle)) return std::nullopt;
  for (const adjust::Ray& ray : out.rays) {
    const auto v = adjust::residual(epoch.named.block, ray, out.X);
    if (!v || v->norm() > most_px) return std::nullopt;
  }
  return out;
}

/// Median length of the residuals of a block's tie rays, px: a block that is oriented and no more is bent a little.
double usual_residual(const Epoch& epoch) {
  const adjust::Block& block = epoch.named.block;
  std::vector<double> out;
  for (std::size_t p = 0; p < block.points.size(); p += 1 + block.points.size() / 20000)
    for (const adjust::Ray& ray : block.points[p].rays) {
      if (!block.points[p].X.allFinite() || !adjust::takes_part(block, ray)) continue;
      if (const auto v = adjust::residual(block, ray, block.points[p].X)) out.push_back(v->norm());
    }
  return median(std::move(out));
}

struct Candidate {
  adjust::GroundPoint earlier, later;
  double worth = 0;  ///< rays of both
};

std::vector<Candidate> candidates_of(const Epoch& earlier, const Epoch& later,
                                     const std::vector<std::pair<int, int>>& common, double least_angle) {
  const double least_px = 1, adjusted_px = std::max(least_px, 5 * usual_residual(earlier)),
               oriented_px = std::max(least_px, 5 * usual_residual(later));
  std::vector<std::optional<Candidate>> all(common.size());
  parallel_for(common.size(), 64, [&](std::size_t k) {
    const auto then = sound_point(earlier, common[k].first, least_angle, adjusted_px),
               now = sound_point(later, common[k].second, least_angle, oriented_px);
    if (then && now) all[k] = Candidate{*then, *now, static_cast<double>(then->rays.size() + now->rays.size())};
  });
  std::vector<Candidate> out;
  for (auto& one : all)
    if (one) out.push_back(std::move(*one));
  return out;
}

/// Well spread over the plan: the one with most rays in each of so many squares as give about `most` points.
std::vector<std::size_t> spread(const std::vector<Candidate>& from, int most) {
  Eigen::AlignedBox2d box;
  for (const Candidate& c : from) box.extend(Eigen::Vector2d(c.earlier.X.head<2>()));
  const double widest = box.sizes().maxCoeff();
  std::vector<std::size_t> out;
  for (double side = widest; side > widest / 200; side /= 1.1) {
    std::map<std::pair<int, int>, std::size_t> best;
    for (std::size_t i = 0; i < from.size(); ++i) {
      const Eigen::Vector2d at = (from[i].earlier.X.head<2>() - box.min()) / side;
      const auto [square, fresh] = best.emplace(std::pair(static_cast<int>(at.x()), static_cast<int>(at.y())), i);
      if (!fresh && from[i].worth > from[square->second].worth) square->second = i;
    }
    if (static_cast<int>(best.size()) > most && !out.empty()) break;
    out.clear();
    for (const auto& [square, i] : best) out.push_back(i);
    if (out.size() == from.size()) break;
  }
  std::sort(out.begin(), out.end());
  return out;
}

/// Rays of tie points weigh as the adjustment has found that they do.
void weigh(const adjust::Block& adjusted, std::vector<adjust::GroundPoint>& points) {
  std::vector<std::vector<double>> sigmas(adjusted.stations.size());
  for (const adjust::GroundPoint& p : adjusted.points)
    for (const adjust::Ray& ray : p.rays)
      if (adjust::takes_part(adjusted, ray)) sigmas[ray.station].push_back(ray.sigma);
  std::vector<double> usual;
  for (auto& some : sigmas) usual.push_back(median(std::move(some)));
  for (adjust::GroundPoint& p : points)
    for (adjust::Ray& ray : p.rays)
      if (usual[ray.station] > 0) ray.sigma = usual[ray.station];
}

/// Covariance along east, north and height of each point.
Eigen::MatrixXd along_grid(const Epoch& epoch, const std::vector<adjust::GroundPoint>& points,
                           const Eigen::MatrixXd& local) {
  Eigen::MatrixXd axes = Eigen::MatrixXd::Zero(local.rows(), local.rows());
  for (std::size_t i = 0; i < points.size(); ++i)
    axes.block<3, 3>(3 * static_cast<Eigen::Index>(i), 3 * static_cast<Eigen::Index>(i)) =
        epoch.frame.local_from_grid(points[i].X);
  return axes.transpose() * local * axes;
}

/// What keypoints of two epochs differ by beyond what each epoch's own rays explain, m^2 along the three axes.
Eigen::Vector3d identity_variance(const orient::StablePoints& stable, const Epoch& epoch,
                                  const std::vector<adjust::GroundPoint>& points, const adjust::Layout& layout) {
  std::vector<double> plan, height;
  for (const adjust::GroundPoint& p : points) {
    const adjust::PointDesign design = adjust::design_of(epoch.named.block, p, -1, layout);
    const Eigen::Matrix3d axes = epoch.frame.local_from_grid(p.X),
                          own = axes.transpose() * adjust::own_part(design, Eigen::Matrix3d::Zero()).own * axes;
    plan.push_back(0.5 * (own(0, 0) + own(1, 1))), height.push_back(own(2, 2));
  }
  // Both epochs have rays of their own, of about one quality.
  const double h = std::max(0.0, std::pow(stable.spread_plan, 2) - 2 * median(std::move(plan))),
               v = std::max(0.0, std::pow(stable.spread_height, 2) - 2 * median(std::move(height)));
  return {h, h, v};
}

std::string prefix_of(const fs::path& earlier) {
  std::string name = fs::weakly_canonical(fs::absolute(earlier)).filename().string();
  if (name.empty()) name = "earlier";
  return name + "-";
}

void refuse_other_places(const Survey& now, const Survey& then) {
  if (now.crs.local || then.crs.local)
    throw Error("control: --from needs surveys with a place on the ground; {} has a local CRS",
                (now.crs.local ? now : then).folder.string());
  if (now.crs.wkt != then.crs.wkt)
    throw Error(
        "control: --from {}: is in another CRS, or of other heights, than this survey; give both the same crs "
        "in survey.toml",
        then.folder.string());
}

/// Those of both epochs' points that stand.
std::vector<Candidate> standing_points(const Epoch& earlier, const Epoch& later, const std::vector<Candidate>& all,
                                       orient::StablePoints& stable) {
  Eigen::Matrix3Xd then(3, static_cast<Eigen::Index>(all.size())), found(3, then.cols());
  for (std::size_t i = 0; i < all.size(); ++i) {
    then.col(static_cast<Eigen::Index>(i)) = later.frame.local_from_crs(earlier.frame.crs_from_local(all[i].earlier.X));
    found.col(static_cast<Eigen::Index>(i)) = all[i].later.X;
  }
  stable = orient::stable_points(then, found, seed_from("carry"), least_points);
  std::vector<Candidate> out;
  for (std::size_t i = 0; i < all.size(); ++i)
    if (stable.stable[i]) out.push_back(all[i]);
  return out;
}

/// Covariance of points along east, north and height of each, what the match adds in it.
Eigen::MatrixXd covariance_of(const Epoch& earlier, const std::vector<adjust::GroundPoint>& points,
                              const orient::StablePoints& stable) {
  const auto uncertainty = adjusted_uncertainty(earlier.survey, earlier.named.block);
  Eigen::MatrixXd out =
      along_grid(earlier, points,
                 adjust::joint_covariance(earlier.named.block, points, uncertainty->layout, uncertainty->covariance));
  const Eigen::Vector3d more = identity_variance(stable, earlier, points, uncertainty->layout);
  for (Eigen::Index k = 0; k < out.rows(); ++k) out(k, k) += more[k % 3];
  return out;
}

std::vector<JointRow> joint_rows(const std::vector<ControlRow>& rows, const Eigen::MatrixXd& covariance) {
  const Eigen::VectorXd per_sigma = covariance.diagonal().cwiseSqrt().cwiseInverse();
  const Eigen::MatrixXd correlation = per_sigma.asDiagonal() * covariance * per_sigma.asDiagonal();
  std::vector<JointRow> out;
  for (std::size_t a = 0; a < rows.size(); ++a)
    for (std::size_t b = a; b < rows.size(); ++b) {
      const auto i = 3 * static_cast<Eigen::Index>(a), j = 3 * static_cast<Eigen::Index>(b);
      out.push_back({rows[a].id, rows[b].id, correlation.block<3, 3>(i, j).cwiseMin(1.0).cwiseMax(-1.0)});
    }
  return out;
}

}  // namespace

Carried carry_control(const Survey& survey, const fs::path& folder, const CarryOptions& options, Progress& progress) {
  const Survey before(folder, Access::look);
  refuse_other_places(survey, before);
  NamedBlock now = load_block(survey, "orient");
  now.need_ground("control --from");
  const Epoch later(survey, std::move(now)), earlier(before, load_block(before, "adjust"));
  const auto pairs = pairs_of(earlier, later, options.partners);
  if (pairs.empty()) throw Error("control: --from {}: no photo of it looks at this survey's ground", folder.string());
  const std::vector<Candidate> all = candidates_of(earlier, later, common_points(earlier, later, pairs, progress),
                                                   options.least_angle_deg * rad_per_deg);
  orient::StablePoints stable;
  const std::vector<Candidate> standing = standing_points(earlier, later, all, stable);
  if (standing.empty())
    throw Error(
        "control: --from {}: {} points are common to both surveys, and fewer than {} of them go together as "
        "ground that stands; survey control for this one",
        folder.string(), all.size(), least_points);
  const std::vector<std::size_t> which = spread(standing, options.points);
  std::vector<adjust::GroundPoint> points;
  for (const std::size_t i : which) points.push_back(standing[i].earlier);
  weigh(earlier.named.block, points);
  const Eigen::MatrixXd covariance = covariance_of(earlier, points, stable);
  Carried out;
  out.prefix = prefix_of(folder);
  out.matched = static_cast<int>(all.size()), out.stable = static_cast<int>(standing.size());
  out.spread_plan = stable.spread_plan, out.spread_height = stable.spread_height;
  for (std::size_t k = 0; k < which.size(); ++k) {
    const Eigen::Vector3d place = earlier.frame.crs_from_local(points[k].X),
                          sigma = covariance.diagonal().segment<3>(3 * static_cast<Eigen::Index>(k)).cwiseSqrt();
    ControlRow row;
    row.id = fmt::format("{}{:02}", out.prefix, k + 1);
    row.east = place.x(), row.north = place.y(), row.height = place.z();
    row.sigma_h = std::hypot(sigma.x(), sigma.y()) / std::sqrt(2.0), row.sigma_v = sigma.z();
    row.sigma_e = sigma.x(), row.sigma_n = sigma.y();
    out.rows.push_back(row);
    for (const adjust::Ray& ray : standing[which[k]].later.rays)
      out.parts.sightings.push_back({later.named.images[static_cast<std::size_t>(ray.station)], row.id, ray.x.x(),
                                     ray.x.y(), ray.sigma, sight::SightingState::confirmed, carried_origin});
  }
  out.parts.joint = joint_rows(out.rows, covariance);
  return out;
}

void take_carried(const Carried& carried, std::vector<ControlRow>& rows, CarriedParts& parts) {
  std::set<std::string> before;
  for (const JointRow& row : parts.joint)
    if (row.a.starts_with(carried.prefix)) before.insert(row.a);
  for (const ControlRow& row : carried.rows)
    for (const ControlRow& old : rows)
      if (old.id == row.id && !before.count(old.id))
        throw Error("control: --from: a point '{}' is here already, and comes from elsewhere; rename it", row.id);
  const auto old = [&](const std::string& id) { return before.count(id) > 0; };
  std::erase_if(rows, [&](const ControlRow& row) { return old(row.id); });
  std::erase_if(parts.sightings, [&](const sight::Sighting& s) { return old(s.point); });
  std::erase_if(parts.joint, [&](const JointRow& row) { return old(row.a) || old(row.b); });
  rows.insert(rows.end(), carried.rows.begin(), carried.rows.end());
  const auto add = [](auto& to, const auto& more) { to.insert(to.end(), more.begin(), more.end()); };
  add(parts.sightings, carried.parts.sightings), add(parts.joint, carried.parts.joint);
}

void drop_orphans(const std::vector<ControlRow>& rows, CarriedParts& parts) {
  std::set<std::string> ids;
  for (const ControlRow& row : rows) ids.insert(row.id);
  std::erase_if(parts.sightings,
                [&](const sight::Sighting& s) { return s.origin == carried_origin && !ids.count(s.point); });
  std::erase_if(parts.joint, [&](const JointRow& row) { return !ids.count(row.a) || !ids.count(row.b); });
}

}  // namespace mesograph::stages
