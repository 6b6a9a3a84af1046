#include <gdal_frmts.h>
#include <gdal_priv.h>
#include <tbb/task_arena.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/mosaic/mosaic_file.hpp>
#include <mesograph/surface/dataset.hpp>
#include <mesograph/surface/driver_options.hpp>
#include <mutex>

namespace mesograph::mosaic {

namespace fs = std::filesystem;
using surface::Dataset;
using surface::DriverOptions;

namespace {

void prepare() {
  photo::prepare_gdal();
  static std::once_flag once;
  std::call_once(once, [] {
    GDALRegister_COG();
    GDALRegister_VRT();  // which COG parts colours and mask by
  });
}

/// A file without a use once the dataset that was made of it stands, or the program is interrupted.
class Waiting {
 public:
  explicit Waiting(const std::string& beside) : path_(scratch_path(beside)) {}
  ~Waiting() { drop_scratch(path_); }
  Waiting(const Waiting&) = delete;
  Waiting& operator=(const Waiting&) = delete;
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
};

[[noreturn]] void refuse(const fs::path& path) {
  throw Error("{}: cannot be written; check space and permissions", path.string());
}

/// What the picture is, for whoever opens it.
std::string description_of(const surface::Surface& of) {
  if (of.kind == "top") return "Orthomosaic over the top surface: what stands on the ground stands upright";
  if (of.kind == "ground")
    return "Orthomosaic over the ground surface: what stands on the ground leans away from the photos' places";
  return "Orthomosaic over a given surface: what is not part of it leans away from the photos' places";
}

enum class Holds { colours, sources };

Dataset plain(const fs::path& path, const MosaicPlan& plan, const surface::Surface& of, Holds holds,
              GDALDataType type) {
  constexpr int bands = 4;
  const bool colours = holds == Holds::colours;
  const DriverOptions options({"TILED=YES", "BLOCKXSIZE=512", "BLOCKYSIZE=512", "BIGTIFF=IF_SAFER", "SPARSE_OK=YES",
                               "INTERLEAVE=PIXEL", colours ? "ALPHA=YES" : "ALPHA=NO",
                               colours ? "PHOTOMETRIC=RGB" : "PHOTOMETRIC=MINISBLACK"});
  Dataset out(GetGDALDriverManager()->GetDriverByName("GTiff")->Create(path.c_str(), plan.grid.columns, plan.grid.rows,
                                                                       bands, type, options.get()));
  if (!out) refuse(path);
  const surface::Grid& g = plan.grid;
  double place[6] = {g.west / of.metres.x(), g.cell / of.metres.x(), 0, g.north / of.metres.y(), 0,
                     -g.cell / of.metres.y()};
  out->SetGeoTransform(place);
  if (!of.wkt.empty()) out->SetProjection(of.wkt.c_str());
  out->SetMetadataItem("AREA_OR_POINT", "Area");
  if (holds == Holds::colours) out->SetMetadataItem("TIFFTAG_IMAGEDESCRIPTION", description_of(of).c_str());
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
  const DriverOptions options(all);
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

namespace {

void put_colours(GDALDataset& to, const fs::path& path, const Tile& t) {
  if (t.deep.empty()) {
    for (int b = 0; b < 4; ++b) put(to, path, b + 1, t, t.rgba.data() + b, GDT_Byte, 4);
    return;
  }
  for (int b = 0; b < 3; ++b) put(to, path, b + 1, t, t.deep.data() + b, GDT_UInt16, 3);
  std::vector<std::uint16_t> alpha(t.photo.size());
  for (std::size_t i = 0; i < alpha.size(); ++i) alpha[i] = t.rgba[4 * i + 3] != 0 ? 65535 : 0;
  put(to, path, 4, t, alpha.data(), GDT_UInt16, 1);
}

void put_sources(GDALDataset& to, const fs::path& path, const Tile& t) {
  std::vector<float> number(t.photo.size()), filled(t.filled.begin(), t.filled.end());
  for (std::size_t i = 0; i < number.size(); ++i) number[i] = static_cast<float>(t.photo[i] + 1);
  const auto known = [](std::vector<float> values) {
    for (float& v : values)
      if (!std::isfinite(v)) v = 0;
    return values;
  };
  const std::array bands = {std::move(number), known(t.angle), known(t.sigma), std::move(filled)};
  for (std::size_t b = 0; b < bands.size(); ++b)
    put(to, path, static_cast<int>(b) + 1, t, bands[b].data(), GDT_Float32, 1);
}

std::vector<std::string> packing(const MosaicFileOptions& options) {
  if (options.deep || options.lossless)
    return {"COMPRESS=DEFLATE", "LEVEL=6", "PREDICTOR=STANDARD", "OVERVIEW_RESAMPLING=AVERAGE"};
  return {"COMPRESS=JPEG", fmt::format("QUALITY={}", options.quality), "OVERVIEW_RESAMPLING=AVERAGE"};
}

Dataset opened(const fs::path& path) {
  prepare();
  Dataset data(GDALDataset::Open(path.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY));
  if (!data) throw Error("{}: is no raster that can be read", path.string());
  return data;
}

/// Colours of a window of a dataset, scaled to a size; empty cells get `empty`. 16 bits become 8.
photo::Rgb colours_of(GDALDataset& data, const fs::path& path, int col, int row, int columns, int rows, int w, int h,
                      std::uint8_t empty) {
  photo::Rgb out(w, h, 3, empty);
  GDALRasterIOExtraArg how;
  INIT_RASTERIO_EXTRA_ARG(how);
  how.eResampleAlg = GRIORA_Average;
  std::vector<std::uint8_t> seen(static_cast<std::size_t>(w) * h);
  const bool deep = data.GetRasterBand(1)->GetRasterDataType() == GDT_UInt16;
  std::vector<std::uint16_t> levels(out.data.size());
  int bands[] = {1, 2, 3};
  if (data.RasterIO(GF_Read, col, row, columns, rows, levels.data(), w, h, GDT_UInt16, 3, bands, 6,
                    6 * static_cast<GSpacing>(w), 2, &how) != CE_None ||
      data.GetRasterBand(1)->GetMaskBand()->RasterIO(GF_Read, col, row, columns, rows, seen.data(), w, h, GDT_Byte, 0,
                                                     0, nullptr) != CE_None)
    throw Error("{}: is damaged; make it again", path.string());
  for (std::size_t i = 0; i < levels.size(); ++i)
    if (seen[i / 3] != 0) out.data[i] = static_cast<std::uint8_t>(deep ? levels[i] >> 8 : levels[i]);
  return out;
}

}  // namespace

void write_mosaic(const fs::path& path, const fs::path& source, const MosaicPlan& plan, const surface::Surface& of,
                  const MosaicFileOptions& options, const TileOf& tile_of) {
  prepare();
  std::error_code ignored;
  fs::create_directories(fs::absolute(path).parent_path(), ignored);
  const bool tells = !source.empty();
  const Waiting colours(path.string() + ".colours"), sources((tells ? source : path).string() + ".sources");
  {
    const Dataset to = plain(colours.path(), plan, of, Holds::colours, options.deep ? GDT_UInt16 : GDT_Byte),
                  from = tells ? plain(sources.path(), plan, of, Holds::sources, GDT_Float32) : nullptr;
    if (tells) {
      const std::array names = {"photo, by its number in seams.gpkg; 0: none", "angle to the vertical, degrees",
                                "standard deviation of the place, m; 0: not known",
                                "1: seen by no photo, filled with what one shows there"};
      for (int b = 0; b < 4; ++b) from->GetRasterBand(b + 1)->SetDescription(names[static_cast<std::size_t>(b)]);
    }
    for (int row = 0; row < plan.tiles_down(); ++row)
      for (int col = 0; col < plan.tiles_across(); ++col) {
        const Tile t = tile_of(col, row);
        put_colours(*to, path, t);
        if (tells) put_sources(*from, source, t);
      }
  }
  pack(path, colours.path(), packing(options));
  if (tells)
    pack(source, sources.path(),
         {"COMPRESS=DEFLATE", "LEVEL=4", "PREDICTOR=FLOATING_POINT", "OVERVIEW_RESAMPLING=NEAREST"});
}

photo::Rgb read_reduced(const fs::path& path, int most_pixels) {
  const Dataset data = opened(path);
  const int columns = data->GetRasterXSize(), rows = data->GetRasterYSize();
  const double scale = std::min(1.0, static_cast<double>(most_pixels) / std::max(columns, rows));
  return colours_of(*data, path, 0, 0, columns, rows, std::max(1, static_cast<int>(scale * columns)),
                    std::max(1, static_cast<int>(scale * rows)), 255);
}

photo::Rgb read_part(const fs::path& path, int col, int row, int columns, int rows) {
  const Dataset data = opened(path);
  return colours_of(*data, path, col, row, columns, rows, columns, rows, 0);
}

}  // namespace mesograph::mosaic
