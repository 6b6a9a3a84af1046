#pragma once

#include <cstdint>
#include <mesograph/simulate/marks.hpp>

namespace mesograph::simulate {

/// What is photographed: the slip, or the retaining wall of its road.
enum class SceneKind { slip, wall };
constexpr std::array<std::string_view, 2> words(SceneKind) { return {"slip", "wall"}; }

/// Choices of a made-up survey; they compute nothing, so there is no accuracy to state. Cost: see simulate_survey.
struct SimulateOptions {
  std::uint64_t seed = 20260614;
  SceneKind scene = SceneKind::slip;
  int epoch = 1;                   ///< 2: the slip as it was at a second flight, see site.hpp
  int photos = 56;                 ///< all of them, useless ones included; at least 4
  int width = 1200, height = 900;  ///< pixels; the field of view stays, so smaller photos have a larger GSD
  Mark targets = Mark::board;      ///< what the targets are
  Paint paint = Paint::white;      ///< of the targets' light parts
  bool decoys = false;             ///< road markings, drains and window bars where the targets should be
  int cars = 0;                    ///< on the slip's road, half of them driving, the others elsewhere in each sortie
  double readout_seconds = 0;   ///< of rolling shutters, from the first row to the last; 0: shutters that open at once
  bool with_photos = true;      ///< false: see simulate_wide_block, and the options below
  int points_per_photo = 300;   ///< ground points for each photo
  double gross_share = 0.05;    ///< of the keypoints, put 3 to 100 pixels off
  double false_share = 0.02;    ///< pairs that match without common ground, for each true one
  bool obliques = true;         ///< 15 % of the photos look along the strips from lines across them
  bool known_interior = false;  ///< lenses without distortion, and cameras.json is the truth
};

}  // namespace mesograph::simulate
