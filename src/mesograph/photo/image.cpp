#include <cpl_conv.h>
#include <cpl_error.h>
#include <gdal_frmts.h>
#include <gdal_priv.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/photo/image.hpp>
#include <mutex>
#include <string>
#include <string_view>

namespace mesograph::photo {

void prepare_gdal() {
  static std::once_flag once;
  std::call_once(once, [] {
    CPLSetConfigOption("GDAL_PAM_ENABLED", "NO");                 // no .aux.xml beside photos
    CPLSetConfigOption("GDAL_ERROR_ON_LIBJPEG_WARNING", "TRUE");  // a truncated JPEG must not pass
    CPLSetConfigOption("PROJ_NETWORK", "OFF");
    GDALRegister_GTiff();
    GDALRegister_JPEG();
    GDALRegister_PNG();
    GDALRegister_MEM();
    CPLSetErrorHandler(CPLQuietErrorHandler);
    GDALSetCacheMax64(128 << 20);  // blocks of rasters: what work needs, not a share of the machine
  });
}

namespace {

struct Close {
  void operator()(GDALDataset* dataset) const { GDALClose(dataset); }
};
using Dataset = std::unique_ptr<GDALDataset, Close>;

Dataset open_photo(const std::filesystem::path& path) {
  prepare_gdal();
  if (std::error_code gone; !std::filesystem::exists(path, gone))
    throw Error("{}: is not there any more; admit --photos FOLDER finds photos that were moved", path.string());
  const char* const drivers[] = {"JPEG", "PNG", "GTiff", nullptr};
  Dataset dataset(GDALDataset::Open(path.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY, drivers));
  if (!dataset || dataset->GetRasterCount() < 1)
    throw Error("{}: is not a readable JPEG, PNG or TIFF photo; check the file", path.string());
  const double megapixels = 1e-6 * dataset->GetRasterXSize() * dataset->GetRasterYSize();
  if (megapixels > most_megapixels)
    throw Error("{}: claims {} x {} pixels, more than any camera takes; check the file", path.string(),
                dataset->GetRasterXSize(), dataset->GetRasterYSize());
  const GDALDataType type = dataset->GetRasterBand(1)->GetRasterDataType();
  if (type != GDT_Byte && type != GDT_UInt16)
    throw Error("{}: has pixels of type {}; save it with 8 or 16 bits a channel, unsigned", path.string(),
                GDALGetDataTypeName(type));
  return dataset;
}

/// Rows [first, first + rows) as T, their first w pixels, the first three bands or the first one three times.
template <typename T>
void read_rows(GDALDataset& dataset, GDALDataType type, int first, int w, int rows, T* pixels,
               const std::filesystem::path& path) {
  const int bands = dataset.GetRasterCount();
  std::array<int, 3> order = {1, bands >= 3 ? 2 : 1, bands >= 3 ? 3 : 1};
  const GSpacing size = sizeof(T);
  const CPLErr status = dataset.RasterIO(GF_Read, 0, first, w, rows, pixels, w, rows, type, 3, order.data(), 3 * size,
                                         3 * size * w, size, nullptr);
  if (status != CE_None) throw Error("{}: is truncated or damaged; copy it again from the camera", path.string());
}

constexpr int strip = 256;  // rows; a multiple of what JPEG and most tiles hold

bool is_wide(GDALDataset& dataset) { return dataset.GetRasterBand(1)->GetRasterDataType() == GDT_UInt16; }

/// What each of 65,536 levels becomes.
std::vector<std::uint8_t> narrowing(const Tone& tone) {
  std::vector<std::uint8_t> out(65536);
  const double range = std::max(1.0, tone.high - tone.low);
  for (std::size_t v = 0; v < out.size(); ++v)
    out[v] = static_cast<std::uint8_t>(
        std::lround(std::clamp((static_cast<double>(v) - tone.low) * 255 / range, 0.0, 255.0)));
  return out;
}

/// A photo at 1/2^level of its size as the decoder makes it; null where it does not. Of JPEG, whose blocks of 8 x 8
/// become 4, 2 or 1 pixels by inverse transforms of as few terms: box means to half a grey level, for two thirds of the
/// time and a quarter of the memory at half size. Photos too small for all three would show their EXIF thumbnail.
GDALDataset* reduced(GDALDataset& photo, int level) {
  constexpr int least_side = 1024, most_level = 3;
  const int longer = std::max(photo.GetRasterXSize(), photo.GetRasterYSize());
  if (level < 1 || level > most_level || longer < least_side || photo.GetDriver() == nullptr ||
      std::string_view(photo.GetDriver()->GetDescription()) != "JPEG")
    return nullptr;
  GDALRasterBand* band = photo.GetRasterBand(1);
  GDALRasterBand* small = level <= band->GetOverviewCount() ? band->GetOverview(level - 1) : nullptr;
  const int part = 1 << level;
  if (small == nullptr || small->GetXSize() != (photo.GetRasterXSize() + part - 1) / part) return nullptr;
  return small->GetDataset();
}

/// Hands the photo over in strips of rows, 8 bits a channel, at 1/2^level of its size or as near to that as the decoder
/// comes: see(size, first row, rows, pixels). Gives the level.
template <typename See>
int read_strips(const std::filesystem::path& path, int level, const Tone& tone, const See& see) {
  const Dataset photo = open_photo(path);
  GDALDataset* dataset = reduced(*photo, std::min(level, 3));
  const int reached = dataset != nullptr ? std::min(level, 3) : 0;
  if (dataset == nullptr) dataset = photo.get();
  const int w = photo->GetRasterXSize() >> reached, h = photo->GetRasterYSize() >> reached;
  const bool wide = is_wide(*dataset);
  const std::vector<std::uint8_t> narrow = wide ? narrowing(tone) : std::vector<std::uint8_t>();
  const std::size_t row = static_cast<std::size_t>(w) * 3;
  std::vector<std::uint8_t> narrow_pixels(row * std::min(strip, h));
  std::vector<std::uint16_t> wide_pixels(wide ? narrow_pixels.size() : 0);
  for (int first = 0; first < h; first += strip) {
    const int rows = std::min(strip, h - first);
    if (wide) {
      read_rows(*dataset, GDT_UInt16, first, w, rows, wide_pixels.data(), path);
      for (std::size_t i = 0; i < row * rows; ++i) narrow_pixels[i] = narrow[wide_pixels[i]];
    } else {
      read_rows(*dataset, GDT_Byte, first, w, rows, narrow_pixels.data(), path);
    }
    see(PhotoSize{w, h}, first, rows, narrow_pixels.data());
  }
  return reached;
}

float grey_of(const std::uint8_t* p, Band band) {
  if (band == Band::red_green) return 127.5f + static_cast<float>(p[0] - p[1]);
  if (band == Band::red_blue) return 127.5f + static_cast<float>(p[0] - p[2]);
  return 0.299f * static_cast<float>(p[0]) + 0.587f * static_cast<float>(p[1]) + 0.114f * static_cast<float>(p[2]);
}

Rgb half(const Rgb& image) {
  Rgb out(image.width / 2, image.height / 2, 3);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col)
      for (int ch = 0; ch < 3; ++ch) {
        const int sum = image.at(2 * col, 2 * row, ch) + image.at(2 * col + 1, 2 * row, ch) +
                        image.at(2 * col, 2 * row + 1, ch) + image.at(2 * col + 1, 2 * row + 1, ch);
        out.at(col, row, ch) = static_cast<std::uint8_t>((sum + 2) / 4);
      }
  return out;
}

Dataset in_memory(const Rgb& image) {
  prepare_gdal();
  Dataset memory(
      GetGDALDriverManager()->GetDriverByName("MEM")->Create("", image.width, image.height, 3, GDT_Byte, nullptr));
  if (!memory || memory->RasterIO(GF_Write, 0, 0, image.width, image.height,
                                  const_cast<std::uint8_t*>(image.data.data()), image.width, image.height, GDT_Byte, 3,
                                  nullptr, 3, static_cast<GSpacing>(image.width) * 3, 1, nullptr) != CE_None)
    throw Error("an image of {} x {} pixels does not fit into memory; free some", image.width, image.height);
  return memory;
}

void write_with(const char* driver, const std::filesystem::path& path, const Rgb& image, char** options) {
  const Dataset memory = in_memory(image);
  std::filesystem::create_directories(path.parent_path());
  const std::filesystem::path scratch = scratch_path(path);
  {
    const Dataset out(GetGDALDriverManager()->GetDriverByName(driver)->CreateCopy(scratch.c_str(), memory.get(), FALSE,
                                                                                  options, nullptr, nullptr));
    if (!out) {
      drop_scratch(scratch);
      throw Error("{}: cannot be written; check space and permissions", path.string());
    }
  }
  commit_file(scratch, path);
}

}  // namespace

PhotoSize read_size(const std::filesystem::path& path) {
  const Dataset dataset = open_photo(path);
  return {dataset->GetRasterXSize(), dataset->GetRasterYSize()};
}

std::optional<Tone> levels_of(const std::filesystem::path& path) {
  const Dataset dataset = open_photo(path);
  if (!is_wide(*dataset)) return std::nullopt;
  const int w = dataset->GetRasterXSize(), h = dataset->GetRasterYSize();
  std::vector<std::uint64_t> counts(65536, 0);
  std::vector<std::uint16_t> pixels(static_cast<std::size_t>(w) * 3 * std::min(strip, h));
  for (int first = 0; first < h; first += strip) {
    const int rows = std::min(strip, h - first);
    read_rows(*dataset, GDT_UInt16, first, w, rows, pixels.data(), path);
    for (std::size_t i = 0; i < static_cast<std::size_t>(w) * 3 * rows; ++i) ++counts[pixels[i]];
  }
  const auto tail = static_cast<std::uint64_t>(w) * h * 3 / 1000;
  Tone out;
  std::uint64_t below = 0, above = 0;
  std::size_t low = 0, high = counts.size() - 1;
  while (low < high && (below += counts[low]) <= tail) ++low;
  while (high > low && (above += counts[high]) <= tail) --high;
  out.low = static_cast<double>(low), out.high = static_cast<double>(high);
  return out;
}

Tone common_tone(const std::vector<Tone>& levels) {
  if (levels.empty()) return {};
  std::vector<double> lows, highs;
  for (const Tone& t : levels) lows.push_back(t.low), highs.push_back(t.high);
  std::sort(lows.begin(), lows.end()), std::sort(highs.begin(), highs.end());
  const std::size_t odd = levels.size() / 20;
  const Tone out{lows[odd], highs[highs.size() - 1 - odd]};
  return out.high > out.low ? out : Tone{out.low, out.low + 1};
}

Rgb read_rgb(const std::filesystem::path& path, int level, const Tone& tone) {
  Rgb image;
  const auto keep = [&](PhotoSize size, int first, int rows, const std::uint8_t* pixels) {
    if (image.data.empty()) image = Rgb(size.width, size.height, 3);
    const std::size_t row = static_cast<std::size_t>(size.width) * 3;
    std::copy_n(pixels, row * rows, image.data.begin() + static_cast<std::ptrdiff_t>(row * first));
  };
  for (int i = read_strips(path, level, tone, keep); i < level; ++i) image = half(image);
  return image;
}

Grey read_grey(const std::filesystem::path& path, int level, const Tone& tone, Band band) {
  Grey grey;
  if (level == 0) {  // a large photo is never in memory in colour
    read_strips(path, 0, tone, [&](PhotoSize size, int first, int rows, const std::uint8_t* pixels) {
      if (grey.data.empty()) grey = Grey(size.width, size.height);
      float* to = &grey.at(0, first);
      for (std::size_t i = 0; i < static_cast<std::size_t>(size.width) * rows; ++i)
        to[i] = grey_of(pixels + 3 * i, band);
    });
    return grey;
  }
  const Rgb rgb = read_rgb(path, level, tone);
  grey = Grey(rgb.width, rgb.height);
  for (std::size_t i = 0; i < grey.data.size(); ++i) grey.data[i] = grey_of(rgb.data.data() + 3 * i, band);
  return grey;
}

void write_jpeg(const std::filesystem::path& path, const Rgb& image, int quality) {
  char** options = CSLSetNameValue(nullptr, "QUALITY", std::to_string(quality).c_str());
  write_with("JPEG", path, image, options);
  CSLDestroy(options);
}

std::string jpeg_bytes(const Rgb& image, int quality) {
  const Dataset memory = in_memory(image);
  const std::string name = fmt::format("/vsimem/jpeg-{}", static_cast<const void*>(&image));  // its own while it lives
  char** options = CSLSetNameValue(nullptr, "QUALITY", std::to_string(quality).c_str());
  const bool made = Dataset(GetGDALDriverManager()->GetDriverByName("JPEG")->CreateCopy(
                        name.c_str(), memory.get(), FALSE, options, nullptr, nullptr)) != nullptr;
  CSLDestroy(options);
  vsi_l_offset size = 0;
  GByte* bytes = made ? VSIGetMemFileBuffer(name.c_str(), &size, TRUE) : nullptr;
  if (!bytes) throw Error("a picture of {} x {} pixels cannot be made a JPEG", image.width, image.height);
  std::string out(reinterpret_cast<const char*>(bytes), size);
  VSIFree(bytes);
  return out;
}

void write_png(const std::filesystem::path& path, const Rgb& image) { write_with("PNG", path, image, nullptr); }

}  // namespace mesograph::photo
