#pragma once

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/photo/image.hpp>
#include <string>
#include <vector>

namespace mesograph::photo {

/// The photo as 16 x 16 grey means: enough to tell one photo from its neighbours.
using Thumbnail = std::array<std::uint8_t, 256>;

/// What the pixels of one photo say about its use.
struct Quality {
  double sharpness = nan;     ///< mean squared Laplacian at half size over the grey variance; falls with blur
  double overexposed = nan;   ///< share of pixels at 250 grey levels or more
  double underexposed = nan;  ///< share of pixels at 5 grey levels or less
  Thumbnail thumbnail{};
};
/// Cost: one pass over the half-size photo. Source: of sharpness, Pertuz, Puig, Garcia (2013), Analysis of focus
/// measure operators, Pattern Recognition 46 (energy of the Laplacian).
Quality assess(const Grey& half_size);

/// Correlation of two thumbnails, -1 to 1; 1 for two flat ones.
double likeness(const Thumbnail& a, const Thumbnail& b);

struct ScreeningInput {
  std::string image;
  Quality quality;
  int width = 0, height = 0;
  Eigen::Vector2d at = Eigen::Vector2d::Constant(nan);  ///< position in plan, m; NaN: none
  double up = nan;                                      ///< height as the camera wrote it, m; NaN: none
  double nearest = nan;  ///< distance to the nearest photo of any sortie, m; NaN: unknown
};

struct ScreeningOptions {
  /// Least sharpness against the median of the photos taken before and after: texture differs, so no absolute bound.
  double least_relative_sharpness = 0.45;
  int neighbours = 6;              ///< on either side, for that median
  double most_overexposed = 0.25;  ///< share of pixels; a sunlit road or snow patch stays below
  /// The same of a photo that is so many times as bright as the median of those before and after it: the camera erred
  /// there, not the ground, and what is lost to white is lost in single channels first.
  double some_overexposed = 0.03, most_brighter = 1.5;
  double most_underexposed = 0.5;
  /// A gap in the sorted heights, m, below which photos are of take-off or landing: terrain following moves in small
  /// steps.
  double take_off_gap = 15.0;
  double most_take_off = 0.25;  ///< never call more than this share of a sortie so: then it is two flights
  /// A photo further from every other than so many times the sortie's usual step has nothing to share with any:
  /// transit.
  double isolated_steps = 6.0;
  /// Likeness of thumbnails above which two photos in a row are the same view taken twice; 2 % of shift gives less.
  double near_duplicate = 0.995;
  double near_duplicate_steps = 0.25;  ///< and their distance in usual steps below this, where positions are known
  double most_odd_sizes = 0.1;         ///< photos of another size than most, up to this share of the sortie
};

/// Why a photo takes no part.
enum class ScreeningReason {
  unreadable,     ///< damaged, or of a kind that is not read
  copy,           ///< the same file under another name
  odd_size,       ///< value: megapixels
  over_exposed,   ///< value: share of white pixels
  under_exposed,  ///< value: share of black pixels
  take_off,       ///< take-off or landing; value: m below the others
  transit,        ///< far from every other photo; value: m
  blurred,        ///< value: sharpness over that around it
  same_view,      ///< as another photo; value: likeness
  by_hand,        ///< a person dropped it
};
struct Screened {
  ScreeningReason reason = ScreeningReason::by_hand;
  std::string about;   ///< the photo it is a copy of or shows the same as; what is wrong with the file
  double value = nan;  ///< the figure behind the reason

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("reason", s.reason), visit("about", s.about), visit("value", s.value);
  }
};
/// The reason as tables have it: "the same view as IMG_0012.JPG".
std::string reason_of(const Screened& screened);
/// With the figure behind it, as people say it: "blurred: 0.10 of the sharpness around it".
std::string screening_words(const Screened& screened);

struct ScreenedOut {
  std::string image;
  Screened why;
};

/// Photos of one sortie, in the order they were taken, that should not take part, each with its reason and the number
/// behind it. Without positions take-off and transit are not looked for.
/// Cost: linear in photos. On the demo survey every useless photo is named and no good one.
/// Source: none in print: limits stand with their reasons in ScreeningOptions.
std::vector<ScreenedOut> screen(const std::vector<ScreeningInput>& sortie, const ScreeningOptions& options = {});

/// Whether positions say nothing: they all lie within `noise` (m, one standard deviation) of their middle, as when
/// somebody walks around an object. Fewer than three: false.
bool within_noise(const std::vector<Eigen::Vector2d>& places, double noise);

}  // namespace mesograph::photo
