#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/sight/missed.hpp>

namespace mesograph::sight {

namespace {

/// "12.3 m west".
std::string offset_words(const Eigen::Vector3d& d) {
  static const char* const names[] = {"north", "north-east", "east", "south-east",
                                      "south", "south-west", "west", "north-west"};
  const double plan = d.head<2>().norm();
  if (std::abs(d.z()) > plan) return fmt::format("{:.2g} m {}", std::abs(d.z()), d.z() > 0 ? "above" : "below");
  const int eighth = static_cast<int>(std::lround(std::atan2(d.x(), d.y()) / (pi / 4)) + 8) % 8;
  return plan < 9.95 ? fmt::format("{:.2f} m {}", plan, names[eighth])
                     : fmt::format("{:.1f} m {}", plan, names[eighth]);
}

// enough to see a swap or a slip of the keyboard; all of them would be a search of its own
constexpr std::size_t most_points = 12, most_photos = 6;

/// Points that nobody knows anything of though three photos or more should show them, and where to look.
struct Missed {
  std::vector<std::size_t> points;
  std::vector<std::vector<Window>> windows;
};

Missed missed_points(const adjust::Block& block, const SearchSite& site, const Outlook& outlook) {
  Missed out;
  out.windows.resize(site.images.size());
  for (std::size_t i = 0; i < block.surveyed.size() && out.points.size() < most_points; ++i) {
    const adjust::SurveyedPoint& p = block.surveyed[i];
    if (p.natural || p.role == adjust::Role::off || !p.point.rays.empty() || !site.spoken[i].empty()) continue;
    std::vector<const adjust::Prediction*> seen;
    for (const adjust::Prediction& q : outlook.predictions[i])
      if (!q.hidden) seen.push_back(&q);
    if (seen.size() < 3) continue;
    std::stable_sort(seen.begin(), seen.end(), [](const auto* a, const auto* b) { return a->edge > b->edge; });
    seen.resize(std::min(seen.size(), most_photos));
    for (const adjust::Prediction* q : seen) {
      const camera::Camera& c = block.cameras[block.stations[q->station].camera];
      const Eigen::Vector2d half = Eigen::Vector2d::Constant(c.width / 6.0);
      out.windows[q->station].push_back({q->x - half, q->x + half});
    }
    out.points.push_back(i);
  }
  return out;
}

/// Where the targets of points that are sighted stand.
std::vector<Eigen::Vector3d> known_targets(const adjust::Block& block) {
  std::vector<Eigen::Vector3d> out;
  for (const adjust::SurveyedPoint& p : block.surveyed) {
    adjust::GroundPoint place = p.point;
    place.X.setConstant(nan);
    if (adjust::place(block, place, 0.02)) out.push_back(place.X);
  }
  return out;
}

/// Median contrast of a spot's sights, grey levels.
double contrast_of(const Spot& spot, const std::vector<Seen>& seen) {
  std::vector<double> all;
  for (const int k : spot.sights) all.push_back(seen[static_cast<std::size_t>(k)].target.contrast);
  return median(std::move(all));
}

/// Of what most photos agree on, the nearest to a place: chance agrees in three. Where some of it looks as the site's
/// targets do, only that.
const Spot* nearest_spot(std::vector<Spot>& spots, const std::vector<Seen>& seen, const Usual& usual,
                         const std::vector<Eigen::Vector3d>& taken, const Eigen::Vector3d& place) {
  const auto looks_usual = [&](const Spot& s) {
    const auto fitting = std::count_if(s.sights.begin(), s.sights.end(),
                                       [&](int k) { return usual.fits(seen[static_cast<std::size_t>(k)]); });
    return 3 * fitting >= 2 * static_cast<std::ptrdiff_t>(s.sights.size());
  };
  if (std::any_of(spots.begin(), spots.end(), looks_usual))
    std::erase_if(spots, [&](const Spot& s) { return !looks_usual(s); });
  // Paint is what stands out: of grass and gravel some crosses as targets do, at half their contrast or less.
  double strongest = 0;
  for (const Spot& s : spots) strongest = std::max(strongest, contrast_of(s, seen));
  std::erase_if(spots, [&](const Spot& s) { return contrast_of(s, seen) < 0.6 * strongest; });
  const Spot* nearest = nullptr;
  std::size_t most = 0;
  for (const Spot& spot : spots) {
    const double size = seen[static_cast<std::size_t>(spot.sights[0])].size_m;
    const bool known =
        std::any_of(taken.begin(), taken.end(), [&](const Eigen::Vector3d& X) { return (X - spot.X).norm() < size; });
    if (known) continue;
    const bool nearer = nearest && (spot.X - place).norm() < (nearest->X - place).norm();
    if (spot.sights.size() > most + 1 || (spot.sights.size() + 1 >= most && (nearer || !nearest))) nearest = &spot;
    most = std::max(most, spot.sights.size());
  }
  return nearest;
}

}  // namespace

std::string unseen_words(const adjust::Block& block, const Outlook& outlook) {
  std::vector<std::string> unseen;
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = block.surveyed[i];
    if (p.role == adjust::Role::off || !known_place(block, p)) continue;
    if (std::all_of(outlook.predictions[i].begin(), outlook.predictions[i].end(),
                    [](const adjust::Prediction& q) { return q.hidden; }))
      unseen.push_back(p.id);
  }
  if (unseen.empty()) return {};
  return fmt::format("{}: no photo should show {}; check the coordinates, or leave out with control --role off=",
                     fmt::join(unseen, ", "), unseen.size() == 1 ? "it" : "them");
}

std::vector<std::string> missed_words(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                                      const Usual& usual, Progress& progress) {
  const Missed missed = missed_points(block, site, outlook);
  if (missed.points.empty()) return {};
  // Photos that cannot be read have been told of.
  const std::vector<Seen> seen = look(block, site, outlook, usual, missed.windows, LookFor::clear,
                                      "looking around points that were not found", progress)
                                     .seen;
  std::vector<Spot> spots = spots_of(block, seen);
  const std::vector<Eigen::Vector3d> taken = known_targets(block);
  std::vector<std::string> out;
  for (const std::size_t i : missed.points) {
    const adjust::SurveyedPoint& p = block.surveyed[i];
    const Spot* nearest = nearest_spot(spots, seen, usual, taken, p.surveyed);
    if (!nearest) continue;
    const Eigen::Vector3d d = p.axes.transpose() * (nearest->X - p.surveyed);
    out.push_back(
        fmt::format("{} was not found where it is surveyed; a target stands {} of it, in {} photos: check its "
                    "coordinates and its id",
                    p.id, offset_words(d), nearest->sights.size()));
  }
  return out;
}

}  // namespace mesograph::sight
