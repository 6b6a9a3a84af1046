#pragma once

#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/las.hpp>
#include <string>
#include <vector>

namespace mesograph::cloud {

/// The files that are one cloud: the file itself; those of a folder, in the order of its index.csv (a table with a
/// column `file`) or, where it has none, its .las and .laz files by their names; those that an index.csv names; those
/// that a pattern means whose last part holds *, ? or [. Octrees (.copc.laz) of a folder repeat its other files and are
/// left out unless nothing else is there. Throws Error where there is none. Cost: one look at a folder.
std::vector<std::filesystem::path> files_of_cloud(const std::filesystem::path& path);

/// What of a file differs from another so that their points cannot lie in one file, in words; empty: nothing. Scales
/// and offsets may differ.
std::string difference(const LasHeader& a, const LasHeader& b);

/// Coordinates would leave the integers of a file.
class OutOfRange : public Error {
 public:
  OutOfRange();
};
/// So many steps as the integer that stands for them. Throws OutOfRange.
std::int32_t step_of(double steps);

/// Brings records from one file's scale and offset to another's of the same layout. Exact to half a step, and wholly
/// where the offsets differ by whole steps of one scale. Throws OutOfRange.
void bring_to(const LasHeader& from, const LasHeader& to, std::string& records);

}  // namespace mesograph::cloud
