#pragma once

#include <functional>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>
#include <vector>

namespace mesograph::cloud {

/// What is known of a point where points are judged by what lies around them.
struct TilePoint {
  Eigen::Vector3d X;  ///< east, north, height, m, whatever the file counts
  float sigma = 0;    ///< m, sigma_z or else sigma_match; 0 where the file has neither
  std::uint8_t rays = 0, point_class = 0;
  bool own = true;  ///< of this tile; else of its rim, to be seen but not judged
  float block = 0;  ///< m: what of sigma is the block's, alike for all around; 0 where the file does not tell it apart
  std::array<std::uint8_t, 3> colour{};  ///< black where the file has none
  std::uint8_t returns = 1;              ///< of the pulse, where a scanner counts them
};

struct JudgeOptions {
  double rim = 0;                     ///< what a tile sees beyond itself, m
  double align = 0;                   ///< tiles begin at multiples of this, m; 0: anywhere
  std::size_t most_points = 3000000;  ///< in memory at once, a thread; above, tiles wait in a file in `scratch`
  std::filesystem::path scratch;      ///< folder for that, which has no name and is gone with the process
  /// Points far from all others (extent_of) are not asked about: a grid from them to the site would fill the memory.
  std::uint8_t word_of_strays = 0;
  std::string fate_of_strays = "left out";  ///< in words, for the user
};

/// A square of the plan, m: what lies in it, the west and south sides included, is its own.
struct PlanTile {
  double west = 0, south = 0, side = 0;
};

/// Points of a tile and of its rim, with their places in the file.
struct TileContent {
  PlanTile tile;
  std::vector<TilePoint> points;
  std::vector<std::uint64_t> index;
};

/// Hands the points of files of one CRS to `work` tile by tile, on all threads, however many there are: points of later
/// files count on from those before. Tiles depend on the files alone. Strays (extent_of) are left out, and said. Throws
/// what LasReader does, and Error where the disk refuses, or where coordinates are angles. `step`: what is done, for
/// the user.
void for_each_tile(const std::vector<LasReader*>& files, const JudgeOptions& options, const char* step,
                   const std::function<void(const TileContent&)>& work, Progress& progress);

/// A judge's word on each point of a tile; those on points of the rim are not listened to.
using Judge = std::function<std::vector<std::uint8_t>(const std::vector<TilePoint>&)>;

/// Judges all points of a file, in its order, square by square, however many there are. Cost: one byte of memory a
/// point beside the squares at work.
/// Squares depend on the file alone, so the result is the same for any number of threads. Throws what LasReader does,
/// and Error where the disk refuses, or where coordinates are angles.
std::vector<std::uint8_t> judge_points(LasReader& file, const JudgeOptions& options, const Judge& judge,
                                       Progress& progress);

/// A word that leaves a point's class as it is.
inline constexpr std::uint8_t class_kept = 255;

/// Writes the points whose word is not 0, in the file's order, all of their bytes kept; or, `as_class`, all points with
/// the word as their class. Returns how many.
std::uint64_t write_judged(LasReader& file, const std::vector<std::uint8_t>& words, bool as_class,
                           const std::filesystem::path& out);

/// Distance that a square of the plan leaves to each point, by the area that points fill: the root of area over count.
/// Cost: linear.
double plan_spacing(const std::vector<TilePoint>& points);

}  // namespace mesograph::cloud
