#include <gdal_frmts.h>
#include <gdal_priv.h>
#include <ogr_spatialref.h>
#include <tbb/task_arena.h>

#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/surface/dataset.hpp>
#include <mesograph/surface/driver_options.hpp>
#include <mesograph/surface/raster_file.hpp>
#include <mutex>
#include <optional>

namespace mesograph::surface {

namespace fs = std::filesystem;

namespace {

constexpr const char* kind_key = "SURFACE_KIND";

constexpr double no_data = -9999;

void prepare() {
  photo::prepare_gdal();
  static std::once_flag once;
  std::call_once(once, [] {
    GDALRegister_COG();
    CPLSetConfigOption("GTIFF_REPORT_COMPD_CS", "YES");  // heights' systems are part of older files, too
  });
}

struct Band {
  std::string name, unit;
  const void* values;
  GDALDataType type;
};

/// Bands of one type over a grid.
void write_bands(const fs::path& path, const Surface& of, const std::vector<Band>& bands, bool floats) {
  prepare();
  std::error_code ignored;
  fs::create_directories(fs::absolute(path).parent_path(), ignored);
  const Grid& grid = of.grid;
  const Dataset memory(GetGDALDriverManager()->GetDriverByName("MEM")->Create("", grid.columns, grid.rows, 0,
                                                                              bands.front().type, nullptr));
  if (!memory)
    throw Error("{}: {} x {} cells do not fit into memory; take larger ones", path.string(), grid.columns, grid.rows);
  double place[6] = {grid.west / of.metres.x(), grid.cell / of.metres.x(), 0, grid.north / of.metres.y(), 0,
                     -grid.cell / of.metres.y()};
  memory->SetGeoTransform(place);
  if (!of.wkt.empty()) memory->SetProjection(of.wkt.c_str());
  memory->SetMetadataItem("AREA_OR_POINT", "Area");
  if (!of.kind.empty()) memory->SetMetadataItem(kind_key, of.kind.c_str());
  for (std::size_t b = 0; b < bands.size(); ++b) {
    const std::string address = fmt::format("{}", bands[b].values);
    const DriverOptions options({"DATAPOINTER=" + address});
    const CPLErr added = memory->AddBand(bands[b].type, options.get());
    if (added != CE_None) throw Error("{}: cannot be prepared; free some memory", path.string());
    GDALRasterBand* band = memory->GetRasterBand(static_cast<int>(b) + 1);
    band->SetDescription(bands[b].name.c_str());
    if (!bands[b].unit.empty()) band->SetUnitType(bands[b].unit.c_str());
    if (floats) band->SetNoDataValue(no_data);
  }
  // Blocks are packed on all threads and written in their order.
  const DriverOptions options({"COMPRESS=DEFLATE", "LEVEL=6", "BLOCKSIZE=512", "BIGTIFF=IF_SAFER",
                               "GEOTIFF_VERSION=1.1",
                               fmt::format("NUM_THREADS={}", tbb::this_task_arena::max_concurrency()),
                               floats ? "PREDICTOR=FLOATING_POINT" : "PREDICTOR=NO",
                               floats ? "OVERVIEW_RESAMPLING=AVERAGE" : "OVERVIEW_RESAMPLING=NEAREST"});
  const fs::path scratch = scratch_path(path);
  const Dataset out(GetGDALDriverManager()->GetDriverByName("COG")->CreateCopy(scratch.c_str(), memory.get(), FALSE,
                                                                               options.get(), nullptr, nullptr));
  if (!out) {
    drop_scratch(scratch);
    throw Error("{}: cannot be written; check space and permissions", path.string());
  }
}

fs::path beside(const fs::path& path, const char* what) {
  return path.parent_path() / (path.stem().string() + what + path.extension().string());
}

std::string unit_word(double metres) {
  return std::abs(metres - 1) < 1e-12 ? "m" : std::abs(metres / 0.3048 - 1) < 1e-9 ? "ft" : "us-ft";
}

/// In the file's unit, no-data for NaN.
std::vector<float> in_file(std::vector<float>&& values, double metres) {
  std::vector<float> out(std::move(values));
  for (float& v : out)
    v = std::isfinite(v) ? (metres == 1 ? v : static_cast<float>(v / metres)) : static_cast<float>(no_data);
  return out;
}

void write_and_commit(const fs::path& path, const Surface& of, const std::vector<Band>& bands, bool floats) {
  write_bands(path, of, bands, floats);
  commit_file(scratch_path(path), path);
}

}  // namespace

void write_layer(const fs::path& path, const Surface& of, const std::vector<float>& values, const std::string& name,
                 const std::string& unit) {
  const std::vector<float> stored = in_file(std::vector<float>(values), 1);
  write_and_commit(path, of, {{name, unit, stored.data(), GDT_Float32}}, true);
}

std::vector<fs::path> write_surface(const fs::path& path, Surface&& surface) {
  const std::string unit = unit_word(surface.metres.z());
  const fs::path sigma_file = beside(path, "_sigma"), mask_file = beside(path, "_mask");
  {
    const std::vector<float> z = in_file(std::move(surface.z), surface.metres.z());
    write_and_commit(path, surface, {{"height", unit, z.data(), GDT_Float32}}, true);
  }
  {
    const std::vector<float> sigma = in_file(std::move(surface.sigma), surface.metres.z());
    const std::vector<float> points(surface.points.begin(), surface.points.end());
    write_and_commit(sigma_file, surface,
                     {{"standard deviation of the height", unit, sigma.data(), GDT_Float32},
                      {"points in the cell", "", points.data(), GDT_Float32}},
                     true);
  }
  std::vector<std::uint8_t> mask(surface.source.size());
  for (std::size_t i = 0; i < mask.size(); ++i)
    mask[i] = surface.source[i] == Source::covered ? 0 : static_cast<std::uint8_t>(surface.source[i]);
  write_and_commit(mask_file, surface, {{"0 empty, 1 measured, 2 filled, 3 water", "", mask.data(), GDT_Byte}}, false);
  return {path, sigma_file, mask_file};
}

namespace {

Dataset open(const fs::path& path) {
  prepare();
  if (!fs::exists(path)) throw Error("{}: there is no such file", path.string());
  const char* const drivers[] = {"GTiff", nullptr};
  Dataset out(GDALDataset::Open(path.c_str(), GDAL_OF_RASTER | GDAL_OF_READONLY, drivers));
  if (!out || out->GetRasterCount() < 1)
    throw Error("{}: is no raster that can be read; give a GeoTIFF", path.string());
  return out;
}

std::vector<float> read_band(GDALDataset& data, int number, const fs::path& path) {
  GDALRasterBand* band = data.GetRasterBand(number);
  std::vector<float> out(static_cast<std::size_t>(data.GetRasterXSize()) *
                         static_cast<std::size_t>(data.GetRasterYSize()));
  if (band->RasterIO(GF_Read, 0, 0, data.GetRasterXSize(), data.GetRasterYSize(), out.data(), data.GetRasterXSize(),
                     data.GetRasterYSize(), GDT_Float32, 0, 0, nullptr) != CE_None)
    throw Error("{}: is damaged; copy it again", path.string());
  int has = 0;
  const auto none = static_cast<float>(band->GetNoDataValue(&has));
  for (float& v : out)
    if (has != 0 && v == none) v = std::numeric_limits<float>::quiet_NaN();
  return out;
}

/// Metres in a unit of plan and height of a CRS.
Eigen::Vector3d metres_of(const std::string& wkt, const fs::path& path) {
  if (wkt.empty()) return Eigen::Vector3d::Ones();
  OGRSpatialReference system;
  if (system.SetFromUserInput(wkt.c_str()) != OGRERR_NONE) return Eigen::Vector3d::Ones();
  if (system.IsGeographic())
    throw Error("{}: is in longitude and latitude; bring it into a projected grid first", path.string());
  const double plan = system.GetLinearUnits(nullptr);
  const double height = system.IsCompound() ? system.GetTargetLinearUnits("VERT_CS", nullptr) : plan;
  return {plan, plan, height > 0 ? height : plan};
}

/// Metres in a band's unit, where it says one that is known: what a file says of its heights goes before its CRS.
std::optional<double> metres_of_unit(const std::string& word) {
  for (const char* known : {"m", "metre", "meter", "metres", "meters"})
    if (word == known) return 1.0;
  for (const char* known : {"ft", "foot", "feet"})
    if (word == known) return 0.3048;
  for (const char* known : {"us-ft", "US survey foot", "ftUS"})
    if (word == known) return 1200.0 / 3937.0;
  return std::nullopt;
}

}  // namespace

Surface read_surface(const fs::path& path) {
  const Dataset data = open(path);
  double place[6];
  if (data->GetGeoTransform(place) != CE_None)
    throw Error("{}: says no place of its cells; give a GeoTIFF with one", path.string());
  if (place[2] != 0 || place[4] != 0 || !(place[1] > 0) || std::abs(place[5] + place[1]) > 1e-9 * place[1])
    throw Error("{}: its cells are not square with north up; bring it onto such a grid first", path.string());
  const std::string wkt = data->GetProjectionRef() ? data->GetProjectionRef() : "";
  Grid grid;
  Eigen::Vector3d metres = metres_of(wkt, path);
  metres.z() = metres_of_unit(data->GetRasterBand(1)->GetUnitType()).value_or(metres.z());
  grid.west = place[0] * metres.x(), grid.north = place[3] * metres.y(), grid.cell = place[1] * metres.x();
  grid.columns = data->GetRasterXSize(), grid.rows = data->GetRasterYSize();
  if (static_cast<double>(grid.columns) * grid.rows > 4e8)
    throw Error("{}: has {} x {} cells, more than fit into memory; cut it first", path.string(), grid.columns,
                grid.rows);
  Surface out(grid);
  out.wkt = wkt, out.metres = metres;
  if (const char* kind = data->GetMetadataItem(kind_key)) out.kind = kind;
  out.z = read_band(*data, 1, path);
  for (std::size_t i = 0; i < out.z.size(); ++i) {
    out.z[i] *= static_cast<float>(metres.z());
    if (std::isfinite(out.z[i])) out.source[i] = Source::measured;
  }
  const auto like = [&](const Dataset& other) {
    return other->GetRasterXSize() == grid.columns && other->GetRasterYSize() == grid.rows;
  };
  if (const fs::path file = beside(path, "_sigma"); fs::exists(file))
    if (const Dataset other = open(file); like(other)) {
      out.sigma = read_band(*other, 1, file);
      for (float& v : out.sigma) v *= static_cast<float>(metres.z());
    }
  if (const fs::path file = beside(path, "_mask"); fs::exists(file))
    if (const Dataset other = open(file); like(other)) {
      const std::vector<float> mask = read_band(*other, 1, file);
      for (std::size_t i = 0; i < mask.size(); ++i)
        if (std::isfinite(out.z[i]) && mask[i] >= 1 && mask[i] <= 3) out.source[i] = static_cast<Source>(mask[i]);
    }
  return out;
}

bool same_crs(const Surface& a, const Surface& b) {
  if ((a.metres - b.metres).norm() > 1e-9) return false;
  if (a.wkt.empty() || b.wkt.empty() || a.wkt == b.wkt) return true;
  OGRSpatialReference first, second;
  if (first.SetFromUserInput(a.wkt.c_str()) != OGRERR_NONE || second.SetFromUserInput(b.wkt.c_str()) != OGRERR_NONE)
    return false;
  const char* const options[] = {"IGNORE_DATA_AXIS_TO_SRS_AXIS_MAPPING=YES", "CRITERION=EQUIVALENT", nullptr};
  return first.IsSame(&second, options) != FALSE;
}

}  // namespace mesograph::surface
