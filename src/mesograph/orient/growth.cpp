#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/verify.hpp>
#include <mesograph/orient/growth.hpp>
#include <mesograph/orient/resection.hpp>
#include <mesograph/orient/two_views.hpp>

namespace mesograph::orient {

namespace {

constexpr double least_angle = 1.5 * rad_per_deg;  // of a new point: its depth is then good to about 40 lateral sigmas

/// Which of the free interior parameters a block of n photos can carry.
std::array<bool, camera::parameter_count> free_parameters(int photos,
                                                          const std::array<bool, camera::parameter_count>& allowed) {
  std::array<bool, camera::parameter_count> free{};
  // As photos come, what they can tell apart: one photo more for about each unknown, the weakest last.
  free[camera::k1] = photos >= 3;
  free[camera::c] = free[camera::k2] = photos >= 6;
  free[camera::x0] = free[camera::y0] = free[camera::k3] = free[camera::p1] = free[camera::p2] = photos >= 10;
  for (std::size_t k = 0; k < free.size(); ++k) free[k] = free[k] && allowed[k];
  return free;
}

}  // namespace

Growth::Growth(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
               Progress& progress)
    : block_(block),
      names_(names),
      options_(options),
      progress_(progress),
      seen_(block.stations.size()),
      failed_at_(block.stations.size(), -1),
      taken_out_(block.stations.size(), 0),
      candidates_(block.stations.size()),
      stale_(block.stations.size(), 1) {
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    block.points[p].X.setConstant(nan);
    for (std::size_t r = 0; r < block.points[p].rays.size(); ++r) {
      block.points[p].rays[r].accepted = true;
      seen_[block.points[p].rays[r].station].push_back({static_cast<int>(p), static_cast<int>(r)});
    }
  }
}

std::vector<std::pair<int, int>> Growth::start_candidates() const {
  std::map<std::pair<int, int>, int> shared;
  for (const adjust::GroundPoint& point : block_.points)
    for (const adjust::Ray& a : point.rays)
      for (const adjust::Ray& b : point.rays)
        // Points in three photos or more: only those will carry growth beyond the pair.
        if (a.station < b.station && point.rays.size() >= 3) ++shared[{a.station, b.station}];
  std::vector<std::pair<int, std::pair<int, int>>> order;
  // Pairs of one camera first: whatever is wrong with it is wrong in both photos alike.
  for (const bool same : {true, false}) {
    if (!order.empty()) break;
    for (const auto& [pair, n] : shared)
      if ((block_.stations[pair.first].camera == block_.stations[pair.second].camera) == same)
        order.emplace_back(-n, pair);
  }
  std::sort(order.begin(), order.end());
  std::vector<std::pair<int, int>> out;
  for (std::size_t i = 0; i < std::min<std::size_t>(order.size(), 60); ++i) out.push_back(order[i].second);
  return out;
}

void Growth::start_from_held() {
  for (std::size_t s = 0; s < block_.stations.size(); ++s) {
    if (!block_.stations[s].oriented) continue;
    ++oriented_;
    intersect_new(static_cast<int>(s));
  }
  adjusted_at_ = oriented_;
}

StartStatus Growth::start() {
  for (adjust::Station& s : block_.stations) s.oriented = false;
  struct Score {
    bool shares = false;
    double value = 0;
    RelativePose pose;
  };
  const auto pairs = start_candidates();
  std::vector<Score> scores(pairs.size());
  progress_.start("looking for a start pair", pairs.size());
  parallel_for(pairs.size(), [&](std::size_t i) {
    progress_.check();
    const auto [a, b] = pairs[i];
    std::map<int, int> ray_in_b;
    for (const Seen& s : seen_[b]) ray_in_b[s.point] = s.ray;
    std::vector<match::Match> matches;
    Eigen::Matrix2Xd xa(2, seen_[a].size()), xb(2, seen_[a].size());
    for (const Seen& s : seen_[a]) {
      const auto found = ray_in_b.find(s.point);
      if (found == ray_in_b.end()) continue;
      const auto n = static_cast<std::int32_t>(matches.size());
      xa.col(n) = block_.points[s.point].rays[s.ray].x;
      xb.col(n) = block_.points[s.point].rays[found->second].x;
      matches.push_back({n, n});
    }
    const camera::Camera &ca = block_.cameras[block_.stations[a].camera],
                         &cb = block_.cameras[block_.stations[b].camera];
    const match::Verification v = match::verify(matches, xa, ca, xb, cb, seed_from(names_[a] + "|" + names_[b]));
    // Five unknowns of a relative orientation and the cameras' errors: fewer ties fit anything.
    if (v.matches.size() < least_start_ties) return;
    scores[i].shares = true;
    Eigen::Matrix3Xd ra(3, v.matches.size()), rb(3, v.matches.size());
    for (std::size_t k = 0; k < v.matches.size(); ++k) {
      ra.col(static_cast<Eigen::Index>(k)) = *camera::ray(ca, xa.col(v.matches[k].a));
      rb.col(static_cast<Eigen::Index>(k)) = *camera::ray(cb, xb.col(v.matches[k].b));
    }
    scores[i].pose = pose_from_essential(v.E, ra, rb);
    const double angle = scores[i].pose.median_angle * deg_per_rad;
    // A narrow base makes weak depths; above 12 degrees more angle brings little and costs overlap.
    // Ground without relief leaves the camera's errors unseen: a twentieth of its width is plenty.
    const double relief = 0.5 + 0.5 * std::min(1.0, scores[i].pose.relief / 0.05);
    if (angle >= options_.min_start_angle_deg)
      // beyond twelve degrees a base gains nothing more for growth, and matches get fewer
      scores[i].value = scores[i].pose.in_front * std::min(angle, 12.0) * relief;
    progress_.advance();
  });
  std::vector<std::size_t> order(pairs.size());
  for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
  std::stable_sort(order.begin(), order.end(), [&](auto i, auto j) { return scores[i].value > scores[j].value; });
  for (const std::size_t i : order) {
    if (scores[i].value <= 0) break;
    adjust::Station &a = block_.stations[pairs[i].first], &b = block_.stations[pairs[i].second];
    a.R.setIdentity(), a.C.setZero();
    b.R = scores[i].pose.R, b.C = scores[i].pose.C;
    // Best first, but each has to hold when it is adjusted: a fine score can come from a wrong camera.
    if (try_pair(pairs[i].first, pairs[i].second)) return StartStatus::started;
  }
  const auto shares = [](const Score& s) { return s.shares; };
  const auto wide = [](const Score& s) { return s.value > 0; };
  if (std::none_of(scores.begin(), scores.end(), shares)) return StartStatus::too_few_shared;
  return std::none_of(scores.begin(), scores.end(), wide) ? StartStatus::too_narrow : StartStatus::falls_apart;
}

bool Growth::try_pair(int a, int b) {
  block_.stations[a].oriented = block_.stations[b].oriented = true;
  first_ = a;
  oriented_ = 2;
  intersect_new(b);
  adjust_around(b);
  int good = 0;
  for (const Seen& s : seen_[b]) good += block_.points[s.point].X.allFinite();
  if (good >= least_start_ties) return true;
  // Leaves no trace: the next pair begins as this one did.
  for (adjust::GroundPoint& point : block_.points) point.X.setConstant(nan);
  block_.stations[a].oriented = block_.stations[b].oriented = false;
  oriented_ = 0;
  return false;
}

bool Growth::camera_is_known(int camera) const {
  const auto n = std::count_if(block_.stations.begin(), block_.stations.end(),
                               [&](const adjust::Station& s) { return s.oriented && s.camera == camera; });
  return n >= options_.photos_of_known_camera && adjusted_at_ >= 3;
}

Growth::Candidate Growth::candidate(int number) const {
  constexpr int columns = 12, rows = 9;
  const camera::Camera& camera = block_.cameras[block_.stations[number].camera];
  Candidate out;
  out.station = number;
  std::array<char, columns * rows> cell{};
  for (const Seen& seen : seen_[number]) {
    const adjust::GroundPoint& point = block_.points[seen.point];
    if (!point.X.allFinite()) continue;
    // Spread counts more than number: a hundred points in a corner fix a photo worse than twenty all over.
    cell[camera::cell_of(camera, point.rays[seen.ray].x, columns, rows)] = 1;
    ++out.points;
  }
  out.cells = static_cast<int>(std::count(cell.begin(), cell.end(), 1));
  return out;
}

Growth::Candidate Growth::next_photo() {
  parallel_for(candidates_.size(), 16, [&](std::size_t s) {
    if (stale_[s] && !block_.stations[s].oriented) candidates_[s] = candidate(static_cast<int>(s)), stale_[s] = 0;
  });
  Candidate best;
  for (std::size_t s = 0; s < candidates_.size(); ++s) {
    const Candidate& c = candidates_[s];
    if (block_.stations[s].oriented || taken_out_[s] > 1 || c.points < options_.least_inliers) continue;
    // A photo that failed is tried again when the block has grown by a tenth.
    if (failed_at_[s] >= 0 && oriented_ < failed_at_[s] + std::max(1, failed_at_[s] / 10)) continue;
    if (std::pair(c.cells, c.points) > std::pair(best.cells, best.points)) best = c;
  }
  return best;
}

void Growth::points_changed(int station) {
  for (const Seen& seen : seen_[station])
    for (const adjust::Ray& ray : block_.points[seen.point].rays) stale_[ray.station] = 1;
}

double Growth::principal_distance(const Eigen::Matrix3Xd& X, const Eigen::Matrix3Xd& rays, int number,
                                  ResectionOptions options) const {
  const adjust::Station& station = block_.stations[number];
  const double c = block_.cameras[station.camera].interior[camera::c];
  const bool used = std::any_of(block_.stations.begin(), block_.stations.end(),
                                [&](const adjust::Station& s) { return s.oriented && s.camera == station.camera; });
  // Only of a camera that is new and whose principal distance is a guess; of another one the adjustment knows better.
  if (used || !options_.free[camera::c] || !(block_.priors[station.camera].sigma[camera::c] > 0.1 * c)) return c;
  double best = c;
  int most = 0;
  const double tolerance = options.tolerance;
  // Steps of 15 %: a resection finds its inliers within half of that, and 0.57 to 1.75 spans a crop or a wrong table of
  // sensors.
  for (const double factor : {1.0, 0.87, 1.15, 0.76, 1.32, 0.66, 1.52, 0.57, 1.75}) {
    Eigen::Matrix3Xd scaled = rays;
    scaled.topRows<2>() /= factor;
    options.tolerance = tolerance / factor;
    const Resection found = resect(X, scaled, seed_from(names_[number]), options);
    if (found.found && found.inliers > most) most = found.inliers, best = factor * c;
  }
  return best;
}

bool Growth::add(int number) {
  adjust::Station& station = block_.stations[number];
  camera::Camera& camera = block_.cameras[station.camera];
  std::vector<Eigen::Vector3d> X, rays;
  std::vector<Seen> used;
  for (const Seen& s : seen_[number]) {
    const adjust::GroundPoint& point = block_.points[s.point];
    if (!point.X.allFinite()) continue;
    const auto v = camera::ray(camera, point.rays[s.ray].x);
    if (!v) continue;
    X.push_back(point.X);
    rays.push_back(*v);
    used.push_back(s);
  }
  if (X.empty()) return false;
  const auto n = static_cast<Eigen::Index>(X.size());
  const Eigen::Map<const Eigen::Matrix3Xd> all_X(X[0].data(), 3, n);
  Eigen::Matrix3Xd all_rays = Eigen::Map<const Eigen::Matrix3Xd>(rays[0].data(), 3, n);
  ResectionOptions options;
  options.least_inliers = options_.least_inliers;
  const double tolerance =
      camera_is_known(station.camera) ? options_.known_camera_tolerance : options_.new_camera_tolerance;
  const double c = camera.interior[camera::c];
  // Relative to the photo's width: unknown distortion grows with the picture, not with the pixel.
  options.tolerance = tolerance * std::max(camera.width, camera.height) / c;
  const double better = principal_distance(all_X, all_rays, number, options);
  all_rays.topRows<2>() *= c / better;
  options.tolerance *= c / better;
  const Resection found = resect(all_X, all_rays, seed_from(names_[number]), options);
  if (!found.found) return false;
  camera.interior[camera::c] = better;
  station.R = found.pose.R;
  station.C = found.pose.C;
  station.oriented = true;
  ++oriented_;
  for (std::size_t i = 0; i < used.size(); ++i)
    block_.points[used[i].point].rays[used[i].ray].accepted = found.is_inlier[i] != 0;
  return true;
}

void Growth::intersect_new(int station) {
  const std::vector<Seen>& seen = seen_[station];
  parallel_for(seen.size(), 64, [&](std::size_t i) {
    adjust::GroundPoint& point = block_.points[seen[i].point];
    // Points that stand already are adjusted, not intersected again: their place rests on more than this photo.
    if (point.X.allFinite() || !adjust::place(block_, point, least_angle)) return;
    for (const adjust::Ray& ray : point.rays) {
      if (!adjust::takes_part(block_, ray)) continue;
      const auto v = adjust::residual(block_, ray, point.X);
      const camera::Camera& camera = block_.cameras[block_.stations[ray.station].camera];
      if (!v || v->norm() > options_.new_camera_tolerance * std::max(camera.width, camera.height)) {
        point.X.setConstant(nan);
        return;
      }
    }
  });
  points_changed(station);
}

void Growth::adjust_free(adjust::Scope scope, int iterations, double tolerance) {
  // Free: wrong positions or control must not bend a block while it grows, and could not be told from it afterwards.
  scope.positions = scope.control = false;
  // Sigmas at which a ray loses half its weight: growth's own errors are a pixel or two, mismatches tens.
  scope.robust_scale = 4.0;
  adjust::SolveOptions options;
  options.max_iterations = iterations;
  options.cost_tolerance = tolerance;
  solve(block_, scope, options, progress_);
}

void Growth::adjust_around(int station) {
  // The photos that share most points with the new one move with it; their other neighbours hold them.
  std::map<int, int> shared;
  for (const Seen& s : seen_[station])
    if (block_.points[s.point].X.allFinite())
      for (const adjust::Ray& ray : block_.points[s.point].rays)
        if (ray.station != station && block_.stations[ray.station].oriented && ray.station != first_ &&
            !block_.stations[ray.station].held)
          ++shared[ray.station];
  std::vector<std::pair<int, int>> order;
  for (const auto& [other, n] : shared) order.emplace_back(-n, other);
  std::sort(order.begin(), order.end());
  adjust::Scope scope;
  scope.stations.assign(block_.stations.size(), 0);
  scope.cameras.assign(block_.cameras.size(), 0);
  scope.stations[station] = 1;
  for (std::size_t i = 0; i < std::min<std::size_t>(5, order.size()) && oriented_ > 2; ++i)
    scope.stations[order[i].second] = 1;
  // With two photos alone an interior would take up whatever is wrong.
  if (!camera_is_known(block_.stations[station].camera) && oriented_ > 2) {
    scope.cameras[block_.stations[station].camera] = 1;
    scope.free = free_parameters(3, options_.free);
  }
  for (std::size_t s = 0; s < scope.stations.size(); ++s)
    if (scope.stations[s])
      for (const Seen& seen : seen_[s])
        if (block_.points[seen.point].X.allFinite()) scope.points.push_back(seen.point);
  std::sort(scope.points.begin(), scope.points.end());
  scope.points.erase(std::unique(scope.points.begin(), scope.points.end()), scope.points.end());
  adjust_free(scope, options_.local_iterations, 1e-3);
}

void Growth::adjust_all() {
  adjust::Scope scope;
  scope.free = free_parameters(oriented_, options_.free);
  scope.stations.resize(block_.stations.size());
  for (std::size_t s = 0; s < scope.stations.size(); ++s)
    // The first photo stays: with the scale that the solver holds it is the free block's frame.
    scope.stations[s] = block_.stations[s].oriented && static_cast<int>(s) != first_;
  adjust_free(scope, 25, 1e-4);
  // Rays that no longer fit are set aside, those that fit again come back; then every point from its rays anew.
  constexpr double limit_px = 4.0;
  parallel_for(block_.points.size(), 64, [&](std::size_t p) {
    adjust::GroundPoint& point = block_.points[p];
    for (adjust::Ray& ray : point.rays) {
      if (!block_.stations[ray.station].oriented || !point.X.allFinite()) continue;
      const auto v = adjust::residual(block_, ray, point.X);
      ray.accepted = v && v->norm() < limit_px;
    }
    adjust::place(block_, point, least_angle);
    for (const adjust::Ray& ray : point.rays) {
      if (!point.X.allFinite() || !adjust::takes_part(block_, ray)) continue;
      const auto v = adjust::residual(block_, ray, point.X);
      if (!v || v->norm() > limit_px) point.X.setConstant(nan);
    }
  });
  adjusted_at_ = oriented_;
  // Every point may have come or gone: all counts are made anew, lazily.
  std::fill(stale_.begin(), stale_.end(), 1);
  take_out_unsupported();
}

void Growth::take_out_unsupported() {
  // While a block is small its cameras are hardly known, and what looks wrong may come right.
  if (oriented_ < 6) return;
  for (std::size_t s = 0; s < block_.stations.size(); ++s) {
    adjust::Station& station = block_.stations[s];
    // The first photo is the frame: without it nothing stands.
    if (!station.oriented || station.held || static_cast<int>(s) == first_) continue;
    int offered = 0, accepted = 0;
    for (const Seen& seen : seen_[s]) {
      const adjust::GroundPoint& point = block_.points[seen.point];
      if (!point.X.allFinite()) continue;
      ++offered;
      accepted += point.rays[seen.ray].accepted;
    }
    if (accepted >= options_.least_inliers && accepted >= options_.least_support * offered) continue;
    station.oriented = false;
    // As if it had just failed: it is tried again when the block has grown around it, once.
    failed_at_[s] = --oriented_;
    ++taken_out_[s];
  }
}

GrowthEnd Growth::grow() {
  progress_.start("orienting photos", block_.stations.size());
  progress_.advance(2);
  while (true) {
    progress_.check();
    const Candidate next = next_photo();
    if (next.station < 0) break;
    if (!add(next.station)) {
      failed_at_[next.station] = oriented_;
      continue;
    }
    progress_.advance();
    intersect_new(next.station);
    adjust_around(next.station);
    // Rounds over all photos at a growing distance: their cost in sum stays that of a few of the whole block.
    const double growth = oriented_ < options_.small_block ? options_.global_growth : options_.late_growth;
    // every photo changes the camera that the next one needs
    if (oriented_ <= 6 || oriented_ >= growth * adjusted_at_) adjust_all();
  }
  adjust_all();
  return oriented_ == static_cast<int>(block_.stations.size()) ? GrowthEnd::all_oriented : GrowthEnd::none_fits;
}

std::string Growth::reason(int station) const {
  int points = 0;
  for (const Seen& s : seen_[station]) points += block_.points[s.point].X.allFinite();
  if (seen_[station].empty()) return "no tie points with any other photo";
  if (points < options_.least_inliers) return "too few tie points with oriented photos";
  if (taken_out_[station] > 0) return "taken out again: too few of its tie points agree";
  return "tie points do not agree on a position";
}

}  // namespace mesograph::orient
