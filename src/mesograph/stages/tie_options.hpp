#pragma once

#include <array>
#include <filesystem>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
#include <optional>

namespace mesograph::stages {

/// Which pairs of photos are tried.
enum class PairChoice {
  positions,  ///< photos whose footprints lie side by side, those without position by similarity
  all,
  similar,  ///< by what they show
  none,     ///< only what was imported
};
constexpr std::array<std::string_view, 4> words(PairChoice) { return {"positions", "all", "similar", "none"}; }

/// Cost: matching time grows with the square of `keypoints`.
struct TieOptions {
  std::optional<int> keypoints;  ///< most of a photo; default [tie] keypoints
  PairChoice pairs = PairChoice::positions;
  /// ties.csv, or a folder with keypoints.csv and matches.csv, to take beside what is matched; kept in inputs/ties.csv.
  std::filesystem::path import_path;
};

struct Tied {
  std::size_t keypoints = 0, pairs_planned = 0, pairs_verified = 0, pairs_contradicted = 0;
  std::size_t tie_points = 0, tie_points_chosen = 0;
  double mean_rays = nan;
  int keypoints_asked = 0;  ///< most of a photo
  PairChoice pairs = PairChoice::positions;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("keypoints", s.keypoints), visit("pairs_planned", s.pairs_planned);
    visit("pairs_verified", s.pairs_verified), visit("pairs_contradicted", s.pairs_contradicted);
    visit("tie_points", s.tie_points), visit("tie_points_chosen", s.tie_points_chosen);
    visit("mean_rays", s.mean_rays), visit("keypoints_asked", s.keypoints_asked), visit("pairs", s.pairs);
  }
};

}  // namespace mesograph::stages
