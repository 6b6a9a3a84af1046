#include <algorithm>
#include <cmath>
#include <mesograph/adjust/weakness.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/orient/links.hpp>
#include <mesograph/survey/doubts.hpp>

namespace mesograph::survey {

namespace {

using Json = nlohmann::ordered_json;

constexpr double most_gsd = 3;  // of bending that nobody needs to hear of

void say_held_by_prior(const NamedBlock& named, const adjust::AdjustResult& result, Progress& progress) {
  for (const adjust::HeldByPrior& h : adjust::held_by_prior(named.block, result))
    progress.say(fmt::format(
        "camera {}: {} = {:.1f} px rests on its start value (within {:.1f} px): the photos do not determine "
        "it; control at different heights, oblique photos or a calibration would",
        named.block.cameras[h.camera].name, camera::parameter_names[h.parameter], h.value, h.sigma));
}

/// Photos that all look down hardly part the lens from the shape of the ground. What is predicted holds for a lens that
/// follows its model to the last term, and no lens does; fine positions and well-spread control hold the shape.
bool bends_by_nature(const NamedBlock& named, const adjust::AdjustResult& result, const adjust::Bowl& bowl) {
  const auto control =
      std::count_if(named.block.surveyed.begin(), named.block.surveyed.end(), [](const adjust::SurveyedPoint& p) {
        return p.role == adjust::Role::control && p.weight(2, 2) > 0 && p.point.rays.size() >= 2;
      });
  const bool held = !result.surveyed.empty() && control >= 5;
  const bool lens =
      std::find(result.layout.free.begin(), result.layout.free.end(), camera::k1) != result.layout.free.end();
  return bowl.oblique_share < 0.05 && lens && !held && !(bowl.observed_sigma < result.gsd);
}

}  // namespace

Json say_doubts(const NamedBlock& named, const adjust::AdjustResult& result, Progress& progress) {
  say_held_by_prior(named, result, progress);
  if (named.free) return nullptr;
  adjust::Bowl bowl;
  for (const std::vector<int>& part : orient::tied_together(named.block))
    if (const adjust::Bowl one = adjust::judge_bowl(named.block, part, result); !(one.sigma <= bowl.sigma)) bowl = one;
  if (std::isnan(bowl.sigma)) return nullptr;
  const bool nadir = bends_by_nature(named, result, bowl);
  if (nadir || bowl.sigma > most_gsd * result.gsd)
    progress.say(fmt::format(
        "heights may be bent like a bowl: {:.2f} m or more between the middle and the edge (predicted, 1 sigma; {:.1f} "
        "GSD), for {} do not part the lens from the shape of the ground. Do not trust heights before there is control "
        "in the middle and at the edges, {}or positions of centimetre level",
        bowl.sigma, bowl.sigma / result.gsd, nadir ? "photos that all look straight down" : "these photos",
        nadir ? "a crossing sortie of oblique photos, " : ""));
  if (std::abs(bowl.observed) > 3.29 * bowl.observed_sigma && std::abs(bowl.observed) > most_gsd * result.gsd)
    progress.say(
        fmt::format("the positions show the block bent like a bowl by {:+.2f} m at the edge (1 sigma {:.2f} m)",
                    bowl.observed, bowl.observed_sigma));
  return {
      {"sigma", json_of(bowl.sigma)}, {"in_positions", json_of(bowl.observed)}, {"oblique_share", bowl.oblique_share}};
}

}  // namespace mesograph::survey
