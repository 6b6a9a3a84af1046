#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <mesograph/sight/find_narrow.hpp>

namespace mesograph::sight {

std::vector<std::vector<Window>> narrow_windows(const SearchSite& site, const Outlook& outlook) {
  std::vector<std::vector<Window>> out(site.images.size());
  for (std::size_t i = 0; i < outlook.predictions.size(); ++i)
    for (const adjust::Prediction& p : outlook.predictions[i])
      // beyond it a window is no window: such photos wait for the next adjustment
      if (!p.hidden && !site.spoken[i].count(p.station) && p.axes()[0] < 12 * narrow_px)
        out[p.station].push_back(around(p));
  return out;
}

Candidate candidate_of(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, std::size_t i,
                       const std::vector<Seen>& all) {
  Candidate c{i, {}, {}};
  std::vector<Eigen::Vector3d> ground;
  std::vector<Sight> of_people;
  // Rays that the wide search has left are found again here, with the view of their own place.
  for (const adjust::Ray& r : block.surveyed[i].point.rays)
    if (site.spoken[i].count(r.station)) of_people.push_back({r.station, r.x, r.sigma});
  int photos = static_cast<int>(of_people.size());
  for (const adjust::Prediction& p : outlook.predictions[i]) {
    if (p.hidden || site.spoken[i].count(p.station)) continue;
    ++photos;
    constexpr double block_px = 1.5;  // what the block's rays leave
    const Eigen::Matrix2d inverse = (p.covariance + block_px * block_px * Eigen::Matrix2d::Identity()).inverse();
    for (const Seen& s : all) {
      if (s.station != p.station) continue;
      const Eigen::Vector2d d = s.target.x - p.x;
      if (d.dot(inverse * d) > search_sigmas * search_sigmas) continue;
      c.seen.push_back(s);
      c.seen.back().range = p.range;
      ground.push_back(ground_of(block, c.seen.back()));
    }
  }
  std::vector<Sight> sights = sights_of(c.seen);
  sights.insert(sights.end(), of_people.begin(), of_people.end());
  ground.resize(sights.size(), Eigen::Vector3d::Constant(nan));
  SpotOptions options;
  options.least_rays = photos == 2 ? 2 : 3;
  c.spots = find_spots(block, sights, ground, options);
  const auto theirs = [&](int k) { return k >= static_cast<int>(c.seen.size()); };
  // What does not meet with a single one of them is not what people have sighted.
  if (!of_people.empty())
    std::erase_if(c.spots, [&](const Spot& s) { return std::none_of(s.sights.begin(), s.sights.end(), theirs); });
  for (Spot& s : c.spots) std::erase_if(s.sights, theirs);
  std::erase_if(c.spots, [](const Spot& s) { return s.sights.empty(); });
  return c;
}

Usual usual_among(const std::vector<Candidate>& candidates) {
  std::vector<Seen> pooled;
  std::vector<Spot> spots;
  std::vector<int> which;
  for (const Candidate& c : candidates) {
    if (c.spots.size() != 1) continue;
    Spot spot = c.spots[0];
    for (int& k : spot.sights) {
      pooled.push_back(c.seen[k]);
      k = static_cast<int>(pooled.size()) - 1;
    }
    which.push_back(static_cast<int>(spots.size()));
    spots.push_back(spot);
  }
  return usual_of(pooled, spots, which);
}

NarrowChoice choose(const Candidate& c, const Usual& usual) {
  std::vector<Spot> spots = c.spots;
  std::erase_if(spots, [&](const Spot& spot) {
    const auto fitting =
        std::count_if(spot.sights.begin(), spot.sights.end(), [&](int k) { return usual.fits(c.seen[k]); });
    return 3 * fitting < 2 * static_cast<std::ptrdiff_t>(spot.sights.size());
  });
  if (spots.empty()) return {c.spots.empty() ? NarrowOutcome::nothing : NarrowOutcome::other_looks, {}};
  // Three fifths of the photos: chance agrees in three, where a dozen agree on the point.
  if (spots.size() > 1 && 5 * spots[1].sights.size() > 3 * spots[0].sights.size())
    return {NarrowOutcome::ambiguous, {}};
  NarrowChoice out{NarrowOutcome::found, {}};
  for (const int k : spots[0].sights) out.sights.push_back(c.seen[k]);
  return out;
}

namespace {

void take(const std::string& id, const std::vector<std::string>& names, const std::vector<Seen>& sights,
          std::vector<adjust::Ray>& rays, std::vector<Sighting>& found) {
  for (const Seen& s : sights) {
    rays.push_back(ray_of(s));
    found.push_back({names[s.station], id, s.target.x.x(), s.target.x.y(), rays.back().sigma, SightingState::found,
                     fmt::format("finder: {} of {:.0f} px, fit {:.3f}, {} photos meet", word_of(s.target.kind),
                                 s.target.size_px, s.target.fit, sights.size())});
  }
}

}  // namespace

NarrowFind find_narrow(const adjust::Block& block, const std::vector<std::string>& names, const SearchSite& site,
                       const Outlook& outlook, Usual usual, Progress& progress) {
  const Look seen = look(block, site, outlook, usual, narrow_windows(site, outlook), false,
                         "looking for targets within their ellipses", progress);
  NarrowFind out;
  out.notes = seen.notes;
  out.rays.resize(block.surveyed.size());
  std::vector<Candidate> candidates;
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    candidates.push_back(candidate_of(block, site, outlook, i, seen.seen));
  if (!usual.kind) usual = usual_among(candidates);
  out.usual = usual;
  std::vector<std::string> ambiguous, other;
  for (const Candidate& c : candidates) {
    const std::string& id = block.surveyed[c.point].id;
    const NarrowChoice choice = choose(c, usual);
    if (choice.outcome == NarrowOutcome::found) take(id, names, choice.sights, out.rays[c.point], out.found);
    if (choice.outcome == NarrowOutcome::ambiguous) ambiguous.push_back(id);
    if (choice.outcome == NarrowOutcome::other_looks) other.push_back(id);
  }
  if (!ambiguous.empty())
    out.notes.push_back(fmt::format("{}: more than one target lies within the ellipse; confirm one by hand",
                                    fmt::join(ambiguous, ", ")));
  if (!other.empty())
    out.notes.push_back(
        fmt::format("{}: what lies within the ellipse is no {} of {:.2f} m as the others are; not taken",
                    fmt::join(other, ", "), word_of(*usual.kind), usual.size_m));
  return out;
}

}  // namespace mesograph::sight
