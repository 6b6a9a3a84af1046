#include <Eigen/Eigenvalues>
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>
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

/// How well positions of this noise fix the turn about the line that they lie nearest to, rad. The block's own shape
/// says how wide they lie: that of the positions is widened by their noise.
double turn_sigma(const std::vector<Eigen::Vector3d>& stations, const std::vector<Eigen::Vector3d>& positions,
                  double noise) {
  const auto n = static_cast<Eigen::Index>(stations.size());
  const auto spread = [&](const std::vector<Eigen::Vector3d>& points) -> Eigen::Vector3d {
    const Eigen::Map<const Eigen::Matrix3Xd> all(points[0].data(), 3, n);
    const Eigen::Matrix3Xd centred = all.colwise() - all.rowwise().mean();
    return Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d>(centred * centred.transpose())
        .eigenvalues()
        .cwiseMax(0.0)
        .cwiseSqrt();
  };
  const Eigen::Vector3d own = spread(stations), observed = spread(positions);
  return own[2] > 0 ? noise / std::max(1e-12, own[1] * observed[2] / own[2]) : std::numeric_limits<double>::infinity();
}

/// Similarity from the block's own frame onto positions or control; nothing where neither suffices.
std::optional<Similarity> find_datum(adjust::Block& block, Datum& datum) {
  std::vector<Eigen::Vector3d> source, target;
  const auto fit = [&](double width) -> std::optional<Similarity> {
    if (source.empty()) return std::nullopt;
    const auto n = static_cast<Eigen::Index>(source.size());
    return similarity(Eigen::Map<Eigen::Matrix3Xd>(source[0].data(), 3, n),
                      Eigen::Map<Eigen::Matrix3Xd>(target[0].data(), 3, n), width);
  };
  double noise = 0;
  for (const adjust::Station& s : block.stations) {
    if (!s.oriented || !s.position.allFinite()) continue;
    source.push_back(s.C);
    target.push_back(s.position);
    noise = std::max({noise, block.sorties[s.sortie].sigma_photo[0], block.sorties[s.sortie].sigma_photo[1]});
  }
  datum = Datum::positions;
  if (source.size() >= 3 && turn_sigma(source, target, noise) < up_assumed)
    if (const auto found = fit(0.0)) return found;
  source.clear(), target.clear();
  for (adjust::SurveyedPoint& point : block.surveyed) {
    if (point.role != adjust::Role::control || !point.surveyed.allFinite()) continue;
    point.point.X.setConstant(nan);
    if (!adjust::intersect(block, point.point, 0.02)) continue;
    source.push_back(point.point.X);
    target.push_back(point.surveyed);
  }
  datum = Datum::control;
  return fit(0.1);
}

/// Similarity onto positions that lie on one line, as those of a single strip do: the turn about the line comes from
/// where up is, by the attitudes that the photos state, else because they look straight down on average. The stations
/// keep it as an observation. Nothing where there are fewer than three positions, or no line.
std::optional<Similarity> find_datum_on_line(adjust::Block& block) {
  std::vector<Eigen::Vector3d> source, target, up;
  double noise = 0;
  for (const adjust::Station& s : block.stations) {
    if (!s.oriented || !s.position.allFinite()) continue;
    source.push_back(s.C), target.push_back(s.position), up.push_back(s.R * s.up);
    noise = std::max(noise, block.sorties[s.sortie].sigma_photo[0]);
  }
  const std::size_t n = source.size();
  if (n < 3) return std::nullopt;
  // A mast on each photo, as high as the strip is long, makes the line a plane.
  const auto length = [&](const std::vector<Eigen::Vector3d>& points) {
    double most = 0;
    for (const Eigen::Vector3d& p : points) most = std::max(most, (p - points.front()).norm());
    return most;
  };
  const double long_source = length(source), long_target = length(target);
  if (long_target < 10 * noise || !(long_source > 0)) return std::nullopt;
  for (std::size_t i = 0; i < n; ++i) {
    source.push_back(source[i] + long_source * up[i]);
    target.push_back(target[i] + Eigen::Vector3d(0, 0, long_target));
  }
  const auto size = static_cast<Eigen::Index>(source.size());
  const auto found = similarity(Eigen::Map<Eigen::Matrix3Xd>(source[0].data(), 3, size),
                                Eigen::Map<Eigen::Matrix3Xd>(target[0].data(), 3, size), noise);
  if (found)
    for (adjust::Station& s : block.stations)
      if (s.oriented) s.sigma_up = s.up == Eigen::Vector3d::UnitZ() ? up_assumed : up_stated;
  return found;
}

/// Leaves out the positions that the block contradicts, and stands it on the others once more.
PositionsJudged stand_on_positions(adjust::Block& block) {
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
  Datum datum{};
  if (const auto again = find_datum(block, datum); again && datum == Datum::positions) transform(block, *again);
  PositionsJudged after = judge_positions(block);
  after.wrong = judged.wrong;
  return after;
}

/// The part's datum, found and applied; nothing is judged where control gives it.
PositionsJudged stand(adjust::Block& block, Part& part) {
  if (const auto found = find_datum(block, part.datum)) {
    transform(block, *found);
    return part.datum == Datum::positions ? stand_on_positions(block) : PositionsJudged{};
  }
  part.datum = Datum::none;
  const auto found = find_datum_on_line(block);
  if (!found) return {};
  part.datum = Datum::positions;
  part.on_line = true;
  transform(block, *found);
  return judge_positions(block);
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
  fit.R = Eigen::Quaterniond::FromTwoVectors(up, Eigen::Vector3d::UnitZ()).toRotationMatrix();
  fit.scale = 100 / median(std::move(distances));
  fit.t = -fit.scale * (fit.R * (middle / n));
  transform(block, fit);
}

}  // namespace mesograph::orient
