#include <cpl_string.h>
#include <gdal_priv.h>

#include <limits>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/photo/float_tif.hpp>

namespace mesograph::photo {

void write_tif(const std::filesystem::path& path, const Raster<float>& values, const std::string& words) {
  prepare_gdal();
  std::error_code ignored;
  std::filesystem::create_directories(std::filesystem::absolute(path).parent_path(), ignored);
  const std::filesystem::path scratch = scratch_path(path);
  char** options = nullptr;
  for (const char* option : {"COMPRESS=DEFLATE", "PREDICTOR=3", "TILED=YES"}) options = CSLAddString(options, option);
  GDALDataset* out = GetGDALDriverManager()->GetDriverByName("GTiff")->Create(
      scratch.c_str(), values.width, values.height, values.channels, GDT_Float32, options);
  CSLDestroy(options);
  if (!out) throw Error("{}: cannot be written; check space and permissions", path.string());
  out->SetMetadataItem("TIFFTAG_IMAGEDESCRIPTION", words.c_str());
  std::vector<float> band(static_cast<std::size_t>(values.width) * values.height);
  CPLErr status = CE_None;
  for (int ch = 0; ch < values.channels; ++ch) {
    for (std::size_t i = 0; i < band.size(); ++i) band[i] = values.data[i * values.channels + ch];
    GDALRasterBand* to = out->GetRasterBand(ch + 1);
    to->SetNoDataValue(std::numeric_limits<double>::quiet_NaN());
    if (to->RasterIO(GF_Write, 0, 0, values.width, values.height, band.data(), values.width, values.height, GDT_Float32,
                     0, 0, nullptr) != CE_None)
      status = CE_Failure;
  }
  GDALClose(out);
  if (status != CE_None) {
    drop_scratch(scratch);
    throw Error("{}: cannot be written; check space", path.string());
  }
  commit_file(scratch, path);
}

}  // namespace mesograph::photo
