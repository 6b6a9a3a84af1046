#include <fmt/format.h>

#include <map>
#include <mesograph/base/median.hpp>
#include <mesograph/control/other_readings.hpp>
#include <mesograph/sight/find_wide.hpp>

namespace mesograph::sight {

namespace {

/// Control points that may be looked for, where they show, and how far off they may be found: plan and height, m.
struct Sought {
  std::vector<std::size_t> points;
  std::vector<Eigen::Vector3d> places;
  std::vector<std::vector<Window>> windows;
  Eigen::Vector2d reach = Eigen::Vector2d::Zero();
  double slack = nan;  ///< m, that spots and points may differ by beside the common shift
};

/// How far off a point is looked for, and the whole may be shifted, in standard deviations of a prediction and of a
/// station: positions are worse than they say more often than chance has it, and a wider search costs little.
constexpr double shift_sigmas = 5;

Sought sought(const adjust::Block& block, const Outlook& outlook) {
  Sought out;
  out.windows.resize(block.stations.size());
  // What a block bends by before control holds it grows with the ground that a pixel covers, as its rays' errors do.
  out.slack = 12 * adjust::ground_sampling_distance(block);
  for (std::size_t i = 0; i < outlook.predictions.size(); ++i) {
    if (block.surveyed[i].role != adjust::Role::control || outlook.predictions[i].empty()) continue;
    out.points.push_back(i);
    out.places.push_back(block.surveyed[i].surveyed);
    for (const adjust::Prediction& p : outlook.predictions[i]) {
      if (p.hidden) continue;
      out.windows[p.station].push_back(around(p, shift_sigmas));
      // What photos share moves the block as a whole, as far as a station may be off.
      const Eigen::Matrix3d& Q = block.stations[p.station].covariance;
      if (Q.allFinite())
        out.reach = out.reach.cwiseMax(Eigen::Vector2d(shift_sigmas * std::sqrt(Q.topLeftCorner<2, 2>().trace()),
                                                       shift_sigmas * std::sqrt(Q(2, 2))));
    }
  }
  return out;
}

/// Windows of as few photos as show every point `views` times where so many do: those that show most points first.
std::vector<std::vector<Window>> few_windows(const Sought& all, const Outlook& outlook, int views) {
  std::vector<std::vector<std::size_t>> shown(all.windows.size());  // points of each photo
  std::vector<int> wanted(all.points.size(), 0);
  for (std::size_t k = 0; k < all.points.size(); ++k)
    for (const adjust::Prediction& p : outlook.predictions[all.points[k]])
      if (!p.hidden) shown[p.station].push_back(k), wanted[k] = std::min(views, wanted[k] + 1);
  std::vector<std::vector<Window>> out(all.windows.size());
  for (;;) {
    std::size_t best = 0, most = 0;
    for (std::size_t s = 0; s < shown.size(); ++s) {
      const auto helps = static_cast<std::size_t>(
          std::count_if(shown[s].begin(), shown[s].end(), [&](std::size_t k) { return wanted[k] > 0; }));
      if (helps > most) best = s, most = helps;
    }
    if (most == 0) return out;
    for (const std::size_t k : shown[best]) --wanted[k];
    shown[best].clear();
    out[best] = all.windows[best];
  }
}

/// The reading under which the pattern of control shows, as a sentence; empty where none does. One search serves all:
/// what they move control by is little beside the ellipses, which overlap.
std::string other_reading(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                          const Sought& sought, const geo::Crs& crs, const Eigen::Vector3d& origin,
                          Progress& progress) {
  if (sought.points.size() < 4) return {};
  const auto first = known_place(block, block.surveyed[sought.points[0]]);
  if (!first) return {};
  std::vector<control::OtherReading> readings = control::other_readings(crs, origin, sought.places);
  const double searched = 0.25 * sought.reach.minCoeff();  // less was within what has been looked at
  std::erase_if(readings, [&](const control::OtherReading& reading) { return reading.moved < searched; });
  std::vector<std::vector<Window>> windows(site.images.size());
  bool any = false;  // what moves far is out of the photos
  for (const control::OtherReading& reading : readings)
    for (const Eigen::Vector3d& X : reading.places)
      for (const adjust::Prediction& p : outlook.predictor.photos_of(X, first->covariance))
        windows[p.station].push_back(around(p)), any = true;
  if (!any) return {};
  const Look seen =
      look(block, site, outlook, {}, windows, LookFor::clear, "looking where other readings put control", progress);
  const std::vector<Spot> spots = spots_of(block, seen.seen);
  for (const control::OtherReading& reading : readings)
    if (identify(reading.places, spots, sought.reach, sought.slack))
      return fmt::format(
          "the pattern of the control points shows with their {}, {:.1f} m from where they are now: "
          "give the file again so",
          reading.words, reading.moved);
  return {};
}

}  // namespace

namespace {

/// A look all over, the spots that its targets make, and the pattern of control among them.
struct WideLook {
  Look look;
  std::vector<Spot> spots;
  std::optional<Identified> identified;
  photo::Band band = photo::Band::luma;
};

/// Spots of one kind and about one size, for a crew lays what it has.
struct Class {
  Usual looks;             ///< kind and least size; nothing: all spots
  std::vector<int> spots;  ///< indices into those given
};

std::vector<Class> classes_of(const std::vector<Seen>& seen, const std::vector<Spot>& spots) {
  std::map<TargetKind, std::vector<std::pair<double, int>>> by_kind;  // size, spot
  for (std::size_t j = 0; j < spots.size(); ++j) {
    std::map<TargetKind, std::vector<double>> sizes;
    for (const int k : spots[j].sights) sizes[seen[k].target.kind].push_back(seen[k].size_m);
    for (auto& [kind, values] : sizes)
      if (2 * values.size() > spots[j].sights.size()) by_kind[kind].emplace_back(median(values), static_cast<int>(j));
  }
  std::vector<Class> out(1);
  for (std::size_t j = 0; j < spots.size(); ++j) out[0].spots.push_back(static_cast<int>(j));
  constexpr double most_ratio = 1.5;  // of sizes of one class: slopes, blur and a coarse range do that much
  for (auto& [kind, all] : by_kind) {
    std::sort(all.begin(), all.end());
    for (double least = all.front().first; least <= all.back().first; least *= std::sqrt(most_ratio)) {
      Class one{{kind, least * std::sqrt(most_ratio)}, {}};
      for (const auto& [size, j] : all)
        if (size >= least && size <= most_ratio * least) one.spots.push_back(j);
      if (one.spots.size() >= 3 && one.spots != out.back().spots) out.push_back(std::move(one));
    }
  }
  return out;
}

/// The pattern among the spots of one class: of all classes the one that chance explains least. `identified` counts in
/// all spots.
std::optional<Identified> pattern_by_looks(const Sought& wanted, const std::vector<Spot>& spots,
                                           const std::vector<Class>& classes) {
  std::optional<Identified> best;
  for (const Class& one : classes) {
    std::vector<Spot> some;
    for (const int j : one.spots) some.push_back(spots[static_cast<std::size_t>(j)]);
    auto found = identify(wanted.places, some, wanted.reach, wanted.slack);
    if (!found || found->chance * static_cast<double>(classes.size()) > 1e-3) continue;
    if (best && std::pair(-best->named, best->chance) <= std::pair(-found->named, found->chance)) continue;
    for (int& spot : found->spot)
      if (spot >= 0) spot = one.spots[static_cast<std::size_t>(spot)];
    best = std::move(found);
  }
  return best;
}

/// The looks of the classes with most spots, each kind once, three at most: gravel and roofs have a kind, too.
std::vector<Usual> likeliest(std::vector<Class> classes) {
  std::erase_if(classes, [](const Class& one) { return !one.looks.kind; });
  std::stable_sort(classes.begin(), classes.end(),
                   [](const Class& a, const Class& b) { return a.spots.size() > b.spots.size(); });
  std::vector<Usual> out;
  for (const Class& one : classes)
    if (out.size() < 2 &&
        std::none_of(out.begin(), out.end(), [&](const Usual& u) { return u.kind == one.looks.kind; }))
      out.push_back(one.looks);
  return out;
}

/// Few photos and large targets first: a pattern needs not all, and small ones cost four times as much. Where too few
/// of it showed in all of the photos, too, what shows most is looked for with wider bounds, for its kind and size are
/// known; then the colours.
WideLook look_for_pattern(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                          const Sought& wanted, Progress& progress) {
  constexpr int views = 4;  // three rays make a spot, and one photo may miss its target
  const std::vector<std::vector<Window>> few = few_windows(wanted, outlook, views);
  WideLook out;
  std::vector<Class> classes;
  std::vector<Seen> newest;  // what the last look saw
  const auto see = [&](const Usual& usual, const std::vector<std::vector<Window>>& windows, std::string_view step,
                       LookFor look_for = LookFor::clear, const std::vector<Seen>& before = {}) {
    WideLook now;
    now.band = usual.band;
    now.look = look(block, site, outlook, usual, windows, look_for, step, progress);
    newest = now.look.seen;
    now.look.seen.insert(now.look.seen.end(), before.begin(), before.end());
    now.spots = spots_of(block, now.look.seen);
    classes = classes_of(now.look.seen, now.spots);
    now.identified = pattern_by_looks(wanted, now.spots, classes);
    // Half of the points by name are more than a pattern needs; fewer may be that of half the site.
    const bool better = now.identified && (!out.identified || now.identified->named > out.identified->named);
    if (better || out.spots.empty()) out = std::move(now);
    return out.identified && 2 * out.identified->named >= static_cast<int>(wanted.points.size());
  };
  if (see({}, few, "looking for targets all over", LookFor::large)) return out;
  if (see({}, few, "looking for small ones, too")) return out;
  std::vector<std::vector<Window>> others = wanted.windows;
  for (std::size_t i = 0; i < others.size(); ++i)
    if (!few[i].empty()) others[i].clear();
  if (see({}, others, "looking in the other photos", LookFor::clear, std::vector<Seen>(newest))) return out;
  for (const Usual& usual : likeliest(classes))
    if (see(usual, wanted.windows, "looking for what shows most")) break;
  for (const photo::Band band : colours)
    if (!out.identified) see({{}, nan, band}, few, fmt::format("looking at colours: {}", word_of(band)));
  return out;
}

}  // namespace

WideFind find_wide(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                   const std::optional<geo::Crs>& crs, const Eigen::Vector3d& origin, Progress& progress) {
  const Sought wanted = sought(block, outlook);
  WideFind out;
  out.rays.resize(block.surveyed.size());
  const auto [seen, spots, identified, band] = look_for_pattern(block, site, outlook, wanted, progress);
  out.notes = seen.notes;
  if (!identified) {
    if (crs)
      if (const std::string words = other_reading(block, site, outlook, wanted, *crs, origin, progress); !words.empty())
        out.notes.push_back(words);
    out.notes.push_back(fmt::format(
        "{} targets show in three photos or more, but no pattern of the {} control points among them: sight three "
        "points by hand (sight --import, or the page results/sight.html), then run sight again",
        spots.size(), wanted.points.size()));
    return out;
  }
  std::vector<int> named;
  for (std::size_t i = 0; i < wanted.points.size(); ++i) {
    const int j = identified->spot[i];
    const std::size_t point = wanted.points[i];
    if (j < 0 || block.surveyed[point].point.rays.size() >= 2) continue;
    named.push_back(j);
    for (const int k : spots[j].sights)
      if (!site.spoken[point].count(seen.seen[k].station)) out.rays[point].push_back(ray_of(seen.seen[k]));
  }
  const Eigen::Vector3d& shift = identified->onto_control.t;
  const double turned = identified->onto_control.R.trace();  // 3: not at all
  if (turned > 2.99 && 2 * shift.head<2>().norm() > wanted.reach.x())
    out.notes.push_back(fmt::format(
        "control lies {:.1f} m in plan from where the photos' positions put it, twice what their sigmas "
        "allow; one may be "
        "in another datum: name the file's with control --crs, or the positions' with positions_crs{}",
        shift.head<2>().norm(), crs ? control::foot_words(*crs, origin, wanted.places[0], -shift) : std::string()));
  out.usual = usual_of(seen.seen, spots, named);
  out.usual.band = band;
  out.notes.push_back(fmt::format("{} of {} control points known by their pattern among {} targets", identified->named,
                                  wanted.points.size(), spots.size()));
  return out;
}

}  // namespace mesograph::sight
