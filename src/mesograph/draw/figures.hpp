#pragma once

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <mesograph/camera/camera.hpp>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/photo/image.hpp>
#include <string>
#include <vector>

namespace mesograph::draw {

struct StationMark {
  Eigen::Vector2d place;  ///< east, north, m
  std::size_t sortie = 0;
};
struct PointMark {
  std::string id;
  Eigen::Vector2d place;
  Eigen::Vector3d error;  ///< adjusted - surveyed: east, north, height, m; NaN: unknown
  bool check = false;
};
struct MapData {
  std::vector<std::string> sorties;
  std::vector<StationMark> stations;
  std::vector<PointMark> points;
  std::vector<Eigen::Vector2d> ties;  ///< a selection is enough
  std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>> scale_bars = {};
  Eigen::Vector2d unit = {1.0, 1.0};  ///< of the coordinates at the frame, see MapFrame
};

/// Stations, control and checks. Before any adjustment the checks are named too.
/// Cost: linear in marks.
Drawing overview_map(const MapData& data);

/// Number of photos that see each cell of the ground. `counts` row by row from the north, negative: no ground
/// known.
struct OverlapData {
  Eigen::Vector2d low;  ///< east, north of the south-west corner
  double cell = 1.0;    ///< m
  int columns = 0, rows = 0;
  std::vector<int> counts;
  Eigen::Vector2d unit = {1.0, 1.0};  ///< see MapFrame
};
Drawing overlap_map(const OverlapData& data);

/// Stations and footprints of the photos over the number of footprints on each place, before anything is oriented; PNG.
struct PhotoMapData {
  std::vector<std::string> sorties;
  std::vector<StationMark> stations;
  std::vector<std::vector<Eigen::Vector2d>> footprints;  ///< corners; of the sortie of the same station
  OverlapData overlap;
};
std::string photo_map(const PhotoMapData& data);

/// Stations and tie points of an oriented block: plan above, from the south below, at one scale; PNG.
struct BlockPicture {
  struct Mark {
    Eigen::Vector3d place;  ///< east, north, height
    std::size_t sortie = 0;
  };
  struct Point {
    Eigen::Vector3d place;
    std::array<std::uint8_t, 3> colour;
  };
  std::vector<std::string> sorties;
  std::vector<Mark> stations;
  std::vector<Point> points;
  bool free = false, preview = false;  ///< said beside the drawing
};
std::string block_figure(const BlockPicture& picture);

/// Small pictures with a name and a reason under each; PNG. `more`: how many are not shown.
struct ContactPhoto {
  std::string image, reason;
  photo::Rgb picture;  ///< empty: cannot be read
};
std::string contact_sheet(const std::vector<ContactPhoto>& photos, std::size_t more);

/// How the frame of a chip says what its sighting is: by form, so that it is read in any colour and by anybody.
enum class ChipFrame {
  full_with_tick,     ///< confirmed
  dashed,             ///< found, nobody has looked
  dashed_with_query,  ///< found and refused: somebody has to look
  dotted,             ///< predicted
  struck_through      ///< rejected
};

/// A point's sightings, each enlarged around its place with a cross-hair, and a line of words under it; PNG.
struct SightingSheet {
  struct Chip {
    std::string image, words;
    photo::Rgb pixels;   ///< cut out of the photo; empty: cannot be read
    Eigen::Vector2d at;  ///< of the sighting, in the pixels of the cut
    ChipFrame frame = ChipFrame::dotted;
  };
  std::string title;
  std::vector<Chip> chips;
};
std::string sighting_sheet(const SightingSheet& sheet);

/// Photos and the pairs that are tied, thick where by many points; the photos with the worst covered frames are named.
struct PairGraph {
  std::vector<std::string> sorties, images;
  std::vector<StationMark> stations;
  std::vector<double> covered;  ///< share of each photo's frame with tie points
  struct Link {
    std::size_t a = 0, b = 0, points = 0;
  };
  std::vector<Link> links;
};
Drawing pair_graph(const PairGraph& graph);

/// Bars over 2, 3, ... rays: how many tie points have so many. counts[i]: points of i rays.
Drawing multiplicity_figure(const std::vector<std::size_t>& counts);

/// Two photos side by side with lines between the places that are the same; PNG.
struct MatchPicture {
  std::string image_a, image_b;
  photo::Rgb a, b;
  double scale_a = 1, scale_b = 1;                                   ///< pixels of the pictures a pixel of the photos
  std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>> matches;  ///< pixels of the photos
};
std::string match_figure(const MatchPicture& picture);

/// Mean image residual in each cell of a camera's photo, as vectors. What is left of a good calibration is noise
/// without order.
struct ResidualField {
  std::string camera;
  int width = 0, height = 0;
  int columns = 16, rows = 12;
  std::vector<Eigen::Vector2d> mean;  ///< pixels, row by row; NaN: no rays
};
Drawing residual_figure(const ResidualField& field);

}  // namespace mesograph::draw
