#pragma once

#include <map>
#include <mesograph/orient/orient.hpp>
#include <mesograph/report/adjustment.hpp>
#include <mesograph/stages/outcome.hpp>

namespace mesograph::stages {

struct PhotoLeft {
  std::string image, reason;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("image", s.image), visit("reason", s.reason);
  }
};
/// Photos that tie points hold together.
struct OrientedPart {
  std::string name;
  std::size_t photos = 0;
  std::map<std::string, int> sorties;  ///< photos of each
  std::string first;                   ///< photo
  orient::Datum datum = orient::Datum::none;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("photos", s.photos), visit("sorties", s.sorties), visit("first", s.first);
    visit("datum", s.datum);
  }
};
/// How a sortie was really flown; NaN: unknown, or the block is free.
struct OrientedSortie {
  std::string name;
  int photos = 0, oriented = 0;
  std::optional<double> above_ground, forward_overlap, side_overlap;
  Eigen::Vector3d shift = Eigen::Vector3d::Constant(nan);  ///< of its positions: east, north, height, m
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("photos", s.photos), visit("oriented", s.oriented);
    visit("above_ground", s.above_ground, Absent::omitted);
    visit("forward_overlap", s.forward_overlap, Absent::omitted);
    visit("side_overlap", s.side_overlap, Absent::omitted), visit("shift", s.shift, Absent::omitted);
  }
};
struct OrientedCamera {
  std::string name;
  double c_start = nan, c = nan;  ///< pixels
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("c_start", s.c_start), visit("c", s.c);
  }
};
struct WeakLink {
  std::string image_a, image_b;
  std::size_t points = 0;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("image_a", s.image_a), visit("image_b", s.image_b), visit("points", s.points);
  }
};

struct Oriented {
  std::size_t photos = 0, oriented = 0, components = 0;
  std::vector<PhotoLeft> not_oriented;
  double reprojection_rms_px = nan, median_residual_px = nan, gsd = nan;
  bool free = false, preview = false;
  std::vector<OrientedPart> blocks;
  std::vector<OrientedSortie> sorties;
  std::vector<OrientedCamera> cameras;
  std::vector<WeakLink> weakest;
  std::optional<report::BowlResult> bowl;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("photos", s.photos), visit("oriented", s.oriented), visit("components", s.components);
    visit("not_oriented", s.not_oriented), visit("reprojection_rms_px", s.reprojection_rms_px);
    visit("median_residual_px", s.median_residual_px), visit("gsd", s.gsd), visit("free", s.free);
    visit("preview", s.preview), visit("blocks", s.blocks), visit("sorties", s.sorties);
    visit("cameras", s.cameras), visit("weakest", s.weakest), visit("bowl", s.bowl);
  }
};

/// Orients the block from the tie points (orient::orient); a listing counts as oriented, and must fit them. Draws what
/// it made (block_figures). Throws Error where there are no ties, no pair can start, or a listing does not fit.
/// Cost: that of orient::orient, and one reading of the photos for colours.
Outcome<Oriented> orient(survey::Survey& survey, Progress& progress);
std::string orient_fingerprint(const survey::Survey& survey);
/// tie() and orient() at reduced resolution, in store/preview and results/preview: to see whether a flight is complete.
Outcome<Oriented> preview(survey::Survey& survey, Progress& progress);

}  // namespace mesograph::stages
