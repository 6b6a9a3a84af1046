#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/georeference.hpp>
#include <mesograph/orient/parts.hpp>
#include <mesograph/orient/positions.hpp>
#include <mesograph/orient/similarity.hpp>

namespace mesograph::orient {

namespace {

/// How well it is known where up is, rad: by a photo's attitude; by photos that look straight down on average.
constexpr double up_stated = 0.05, up_assumed = 0.15;

/// Places in the block's own frame and where they should be.
struct Pairs {
  std::vector<Eigen::Vector3d> source, target;
  double noise = 0;  ///< of the targets, m

  std::optional<Similarity> fit(double least_width) const {
    if (source.empty()) return std::nullopt;
    const auto n = static_cast<Eigen::Index>(source.size());
    return similarity(Eigen::Map<const Eigen::Matrix3Xd>(source[0].data(), 3, n),
                      Eigen::Map<const Eigen::Matrix3Xd>(target[0].data(), 3, n), least_width);
  }
  /// See orient::width_of_line, of the targets.
  double width_of_line() const {
    if (target.empty()) return 0;
    return orient::width_of_line(
        Eigen::Map<const Eigen::Matrix3Xd>(target[0].data(), 3, static_cast<Eigen::Index>(target.size())));
  }
};

Pairs positions_of(const adjust::Block& block) {
  Pairs out;
  for (const adjust::Station& s : block.stations) {
    if (!s.oriented || !s.position.allFinite()) continue;
    out.source.push_back(s.C);
    out.target.push_back(s.position);
    out.noise = std::max({out.noise, block.sorties[s.sortie].sigma_photo[0], block.sorties[s.sortie].sigma_photo[1]});
  }
  return out;
}

Pairs control_of(adjust::Block& block) {
  Pairs out;
  for (adjust::SurveyedPoint& point : block.surveyed) {
    // A point sighted by hand without coordinates, or one that lacks its plan or height, is no place.
    if (point.role != adjust::Role::control || !point.known_in_space()) continue;
    point.point.X.setConstant(nan);
    if (!adjust::place(block, point.point, 0.02)) continue;
    out.source.push_back(point.point.X);
    out.target.push_back(point.surveyed);
  }
  return out;
}

/// Extents of a cloud of points along its axes, ascending: roots of the sums of squares.
Eigen::Vector3d extents(const std::vector<Eigen::Vector3d>& points) {
  const Eigen::Map<const Eigen::Matrix3Xd> all(points[0].data(), 3, static_cast<Eigen::Index>(points.size()));
  const Eigen::Matrix3Xd centred = all.colwise() - all.rowwise().mean();
  return symmetric_eigen<3>(centred * centred.transpose()).values.cwiseMax(0.0).cwiseSqrt();
}

/// How well positions fix the turn about the line that they lie nearest to, rad. The block's own shape says how wide
/// they lie: that of the positions is widened by their noise.
double turn_sigma(const Pairs& positions) {
  const Eigen::Vector3d own = extents(positions.source), observed = extents(positions.target);
  return positions.noise * own[2] / std::max(1e-12, own[1] * observed[2]);
}

/// Similarity from the block's own frame onto positions that spread over an area.
std::optional<Similarity> onto_positions(const adjust::Block& block) {
  const Pairs positions = positions_of(block);
  if (positions.source.size() < 3 || !(turn_sigma(positions) < up_assumed)) return std::nullopt;
  return positions.fit(0.0);
}

/// Similarity onto positions that lie on one line, as those of a single strip do: the turn about the line comes from
/// where up is, by the attitudes that the photos state, else because they look straight down on average. The stations
/// keep it as an observation. Nothing where there are fewer than three positions, or no line.
std::optional<Similarity> onto_line(adjust::Block& block) {
  Pairs pairs = positions_of(block);
  const std::size_t n = pairs.source.size();
  if (n < 3) return std::nullopt;
  const double long_source = extents(pairs.source)[2], long_target = extents(pairs.target)[2];
  // a line ten times as long as its noise turns by a tenth of a radian at most
  if (long_target < 10 * pairs.noise || !(long_source > 0)) return std::nullopt;
  // A mast on each photo, as high as the strip is long, makes the line a plane.
  for (const adjust::Station& s : block.stations) {
    if (!s.oriented || !s.position.allFinite()) continue;
    pairs.source.push_back(s.C + long_source * (s.R * s.up));
    pairs.target.push_back(s.position + Eigen::Vector3d(0, 0, long_target));
  }
  const auto found = pairs.fit(pairs.noise);
  if (found)
    for (adjust::Station& s : block.stations)
      if (s.oriented) s.sigma_up = s.up == Eigen::Vector3d::UnitZ() ? up_assumed : up_stated;
  return found;
}

/// A control point of which the plan, the height or both are known.
struct Partial {
  Eigen::Vector3d X, target;
  bool plan, height;
};

/// Turn about the vertical, factor and shift that lay plans onto known ones best.
Similarity in_plan(const std::vector<Partial>& points, const Similarity& now) {
  Eigen::Vector2d middle = Eigen::Vector2d::Zero(), target = middle;
  double n = 0;
  for (const Partial& p : points)
    if (p.plan) middle += now(p.X).head<2>(), target += p.target.head<2>(), ++n;
  middle /= n, target /= n;
  double dot = 0, cross = 0, squares = 0;
  for (const Partial& p : points) {
    if (!p.plan) continue;
    const Eigen::Vector2d a = now(p.X).head<2>() - middle, b = p.target.head<2>() - target;
    dot += a.dot(b), cross += a.x() * b.y() - a.y() * b.x(), squares += a.squaredNorm();
  }
  Similarity out;
  out.scale = std::hypot(dot, cross) / squares;
  out.R = Eigen::AngleAxisd(std::atan2(cross, dot), Eigen::Vector3d::UnitZ()).toRotationMatrix();
  out.t = Eigen::Vector3d(target.x(), target.y(), 0) - out.scale * (out.R * Eigen::Vector3d(middle.x(), middle.y(), 0));
  return out;
}

/// Lift and tilt that lay heights onto known ones best; nothing where these lie on a line.
std::optional<Similarity> in_height(const std::vector<Partial>& points, const Similarity& now) {
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  std::vector<Eigen::Vector3d> places;
  std::vector<double> off;
  for (const Partial& p : points)
    if (p.height) places.push_back(now(p.X)), off.push_back(p.target.z() - places.back().z()), middle += places.back();
  middle /= static_cast<double>(places.size());
  Eigen::MatrixX3d A(static_cast<Eigen::Index>(places.size()), 3);
  for (Eigen::Index i = 0; i < A.rows(); ++i) {
    const Eigen::Vector3d d = places[static_cast<std::size_t>(i)] - middle;
    A.row(i) << 1, d.y(), -d.x();  // a small turn w lifts by w.x y - w.y x
  }
  // A hundredth of how far they reach, as for points that are known whole.
  const auto widths = symmetric_eigen<2>(A.rightCols<2>().transpose() * A.rightCols<2>()).values;
  if (!(widths[0] > 1e-4 * widths[1])) return std::nullopt;
  const Eigen::Vector3d fit = least_squares(A, Eigen::Map<const Eigen::VectorXd>(off.data(), A.rows())).x;
  Similarity out;
  const Eigen::Vector3d turn(fit[1], fit[2], 0);
  if (turn.norm() > 0) out.R = Eigen::AngleAxisd(turn.norm(), turn.normalized()).toRotationMatrix();
  out.t = middle + Eigen::Vector3d(0, 0, fit[0]) - out.R * middle;
  return out;
}

Similarity after(const Similarity& second, const Similarity& first) {
  Similarity out;
  out.scale = second.scale * first.scale, out.R = second.R * first.R, out.t = second(first.t);
  return out;
}

/// Similarity onto control of which some points lack the plan or the height, as classical blocks have it: each says
/// what it knows. Plan and height are fitted in turn from where photos look straight down on average, until both rest.
/// Nothing where fewer than two plans or three heights are known, or these lie on a line.
std::optional<Similarity> onto_partial_control(const adjust::Block& block) {
  std::vector<Partial> points;
  std::ptrdiff_t plans = 0, heights = 0;
  for (const adjust::SurveyedPoint& point : block.surveyed) {
    if (point.role != adjust::Role::control || point.natural) continue;
    adjust::GroundPoint place = point.point;
    place.X.setConstant(nan);
    if (!adjust::place(block, place, 0.02)) continue;
    points.push_back({place.X, point.surveyed, point.knows(0) && point.knows(1), point.knows(2)});
    plans += points.back().plan, heights += points.back().height;
  }
  if (plans < 2 || heights < 3) return std::nullopt;
  Eigen::Vector3d up = Eigen::Vector3d::Zero();
  for (const adjust::Station& s : block.stations)
    if (s.oriented) up += s.R.col(2);
  Similarity out;
  out.R = rotation_between(up, Eigen::Vector3d::UnitZ());
  constexpr int most_rounds = 100;  // plan and height pull at each other by the tilt alone; some ten do
  for (int round = 0; round < most_rounds; ++round) {
    out = after(in_plan(points, out), out);
    const auto lifted = in_height(points, out);
    if (!lifted || !(out.scale > 0)) return std::nullopt;
    out = after(*lifted, out);
    // rad: a hundredth of a micrometre over a hundred metres
    if ((lifted->R - Eigen::Matrix3d::Identity()).norm() < 1e-10) return out;
  }
  return std::nullopt;
}

/// Leaves out the positions that the block contradicts, and stands it on the others once more.
PositionsJudged leave_out_wrong(adjust::Block& block, bool on_line) {
  PositionsJudged judged = judge_positions(block);
  double sigma = 0;
  for (const adjust::Sortie& s : block.sorties) sigma = std::max({sigma, s.sigma_photo[0], s.sigma_photo[1]});
  // Swapped columns make a mirror image, and a flat block fits its mirror image when it is turned upside down.
  const auto up = std::count_if(block.stations.begin(), block.stations.end(),
                                [](const adjust::Station& s) { return s.oriented && s.R(2, 2) < 0; });
  const auto all =
      std::count_if(block.stations.begin(), block.stations.end(), [](const adjust::Station& s) { return s.oriented; });
  if (2 * up > all)
    throw Error(
        "orient: the photos' positions are a mirror image of the block, which would look at the sky: east and north "
        "(latitude and longitude) are swapped, or heights are depths; correct the columns");
  // A block that grew without them may be bent by more than fine positions are uncertain: that is no contradiction.
  if (judged.median_off > 6 * sigma && judged.median_off > 0.1 * judged.extent)
    throw Error(
        "orient: the photos' positions do not fit the shape of the block: half of them are {:.1f} m or more off; check "
        "that they belong to these photos, and their order of columns",
        judged.median_off);
  if (judged.wrong.empty()) return judged;
  for (const WrongPosition& w : judged.wrong) block.stations[w.station].position.setConstant(nan);
  if (const auto again = on_line ? onto_line(block) : onto_positions(block)) transform(block, *again);
  PositionsJudged after = judge_positions(block);
  after.wrong = judged.wrong;
  return after;
}

/// The part's datum, found and applied: positions, else control, else positions on a line. Nothing is judged where
/// control gives it.
PositionsJudged stand(adjust::Block& block, Part& part) {
  auto found = onto_positions(block);
  part.datum = Datum::positions;
  if (!found) {
    const Pairs control = control_of(block);
    found = control.fit(control.width_of_line());
    part.datum = Datum::control;
  }
  if (!found) found = onto_partial_control(block);
  if (!found) {
    found = onto_line(block);
    part.datum = found ? Datum::positions : Datum::none;
    part.on_line = found.has_value();
  }
  if (!found) return {};
  transform(block, *found);
  return part.datum == Datum::positions ? leave_out_wrong(block, part.on_line) : PositionsJudged{};
}

/// What is known of sorties and wrong positions by several parts: offsets are those of the largest that has them.
void collect(PositionsJudged& all, const PositionsJudged& part) {
  if (all.offset.empty()) {
    all = part;
    return;
  }
  for (std::size_t s = 0; s < part.offset.size(); ++s)
    if (!all.offset[s].allFinite()) all.offset[s] = part.offset[s];
  all.wrong.insert(all.wrong.end(), part.wrong.begin(), part.wrong.end());
}

}  // namespace

PositionsJudged georeference(adjust::Block& block, std::vector<Part>& parts) {
  PositionsJudged judged;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    adjust::Block view = only_part(block, parts[i]);
    try {
      collect(judged, stand(view, parts[i]));
    } catch (const Error&) {
      if (i == 0) throw;
      parts[i].datum = Datum::none;
      continue;
    }
    for (const int s : parts[i].stations) block.stations[s] = view.stations[s];
  }
  const bool any = std::any_of(parts.begin(), parts.end(), [](const Part& p) { return p.datum != Datum::none; });
  for (std::size_t i = 0; i < parts.size(); ++i)
    if (parts[i].datum == Datum::none && (any || i > 0))
      for (const int s : parts[i].stations) block.stations[s].oriented = false;
  intersect_all(block);
  return judged;
}

void level_free(adjust::Block& block) {
  Similarity fit;
  Eigen::Vector3d up = Eigen::Vector3d::Zero(), middle = Eigen::Vector3d::Zero();
  std::vector<double> distances;
  double n = 0;
  for (const adjust::GroundPoint& p : block.points) {
    if (!p.X.allFinite()) continue;
    middle += p.X, ++n;
    for (const adjust::Ray& r : p.rays)
      if (adjust::takes_part(block, r)) distances.push_back((p.X - block.stations[r.station].C).norm());
  }
  if (n == 0) return;
  for (const adjust::Station& s : block.stations)
    if (s.oriented) up += s.R.col(2);
  fit.R = rotation_between(up, Eigen::Vector3d::UnitZ());
  fit.scale = 100 / median(std::move(distances));
  fit.t = -fit.scale * (fit.R * (middle / n));
  transform(block, fit);
}

}  // namespace mesograph::orient
