#include <ogrsf_frmts.h>

#include <algorithm>
#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/polygons.hpp>

namespace mesograph::cloud {

namespace {

OGRSpatialReference system_of(const std::string& wkt) {
  OGRSpatialReference out;
  out.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER);
  out.SetFromUserInput(wkt.c_str());
  // Regions are of the plane: heights of a compound system would ask for geoid grids.
  out.StripVertical();
  return out;
}

std::vector<Eigen::Vector2d> corners_of(const OGRSimpleCurve& line, OGRCoordinateTransformation* towards,
                                        const std::string& where) {
  std::vector<Eigen::Vector2d> out;
  for (int i = 0; i < line.getNumPoints(); ++i) {
    double x = line.getX(i), y = line.getY(i);
    if (towards && !towards->Transform(1, &x, &y))
      throw Error("{}: its corner {:.3f}, {:.3f} cannot be brought into the cloud's system; check the file's CRS",
                  where, line.getX(i), line.getY(i));
    out.emplace_back(x, y);
  }
  return out;
}

std::string name_of(OGRFeature& feature, std::size_t number) {
  for (const char* field : {"id", "name"}) {
    const int at = feature.GetFieldIndex(field);
    if (at >= 0 && feature.IsFieldSetAndNotNull(at)) return feature.GetFieldAsString(at);
  }
  return std::to_string(number);
}

/// Calls visit(feature, geometry, transformation) with the geometries of a vector file; the transformation into `wkt`'s
/// system is null where there is none. `what`: for messages.
template <typename Visit>
void for_each_geometry(const std::filesystem::path& path, const std::string& wkt, const char* what,
                       const Visit& visit) {
  if (!std::filesystem::exists(path)) throw Error("{}: there is no such file", path.string());
  // These alone: formats of vectors that people draw with; all drivers would be hundreds.
  RegisterOGRGeoPackage();
  RegisterOGRGeoJSON();
  RegisterOGRShape();
  RegisterOGRKML();
  RegisterOGRFlatGeobuf();
  RegisterOGRCSV();
  const std::unique_ptr<GDALDataset> data(GDALDataset::Open(path.c_str(), GDAL_OF_VECTOR));
  if (!data || data->GetLayerCount() == 0)
    throw Error("{}: holds no {} that can be read; give a GeoPackage, GeoJSON, shapefile, KML or FlatGeobuf",
                path.string(), what);
  for (const auto& layer : data->GetLayers()) {
    std::unique_ptr<OGRCoordinateTransformation> towards;
    OGRSpatialReference to = system_of(wkt);
    // A file without a system is in the cloud's: so are most sketches on it, and nobody could say better.
    if (const OGRSpatialReference* own = layer->GetSpatialRef(); own && !wkt.empty() && !to.IsLocal()) {
      OGRSpatialReference from(*own);
      from.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER);
      from.StripVertical();
      towards.reset(OGRCreateCoordinateTransformation(&from, &to));
      if (!towards)
        throw Error("{}: there is no way from its CRS to the cloud's; give it in the cloud's", path.string());
    }
    for (const auto& feature : layer)
      if (const OGRGeometry* geometry = feature->GetGeometryRef()) visit(*feature, *geometry, towards.get());
  }
}

}  // namespace

bool Polygon::contains(const Eigen::Vector2d& at) const {
  bool inside = false;
  for (const auto& ring : rings)
    for (std::size_t i = 0, j = ring.size() - 1; i < ring.size(); j = i++) {
      const Eigen::Vector2d &a = ring[i], &b = ring[j];
      if ((a.y() > at.y()) != (b.y() > at.y()) && at.x() < (b.x() - a.x()) * (at.y() - a.y()) / (b.y() - a.y()) + a.x())
        inside = !inside;
    }
  return inside;
}

Eigen::AlignedBox2d Polygon::box() const {
  Eigen::AlignedBox2d out;
  for (const auto& ring : rings)
    for (const Eigen::Vector2d& at : ring) out.extend(at);
  return out;
}

Polygon Polygon::times(const Eigen::Vector2d& factors) const {
  Polygon out = *this;
  for (auto& ring : out.rings)
    for (Eigen::Vector2d& at : ring) at = at.cwiseProduct(factors);
  return out;
}

std::vector<Polygon> read_polygons(const std::filesystem::path& path, const std::string& wkt) {
  std::vector<Polygon> out;
  for_each_geometry(
      path, wkt, "polygons",
      [&](OGRFeature& feature, const OGRGeometry& geometry, OGRCoordinateTransformation* towards) {
        const std::unique_ptr<OGRGeometry> many(OGRGeometryFactory::forceToMultiPolygon(geometry.clone()));
        // Points and lines of the same file enclose nothing.
        if (wkbFlatten(many->getGeometryType()) != wkbMultiPolygon) return;
        for (const auto* polygon : many->toMultiPolygon()) {
          Polygon one{name_of(feature, out.size() + 1), {}};
          for (const auto* ring : polygon) one.rings.push_back(corners_of(*ring, towards, path.string()));
          if (!one.rings.empty()) out.push_back(std::move(one));
        }
      });
  if (out.empty()) throw Error("{}: holds no polygon; draw one around what is wanted", path.string());
  return out;
}

std::vector<std::vector<Eigen::Vector2d>> read_lines(const std::filesystem::path& path, const std::string& wkt) {
  std::vector<std::vector<Eigen::Vector2d>> out;
  for_each_geometry(
      path, wkt, "lines", [&](OGRFeature&, const OGRGeometry& geometry, OGRCoordinateTransformation* towards) {
        // Outlines of polygons are lines, too.
        const std::unique_ptr<OGRGeometry> many(OGRGeometryFactory::forceToMultiLineString(geometry.clone()));
        if (wkbFlatten(many->getGeometryType()) != wkbMultiLineString) return;
        for (const auto* line : many->toMultiLineString()) out.push_back(corners_of(*line, towards, path.string()));
      });
  if (out.empty()) throw Error("{}: holds no line; draw one where the surface breaks", path.string());
  return out;
}

}  // namespace mesograph::cloud
