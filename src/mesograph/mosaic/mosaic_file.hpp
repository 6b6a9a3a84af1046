#pragma once

#include <filesystem>
#include <functional>
#include <mesograph/mosaic/tile.hpp>

namespace mesograph::mosaic {

struct MosaicFileOptions {
  bool lossless = false;  ///< DEFLATE instead of JPEG, and empty cells in a fourth band instead of a mask
  bool deep = false;      ///< 16 bits a band, 256 to a level, so that blending rounds nothing; lossless
  int quality = 90;       ///< of JPEG
};

/// Hands the tiles out one after the other, across and down.
using TileOf = std::function<Tile(int tile_col, int tile_row)>;

/// The mosaic as a cloud-optimised GeoTIFF with overviews, its empty cells in a mask, in the CRS of `of`; beside it
/// `source` (empty: none) with four bands: the photo's number in its list (0: none), the angle of its ray to the
/// vertical (degrees), the standard deviation of the place (m; 0: not known), and 1 where the cell is filled. Memory: a
/// tile; both wait as plain files beside until they are packed. Throws Error where the disk refuses; then neither is
/// there. The same tiles give the same bytes.
/// Accuracy: exact without loss; JPEG of quality 90 changed levels of the demo by 1.5 in the mean, by 4 or less in 95
/// %. Cost: each tile written, read and packed once, on all threads.
void write_mosaic(const std::filesystem::path& path, const std::filesystem::path& source, const MosaicPlan& plan,
                  const surface::Surface& of, const MosaicFileOptions& options, const TileOf& tile_of);

/// The mosaic at a fraction of its size, for pictures: levels at every so many-th cell of `path`, empty cells white.
photo::Rgb read_reduced(const std::filesystem::path& path, int most_pixels);
/// A part of it, cell by cell; empty cells are black. It must lie within the mosaic.
photo::Rgb read_part(const std::filesystem::path& path, int col, int row, int columns, int rows);

}  // namespace mesograph::mosaic
