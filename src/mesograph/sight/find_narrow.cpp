#include <fmt/format.h>

#include <Eigen/LU>
#include <algorithm>
#include <mesograph/base/median.hpp>
#include <mesograph/sight/complete.hpp>
#include <mesograph/sight/find_alike.hpp>
#include <mesograph/sight/find_narrow.hpp>

namespace mesograph::sight {

std::vector<std::vector<Window>> narrow_windows(const SearchSite& site, const Outlook::Predictions& predictions) {
  std::vector<std::vector<Window>> out(site.images.size());
  for (std::size_t i = 0; i < predictions.size(); ++i)
    for (const adjust::Prediction& p : predictions[i])
      // beyond it a window is no window: such photos wait for the next adjustment
      if (!p.hidden && !site.spoken[i].count(p.station) && p.axes()[0] < 12 * narrow_px)
        out[p.station].push_back(around(p));
  return out;
}

Candidate candidate_of(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, std::size_t i,
                       const std::vector<Seen>& all, int least_rays) {
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
  options.least_rays = photos == 2 ? 2 : least_rays;
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
  const auto looks_usual = [&](const Spot& spot) {
    const auto fitting =
        std::count_if(spot.sights.begin(), spot.sights.end(), [&](int k) { return usual.fits(c.seen[k]); });
    return 3 * fitting >= 2 * static_cast<std::ptrdiff_t>(spot.sights.size());
  };
  std::vector<Spot> spots = c.spots;  // those with most photos first
  const bool any_usual = std::any_of(spots.begin(), spots.end(), looks_usual);
  if (any_usual) std::erase_if(spots, [&](const Spot& spot) { return !looks_usual(spot); });
  NarrowChoice out;
  if (spots.empty()) return out;
  for (const int k : spots[0].sights) out.sights.push_back(c.seen[k]);
  out.outcome = any_usual ? NarrowOutcome::found : NarrowOutcome::unlike;
  if (spots.size() < 2) return out;
  out.rival = spots[1].sights.size(), out.apart = (spots[1].X - spots[0].X).norm();
  // Three fifths of the photos: chance agrees in three, where a dozen agree on the point.
  if (5 * out.rival > 3 * out.sights.size()) out.outcome = NarrowOutcome::ambiguous;
  return out;
}

namespace {

std::vector<Sighting> sightings_of(const std::string& id, const std::vector<std::string>& names,
                                   const NarrowChoice& choice) {
  const bool refused = choice.outcome == NarrowOutcome::ambiguous;
  std::vector<Sighting> out;
  for (const Seen& s : choice.sights) {
    const std::string in = s.band == photo::Band::luma ? "" : fmt::format(" in {}", word_of(s.band));
    std::string origin = fmt::format("finder: {} of {:.0f} px{}, fit {:.3f}, {} photos meet", word_of(s.target.kind),
                                     s.target.size_px, in, s.target.fit, choice.sights.size());
    if (refused) origin += fmt::format("; another {:.2f} m beside it in {}", choice.apart, choice.rival);
    out.push_back({names[s.station], id, s.target.x.x(), s.target.x.y(), ray_of(s).sigma,
                   refused ? SightingState::refused : SightingState::found, origin});
  }
  return out;
}

/// A kind and its size, as sentences name it.
std::string looks_of(const std::vector<Seen>& sights) {
  std::vector<double> sizes;
  for (const Seen& s : sights) sizes.push_back(s.size_m);
  return fmt::format("{} of {:.2f} m", word_of(sights.front().target.kind), median(sizes));
}

/// Points that show nothing in what was looked at, and in which photos they should.
std::vector<std::vector<Window>> windows_of_missed(const SearchSite& site, const Outlook& outlook,
                                                   const std::vector<Candidate>& candidates) {
  Outlook::Predictions missed = outlook.predictions;
  for (const Candidate& c : candidates)
    if (!c.spots.empty()) missed[c.point].clear();
  return narrow_windows(site, missed);
}

void add_words(const adjust::Block& block, const std::vector<Candidate>& candidates,
               const std::vector<NarrowChoice>& choices, const Usual& usual, std::vector<std::string>& notes) {
  for (std::size_t i = 0; i < candidates.size(); ++i) {
    const std::string& id = block.surveyed[candidates[i].point].id;
    const NarrowChoice& c = choices[i];
    if (c.outcome == NarrowOutcome::ambiguous)
      notes.push_back(
          fmt::format("{}: refused, for more than one target lies within the ellipse: a {} in {} photos, and another "
                      "{:.2f} m beside "
                      "it in {}; confirm the right one (sight --confirm {}, or the page results/sight.html)",
                      id, looks_of(c.sights), c.sights.size(), c.apart, c.rival, id));
    if (c.outcome == NarrowOutcome::unlike && usual.kind)
      notes.push_back(
          fmt::format("{}: taken though it looks unlike the others, for nothing else lies there: a {} in {} photos, "
                      "the others are {}s "
                      "of {:.2f} m; look at its sheet",
                      id, looks_of(c.sights), c.sights.size(), word_of(*usual.kind), usual.size_m));
  }
}

/// Chooses for points where nothing was found what looks as usual in two photos, and is alone there: a third may prove
/// it when it is looked at right there. Returns the points.
std::vector<std::size_t> seen_twice(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                                    const std::vector<Seen>& seen, const Usual& usual,
                                    std::vector<Candidate>& candidates, std::vector<NarrowChoice>& choices) {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; usual.kind && i < candidates.size(); ++i) {
    if (!candidates[i].spots.empty()) continue;
    Candidate two = candidate_of(block, site, outlook, candidates[i].point, seen, 2);
    const bool as_usual =
        two.spots.size() == 1 && std::all_of(two.spots[0].sights.begin(), two.spots[0].sights.end(),
                                             [&](int k) { return usual.fits(two.seen[static_cast<std::size_t>(k)]); });
    if (!as_usual) continue;
    candidates[i] = std::move(two);
    choices[i] = choose(candidates[i], usual);
    out.push_back(i);
  }
  return out;
}

/// The clearest of the targets that look usual; nothing where there is none.
std::optional<Pattern> pattern_of(const adjust::Block& block, const std::vector<NarrowChoice>& choices,
                                  const Usual& usual) {
  std::optional<Pattern> out;
  std::vector<std::vector<double>> tones(block.stations.size());
  std::vector<double> all;
  for (const NarrowChoice& choice : choices) {
    if (choice.outcome != NarrowOutcome::found) continue;
    for (const Seen& s : choice.sights) {
      if (!usual.fits(s)) continue;
      tones[static_cast<std::size_t>(s.station)].push_back(s.target.tone), all.push_back(s.target.tone);
      if (std::abs(s.size_m - usual.size_m) < 0.2 * usual.size_m && (!out || s.target.fit > out->seen.target.fit))
        out = Pattern{s, ground_of(block, s), {}};
    }
  }
  if (!out) return out;
  for (const std::vector<double>& of_photo : tones) out->tones.push_back(median(of_photo.empty() ? all : of_photo));
  return out;
}

/// Chooses for points where nothing was found what looks like the others though its paint hardly differs from the
/// ground, where at least half of the photos that should show it agree.
void choose_alike(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Usual& usual,
                  std::vector<Candidate>& candidates, std::vector<NarrowChoice>& choices, Progress& progress) {
  const auto pattern = pattern_of(block, choices, usual);
  if (!pattern) return;
  std::vector<std::vector<AlikeWindow>> windows(site.images.size());
  std::vector<int> should_show(candidates.size(), 0);
  for (std::size_t k = 0; k < candidates.size(); ++k) {
    const std::size_t point = candidates[k].point;
    const auto place = known_place(block, block.surveyed[point]);
    if (!candidates[k].spots.empty() || !place) continue;
    for (const adjust::Prediction& p : outlook.predictions[point])
      if (!p.hidden && !site.spoken[point].count(p.station) && p.axes()[0] < narrow_px)
        windows[p.station].push_back({place->X, around(p)}), ++should_show[k];
  }
  const Look alike = look_for_alike(block, site, outlook, *pattern, windows, progress);
  for (std::size_t k = 0; k < candidates.size(); ++k) {
    if (should_show[k] < 3) continue;
    Candidate c = candidate_of(block, site, outlook, candidates[k].point, alike.seen, std::max(3, should_show[k] / 2));
    if (c.spots.empty()) continue;
    candidates[k] = std::move(c);
    choices[k] = choose(candidates[k], usual);
  }
}

/// Adds to what was chosen the photos in which it did not show by itself.
void complete(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
              const std::vector<Candidate>& candidates, std::vector<NarrowChoice>& choices, Progress& progress) {
  std::vector<KnownPoint> known;
  std::vector<std::size_t> which;
  for (std::size_t i = 0; i < choices.size(); ++i)
    if (choices[i].outcome == NarrowOutcome::found || choices[i].outcome == NarrowOutcome::unlike)
      known.push_back({candidates[i].point, choices[i].sights}), which.push_back(i);
  std::vector<std::vector<Seen>> all = completed(block, site, outlook, known, progress);
  for (std::size_t k = 0; k < which.size(); ++k) choices[which[k]].sights = std::move(all[k]);
}

/// A look at ellipses, what may be each surveyed point, and what these look like.
struct NarrowLook {
  Look look;
  std::vector<Candidate> candidates;  ///< one a surveyed point
  Usual usual;                        ///< as it was given, else as it was learnt
  /// Points where something meets.
  std::size_t shown() const {
    return static_cast<std::size_t>(
        std::count_if(candidates.begin(), candidates.end(), [](const Candidate& c) { return !c.spots.empty(); }));
  }
};

/// Looks at the points' ellipses for what is usual, then for any kind where that was missed, since a crew may have laid
/// two. Where half of the points and more show nothing the paint may be as light as the ground: colours are looked at,
/// and count where at least three points look the same in them; of single points they are not asked, for grass is of
/// many colours, and white paint on it lies half a pixel off.
NarrowLook look_within(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Usual& given,
                       Progress& progress) {
  const auto see = [&](const Usual& as, const std::vector<std::vector<Window>>& windows, std::string_view step) {
    NarrowLook now;
    now.look = look(block, site, outlook, as, windows, LookFor::any, step, progress);
    for (std::size_t i = 0; i < block.surveyed.size(); ++i)
      now.candidates.push_back(candidate_of(block, site, outlook, i, now.look.seen));
    now.usual = as.kind ? as : usual_among(now.candidates);
    now.usual.band = as.band;
    return now;
  };
  const auto windows = narrow_windows(site, outlook.predictions);
  NarrowLook out = see(given, windows, "looking for targets within their ellipses");
  for (const photo::Band band : colours) {
    if (2 * out.shown() > out.candidates.size()) break;
    if (band == given.band) continue;
    NarrowLook other =
        see({given.kind, given.size_m, band}, windows, fmt::format("looking at colours: {}", word_of(band)));
    if (other.usual.kind && other.shown() > out.shown()) out = std::move(other);
  }
  if (!given.kind) return out;
  const NarrowLook more = see({}, windows_of_missed(site, outlook, out.candidates), "looking again for other kinds");
  for (std::size_t i = 0; i < out.candidates.size(); ++i)
    if (out.candidates[i].spots.empty()) out.candidates[i] = more.candidates[i];
  return out;
}

}  // namespace

NarrowFind find_narrow(const adjust::Block& block, const std::vector<std::string>& names, const SearchSite& site,
                       const Outlook& outlook, const Usual& given, Progress& progress) {
  NarrowFind out;
  out.rays.resize(block.surveyed.size());
  auto [seen, candidates, usual] = look_within(block, site, outlook, given, progress);
  out.notes = seen.notes;
  out.usual = usual;
  std::vector<NarrowChoice> choices;
  for (const Candidate& c : candidates) choices.push_back(choose(c, usual));
  choose_alike(block, site, outlook, usual, candidates, choices, progress);
  const std::vector<std::size_t> thin = seen_twice(block, site, outlook, seen.seen, usual, candidates, choices);
  complete(block, site, outlook, candidates, choices, progress);
  for (const std::size_t i : thin)
    if (choices[i].sights.size() < 3) choices[i] = {};
  for (std::size_t k = 0; k < candidates.size(); ++k) {
    const Candidate& c = candidates[k];
    const NarrowChoice& choice = choices[k];
    const std::vector<Sighting> sightings = sightings_of(block.surveyed[c.point].id, names, choice);
    out.found.insert(out.found.end(), sightings.begin(), sightings.end());
    if (choice.outcome != NarrowOutcome::ambiguous)
      for (const Seen& s : choice.sights) out.rays[c.point].push_back(ray_of(s));
  }
  add_words(block, candidates, choices, usual, out.notes);
  return out;
}

}  // namespace mesograph::sight
