#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/adjust.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/listing.hpp>

namespace mesograph::stages {

using namespace survey;

NamedBlock block_to_densify(const Survey& survey, const PhotoTable& photos, bool force, Progress& progress) {
  check_control(survey);
  if (survey.store.stage("adjust")) {
    if (!force && last_adjustment(survey).summary.inputs != adjust_fingerprint(survey, {}))
      throw Error(
          "densify: what the block was adjusted from has changed since; run mesograph adjust, or take it as it is with "
          "--force");
    return load_block(survey, "adjust");
  }
  if (!load_listing(survey)) return load_block(survey, "adjust");  // says what is missing
  NamedBlock out = oriented_block(survey, photos);
  out.need_ground("densify");
  if (out.block.points.empty())
    throw Error("densify: ties say how far away the ground is, and there are none; run mesograph tie");
  // Wrong matches among the ties say wrong distances: what fits the stations badly is left out. Rays that meet at a
  // tenth of a degree tell enough of where to search: stations that are given may stand as close as two lenses.
  constexpr double least_angle = 0.1 * rad_per_deg;
  const auto intersect_all = [&] {
    for (adjust::GroundPoint& point : out.block.points) {
      point.X.setConstant(nan);
      adjust::place(out.block, point, least_angle);
    }
  };
  intersect_all();
  for (int round = 0; round < 3; ++round) {
    adjust::groom(out.block, {});
    intersect_all();
  }
  progress.say("the block is not adjusted: stations and cameras are taken as the listing gives them");
  return out;
}

std::string densified_block_print(const Survey& survey) {
  const auto adjusted = survey.store.stage("adjust");
  return adjusted ? adjusted->fingerprint : oriented_fingerprint(survey);
}

}  // namespace mesograph::stages
