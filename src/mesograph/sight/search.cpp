#include <Eigen/LU>
#include <algorithm>
#include <map>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/sight/search.hpp>

namespace mesograph::sight {

namespace {

// Of the usual size, in a window whose ground lies at several ranges and slopes.
constexpr double least_of_usual = 0.5, most_of_usual = 2.0;
constexpr double sigma_slope = 8 * rad_per_deg;  // of the ground that targets lie on

void look_in_photo(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Usual& usual,
                   int station, const std::vector<Window>& windows, LookFor look_for, std::vector<Seen>& out) {
  const photo::Grey grey = photo::read_grey(site.images[station].path, 0, site.images[station].tone, usual.band);
  const double c = block.cameras[block.stations[station].camera].interior[camera::c];
  for (const Window& w : windows) {
    TargetOptions options = options_at(block, outlook.predictor, site.kinds, usual, station, w.center());
    // A size that is known in metres leaves an octave or two to be looked at.
    if (const double px = usual.size_m * c / outlook.predictor.range_to_ground(station, w.center()); px > 0) {
      options.least_size_px = std::max(options.least_size_px, least_of_usual * px);
      options.most_size_px = std::max(options.least_size_px, std::min(options.most_size_px, most_of_usual * px));
    }
    if (look_for != LookFor::any) {
      // All over a site there is a hundred times as much gravel and grass as targets: what stands out most is looked
      // at, and judged as where nothing is known of it, but for what ground does to paint.
      options.most_places_mp = usual.kind ? 300 : 80;
      options.least_contrast = usual.kind ? 20 : 25;  // grey levels: paint in the sun has 60 and more
      options.least_fit = options.least_ring_fit = usual.kind && usual.kind != TargetKind::checker ? 0.8 : 0.85;
      options.least_disc_fit = 0.92;  // of what is dark or light at all most is nearly round
      options.most_lopsided = 0.1, options.most_sigma_px = 0.3, options.most_strain = 8;
      options.only_large = look_for == LookFor::large;
    }
    for (const Target& t : find_targets(grey, w, options)) {
      const double range = outlook.predictor.range_to_ground(station, t.x);
      out.push_back({station, t, range, t.size_px * range / c, usual.band});
    }
  }
}

}  // namespace

TargetOptions options_at(const adjust::Block& block, const adjust::Predictor& predictor,
                         const std::vector<TargetKind>& kinds, const Usual& usual, int station,
                         const Eigen::Vector2d& x) {
  TargetOptions out;
  out.kinds = kinds;
  if (usual.kind) {
    // What it is and where is known, and rays of several photos must meet, which is the proof: uneven ground, a slant
    // or a shadow's edge may take some of the fit, and what they do to the centre is in its covariance. Where nothing
    // is known of the kind, road markings and window bars would pass as well.
    out.kinds = {*usual.kind};
    // Of a board's window all is paint; of strips and circles half is ground, and grass or gravel takes its share of
    // what a drawing can explain.
    const bool board = *usual.kind == TargetKind::checker;
    out.least_fit = out.least_disc_fit = out.least_ring_fit = board ? 0.85 : 0.72;
    // Circles count as less certain where the ground slopes, for it is taken as level.
    const bool strips = usual.kind == TargetKind::cross || usual.kind == TargetKind::corner;
    out.most_sigma_px = board ? 0.4 : strips ? 0.35 : 0.5;
    out.most_strain = 8, out.most_lopsided = board ? 0.12 : 0.25;
    out.least_size_px = 4.0;
  }
  const adjust::Station& s = block.stations[station];
  const camera::Camera& camera = block.cameras[s.camera];
  if (const auto v = camera::ray(camera, x))
    out.view =
        plane_view(s.R.transpose() * predictor.ground_normal(station, x), *v, camera.interior[camera::c], sigma_slope);
  return out;
}

Outlook::Outlook(const adjust::Block& of, const adjust::Scope& scope)
    : uncertainty(adjust::uncertainty_of(of, scope)), predictor(of, uncertainty), predictions(of.surveyed.size()) {
  parallel_for(of.surveyed.size(), [&](std::size_t i) {
    if (of.surveyed[i].role == adjust::Role::off) return;
    if (const auto place = known_place(of, of.surveyed[i]))
      predictions[i] = predictor.photos_of(place->X, place->covariance);
  });
}

bool Outlook::wide() const {
  std::vector<double> all;
  for (const auto& of_point : predictions)
    for (const adjust::Prediction& p : of_point) all.push_back(p.axes()[0]);
  return !all.empty() && median(all) > narrow_px;
}

std::optional<KnownPlace> known_place(const adjust::Block& block, const adjust::SurveyedPoint& p) {
  if (p.natural || !p.knows(0) || !p.knows(1)) return std::nullopt;
  KnownPlace out{p.surveyed, Eigen::Matrix3d::Zero()};
  const Eigen::Matrix3d weight = adjust::weight_of(p);
  if (p.knows(2)) {
    out.covariance = weight.inverse();
    return out;
  }
  std::vector<std::pair<double, double>> nearest;
  for (const adjust::GroundPoint& tie : block.points)
    if (tie.X.allFinite()) nearest.emplace_back((tie.X - out.X).head<2>().squaredNorm(), tie.X.z());
  if (nearest.size() < 5) return std::nullopt;
  std::partial_sort(nearest.begin(), nearest.begin() + 5, nearest.end());
  out.X.z() = median(std::vector<double>{nearest[0].second, nearest[1].second, nearest[2].second, nearest[3].second,
                                         nearest[4].second});
  // m^2, of ground between tie points: these lie some ten pixels apart, and ground is not steeper than that is wide.
  const double ground_variance = std::pow(15 * adjust::ground_sampling_distance(block), 2);
  out.covariance = Eigen::Vector3d(1 / weight(0, 0), 1 / weight(1, 1), ground_variance).asDiagonal();
  return out;
}

int sighted_control(const adjust::Block& block) {
  return static_cast<int>(
      std::count_if(block.surveyed.begin(), block.surveyed.end(), [](const adjust::SurveyedPoint& p) {
        return p.role == adjust::Role::control && !p.natural && p.point.rays.size() >= 2;
      }));
}

adjust::Block settled(adjust::Block block, const adjust::Scope& scope, Progress& progress) {
  if (sighted_control(block) == 0) return block;
  for (adjust::SurveyedPoint& p : block.surveyed)
    if (p.role == adjust::Role::control && !adjust::place(block, p.point, 0.005) && !p.natural) p.point.X = p.surveyed;
  adjust::SolveOptions options;
  options.cost_tolerance = 1e-5;  // to predict with, not to report
  adjust::solve(block, scope, options, progress);
  return block;
}

Window around(const adjust::Prediction& p, double sigmas) {
  const Eigen::Vector2d reach = (sigmas * p.covariance.diagonal().cwiseSqrt()).array() + 3.0;
  return {p.x - reach, p.x + reach};
}

std::vector<Window> merged(std::vector<Window> windows) {
  for (std::size_t i = 0; i < windows.size(); ++i)
    for (std::size_t j = i + 1; j < windows.size(); ++j)
      if (windows[i].intersects(windows[j])) {
        windows[i].extend(windows[j]);
        windows.erase(windows.begin() + static_cast<std::ptrdiff_t>(j));
        j = i;  // the grown one may meet those before it
      }
  return windows;
}

Usual usual_of(const std::vector<Seen>& seen, const std::vector<Spot>& spots, const std::vector<int>& which) {
  std::map<TargetKind, std::vector<double>> sizes;
  std::size_t all = 0;
  for (const int j : which)
    for (const int i : spots[j].sights) sizes[seen[i].target.kind].push_back(seen[i].size_m), ++all;
  Usual out;
  for (auto& [kind, values] : sizes)
    if (which.size() >= 3 && 5 * values.size() >= 4 * all) out = {kind, median(values)};
  return out;
}

Look look(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Usual& usual,
          const std::vector<std::vector<Window>>& windows, LookFor look_for, std::string_view step,
          Progress& progress) {
  std::vector<std::vector<Seen>> per_photo(site.images.size());
  std::vector<std::string> failed(site.images.size());
  progress.start(step, site.images.size());
  parallel_for(site.images.size(), [&](std::size_t i) {
    progress.check();
    try {
      if (!windows[i].empty() && !site.images[i].path.empty())
        look_in_photo(block, site, outlook, usual, static_cast<int>(i), merged(windows[i]), look_for, per_photo[i]);
    } catch (const Error& error) {
      failed[i] = error.what();
    }
    progress.advance();
  });
  Look out;
  for (const std::string& text : failed)
    if (!text.empty()) out.notes.push_back(text);
  for (const auto& seen : per_photo) out.seen.insert(out.seen.end(), seen.begin(), seen.end());
  return out;
}

Eigen::Vector3d ground_of(const adjust::Block& block, const Seen& seen) {
  const auto line = adjust::sight_line(block, block.stations[seen.station], seen.target.x);
  if (!line) return Eigen::Vector3d::Constant(nan);
  return line->C + seen.range * line->d;
}

std::vector<Sight> sights_of(const std::vector<Seen>& seen) {
  std::vector<Sight> out;
  for (const Seen& s : seen) out.push_back({s.station, s.target.x, s.target.sigma()});
  return out;
}

std::vector<Spot> spots_of(const adjust::Block& block, const std::vector<Seen>& seen) {
  std::vector<Eigen::Vector3d> ground;
  for (const Seen& s : seen) ground.push_back(ground_of(block, s));
  return find_spots(block, sights_of(seen), ground);
}

adjust::Ray ray_of(const Seen& seen) {
  return {seen.station, seen.target.x, std::hypot(seen.target.sigma(), least_sigma_px), true};
}

}  // namespace mesograph::sight
