#include <mesograph/base/errors.hpp>
#include <mesograph/simulate/survey.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

std::string target_words() {
  constexpr auto all = words(simulate::Mark{});
  return fmt::format("{}", fmt::join(all.begin(), all.begin() + simulate::target_count, ", "));
}

void run_simulate(Call& call) {
  simulate::SimulateOptions options;
  options.seed = call.large("seed").value_or(options.seed);
  options.epoch = call.whole("epoch").value_or(options.epoch);
  options.photos = call.whole("photos").value_or(options.photos);
  if (call.has("size") && std::sscanf(call.text("size").c_str(), "%dx%d", &options.width, &options.height) != 2)
    throw UsageError("--size {}: write WIDTHxHEIGHT, as in 1200x900", call.text("size"));
  options.with_photos = !call.has("no-photos");
  if (call.has("scene")) {
    const auto scene = from_word<simulate::SceneKind>(call.text("scene"));
    if (!scene) throw UsageError("--scene {}: write slip or wall", call.text("scene"));
    options.scene = *scene;
  }
  if (call.has("targets")) {
    const auto mark = from_word<simulate::Mark>(call.text("targets"));
    if (!mark || !simulate::is_target(*mark))
      throw UsageError("--targets {}: no such kind; known are {}", call.text("targets"), target_words());
    options.targets = *mark;
  }
  if (call.has("paint")) {
    const auto paint = from_word<simulate::Paint>(call.text("paint"));
    if (!paint) throw UsageError("--paint {}: write white, orange or blue", call.text("paint"));
    options.paint = *paint;
  }
  options.decoys = call.has("decoys");
  options.cars = call.whole("cars").value_or(0);
  options.obliques = !call.has("nadir");
  options.known_interior = call.has("known-interior");
  options.points_per_photo = call.whole("points").value_or(options.points_per_photo);
  options.readout_seconds = call.number("readout").value_or(options.readout_seconds);
  options.gross_share = call.number("gross").value_or(options.gross_share);
  options.false_share = call.number("false-pairs").value_or(options.false_share);
  const std::string folder = call.only_path("folder");
  simulate::simulate_survey(folder, options, call.progress);
  call.json = {{"folder", folder}, {"photos", options.photos}};
  call.lines.push_back(
      fmt::format("{}: a made-up survey of {} photos; truth/ holds what is behind it", folder, options.photos));
}

}  // namespace

Command simulate_command() {
  return {
      "simulate",
      "makes up a survey with known truth",
      "DIR",
      {{"seed", "everything follows from it", Takes::large},
       {"scene", "slip (default), or wall: the retaining wall of its road, photographed from before it", Takes::text},
       {"epoch", "2: the slip as it was at a second flight, with a heap, a pit, a hut gone, the scarp gone back",
        Takes::whole},
       {"photos", "how many, useless ones included", Takes::whole},
       {"size", "WIDTHxHEIGHT in pixels", Takes::text},
       {"targets", "their kind: board (default) or another; a wrong word names all", Takes::text},
       {"paint", "of their light parts: white (default), orange, which is as light as the ground, or blue",
        Takes::text},
       {"cars", "so many on the road: half of them drive, the others are parked elsewhere in each sortie",
        Takes::whole},
       {"decoys", "road markings, drains and window bars lie where the targets should be"},
       {"readout", "seconds that a rolling shutter takes from the first row to the last, on the move", Takes::number},
       {"no-photos", "keypoints, matches and positions instead of pixels, over a wider slope"},
       {"points", "without photos: ground points for each photo", Takes::whole},
       {"gross", "without photos: share of keypoints that are somewhere else", Takes::number},
       {"false-pairs", "without photos: pairs that match without common ground, for each true one", Takes::number},
       {"nadir", "without photos: no obliques"},
       {"known-interior", "without photos: lenses without distortion, cameras.json is the truth"}},
      run_simulate};
}

}  // namespace mesograph::app
