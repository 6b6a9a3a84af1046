#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/threads.hpp>
#include <mesograph/sight/target.hpp>
#include <mesograph/stages/mosaic_targets.hpp>

namespace mesograph::stages {

namespace {

/// Cells around the place of a target that are read, and in which its centre is looked for.
constexpr int window = 48;
constexpr double reach = 12;

photo::Grey luma_of(const photo::Rgb& image) {
  photo::Grey out(image.width, image.height);
  for (std::size_t i = 0; i < out.data.size(); ++i)
    out.data[i] = 0.299F * image.data[3 * i] + 0.587F * image.data[3 * i + 1] + 0.114F * image.data[3 * i + 2];
  return out;
}

struct Found {
  Eigen::Vector2d off;  ///< less where it should be; cells, to the right and down
  sight::TargetKind kind;
};

/// The target nearest to where it should be.
std::optional<Found> found_at(const photo::Rgb& part, const Eigen::Vector2d& expected,
                              const std::optional<sight::TargetKind>& kind) {
  const Eigen::AlignedBox2d box(expected.array() - reach, expected.array() + reach);
  sight::TargetOptions options;
  if (kind) options.kinds = {*kind};
  std::optional<Found> best;
  for (const sight::Target& target : sight::find_targets(luma_of(part), box, options)) {
    const Eigen::Vector2d off = target.x - expected;
    if (!best || off.norm() < best->off.norm()) best = {off, target.kind};
  }
  return best;
}

/// Where a surveyed point lies in the mosaic, cells; nothing where its plan is not surveyed or it lies too near the
/// rim.
std::optional<Eigen::Vector2d> place_of(const MosaicJob& job, const adjust::SurveyedPoint& point) {
  if (point.natural || point.role == adjust::Role::off || !point.knows(0) || !point.knows(1)) return std::nullopt;
  const surface::Grid& g = job.plan.grid;
  Eigen::Vector3d X = point.surveyed;
  if (!point.knows(2)) X.z() = point.point.X.z();
  const Eigen::Vector2d at = job.frame().crs_from_local(X).head<2>().cwiseProduct(job.surface.metres.head<2>());
  const Eigen::Vector2d cell((at.x() - g.west) / g.cell, (g.north - at.y()) / g.cell);
  const bool inside = cell.minCoeff() > window && cell.x() + window < g.columns && cell.y() + window < g.rows;
  return inside ? std::optional(cell) : std::nullopt;
}

/// The kind that at least two thirds of some finds are of.
std::optional<sight::TargetKind> usual_kind(const std::vector<std::optional<Found>>& found) {
  std::map<sight::TargetKind, std::size_t> counts;
  std::size_t all = 0;
  for (const auto& f : found)
    if (f) ++counts[f->kind], ++all;
  for (const auto& [kind, n] : counts)
    if (all >= 4 && 3 * n >= 2 * all) return kind;
  return std::nullopt;
}

}  // namespace

std::vector<MosaicTarget> targets_in_mosaic(const MosaicJob& job, const std::filesystem::path& mosaic,
                                            Progress& progress) {
  std::vector<std::pair<const adjust::SurveyedPoint*, Eigen::Vector2d>> places;
  for (const adjust::SurveyedPoint& point : job.named().block.surveyed)
    if (const auto at = place_of(job, point)) places.emplace_back(&point, *at);
  std::vector<std::optional<Found>> found(places.size());
  std::optional<sight::TargetKind> kind;
  progress.start("looking for targets in the mosaic", places.size());
  const auto look = [&](std::size_t i) {
    progress.check();
    const Eigen::Vector2d& at = places[i].second;
    const int col = static_cast<int>(at.x()) - window, row = static_cast<int>(at.y()) - window;
    const photo::Rgb part = mosaic::read_part(mosaic, col, row, 2 * window, 2 * window);
    found[i] = found_at(part, at - Eigen::Vector2d(col, row), kind);
    progress.advance();
  };
  // What kind they are the first ones tell; the others are searched for it alone, at a fraction of the cost.
  const std::size_t first = std::min<std::size_t>(8, places.size());
  parallel_for(first, look);
  kind = usual_kind(found);
  parallel_for(places.size() - first, [&](std::size_t i) { look(first + i); });
  std::vector<MosaicTarget> out;
  const double cell = job.plan.grid.cell;
  for (std::size_t i = 0; i < places.size(); ++i)
    if (found[i]) out.push_back({places[i].first->id, found[i]->off.x() * cell, -found[i]->off.y() * cell});
  return out;
}

std::vector<cloud::Polygon> around_targets(const MosaicJob& job) {
  const surface::Grid& g = job.plan.grid;
  std::vector<cloud::Polygon> out;
  for (const adjust::SurveyedPoint& point : job.named().block.surveyed)
    if (const auto cell = place_of(job, point)) {
      const double e = g.west + cell->x() * g.cell, n = g.north - cell->y() * g.cell, half = reach * g.cell;
      out.push_back(
          {point.id, {{{e - half, n - half}, {e + half, n - half}, {e + half, n + half}, {e - half, n + half}}}});
    }
  return out;
}

double rmse_of(const std::vector<MosaicTarget>& targets) {
  double sum = 0;
  for (const MosaicTarget& t : targets) sum += t.east * t.east + t.north * t.north;
  return targets.empty() ? nan : std::sqrt(sum / (2 * static_cast<double>(targets.size())));
}

}  // namespace mesograph::stages
