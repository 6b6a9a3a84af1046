#pragma once

#include <mesograph/sight/search.hpp>
#include <mesograph/sight/sighting.hpp>

namespace mesograph::sight {

/// The ellipses of all points in all photos as windows, but for those where people have spoken.
std::vector<std::vector<Window>> narrow_windows(const SearchSite& site, const Outlook::Predictions& predictions);

/// What may be a point: targets within its ellipses, and those of them that meet in space.
struct Candidate {
  std::size_t point = 0;
  std::vector<Seen> seen;
  std::vector<Spot> spots;  ///< sights count in `seen`; those of people, which must meet with them, are taken out
};
/// `least_rays` that meet; two where no more photos see the point.
Candidate candidate_of(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, std::size_t point,
                       const std::vector<Seen>& all, int least_rays = 3);

/// What became of a surveyed point within its ellipses.
enum class NarrowOutcome {
  nothing,    ///< no targets that meet lie there
  found,      ///< one spot does, or one that far more photos agree on than on the next
  unlike,     ///< one spot does, though it does not look as the site's targets do: rays that meet are the proof
  ambiguous,  ///< more than one spot that as many photos agree on
};
struct NarrowChoice {
  NarrowOutcome outcome = NarrowOutcome::nothing;
  std::vector<Seen> sights;  ///< of the spot; where ambiguous, of the one that is ahead
  std::size_t rival = 0;     ///< photos that agree on the next spot
  double apart = nan;        ///< of both, m
};
/// Chooses among a candidate's spots. Looks rank: where some have two thirds of their sights as `usual` says, only
/// those compete. They never rule out what lies there alone.
NarrowChoice choose(const Candidate& candidate, const Usual& usual);
/// The usual kind and size, from points where nothing but one spot lies.
Usual usual_among(const std::vector<Candidate>& candidates);

struct NarrowFind {
  std::vector<std::vector<adjust::Ray>> rays;  ///< per surveyed point, new ones
  std::vector<Sighting> found;                 ///< refused ones among them
  Usual usual;                                 ///< as it was given, else as it was learnt
  std::vector<std::string> notes;
};
/// Looks for every point within its ellipses, photo by photo; what is found must meet in one ground point from three
/// photos or more (two where no more see it), and be alone there or ahead by far. `given`: what is known of the
/// targets; empty: it is learnt from points where nothing but one spot lies. Points where nothing of the usual kind
/// lies are looked at again for any kind; colours are looked at where half of the points show nothing. What is found is
/// then looked for in the other photos that should show it (completed), and so is what looks as usual in two, which is
/// kept where a third agrees. What is refused is told of, and stands among `found` as such. `names`: one a station. A
/// check's coordinates say only where to look. Accuracy: of places as find_targets; a wrong target passes where three
/// photos agree on it within the ellipse and nothing else lies there. Cost: photos decoded once, then by the area of
/// ellipses; a second time for what was missed.
NarrowFind find_narrow(const adjust::Block& block, const std::vector<std::string>& names, const SearchSite& site,
                       const Outlook& outlook, const Usual& given, Progress& progress);

}  // namespace mesograph::sight
