#include <cpl_conv.h>
#include <ogrsf_frmts.h>

#include <cmath>
#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/surface/dataset.hpp>
#include <mesograph/surface/vector_file.hpp>

namespace mesograph::surface {

namespace fs = std::filesystem;

namespace {

OGRwkbGeometryType type_of(Feature::Shape shape, bool flat) {
  const OGRwkbGeometryType type = shape == Feature::Shape::point  ? wkbPoint
                                  : shape == Feature::Shape::line ? wkbLineString
                                                                  : wkbPolygon;
  return flat ? type : wkbSetZ(type);
}

void put(OGRSimpleCurve& line, const std::vector<Eigen::Vector3d>& places, const Eigen::Vector3d& metres, bool flat) {
  for (const Eigen::Vector3d& X : places) {
    const Eigen::Vector3d at = X.cwiseQuotient(metres);
    if (flat)
      line.addPoint(at.x(), at.y());
    else
      line.addPoint(at.x(), at.y(), at.z());
  }
}

std::unique_ptr<OGRGeometry> geometry_of(const Feature& f, const Eigen::Vector3d& metres, bool flat) {
  if (f.shape == Feature::Shape::point) {
    const Eigen::Vector3d at = f.parts.at(0).at(0).cwiseQuotient(metres);
    return flat ? std::make_unique<OGRPoint>(at.x(), at.y()) : std::make_unique<OGRPoint>(at.x(), at.y(), at.z());
  }
  if (f.shape == Feature::Shape::line) {
    auto line = std::make_unique<OGRLineString>();
    put(*line, f.parts.at(0), metres, flat);
    return line;
  }
  auto polygon = std::make_unique<OGRPolygon>();
  for (const auto& part : f.parts) {
    OGRLinearRing ring;
    put(ring, part, metres, flat);
    ring.closeRings();
    polygon->addRing(&ring);
  }
  return polygon;
}

void set(OGRFeature& feature, const std::string& name, const Attribute& value) {
  if (const auto* text = std::get_if<std::string>(&value))
    feature.SetField(name.c_str(), text->c_str());
  else if (const auto* whole = std::get_if<int>(&value))
    feature.SetField(name.c_str(), *whole);
  else if (const double number = std::get<double>(value); std::isfinite(number))
    feature.SetField(name.c_str(), number);
}

void add_layer(GDALDataset& data, const VectorLayer& layer, const Surface& of, const fs::path& path) {
  OGRSpatialReference system;
  system.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER);
  const bool known = !of.wkt.empty() && system.SetFromUserInput(of.wkt.c_str()) == OGRERR_NONE;
  OGRLayer* to =
      data.CreateLayer(layer.name.c_str(), known ? &system : nullptr, type_of(layer.shape, layer.flat), nullptr);
  if (!to) throw Error("{}: cannot be written; check space and permissions", path.string());
  for (const auto& [name, value] : layer.fields) {
    const OGRFieldType type = std::holds_alternative<std::string>(value) ? OFTString
                              : std::holds_alternative<int>(value)       ? OFTInteger
                                                                         : OFTReal;
    OGRFieldDefn field(name.c_str(), type);
    to->CreateField(&field);
  }
  for (const Feature& f : layer.features) {
    const std::unique_ptr<OGRFeature> feature(OGRFeature::CreateFeature(to->GetLayerDefn()));
    feature->SetGeometryDirectly(geometry_of(f, of.metres, layer.flat).release());
    for (const auto& [name, value] : f.attributes) set(*feature, name, value);
    if (to->CreateFeature(feature.get()) != OGRERR_NONE)
      throw Error("{}: cannot be written; check space", path.string());
  }
}

/// Everything into the one layer that a DXF has, by its features' own layers; labels as text.
void add_drawing(GDALDataset& data, const std::vector<VectorLayer>& layers, const Surface& of, const fs::path& path) {
  OGRLayer* to = data.CreateLayer("entities", nullptr, wkbUnknown, nullptr);
  if (!to) throw Error("{}: cannot be written; check space and permissions", path.string());
  for (const VectorLayer& layer : layers)
    for (const Feature& f : layer.features) {
      const std::unique_ptr<OGRFeature> feature(OGRFeature::CreateFeature(to->GetLayerDefn()));
      feature->SetField("Layer", f.layer.c_str());
      feature->SetGeometryDirectly(geometry_of(f, of.metres, layer.flat).release());
      if (!f.label.empty())
        feature->SetStyleString(
            fmt::format("LABEL(f:\"Arial\",t:\"{}\",s:{:g}g)", f.label, 6 * of.grid.cell / of.metres.x()).c_str());
      if (to->CreateFeature(feature.get()) != OGRERR_NONE)
        throw Error("{}: cannot be written; check space", path.string());
    }
}

}  // namespace

void write_vectors(const fs::path& path, const Surface& of, const std::vector<VectorLayer>& layers) {
  photo::prepare_gdal();
  const bool drawing = path.extension() == ".dxf";
  if (!drawing && path.extension() != ".gpkg")
    throw Error("{}: lines are written as .gpkg or .dxf; give another name", path.string());
  RegisterOGRGeoPackage();
  RegisterOGRDXF();
  // No date of today's: the same lines are the same file.
  CPLSetConfigOption("OGR_CURRENT_DATE", "2000-01-01T00:00:00.000Z");
  std::error_code ignored;
  fs::create_directories(fs::absolute(path).parent_path(), ignored);
  const fs::path scratch = scratch_path(path);
  fs::remove(scratch, ignored);
  try {
    GDALDriver* driver = GetGDALDriverManager()->GetDriverByName(drawing ? "DXF" : "GPKG");
    const Dataset data(driver ? driver->Create(scratch.c_str(), 0, 0, 0, GDT_Unknown, nullptr) : nullptr);
    if (!data) throw Error("{}: cannot be written; check space and permissions", path.string());
    if (drawing)
      add_drawing(*data, layers, of, path);
    else
      for (const VectorLayer& layer : layers) add_layer(*data, layer, of, path);
  } catch (...) {
    drop_scratch(scratch);
    throw;
  }
  commit_file(scratch, path);
}

}  // namespace mesograph::surface
