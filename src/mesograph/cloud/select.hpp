#pragma once

#include <functional>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/cloud/region.hpp>
#include <set>

namespace mesograph::cloud {

/// Which points of a cloud an edit is about. What is not said takes all.
struct Selection {
  Region region;
  bool outside = false;  ///< of the region
  std::set<int> classes;
  double low = -INFINITY, high = INFINITY;  ///< heights, units of the file, both ends included

  bool takes(const LasPoints& points, std::size_t i) const;
  /// In words, for a sentence: "in the region, which goes from ... , of class 2, 11".
  std::string words() const;
};

/// Words of points (judge_points), of which those that are 0 are left alone; empty: none is.
using Words = std::vector<std::uint8_t>;

/// Writes the selected points as they are. Returns how many; throws Error where there are none, and leaves no file
/// then. Exact: bytes of points as they were. Cost: one reading and one writing.
std::uint64_t cut(LasReader& file, const Selection& selection, const Words& words, const std::filesystem::path& out,
                  Progress& progress);

/// Writes all points, the selected ones changed by `edit`, all others byte for byte. Returns how many were changed;
/// throws Error as cut does, and what `edit` throws.
std::uint64_t edit_points(LasReader& file, const Selection& selection, const Words& words,
                          const std::function<void(LasPoints&, std::size_t)>& edit, const std::filesystem::path& out,
                          Progress& progress);

/// Writes the points of several files of one layout (tiles.hpp: difference) as one file, in the order of the
/// files; head and records are the first one's, coordinates are brought to its scale and offset. Returns how many.
/// Throws Error, which names the file and what differs, where layouts do, or its integers do not reach.
std::uint64_t join(std::vector<LasReader>& files, const std::filesystem::path& out, Progress& progress);

}  // namespace mesograph::cloud
