#pragma once

#include <mesograph/photo/image.hpp>
#include <string>

namespace mesograph::photo {

/// Values of any number of channels as a float GeoTIFF without a place, NaN as its no-data; `words` describe it.
/// Exact: float32 as given, without loss.
void write_tif(const std::filesystem::path& path, const Raster<float>& values, const std::string& words);

}  // namespace mesograph::photo
