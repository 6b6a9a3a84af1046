#include <cpl_string.h>
#include <gdal_frmts.h>
#include <gdal_priv.h>
#include <tbb/task_arena.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/mosaic/mosaic_file.hpp>
#include <mesograph/surface/dataset.hpp>
#include <mutex>

namespace mesograph::mosaic {

namespace fs = std::filesystem;
using surface::Dataset;

namespace {

void prepare() {
  photo::prepare_gdal();
  static std::once_flag once;
  std::call_once(once, [] {
    GDALRegister_COG();
    GDALRegister_VRT();  // which COG parts colours and mask by
  });
}

/// Options of a driver, kept as long as they are needed.
class Options {
 public:
  explicit Options(const std::vector<std::string>& words) {
    for (const std::string& word : words) list_ = CSLAddString(list_, word.c_str());
  }
  ~Options() { CSLDestroy(list_); }
  Options(const Options&) = delete;
  Options& operator=(const Options&) = delete;
  char** get() const { return list_; }

 private:
  char** list_ = nullptr;
};

/// A file without a use once the dataset that was made of it stands.
class Waiting {
 public:
  explicit Waiting(fs::path path) : path_(std::move(path)) {}
  ~Waiting() {
    std::error_code ignored;
    fs::remove(path_, ignored);
  }
  Waiting(const Waiting&) = delete;
  Waiting& operator=(const Waiting&) = delete;
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
};

[[noreturn]] void refuse(const fs::path& path) {
  throw Error("{}: cannot be written; check space and permissions", path.string());
}

Dataset plain(const fs::path& path, const MosaicPlan& plan, const surface::Surface& of, int bands, GDALDataType type) {
  const Options options({"TILED=YES", "BLOCKXSIZE=512", "BLOCKYSIZE=512", "BIGTIFF=IF_SAFER", "SPARSE_OK=YES",
                         "INTERLEAVE=PIXEL", bands == 4 ? "ALPHA=YES" : "ALPHA=NO",
                         bands == 4 ? "PHOTOMETRIC=RGB" : "PHOTOMETRIC=MINISBLACK"});
  Dataset out(GetGDALDriverManager()->GetDriverByName("GTiff")->Create(path.c_str(), plan.grid.columns, plan.grid.rows,
                                                                       bands, type, options.get()));
  if (!out) refuse(path);
  const surface::Grid& g = plan.grid;
  double place[6] = {g.west / of.metres.x(), g.cell / of.metres.x(), 0, g.north / of.metres.y(), 0,
                     -g.cell / of.metres.y()};
  out->SetGeoTransform(place);
  if (!of.wkt.empty()) out->SetProjection(of.wkt.c_str());
  out->SetMetadataItem("AREA_OR_POINT", "Area");
  return out;
}

void put(GDALDataset& to, const fs::path& path, int band, const Tile& t, const void* values, GDALDataType type,
         int step) {
  const int size = GDALGetDataTypeSizeBytes(type);
  if (to.GetRasterBand(band)->RasterIO(GF_Write, t.first_col, t.first_row, t.columns, t.rows, const_cast<void*>(values),
                                       t.columns, t.rows, type, static_cast<GSpacing>(size) * step,
                                       static_cast<GSpacing>(size) * step * t.columns, nullptr) != CE_None)
    refuse(path);
}

void pack(const fs::path& path, const fs::path& from, const std::vector<std::string>& words) {
  std::vector<std::string> all = words;
  for (const char* word : {"BLOCKSIZE=512", "BIGTIFF=IF_SAFER", "GEOTIFF_VERSION=1.1"}) all.emplace_back(word);
  all.push_back(fmt::format("NUM_THREADS={}", tbb::this_task_arena::max_concurrency()));
  const Options options(all);
  const Dataset read(GDALDataset::Open(from.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY));
  const fs::path scratch = scratch_path(path);
  {
    const Dataset out(read ? GetGDALDriverManager()->GetDriverByName("COG")->CreateCopy(
                                 scratch.c_str(), read.get(), FALSE, options.get(), nullptr, nullptr)
                           : nullptr);
    if (!out) {
      drop_scratch(scratch);
      refuse(path);
    }
  }
  commit_file(scratch, path);
}

}  // namespace

void write_mosaic(const fs::path& path, const fs::path& source, const MosaicPlan& plan, const surface::Surface& of,
                  const MosaicFileOptions& options, const TileOf& tile_of) {
  prepare();
  std::error_code ignored;
  fs::create_directories(fs::absolute(path).parent_path(), ignored);
  const Waiting colours(scratch_path(path).string() + ".tif"), sources(scratch_path(source).string() + ".tif");
  {
    const Dataset rgba = plain(colours.path(), plan, of, 4, GDT_Byte),
                  from = plain(sources.path(), plan, of, 3, GDT_Float32);
    const std::array names = {"photo, by its number in seams.gpkg; 0: none", "angle to the vertical, degrees",
                              "standard deviation of the place, m"};
    for (int b = 0; b < 3; ++b) from->GetRasterBand(b + 1)->SetDescription(names[static_cast<std::size_t>(b)]);
    for (int row = 0; row < plan.tiles_down(); ++row)
      for (int col = 0; col < plan.tiles_across(); ++col) {
        const Tile t = tile_of(col, row);
        for (int b = 0; b < 4; ++b) put(*rgba, path, b + 1, t, t.rgba.data() + b, GDT_Byte, 4);
        std::vector<float> number(t.photo.size());
        for (std::size_t i = 0; i < number.size(); ++i) number[i] = static_cast<float>(t.photo[i] + 1);
        const auto known = [](std::vector<float> values) {
          for (float& v : values)
            if (!std::isfinite(v)) v = 0;
          return values;
        };
        const std::vector<float> angle = known(t.angle), sigma = known(t.sigma);
        put(*from, source, 1, t, number.data(), GDT_Float32, 1);
        put(*from, source, 2, t, angle.data(), GDT_Float32, 1);
        put(*from, source, 3, t, sigma.data(), GDT_Float32, 1);
      }
  }
  if (options.lossless)
    pack(path, colours.path(), {"COMPRESS=DEFLATE", "LEVEL=6", "PREDICTOR=STANDARD", "OVERVIEW_RESAMPLING=AVERAGE"});
  else
    pack(path, colours.path(),
         {"COMPRESS=JPEG", fmt::format("QUALITY={}", options.quality), "OVERVIEW_RESAMPLING=AVERAGE"});
  pack(source, sources.path(),
       {"COMPRESS=DEFLATE", "LEVEL=6", "PREDICTOR=FLOATING_POINT", "OVERVIEW_RESAMPLING=NEAREST"});
}

photo::Rgb read_reduced(const fs::path& path, int most_pixels) {
  prepare();
  const Dataset data(GDALDataset::Open(path.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY));
  if (!data) throw Error("{}: is no raster that can be read", path.string());
  const double scale =
      std::min(1.0, static_cast<double>(most_pixels) / std::max(data->GetRasterXSize(), data->GetRasterYSize()));
  const int w = std::max(1, static_cast<int>(scale * data->GetRasterXSize())),
            h = std::max(1, static_cast<int>(scale * data->GetRasterYSize()));
  photo::Rgb out(w, h, 3, 255);
  GDALRasterIOExtraArg how;
  INIT_RASTERIO_EXTRA_ARG(how);
  how.eResampleAlg = GRIORA_Average;
  std::vector<std::uint8_t> seen(static_cast<std::size_t>(w) * h);
  int bands[] = {1, 2, 3};
  if (data->RasterIO(GF_Read, 0, 0, data->GetRasterXSize(), data->GetRasterYSize(), out.data.data(), w, h, GDT_Byte, 3,
                     bands, 3, 3 * w, 1, &how) != CE_None ||
      data->GetRasterBand(1)->GetMaskBand()->RasterIO(GF_Read, 0, 0, data->GetRasterXSize(), data->GetRasterYSize(),
                                                      seen.data(), w, h, GDT_Byte, 0, 0, nullptr) != CE_None)
    throw Error("{}: is damaged; make it again", path.string());
  for (std::size_t i = 0; i < seen.size(); ++i)
    if (seen[i] == 0) out.data[3 * i] = out.data[3 * i + 1] = out.data[3 * i + 2] = 255;
  return out;
}

}  // namespace mesograph::mosaic
