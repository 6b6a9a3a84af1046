#include <algorithm>
#include <mesograph/geo/find_crs.hpp>
#include <mesograph/geo/geoid_grid.hpp>
#include <mesograph/geo/proj_handle.hpp>
#include <tuple>

namespace mesograph::geo {

namespace {

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
  return text;
}

std::string kind_of(PJ_TYPE type) {
  switch (type) {
    case PJ_TYPE_PROJECTED_CRS:
      return "projected";
    case PJ_TYPE_COMPOUND_CRS:
      return "compound";
    case PJ_TYPE_VERTICAL_CRS:
      return "vertical";
    case PJ_TYPE_GEOGRAPHIC_2D_CRS:
    case PJ_TYPE_GEOGRAPHIC_3D_CRS:
      return "geographic";
    default:
      return {};
  }
}

bool holds(const PROJ_CRS_INFO& info, const std::vector<std::string>& words) {
  const std::string text = lower(std::string(info.name) + " " + (info.area_name ? info.area_name : ""));
  return std::all_of(words.begin(), words.end(), [&](const std::string& word) {
    const std::string w = lower(word);
    return w == info.code || w == "epsg:" + std::string(info.code) || text.find(w) != std::string::npos;
  });
}

bool contains(const PROJ_CRS_INFO& info, const Eigen::Vector2d& lat_lon) {
  if (!info.bbox_valid) return false;
  const double lat = lat_lon.x(), lon = lat_lon.y();
  const bool across = info.west_lon_degree > info.east_lon_degree;  // over the 180th meridian
  const bool in_lon = across ? lon >= info.west_lon_degree || lon <= info.east_lon_degree
                             : lon >= info.west_lon_degree && lon <= info.east_lon_degree;
  return in_lon && lat >= info.south_lat_degree && lat <= info.north_lat_degree;
}

/// Unit and geoid, which only the object itself tells.
void complete(PJ_CONTEXT* context, FoundCrs& out) {
  const Pj crs(
      proj_create_from_database(context, "EPSG", std::to_string(out.code).c_str(), PJ_CATEGORY_CRS, 0, nullptr));
  if (!crs) return;
  const bool compound = proj_get_type(crs.get()) == PJ_TYPE_COMPOUND_CRS;
  const Pj first(compound ? proj_crs_get_sub_crs(context, crs.get(), 0) : proj_clone(context, crs.get()));
  const Pj axes(proj_crs_get_coordinate_system(context, first.get()));
  const char* unit = nullptr;
  if (axes &&
      proj_cs_get_axis_info(context, axes.get(), 0, nullptr, nullptr, nullptr, nullptr, &unit, nullptr, nullptr))
    out.unit = unit;
  const Pj vertical(compound                 ? proj_crs_get_sub_crs(context, crs.get(), 1)
                    : out.kind == "vertical" ? proj_clone(context, crs.get())
                                             : nullptr);
  if (!vertical) return;
  std::string missing;
  out.geoid_grid = find_geoid_grid(context, vertical.get(), missing);
  out.geoid_present = !out.geoid_grid.empty();
  if (!out.geoid_present) out.geoid_grid = missing;
  out.geoid_grid = out.geoid_grid.substr(out.geoid_grid.find_last_of('/') + 1);
}

}  // namespace

CrsSearch find_crs(const std::vector<std::string>& words, const FindCrsOptions& options) {
  const Context context = make_context();
  int count = 0;
  PROJ_CRS_INFO** const list = proj_get_crs_info_list_from_database(context.get(), "EPSG", nullptr, &count);
  std::vector<FoundCrs> out;
  for (int i = 0; i < count; ++i) {
    const PROJ_CRS_INFO& info = *list[i];
    const std::string kind = kind_of(info.type);
    // Deprecated codes are found by nobody who does not have them already; named in full they are still read.
    if (info.deprecated || kind.empty() || !holds(info, words)) continue;
    if (options.near && !contains(info, *options.near)) continue;
    FoundCrs found{std::atoi(info.code), info.name, kind, {}, info.area_name ? info.area_name : "", nan, {}, false};
    if (info.bbox_valid)
      found.size_deg2 =
          std::max(0.0, info.east_lon_degree - info.west_lon_degree) * (info.north_lat_degree - info.south_lat_degree);
    out.push_back(found);
  }
  proj_crs_info_list_destroy(list);
  const auto rank = [&](const FoundCrs& c) {
    const bool exact = std::any_of(words.begin(), words.end(), [&](const std::string& w) {
      return w == std::to_string(c.code) || lower(w) == "epsg:" + std::to_string(c.code);
    });
    const int kind = c.kind == "projected" ? 0 : c.kind == "compound" ? 1 : c.kind == "vertical" ? 2 : 3;
    // The code that was typed, then what surveys are computed in, then the smallest area: the national system before a
    // continent's.
    return std::tuple(!exact, kind, std::isnan(c.size_deg2) ? 1e9 : c.size_deg2, c.code);
  };
  std::sort(out.begin(), out.end(), [&](const FoundCrs& a, const FoundCrs& b) { return rank(a) < rank(b); });
  const std::size_t all = out.size();
  if (out.size() > options.most) out.resize(options.most);
  // Only what is shown: each is an object to open, and the list has thousands.
  for (FoundCrs& c : out) complete(context.get(), c);
  return {std::move(out), all};
}

}  // namespace mesograph::geo
