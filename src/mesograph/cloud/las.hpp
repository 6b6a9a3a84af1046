#pragma once

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace mesograph::cloud {

/// A point as a LAS file of ours holds it, in the survey CRS.
struct LasPoint {
  Eigen::Vector3d X;  ///< east, north, height
  std::array<std::uint8_t, 3> colour;
  std::uint8_t rays = 0;
  float sigma_match = 0;  ///< m, of the height, by matching alone
  float sigma_z = 0;      ///< m, with the block's part
};

/// Writes LAS 1.4, point data record format 7, in one step. Header 375 bytes, WKT (global encoding bit 4) in a
/// LASF_Projection/2112 record, extra bytes `rays` (unsigned char), `sigma_match` and `sigma_z` (float, m) described in
/// LASF_Spec/4. Return 1 of 1, GPS time 0, class 1, colours x 256; scale 0.001 (coarser only where the extent needs
/// it), offsets whole metres near the data; bounds are those of the stored integers. No dates: the same points give the
/// same bytes. Source: ASPRS LAS 1.4 R15. Throws Error where the disk refuses, with nothing left behind.
void write_las(const std::filesystem::path& path, const std::vector<LasPoint>& points, const std::string& wkt);

}  // namespace mesograph::cloud
