#include <mesograph/base/errors.hpp>
#include <mesograph/simulate/survey.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_simulate(Call& call) {
  simulate::SimulateOptions options;
  if (call.has("seed")) options.seed = call.options["seed"].as<std::uint64_t>();
  if (call.has("photos")) options.photos = call.options["photos"].as<int>();
  if (call.has("size") && std::sscanf(call.text("size").c_str(), "%dx%d", &options.width, &options.height) != 2)
    throw UsageError("--size {}: write WIDTHxHEIGHT, as in 1200x900", call.text("size"));
  options.with_photos = !call.has("no-photos");
  options.decoys = call.has("decoys");
  options.obliques = !call.has("nadir");
  options.known_interior = call.has("known-interior");
  const auto take = [&](const char* name, auto& value) {
    if (call.has(name)) value = call.options[name].as<std::decay_t<decltype(value)>>();
  };
  take("points", options.points_per_photo);
  take("readout", options.readout_seconds);
  take("gross", options.gross_share);
  take("false-pairs", options.false_share);
  const std::string folder = call.only_path("folder");
  simulate::simulate_survey(folder, options, call.progress);
  call.json = {{"folder", folder}, {"photos", options.photos}};
  call.lines.push_back(
      fmt::format("{}: a made-up survey of {} photos; truth/ holds what is behind it", folder, options.photos));
}

}  // namespace

Command simulate_command() {
  return {"simulate", "makes up a survey with known truth", "DIR",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("seed", "everything follows from it", cxxopts::value<std::uint64_t>());
            add("photos", "how many, useless ones included", cxxopts::value<int>());
            add("size", "WIDTHxHEIGHT in pixels", cxxopts::value<std::string>());
            add("decoys", "road markings, drains and window bars lie where the targets should be");
            add("readout", "seconds that a rolling shutter takes from the first row to the last, on the move",
                cxxopts::value<double>());
            add("no-photos", "keypoints, matches and positions instead of pixels, over a wider slope");
            add("points", "without photos: ground points for each photo", cxxopts::value<int>());
            add("gross", "without photos: share of keypoints that are somewhere else", cxxopts::value<double>());
            add("false-pairs", "without photos: pairs that match without common ground, for each true one",
                cxxopts::value<double>());
            add("nadir", "without photos: no obliques");
            add("known-interior", "without photos: lenses without distortion, cameras.json is the truth");
          },
          run_simulate};
}

}  // namespace mesograph::app
