#include <algorithm>
#include <limits>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/tie_points.hpp>
#include <mesograph/orient/growth.hpp>
#include <mesograph/orient/positions.hpp>
#include <mesograph/orient/similarity.hpp>
#include <numeric>

namespace mesograph::orient {

namespace {

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
    noise = std::max(noise, block.sorties[s.sortie].sigma_photo[0]);
  }
  datum = Datum::positions;
  if (const auto found = fit(noise)) return found;
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

/// Intersects a point from those of its rays that meet: the worst is set aside as long as it misses by more than a few
/// pixels. One wrong ray of six would otherwise pull the point away, and the adjustment with it.
void intersect_agreeing(const adjust::Block& block, adjust::GroundPoint& point) {
  constexpr double limit_px = 6.0;
  for (adjust::Ray& ray : point.rays) ray.accepted = true;
  point.X.setConstant(nan);
  for (std::size_t left = point.rays.size(); left >= 2; --left) {
    if (!adjust::intersect(block, point, 1.0 * rad_per_deg)) return;
    adjust::Ray* worst = nullptr;
    double most = limit_px;
    for (adjust::Ray& ray : point.rays) {
      if (!adjust::takes_part(block, ray)) continue;
      const auto v = adjust::residual(block, ray, point.X);
      const double length = v ? v->norm() : std::numeric_limits<double>::infinity();
      if (length > most) most = length, worst = &ray;
    }
    if (worst == nullptr) return;
    worst->accepted = false;
  }
  point.X.setConstant(nan);
}

/// The tie points that growth works with. Growth needs spread, not numbers; the last adjustment takes all points.
adjust::Block thinned(const adjust::Block& block, int rays_per_cell) {
  constexpr int columns = 12, rows = 9;
  std::vector<std::vector<std::uint32_t>> cells(block.points.size());
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (const adjust::Ray& ray : block.points[p].rays) {
      const camera::Camera& camera = block.cameras[block.stations[ray.station].camera];
      cells[p].push_back(
          static_cast<std::uint32_t>(ray.station * columns * rows + camera::cell_of(camera, ray.x, columns, rows)));
    }
  const std::vector<char> chosen = match::choose_spread(cells, block.stations.size() * columns * rows, rays_per_cell);
  adjust::Block out = block;
  out.points.clear();
  for (std::size_t p = 0; p < chosen.size(); ++p)
    if (chosen[p]) out.points.push_back(block.points[p]);
  return out;
}

}  // namespace

OrientResult orient(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                    Progress& progress) {
  OrientResult out;
  adjust::Block small = thinned(block, options.rays_per_cell);
  Growth growth(small, names, options, progress);
  if (!growth.start())
    throw Error(
        "orient: no two photos share enough tie points at a useful angle; check overlap and run tie with "
        "--pairs all");
  growth.grow();
  block.stations = small.stations;
  block.cameras = small.cameras;
  parallel_for(block.points.size(), 64, [&](std::size_t p) { intersect_agreeing(block, block.points[p]); });
  out.components = 1;
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    if (!block.stations[s].oriented)
      out.not_oriented.push_back({static_cast<int>(s), growth.reason(static_cast<int>(s))});
  const auto datum = find_datum(block, out.datum);
  if (!datum)
    throw Error(
        "orient: nothing ties the block to the ground: fewer than 3 photos have positions that spread, and "
        "fewer than 3 control points are sighted in two oriented photos; import control and sightings (control, "
        "sight --import), or give positions");
  transform(block, *datum);
  if (out.datum == Datum::positions) out.positions = stand_on_positions(block);
  adjust::AdjustOptions adjusting;
  adjusting.scope.control = out.datum == Datum::control;
  adjusting.scope.positions = out.datum == Datum::positions;
  out.adjustment = adjust::adjust(block, adjusting, progress);
  return out;
}

}  // namespace mesograph::orient
