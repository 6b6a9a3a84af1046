#pragma once

#include <Eigen/Geometry>
#include <functional>
#include <map>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

/// What a cloud holds, by all of its points.
struct Description {
  Eigen::AlignedBox3d box;         ///< of the points themselves, units of the file; empty: it has none
  std::uint64_t square_units = 0;  ///< squares of a unit that hold points
  std::map<int, std::uint64_t> classes;
  std::map<int, std::uint64_t> returns;
  struct Spread {
    double low, mean, high;
  };
  std::vector<Spread> attributes;     ///< in the header's order
  bool eight_bit = true;              ///< no colour exceeds 255: eight bits in sixteen
  std::vector<std::string> oddities;  ///< where the header says other than the points
};
/// Cost: one reading of the file, memory for a histogram of classes.
Description describe(LasReader& file, Progress& progress);

/// A value of up to two million points, spread evenly over the file.
std::vector<double> sample(LasReader& file, const std::function<double(const LasPoints&, std::size_t)>& value);

/// Whether a file's colours have eight bits in their sixteen: by up to a million of its points.
bool has_eight_bit_colours(LasReader& file);

}  // namespace mesograph::cloud
