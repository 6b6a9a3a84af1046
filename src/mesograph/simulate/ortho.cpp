#include <cpl_string.h>
#include <gdal_priv.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/simulate/ortho.hpp>
#include <mesograph/simulate/render.hpp>

namespace mesograph::simulate {

namespace {

/// Light of a line of rays; black where they meet nothing.
std::vector<Eigen::Vector3f> line_of(const Scene& scene, const OrthoPlace& place, double north) {
  const std::size_t n = static_cast<std::size_t>(place.rays) * static_cast<std::size_t>(place.columns);
  std::vector<Eigen::Vector3f> out(n, Eigen::Vector3f::Zero());
  std::vector<Eigen::Vector3d> met;
  std::vector<double> direct;
  std::vector<std::size_t> of;
  constexpr double above = 500;  // m: higher than anything stands
  for (std::size_t i = 0; i < n; ++i) {
    const double east = place.west + (0.5 + static_cast<double>(i)) / place.rays * place.cell;
    const Eigen::Vector3d from = place.scene_place(east, north) + above * place.up;
    const auto here = scene.meet(from, -place.up);
    if (!here) continue;
    met.push_back(from - here->range * place.up), direct.push_back(here->direct), of.push_back(i);
  }
  const std::vector<Eigen::Vector3f> albedo = scene.albedo(met, std::vector<double>(met.size(), place.cell));
  for (std::size_t k = 0; k < of.size(); ++k) out[of[k]] = lit_level(albedo[k], direct[k]);
  return out;
}

}  // namespace

void write_ortho(const std::filesystem::path& path, const Scene& scene, const OrthoPlace& place) {
  photo::Rgb picture(place.columns, place.rows, 3);
  parallel_for(static_cast<std::size_t>(place.rows), [&](std::size_t row) {
    std::vector<Eigen::Vector3f> sum(static_cast<std::size_t>(place.columns), Eigen::Vector3f::Zero());
    for (int k = 0; k < place.rays; ++k) {
      const double down = static_cast<double>(row) + (k + 0.5) / place.rays;
      const auto line = line_of(scene, place, place.north - down * place.cell);
      for (std::size_t i = 0; i < line.size(); ++i) sum[i / static_cast<std::size_t>(place.rays)] += line[i];
    }
    for (int col = 0; col < place.columns; ++col) {
      const Eigen::Vector3f mean = sum[static_cast<std::size_t>(col)] / static_cast<float>(place.rays * place.rays);
      for (int ch = 0; ch < 3; ++ch)
        picture.at(col, static_cast<int>(row), ch) =
            static_cast<std::uint8_t>(std::lround(std::clamp(mean[ch], 0.0F, 255.0F)));
    }
  });
  photo::prepare_gdal();
  char** options = nullptr;
  for (const char* option : {"COMPRESS=DEFLATE", "PREDICTOR=2", "TILED=YES", "INTERLEAVE=PIXEL"})
    options = CSLAddString(options, option);
  GDALDataset* out = GetGDALDriverManager()->GetDriverByName("GTiff")->Create(path.c_str(), place.columns, place.rows,
                                                                              3, GDT_Byte, options);
  CSLDestroy(options);
  if (!out) throw Error("{}: cannot be written; check space and permissions", path.string());
  double transform[6] = {place.west, place.cell, 0, place.north, 0, -place.cell};
  out->SetGeoTransform(transform);
  out->SetProjection(place.wkt.c_str());
  int bands[] = {1, 2, 3};
  const CPLErr status = out->RasterIO(GF_Write, 0, 0, place.columns, place.rows, picture.data.data(), place.columns,
                                      place.rows, GDT_Byte, 3, bands, 3, 3 * place.columns, 1, nullptr);
  GDALClose(out);
  if (status != CE_None) throw Error("{}: cannot be written; check space", path.string());
}

}  // namespace mesograph::simulate
