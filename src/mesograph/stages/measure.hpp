#pragma once

#include <memory>
#include <mesograph/base/fields.hpp>
#include <mesograph/mesh/triangle_mesh.hpp>
#include <mesograph/survey/survey.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

/// Distances between two points of an adjusted block, as a person with a tape or a total station knows them; m.
struct Measured {
  double slope = nan;   ///< in space
  double ground = nan;  ///< level, at the mean height of both
  double grid = nan;    ///< in the plan of the survey's CRS, brought to metres
  double rise = nan;    ///< height of b less that of a, along the vertical half way
  /// Predicted standard deviations at sigma0 = 1, from the joint covariance of both points: what both share cancels.
  /// Coordinates that are given have none; NaN where both are.
  double sigma_slope = nan, sigma_ground = nan, sigma_grid = nan, sigma_rise = nan;  ///< m
  double sigma_direction_deg = nan;
  double direction_deg = nan;  ///< from a to b against the grid's north, clockwise, 0 to 360
  double surveyed = nan;       ///< slope between the surveyed coordinates; NaN where one has none
  /// On a mesh: how far from it what was asked for lies, m; whether a place is a guess. NaN, false: not on a mesh.
  double from_off = nan, to_off = nan;
  bool guessed = false;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("slope", s.slope), visit("ground", s.ground), visit("grid", s.grid), visit("rise", s.rise);
    visit("direction_deg", s.direction_deg), visit("surveyed_slope", s.surveyed);
    visit("sigma_slope", s.sigma_slope), visit("sigma_ground", s.sigma_ground), visit("sigma_grid", s.sigma_grid);
    visit("sigma_rise", s.sigma_rise), visit("sigma_direction_deg", s.sigma_direction_deg);
    visit("from_off_mesh", s.from_off), visit("to_off_mesh", s.to_off), visit("guessed", s.guessed);
  }
};

/// A length that somebody taped, and what the survey says of it; m.
struct LengthCheck {
  std::string id, a, b;
  double taped = nan, sigma_taped = nan;  ///< in space
  double found = nan, sigma = nan;
  double difference = nan;  ///< found less taped
  double w = nan;           ///< in its standard deviation, that of both; NaN: not known
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("a", s.a), visit("b", s.b), visit("taped", s.taped), visit("sigma_taped", s.sigma_taped);
    visit("found", s.found), visit("sigma", s.sigma), visit("difference", s.difference), visit("w", s.w);
  }
};

/// Measures in an adjusted block, or on a mesh of it.
/// Accuracy: of distances to some micrometres over a kilometre; sigmas to first order.
/// Cost: the block is read, and three solutions with its factor for each measurement; on a mesh a look at each of its
/// faces.
class Tape {
 public:
  /// Throws Error where nothing is adjusted.
  explicit Tape(const survey::Survey& survey);
  ~Tape();
  /// Lays it on a mesh, in the survey's CRS, from then on.
  void lay_on(mesh::TriangleMesh mesh);

  /// From `a` to `b`: ids of sighted control, checks or tie points (their adjusted places), or coordinates
  /// "east:north:height" in the survey's CRS; on a mesh the places of it nearest to these, and "east:north" is its
  /// highest place there. The level distance takes the ellipsoid's normal half way for the vertical: over a kilometre
  /// that is right to some micrometres. In a local survey, slope and plan are those of its frame. On a mesh, sigmas are
  /// those of both places along its normals, taken for independent, and of named points that of their difference too;
  /// coordinates that are given are taken as they are.
  /// Throws Error where a point is not known or not intersected, or no mesh lies there.
  Measured measure(const std::string& a, const std::string& b) const;

  /// Lengths of a file, as that of scale bars: id,a,b,length,sigma.
  std::vector<LengthCheck> check(const std::filesystem::path& file) const;

 private:
  struct Held;
  std::unique_ptr<Held> held_;
};

}  // namespace mesograph::stages
