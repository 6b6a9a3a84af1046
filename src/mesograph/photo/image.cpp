#include <cpl_conv.h>
#include <cpl_error.h>
#include <gdal_frmts.h>
#include <gdal_priv.h>

#include <array>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/photo/image.hpp>
#include <mutex>
#include <string>

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
  });
}

namespace {

struct Close {
  void operator()(GDALDataset* dataset) const { GDALClose(dataset); }
};
using Dataset = std::unique_ptr<GDALDataset, Close>;

Dataset open_photo(const std::filesystem::path& path) {
  prepare_gdal();
  const char* const drivers[] = {"JPEG", "PNG", "GTiff", nullptr};
  Dataset dataset(GDALDataset::Open(path.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY, drivers));
  if (!dataset || dataset->GetRasterCount() < 1)
    throw Error("{}: is not a readable JPEG, PNG or TIFF photo; check the file", path.string());
  return dataset;
}

/// All pixels as T, the first three bands or the first one three times.
template <typename T>
std::vector<T> read_bands(GDALDataset& dataset, GDALDataType type, const std::filesystem::path& path) {
  const int bands = dataset.GetRasterCount(), w = dataset.GetRasterXSize(), h = dataset.GetRasterYSize();
  std::array<int, 3> order = {1, bands >= 3 ? 2 : 1, bands >= 3 ? 3 : 1};
  std::vector<T> pixels(static_cast<std::size_t>(w) * h * 3);
  const GSpacing size = sizeof(T);
  const CPLErr status = dataset.RasterIO(GF_Read, 0, 0, w, h, pixels.data(), w, h, type, 3, order.data(), 3 * size,
                                         3 * size * w, size, nullptr);
  if (status != CE_None) throw Error("{}: is truncated or damaged; copy it again from the camera", path.string());
  return pixels;
}

Rgb read_full(const std::filesystem::path& path) {
  const Dataset dataset = open_photo(path);
  Rgb image;
  image.width = dataset->GetRasterXSize(), image.height = dataset->GetRasterYSize(), image.channels = 3;
  if (dataset->GetRasterBand(1)->GetRasterDataType() == GDT_UInt16) {
    // 16 bits to 8 by their full range: 65535 = 255 x 257.
    const std::vector<std::uint16_t> wide = read_bands<std::uint16_t>(*dataset, GDT_UInt16, path);
    image.data.resize(wide.size());
    for (std::size_t i = 0; i < wide.size(); ++i) image.data[i] = static_cast<std::uint8_t>((wide[i] + 128) / 257);
  } else {
    image.data = read_bands<std::uint8_t>(*dataset, GDT_Byte, path);
  }
  return image;
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

void write_with(const char* driver, const std::filesystem::path& path, const Rgb& image, char** options) {
  prepare_gdal();
  GDALDriverManager* manager = GetGDALDriverManager();
  const Dataset memory(manager->GetDriverByName("MEM")->Create("", image.width, image.height, 3, GDT_Byte, nullptr));
  const CPLErr filled = memory->RasterIO(GF_Write, 0, 0, image.width, image.height,
                                         const_cast<std::uint8_t*>(image.data.data()), image.width, image.height,
                                         GDT_Byte, 3, nullptr, 3, static_cast<GSpacing>(image.width) * 3, 1, nullptr);
  std::filesystem::create_directories(path.parent_path());
  const std::filesystem::path scratch = scratch_path(path);
  {
    const Dataset out(
        manager->GetDriverByName(driver)->CreateCopy(scratch.c_str(), memory.get(), FALSE, options, nullptr, nullptr));
    if (filled != CE_None || !out) throw Error("{}: cannot be written; check space and permissions", path.string());
  }
  commit_file(scratch, path);
}

}  // namespace

PhotoSize read_size(const std::filesystem::path& path) {
  const Dataset dataset = open_photo(path);
  return {dataset->GetRasterXSize(), dataset->GetRasterYSize()};
}

Rgb read_rgb(const std::filesystem::path& path, int level) {
  Rgb image = read_full(path);
  for (int i = 0; i < level; ++i) image = half(image);
  return image;
}

Grey read_grey(const std::filesystem::path& path, int level) {
  const Rgb rgb = read_rgb(path, level);
  Grey grey(rgb.width, rgb.height);
  for (std::size_t i = 0; i < grey.data.size(); ++i) {
    const std::uint8_t* p = rgb.data.data() + 3 * i;
    grey.data[i] =
        0.299f * static_cast<float>(p[0]) + 0.587f * static_cast<float>(p[1]) + 0.114f * static_cast<float>(p[2]);
  }
  return grey;
}

void write_jpeg(const std::filesystem::path& path, const Rgb& image, int quality) {
  char** options = CSLSetNameValue(nullptr, "QUALITY", std::to_string(quality).c_str());
  write_with("JPEG", path, image, options);
  CSLDestroy(options);
}

void write_png(const std::filesystem::path& path, const Rgb& image) { write_with("PNG", path, image, nullptr); }

}  // namespace mesograph::photo
