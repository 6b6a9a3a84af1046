#pragma once

#include <array>
#include <cstdint>
#include <filesystem>
#include <mesograph/base/fields.hpp>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace mesograph::photo {

/// Pixels row by row, channels interleaved; pixel (col, row) covers [col, col+1) x [row, row+1) in image coordinates.
template <typename T>
struct Raster {
  int width = 0, height = 0, channels = 1;
  std::vector<T> data;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("width", s.width), visit("height", s.height), visit("channels", s.channels), visit("data", s.data);
  }
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
/// A file may claim any size; no camera takes more pixels than this, and memory for them is there.
inline constexpr double most_megapixels = 600;
/// Size of a photo without decoding it. Throws Error where it is no JPEG, PNG or TIFF of 8 or 16 bits unsigned, or
/// claims more than most_megapixels.
PhotoSize read_size(const std::filesystem::path& path);

/// How 16 bits become the 8 that everything works on: low and below are 0, high and above 255, in between linear.
/// Cameras fill 10, 12 or 14 of the 16 bits, thermal ones a small part far from nought. Photos of 8 bits are taken as
/// they are.
struct Tone {
  double low = 0, high = 65535;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("low", s.low), visit("high", s.high);
  }
  bool operator==(const Tone&) const = default;
};
/// The levels between which all but one in a thousand pixels of a photo of 16 bits lie at each end; nothing for one of
/// 8 bits. Throws Error as read_grey does.
std::optional<Tone> levels_of(const std::filesystem::path& path);
/// One law for photos that belong together, from the levels of each: the least and the greatest, but for one photo in
/// twenty at each end. Law: no photo of an even sortie is clipped by more than its own thousandth.
Tone common_tone(const std::vector<Tone>& levels);

/// What of a photo's colours becomes grey levels.
enum class Band {
  luma,       ///< ITU-R BT.601
  red_green,  ///< red less green, 127.5 where they are alike: paint stands out that is as light as its ground, and the
              ///< ground's own light and dark cancel
  red_blue    ///< red less blue, likewise
};
inline constexpr std::array bands = {Band::luma, Band::red_green, Band::red_blue};
constexpr std::array<std::string_view, 3> words(Band) { return {"luma", "red-green", "red-blue"}; }

/// All pixels in grey / in colour, at 1/2^level of the size, rounded down (means of boxes). Throws Error where the file
/// is damaged. Accuracy: to the rounding of eight bits; reduced photos that the JPEG decoder makes itself differ from
/// means of boxes by half a grey level. Cost: of a JPEG at half, a quarter, an eighth of its size 0.7, 0.6, 0.4 times
/// the time that all pixels take; other files are decoded whole.
Grey read_grey(const std::filesystem::path& path, int level = 0, const Tone& tone = {}, Band band = Band::luma);
Rgb read_rgb(const std::filesystem::path& path, int level = 0, const Tone& tone = {});

void write_jpeg(const std::filesystem::path& path, const Rgb& image, int quality);
/// A JPEG as bytes. Throws Error where it cannot be made.
std::string jpeg_bytes(const Rgb& image, int quality);
void write_png(const std::filesystem::path& path, const Rgb& image);

}  // namespace mesograph::photo
