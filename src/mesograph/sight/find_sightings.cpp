#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/sight/carry_sightings.hpp>
#include <mesograph/sight/find_narrow.hpp>
#include <mesograph/sight/find_sightings.hpp>
#include <mesograph/sight/find_wide.hpp>
#include <mesograph/sight/missed.hpp>

namespace mesograph::sight {

namespace {

void add_rays(adjust::Block& block, const std::vector<std::vector<adjust::Ray>>& rays) {
  for (std::size_t i = 0; i < rays.size(); ++i)
    block.surveyed[i].point.rays.insert(block.surveyed[i].point.rays.end(), rays[i].begin(), rays[i].end());
}

/// Rays of photos in which nobody has spoken: those of a search.
void drop_found_rays(adjust::Block& block, const SearchSite& site) {
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    std::erase_if(block.surveyed[i].point.rays, [&](const adjust::Ray& r) { return !site.spoken[i].count(r.station); });
}

void add_notes(std::vector<std::string>& all, const std::vector<std::string>& more) {
  for (const std::string& note : more)
    if (!note.empty() && std::find(all.begin(), all.end(), note) == all.end()) all.push_back(note);
}

/// A point that people have sighted and no finder knows, and where it lies in the block: where its rays meet, else on
/// the ground along the one.
std::optional<PointToCarry> to_carry(const adjust::Block& block, const Outlook& outlook, const std::set<int>& spoken,
                                     std::size_t i) {
  const adjust::SurveyedPoint& p = block.surveyed[i];
  PointToCarry out;
  out.point = i;
  out.spoken = spoken;
  for (const adjust::Ray& r : p.point.rays)
    if (spoken.count(r.station) && adjust::takes_part(block, r)) out.by_people.push_back(r);
  if (p.role == adjust::Role::off || out.by_people.empty() || out.by_people.size() < p.point.rays.size())
    return std::nullopt;
  const adjust::Ray& ray = out.by_people.front();
  const adjust::Station& s = block.stations[ray.station];
  const auto line = adjust::sight_line(block, s, ray.x);
  if (!line) return std::nullopt;
  adjust::GroundPoint point = p.point;
  const bool meets = adjust::place(block, point, 0.05);
  const double range = meets ? (point.X - s.C).norm() : outlook.predictor.range_to_ground(ray.station, ray.x);
  out.X = meets ? point.X : line->C + range * line->d;
  // Along the ray: what few rays leave open, or by how much ground differs from that of the tie points around.
  const double along = (meets ? 0.005 : 0.03) * range,
               across = ray.sigma * range / block.cameras[s.camera].interior[camera::c];
  out.covariance = across * across * Eigen::Matrix3d::Identity() + along * along * line->d * line->d.transpose();
  if (!out.X.allFinite()) return std::nullopt;
  return out;
}

/// Sightings of people at points where no target is found, carried into the other photos.
void carry(adjust::NamedBlock& named, const SearchSite& site, const Outlook& outlook, FoundSightings& out,
           Progress& progress) {
  adjust::Block& block = named.block;
  std::vector<PointToCarry> points;
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    if (auto p = to_carry(block, outlook, site.spoken[i], i)) points.push_back(std::move(*p));
  for (const CarriedPoint& c : carry_sightings(block, outlook.predictor, site.images, points, out.notes, progress)) {
    adjust::SurveyedPoint& p = block.surveyed[c.point];
    // All share the error of the one click. Of a tie point it moves the point and nothing else; of a surveyed one it
    // must not count less than once.
    double click = 0;
    for (const adjust::Ray& r : p.point.rays)
      if (r.station == c.from && !p.natural) click = r.sigma * std::sqrt(static_cast<double>(c.rays.size()));
    for (const CarriedPoint::Ray& r : c.rays) {
      const double sigma = std::hypot(std::hypot(r.sigma, least_sigma_px), click);
      p.point.rays.push_back({r.station, r.x, sigma, true});
      out.found.push_back({named.images[r.station], p.id, r.x.x(), r.x.y(), sigma, SightingState::found,
                           fmt::format("matched from {}: correlation {:.3f}, {} photos meet", named.images[c.from],
                                       r.correlation, c.meet)});
    }
  }
}

std::vector<PredictedSighting> predicted(const adjust::NamedBlock& named, const SearchSite& site,
                                         const Outlook& outlook) {
  std::vector<double> all;
  for (const Image& image : site.images) all.push_back(image.sharpness);
  const double usual = median(all);
  std::vector<PredictedSighting> out;
  for (std::size_t i = 0; i < outlook.predictions.size(); ++i) {
    std::vector<PredictedSighting> of_point;
    for (const adjust::Prediction& p : outlook.predictions[i]) {
      const double sharp = site.images[p.station].sharpness / usual;
      // pixels: nearer to the rim the lens is known worse
      const double steep = std::max(0.0, std::cos(p.off_vertical)), inside = std::min(1.0, p.edge / 60.0);
      const double worth = p.hidden ? 0.0 : steep * inside * (std::isfinite(sharp) ? std::min(1.0, sharp) : 1.0);
      const Eigen::Vector2d axes = p.axes();
      of_point.push_back({named.images[p.station], named.block.surveyed[i].id, p.x.x(), p.x.y(), axes[0], axes[1],
                          p.direction() * deg_per_rad, p.range, p.off_vertical * deg_per_rad, p.edge, sharp, p.hidden,
                          worth});
    }
    std::stable_sort(of_point.begin(), of_point.end(),
                     [](const PredictedSighting& a, const PredictedSighting& b) { return a.worth > b.worth; });
    out.insert(out.end(), of_point.begin(), of_point.end());
  }
  return out;
}

std::map<std::pair<std::string, std::string>, double> residuals(const adjust::NamedBlock& named) {
  std::map<std::pair<std::string, std::string>, double> out;
  for (const adjust::SurveyedPoint& p : named.block.surveyed) {
    adjust::GroundPoint point = p.point;
    point.X.setConstant(nan);
    if (!adjust::place(named.block, point, 0.02)) continue;
    for (const adjust::Ray& r : point.rays)
      if (const auto v = adjust::residual(named.block, r, point.X)) out[{named.images[r.station], p.id}] = v->norm();
  }
  return out;
}

}  // namespace

FoundSightings find_sightings(adjust::NamedBlock named, const SearchSite& site, const std::optional<geo::Crs>& crs,
                              bool find, Progress& progress) {
  FoundSightings out;
  adjust::Block& block = named.block;
  std::unique_ptr<const Outlook> outlook;
  const auto settle = [&] {
    outlook.reset();  // it refers to the block as it was
    block = settled(std::move(block), site.scope, progress);
    outlook = std::make_unique<const Outlook>(block, site.scope);
  };
  settle();
  Usual usual;
  if (find && outlook->wide() && sighted_control(block) < 3) {
    WideFind wide = find_wide(block, site, *outlook, crs, named.origin, progress);
    add_rays(block, wide.rays);
    add_notes(out.notes, wide.notes);
    usual = wide.usual;
    settle();
  }
  if (find && !outlook->wide()) {
    NarrowFind narrow = find_narrow(block, named.images, site, *outlook, usual, progress);
    drop_found_rays(block, site);
    add_rays(block, narrow.rays);
    add_notes(out.notes, narrow.notes);
    out.found = std::move(narrow.found);
    carry(named, site, *outlook, out, progress);
    if (!out.found.empty()) settle();
    add_notes(out.notes, missed_words(block, site, *outlook, narrow.usual, progress));
  }
  add_notes(out.notes, {unseen_words(block, *outlook)});
  out.predicted = predicted(named, site, *outlook);
  out.residuals = residuals(named);
  return out;
}

}  // namespace mesograph::sight
