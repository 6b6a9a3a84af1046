#pragma once

#include <map>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

/// How the classes of a cloud fit a sample of places whose classes are known: of each pair (true, said) how many.
struct ClassSample {
  Eigen::Vector3d X;  ///< units of the cloud; height NaN: not known
  int point_class = 0;
};
struct Confusion {
  std::map<std::pair<int, int>, std::uint64_t> count;
  std::uint64_t nowhere = 0;       ///< samples with no point within reach
  double recall(int of) const;     ///< share of those that are it which are said to be; NaN: none is
  double precision(int of) const;  ///< share of those said to be it which are; NaN: none is said to be
};

/// Each sample takes the class of the cloud's point nearest to it (in the plan where its height is not known), at most
/// `reach` away, units of the cloud. Cost: one reading; memory for the sample.
Confusion check_classes(LasReader& file, const std::vector<ClassSample>& sample, double reach, Progress& progress);

/// The points of a LAS file whose classes somebody drew, those of class 0 and 1 left out: they say nothing. Throws what
/// LasReader does.
std::vector<ClassSample> sample_of(LasReader& file);

/// A table with columns east, north, class and, where there is one, height. Throws Error, naming file and line.
std::vector<ClassSample> read_sample(const std::filesystem::path& path);

}  // namespace mesograph::cloud
