#include <fmt/format.h>

#include <ogrsf_frmts.h>

#include <algorithm>
#include <map>
#include <memory>
#include <mesograph/control/vector_points.hpp>
#include <mesograph/photo/image.hpp>
#include <set>

namespace mesograph::control {

namespace {

std::string crs_of(const OGRSpatialReference* system) {
  if (!system) return {};
  const char *name = system->GetAuthorityName(nullptr), *code = system->GetAuthorityCode(nullptr);
  if (name && code) return std::string(name) + ":" + code;
  char* wkt = nullptr;
  system->exportToWkt(&wkt);
  const std::string out = wkt ? wkt : "";
  CPLFree(wkt);
  return out;
}

/// Field numbers by our words.
std::map<std::string, int> fields_of(OGRFeatureDefn& layer) {
  std::map<std::string, int> out;
  for (int i = 0; i < layer.GetFieldCount(); ++i)
    if (const std::string word = column_meaning(layer.GetFieldDefn(i)->GetNameRef()); !word.empty())
      out.emplace(word, i);
  return out;
}

FilePoint point_of(OGRFeature& feature, const std::map<std::string, int>& fields, const std::string& where,
                   const ControlFileOptions& options) {
  const OGRGeometry* geometry = feature.GetGeometryRef();
  if (!geometry || wkbFlatten(geometry->getGeometryType()) != wkbPoint || geometry->IsEmpty())
    throw Error("{}: is no point; give a layer of points", where);
  const OGRPoint& p = *geometry->toPoint();
  const auto number = [&](const char* word) {
    const auto found = fields.find(word);
    return found == fields.end() || !feature.IsFieldSetAndNotNull(found->second)
               ? nan
               : feature.GetFieldAsDouble(found->second);
  };
  const auto text = [&](const char* word) {
    const auto found = fields.find(word);
    return found == fields.end() ? std::string() : std::string(feature.GetFieldAsString(found->second));
  };
  FilePoint out;
  out.where = where;
  out.id = text("id"), out.role_word = text("role");
  const double plan = options.plan ? metres_of(*options.plan) : 1.0;
  out.east = plan * p.getX(), out.north = plan * p.getY();
  out.height = (options.height ? metres_of(*options.height) : 1.0) * (geometry->Is3D() ? p.getZ() : number("height"));
  out.sigma_h = number("sigma_h"), out.sigma_v = number("sigma_v");
  out.sigma_e = number("sigma_e"), out.sigma_n = number("sigma_n");
  if (out.id.empty()) throw Error("{}: has no id; fill a field named id", where);
  check_sigmas(out);
  return out;
}

}  // namespace

bool is_vector_file(const std::filesystem::path& path) {
  const std::string ending = path.extension().string();
  return ending == ".gpkg" || ending == ".geojson" || ending == ".shp" || ending == ".json";
}

VectorPoints read_vector_points(const std::filesystem::path& path, const ControlFileOptions& options) {
  photo::prepare_gdal();
  RegisterOGRGeoPackage();
  RegisterOGRGeoJSON();
  RegisterOGRShape();
  const char* const drivers[] = {"GPKG", "GeoJSON", "ESRI Shapefile", nullptr};
  const std::unique_ptr<GDALDataset> data(GDALDataset::Open(path.c_str(), GDAL_OF_VECTOR, drivers));
  if (!data || data->GetLayerCount() == 0)
    throw Error("{}: is no GeoPackage, GeoJSON or shapefile that can be read; check the file", path.string());
  OGRLayer& layer = *data->GetLayer(0);
  const auto fields = fields_of(*layer.GetLayerDefn());
  if (!fields.count("id")) throw Error("{}: its points have no field that names them; call it id", path.string());
  VectorPoints out;
  out.crs = crs_of(layer.GetSpatialRef());
  if (layer.GetSpatialRef() && layer.GetSpatialRef()->IsGeographic()) out.file.coordinates = Coordinates::geographic;
  std::set<std::string> ids;
  for (const auto& feature : layer) {
    out.file.points.push_back(
        point_of(*feature, fields, fmt::format("{}: feature {}", path.string(), feature->GetFID()), options));
    if (!ids.insert(out.file.points.back().id).second)
      throw Error("{}: point '{}' comes twice; remove or rename one", path.string(), out.file.points.back().id);
  }
  if (out.file.points.empty()) throw Error("{}: holds no point; it needs one feature a point", path.string());
  set_roles(out.file.points, out.file.guesses);
  return out;
}

}  // namespace mesograph::control
