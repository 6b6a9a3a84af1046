#include <cmath>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/geo/crs.hpp>
#include <mesograph/geo/geoid_grid.hpp>
#include <mesograph/geo/proj_handle.hpp>

namespace mesograph::geo {

Context make_context() {
  Context context(proj_context_create());
  proj_context_set_enable_network(context.get(), 0);
  proj_log_level(context.get(), PJ_LOG_NONE);
  return context;
}

std::string Crs::plan_columns() const {
  return fmt::format("{},{}", west ? "west" : "east", south ? "south" : "north");
}

Eigen::Vector3d Crs::metric_from(const Eigen::Vector3d& p) const {
  return {(west ? -unit : unit) * p.x(), (south ? -unit : unit) * p.y(), height_unit * p.z()};
}

Eigen::Vector3d Crs::from_metric(const Eigen::Vector3d& p) const {
  return {(west ? -1 : 1) * p.x() / unit, (south ? -1 : 1) * p.y() / unit, p.z() / height_unit};
}

std::string Crs::reading() const {
  std::string out;
  if (west || south) out = fmt::format("columns {}", plan_columns());
  if (unit != 1.0 || height_unit != 1.0)
    out += fmt::format("{}in {}, heights in {}", out.empty() ? "" : ", ", unit_name, height_unit_name);
  return out;
}

std::string tidy_name(const std::string& crs) {
  const auto first = crs.find_first_not_of(" \t");
  if (first == std::string::npos) return {};
  std::string out = crs.substr(first, crs.find_last_not_of(" \t") - first + 1);
  for (std::size_t i = 0; i < 4 && i < out.size(); ++i)
    if (out.size() > 5 && out[4] == ':' && std::tolower(static_cast<unsigned char>(out[i])) != "epsg"[i]) return out;
  if (out.size() > 5 && out[4] == ':') out.replace(0, 4, "EPSG");
  return out;
}

int utm_code(double lon_deg, double lat_deg) {
  const int zone = static_cast<int>(std::floor((lon_deg + 180.0) / 6.0)) % 60 + 1;
  // where EPSG has zones of ETRS89: 28 to 38
  const bool europe = lat_deg > 34 && lat_deg < 72 && zone >= 28 && zone <= 38;
  return (europe ? 25800 : lat_deg >= 0 ? 32600 : 32700) + zone;
}

namespace {

Pj create_crs(PJ_CONTEXT* context, const std::string& text) {
  Pj pj(proj_create(context, text.c_str()));
  if (!pj || !proj_is_crs(pj.get())) return nullptr;
  return pj;
}

/// Whether it is a definition itself, as LAS files and GeoPackages carry it.
bool is_wkt(const std::string& crs) { return crs.find('[') != std::string::npos && crs.find('"') != std::string::npos; }

std::string definition_text(const std::string& crs) {
  if (crs.starts_with("EPSG:") || is_wkt(crs)) return crs;
  std::error_code ignored;
  if (std::filesystem::is_regular_file(crs, ignored)) return read_file(crs);
  throw Error("CRS '{}' is not understood; write EPSG:n, EPSG:n+m, the path of a .prj or WKT file, or local", crs);
}

/// The UTM zone in the middle of a CRS's area of use; the families of zones where the area is wider than two of them.
std::string fitting_grid(PJ_CONTEXT* context, const PJ* crs) {
  double west = 0, south = 0, east = 0, north = 0;
  const bool known = proj_get_area_of_use(context, crs, &west, &south, &east, &north, nullptr) != 0 && west > -1000;
  if (known && east > west && east - west <= 12)  // the area of two zones has one in its middle
    return fmt::format("EPSG:{}, the UTM zone of its area", utm_code(0.5 * (west + east), 0.5 * (south + north)));
  return "the UTM zone of the site (EPSG:258nn in Europe, EPSG:326nn north and EPSG:327nn south of the equator)";
}

/// Maps of the whole world stretch lengths by 1/cos latitude: a plan in them is in no metres.
void check_metric(PJ_CONTEXT* context, const PJ* horizontal, const std::string& crs) {
  const Pj conversion(proj_crs_get_coordoperation(context, horizontal));
  const char* method = nullptr;
  if (!conversion || !proj_coordoperation_get_method_info(context, conversion.get(), &method, nullptr, nullptr)) return;
  const std::string name = method ? method : "";
  if (name.find("Mercator") == std::string::npos || name.find("Transverse") != std::string::npos ||
      name.find("Oblique") != std::string::npos)
    return;
  double west = 0, south = 0, east = 0, north = 0;
  const bool known = proj_get_area_of_use(context, horizontal, &west, &south, &east, &north, nullptr) != 0;
  if (known && north < 20 && south > -20) return;  // made for the equator, where it is nearly true
  throw Error("CRS {} ({}) has no metric plan, its lengths are stretched by 1/cos latitude; choose a grid, as {}", crs,
              name, fitting_grid(context, horizontal));
}

void check_projected(PJ_CONTEXT* context, const PJ* horizontal, const std::string& crs) {
  const PJ_TYPE type = proj_get_type(horizontal);
  if (type == PJ_TYPE_GEOGRAPHIC_2D_CRS || type == PJ_TYPE_GEOGRAPHIC_3D_CRS || type == PJ_TYPE_GEOCENTRIC_CRS)
    throw Error("CRS {} is not projected; choose a grid, as {}", crs, fitting_grid(context, horizontal));
  if (type != PJ_TYPE_PROJECTED_CRS) throw Error("CRS {} is no projected grid; choose one", crs);
}

/// One axis of a coordinate system.
struct Axis {
  std::string direction, unit;
  double metres = 0.0;
};
Axis axis_of(PJ_CONTEXT* context, const PJ* crs, int number) {
  const Pj axes(proj_crs_get_coordinate_system(context, crs));
  const char* direction = nullptr;
  const char* unit = nullptr;
  Axis out;
  proj_cs_get_axis_info(context, axes.get(), number, nullptr, nullptr, &direction, &out.metres, &unit, nullptr,
                        nullptr);
  out.direction = direction ? direction : "", out.unit = unit ? unit : "";
  return out;
}

/// Units and directions of the plan axes, and the unit of heights.
void read_axes(PJ_CONTEXT* context, const PJ* horizontal, const PJ* vertical, const std::string& name, Crs& out) {
  const Axis first = axis_of(context, horizontal, 0), second = axis_of(context, horizontal, 1);
  const auto along_east = [](const Axis& a) { return a.direction == "east" || a.direction == "west"; };
  const auto along_north = [](const Axis& a) { return a.direction == "north" || a.direction == "south"; };
  if (!(along_east(first) && along_north(second)) && !(along_north(first) && along_east(second)))
    throw Error("CRS {} has axes that count {} and {}; choose a grid whose axes count along east and north", name,
                first.direction, second.direction);
  if (first.metres != second.metres || !(first.metres > 0))
    throw Error("CRS {} counts in {} and {}; choose a grid of one unit", name, first.unit, second.unit);
  out.unit = first.metres, out.unit_name = first.unit;
  out.west = first.direction == "west" || second.direction == "west";
  out.south = first.direction == "south" || second.direction == "south";
  // PROJ brings north, east into the order of drawing, and leaves other orders as they are registered.
  out.north_first = along_north(first) && (out.west || out.south);
  out.height_unit = out.unit, out.height_unit_name = out.unit_name;
  if (!vertical) return;
  const Axis up = axis_of(context, vertical, 0);
  if (up.direction != "up")
    throw Error("CRS {} counts {} where heights are wanted; choose a vertical CRS that counts up", name, up.direction);
  out.height_unit = up.metres, out.height_unit_name = up.unit;
}

std::string wkt1(PJ_CONTEXT* context, const PJ* crs, const std::string& name) {
  const char* const options[] = {"MULTILINE=NO", "STRICT=NO", nullptr};
  const char* text = proj_as_wkt(context, crs, PJ_WKT1_GDAL, options);
  if (!text) throw Error("CRS {} cannot be written as WKT1, which LAS files need; choose another", name);
  return text;
}

Crs local_crs() {
  Crs crs;
  crs.local = true;
  crs.name = "local metric frame";
  crs.wkt =
      "LOCAL_CS[\"local metric frame\",LOCAL_DATUM[\"site\",32767],UNIT[\"metre\",1],AXIS[\"Easting\",EAST],"
      "AXIS[\"Northing\",NORTH],AXIS[\"Height\",UP]]";
  return crs;
}

Heights heights_from(const CrsRequest& request, bool has_vertical) {
  if (request.heights == "ellipsoidal") return Heights::ellipsoidal;
  if (request.heights == "plain") return Heights::plain;
  if (!request.heights.empty()) throw Error("heights '{}' is unknown; write ellipsoidal or plain", request.heights);
  if (!has_vertical && request.geoid.empty())
    throw Error(
        "CRS {} says nothing about heights; add the vertical code ({}+m), or --heights ellipsoidal, or --heights plain "
        "(as they are; the slope of the geoid over the site, some cm per km, is neglected)",
        request.crs, request.crs);
  return Heights::grid;
}

}  // namespace

std::string find_geoid_grid(PJ_CONTEXT* context, PJ* vertical, std::string& missing) {
  // Looked up against WGS 84: the grid and its file are the same for all datums; only N is taken from it.
  const Pj geographic = create_crs(context, "EPSG:4326");
  const Pj wgs84_3d(proj_crs_promote_to_3D(context, nullptr, geographic.get()));
  const Pj compound(proj_create_compound_crs(context, "lookup", geographic.get(), vertical));
  const auto factory = proj_create_operation_factory_context(context, nullptr);
  proj_operation_factory_context_set_allow_ballpark_transformations(context, factory, 0);
  proj_operation_factory_context_set_spatial_criterion(context, factory, PROJ_SPATIAL_CRITERION_PARTIAL_INTERSECTION);
  proj_operation_factory_context_set_grid_availability_use(context, factory, PROJ_GRID_AVAILABILITY_IGNORED);
  const PjList operations(proj_create_operations(context, compound.get(), wgs84_3d.get(), factory));
  proj_operation_factory_context_destroy(factory);
  for (int i = 0; operations && i < proj_list_get_count(operations.get()); ++i) {
    const Pj operation(proj_list_get(context, operations.get(), i));
    for (int g = 0; g < proj_coordoperation_get_grid_used_count(context, operation.get()); ++g) {
      const char* short_name = nullptr;
      const char* full_name = nullptr;
      int available = 0;
      proj_coordoperation_get_grid_used(context, operation.get(), g, &short_name, &full_name, nullptr, nullptr, nullptr,
                                        nullptr, &available);
      if (available && full_name && *full_name) return full_name;
      if (short_name && missing.empty()) missing = short_name;
    }
  }
  return {};
}

namespace {

/// `of_survey`: lengths will be taken from its plan; else coordinates in it are only brought elsewhere.
Crs resolved(CrsRequest request, bool of_survey) {
  request.crs = tidy_name(request.crs);
  if (request.crs == "local") return local_crs();
  const Context context = make_context();
  const Pj whole = create_crs(context.get(), definition_text(request.crs));
  if (!whole && is_wkt(request.crs)) throw Error("the WKT of a CRS is not understood: {:.60}...", request.crs);
  if (!whole) throw Error("CRS {} is not in the register; check the code", request.crs);
  const bool by_code = request.crs.starts_with("EPSG:");

  const bool compound = proj_get_type(whole.get()) == PJ_TYPE_COMPOUND_CRS;
  const Pj horizontal(compound ? proj_crs_get_sub_crs(context.get(), whole.get(), 0)
                               : proj_clone(context.get(), whole.get()));
  const Pj vertical(compound ? proj_crs_get_sub_crs(context.get(), whole.get(), 1) : nullptr);
  if (is_wkt(request.crs)) request.crs = proj_get_name(whole.get());  // in sentences
  check_projected(context.get(), horizontal.get(), request.crs);
  if (of_survey) check_metric(context.get(), horizontal.get(), request.crs);

  Crs crs;
  read_axes(context.get(), horizontal.get(), vertical.get(), request.crs, crs);
  crs.name = proj_get_name(whole.get());
  crs.horizontal = wkt1(context.get(), horizontal.get(), request.crs);
  if (by_code) crs.horizontal = request.crs.substr(0, request.crs.find('+'));
  crs.wkt = wkt1(context.get(), whole.get(), request.crs);
  crs.heights = heights_from(request, compound);
  const Pj ellipsoid(proj_get_ellipsoid(context.get(), horizontal.get()));
  proj_ellipsoid_get_parameters(context.get(), ellipsoid.get(), &crs.semi_major_axis, nullptr, nullptr,
                                &crs.inverse_flattening);
  if (crs.heights != Heights::grid) return crs;

  std::string missing;
  crs.geoid_grid = request.geoid.empty() ? find_geoid_grid(context.get(), vertical.get(), missing) : request.geoid;
  std::error_code ignored;
  if (!request.geoid.empty() && !std::filesystem::exists(request.geoid, ignored))
    throw Error("geoid grid {} does not exist; check the path", request.geoid);
  if (crs.geoid_grid.empty())
    throw Error("the geoid grid{} of CRS {} is not installed; name its file with geoid, or take heights = \"plain\"",
                missing.empty() ? "" : " " + missing, request.crs);
  return crs;
}

}  // namespace

Crs resolve(const CrsRequest& request) { return resolved(request, true); }

AreaOfUse area_of_use(const Crs& crs, double lon_deg, double lat_deg) {
  AreaOfUse out;
  if (crs.local) return out;
  const Context context = make_context();
  const Pj pj = create_crs(context.get(), crs.horizontal);
  if (!pj || !proj_get_area_of_use(context.get(), pj.get(), &out.west, &out.south, &out.east, &out.north, nullptr) ||
      out.west < -1000) {
    out.west = out.south = out.east = out.north = nan;
    return out;
  }
  const bool across = out.west > out.east;
  const bool in_lon = across ? lon_deg >= out.west || lon_deg <= out.east : lon_deg >= out.west && lon_deg <= out.east;
  out.inside = in_lon && lat_deg >= out.south && lat_deg <= out.north;
  return out;
}

Crs resolve_of_file(const std::string& crs) {
  const bool compound = is_wkt(crs) ? crs.starts_with("COMP") : crs.find('+') != std::string::npos;
  return resolved({crs, compound ? "" : "ellipsoidal", ""}, false);
}

}  // namespace mesograph::geo
