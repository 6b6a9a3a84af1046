#pragma once

#include <array>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
#include <string>

namespace mesograph::sight {

/// What is known of a sighting, from least to most: where it should be, what the finder saw and did not take, what it
/// took, what people have said.
enum class SightingState { predicted, refused, found, confirmed, rejected };
constexpr std::array<std::string_view, 5> words(SightingState) {
  return {"predicted", "refused", "found", "confirmed", "rejected"};
}

/// A surveyed point in a photo: a row of sightings.csv. A plain value, without cost or source of its own. Accuracy:
/// that of x and y stands in `sigma`.
struct Sighting {
  std::string image, point;
  double x = nan, y = nan, sigma = nan;  ///< pixels, from the outer corner of the top-left pixel
  SightingState state = SightingState::confirmed;
  std::string origin = "import";  ///< who says so, in words

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("image", s.image), visit("point", s.point), visit("x", s.x), visit("y", s.y), visit("sigma", s.sigma);
    visit("state", s.state), visit("origin", s.origin);
  }
};

}  // namespace mesograph::sight
