#include <Eigen/LU>
#include <algorithm>
#include <map>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/sight/carry_over.hpp>
#include <mesograph/sight/carry_sightings.hpp>
#include <mesograph/sight/identify.hpp>

namespace mesograph::sight {

namespace {

constexpr double block_px = 1.0;  // how far rays of a block that is not adjusted onto control may miss each other

/// A photo's ground around a sighting of people.
struct Template {
  int station = -1;
  photo::Grey patch;
  Eigen::Vector2d x;  ///< of the sighting, in the patch
};

/// Pixels of a photo by metres of X, local frame. Its first two columns: how the level ground around X shows.
std::optional<Eigen::Matrix<double, 2, 3>> pixels_of_ground(const adjust::Block& block, int station,
                                                            const Eigen::Vector3d& X) {
  const auto image = adjust::imaged(block, block.stations[station], X);
  if (!image) return std::nullopt;
  return image->by_point;
}

/// The people's sighting whose ray is steepest: its patch is least foreshortened.
const adjust::Ray& steepest(const adjust::Block& block, const PointToCarry& p) {
  const auto height = [&](const adjust::Ray& r) {
    const Eigen::Vector3d d = block.stations[r.station].C - p.X;
    return d.z() / d.norm();
  };
  return *std::max_element(p.by_people.begin(), p.by_people.end(),
                           [&](const adjust::Ray& a, const adjust::Ray& b) { return height(a) < height(b); });
}

Template cut_template(const photo::Grey& photo, const adjust::Ray& ray) {
  constexpr int reach = 14;
  Template out;
  const int left = std::max(0, static_cast<int>(ray.x.x()) - reach),
            top = std::max(0, static_cast<int>(ray.x.y()) - reach);
  const int right = std::min(photo.width, left + 2 * reach + 1), bottom = std::min(photo.height, top + 2 * reach + 1);
  out.station = ray.station;
  out.patch = photo::Grey(std::max(0, right - left), std::max(0, bottom - top));
  for (int row = top; row < bottom; ++row)
    std::copy_n(&photo.at(left, row), out.patch.width, &out.patch.at(0, row - top));
  out.x = ray.x - Eigen::Vector2d(left, top);
  return out;
}

/// One photo in which one point is looked for.
struct CarryAim {
  std::size_t point;
  Expected expected;
};

/// Photo by photo in parallel; what cannot be read is told of.
template <typename Do>
void for_photos(const std::vector<Image>& images, const std::vector<int>& stations, const char* step,
                std::vector<std::string>& notes, Progress& progress, Do&& act) {
  std::vector<std::string> failed(stations.size());
  progress.start(step, stations.size());
  parallel_for(stations.size(), [&](std::size_t i) {
    progress.check();
    try {
      act(i, photo::read_grey(images[stations[i]].path, 0, images[stations[i]].tone));
    } catch (const Error& error) {
      failed[i] = error.what();
    }
    progress.advance();
  });
  for (const std::string& text : failed)
    if (!text.empty() && std::find(notes.begin(), notes.end(), text) == notes.end()) notes.push_back(text);
}

std::vector<Template> cut_templates(const adjust::Block& block, const std::vector<Image>& images,
                                    const std::vector<PointToCarry>& points, std::vector<std::string>& notes,
                                    Progress& progress) {
  std::map<int, std::vector<std::size_t>> of_station;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const int station = steepest(block, points[i]).station;
    if (!images[station].path.empty()) of_station[station].push_back(i);
  }
  std::vector<int> stations;
  for (const auto& [station, which] : of_station) stations.push_back(station);
  std::vector<Template> out(points.size());
  for_photos(images, stations, "reading sighted ground", notes, progress, [&](std::size_t k, const photo::Grey& photo) {
    for (const std::size_t i : of_station.at(stations[k])) out[i] = cut_template(photo, steepest(block, points[i]));
  });
  return out;
}

/// The rays that meet with the people's; nothing where fewer than three do.
CarriedPoint keep_what_meets(const adjust::Block& block, const PointToCarry& point, CarriedPoint carried) {
  std::vector<Sight> sights;
  std::vector<int> all;
  for (const CarriedPoint::Ray& r : carried.rays) sights.push_back({r.station, r.x, r.sigma});
  for (const adjust::Ray& r : point.by_people) sights.push_back({r.station, r.x, r.sigma});
  for (std::size_t i = 0; i < sights.size(); ++i) all.push_back(static_cast<int>(i));
  const auto spot = meet(block, sights, all, {});
  const auto first_of_people = static_cast<int>(carried.rays.size());
  std::vector<CarriedPoint::Ray> kept;
  int of_people = 0;
  for (const int i : spot ? spot->sights : std::vector<int>()) {
    if (i < first_of_people)
      kept.push_back(carried.rays[i]);
    else
      ++of_people;
  }
  // Rays that meet without a sighting of people are of something else.
  if (of_people == 0) kept.clear();
  carried.rays = kept;
  carried.meet = of_people + static_cast<int>(kept.size());
  return carried;
}

}  // namespace

std::vector<CarriedPoint> carry_sightings(const adjust::Block& block, const adjust::Predictor& predictor,
                                          const std::vector<Image>& images, const std::vector<PointToCarry>& points,
                                          std::vector<std::string>& notes, Progress& progress) {
  std::vector<CarriedPoint> out(points.size());
  if (points.empty()) return out;
  const std::vector<Template> templates = cut_templates(block, images, points, notes, progress);
  std::map<int, std::vector<CarryAim>> of_station;
  for (std::size_t i = 0; i < points.size(); ++i) {
    out[i].point = points[i].point;
    out[i].from = templates[i].station;
    const auto one =
        templates[i].station < 0 ? std::nullopt : pixels_of_ground(block, templates[i].station, points[i].X);
    if (!one) continue;
    // X hangs on the photo of the patch, so that it is known against the others as well as the block's rays meet,
    // wherever the block as a whole may lie.
    for (const adjust::Prediction& p : predictor.photos_of(points[i].X, Eigen::Matrix3d::Zero())) {
      const auto other = pixels_of_ground(block, p.station, points[i].X);
      if (!other || p.hidden || points[i].spoken.count(p.station) || images[p.station].path.empty()) continue;
      // Seen from far to the side, level ground is not what shows.
      if (p.off_vertical > 60 * rad_per_deg) continue;
      const Eigen::Matrix2d covariance =
          *other * points[i].covariance * other->transpose() + block_px * block_px * Eigen::Matrix2d::Identity();
      of_station[p.station].push_back({i, {p.x, covariance, other->leftCols<2>() * one->leftCols<2>().inverse()}});
    }
  }
  std::vector<int> stations;
  for (const auto& [station, looks] : of_station) stations.push_back(station);
  std::vector<std::vector<std::pair<std::size_t, CarriedPoint::Ray>>> found(stations.size());
  for_photos(images, stations, "matching sighted ground", notes, progress,
             [&](std::size_t k, const photo::Grey& photo) {
               for (const CarryAim& look : of_station.at(stations[k])) {
                 const Template& from = templates[look.point];
                 if (const auto c = carry_over(from.patch, from.x, photo, look.expected))
                   found[k].push_back(
                       {look.point, {stations[k], c->x, std::sqrt(0.5 * c->covariance.trace()), c->correlation}});
               }
             });
  for (const auto& of_photo : found)
    for (const auto& [i, ray] : of_photo) out[i].rays.push_back(ray);
  for (std::size_t i = 0; i < points.size(); ++i)
    if (!out[i].rays.empty()) out[i] = keep_what_meets(block, points[i], std::move(out[i]));
  return out;
}

}  // namespace mesograph::sight
