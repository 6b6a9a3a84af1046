#include <catch2/catch.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/sight/find_narrow.hpp>
#include <mesograph/sight/missed.hpp>

#include "made_up_block.hpp"

using namespace mesograph;
using Catch::Matchers::Contains;
using sight::NarrowOutcome;

namespace {

/// Targets of one kind and size at a place on the ground, in every photo that shows it; `lonely`: in so many alone.
std::vector<sight::Seen> targets_at(const adjust::Block& block, const Eigen::Vector3d& X, double size_m,
                                    sight::TargetKind kind = sight::TargetKind::cross, int lonely = 100) {
  std::vector<sight::Seen> out;
  for (std::size_t s = 0; s < block.stations.size() && static_cast<int>(out.size()) < lonely; ++s) {
    const adjust::Station& station = block.stations[s];
    const camera::Camera& camera = block.cameras[station.camera];
    const auto x = adjust::image_of(block, station, X);
    if (!x || !camera::inside(camera, *x, 5)) continue;
    sight::Seen seen;
    seen.station = static_cast<int>(s);
    seen.target.kind = kind, seen.target.x = *x;
    seen.target.covariance = 0.05 * 0.05 * Eigen::Matrix2d::Identity();
    seen.range = (X - station.C).norm(), seen.size_m = size_m;
    seen.target.size_px = size_m * camera.interior[camera::c] / seen.range;
    out.push_back(seen);
  }
  return out;
}

void add(std::vector<sight::Seen>& all, const std::vector<sight::Seen>& more) {
  all.insert(all.end(), more.begin(), more.end());
}

/// A block at rest whose surveyed points nobody has sighted.
struct Scene {
  adjust::Block block;
  std::vector<Eigen::Vector3d> truth;
  sight::SearchSite site;

  Scene() : block(make_block().block) {
    for (adjust::SurveyedPoint& p : block.surveyed) truth.push_back(p.point.X), p.point.rays.clear();
    site.images.resize(block.stations.size());
    site.spoken.resize(block.surveyed.size());
  }
};

}  // namespace

TEST_CASE("A target within a point's ellipses is found where its rays meet, and alone") {
  Scene scene;
  const sight::Outlook outlook(scene.block, scene.site.scope);
  REQUIRE(outlook.predictions[0].size() >= 4);
  const std::vector<sight::Seen> there = targets_at(scene.block, scene.truth[0], 0.6);
  const auto choice = [&](const std::vector<sight::Seen>& all, const sight::Usual& usual = {}) {
    return sight::choose(sight::candidate_of(scene.block, scene.site, outlook, 0, all), usual);
  };
  CHECK(choice({}).outcome == NarrowOutcome::nothing);
  const auto found = choice(there);
  CHECK(found.outcome == NarrowOutcome::found);
  CHECK(found.sights.size() == there.size());
  // What lies beyond the ellipse of every photo is another thing.
  double far = 0;
  for (const adjust::Prediction& p : outlook.predictions[0])
    far = std::max(far, 2 * sight::search_sigmas * (p.axes()[0] + 2) * p.range /
                            scene.block.cameras[scene.block.stations[p.station].camera].interior[camera::c]);
  CHECK(choice(targets_at(scene.block, scene.truth[0] + Eigen::Vector3d(far, 0, 0), 0.6)).outcome ==
        NarrowOutcome::nothing);
  // Two that as many photos agree on cannot be told apart; one that only three photos have does not hide the other.
  const Eigen::Vector3d beside = scene.truth[0] + Eigen::Vector3d(0.12, 0, 0);
  std::vector<sight::Seen> both = there, chance = there;
  add(both, targets_at(scene.block, beside, 0.6));
  CHECK(choice(both).outcome == NarrowOutcome::ambiguous);
  if (there.size() >= 6) {
    add(chance, targets_at(scene.block, beside, 0.6, sight::TargetKind::cross, 3));
    CHECK(choice(chance).outcome == NarrowOutcome::found);
  }
  // Rays that meet are the proof: what lies there alone is taken whatever the site's other targets look like, and told
  // of; among rivals looks decide.
  const sight::Usual disc{sight::TargetKind::disc, 0.6}, large{sight::TargetKind::cross, 2.0};
  CHECK(choice(there, disc).outcome == NarrowOutcome::unlike);
  CHECK(choice(there, large).outcome == NarrowOutcome::unlike);
  CHECK(choice(there, large).sights.size() == there.size());
  std::vector<sight::Seen> rivals = there;
  add(rivals, targets_at(scene.block, beside, 2.0));
  const auto chosen = choice(rivals, large);
  CHECK(chosen.outcome == NarrowOutcome::found);
  for (const sight::Seen& s : chosen.sights) CHECK(s.size_m == 2.0);
  // Refused ones are known with their distance, so that a person can confirm one.
  const auto refused = choice(both);
  CHECK(refused.sights.size() == there.size());
  CHECK_THAT(refused.apart, Catch::WithinAbs(0.12, 0.01));
}

TEST_CASE("What people have sighted must meet with what is found, and is not found again") {
  Scene scene;
  const auto there = targets_at(scene.block, scene.truth[1], 0.6);
  REQUIRE(there.size() >= 4);
  const sight::Seen& one = there.front();
  scene.block.surveyed[1].point.rays = {{one.station, one.target.x, 0.3, true}};
  scene.site.spoken[1] = {one.station};
  const sight::Outlook outlook(scene.block, scene.site.scope);
  const auto candidate = sight::candidate_of(scene.block, scene.site, outlook, 1, there);
  REQUIRE(candidate.spots.size() == 1);
  CHECK(candidate.spots[0].sights.size() == there.size() - 1);
  for (const sight::Seen& s : candidate.seen) CHECK(s.station != one.station);
  const auto windows = sight::narrow_windows(scene.site, outlook.predictions);
  for (const sight::Window& w : windows[one.station]) CHECK((w.center() - one.target.x).norm() > 5);
  // Their sighting lies on something else: what meets without it is not what they mean.
  scene.block.surveyed[1].point.rays[0].x += Eigen::Vector2d(40, 0);
  CHECK(sight::candidate_of(scene.block, scene.site, outlook, 1, there).spots.empty());
}

TEST_CASE("The usual target is what four fifths of the spots are, from three spots on") {
  Scene scene;
  std::vector<sight::Seen> seen;
  std::vector<sight::Spot> spots;
  const auto spot = [&](sight::TargetKind kind, double size) {
    sight::Spot out;
    for (int i = 0; i < 4; ++i) {
      sight::Seen s;
      s.target.kind = kind, s.size_m = size + 0.01 * i;
      out.sights.push_back(static_cast<int>(seen.size()));
      seen.push_back(s);
    }
    spots.push_back(out);
  };
  spot(sight::TargetKind::ring, 0.5), spot(sight::TargetKind::ring, 0.5);
  CHECK_FALSE(sight::usual_of(seen, spots, {0, 1}).kind);
  spot(sight::TargetKind::ring, 0.5), spot(sight::TargetKind::ring, 0.5), spot(sight::TargetKind::checker, 3);
  const sight::Usual usual = sight::usual_of(seen, spots, {0, 1, 2, 3, 4});
  CHECK(usual.kind == sight::TargetKind::ring);
  CHECK_THAT(usual.size_m, Catch::WithinAbs(0.515, 0.006));   // of 0.50, 0.51, 0.52, 0.53: either middle one
  CHECK_FALSE(sight::usual_of(seen, spots, {0, 1, 4}).kind);  // two of three
}

TEST_CASE("A height that nobody surveyed is that of the ground around; without a plan there is no place") {
  Scene scene;
  adjust::SurveyedPoint p = scene.block.surveyed[2];
  const auto whole = sight::known_place(scene.block, p);
  REQUIRE(whole);
  CHECK(whole->X == p.surveyed);
  p.sigma.z() = mesograph::nan, p.surveyed.z() = -999;
  const auto plan = sight::known_place(scene.block, p);
  REQUIRE(plan);
  CHECK(plan->X.head<2>() == p.surveyed.head<2>());
  std::vector<std::pair<double, double>> near;
  for (const adjust::GroundPoint& tie : scene.block.points)
    near.emplace_back((tie.X - p.surveyed).head<2>().norm(), tie.X.z());
  std::sort(near.begin(), near.end());
  const auto [low, high] =
      std::minmax({near[0].second, near[1].second, near[2].second, near[3].second, near[4].second});
  CHECK((plan->X.z() >= low && plan->X.z() <= high));
  p.sigma.x() = mesograph::nan;
  CHECK_FALSE(sight::known_place(scene.block, p));
}

TEST_CASE("A point that no photo should show is named") {
  Scene scene;
  scene.block.surveyed[0].surveyed += Eigen::Vector3d(5000, 0, 0);
  const sight::Outlook outlook(scene.block, scene.site.scope);
  CHECK_THAT(sight::unseen_words(scene.block, outlook),
             Contains(scene.block.surveyed[0].id + ": no photo should show it"));
  scene.block.surveyed[0].role = adjust::Role::off;
  CHECK(sight::unseen_words(scene.block, outlook).empty());
}

TEST_CASE("Windows that overlap become one, also where the grown one meets others") {
  using V = Eigen::Vector2d;
  const sight::Window a(V(0, 0), V(10, 10)), b(V(8, 8), V(20, 20)), c(V(19, 0), V(30, 9)), far(V(50, 50), V(60, 60));
  const auto merged = sight::merged({a, c, far, b});
  REQUIRE(merged.size() == 2);
  CHECK((merged[0].min() == V(0, 0) && merged[0].max() == V(30, 20)));
  CHECK(merged[1].min() == far.min());
}
