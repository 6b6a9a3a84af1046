#include <ogrsf_frmts.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/region.hpp>

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

std::vector<Eigen::Vector2d> ring_of(const OGRLinearRing& ring, OGRCoordinateTransformation* towards,
                                     const std::string& where) {
  std::vector<Eigen::Vector2d> out;
  for (int i = 0; i < ring.getNumPoints(); ++i) {
    double x = ring.getX(i), y = ring.getY(i);
    if (towards && !towards->Transform(1, &x, &y))
      throw Error("{}: its corner {:.3f}, {:.3f} cannot be brought into the cloud's system; check the file's CRS",
                  where, ring.getX(i), ring.getY(i));
    out.emplace_back(x, y);
  }
  return out;
}

}  // namespace

void Region::add(std::vector<Ring> polygon) {
  for (const Ring& ring : polygon)
    for (const Eigen::Vector2d& at : ring) box_.extend(at);
  polygons_.push_back(std::move(polygon));
}

Region Region::of_box(const Eigen::AlignedBox2d& box) {
  Region out;
  using B = Eigen::AlignedBox2d;
  out.add({{box.min(), box.corner(B::BottomRight), box.max(), box.corner(B::TopLeft)}});
  return out;
}

Region Region::parse_box(const std::string& text) {
  double v[4];
  const char* at = text.c_str();
  for (int i = 0; i < 4; ++i) {
    char* end = nullptr;
    v[i] = std::strtod(at, &end);
    if (end == at || *end != (i < 3 ? ',' : '\0') || !std::isfinite(v[i]))
      throw UsageError("'{}' is no box; write west,south,east,north, as in 431200,6822400,431260,6822460", text);
    at = end + 1;
  }
  if (!(v[0] < v[2] && v[1] < v[3]))
    throw UsageError("the box '{}' is empty; write west,south,east,north, the smaller ones first", text);
  return of_box({Eigen::Vector2d(v[0], v[1]), Eigen::Vector2d(v[2], v[3])});
}

Region Region::of(const std::string& text, const std::string& wkt) {
  // A file may have a comma in its name: what exists is a file.
  if (text.find(',') != std::string::npos && !std::filesystem::exists(text)) return parse_box(text);
  return read(text, wkt);
}

Region Region::read(const std::filesystem::path& path, const std::string& wkt) {
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
    throw Error("{}: holds no polygons that can be read; give a GeoPackage, GeoJSON, shapefile, KML or FlatGeobuf",
                path.string());
  Region out;
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
    for (const auto& feature : layer) {
      const OGRGeometry* geometry = feature->GetGeometryRef();
      if (!geometry) continue;
      const std::unique_ptr<OGRGeometry> many(OGRGeometryFactory::forceToMultiPolygon(geometry->clone()));
      // Points and lines of the same file enclose nothing.
      if (wkbFlatten(many->getGeometryType()) != wkbMultiPolygon) continue;
      for (const auto* polygon : many->toMultiPolygon()) {
        std::vector<Ring> rings;
        for (const auto* ring : polygon) rings.push_back(ring_of(*ring, towards.get(), path.string()));
        if (!rings.empty()) out.add(std::move(rings));
      }
    }
  }
  if (out.everything()) throw Error("{}: holds no polygon; draw one around what is wanted", path.string());
  return out;
}

bool Region::contains(const Eigen::Vector2d& at) const {
  if (everything()) return true;
  if (!box_.contains(at)) return false;
  return std::any_of(polygons_.begin(), polygons_.end(), [&](const std::vector<Ring>& polygon) {
    // Even-odd rule over all rings of a polygon: holes need no orientation, which files get wrong.
    bool inside = false;
    for (const Ring& ring : polygon)
      for (std::size_t i = 0, j = ring.size() - 1; i < ring.size(); j = i++) {
        const Eigen::Vector2d &a = ring[i], &b = ring[j];
        if ((a.y() > at.y()) != (b.y() > at.y()) &&
            at.x() < (b.x() - a.x()) * (at.y() - a.y()) / (b.y() - a.y()) + a.x())
          inside = !inside;
      }
    return inside;
  });
}

}  // namespace mesograph::cloud
