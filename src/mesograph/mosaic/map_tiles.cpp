#include <cpl_string.h>
#include <gdal_alg.h>
#include <gdal_frmts.h>
#include <gdal_priv.h>
#include <gdal_utils.h>
#include <ogr_spatialref.h>
#include <ogrsf_frmts.h>

#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/mosaic/map_tiles.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/surface/dataset.hpp>
#include <mesograph/surface/driver_options.hpp>
#include <mutex>

namespace mesograph::mosaic {

namespace fs = std::filesystem;
using surface::Dataset;
using surface::DriverOptions;

namespace {

/// Side of the map's square world, m, over the pixels of its coarsest tile.
constexpr double coarsest = 2 * pi * 6378137.0 / 256;

void prepare_tiles() {
  photo::prepare_gdal();
  static std::once_flag once;
  std::call_once(once, [] {
    GDALRegister_VRT();
    GDALRegister_MBTiles();
    RegisterOGRGeoPackage();
    RegisterOGRSQLite();  // by which MBTiles are opened again
  });
}

/// The map's pixel at the level of detail whose pixels are as large as the mosaic's cells, or the next finer one.
double pixel_for(GDALDataset& mosaic, const fs::path& path) {
  OGRSpatialReference map;
  map.importFromEPSG(3857);
  char* wkt = nullptr;
  map.exportToWkt(&wkt);
  void* way =
      mosaic.GetSpatialRef() ? GDALCreateGenImgProjTransformer(&mosaic, nullptr, nullptr, wkt, FALSE, 0, 1) : nullptr;
  CPLFree(wkt);
  double place[6] = {};
  int columns = 0, rows = 0;
  const bool found =
      way && GDALSuggestedWarpOutput(&mosaic, GDALGenImgProjTransform, way, place, &columns, &rows) == CE_None;
  if (way) GDALDestroyGenImgProjTransformer(way);
  if (!found)
    throw Error("{}: its coordinate system has no way to that of web maps; leave out --map-tiles", path.string());
  constexpr double tolerance = 0.2;  // of a level: a cell that is a little finer than a level's pixel is shown there
  return coarsest / std::exp2(std::min(24.0, std::ceil(std::log2(coarsest / place[1]) - tolerance)));
}

/// The mosaic in the map's projection, on its pixels, made when it is read.
Dataset on_the_map(GDALDataset& mosaic, const fs::path& path) {
  const std::string pixel = fmt::format("{:.17g}", pixel_for(mosaic, path));
  const DriverOptions words({"-of", "VRT", "-t_srs", "EPSG:3857", "-tr", pixel, pixel, "-tap", "-r", "bilinear",
                             "-dstalpha", "-wo", "NUM_THREADS=ALL_CPUS"});
  GDALWarpAppOptions* options = GDALWarpAppOptionsNew(words.get(), nullptr);
  GDALDatasetH source = &mosaic;
  int wrong = 0;
  Dataset out(GDALDataset::FromHandle(GDALWarp("", nullptr, 1, &source, options, &wrong)));
  GDALWarpAppOptionsFree(options);
  if (!out) throw Error("{}: cannot be brought into the projection of web maps", path.string());
  return out;
}

}  // namespace

fs::path write_map_tiles(const fs::path& mosaic, MapTiles kind) {
  prepare_tiles();
  const bool package = kind == MapTiles::gpkg;
  const Dataset read(GDALDataset::Open(mosaic.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY));
  if (!read) throw Error("{}: is no raster that can be read", mosaic.string());
  const Dataset map = on_the_map(*read, mosaic);
  fs::path to = mosaic.parent_path() / (mosaic.stem().string() + (package ? "_tiles.gpkg" : ".mbtiles"));
  const fs::path scratch = fs::path(scratch_path(to)).replace_extension(to.extension());
  const auto refuse = [&] {
    drop_scratch(scratch);
    throw Error("{}: cannot be written ({}); check space and permissions", to.string(), CPLGetLastErrorMsg());
  };
  drop_scratch(scratch);
  const DriverOptions options(package ? std::vector<std::string>{"TILING_SCHEME=GoogleMapsCompatible",
                                                                 "TILE_FORMAT=PNG_JPEG", "RASTER_TABLE=mosaic"}
                                      : std::vector<std::string>{"TILE_FORMAT=PNG", "NAME=mosaic"});
  {
    GDALDriver* driver = GetGDALDriverManager()->GetDriverByName(package ? "GPKG" : "MBTILES");
    const Dataset made(driver ? driver->CreateCopy(scratch.c_str(), map.get(), FALSE, options.get(), nullptr, nullptr)
                              : nullptr);
    if (!made) refuse();
  }
  {
    // Coarser levels of detail, down to one where all fits into a tile.
    const Dataset made(GDALDataset::Open(scratch.c_str(), GDAL_OF_RASTER | GDAL_OF_UPDATE | GDAL_OF_VERBOSE_ERROR));
    if (!made) refuse();
    std::vector<int> factors;
    for (int f = 2; std::max(made->GetRasterXSize(), made->GetRasterYSize()) / f > 128; f *= 2) factors.push_back(f);
    if (!factors.empty() && made->BuildOverviews("AVERAGE", static_cast<int>(factors.size()), factors.data(), 0,
                                                 nullptr, nullptr, nullptr) != CE_None)
      refuse();
  }
  commit_file(scratch, to);
  return to;
}

}  // namespace mesograph::mosaic
