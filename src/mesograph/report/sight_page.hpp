#pragma once

#include <array>
#include <mesograph/base/numbers.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::report {

/// What a person needs to see of a survey's sightings in order to judge them.
struct SightPage {
  /// A part of a photo around a sighting.
  struct Chip {
    int left = 0, top = 0, width = 0;  ///< of the square, pixels of the photo
    std::string jpeg;                  ///< its bytes; empty: the photo cannot be read
  };
  struct Row {
    std::string image, state, origin;
    double x = nan, y = nan, sigma = nan;          ///< pixels
    double residual = nan;                         ///< pixels; NaN: no other ray to meet
    std::optional<std::array<double, 3>> ellipse;  ///< of a prediction: half axes, pixels; turn from x to y, degrees
    std::optional<Chip> chip;                      ///< nothing: shown from the photo file
  };
  struct Point {
    std::string id, role;
    std::vector<Row> rows;
  };
  struct Photo {
    std::string image, path;  ///< path relative to the page
  };
  std::string title;
  std::string key;  ///< tells surveys apart where a browser keeps what was not saved
  std::vector<Point> points;
  std::vector<Photo> photos;  ///< all of them, for sighting by eye where nothing was predicted
};

/// One HTML file that works from disk without a network: all chips, a magnified view in which the target's centre is
/// clicked, states changed by mouse or keyboard, and a sightings.csv to save (confirmed and rejected rows) that
/// `sight --import` takes. Whole photos are shown from their own files, as long as they are where `path` says.
/// Exact: places are written with the digits that give them back. Cost: chips as JPEG, some kilobytes each.
std::string sight_page(const SightPage& page);

}  // namespace mesograph::report
