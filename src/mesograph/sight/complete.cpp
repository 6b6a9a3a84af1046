#include <Eigen/LU>
#include <algorithm>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/sight/complete.hpp>
#include <mesograph/sight/target_start.hpp>

namespace mesograph::sight {

namespace {

/// One point that one photo should show.
struct Aim {
  std::size_t known = 0;  ///< index into the known points
  TargetShape shape;      ///< where and how
  photo::Band band = photo::Band::luma;
};

/// The sight that says most of how the target lies: of the kind that most of them are, the best fit.
const Seen* clearest(const std::vector<Seen>& sights) {
  std::array<int, target_kinds.size()> votes{};
  for (const Seen& s : sights) ++votes[static_cast<std::size_t>(s.target.kind)];
  const auto kind = static_cast<TargetKind>(std::max_element(votes.begin(), votes.end()) - votes.begin());
  const Seen* out = nullptr;
  for (const Seen& s : sights)
    if (s.target.kind == kind && (!out || s.target.fit > out->target.fit)) out = &s;
  return out;
}

/// Where the rays of all sights meet.
std::optional<Spot> meeting(const adjust::Block& block, const std::vector<Seen>& sights) {
  std::vector<int> all;
  for (std::size_t i = 0; i < sights.size(); ++i) all.push_back(static_cast<int>(i));
  SpotOptions options;
  options.least_rays = std::min(3, static_cast<int>(sights.size()));
  options.most_sigmas = 2.5;  // the place is known: what hardly meets there is something else
  return meet(block, sights_of(sights), all, options);
}

std::vector<std::vector<Aim>> aims_of(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                                      const std::vector<KnownPoint>& known) {
  std::vector<std::vector<Aim>> out(site.images.size());
  for (std::size_t k = 0; k < known.size(); ++k) {
    const auto spot = meeting(block, known[k].sights);
    const Seen* from = clearest(known[k].sights);
    if (!spot || !from) continue;
    const auto one = adjust::imaged(block, block.stations[from->station], spot->X);
    if (!one) continue;
    const Eigen::Vector3d normal = outlook.predictor.ground_normal(from->station, from->target.x);
    for (const adjust::Prediction& p : outlook.predictor.photos_of(spot->X, Eigen::Matrix3d::Zero())) {
      const bool seen = std::any_of(known[k].sights.begin(), known[k].sights.end(),
                                    [&](const Seen& s) { return s.station == p.station; });
      if (seen || p.hidden || site.spoken[known[k].point].count(p.station) || site.images[p.station].path.empty())
        continue;
      const auto other = adjust::imaged(block, block.stations[p.station], spot->X);
      if (!other) continue;
      Eigen::Matrix<double, 3, 2> ground;  // two directions of it
      ground.col(0) = normal.unitOrthogonal();
      ground.col(1) = normal.cross(ground.col(0));
      const Eigen::Matrix2d seen_here = one->by_point * ground, seen_there = other->by_point * ground;
      const Eigen::Matrix2d by_pixel = seen_there * seen_here.inverse();
      const TargetOptions options = options_at(block, outlook.predictor, {}, {from->target.kind, nan}, p.station, p.x);
      out[p.station].push_back(
          {k, carried(from->target.shape, p.x, by_pixel, image_from_plane(options.view)), from->band});
    }
  }
  return out;
}

/// What lies there, if it looks as it does in the other photos.
std::optional<Seen> seen_there(const adjust::Block& block, const Outlook& outlook, const KnownPoint& known,
                               const photo::Grey& image, int station, const Aim& aim) {
  const TargetKind kind = clearest(known.sights)->target.kind;
  const TargetShape& shape = aim.shape;
  TargetOptions options = options_at(block, outlook.predictor, {}, {kind, nan}, station, shape.x);
  options.known_shape = true;
  options.most_sigma_px = std::min(options.most_sigma_px, 0.35);  // of the smallest the shape says nothing
  const auto target = fit_from(image, kind, shape, options, options.least_fit);
  if (!target || !acceptable(*target, options)) return std::nullopt;
  std::vector<double> contrasts;
  for (const Seen& s : known.sights) contrasts.push_back(s.target.contrast);
  // The same paint on the same ground: in shade half of it, and never the other way round.
  if (target->shape.light != shape.light || target->contrast < 0.3 * median(contrasts)) return std::nullopt;
  const double range = outlook.predictor.range_to_ground(station, target->x);
  const double c = block.cameras[block.stations[station].camera].interior[camera::c];
  return Seen{station, *target, range, target->size_px * range / c, aim.band};
}

}  // namespace

std::vector<std::vector<Seen>> completed(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                                         const std::vector<KnownPoint>& known, Progress& progress) {
  const std::vector<std::vector<Aim>> aims = aims_of(block, site, outlook, known);
  std::vector<std::vector<std::pair<std::size_t, Seen>>> per_photo(aims.size());
  progress.start("looking where the other photos say", aims.size());
  parallel_for(aims.size(), [&](std::size_t i) {
    progress.check();
    const int station = static_cast<int>(i);
    try {
      for (const photo::Band band : photo::bands) {
        const auto in_band = [&](const Aim& aim) { return aim.band == band; };
        if (std::none_of(aims[i].begin(), aims[i].end(), in_band)) continue;
        const photo::Grey image = photo::read_grey(site.images[i].path, 0, site.images[i].tone, band);
        for (const Aim& aim : aims[i])
          if (in_band(aim))
            if (auto seen = seen_there(block, outlook, known[aim.known], image, station, aim))
              per_photo[i].emplace_back(aim.known, *seen);
      }
    } catch (const Error&) {
      // told of when it was looked at first
    }
    progress.advance();
  });
  std::vector<std::vector<Seen>> out;
  for (const KnownPoint& k : known) out.push_back(k.sights);
  for (const auto& of_photo : per_photo)
    for (const auto& [k, seen] : of_photo) out[k].push_back(seen);
  for (std::size_t k = 0; k < known.size(); ++k) {
    const std::size_t given = known[k].sights.size();
    if (out[k].size() == given) continue;
    const auto spot = meeting(block, out[k]);
    std::vector<Seen> kept = known[k].sights;
    if (spot)
      for (const int j : spot->sights)
        if (static_cast<std::size_t>(j) >= given) kept.push_back(out[k][static_cast<std::size_t>(j)]);
    out[k] = std::move(kept);
  }
  return out;
}

}  // namespace mesograph::sight
