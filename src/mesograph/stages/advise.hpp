#pragma once

#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// A place where a further target would help.
struct AdvisedPlace {
  std::size_t place = 0;                         ///< counted from 1, the best first
  double east = nan, north = nan, height = nan;  ///< in the CRS
  int photos = 0;                                ///< that would show it
  double before = nan, after = nan;              ///< largest predicted sigma of heights, m

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("place", s.place), visit("east", s.east), visit("north", s.north), visit("height", s.height);
    visit("photos", s.photos), visit("before", s.before), visit("after", s.after);
  }
};

/// Proposes places on the site of the last adjustment where a further target, surveyed and sighted as [control] and the
/// photos' sightings are, lowers the largest predicted sigma of heights most, one after the other. Writes
/// results/advice.csv and results/figures/advice.png. Throws Error where no place is seen by enough photos.
/// Cost: the covariance at some hundred places, then n rounds over them.
std::vector<AdvisedPlace> advise(const survey::Survey& survey, int n, Progress& progress);

}  // namespace mesograph::stages
