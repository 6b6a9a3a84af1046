#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace mesograph::photo {

/// Pixels row by row, channels interleaved; pixel (col, row) covers [col, col+1) x [row, row+1) in image coordinates.
template <typename T>
struct Raster {
  int width = 0, height = 0, channels = 1;
  std::vector<T> data;

  Raster() = default;
  Raster(int w, int h, int ch = 1, T fill = T{})
      : width(w), height(h), channels(ch), data(static_cast<std::size_t>(w) * h * ch, fill) {}
  T& at(int col, int row, int channel = 0) {
    return data[(static_cast<std::size_t>(row) * width + col) * channels + channel];
  }
  const T& at(int col, int row, int channel = 0) const {
    return data[(static_cast<std::size_t>(row) * width + col) * channels + channel];
  }
};
using Grey = Raster<float>;        ///< grey levels 0 to 255
using Rgb = Raster<std::uint8_t>;  ///< three channels

/// Registers the raster drivers that may open a photo, once, and GDAL's settings for all of the program.
void prepare_gdal();

struct PhotoSize {
  int width = 0, height = 0;
};
/// Size of a photo without decoding it. Throws Error where it is no JPEG, PNG or TIFF.
PhotoSize read_size(const std::filesystem::path& path);
/// All pixels in grey / in colour, at 1/2^level of the size (box mean). Throws Error where the file is damaged.
Grey read_grey(const std::filesystem::path& path, int level = 0);
Rgb read_rgb(const std::filesystem::path& path, int level = 0);

void write_jpeg(const std::filesystem::path& path, const Rgb& image, int quality);
/// A JPEG as bytes. Throws Error where it cannot be made.
std::string jpeg_bytes(const Rgb& image, int quality);
void write_png(const std::filesystem::path& path, const Rgb& image);

}  // namespace mesograph::photo
