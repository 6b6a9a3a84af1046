#pragma once

#include <Eigen/Core>
#include <mesograph/base/numbers.hpp>
#include <string>

namespace mesograph::geo {

/// How heights in the survey's files are to be understood.
enum class Heights {
  grid,         ///< above the geoid; N is read from the vertical CRS's grid
  ellipsoidal,  ///< above the ellipsoid of the survey CRS
  plain,        ///< as they are: above some level surface whose slope over the site is neglected (some cm per km)
};

/// What people write to name the CRS of a survey.
struct CrsRequest {
  std::string crs;      ///< "EPSG:n", "EPSG:n+m", path of a .prj or WKT file, WKT itself, or "local"
  std::string heights;  ///< "", "ellipsoidal" or "plain"; needed where `crs` has no vertical part
  std::string geoid;    ///< geoid grid file to use instead of the one the register names
};

/// A survey CRS as it was understood.
struct Crs {
  bool local = false;  ///< plain metric frame without a place on Earth; of the other fields only name and wkt are set
  std::string name;    ///< "ETRS89 / UTM zone 33N + EGM96 height"
  std::string horizontal;  ///< definition of the projected part, for PROJ
  std::string wkt;         ///< WKT1 (OGC 01-009) of the whole, as LAS files and rasters carry it
  Heights heights = Heights::plain;
  std::string geoid_grid;    ///< file name of the grid where heights == grid
  double unit = 1.0;         ///< metres a unit of the plan axes
  double height_unit = 1.0;  ///< of heights: the vertical CRS's; without one that of the plan
  std::string unit_name = "metre", height_unit_name = "metre";
  bool west = false, south = false;  ///< an axis counts so; coordinates keep the sign that is registered
  bool north_first = false;          ///< PROJ gives the axis along north first, and leaves it there
  double semi_major_axis = 0.0;      ///< of the survey's own datum, m
  double inverse_flattening = 0.0;   ///< 0 for a sphere

  /// The header of both plan columns: "east,north", with west or south where the grid counts so.
  std::string plan_columns() const;
  /// Coordinates as they would count metres east, north and up, and back.
  Eigen::Vector3d metric_from(const Eigen::Vector3d& point) const;
  Eigen::Vector3d from_metric(const Eigen::Vector3d& point) const;
  /// "in US survey foot, heights in metre": how its coordinates are to be read; empty where all is metres and counts
  /// east and north.
  std::string reading() const;
};

/// Finds and checks a survey CRS, in whatever unit of length it counts. Throws Error where it is unknown, geographic or
/// not projected, a Mercator map of the world (whose lengths are stretched by 1/cos latitude: 2.1 times at 61 degrees),
/// with axes that count neither east or west nor north or south (polar grids), with depths, without word on its
/// heights, or where the geoid grid is not installed.
/// Exact: definitions are the register's. Cost: some milliseconds, and the geoid grid is opened.
Crs resolve(const CrsRequest& request);

/// A CRS that a file of positions or points is in: where it says nothing of heights, they are those of a receiver,
/// above the ellipsoid. Throws as resolve does.
Crs resolve_of_file(const std::string& crs);

/// The name of a CRS as people write it, without blanks around and with EPSG in capitals.
std::string tidy_name(const std::string& crs);

/// Whether a place (degrees) lies in the area that a CRS is made for, as the register states it; and what that area and
/// the UTM zone of the place are called.
struct AreaOfUse {
  bool inside = true;                                       ///< true where the register states no area
  double west = nan, south = nan, east = nan, north = nan;  ///< degrees; west > east: across the 180th meridian
};
AreaOfUse area_of_use(const Crs& crs, double lon_deg, double lat_deg);

/// EPSG code of the ETRS89 (Europe) or WGS 84 UTM zone of a place; lon, lat in degrees.
int utm_code(double lon_deg, double lat_deg);

}  // namespace mesograph::geo
