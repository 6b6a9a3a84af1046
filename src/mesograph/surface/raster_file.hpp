#pragma once

#include <filesystem>
#include <mesograph/surface/grid.hpp>

namespace mesograph::surface {

/// A height raster as cloud-optimised GeoTIFF: float32, DEFLATE with predictor 3, overviews by mean, pixel is area, the
/// surface's CRS with its heights, band named and in the CRS's unit of height, no-data -9999. Beside it, named after
/// it,
/// `_sigma` (standard deviation, and points in the cell) and `_mask` (bytes: 0 empty, 1 measured, 2 filled, 3 water).
/// Returns the three paths. The same surface gives the same bytes. Throws Error where the disk refuses.
/// Exact: float32 as computed, in metres; in other units to its rounding. Cost: packing; the surface is used up, layer
/// by layer, so that no second one needs room.
std::vector<std::filesystem::path> write_surface(const std::filesystem::path& path, Surface&& surface);

/// One band of floats over a grid, likewise; NaN becomes no-data.
void write_layer(const std::filesystem::path& path, const Surface& of, const std::vector<float>& values,
                 const std::string& name, const std::string& unit);

/// A raster of heights that anybody wrote, with `_sigma` and `_mask` where they lie beside it; without, sigma is NaN.
/// Throws Error where it is no raster of one band with square cells, north up, or has no place.
Surface read_surface(const std::filesystem::path& path);

/// Whether two surfaces count places and heights alike; one that names no CRS is taken to be like the other.
bool same_crs(const Surface& a, const Surface& b);

}  // namespace mesograph::surface
