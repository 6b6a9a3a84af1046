#pragma once

#include <array>
#include <filesystem>
#include <string_view>

namespace mesograph::mosaic {

/// Tiles for web maps, of 256 pixels in the web's Mercator projection (EPSG:3857), over all levels of detail.
enum class MapTiles { none, mbtiles, gpkg };
constexpr std::array<std::string_view, 3> words(MapTiles) { return {"none", "mbtiles", "gpkg"}; }

/// Writes a mosaic's map tiles beside it, and says where: MBTiles, or the tiles of a GeoPackage (OGC 12-128). Throws
/// Error where its CRS has no way to the map's, or the disk refuses. Accuracy: cells are moved by bilinear
/// interpolation, by half a cell at most; JPEG where all is seen, else PNG. Cost: GDAL's warper, on all threads.
std::filesystem::path write_map_tiles(const std::filesystem::path& mosaic, MapTiles kind);

}  // namespace mesograph::mosaic
