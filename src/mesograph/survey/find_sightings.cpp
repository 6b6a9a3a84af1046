#include <Eigen/LU>
#include <algorithm>
#include <map>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/orient/identify.hpp>
#include <mesograph/survey/carry_sightings.hpp>
#include <mesograph/survey/find_sightings.hpp>
#include <mesograph/survey/other_readings.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <set>

namespace mesograph::survey {

namespace {

constexpr double sigma_slope = 8 * rad_per_deg;  // of the ground that targets lie on
constexpr double search_sigmas = 3.3;
/// What a lens model and the paint leave, pixels: no sighting counts as better, however well its target fits.
constexpr double least_sigma_px = 0.1;
constexpr double narrow_px = 8.0;  // predictions better than this are searched one by one

struct Window {
  Eigen::Vector2d low, high;
  Eigen::Vector2d middle() const { return 0.5 * (low + high); }
  bool meets(const Window& other) const {
    return (low.array() <= other.high.array()).all() && (other.low.array() <= high.array()).all();
  }
};

/// A target in one photo.
struct Seen {
  int station = 0;
  control::Target target;
  double range = nan;  ///< to the ground there, m
  double size_m = nan;
};

/// What the targets of this site look like, once enough of them are known.
struct Usual {
  std::optional<control::TargetKind> kind;
  double size_m = nan;
  bool fits(const Seen& seen) const {
    return !kind || (seen.target.kind == *kind && seen.size_m > 0.6 * size_m && seen.size_m < 1.6 * size_m);
  }
};

Window around(const adjust::Prediction& p) {
  const Eigen::Vector2d reach = (search_sigmas * p.covariance.diagonal().cwiseSqrt()).array() + 3.0;
  return {p.x - reach, p.x + reach};
}

/// Windows that overlap become one, so that nothing is looked at twice.
std::vector<Window> merged(std::vector<Window> windows) {
  for (std::size_t i = 0; i < windows.size(); ++i)
    for (std::size_t j = i + 1; j < windows.size(); ++j)
      if (windows[i].meets(windows[j])) {
        windows[i] = {windows[i].low.cwiseMin(windows[j].low), windows[i].high.cwiseMax(windows[j].high)};
        windows.erase(windows.begin() + static_cast<std::ptrdiff_t>(j));
        j = i;  // the grown one may meet those before it
      }
  return windows;
}

class Search {
 public:
  Search(const Survey& survey, NamedBlock& named, Progress& progress)
      : survey_(survey), named_(named), block_(named.block), table_(load_photos(survey)), progress_(progress) {
    photos_ = table_.kept();
    scope_.positions = !survey.crs.local;
    scope_.free = free_from(survey.settings.adjust_free, "[adjust] free");
    for (const control::TargetKind kind : control::target_kinds) {
      const auto& wanted = survey.settings.control_targets;
      if (wanted.empty() || std::find(wanted.begin(), wanted.end(), control::to_string(kind)) != wanted.end())
        kinds_.push_back(kind);
    }
    leave_out_what_people_said();
  }

  void settle();
  bool wide() const;
  void find_wide(std::vector<std::string>& notes);
  void find_narrow(std::vector<std::string>& notes);
  void carry(std::vector<std::string>& notes);
  int sighted_control() const;
  void tell_unseen(std::vector<std::string>& notes) const;
  void tell_missed(std::vector<std::string>& notes) const;
  std::vector<Sighting> found() const { return found_; }
  std::vector<PredictedSighting> predicted() const;
  std::map<std::pair<std::string, std::string>, double> residuals() const;

 private:
  void leave_out_what_people_said();
  bool place_of(const adjust::SurveyedPoint& p, Eigen::Vector3d& X, Eigen::Matrix3d& covariance) const;
  control::TargetOptions options_at(int station, const Eigen::Vector2d& x) const;
  std::vector<Seen> look(const std::vector<std::vector<Window>>& windows, bool clear_only, const char* step,
                         std::vector<std::string>& notes) const;
  void look_in_photo(std::size_t i, const std::vector<Window>& windows, bool clear_only, std::vector<Seen>& out) const;
  Eigen::Vector3d ground_of(const Seen& seen) const;
  std::vector<orient::Spot> spots_of(const std::vector<Seen>& seen) const;
  void take(std::size_t point, const std::vector<Seen>& seen, const orient::Spot& spot);
  /// What may be a point: targets within its ellipses, and those of them that meet.
  struct Candidate {
    std::size_t point;
    std::vector<Seen> seen;
    std::vector<orient::Spot> spots;
  };
  std::vector<std::vector<Window>> narrow_windows() const;
  void try_other_readings(const std::vector<std::size_t>& points, const Eigen::Vector2d& reach,
                          std::vector<std::string>& notes) const;
  std::optional<PointToCarry> to_carry(std::size_t i) const;
  Candidate candidate_of(std::size_t i, const std::vector<Seen>& all) const;
  Usual usual_among(const std::vector<Candidate>& candidates) const;

  const Survey& survey_;
  NamedBlock& named_;
  adjust::Block& block_;
  const PhotoTable table_;
  std::vector<const Photo*> photos_;
  Progress& progress_;
  adjust::Scope scope_;
  std::vector<control::TargetKind> kinds_;
  Usual usual_;
  std::vector<std::set<int>> spoken_;  ///< per point: photos in which people have confirmed or rejected it
  std::unique_ptr<adjust::Uncertainty> uncertainty_;
  std::unique_ptr<adjust::Predictor> predictor_;
  std::vector<std::vector<adjust::Prediction>> predictions_;  ///< per surveyed point
  std::vector<Sighting> found_;
};

void Search::leave_out_what_people_said() {
  std::map<std::string, int> station;
  std::map<std::string, std::size_t> point;
  for (std::size_t i = 0; i < named_.images.size(); ++i) station[named_.images[i]] = static_cast<int>(i);
  for (std::size_t i = 0; i < block_.surveyed.size(); ++i) point[block_.surveyed[i].id] = i;
  spoken_.resize(block_.surveyed.size());
  for (const Sighting& s : merged_sightings(survey_.inputs() / "sightings.csv", {}))
    if (station.count(s.image) && point.count(s.point)) spoken_[point[s.point]].insert(station[s.image]);
}

int Search::sighted_control() const {
  return static_cast<int>(
      std::count_if(block_.surveyed.begin(), block_.surveyed.end(), [](const adjust::SurveyedPoint& p) {
        return p.role == adjust::Role::control && !p.natural && p.point.rays.size() >= 2;
      }));
}

/// Where a point is as far as the survey says; a height that it does not say is that of the ground around. False where
/// the plan is unknown.
bool Search::place_of(const adjust::SurveyedPoint& p, Eigen::Vector3d& X, Eigen::Matrix3d& covariance) const {
  if (p.natural || !(p.weight(0, 0) > 0)) return false;
  X = p.surveyed;
  if (p.weight.fullPivLu().rank() == 3) {
    covariance = p.weight.inverse();
    return true;
  }
  std::vector<std::pair<double, double>> nearest;
  for (const adjust::GroundPoint& tie : block_.points)
    if (tie.X.allFinite()) nearest.emplace_back((tie.X - X).head<2>().squaredNorm(), tie.X.z());
  if (nearest.size() < 5) return false;
  std::partial_sort(nearest.begin(), nearest.begin() + 5, nearest.end());
  X.z() = median(std::vector<double>{nearest[0].second, nearest[1].second, nearest[2].second, nearest[3].second,
                                     nearest[4].second});
  covariance = Eigen::Vector3d(1 / p.weight(0, 0), 1 / p.weight(1, 1), 1.0).asDiagonal();
  return true;
}

/// Adjusts the block onto positions and the sightings that are there, and predicts all points anew.
void Search::settle() {
  if (sighted_control() > 0) {
    for (adjust::SurveyedPoint& p : block_.surveyed)
      if (p.role == adjust::Role::control && !adjust::intersect(block_, p.point, 0.005) && !p.natural)
        p.point.X = p.surveyed;
    adjust::SolveOptions options;
    options.cost_tolerance = 1e-5;
    adjust::solve(block_, scope_, options, progress_);
  }
  uncertainty_ = std::make_unique<adjust::Uncertainty>(adjust::uncertainty_of(block_, scope_));
  predictor_ = std::make_unique<adjust::Predictor>(block_, *uncertainty_);
  predictions_.assign(block_.surveyed.size(), {});
  parallel_for(block_.surveyed.size(), [&](std::size_t i) {
    Eigen::Vector3d X;
    Eigen::Matrix3d covariance;
    if (block_.surveyed[i].role != adjust::Role::off && place_of(block_.surveyed[i], X, covariance))
      predictions_[i] = predictor_->photos_of(X, covariance);
  });
}

/// Points with coordinates that no photo should show: surveyed for another site, typed wrong, or missed by the flight.
void Search::tell_unseen(std::vector<std::string>& notes) const {
  std::vector<std::string> unseen;
  for (std::size_t i = 0; i < block_.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = block_.surveyed[i];
    Eigen::Vector3d X;
    Eigen::Matrix3d covariance;
    if (p.role == adjust::Role::off || !place_of(p, X, covariance)) continue;
    if (std::all_of(predictions_[i].begin(), predictions_[i].end(),
                    [](const adjust::Prediction& q) { return q.hidden; }))
      unseen.push_back(p.id);
  }
  if (!unseen.empty())
    notes.push_back(
        fmt::format("{}: no photo should show {}; check the coordinates, or leave out with control --role off=",
                    fmt::join(unseen, ", "), unseen.size() == 1 ? "it" : "them"));
}

/// Whether the points' ellipses are so large that other targets may lie in them.
bool Search::wide() const {
  std::vector<double> all;
  for (const auto& of_point : predictions_)
    for (const adjust::Prediction& p : of_point) all.push_back(p.axes()[0]);
  return !all.empty() && median(all) > narrow_px;
}

control::TargetOptions Search::options_at(int station, const Eigen::Vector2d& x) const {
  control::TargetOptions out;
  out.kinds = kinds_;
  if (usual_.kind) {
    // What it is and where is known: slanting and shaded ones may look less like it. Rays that do not meet go.
    out.kinds = {*usual_.kind};
    out.least_fit = 0.88;
    out.most_lopsided = 0.03;
    out.least_size_px = 4.0;
  }
  const adjust::Station& s = block_.stations[station];
  const camera::Camera& camera = block_.cameras[s.camera];
  if (const auto v = camera::ray(camera, x))
    out.view =
        control::plane_view(s.R.transpose() * Eigen::Vector3d::UnitZ(), *v, camera.interior[camera::c], sigma_slope);
  return out;
}

void Search::look_in_photo(std::size_t i, const std::vector<Window>& windows, bool clear_only,
                           std::vector<Seen>& out) const {
  const auto station = static_cast<int>(i);
  const photo::Grey grey = photo::read_grey(photos_[i]->path, 0, photos_[i]->tone);
  const double c = block_.cameras[block_.stations[i].camera].interior[camera::c];
  for (const Window& w : windows) {
    control::TargetOptions options = options_at(station, w.middle());
    if (clear_only) options.least_contrast = 30;
    for (const control::Target& t : control::find_targets(grey, w.low, w.high, options)) {
      const double range = predictor_->range_to_ground(station, t.x);
      out.push_back({station, t, range, t.size_px * range / c});
    }
  }
}

/// Targets in the windows of each photo (they may overlap), photo by photo in parallel. `clear_only`: of good contrast,
/// where much ground is searched and a pattern needs not all of them. Photos that cannot be read are told of and left
/// out.
std::vector<Seen> Search::look(const std::vector<std::vector<Window>>& windows, bool clear_only, const char* step,
                               std::vector<std::string>& notes) const {
  std::vector<std::vector<Seen>> per_photo(photos_.size());
  std::vector<std::string> failed(photos_.size());
  progress_.start(step, photos_.size());
  parallel_for(photos_.size(), [&](std::size_t i) {
    progress_.check();
    try {
      if (!windows[i].empty() && !photos_[i]->path.empty())
        look_in_photo(i, merged(windows[i]), clear_only, per_photo[i]);
    } catch (const Error& error) {
      failed[i] = error.what();
    }
    progress_.advance();
  });
  for (const std::string& text : failed)
    if (!text.empty() && std::find(notes.begin(), notes.end(), text) == notes.end()) notes.push_back(text);
  std::vector<Seen> out;
  for (const auto& seen : per_photo) out.insert(out.end(), seen.begin(), seen.end());
  return out;
}

Eigen::Vector3d Search::ground_of(const Seen& seen) const {
  const auto line = adjust::sight_line(block_, block_.stations[seen.station], seen.target.x);
  if (!line) return Eigen::Vector3d::Constant(nan);
  return line->C + seen.range * line->d;
}

std::vector<orient::Sight> sights_of(const std::vector<Seen>& seen) {
  std::vector<orient::Sight> out;
  for (const Seen& s : seen) out.push_back({s.station, s.target.x, s.target.sigma()});
  return out;
}

/// Where targets of several photos meet on the ground.
std::vector<orient::Spot> Search::spots_of(const std::vector<Seen>& seen) const {
  std::vector<Eigen::Vector3d> ground;
  for (const Seen& s : seen) ground.push_back(ground_of(s));
  return orient::find_spots(block_, sights_of(seen), ground);
}

/// The kind that four fifths of the spots share, and its size.
Usual usual_of(const std::vector<Seen>& seen, const std::vector<orient::Spot>& spots, const std::vector<int>& which) {
  std::map<control::TargetKind, std::vector<double>> sizes;
  std::size_t all = 0;
  for (const int j : which)
    for (const int i : spots[j].sights) sizes[seen[i].target.kind].push_back(seen[i].size_m), ++all;
  Usual out;
  for (auto& [kind, values] : sizes)
    if (which.size() >= 3 && 5 * values.size() >= 4 * all) out = {kind, median(values)};
  return out;
}

/// Points of role control are looked for all over their ellipses; where their pattern shows among the spots, those take
/// part in the next adjustment.
void Search::find_wide(std::vector<std::string>& notes) {
  std::vector<std::vector<Window>> windows(photos_.size());
  std::vector<std::size_t> points;
  std::vector<Eigen::Vector3d> places;
  Eigen::Vector2d reach = Eigen::Vector2d::Zero();
  for (std::size_t i = 0; i < predictions_.size(); ++i) {
    if (block_.surveyed[i].role != adjust::Role::control || predictions_[i].empty()) continue;
    points.push_back(i);
    places.push_back(block_.surveyed[i].surveyed);
    for (const adjust::Prediction& p : predictions_[i]) {
      if (p.hidden) continue;
      windows[p.station].push_back(around(p));
      const Eigen::Matrix3d& Q = block_.stations[p.station].covariance;
      if (Q.allFinite())
        reach = reach.cwiseMax(Eigen::Vector2d(4 * std::sqrt(Q.topLeftCorner<2, 2>().trace()), 4 * std::sqrt(Q(2, 2))));
    }
  }
  const std::vector<Seen> seen = look(windows, true, "looking for targets all over", notes);
  const std::vector<orient::Spot> spots = spots_of(seen);
  const auto identified = orient::identify(places, spots, reach, 1.0);
  if (!identified) {
    try_other_readings(points, reach, notes);
    notes.push_back(fmt::format(
        "{} targets show in three photos or more, but no pattern of the {} control points among them: sight three "
        "points by hand (sight --import, or the page results/sight.html), then run sight again",
        spots.size(), points.size()));
    return;
  }
  std::vector<int> named;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const int j = identified->spot[i];
    adjust::SurveyedPoint& p = block_.surveyed[points[i]];
    if (j < 0 || p.point.rays.size() >= 2) continue;
    named.push_back(j);
    for (const int k : spots[j].sights)
      if (!spoken_[points[i]].count(seen[k].station))
        p.point.rays.push_back(
            {seen[k].station, seen[k].target.x, std::hypot(seen[k].target.sigma(), least_sigma_px), true});
  }
  const Eigen::Vector3d& shift = identified->onto_control.t;
  const double turned = identified->onto_control.R.trace();
  if (turned > 2.99 && 2 * shift.head<2>().norm() > reach.x())
    notes.push_back(
        fmt::format("control lies {:.1f} m in plan from where the photos' positions put it, twice what their sigmas "
                    "allow; one may be "
                    "in another datum: name the file's with control --crs, or the positions' with positions_crs{}",
                    shift.head<2>().norm(), foot_words(survey_.crs, named_.origin, places[0], -shift)));
  usual_ = usual_of(seen, spots, named);
  notes.push_back(fmt::format("{} of {} control points known by their pattern among {} targets", identified->named,
                              points.size(), spots.size()));
}

/// Names the reading under which the pattern of control shows; nothing is taken by it. One search serves all: what they
/// move control by is little beside the ellipses, which overlap.
void Search::try_other_readings(const std::vector<std::size_t>& points, const Eigen::Vector2d& reach,
                                std::vector<std::string>& notes) const {
  if (survey_.crs.local || points.size() < 4) return;
  std::vector<Eigen::Vector3d> places;
  for (const std::size_t i : points) places.push_back(block_.surveyed[i].surveyed);
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  Eigen::Vector3d unused;
  place_of(block_.surveyed[points[0]], unused, covariance);
  std::vector<OtherReading> readings = other_readings(survey_.crs, named_.origin, places);
  const double searched = 0.25 * reach.minCoeff();
  std::erase_if(readings, [&](const OtherReading& reading) { return reading.moved < searched; });
  std::vector<std::vector<Window>> windows(photos_.size());
  bool any = false;  // what moves far is out of the photos
  for (const OtherReading& reading : readings) {
    for (const Eigen::Vector3d& X : reading.places)
      for (const adjust::Prediction& p : predictor_->photos_of(X, covariance))
        windows[p.station].push_back(around(p)), any = true;
  }
  if (!any) return;
  std::vector<std::string> ignored;
  const std::vector<Seen> seen = look(windows, true, "looking where other readings put control", ignored);
  const std::vector<orient::Spot> spots = spots_of(seen);
  for (const OtherReading& reading : readings) {
    if (!orient::identify(reading.places, spots, reach, 1.0)) continue;
    notes.push_back(
        fmt::format("the pattern of the control points shows with their {}, {:.1f} m from where they are now: give the "
                    "file again so",
                    reading.words, reading.moved));
    return;
  }
}

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

/// Points that photos should show and nobody has found or sighted: what stands there instead, so that wrong coordinates
/// and swapped names are seen. Looked for in a few photos each, a sixth of the frame around.
void Search::tell_missed(std::vector<std::string>& notes) const {
  constexpr std::size_t most_points = 12, most_photos = 6;
  std::vector<std::size_t> missed;
  std::vector<std::vector<Window>> windows(photos_.size());
  for (std::size_t i = 0; i < block_.surveyed.size() && missed.size() < most_points; ++i) {
    const adjust::SurveyedPoint& p = block_.surveyed[i];
    if (p.natural || p.role == adjust::Role::off || !p.point.rays.empty() || !spoken_[i].empty()) continue;
    std::vector<const adjust::Prediction*> seen;
    for (const adjust::Prediction& q : predictions_[i])
      if (!q.hidden) seen.push_back(&q);
    if (seen.size() < 3) continue;
    std::stable_sort(seen.begin(), seen.end(), [](const auto* a, const auto* b) { return a->edge > b->edge; });
    seen.resize(std::min(seen.size(), most_photos));
    for (const adjust::Prediction* q : seen) {
      const camera::Camera& c = block_.cameras[block_.stations[q->station].camera];
      const Eigen::Vector2d half = Eigen::Vector2d::Constant(c.width / 6.0);
      windows[q->station].push_back({q->x - half, q->x + half});
    }
    missed.push_back(i);
  }
  if (missed.empty()) return;
  std::vector<std::string> ignored;
  const std::vector<Seen> seen = look(windows, false, "looking around points that were not found", ignored);
  const std::vector<orient::Spot> spots = spots_of(seen);
  std::vector<Eigen::Vector3d> taken;  // where the targets of other points stand
  for (const adjust::SurveyedPoint& p : block_.surveyed) {
    adjust::GroundPoint place = p.point;
    place.X.setConstant(nan);
    if (adjust::intersect(block_, place, 0.02)) taken.push_back(place.X);
  }
  for (const std::size_t i : missed) {
    const adjust::SurveyedPoint& p = block_.surveyed[i];
    // Of what most photos agree on, the nearest: chance agrees in three.
    const orient::Spot* nearest = nullptr;
    std::size_t most = 0;
    for (const orient::Spot& spot : spots) {
      const double size = seen[static_cast<std::size_t>(spot.sights[0])].size_m;
      const bool known =
          std::any_of(taken.begin(), taken.end(), [&](const Eigen::Vector3d& X) { return (X - spot.X).norm() < size; });
      if (known) continue;
      const bool nearer = nearest && (spot.X - p.surveyed).norm() < (nearest->X - p.surveyed).norm();
      if (spot.sights.size() > most + 1 || (spot.sights.size() + 1 >= most && (nearer || !nearest))) nearest = &spot;
      most = std::max(most, spot.sights.size());
    }
    if (!nearest) continue;
    const Eigen::Vector3d d = p.axes.transpose() * (nearest->X - p.surveyed);
    notes.push_back(
        fmt::format("{} was not found where it is surveyed; a target stands {} of it, in {} photos: check its "
                    "coordinates and its id",
                    p.id, offset_words(d), nearest->sights.size()));
  }
}

void Search::take(std::size_t point, const std::vector<Seen>& seen, const orient::Spot& spot) {
  adjust::SurveyedPoint& p = block_.surveyed[point];
  for (const int k : spot.sights) {
    const Seen& s = seen[k];
    const double sigma = std::hypot(s.target.sigma(), least_sigma_px);
    p.point.rays.push_back({s.station, s.target.x, sigma, true});
    found_.push_back(
        {named_.images[s.station], p.id, s.target.x.x(), s.target.x.y(), sigma, SightingState::found,
         fmt::format("finder: {} of {:.0f} px, fit {:.3f}, {} photos meet", control::to_string(s.target.kind),
                     s.target.size_px, s.target.fit, spot.sights.size())});
  }
}

/// The ellipses of all points in all photos, but for those where people have spoken.
std::vector<std::vector<Window>> Search::narrow_windows() const {
  std::vector<std::vector<Window>> out(photos_.size());
  for (std::size_t i = 0; i < predictions_.size(); ++i)
    for (const adjust::Prediction& p : predictions_[i])
      if (!p.hidden && !spoken_[i].count(p.station) && p.axes()[0] < 12 * narrow_px)
        out[p.station].push_back(around(p));
  return out;
}

/// What lies within a point's ellipses, and where in space it meets; sightings of people meet with it.
Search::Candidate Search::candidate_of(std::size_t i, const std::vector<Seen>& all) const {
  Candidate c{i, {}, {}};
  std::vector<Eigen::Vector3d> ground;
  std::vector<orient::Sight> of_people;
  for (const adjust::Ray& r : block_.surveyed[i].point.rays) of_people.push_back({r.station, r.x, r.sigma});
  int photos = static_cast<int>(of_people.size());
  for (const adjust::Prediction& p : predictions_[i]) {
    if (p.hidden || spoken_[i].count(p.station)) continue;
    ++photos;
    const Eigen::Matrix2d inverse =
        (p.covariance + 1.5 * 1.5 * Eigen::Matrix2d::Identity()).inverse();  // and what the block's rays leave
    for (const Seen& s : all) {
      if (s.station != p.station) continue;
      const Eigen::Vector2d d = s.target.x - p.x;
      if (d.dot(inverse * d) > search_sigmas * search_sigmas) continue;
      c.seen.push_back(s);
      c.seen.back().range = p.range;
      ground.push_back(ground_of(c.seen.back()));
    }
  }
  std::vector<orient::Sight> sights = sights_of(c.seen);
  sights.insert(sights.end(), of_people.begin(), of_people.end());
  ground.resize(sights.size(), Eigen::Vector3d::Constant(nan));
  orient::SpotOptions options;
  options.least_rays = photos == 2 ? 2 : 3;
  c.spots = orient::find_spots(block_, sights, ground, options);
  const auto theirs = [&](int k) { return k >= static_cast<int>(c.seen.size()); };
  // What does not meet with a single one of them is not what people have sighted.
  if (!of_people.empty())
    std::erase_if(c.spots,
                  [&](const orient::Spot& s) { return std::none_of(s.sights.begin(), s.sights.end(), theirs); });
  for (orient::Spot& s : c.spots) std::erase_if(s.sights, theirs);
  std::erase_if(c.spots, [](const orient::Spot& s) { return s.sights.empty(); });
  return c;
}

/// The usual kind and size, from points where nothing but one spot lies.
Usual Search::usual_among(const std::vector<Candidate>& candidates) const {
  std::vector<Seen> pooled;
  std::vector<orient::Spot> spots;
  std::vector<int> which;
  for (const Candidate& c : candidates) {
    if (c.spots.size() != 1) continue;
    orient::Spot spot = c.spots[0];
    for (int& k : spot.sights) {
      pooled.push_back(c.seen[k]);
      k = static_cast<int>(pooled.size()) - 1;
    }
    which.push_back(static_cast<int>(spots.size()));
    spots.push_back(spot);
  }
  return usual_of(pooled, spots, which);
}

/// Every point within its ellipse; what is found must meet, and be alone.
void Search::find_narrow(std::vector<std::string>& notes) {
  const std::vector<Seen> all = look(narrow_windows(), false, "looking for targets within their ellipses", notes);
  // Rays that were taken from the wide search are found again here, with the view of their own place.
  for (std::size_t i = 0; i < block_.surveyed.size(); ++i)
    std::erase_if(block_.surveyed[i].point.rays, [&](const adjust::Ray& r) { return !spoken_[i].count(r.station); });
  std::vector<Candidate> candidates;
  for (std::size_t i = 0; i < predictions_.size(); ++i) candidates.push_back(candidate_of(i, all));
  if (!usual_.kind) usual_ = usual_among(candidates);
  std::vector<std::string> ambiguous, other;
  for (Candidate& c : candidates) {
    const std::size_t before = c.spots.size();
    std::erase_if(c.spots, [&](const orient::Spot& spot) {
      const auto fitting =
          std::count_if(spot.sights.begin(), spot.sights.end(), [&](int k) { return usual_.fits(c.seen[k]); });
      return 3 * fitting < 2 * static_cast<std::ptrdiff_t>(spot.sights.size());
    });
    if (c.spots.empty()) {
      if (before > 0) other.push_back(block_.surveyed[c.point].id);
    } else if (c.spots.size() > 1 && 5 * c.spots[1].sights.size() > 3 * c.spots[0].sights.size()) {
      ambiguous.push_back(block_.surveyed[c.point].id);
    } else {
      take(c.point, c.seen, c.spots[0]);
    }
  }
  if (!ambiguous.empty())
    notes.push_back(fmt::format("{}: more than one target lies within the ellipse; confirm one by hand",
                                fmt::join(ambiguous, ", ")));
  if (!other.empty())
    notes.push_back(fmt::format("{}: what lies within the ellipse is no {} of {:.2f} m as the others are; not taken",
                                fmt::join(other, ", "), control::to_string(*usual_.kind), usual_.size_m));
}

/// A point that people have sighted and no finder knows, and where it lies in the block: where its rays meet, else on
/// the ground along the one.
std::optional<PointToCarry> Search::to_carry(std::size_t i) const {
  const adjust::SurveyedPoint& p = block_.surveyed[i];
  PointToCarry out;
  out.point = i;
  out.spoken = spoken_[i];
  for (const adjust::Ray& r : p.point.rays)
    if (spoken_[i].count(r.station) && adjust::takes_part(block_, r)) out.by_people.push_back(r);
  if (p.role == adjust::Role::off || out.by_people.empty() || out.by_people.size() < p.point.rays.size())
    return std::nullopt;
  const adjust::Ray& ray = out.by_people.front();
  const adjust::Station& s = block_.stations[ray.station];
  const auto line = adjust::sight_line(block_, s, ray.x);
  if (!line) return std::nullopt;
  adjust::GroundPoint point = p.point;
  const bool meets = adjust::intersect(block_, point, 0.05);
  const double range = meets ? (point.X - s.C).norm() : predictor_->range_to_ground(ray.station, ray.x);
  out.X = meets ? point.X : line->C + range * line->d;
  // Along the ray: what few rays leave open, or by how much ground differs from that of the tie points around.
  const double along = (meets ? 0.005 : 0.03) * range,
               across = ray.sigma * range / block_.cameras[s.camera].interior[camera::c];
  out.covariance = across * across * Eigen::Matrix3d::Identity() + along * along * line->d * line->d.transpose();
  if (!out.X.allFinite()) return std::nullopt;
  return out;
}

/// Sightings of people at points where no target is found, carried into the other photos.
void Search::carry(std::vector<std::string>& notes) {
  std::vector<PointToCarry> points;
  for (std::size_t i = 0; i < block_.surveyed.size(); ++i)
    if (auto p = to_carry(i)) points.push_back(std::move(*p));
  for (const CarriedPoint& c : carry_sightings(block_, *predictor_, photos_, points, notes, progress_)) {
    adjust::SurveyedPoint& p = block_.surveyed[c.point];
    // All share the error of the one click. Of a tie point it moves the point and nothing else; of a surveyed one it
    // must not count less than once.
    double click = 0;
    for (const adjust::Ray& r : p.point.rays)
      if (r.station == c.from && !p.natural) click = r.sigma * std::sqrt(static_cast<double>(c.rays.size()));
    for (const CarriedPoint::Ray& r : c.rays) {
      const double sigma = std::hypot(std::hypot(r.sigma, least_sigma_px), click);
      p.point.rays.push_back({r.station, r.x, sigma, true});
      found_.push_back({named_.images[r.station], p.id, r.x.x(), r.x.y(), sigma, SightingState::found,
                        fmt::format("matched from {}: correlation {:.3f}, {} photos meet", named_.images[c.from],
                                    r.correlation, c.meet)});
    }
  }
}

std::vector<PredictedSighting> Search::predicted() const {
  std::vector<double> all;
  for (const Photo* p : photos_) all.push_back(p->quality.sharpness);
  const double usual = median(all);
  std::vector<PredictedSighting> out;
  for (std::size_t i = 0; i < predictions_.size(); ++i) {
    std::vector<PredictedSighting> of_point;
    for (const adjust::Prediction& p : predictions_[i]) {
      PredictedSighting s{named_.images[p.station], block_.surveyed[i].id, p, nan, 0};
      const double sharp = photos_[p.station]->quality.sharpness / usual;
      s.sharpness = sharp;
      const double steep = std::max(0.0, std::cos(p.off_vertical)), inside = std::min(1.0, p.edge / 60.0);
      s.worth = p.hidden ? 0.0 : steep * inside * (std::isfinite(sharp) ? std::min(1.0, sharp) : 1.0);
      of_point.push_back(s);
    }
    std::stable_sort(of_point.begin(), of_point.end(),
                     [](const PredictedSighting& a, const PredictedSighting& b) { return a.worth > b.worth; });
    out.insert(out.end(), of_point.begin(), of_point.end());
  }
  return out;
}

std::map<std::pair<std::string, std::string>, double> Search::residuals() const {
  std::map<std::pair<std::string, std::string>, double> out;
  for (const adjust::SurveyedPoint& p : block_.surveyed) {
    adjust::GroundPoint point = p.point;
    point.X.setConstant(nan);
    if (!adjust::intersect(block_, point, 0.02)) continue;
    for (const adjust::Ray& r : point.rays)
      if (const auto v = adjust::residual(block_, r, point.X)) out[{named_.images[r.station], p.id}] = v->norm();
  }
  return out;
}

}  // namespace

FoundSightings find_sightings(const Survey& survey, NamedBlock named, bool find, Progress& progress) {
  FoundSightings out;
  if (survey.crs.local) move_onto_control(named.block, "sight");
  Search search(survey, named, progress);
  search.settle();
  if (find) {
    if (search.wide() && search.sighted_control() < 3) {
      search.find_wide(out.notes);
      search.settle();
    }
    if (!search.wide()) {
      search.find_narrow(out.notes);
      search.carry(out.notes);
      if (!search.found().empty()) search.settle();
      search.tell_missed(out.notes);
    }
  }
  search.tell_unseen(out.notes);
  out.found = search.found();
  out.predicted = search.predicted();
  out.residuals = search.residuals();
  return out;
}

}  // namespace mesograph::survey
